use std::hint::black_box;
use std::time::Instant;

use anyhow::Result;
use hurnix_core::findings::hold_up::{Episodes, Look, Party, SessionKey, Tree, Who};
use hurnix_core::instance::engine::Engine;
use hurnix_core::readings::activity::{AwaitedLock, Session};
use hurnix_core::{Timestamp, WaitKind, Window};
use hurnix_store::ActivityRow;
use serde_json::json;

use crate::{Measured, machine, median};

/// Milliseconds for one look of 2,000 sessions, a quarter of which wait.
const LIMIT_MS: f64 = 5.0;
/// Looks of an hour.
const LOOKS: i64 = 3_600;

/// Milliseconds for a past day's episodes of a busy instance, from the repository.
const DAY_LIMIT_MS: f64 = 200.0;
const DAY_SECONDS: i64 = 86_400;
/// Sessions that are busy at any moment of that day.
const BUSY: i32 = 10;

/// Rule 5 on looks of three sizes, on an hour of the middle one, and on a day from the repository.
pub async fn run() -> Result<()> {
    let sizes = [200, 2_000, 20_000];
    for size in sizes {
        let parties = parties(size);
        let once = || {
            let start = Instant::now();
            let look = Look::new(Timestamp(0), 1.0, black_box(parties.clone()));
            black_box(Tree::of(look.parties()));
            start.elapsed().as_secs_f64() * 1e3
        };
        let ms = median((0..20).map(|_| once()).collect());
        let limit = LIMIT_MS * size as f64 / 2_000.0;
        let bench = format!("hold-ups of {size} sessions, a quarter waiting");
        Measured { bench, value: ms, unit: "ms", against: "the limit", ratio: ms / limit }.print();
    }
    let parties = parties(2_000);
    let start = Instant::now();
    let mut episodes = Episodes::default();
    for second in 0..LOOKS {
        black_box(episodes.go_on(&Look::new(Timestamp(second * 1_000_000), 1.0, parties.clone())));
    }
    let ms = start.elapsed().as_secs_f64() * 1e3 / LOOKS as f64;
    let bench = format!("hold-ups of 2000 sessions, one look of {LOOKS} that make episodes");
    Measured { bench, value: ms, unit: "ms", against: "the limit", ratio: ms / LIMIT_MS }.print();
    a_day().await
}

/// A day of looks each second, ten busy sessions in each: a hold-up of twenty for a quarter of an hour, and a short wait
/// each three minutes.
async fn a_day() -> Result<()> {
    let (_repository, store) = machine::repository().await?;
    let id = store.add_unconnected("gate-south", Engine::Bundle, &json!({}), None).await?;
    let from = Timestamp(machine::now().0 / 60_000_000 * 60_000_000).plus_seconds(-(DAY_SECONDS as f64));
    let words = [
        "skerry_gate",
        "gate scanner",
        "10.9.3.7",
        "gate",
        "Lock:transactionid",
        "ShareLock",
        "transactionid",
        "public.crossing",
    ];
    let names = store.names(id, &words.map(str::to_owned), from).await?;
    let name = |word: &str| names[word];
    for hour in 0..24 {
        let looks: Vec<(Timestamp, Vec<Session>)> = (hour * 3_600..(hour + 1) * 3_600)
            .map(|second| (from.plus_seconds(second as f64), sessions(from, second)))
            .collect();
        let row = |session| ActivityRow {
            session,
            event_id: session.awaited.as_ref().map(|_| name("Lock:transactionid")),
            family_id: None,
            account_id: name("skerry_gate"),
            program_id: name("gate scanner"),
            client_id: name("10.9.3.7"),
            database_id: name("gate"),
            awaited: session.awaited.as_ref().map(|_| ["ShareLock", "transactionid", "public.crossing"].map(name)),
        };
        let samples: Vec<_> =
            looks.iter().map(|(at, sessions)| (*at, BUSY, sessions.iter().map(row).collect::<Vec<_>>())).collect();
        store.write_activity(id, &samples).await?;
    }
    let window = Window { from, to: from.plus_seconds(DAY_SECONDS as f64) };
    let (mut times, mut found) = (Vec::new(), 0);
    for _ in 0..9 {
        let start = Instant::now();
        let looks = store.lock_looks(id, window).await?;
        let mut episodes = Episodes::default();
        found = looks.iter().map(|look| episodes.go_on(look).len()).sum::<usize>() + episodes.into_open().len();
        times.push(start.elapsed().as_secs_f64() * 1e3);
    }
    anyhow::ensure!(found > DAY_SECONDS as usize / SHORT_EACH as usize, "{found} hold-ups of a day");
    let ms = median(times);
    let bench = format!(
        "hold-ups of a past day from the repository: {DAY_SECONDS} looks at {BUSY} busy sessions, {found} hold-ups"
    );
    Measured { bench, value: ms, unit: "ms", against: "the limit", ratio: ms / DAY_LIMIT_MS }.print();
    Ok(())
}

/// Seconds between two short waits.
const SHORT_EACH: i64 = 180;
/// When the long hold-up begins and ends, in seconds of the day, and how many it holds up.
const LONG: std::ops::Range<i64> = 30_000..30_840;
const HELD_UP: i32 = 20;

fn sessions(from: Timestamp, second: i64) -> Vec<Session> {
    let session = |process: i32, blocked_by: &[i32]| Session {
        process,
        started_at: from,
        wait_kind: Some(if blocked_by.is_empty() { WaitKind::Running } else { WaitKind::Lock }),
        transaction_started_at: Some(from.plus_seconds(second as f64)),
        statement_started_at: Some(from.plus_seconds(second as f64)),
        blocked_by: blocked_by.to_vec(),
        awaited: (!blocked_by.is_empty()).then(|| AwaitedLock {
            mode: "ShareLock".into(),
            kind: "transactionid".into(),
            object: "public.crossing".into(),
        }),
        ..Session::default()
    };
    let mut all: Vec<Session> = (1..=BUSY).map(|process| session(process, &[])).collect();
    if LONG.contains(&second) {
        all.extend((0..HELD_UP).map(|waiter| session(1_000 + waiter, &[1])));
    }
    if second % SHORT_EACH < 2 {
        all.push(session(2_000 + (second / SHORT_EACH) as i32, &[2]));
    }
    all
}

/// Lines of ten behind holders, each waiter naming all before it, as servers do; every other line's holder waits for the
/// one before.
fn parties(size: usize) -> Vec<Party> {
    let line = 40;
    let lock =
        |kind: &str| AwaitedLock { mode: "ExclusiveLock".into(), kind: kind.into(), object: "public.berth".into() };
    let party = |at: usize| {
        let (head, place) = (at / line * line, at % line);
        let (blocked_by, kind) = match place {
            0 if at > 0 && (at / line) % 2 == 1 => (vec![head - line], Some("transactionid")),
            1 => (vec![head], Some("transactionid")),
            2..=10 => (((head + 1)..at).collect(), Some("tuple")),
            _ => (Vec::new(), None),
        };
        Party {
            session: SessionKey { process: at as i32, started_at: Timestamp(1) },
            who: Who { account: "skerry_gate".into(), program: "gate scanner".into(), ..Who::default() },
            is_idle: kind.is_none(),
            transaction_started_at: Some(Timestamp(2)),
            statement_started_at: Some(Timestamp(at as i64)),
            family: Some(7),
            blocked_by: blocked_by.into_iter().map(|process| process as i32).collect(),
            awaited: kind.map(lock),
        }
    };
    (0..size).map(party).collect()
}
