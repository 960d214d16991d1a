//! What came of advice that was carried out on a real server.

use std::cell::RefCell;

use anyhow::{Context, Result};
use hurnix_core::keeping::retention::Retention;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{AdviceDraft, Store};
use reqwest::Method;
use serde_json::{Value, json};
use sqlx::{AssertSqlSafe, Executor};
use tokio::task::JoinHandle;

use crate::common::{Hurnix, PASSWORD, connection, lately, watched};

/// A table, its column, and whether an index on it is of any use: where it is not, nine of ten rows are asked for.
const INDEXES: [(&str, &str, bool); 8] = [
    ("passage_leg", "crossing_id", true),
    ("passage_leg", "ticket_id", true),
    ("passage_leg", "state", false),
    ("vehicle_slot", "deck_id", true),
    ("gate_scan", "scanner_id", true),
    ("cabin", "berth_id", true),
    ("cabin", "deck", false),
    ("fare_change", "currency", false),
];
/// Buckets since the change at which all must be right, and up to which they must stay so.
const STAYS: u64 = 14;

/// Runs each search over and over, and others that no index touches, until it is told to stop.
fn traffic(mut client: sqlx::PgConnection) -> JoinHandle<Result<()>> {
    tokio::spawn(async move {
        for n in 0.. {
            for (table, column, useful) in INDEXES {
                let value = if useful { n % 3000 } else { 0 };
                let sql = format!("SELECT count(*) FROM {table} WHERE {column} = {value}");
                client.execute(AssertSqlSafe(sql)).await?;
            }
            for other in ["sum(vessel_id)", "max(deck_id)", "count(DISTINCT vessel_id)", "min(vessel_id)"] {
                client.execute(AssertSqlSafe(format!("SELECT {other} FROM deck"))).await?;
            }
        }
        Ok(())
    })
}

fn page<'a>(book: &'a Value, table: &str, column: &str) -> Option<&'a Value> {
    let subject = format!("public.{table} ({column})");
    book["advice"].as_array()?.iter().find(|page| page["subject"] == subject.as_str())
}

#[tokio::test(flavor = "multi_thread")]
async fn of_indexes_made_together_each_is_judged_right_and_stays_so() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    let mut tables: Vec<&str> = INDEXES.iter().map(|(table, ..)| *table).collect();
    tables.dedup();
    for table in tables {
        let columns: Vec<String> = INDEXES
            .iter()
            .filter(|(of, ..)| *of == table)
            .map(|(_, column, useful)| {
                if *useful {
                    format!("n % 3000 AS {column}")
                } else {
                    format!("CASE n % 10 WHEN 9 THEN n ELSE 0 END AS {column}")
                }
            })
            .collect();
        let sql = format!("CREATE TABLE {table} AS SELECT n, {} FROM generate_series(1, 40000) n", columns.join(", "));
        admin.execute(AssertSqlSafe(sql)).await?;
    }
    admin.execute("ANALYZE").await?;
    let hurnix = Hurnix::start_with(&["--catalog=1s", "--tables=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let running = traffic(cluster.connect("postgres").await?);

    // Somebody wants all of them: each is in the book with the search that it is meant for.
    let all = format!("instances/1/statements?page_size=200&{}", lately()?);
    let seen = |list: &Value| list["coverage"]["seconds"].as_f64().is_some_and(|seconds| seconds >= 16.0);
    let list = hurnix.wait_for(&all, seen).await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let now = Timestamp(chrono::Utc::now().timestamp_micros());
    for (table, column, _) in INDEXES {
        let text = format!("from {table} where {column} =");
        let families = list["families"].as_array().context("a list")?;
        let family = families.iter().find(|family| family["text"].as_str().is_some_and(|of| of.contains(&text)));
        let family = family.with_context(|| format!("{text} is among {list}"))?;
        let (family, now_ms) = (family["family_id"].clone(), family["mean_ms"].clone());
        let draft = AdviceDraft {
            advice: serde_json::from_value(json!({
                "kind": "missing_index", "database": "postgres", "schema": "public", "table": table,
                "columns": [{ "name": column, "role": "equality", "searches": 1, "searches_in_all": 1,
                              "distinct_values": 40.0, "reason": "only_key" }],
                "families": [{ "family": family, "calls_per_day": 8640.0, "now_ms": now_ms, "predicted_ms": 0.1,
                               "now_pages": 200.0, "predicted_pages": 4.0, "rows_per_call": 1.0,
                               "full_read_share": 1.0, "saved_seconds_per_day": 9000.0 }],
                "saved_seconds_per_day": 9000.0, "size_bytes": 1e6, "table_rows": 4e4, "table_pages": 200,
                "indexes_present": 0, "makes_superfluous": [], "partial_indexes": [], "statistics_known": true,
            }))?,
            subject: format!("public.{table} ({column})"),
            evidence: Window { from: now.plus_seconds(-16.0), to: now },
        };
        store.write_advice(1, now, &draft).await?;
    }
    for (table, column, _) in INDEXES {
        admin.execute(AssertSqlSafe(format!("CREATE INDEX ON {table} ({column})"))).await?;
    }

    let verdict = |book: &Value, (table, column, _): &(&str, &str, bool)| {
        page(book, table, column).and_then(|page| page["effect"]["verdict"].as_str()).unwrap_or("none").to_owned()
    };
    let right = |useful: &bool| if *useful { "confirmed" } else { "no_effect" };
    let book = "instances/1/advice?page_size=200";
    let is_right = |book: &Value| INDEXES.iter().all(|index| verdict(book, index) == right(&index.2));
    hurnix.wait_for(book, is_right).await?;
    let buckets = |book: &Value| {
        let after = |page: &Value| page["effect"]["after_buckets"].as_u64().unwrap_or_default();
        INDEXES.iter().filter_map(|(table, column, _)| page(book, table, column)).map(after).max().unwrap_or_default()
    };
    let turned: RefCell<Vec<String>> = RefCell::default();
    let last = hurnix
        .wait_for(book, |book| {
            let wrong = INDEXES.iter().filter(|index| verdict(book, index) != right(&index.2));
            turned.borrow_mut().extend(wrong.map(|index| format!("{index:?}: {}", verdict(book, index))));
            buckets(book) >= STAYS
        })
        .await?;
    assert_eq!(turned.into_inner(), [] as [String; 0], "{last}");
    let useless = page(&last, "cabin", "deck").context("it is in the book")?;
    assert_eq!(useless["effect"]["never_read"], true, "{useless}");

    // What was measured as useless is not advised again, though it is missing again, and the book says why.
    admin.execute("DROP INDEX cabin_deck_idx").await?;
    let withheld = |book: &Value| page(book, "cabin", "deck").is_some_and(|page| !page["withheld_at"].is_null());
    let book = hurnix.wait_for(book, withheld).await?;
    let states: Vec<&Value> = book["advice"]
        .as_array()
        .context("a list")?
        .iter()
        .filter(|page| page["subject"] == "public.cabin (deck)")
        .map(|page| &page["state"])
        .collect();
    assert_eq!(states, ["applied"], "{book}");
    running.abort();
    Ok(())
}
