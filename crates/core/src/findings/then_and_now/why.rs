//! Why a statement took more or less time than then: what moved with it, by its own figures.

use super::{Did, moved};
use crate::named::Named;
use crate::readings::load::Load;
use crate::readings::wait_kind::WaitKind;
use crate::time::Timestamp;
use crate::wording::{number, seconds};

/// Ratios nearer to one explain nothing.
const LEAST_RATIO: f64 = 1.2;
/// So much of what it moved by must come from its calls, or from each call, for that to be said.
const LEAST_SHARE: f64 = 0.25;
/// So much of the longer call must be spent on a wait that was not there before.
const LEAST_WAIT_SHARE: f64 = 0.2;
/// Looks that saw it, below which waits are chance.
const LEAST_LOOKS: i64 = 5;

/// One reason, with its figure.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Why {
    /// It did not run then.
    New,
    /// It does not run now.
    Gone,
    /// It was called so many times as often.
    Calls(f64),
    /// It got a plan that it did not have before, first read at this moment.
    NewPlan(Timestamp),
    /// Each call handled so many times the rows.
    Rows(f64),
    /// Each call touched so many times the pages.
    Pages(f64),
    /// Each call read so many times the pages from outside the cache.
    Reads(f64),
    /// Each call wrote to temp files, so many times as much; infinite where it did not before.
    Temp(f64),
    /// Each call spent so many seconds more on this kind of wait.
    Wait(WaitKind, f64),
}

impl Why {
    /// It in words; when something happened is told apart.
    pub fn told(&self) -> String {
        let times = |ratio: f64, of_what: &str| {
            if ratio.is_finite() {
                format!("{} times the {of_what} a call", number(ratio))
            } else {
                format!("{of_what} now, none then")
            }
        };
        match *self {
            Why::New => "did not run then".into(),
            Why::Gone => "does not run now".into(),
            Why::Calls(ratio) => format!("called {} times as often", number(ratio)),
            Why::NewPlan(_) => "new plan".into(),
            Why::Rows(ratio) => times(ratio, "rows"),
            Why::Pages(ratio) => times(ratio, "pages"),
            Why::Reads(ratio) => times(ratio, "reads"),
            Why::Temp(ratio) => times(ratio, "temp files"),
            Why::Wait(kind, by) => {
                let sign = if by < 0.0 { "less" } else { "more" };
                format!("{} {sign} on {} a call", seconds(by.abs()), kind.name().replace('_', " "))
            }
        }
    }

    /// When it happened, where it happened at a moment.
    pub fn at(&self) -> Option<Timestamp> {
        match self {
            Why::NewPlan(at) => Some(*at),
            _ => None,
        }
    }
}

/// What happened to a statement around the periods.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Around {
    /// When it got a plan that it did not have before, after the end of then.
    pub new_plan_at: Option<Timestamp>,
}

/// Why a statement moved, the reason nearest to the cause first; empty where its own figures do not tell.
pub fn why(then: &Did, now: &Did, around: &Around) -> Vec<Why> {
    if then.counters.calls == 0 {
        return vec![Why::New];
    }
    if now.counters.calls == 0 {
        return vec![Why::Gone];
    }
    let moved = moved(then, now);
    let mut reasons = Vec::new();
    let is_of = |part: f64| part.abs() >= LEAST_SHARE * moved.by.abs() && part.signum() == moved.by.signum();
    if is_of(moved.by_each) {
        reasons.extend(around.new_plan_at.map(Why::NewPlan));
        reasons.extend(of_each_call(then, now, moved.by_each.signum()));
    }
    let calls = now.calls() / then.calls();
    if is_of(moved.by_calls) && tells(calls, moved.by_calls.signum()) {
        reasons.push(Why::Calls(calls));
    }
    reasons
}

/// Whether a ratio is far enough from one, and on the side of what it is to explain.
fn tells(ratio: f64, side: f64) -> bool {
    let far = if side > 0.0 { ratio } else { 1.0 / ratio };
    far >= LEAST_RATIO
}

fn of_each_call(then: &Did, now: &Did, side: f64) -> Vec<Why> {
    let mut reasons = Vec::new();
    let ratio = |of: fn(&Did) -> i64| {
        let (before, after) = (then.per_call(of(then) as f64)?, now.per_call(of(now) as f64)?);
        // Less than a page, or row, a call is too little to be held against.
        (before.max(after) >= 1.0).then(|| after.max(1e-3) / before.max(1e-3))
    };
    let rows = ratio(|did| did.counters.rows).filter(|ratio| tells(*ratio, side));
    let pages = ratio(|did| did.counters.hit_pages + did.counters.read_pages).filter(|ratio| tells(*ratio, side));
    let reads = ratio(|did| did.counters.read_pages).filter(|ratio| tells(*ratio, side));
    let temp = match (then.counters.temp_written_pages, now.counters.temp_written_pages) {
        (0, 0) => None,
        (0, _) => Some(f64::INFINITY),
        _ => ratio(|did| did.counters.temp_written_pages),
    };
    reasons.extend(temp.filter(|ratio| tells(*ratio, side)).map(Why::Temp));
    reasons.extend(pages.map(Why::Pages));
    reasons.extend(rows.map(Why::Rows));
    // Where a call touches more of everything, it is no news that it reads more as well.
    reasons.extend(reads.filter(|reads| pages.is_none_or(|pages| tells(reads / pages, side))).map(Why::Reads));
    reasons.extend(waits(then, now, side));
    reasons
}

/// The wait of which each call has most more, or less, where it makes up enough of it.
fn waits(then: &Did, now: &Did, side: f64) -> Option<Why> {
    if then.load.busy_in_all().max(now.load.busy_in_all()) < LEAST_LOOKS {
        return None;
    }
    let each = |did: &Did, kind: WaitKind| {
        let share = |load: &Load| load.busy[kind.position()] as f64 / load.busy_in_all().max(1) as f64;
        did.each().unwrap_or_default() * share(&did.load)
    };
    let more = |kind: &WaitKind| (each(now, *kind) - each(then, *kind)) * side;
    let kinds = WaitKind::ALL.iter().filter(|kind| **kind != WaitKind::Running);
    let most = kinds.max_by(|a, b| more(a).total_cmp(&more(b)))?;
    let whole = (now.each()? - then.each()?).abs();
    (more(most) >= LEAST_WAIT_SHARE * whole && whole > 0.0).then(|| Why::Wait(*most, more(most) * side))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::counters::StatementCounters;

    fn did(calls: i64, ms_each: f64, change: impl Fn(&mut StatementCounters)) -> Did {
        let mut counters = StatementCounters {
            calls,
            exec_us: (calls as f64 * ms_each * 1e3) as i64,
            rows: calls * 4,
            hit_pages: calls * 40,
            read_pages: calls * 2,
            ..Default::default()
        };
        change(&mut counters);
        Did { seconds: 3_600.0, counters, load: Load::default() }
    }

    fn told(then: &Did, now: &Did) -> Vec<Why> {
        why(then, now, &Around::default())
    }

    #[test]
    fn called_more_often_and_nothing_else() {
        assert_eq!(told(&did(1_000, 3.0, |_| ()), &did(3_000, 3.0, |_| ())), [Why::Calls(3.0)]);
    }

    #[test]
    fn a_full_read_since_a_new_plan() {
        let now = did(1_000, 240.0, |counters| counters.hit_pages *= 100);
        let around = Around { new_plan_at: Some(Timestamp(7)) };
        let then = did(1_000, 3.0, |_| ());
        let reasons = why(&then, &now, &around);
        assert_eq!(reasons[0], Why::NewPlan(Timestamp(7)));
        assert!(matches!(reasons[1], Why::Pages(ratio) if ratio > 90.0));
        assert_eq!(reasons.len(), 2);
    }

    #[test]
    fn pages_that_are_not_in_the_cache_any_more() {
        let now = did(1_000, 9.0, |counters| (counters.hit_pages, counters.read_pages) = (22_000, 20_000));
        assert_eq!(told(&did(1_000, 3.0, |_| ()), &now), [Why::Reads(10.0)]);
    }

    #[test]
    fn a_spill_to_temp_files() {
        let now = did(50, 9_000.0, |counters| counters.temp_written_pages = 90_000);
        assert_eq!(told(&did(50, 3_000.0, |_| ()), &now), [Why::Temp(f64::INFINITY)]);
    }

    #[test]
    fn waits_for_locks() {
        let load = |running, locks| {
            let mut load = Load { samples: 3_600, ..Load::default() };
            load.busy[WaitKind::Running.position()] = running;
            load.busy[WaitKind::Lock.position()] = locks;
            load
        };
        let then = Did { load: load(30, 0), ..did(1_000, 30.0, |_| ()) };
        let now = Did { load: load(30, 270), ..did(1_000, 300.0, |_| ()) };
        let [Why::Wait(WaitKind::Lock, seconds)] = told(&then, &now)[..] else { panic!("{:?}", told(&then, &now)) };
        assert!((seconds - 0.27).abs() < 1e-9);
        let [Why::Wait(WaitKind::Lock, seconds)] = told(&now, &then)[..] else { panic!("{:?}", told(&now, &then)) };
        assert!((seconds + 0.27).abs() < 1e-9);
    }

    #[test]
    fn reasons_are_told_in_words() {
        let plain = |why: Why| why.told().replace(['\u{a0}', '\u{202f}'], " ");
        assert_eq!(plain(Why::Calls(2.5)), "called 2.50 times as often");
        assert_eq!(plain(Why::Temp(f64::INFINITY)), "temp files now, none then");
        assert_eq!(plain(Why::Pages(90.0)), "90 times the pages a call");
        assert_eq!(plain(Why::Wait(WaitKind::StorageRead, -0.27)), "270 ms less on storage read a call");
        assert_eq!((Why::NewPlan(Timestamp(7)).at(), Why::New.at()), (Some(Timestamp(7)), None));
    }

    #[test]
    fn new_gone_and_not_known() {
        let (some, none) = (did(10, 3.0, |_| ()), Did { seconds: 60.0, ..Did::default() });
        assert_eq!(told(&none, &some), [Why::New]);
        assert_eq!(told(&some, &none), [Why::Gone]);
        assert_eq!(told(&did(1_000, 3.0, |_| ()), &did(1_000, 9.0, |_| ())), []);
        assert_eq!(told(&some, &some), []);
    }
}
