//! Shapes that several answers share.

use chrono::{DateTime, Utc};
use hurnix_core::WaitKind;
use hurnix_core::findings::cause::Cause;
use hurnix_core::findings::lasting_change::{Entry, Interval, Side};
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::load::Load;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::window::{Span, moment};
use crate::api::base::word::{AnswerWord, CauseKindWord, MeasuredWord, TurnoutWord, UnitWord, Word};
use hurnix_store::ChangeRow;

/// A number that may be too large for a browser's numbers: written as text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ToSchema)]
#[schema(value_type = String)]
pub struct Id(pub i64);

impl Serialize for Id {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(&self.0)
    }
}

/// Mean number of busy sessions, split by wait kind.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LoadFigures {
    /// How often the server was looked at.
    pub samples: i64,
    /// Mean number of busy sessions by wait kind, in the fixed order: running, storage read, storage
    /// write, log write, temp space, lock, latch, network, peer, other. Empty without samples.
    pub kinds: Vec<f64>,
    /// Mean number of busy sessions.
    pub total: Option<f64>,
    /// Standard error of the total.
    pub standard_error: Option<f64>,
}

impl From<&Load> for LoadFigures {
    fn from(load: &Load) -> Self {
        LoadFigures {
            samples: load.samples,
            kinds: WaitKind::ALL.iter().filter_map(|kind| load.mean(*kind)).collect(),
            total: load.total(),
            standard_error: load.standard_error(),
        }
    }
}

/// What statements cost. Times in microseconds, pages in the server's page size.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct StatementFigures {
    /// Executions that ended.
    pub calls: i64,
    /// Time executing.
    pub exec_us: i64,
    /// Time planning.
    pub plan_us: i64,
    /// Rows returned or changed.
    pub rows: i64,
    /// Pages found in the server's cache.
    pub hit_pages: i64,
    /// Pages read from outside it.
    pub read_pages: i64,
    /// Pages changed.
    pub dirtied_pages: i64,
    /// Pages written by the statement itself.
    pub written_pages: i64,
    /// Pages read from temporary files.
    pub temp_read_pages: i64,
    /// Pages written to temporary files.
    pub temp_written_pages: i64,
    /// Time reading data pages.
    pub read_us: i64,
    /// Time writing data pages.
    pub write_us: i64,
    /// Write-ahead log made, in bytes.
    pub log_bytes: i64,
}

impl From<&StatementCounters> for StatementFigures {
    fn from(counters: &StatementCounters) -> Self {
        let StatementCounters {
            calls,
            exec_us,
            plan_us,
            rows,
            hit_pages,
            read_pages,
            dirtied_pages,
            written_pages,
            temp_read_pages,
            temp_written_pages,
            read_us,
            write_us,
            log_bytes,
            squared_ms: _,
        } = *counters;
        StatementFigures {
            calls,
            exec_us,
            plan_us,
            rows,
            hit_pages,
            read_pages,
            dirtied_pages,
            written_pages,
            temp_read_pages,
            temp_written_pages,
            read_us,
            write_us,
            log_bytes,
        }
    }
}

/// A number and the interval in which it lies with 95 % confidence.
#[derive(Debug, Clone, Copy, Serialize, ToSchema)]
pub struct IntervalFigures {
    /// Best estimate.
    pub value: f64,
    /// Lower end.
    pub low: f64,
    /// Upper end.
    pub high: f64,
}

impl From<Interval> for IntervalFigures {
    fn from(Interval { value, low, high }: Interval) -> Self {
        IntervalFigures { value, low, high }
    }
}

/// A change that stayed.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Change {
    /// Number.
    pub change_id: Id,
    /// What changed.
    pub measured: MeasuredWord,
    /// Of which kind of wait, or which metric of what; otherwise empty.
    pub object: String,
    /// The unit of a metric.
    pub unit: Option<UnitWord>,
    /// When it began.
    pub onset: DateTime<Utc>,
    /// Between when and when it began, with 95 % confidence; nothing where that was not told.
    pub onset_between: Option<Span>,
    /// When it ended: a later change brought the level back, or it passed. Nothing while it holds.
    pub until: Option<DateTime<Utc>>,
    /// Whether it passed: within days the level was back. Such a change did not last.
    pub passed: bool,
    /// When it was first found.
    pub found_at: DateTime<Utc>,
    /// New level ÷ old; above 1 is more, of time per call slower.
    pub ratio: IntervalFigures,
    /// Before the onset.
    pub before: ChangeSide,
    /// Since the onset.
    pub after: ChangeSide,
    /// Change of the time from slower or faster calls, in seconds per second; of waits, from longer or shorter ones; of
    /// load, its own.
    pub from_time_per_call: f64,
    /// Change of the time from more or fewer calls, in seconds per second.
    pub from_calls: f64,
    /// What it changes of the server's time, in seconds per second: more than nothing is lost. Nothing of metrics, and of
    /// rows and pages, whose cost the time per call tells.
    pub cost: Option<f64>,
    /// Time lost since by that, in seconds; negative where it was won.
    pub lost_seconds: f64,
    /// Whether it asks for attention: it holds, and nobody has settled it.
    pub asks: bool,
    /// Whether it was withdrawn: more figures showed that there was none.
    pub withdrawn: bool,
    /// What became of it, in order of time.
    pub story: Vec<StoryEntry>,
    /// What probably caused it, the likeliest first; in lists, what happened when it began. Nothing where that is not
    /// looked for.
    pub causes: Option<Vec<CauseFigures>>,
    /// What somebody makes of it.
    pub answer: Option<AnswerFigures>,
}

/// What somebody makes of a change.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct AnswerFigures {
    /// What.
    pub answer: AnswerWord,
    /// Why, where a reason was given.
    pub reason: Option<String>,
    /// Who.
    pub answered_by: String,
    /// When.
    pub answered_at: DateTime<Utc>,
}

/// What probably caused a change.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct CauseFigures {
    /// What sort of cause.
    pub kind: CauseKindWord,
    /// How likely it is, from 0 to 1.
    pub likely: f64,
    /// What speaks for it.
    pub evidence: String,
    /// What speaks against it.
    pub against: Option<String>,
}

impl From<Cause> for CauseFigures {
    fn from(Cause { kind, likely, evidence, against }: Cause) -> Self {
        CauseFigures { kind: Word(kind), likely, evidence, against }
    }
}

/// One entry of the story of a change.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct StoryEntry {
    /// When that was seen.
    pub at: DateTime<Utc>,
    /// What.
    pub turnout: TurnoutWord,
    /// New level ÷ old, as it was told then.
    pub ratio: f64,
    /// When the change began, as it was told then.
    pub onset: DateTime<Utc>,
}

/// One side of a change.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct ChangeSide {
    /// Typical value of what changed: time and waits per call in milliseconds, calls a second, rows or pages per call, busy
    /// sessions, or the metric's unit.
    pub typical: f64,
    /// A quarter of the time it was below this.
    pub quarter: f64,
    /// A quarter of the time it was above this.
    pub three_quarters: f64,
    /// Calls per second.
    pub calls_per_second: f64,
    /// Rows per call.
    pub rows_per_call: f64,
    /// Pages per call.
    pub pages_per_call: f64,
    /// Seconds that were observed.
    pub seconds: f64,
}

impl Change {
    /// A change that is kept.
    pub fn new(row: &ChangeRow) -> Self {
        let kept = &row.kept;
        let change = &kept.change;
        let cost = change.cost(row.subject.measured);
        let entry = |entry: &Entry| StoryEntry {
            at: moment(entry.at),
            turnout: Word(entry.turnout),
            ratio: entry.ratio,
            onset: moment(entry.onset),
        };
        Change {
            change_id: Id(row.change_id),
            measured: Word(row.subject.measured),
            object: row.subject.object.clone(),
            unit: row.subject.unit().map(Word),
            onset: moment(change.onset),
            onset_between: change.onset_between.map(|(from, to)| Span { from: moment(from), to: moment(to) }),
            until: change.until.map(moment),
            passed: change.passed,
            found_at: moment(row.found_at),
            ratio: change.ratio.into(),
            before: (&change.before).into(),
            after: (&change.after).into(),
            from_time_per_call: change.from_time_per_call,
            from_calls: change.from_calls,
            cost,
            lost_seconds: cost.unwrap_or_default() * change.after.seconds,
            asks: row.asks(),
            withdrawn: kept.is_withdrawn(),
            story: kept.story.iter().map(entry).collect(),
            causes: None,
            answer: row.answer.as_ref().map(|given| AnswerFigures {
                answer: Word(given.answer),
                reason: given.reason.clone(),
                answered_by: given.by.clone(),
                answered_at: moment(given.at),
            }),
        }
    }
}

impl From<&Side> for ChangeSide {
    fn from(side: &Side) -> Self {
        ChangeSide {
            typical: side.typical,
            quarter: side.quarter,
            three_quarters: side.three_quarters,
            calls_per_second: side.calls_per_second,
            rows_per_call: side.rows_per_call,
            pages_per_call: side.pages_per_call,
            seconds: side.seconds,
        }
    }
}
