use hurnix_core::Window;
use hurnix_core::changes::advice::AdviceState;
use hurnix_core::findings::cause::{Cause, Evidence, PlanSeen, Side, causes};
use hurnix_core::findings::lasting_change::LastingChange;
use hurnix_core::instance::marker::Marker;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::load::Load;
use hurnix_store::{AdviceFilter, Dimension, FamilyRow, Instance, OnlyPart, Result};

use crate::state::{App, now};

/// Buckets on either side of the onset that are looked at: half a day of ten minutes.
const BUCKETS: f64 = 72.0;
/// What happened is looked for so many seconds around the onset, at least.
const AROUND_SECONDS: f64 = 3600.0;
/// Pages of the advice book that are looked at.
const MOST_ADVICE: i64 = 200;

/// Why the time per call of a family changed, the likeliest first.
pub async fn causes_of(
    app: &App,
    instance: &Instance,
    family: &FamilyRow,
    change: &LastingChange,
) -> Result<Vec<Cause>> {
    let bucket_seconds = app.intervals_of(instance).bucket.as_secs_f64();
    let (earliest, latest) = change.onset_between.unwrap_or((change.onset, change.onset));
    let reach = BUCKETS * bucket_seconds;
    let end = change.until.unwrap_or_else(now).min(change.onset.plus_seconds(reach));
    let before = Window { from: earliest.plus_seconds(-reach), to: earliest };
    // An onset that is known to the day only leaves nothing of a change that was soon over.
    let after = Window { from: if latest < end { latest } else { change.onset }, to: end };
    if after.from >= after.to {
        return Ok(Vec::new());
    }
    let id = instance.instance_id;
    let before = side(app, id, family.family_id, before).await?;
    let after = side(app, id, family.family_id, after).await?;
    let plans: Vec<PlanSeen> = app
        .store
        .plans(family.family_id)
        .await?
        .into_iter()
        .filter_map(|row| Some(PlanSeen { identity: row.plan.ok()?.0, first_seen_at: row.first_read_at }))
        .collect();
    let around = AROUND_SECONDS.max(6.0 * bucket_seconds);
    let window = Window { from: earliest.plus_seconds(-around), to: latest.plus_seconds(around) };
    let markers: Vec<Marker> = app
        .store
        .markers(id, window)
        .await?
        .into_iter()
        .map(|row| Marker { at: row.at, kind: row.kind, text: row.text })
        .collect();
    let open = AdviceFilter { state: Some(AdviceState::Open), by_age: false, offset: 0, limit: MOST_ADVICE };
    let (pages, _) = app.store.advice_list(id, &open).await?;
    let missing = pages.into_iter().find(|page| page.advice.told().families().contains(&family.family_id));
    Ok(causes(&Evidence {
        change,
        statement: &family.text,
        before: &before,
        after: &after,
        plans: &plans,
        markers: &markers,
        missing_index: missing.as_ref().map(|page| page.subject.as_str()),
        bucket_seconds,
    }))
}

/// What a family cost and waited for in a window.
async fn side(app: &App, instance_id: i32, family_id: i64, window: Window) -> Result<Side> {
    let groups = [RetentionGroup::Statements, RetentionGroup::Activity];
    let pieces = app.store.pieces(instance_id, &groups, window, Detail::for_window(window), now()).await?;
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
