//! Rule 4, cause: why a statement became slower or faster.
//!
//! Each candidate looks at one thing in the figures of both sides and at what happened around the onset, and says how
//! much of the change it explains, with its evidence and with what speaks against it. The likeliest comes first; where
//! nothing explains enough, nothing is said.

/// What else changed then: the whole server, or another statement.
mod beside;
/// What happened around the onset: settings, indexes, releases, restarts.
mod happened;
/// Another plan.
mod plan;
/// Planner statistics that are fresh or old.
mod statistics;
/// What a call waits for.
mod waits;
/// What a call does now that it did not before: rows, pages, reads, spills.
mod work;

pub use beside::Beside;

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::lasting_change::LastingChange;
use crate::findings::plan_cost::PlanCost;
use crate::instance::marker::Marker;
use crate::readings::counters::StatementCounters;
use crate::readings::load::Load;
use crate::time::Timestamp;

/// A cause must explain at least this much to be told.
const LEAST_LIKELY: f64 = 0.3;
/// What is seen at once is looked for within so many buckets of the onset.
const NEAR_BUCKETS: f64 = 3.0;
/// Causes that are told of a change.
const MOST_TOLD: usize = 4;

/// What may make a statement slower or faster.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum CauseKind {
    /// The server makes another plan.
    Plan,
    /// No index serves a search that is there now.
    MissingIndex,
    /// Calls return or change more rows: more data, or other parameters.
    Rows,
    /// Calls touch more pages for the same rows.
    Pages,
    /// Fewer pages are found in the cache.
    HitRatio,
    /// Sorts and hashes spill to temporary files.
    Spill,
    /// Calls wait for something.
    Waits,
    /// Nearly all statements became slower or faster.
    WholeServer,
    /// Another statement took the machine.
    OtherStatement,
    /// The planner's statistics of one of its tables were collected anew, or are old.
    Statistics,
    /// A setting has another value.
    Setting,
    /// An index was made or dropped.
    Index,
    /// A table was changed.
    Table,
    /// Somebody noted something, such as a release.
    Noted,
    /// The server was restarted, or has another version.
    Server,
}

/// A cause with its evidence.
#[derive(Debug, Clone, PartialEq)]
pub struct Cause {
    /// What sort of cause.
    pub kind: CauseKind,
    /// How likely it is, from 0 to 1: the share of the change that it explains, less where the evidence is indirect.
    pub likely: f64,
    /// What speaks for it.
    pub evidence: String,
    /// What speaks against it, where anything does.
    pub against: Option<String>,
}

/// Figures of the statement on one side of the onset.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Side {
    /// What it cost.
    pub counters: StatementCounters,
    /// Seconds observed.
    pub seconds: f64,
    /// What its sessions waited for.
    pub load: Load,
}

impl Side {
    /// A figure per call; nothing without calls.
    fn per_call(&self, figure: impl Fn(&StatementCounters) -> i64) -> Option<f64> {
        (self.counters.calls > 0).then(|| figure(&self.counters) as f64 / self.counters.calls as f64)
    }
}

/// A plan that was seen.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PlanSeen<'a> {
    /// It, in the server's text form.
    pub text: &'a str,
    /// When it was first seen.
    pub first_seen_at: Timestamp,
    /// What calls cost while it was in use.
    pub cost: PlanCost,
}

/// The lock that a statement mostly waits for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LockSeen {
    /// The table concerned, where that is known.
    pub object: Option<String>,
    /// How it is to be held, by the server's own name.
    pub mode: Option<String>,
    /// Program of whoever mostly holds it.
    pub program: Option<String>,
    /// What the holder runs, or ran last.
    pub statement: Option<String>,
    /// Whether the holder is idle in its transaction.
    pub is_idle: bool,
}

/// What is known of the planner's statistics of a table around an onset.
#[derive(Debug, Clone, PartialEq)]
pub struct TableStatistics {
    /// The table, with its schema.
    pub table: String,
    /// When they were collected.
    pub collected: Vec<Timestamp>,
    /// Rows of the table, where they were counted.
    pub rows: Option<f64>,
    /// Rows changed since then when the change began, where that is known.
    pub changed: Option<f64>,
}

/// What is known of a change.
#[derive(Debug, Clone, Copy)]
pub struct Evidence<'a> {
    /// The change.
    pub change: &'a LastingChange,
    /// The statement.
    pub statement: &'a str,
    /// Its figures before the onset.
    pub before: &'a Side,
    /// Its figures since the onset.
    pub after: &'a Side,
    /// Its plans.
    pub plans: &'a [PlanSeen<'a>],
    /// What happened on the instance.
    pub markers: &'a [Marker],
    /// What an index that is missing for it would be on, where one is.
    pub missing_index: Option<&'a str>,
    /// The lock that it mostly waited for since.
    pub lock: Option<&'a LockSeen>,
    /// The planner's statistics of tables that it may name.
    pub statistics: &'a [TableStatistics],
    /// Other changes of the instance.
    pub beside: &'a [Beside<'a>],
    /// How often the instance is looked at.
    pub pace: Pace,
}

/// How often an instance is looked at, in seconds: what happened is seen so much later at most.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Pace {
    /// Length of the bucket that the onset was found in.
    pub bucket: f64,
    /// Between two readings of settings.
    pub settings: f64,
    /// Between two readings of tables, columns and indexes.
    pub catalog: f64,
}

impl Evidence<'_> {
    /// Between when and when it began.
    fn onset_between(&self) -> (Timestamp, Timestamp) {
        self.change.onset_between.unwrap_or((self.change.onset, self.change.onset))
    }

    /// How close to the onset something must have happened that is seen at once, in seconds.
    fn near(&self) -> f64 {
        NEAR_BUCKETS * self.pace.bucket
    }

    /// Whether it became slower.
    fn is_slower(&self) -> bool {
        self.change.ratio.value > 1.0
    }

    /// The change on the log scale, without its sign.
    fn size(&self) -> f64 {
        self.change.ratio.value.ln().abs().max(f64::MIN_POSITIVE)
    }

    /// By what factor a figure per call grew, and the share of the change that explains; nothing where it went the
    /// other way or is not known.
    fn explained_by(&self, figure: impl Fn(&StatementCounters) -> i64) -> Option<(f64, f64)> {
        let (before, after) = (self.before.per_call(&figure)?, self.after.per_call(&figure)?);
        let grown = (after.max(0.5) / before.max(0.5)).ln();
        let towards = if self.is_slower() { grown } else { -grown };
        (towards > 0.0).then(|| (grown.exp(), (towards / self.size()).min(1.0)))
    }
}

/// The likeliest causes of a change, the likeliest first; none where nothing explains enough.
pub fn causes(evidence: &Evidence) -> Vec<Cause> {
    let mut causes: Vec<Cause> =
        [work::causes, waits::causes, plan::causes, statistics::causes, happened::causes, beside::causes]
            .iter()
            .flat_map(|causes| causes(evidence))
            .collect();
    causes.retain(|cause| cause.likely >= LEAST_LIKELY);
    causes.sort_by(|a, b| b.likely.total_cmp(&a.likely));
    causes.truncate(MOST_TOLD);
    causes
}

/// What happened when a change began that may have caused it, the likeliest first: of a statement, or of the server, which
/// has none. It takes no figures, so it can be told of many changes at once.
pub fn happened_then(change: &LastingChange, statement: &str, markers: &[Marker], pace: Pace) -> Vec<Cause> {
    let nothing = Side::default();
    let mut causes = happened::causes(&Evidence {
        change,
        statement,
        before: &nothing,
        after: &nothing,
        plans: &[],
        markers,
        missing_index: None,
        lock: None,
        statistics: &[],
        beside: &[],
        pace,
    });
    causes.sort_by(|a, b| b.likely.total_cmp(&a.likely));
    causes.into_iter().map(|cause| Cause { against: None, ..cause }).collect()
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::findings::lasting_change::test_change;
    use crate::instance::marker::MarkerKind;
    use crate::readings::wait_kind::WaitKind;

    const PACE: Pace = Pace { bucket: 10.0, settings: 3600.0, catalog: 600.0 };

    /// A case of a statement that takes so many times as long since the thousandth second.
    pub struct Case {
        pub change: LastingChange,
        pub statement: &'static str,
        pub before: Side,
        pub after: Side,
        pub plans: Vec<PlanSeen<'static>>,
        pub markers: Vec<Marker>,
        pub missing_index: Option<&'static str>,
        pub lock: Option<LockSeen>,
        pub statistics: Vec<TableStatistics>,
        pub beside: Vec<(Option<&'static str>, (LastingChange, f64))>,
    }

    impl Case {
        pub fn slower(ratio: f64) -> Case {
            let counters = StatementCounters {
                calls: 1000,
                exec_us: 1_000_000,
                rows: 20_000,
                hit_pages: 100_000,
                read_pages: 1_000,
                ..StatementCounters::default()
            };
            let before =
                Side { counters, seconds: 600.0, load: Load { samples: 600, busy: [1, 0, 0, 0, 0, 0, 0, 0, 0, 0] } };
            let mut after = before;
            after.counters.exec_us = (1e6 * ratio) as i64;
            Case {
                change: test_change(Timestamp(1_000_000_000), ratio),
                statement: "select * from passage_leg where state = $1",
                before,
                after,
                plans: Vec::new(),
                markers: Vec::new(),
                missing_index: None,
                lock: None,
                statistics: Vec::new(),
                beside: Vec::new(),
            }
        }

        pub fn marked(mut self, seconds: i64, kind: MarkerKind, text: &str) -> Case {
            self.markers.push(Marker { at: Timestamp(seconds * 1_000_000), kind, text: text.into() });
            self
        }

        pub fn causes(&self) -> Vec<Cause> {
            let mut beside = Vec::new();
            for (statement, (change, cost)) in &self.beside {
                beside.push(Beside { statement: *statement, change, cost: *cost });
            }
            causes(&Evidence {
                change: &self.change,
                statement: self.statement,
                before: &self.before,
                after: &self.after,
                plans: &self.plans,
                markers: &self.markers,
                missing_index: self.missing_index,
                lock: self.lock.as_ref(),
                statistics: &self.statistics,
                beside: &beside,
                pace: PACE,
            })
        }

        pub fn kinds(&self) -> Vec<CauseKind> {
            self.causes().iter().map(|cause| cause.kind).collect()
        }
    }

    #[test]
    fn where_nothing_explains_it_nothing_is_said() {
        assert_eq!(Case::slower(3.0).kinds(), []);
        let elsewhere = Case::slower(3.0).marked(500, MarkerKind::Setting, "work_mem: 4MB → 1MB");
        assert_eq!(elsewhere.kinds(), [], "that was long before");
    }

    #[test]
    fn the_likeliest_comes_first() {
        let mut case = Case::slower(50.0).marked(1005, MarkerKind::Noted, "release: gate list by state");
        case.after.counters.hit_pages = 5_000_000;
        assert_eq!(case.kinds(), [CauseKind::Pages, CauseKind::Noted]);
        case.missing_index = Some("public.passage_leg (crossing_id, state)");
        assert_eq!(case.kinds()[0], CauseKind::MissingIndex);
        case.plans = [("Index Scan", 0), ("Seq Scan", 1010)]
            .map(|(text, at)| PlanSeen { text, first_seen_at: Timestamp(at * 1_000_000), cost: PlanCost::default() })
            .into();
        assert!(case.kinds().contains(&CauseKind::Plan));
    }

    #[test]
    fn a_lock_is_told_from_work() {
        let mut case = Case::slower(20.0);
        case.after.load.busy[WaitKind::Lock.position()] = 19;
        assert_eq!(case.kinds(), [CauseKind::Waits]);
        assert!(case.causes()[0].evidence.contains("lock"), "{:?}", case.causes());
        case.lock = Some(LockSeen {
            object: Some("public.crossing".into()),
            program: Some("gate desk".into()),
            is_idle: true,
            ..LockSeen::default()
        });
        let told = &case.causes()[0].evidence;
        assert!(
            told.ends_with("It is mostly on public.crossing, held by gate desk, idle in its transaction"),
            "{told}"
        );
    }

    #[test]
    fn what_happened_then_is_told_of_the_server_too() {
        let change = test_change(Timestamp(1_000_000_000), 20.0);
        let marker =
            |seconds: i64, kind, text: &str| Marker { at: Timestamp(seconds * 1_000_000), kind, text: text.into() };
        let markers = [
            marker(990, MarkerKind::Restart, "restarted"),
            marker(1005, MarkerKind::Setting, "work_mem: 8MB → 128kB"),
            marker(5000, MarkerKind::Noted, "release"),
            marker(1000, MarkerKind::IndexMade, "index leg_state made on public.passage_leg (state)"),
        ];
        let told = happened_then(&change, "", &markers, PACE);
        assert_eq!(told.iter().map(|cause| cause.kind).collect::<Vec<_>>(), [CauseKind::Setting, CauseKind::Server]);
        assert!(told[0].evidence.contains("work_mem") && told[0].against.is_none(), "{told:?}");
    }
}
