use std::hint::black_box;
use std::time::Instant;

use hurnix_core::Timestamp;
use hurnix_core::findings::hold_up::{Episodes, Look, Party, SessionKey, Tree, Who};
use hurnix_core::readings::activity::AwaitedLock;

use crate::{Measured, median};

/// Milliseconds for one look of 2,000 sessions, a quarter of which wait.
const LIMIT_MS: f64 = 5.0;
/// Looks of an hour.
const LOOKS: i64 = 3_600;

/// Rule 5 on looks of three sizes, and on an hour of the middle one.
pub fn run() {
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
