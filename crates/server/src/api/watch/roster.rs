//! All instances at once, the most urgent first: from what is kept for this list, however many there are.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::health::Urgency;
use hurnix_core::findings::normal_range::{NormalRange, Usual};
use hurnix_core::{Timestamp, Window};
use hurnix_store::{Caller, GLANCE_CELL_SECONDS, Instance, SeenLoad};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::moment;
use crate::api::watch::instances::{Beside, InstanceFigures, Strip, shaped};
use crate::maintenance::OpenWindows;
use crate::state::{App, now};
use crate::zone::{clock_of, zone};

/// Time that the strip beside each instance shows.
const STRIP_SECONDS: f64 = 3.0 * 3600.0;
/// That of an instance looked at for a shorter time shows no more cells than this, of a minute or more, and no less
/// time than this.
const YOUNG_CELLS: i64 = 36;
const SHORTEST_STRIP_MINUTES: i64 = 5;
/// What changed is told with this much overlap: a change is seen a little later than its time.
const OVERLAP_SECONDS: f64 = 5.0;

/// Instances as they are shown, each with its place in the order of those who ask for attention.
pub(crate) async fn lines(app: &App, instances: Vec<Instance>) -> Result<Vec<(Urgency, InstanceFigures)>, Problem> {
    let to = now();
    let whole = Window { from: to.plus_seconds(-STRIP_SECONDS), to };
    let starts = whole.cells(GLANCE_CELL_SECONDS);
    let from = starts.first().copied().unwrap_or(whole.from);
    let ids: Vec<i32> = instances.iter().map(|instance| instance.instance_id).collect();
    let (mut loads, alarms, open_advice, usual_loads, windows) = tokio::try_join!(
        app.store.loads(&ids, from),
        app.store.open_alarms(&ids),
        app.store.open_advice(&ids),
        app.usual_loads.of(&app.store, &ids),
        OpenWindows::now(app)
    )?;
    // One that was looked at three hours ago is not young.
    let is_young =
        |seen: &[SeenLoad]| seen.first().is_some_and(|first| starts.get(1).is_some_and(|cell| first.at > *cell));
    let young: Vec<i32> = loads.iter().filter(|(_, seen)| is_young(seen)).map(|(id, _)| *id).collect();
    let mut minutes =
        if young.is_empty() { Default::default() } else { app.store.loads_by_minute(&young, from).await? };
    let line = |instance: Instance| {
        let id = instance.instance_id;
        let seen = loads.remove(&id).unwrap_or_default();
        let strip = match minutes.remove(&id) {
            Some(minutes) => young_strip(&minutes, to),
            None => {
                let load = |start: &Timestamp| seen.iter().find(|seen| seen.at == *start).and_then(SeenLoad::mean);
                let cells = starts.iter().map(load).collect();
                Strip { start: from, cell_seconds: GLANCE_CELL_SECONDS, cells }
            }
        };
        let silenced_by = windows.of(&instance);
        let there = zone(&instance.settings.day_zone);
        let usual = usual_loads.get(&id).map_or_else(Vec::new, |range| strip.usual(range, |at| clock_of(there, at)));
        let beside = Beside {
            strip,
            usual,
            alarms: alarms.get(&id).map_or(&[], Vec::as_slice),
            open_advice: open_advice.get(&id).copied().unwrap_or(0),
            silenced_by,
        };
        shaped(instance, beside)
    };
    Ok(instances.into_iter().map(line).collect())
}

/// The strip of an instance that is looked at for less than the usual time: it begins with the first look, so that
/// it is no empty row with a dot at its end.
fn young_strip(minutes: &[SeenLoad], to: Timestamp) -> Strip {
    let start = minutes.first().map_or(to, |first| first.at);
    let shown = ((to.seconds_since(start) / 60.0).ceil() as i64).max(SHORTEST_STRIP_MINUTES);
    let width = (shown as u64).div_ceil(YOUNG_CELLS as u64) as i64;
    let mut cells = vec![(0, 0); (shown as u64).div_ceil(width as u64) as usize];
    for minute in minutes {
        let place = minute.at.seconds_since(start) as i64 / (60 * width);
        if let Some((samples, busy)) = cells.get_mut(place as usize) {
            *samples += minute.samples;
            *busy += minute.busy;
        }
    }
    let mean = |(samples, busy): (i64, i64)| SeenLoad { at: start, samples, busy }.mean();
    Strip { start, cell_seconds: 60 * width, cells: cells.into_iter().map(mean).collect() }
}

impl Strip {
    /// What is usual in the middle of each cell. `clock` tells the time there.
    fn usual(&self, range: &NormalRange, clock: impl Fn(Timestamp) -> Timestamp) -> Vec<Usual> {
        let middle = |cell: usize| self.start.plus_seconds((cell as f64 + 0.5) * self.cell_seconds as f64);
        (0..self.cells.len()).map(|cell| range.at(clock(middle(cell)))).collect()
    }
}

/// All that the caller may see, the most urgent first, then by time lost; each with when something of it changed.
async fn all(app: &App, caller: &Caller) -> Result<Vec<(Timestamp, InstanceFigures)>, Problem> {
    let mut instances = app.store.instances().await?;
    instances.retain(|instance| caller.sees(instance.group.as_deref()));
    let changed: Vec<Timestamp> = instances.iter().map(|instance| instance.shown_changed_at).collect();
    let mut all: Vec<_> = changed.into_iter().zip(lines(app, instances).await?).collect();
    all.sort_by(|(_, (a, _)), (_, (b, _))| a.compare(b));
    Ok(all.into_iter().map(|(changed, (_, figures))| (changed, figures)).collect())
}

/// All instances, the most urgent first, then by time lost.
#[utoipa::path(get, path = "/instances", tag = "instances",
    responses((status = 200, body = Vec<InstanceFigures>)))]
pub async fn list_instances(State(app): State<App>, SignedIn(caller): SignedIn) -> Answer<Vec<InstanceFigures>> {
    Ok(Json(all(&app, &caller).await?.into_iter().map(|(_, figures)| figures).collect()))
}

/// One instance.
#[utoipa::path(get, path = "/instances/{instance_id}", tag = "instances", params(("instance_id" = i32, Path)),
    responses((status = 200, body = InstanceFigures)))]
pub async fn one_instance(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<InstanceFigures> {
    let instance = find(&app, instance_id).await?;
    let (_, figures) =
        lines(&app, vec![instance]).await?.pop().ok_or_else(|| Problem::internal("an instance without its line"))?;
    Ok(Json(figures))
}

/// What is known already.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RosterQuery {
    /// Only what changed after this moment: `as_of` of an earlier answer.
    since: Option<DateTime<Utc>>,
}

/// The list of all instances, or what changed of it.
#[derive(Serialize, ToSchema)]
pub struct Roster {
    /// What to give as `since` next time; nothing while there is no instance.
    as_of: Option<DateTime<Utc>>,
    /// Numbers of all instances, the most urgent first, then by time lost.
    order: Vec<i32>,
    /// Those of which something changed; all of them where `since` is not given.
    changed: Vec<InstanceFigures>,
}

/// The list of all instances in its order, with those lines only of which something changed.
#[utoipa::path(get, path = "/roster", tag = "instances", params(RosterQuery),
    responses((status = 200, body = Roster)))]
pub async fn roster(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Query(query): Query<RosterQuery>,
) -> Answer<Roster> {
    let all = all(&app, &caller).await?;
    let newest = all.iter().map(|(changed, _)| *changed).max();
    let cell = |at: Timestamp| at.bucket(GLANCE_CELL_SECONDS);
    // Strips of all of them move on together.
    let since =
        query.since.map(|since| Timestamp(since.timestamp_micros())).filter(|since| cell(*since) == cell(now()));
    let earliest = since.map_or(Timestamp(i64::MIN), |since| since.plus_seconds(-OVERLAP_SECONDS));
    let order = all.iter().map(|(_, figures)| figures.instance_id).collect();
    let changed = all.into_iter().filter(|(changed, _)| *changed >= earliest).map(|(_, figures)| figures).collect();
    Ok(Json(Roster { as_of: newest.map(moment), order, changed }))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn minute(number: i64, samples: i64, busy: i64) -> SeenLoad {
        SeenLoad { at: Timestamp(number * 60_000_000), samples, busy }
    }

    #[test]
    fn a_young_strip_begins_with_the_first_look() {
        let seen = [minute(100, 6, 12), minute(101, 6, 3), minute(103, 2, 0)];
        let strip = young_strip(&seen, Timestamp(103 * 60_000_000 + 30_000_000));
        assert_eq!((strip.start, strip.cell_seconds), (seen[0].at, 60));
        assert_eq!(strip.cells, [Some(2.0), Some(0.5), None, Some(0.0), None], "five minutes at least");
    }

    #[test]
    fn cells_of_a_young_strip_widen_so_that_they_fit() {
        let seen: Vec<SeenLoad> = (0..100).map(|number| minute(number, 1, number)).collect();
        let strip = young_strip(&seen, Timestamp(100 * 60_000_000));
        assert_eq!((strip.cell_seconds, strip.cells.len()), (180, 34));
        assert_eq!((strip.cells[0], strip.cells[33]), (Some(1.0), Some(99.0)));
    }
}
