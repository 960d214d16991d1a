use std::time::Instant;

use anyhow::{Context, Result};
use hurnix_core::Timestamp;
use hurnix_core::findings::robust::{SeededRng, quantile};
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_store::{Bucket, KeptBusy, KeptLoad, NewFamily, PeriodRow, StatementObject, Store};
use serde_json::json;
use sqlx::Executor;

use crate::Measured;
use crate::machine::{self, add_reader, start_hurnix, working_folder};
use crate::reads::{signed_in, written};

const FAMILIES: usize = 5_000;
/// The busier ones run in every hour, each other one in every fourth.
const BUSY_FAMILIES: usize = 2_500;
/// Families that sessions were seen with in an hour.
const SEEN: usize = 300;
const DAYS: i64 = 30;
/// A month, and the one that its report holds it against.
const KEPT_DAYS: i64 = 2 * DAYS + 2;
const DAY_SECONDS: f64 = 86_400.0;
/// Windows of a month that are asked for.
const WINDOWS: usize = 31;
const REPORTS: usize = 5;
const PAGE_LIMIT_MS: f64 = 200.0;
const REPORT_LIMIT_MS: f64 = 3_000.0;

/// A month of an instance with 5,000 families: how long the list of its statements takes, in some orders, and a report.
pub async fn run() -> Result<()> {
    let (repository, store) = machine::repository().await?;
    let id = store.add_unconnected("freight", Engine::Bundle, &json!({}), None).await?;
    let begin = Timestamp(machine::now().bucket(DAY_SECONDS as i64).0).plus_seconds(-(KEPT_DAYS as f64) * DAY_SECONDS);
    fill(&store, id, begin).await?;
    repository.connect("hurnix").await?.execute("VACUUM ANALYZE").await?;
    add_reader(&store).await?;
    let folder = working_folder()?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let (mut hurnix, _guard) = start_hurnix(&repository, &folder.join("key"), &format!("127.0.0.1:{port}"), &[])?;
    let base = format!("http://127.0.0.1:{port}/api/v1/instances/{id}");
    let client = signed_in(&format!("http://127.0.0.1:{port}/api/v1")).await?;
    let mut rng = SeededRng::new(9);
    // Months that begin at any minute of the day.
    let mut month = || {
        let from = begin.plus_seconds((DAYS as f64 + rng.below(1_440) as f64 / 1_440.0) * DAY_SECONDS);
        format!("from={}&to={}", written(from), written(from.plus_seconds(DAYS as f64 * DAY_SECONDS)))
    };
    let timed = async |url: String| -> Result<f64> {
        let begun = Instant::now();
        let answer = client.get(&url).send().await?.error_for_status()?;
        let body = answer.text().await?;
        anyhow::ensure!(body.len() > 1_000, "{url}: {body}");
        Ok(begun.elapsed().as_secs_f64() * 1e3)
    };
    for sort in ["time", "mean", "waiting", "text"] {
        let mut times = Vec::new();
        for _ in 0..WINDOWS {
            times.push(timed(format!("{base}/statements?sort={sort}&{}", month())).await?);
        }
        print(format!("statements of a month, {FAMILIES} families by {sort}, median"), &times, PAGE_LIMIT_MS)?;
    }
    let mut times = Vec::new();
    for _ in 0..REPORTS {
        times.push(timed(format!("{base}/report?kind=period&{}", month())).await?);
    }
    print(format!("report of a month, {FAMILIES} families, median of {REPORTS}"), &times, REPORT_LIMIT_MS)?;
    hurnix.kill().await?;
    std::fs::remove_dir_all(&folder)?;
    Ok(())
}

fn print(bench: String, times: &[f64], limit: f64) -> Result<()> {
    let value = quantile(times, 0.5).context("it was asked for")?;
    Measured { bench: format!("month: {bench}"), value, unit: "ms", against: "the limit", ratio: value / limit }
        .print();
    Ok(())
}

/// Writes the hours of two months, and lets them be summed up.
async fn fill(store: &Store, id: i32, begin: Timestamp) -> Result<()> {
    let begun = Instant::now();
    let family = |n: usize| NewFamily {
        fingerprint: n as i64,
        text: format!("select leg_{n} from crossing where quay_{} = ? and berth = ?", n % 40),
        tag: None,
        sample: String::new(),
        sample_is_the_servers: true,
    };
    let families: Vec<NewFamily> = (0..FAMILIES).map(family).collect();
    let numbers = store.families(id, &families, begin).await?;
    let words = ["skerry_freight", "freight", "tariff service", "10.4.9.7"].map(str::to_owned);
    let names = store.names(id, &words, begin).await?;
    let [account, database, program, client] = words.map(|word| names[&word]);
    for day in 0..KEPT_DAYS {
        let hours = (day * 24 + 1..=day * 24 + 24).map(|hour| (hour, begin.plus_seconds(hour as f64 * 3_600.0)));
        let counted = hours.clone().map(|(hour, to)| {
            let runs = |n: &usize| *n < BUSY_FAMILIES || (*n + hour as usize).is_multiple_of(4);
            let row = |n: usize| {
                let object =
                    StatementObject { family_id: numbers[&(n as i64)], account_id: account, database_id: database };
                PeriodRow { object, by: cost(n, hour), lower_bound: false }
            };
            let rows = (0..FAMILIES).filter(runs).map(row).collect();
            Bucket { to, from: to.plus_seconds(-3_600.0), seconds: 3_600.0, periods: 60, rows }
        });
        let seen = hours.map(|(hour, to)| {
            let row = |n: usize| KeptBusy {
                wait_kind: (n % 4) as i16,
                names: [None, Some(account), Some(program), Some(client), Some(database)],
                family_id: Some(numbers[&(n as i64)]),
                lock_object_id: None,
                busy: 1 + (n as i64 + hour) % 50,
            };
            KeptLoad { to, samples: 3_600, sessions: 36_000, rows: (0..SEEN).map(row).collect() }
        });
        store.write_buckets(id, Detail::Hour, &counted.collect::<Vec<_>>()).await?;
        store.write_load(id, Detail::Hour, &seen.collect::<Vec<_>>()).await?;
    }
    while store.roll_up(machine::now()).await? > 0 {}
    eprintln!("{KEPT_DAYS} days written and summed up after {:.0} s", begun.elapsed().as_secs_f64());
    Ok(())
}

/// What a family cost in an hour.
fn cost(n: usize, hour: i64) -> StatementCounters {
    let calls = 40_000 / (n as i64 + 1) + 1 + hour % 7;
    StatementCounters {
        calls,
        exec_us: calls * (300 + (n as i64 % 23) * 500),
        rows: calls * 5,
        hit_pages: calls * 20,
        read_pages: calls / 3,
        ..StatementCounters::default()
    }
}
