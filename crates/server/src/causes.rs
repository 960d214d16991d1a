use hurnix_core::changes::advice::AdviceState;
use hurnix_core::findings::cause::{
    Beside, Cause, Evidence, Pace, PlanSeen, Side, TableStatistics, causes, happened_then,
};
use hurnix_core::findings::lasting_change::{LastingChange, found_in_seconds};
use hurnix_core::instance::marker::Marker;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::load::Load;
use hurnix_core::readings::metric::Metric;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{AdviceFilter, ChangeRow, Dimension, FamilyRow, Instance, MetricCell, OnlyPart, Result};

use crate::plan_costs::plans_in_use;
use crate::state::{Collected, now};

/// Buckets on either side of the onset that are looked at: half a day of ten minutes.
const BUCKETS: f64 = 72.0;
/// What happened is looked for so many seconds around the onset, at least.
const AROUND_SECONDS: f64 = 3600.0;
/// Other changes that are looked at, and tables.
const MOST_CHANGES: i64 = 500;
const MOST_TABLES: usize = 5;
/// Cells in which it is looked for when statistics were collected.
const CELL_SECONDS: i64 = 600;
/// Pages of the advice book that are looked at.
const MOST_ADVICE: i64 = 200;

/// Why the time per call of a family changed, the likeliest first.
pub async fn causes_of(
    app: &Collected,
    instance: &Instance,
    family: &FamilyRow,
    change: &LastingChange,
) -> Result<Vec<Cause>> {
    let pace = pace(app, instance, change.onset);
    let (earliest, latest) = change.onset_between.unwrap_or((change.onset, change.onset));
    let reach = BUCKETS * pace.bucket;
    let end = change.until.unwrap_or_else(now).min(change.onset.plus_seconds(reach));
    let before = Window { from: earliest.plus_seconds(-reach), to: earliest };
    // An onset that is known to the day only leaves nothing of a change that was soon over.
    let after = Window { from: if latest < end { latest } else { change.onset }, to: end };
    if after.from >= after.to {
        return Ok(Vec::new());
    }
    let id = instance.instance_id;
    let lock = app.store.lock_waits(id, family.family_id, after).await?;
    let before = side(app, id, family.family_id, before).await?;
    let after = side(app, id, family.family_id, after).await?;
    let rows = app.store.plans(family.family_id).await?;
    let costs = plans_in_use(&app.store, id, family.family_id).await?.costs;
    let plans: Vec<PlanSeen> = rows
        .iter()
        .filter_map(|row| {
            let (identity, text) = row.plan.as_ref().ok()?;
            let cost = costs.get(identity).copied().unwrap_or_default();
            Some(PlanSeen { text, first_seen_at: row.first_read_at, cost })
        })
        .collect();
    let around = AROUND_SECONDS.max(6.0 * pace.bucket) + pace.settings.max(pace.catalog);
    let window = Window { from: earliest.plus_seconds(-around), to: latest.plus_seconds(around) };
    let markers = markers(app, id, window).await?;
    let open = AdviceFilter { state: Some(AdviceState::Open), by_age: false, offset: 0, limit: MOST_ADVICE };
    let (pages, _) = app.store.advice_list(id, &open).await?;
    let missing = pages.into_iter().find(|page| page.advice.told().families().contains(&family.family_id));
    let others = app.store.changes(id, window.from, None, MOST_CHANGES).await?;
    let beside = others
        .iter()
        .filter_map(|ChangeRow { subject, text, kept, .. }| Beside::of(family.family_id, subject, text, &kept.change));
    let beside: Vec<Beside> = beside.collect();
    let statistics = statistics(app, id, &family.text, window, change.onset).await?;
    Ok(causes(&Evidence {
        change,
        statement: &family.text,
        before: &before,
        after: &after,
        plans: &plans,
        markers: &markers,
        missing_index: missing.as_ref().map(|page| page.subject.as_str()),
        lock: lock.as_ref(),
        statistics: &statistics,
        beside: &beside,
        pace,
    }))
}

/// What happened when each of these changes began, in their order.
pub async fn happened_to(
    app: &Collected,
    instance: &Instance,
    changes: &[ChangeRow],
    window: Window,
) -> Result<Vec<Vec<Cause>>> {
    let markers = markers(app, instance.instance_id, window).await?;
    let happened = |row: &ChangeRow| {
        let change = &row.kept.change;
        happened_then(change, &row.text, &markers, pace(app, instance, change.onset))
    };
    Ok(changes.iter().map(happened).collect())
}

/// What happened on an instance in a window.
async fn markers(app: &Collected, instance_id: i32, window: Window) -> Result<Vec<Marker>> {
    let rows = app.store.markers(instance_id, window).await?;
    Ok(rows.into_iter().map(|row| Marker { at: row.at, kind: row.kind, text: row.text }).collect())
}

/// How often an instance is looked at, for an onset.
fn pace(app: &Collected, instance: &Instance, onset: Timestamp) -> Pace {
    let intervals = app.intervals_of(instance);
    Pace {
        bucket: found_in_seconds(onset, now(), intervals.bucket.as_secs_f64()),
        settings: intervals.settings.as_secs_f64(),
        catalog: intervals.catalog.as_secs_f64(),
    }
}

/// The planner's statistics of the tables that a statement names, in a window around the onset of its change.
async fn statistics(
    app: &Collected,
    id: i32,
    statement: &str,
    window: Window,
    onset: Timestamp,
) -> Result<Vec<TableStatistics>> {
    let pieces = app.store.pieces(id, &[RetentionGroup::Measures], window, Detail::TenMinutes, now()).await?;
    let mut all = Vec::new();
    for catalog in app.store.catalogs(id).await? {
        let named = catalog.tables_named_in(statement).take(MOST_TABLES);
        for table in named {
            let name = table.qualified_name();
            let cells = async |metric| app.store.metric_cells(id, metric, &name, &pieces, CELL_SECONDS).await;
            let ended = |cell: &MetricCell| cell.at.plus_seconds(CELL_SECONDS as f64);
            let ago = cells(Metric::AnalyzedAgo).await?;
            let collected = ago.iter().map(|cell| ended(cell).plus_seconds(-cell.least));
            let changed = cells(Metric::RowsSinceAnalyze).await?;
            all.push(TableStatistics {
                collected: collected.filter(|at| *at >= window.from).collect(),
                rows: table.rows,
                changed: changed.iter().rfind(|cell| ended(cell) <= onset).map(|cell| cell.most),
                table: name,
            });
        }
    }
    Ok(all)
}

/// What a family cost and waited for in a window.
async fn side(app: &Collected, instance_id: i32, family_id: i64, window: Window) -> Result<Side> {
    let groups = [RetentionGroup::Statements, RetentionGroup::Activity];
    let pieces = app.store.pieces(instance_id, &groups, window, Detail::for_sums(window), now()).await?;
    let whole = window.seconds().ceil() as i64;
    let mut side = Side { counters: StatementCounters::default(), seconds: 0.0, load: Load::default() };
    for cell in app.store.family_cells(instance_id, family_id, &pieces, whole).await? {
        side.counters = side.counters.plus(&cell.counters);
        side.seconds += cell.seconds;
    }
    let only = OnlyPart { dimension: Dimension::Family, part: Some(family_id) };
    for cell in app.store.load(instance_id, &pieces, whole, &[only]).await? {
        side.load.join(&cell.load);
    }
    Ok(side)
}
