//! What an instance did in a period, gathered for whoever holds periods against each other or reports on one.

use std::collections::{BTreeSet, HashMap};

use hurnix_core::findings::lasting_change::Measured;
use hurnix_core::findings::then_and_now::{Around, Did, Moved, Why, by_most, moved, why};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::{Counters, IndexCounters, StatementCounters, TableCounters};
use hurnix_core::readings::load::Load;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{BreakdownRow, Coverage, DatabaseSums, Dimension, OnlyPart, Result, Store};

use crate::state::now;

/// Families whose load is told apart.
const MOST_FAMILIES: i64 = 20_000;
/// Wait events that are told apart.
const MOST_EVENTS: i64 = 200;
/// Changes of an instance that are looked through.
const MOST_CHANGES: i64 = 1_000;
/// A cell as long as any window: load of the whole of it.
const WHOLE_SECONDS: i64 = 400 * 86_400;

/// What an instance did in a period.
pub struct Period {
    /// The period, as far as whole buckets at its ends answer it.
    pub window: Window,
    /// The coarsest level of detail used.
    pub detail: Detail,
    /// What of it was observed of statements.
    pub coverage: Coverage,
    /// What each family cost.
    pub statements: HashMap<i64, StatementCounters>,
    /// Load of each family that was seen.
    pub loads: HashMap<i64, Load>,
    /// Load of everything.
    pub load: Load,
    /// Load by wait event, the heaviest first; running sessions have none.
    pub events: Vec<BreakdownRow>,
    /// What each table did, by the server's number, and the seconds that were counted.
    pub tables: (HashMap<u32, TableCounters>, f64),
    /// What each index did, likewise.
    pub indexes: (HashMap<u32, IndexCounters>, f64),
    /// What each database did.
    pub databases: DatabaseSums,
}

impl Period {
    /// Gathers it from the repository; load and wait events of some parts only, where some are given.
    pub async fn gather(store: &Store, instance_id: i32, window: Window, only: &[OnlyPart]) -> Result<Period> {
        let coarsest = Detail::for_sums(window);
        let of =
            |group: RetentionGroup| async move { store.pieces(instance_id, &[group], window, coarsest, now()).await };
        let (statements, activity) = (of(RetentionGroup::Statements).await?, of(RetentionGroup::Activity).await?);
        let (tables, databases) = (of(RetentionGroup::Tables).await?, of(RetentionGroup::Databases).await?);
        let by = async |dimension, most| store.breakdown(instance_id, &activity, dimension, only, most).await;
        let (coverage, sums, families, events, cells, tables, indexes, databases) = tokio::try_join!(
            store.coverage(instance_id, &statements),
            store.family_sums(instance_id, &statements, None),
            by(Dimension::Family, MOST_FAMILIES),
            by(Dimension::Event, MOST_EVENTS),
            store.load(instance_id, &activity, WHOLE_SECONDS, only),
            store.object_sums(instance_id, &tables),
            store.object_sums(instance_id, &tables),
            store.database_sums(instance_id, &databases),
        )?;
        Ok(Period {
            window: statements.window(),
            detail: statements.coarsest(),
            coverage,
            statements: sums,
            loads: families.parts.into_iter().filter_map(|part| Some((part.part?, part.load))).collect(),
            load: cells.iter().map(|cell| &cell.load).sum(),
            events: events.parts,
            tables,
            indexes,
            databases,
        })
    }

    /// What one family did in it.
    pub fn did(&self, family: i64) -> Did {
        Did {
            seconds: self.coverage.seconds,
            counters: self.statements.get(&family).copied().unwrap_or_default(),
            load: self.loads.get(&family).copied().unwrap_or_default(),
        }
    }

    /// What all families did together.
    pub fn did_in_all(&self) -> Did {
        let sum = |sum: StatementCounters, one: &StatementCounters| sum.plus(one);
        let counters = self.statements.values().fold(StatementCounters::default(), sum);
        Did { seconds: self.coverage.seconds, counters, load: self.load }
    }

    /// Transactions that were committed or rolled back, of each second; nothing where they were not counted.
    pub fn transactions(&self) -> Option<f64> {
        let of = |sums: &hurnix_core::readings::counters::DatabaseCounters| sums.commits + sums.rollbacks;
        let all: i64 = self.databases.databases.values().map(of).sum();
        (self.databases.seconds > 0.0).then(|| all as f64 / self.databases.seconds)
    }
}

/// A statement in two periods.
pub struct StatementThenAndNow {
    /// Number of the family.
    pub family: i64,
    /// Its text.
    pub text: String,
    /// What it gained or lost.
    pub moved: Moved,
    /// What it did in the earlier period.
    pub then: Did,
    /// What it did in the later one.
    pub now: Did,
    /// What moved with it.
    pub why: Vec<Why>,
    /// When a lasting change of its time per call began between the begin of the first and the end of the last, if any did.
    pub change_began_at: Option<Timestamp>,
}

/// Statements that moved most from one period to another, whichever way, and how many ran at all.
pub async fn statements_moved(
    store: &Store,
    instance_id: i32,
    before: &Period,
    after: &Period,
    most: usize,
) -> Result<(Vec<StatementThenAndNow>, usize)> {
    let families: BTreeSet<i64> = before.statements.keys().chain(after.statements.keys()).copied().collect();
    let mut all: Vec<(i64, Moved)> =
        families.iter().map(|family| (*family, moved(&before.did(*family), &after.did(*family)))).collect();
    by_most(&mut all, |(_, moved)| moved.by);
    all.truncate(most);
    Ok((told(store, instance_id, before, after, all).await?, families.len()))
}

/// How one statement moved.
pub async fn statement_moved(
    store: &Store,
    instance_id: i32,
    before: &Period,
    after: &Period,
    family: i64,
) -> Result<Option<StatementThenAndNow>> {
    let moved = moved(&before.did(family), &after.did(family));
    Ok(told(store, instance_id, before, after, vec![(family, moved)]).await?.pop())
}

/// What is told of statements that moved.
async fn told(
    store: &Store,
    instance_id: i32,
    before: &Period,
    after: &Period,
    all: Vec<(i64, Moved)>,
) -> Result<Vec<StatementThenAndNow>> {
    let numbers: Vec<i64> = all.iter().map(|(family, _)| *family).collect();
    let texts = store.family_texts(instance_id, &numbers).await?;
    let (then, now) = (before.window, after.window);
    let since = Window { from: then.to.min(now.to), to: then.to.max(now.to) };
    let plans: HashMap<i64, Timestamp> = store.new_plans(instance_id, since).await?.into_iter().collect();
    let (from, to) = (then.from.min(now.from), then.to.max(now.to));
    let changes = store.changes(instance_id, from, Some(Measured::TimePerCall), MOST_CHANGES).await?;
    let onset = |family: i64| {
        let of_family = changes.iter().filter(|row| row.subject.family == Some(family));
        of_family.map(|row| row.kept.change.onset).find(|onset| *onset > from && *onset < to)
    };
    let statement = |(family, moved): (i64, Moved)| {
        let (then, now) = (before.did(family), after.did(family));
        let around = Around { new_plan_at: plans.get(&family).copied() };
        StatementThenAndNow {
            family,
            text: texts.get(&family).cloned().unwrap_or_default(),
            moved,
            why: why(&then, &now, &around),
            then,
            now,
            change_began_at: onset(family),
        }
    };
    Ok(all.into_iter().map(statement).collect())
}
