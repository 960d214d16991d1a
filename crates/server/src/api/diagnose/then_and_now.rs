//! Two periods of an instance side by side: what differs most by time first, each with its likely why.

use std::collections::BTreeSet;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Window;
use hurnix_core::findings::then_and_now::{
    Likeness, Moved, Why, by_most, figures_moved, matched_before, matched_periods, moved,
};
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::counters::{StatementCounters, TableCounters};
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_store::{BreakdownRow, Instance, SettingChange};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::{Id, LoadFigures};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::{Span, WindowQuery, moment};
use crate::api::base::word::{TroubleWord, UnitWord, Word};
use crate::api::diagnose::moved::{moved_on, whole_buckets};
use crate::api::diagnose::statements::CoverageFigures;
use crate::api::watch::markers::MarkerFigures;
use crate::period::{Period, StatementThenAndNow, statements_moved};
use crate::state::{App, now};
use crate::zone::{clock_of, zone};

/// Most statements, wait events, tables and figures that are told.
const MOST_STATEMENTS: usize = 50;
const MOST_EVENTS: usize = 20;
const MOST_TABLES: usize = 20;
const MOST_FIGURES: usize = 40;
/// So long after a marker is held against the same hours before it.
const AFTER_MARKER_SECONDS: f64 = SECONDS_PER_DAY;

/// Which periods.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct TwoPeriods {
    /// Begin of now.
    from: DateTime<Utc>,
    /// End of now.
    to: DateTime<Utc>,
    /// Begin of then; the same hours before when left out.
    then_from: Option<DateTime<Utc>>,
    /// End of then; as long after its begin as now is long, when left out.
    then_to: Option<DateTime<Utc>>,
}

impl TwoPeriods {
    fn windows(&self) -> Result<(Window, Window), Problem> {
        let now = WindowQuery { from: self.from, to: self.to }.window()?;
        let Some(from) = self.then_from else { return Ok((matched_before(now), now)) };
        let to = self.then_to.unwrap_or(from + (self.to - self.from));
        Ok((WindowQuery { from, to }.named("then_from", "then_to")?, now))
    }
}

/// Two periods side by side. All rates are for each second that was observed.
#[derive(Serialize, ToSchema)]
pub struct ThenAndNow {
    /// The earlier period, or the one compared with.
    then: PeriodFigures,
    /// The period looked at.
    now: PeriodFigures,
    /// How far they can be held against each other.
    likeness: LikenessFigures,
    /// Seconds of each second that statements took more now than then.
    moved: MovedFigures,
    /// Statements that moved most, whichever way; 50 at most.
    statements: Vec<StatementMoved>,
    /// Families that ran in either.
    families: usize,
    /// Wait events that moved most.
    events: Vec<EventMoved>,
    /// Tables of the database connected to that moved most, by rows read and changed.
    tables: Vec<TableMoved>,
    /// Figures of the server that moved most within what is usual of them.
    figures: Vec<FigureThenAndNow>,
    /// Settings that got another value from the begin of the earlier period to the end of the later one.
    settings: Vec<SettingMoved>,
    /// What happened in that time.
    markers: Vec<MarkerFigures>,
    /// Alarms that were open in either.
    alarms: Vec<AlarmThenAndNow>,
}

/// One of the periods.
#[derive(Serialize, ToSchema)]
pub struct PeriodFigures {
    /// The period.
    span: Span,
    /// What of it was observed of statements.
    coverage: CoverageFigures,
    /// Its load by wait kind.
    load: LoadFigures,
    /// Seconds that statements took of each second.
    time: f64,
    /// Calls of each second.
    calls: f64,
    /// Transactions of each second; nothing where they were not counted.
    transactions: Option<f64>,
}

/// How far two periods can be held against each other.
#[derive(Serialize, ToSchema)]
pub struct LikenessFigures {
    /// Whether they are like hours of the day, by the clock of the instance.
    has_like_hours: bool,
    /// Whether they are like days of the week, too.
    has_like_days: bool,
    /// Whether their lengths differ so that rates alone can be compared.
    has_other_length: bool,
    /// Length of now over that of then.
    length_ratio: f64,
    /// Whether they overlap.
    overlaps: bool,
    /// What must be known before they are held against each other; a sentence each.
    cautions: Vec<String>,
}

impl From<Likeness> for LikenessFigures {
    fn from(likeness: Likeness) -> Self {
        let Likeness { has_like_hours, has_like_days, length_ratio, overlaps } = likeness;
        let (has_other_length, cautions) = (likeness.has_other_length(), likeness.cautions());
        LikenessFigures { has_like_hours, has_like_days, has_other_length, length_ratio, overlaps, cautions }
    }
}

/// Seconds of each second that something took more now than then; less where it is below zero.
#[derive(Serialize, ToSchema)]
pub struct MovedFigures {
    /// All of it.
    by: f64,
    /// Of it, because of more or fewer calls.
    by_calls: f64,
    /// Of it, because each call took longer or shorter.
    by_each: f64,
}

impl From<Moved> for MovedFigures {
    fn from(Moved { by, by_calls, by_each }: Moved) -> Self {
        MovedFigures { by, by_calls, by_each }
    }
}

/// A statement in both periods.
#[derive(Serialize, ToSchema)]
pub struct StatementMoved {
    /// Number of the family.
    family_id: Id,
    /// Its text.
    text: String,
    /// What it took more.
    moved: MovedFigures,
    /// Calls of each second then and now.
    calls: ThenNow,
    /// Seconds that it took of each second then and now.
    time: ThenNow,
    /// Milliseconds of each call then; nothing where it was not called.
    then_each_ms: Option<f64>,
    /// Likewise now.
    now_each_ms: Option<f64>,
    /// What moved with it, nearest to the cause first; empty where its own figures do not tell.
    why: Vec<WhyFigures>,
    /// The lasting change of its time per call that began between the begin of then and the end of now, if any.
    change_began_at: Option<DateTime<Utc>>,
}

/// A figure then and now.
#[derive(Serialize, ToSchema)]
pub struct ThenNow {
    /// Then.
    then: f64,
    /// Now.
    now: f64,
}

/// One reason why a statement took more or less time.
#[derive(Serialize, ToSchema)]
pub struct WhyFigures {
    /// It in words.
    text: String,
    /// When, where it happened at a moment.
    at: Option<DateTime<Utc>>,
}

impl From<Why> for WhyFigures {
    fn from(why: Why) -> Self {
        WhyFigures { text: why.told(), at: why.at().map(moment) }
    }
}

/// A wait event in both periods.
#[derive(Serialize, ToSchema)]
pub struct EventMoved {
    /// Its name, by the server.
    name: String,
    /// Mean number of sessions waiting for it, then and now.
    load: ThenNow,
}

/// A table in both periods, by each second.
#[derive(Serialize, ToSchema)]
pub struct TableMoved {
    /// Its name with its schema.
    name: String,
    /// Rows read, by full reads and by index.
    read_rows: ThenNow,
    /// Rows that full reads went through.
    full_read_rows: ThenNow,
    /// Rows inserted, updated and deleted.
    changed_rows: ThenNow,
}

/// A figure of the server in both periods.
#[derive(Serialize, ToSchema)]
pub struct FigureThenAndNow {
    /// Name of the figure.
    figure: String,
    /// Its name for people.
    title: String,
    /// The object; empty for the server as a whole.
    object: String,
    /// What it is measured in.
    unit: UnitWord,
    /// Its means.
    mean: ThenNow,
    /// By how much it moved within what is usual for its hours: 1 is from the middle of its range to the end.
    apart: f64,
}

/// A setting that got another value.
#[derive(Serialize, ToSchema)]
pub struct SettingMoved {
    /// Its name.
    name: String,
    /// When the new value was first seen.
    at: DateTime<Utc>,
    /// The value before.
    before: Option<String>,
    /// The value since.
    after: Option<String>,
    /// Their unit.
    unit: Option<String>,
}

impl From<SettingChange> for SettingMoved {
    fn from(SettingChange { name, seen_at, old, new, unit }: SettingChange) -> Self {
        SettingMoved { name, at: moment(seen_at), before: old, after: new, unit }
    }
}

/// An alarm that was open in one of the periods.
#[derive(Serialize, ToSchema)]
pub struct AlarmThenAndNow {
    /// Its number.
    alarm_id: Id,
    /// What it is about.
    trouble: TroubleWord,
    /// In one sentence.
    text: String,
    /// When it was opened.
    opened_at: DateTime<Utc>,
    /// When it was closed; nothing while it is open.
    closed_at: Option<DateTime<Utc>>,
    /// Whether it was open in the earlier period.
    was_then: bool,
    /// Whether it was open in the later one.
    is_now: bool,
}

/// Two periods side by side.
#[utoipa::path(get, path = "/instances/{instance_id}/then-and-now", tag = "diagnose",
    params(("instance_id" = i32, Path), TwoPeriods), responses((status = 200, body = ThenAndNow)))]
pub async fn then_and_now(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<TwoPeriods>,
) -> Answer<ThenAndNow> {
    let (then, now) = query.windows()?;
    let instance = find(&app, instance_id).await?;
    let there = zone(&instance.settings.day_zone);
    let likeness = Likeness::of(then, now, |at| clock_of(there, at)).into();
    let (before, after) = tokio::try_join!(
        Period::gather(&app.store, instance_id, then, &[]),
        Period::gather(&app.store, instance_id, now, &[])
    )?;
    let whole = Window { from: then.from.min(now.from), to: then.to.max(now.to) };
    let (moved_most, families) = statements_moved(&app.store, instance_id, &before, &after, MOST_STATEMENTS).await?;
    let statements = moved_most.into_iter().map(statement).collect();
    let catalog = app.store.catalog(instance_id).await?;
    let alarms = app.store.alarms_of(instance_id, whole).await?.into_iter().filter_map(|row| {
        let open_in = |window: Window| {
            row.alarm.opened_at < window.to && row.alarm.closed_at.is_none_or(|closed| closed > window.from)
        };
        let (was_then, is_now) = (open_in(then), open_in(now));
        (was_then || is_now).then(|| AlarmThenAndNow {
            alarm_id: Id(row.alarm_id),
            trouble: Word(row.alarm.sign.trouble),
            text: row.alarm.sign.text.clone(),
            opened_at: moment(row.alarm.opened_at),
            closed_at: row.alarm.closed_at.map(moment),
            was_then,
            is_now,
        })
    });
    let alarms = alarms.collect();
    Ok(Json(ThenAndNow {
        likeness,
        moved: moved(&before.did_in_all(), &after.did_in_all()).into(),
        statements,
        families,
        events: events_moved(&before.events, &after.events),
        tables: catalog.map(|catalog| tables_moved(&catalog, &before, &after)).unwrap_or_default(),
        figures: figures(&app, &instance, then, now).await?,
        settings: app.store.setting_changes(instance_id, whole).await?.into_iter().map(SettingMoved::from).collect(),
        markers: app.store.markers(instance_id, whole).await?.into_iter().map(MarkerFigures::from).collect(),
        alarms,
        then: told(before, then),
        now: told(after, now),
    }))
}

fn told(period: Period, asked: Window) -> PeriodFigures {
    let sum = |of: fn(&StatementCounters) -> i64| {
        period.statements.values().map(of).sum::<i64>() as f64 / period.coverage.seconds.max(1e-9)
    };
    PeriodFigures {
        span: asked.into(),
        load: (&period.load).into(),
        time: sum(|counters| counters.exec_us) / 1e6,
        calls: sum(|counters| counters.calls),
        transactions: period.transactions(),
        coverage: CoverageFigures::new(period.coverage, period.detail),
    }
}

fn statement(one: StatementThenAndNow) -> StatementMoved {
    let StatementThenAndNow { family, text, moved, then, now, why, change_began_at } = one;
    StatementMoved {
        family_id: Id(family),
        text,
        moved: moved.into(),
        calls: ThenNow { then: then.calls(), now: now.calls() },
        time: ThenNow { then: then.time(), now: now.time() },
        then_each_ms: then.each().map(|seconds| seconds * 1e3),
        now_each_ms: now.each().map(|seconds| seconds * 1e3),
        why: why.into_iter().map(WhyFigures::from).collect(),
        change_began_at: change_began_at.map(moment),
    }
}

fn events_moved(before: &[BreakdownRow], after: &[BreakdownRow]) -> Vec<EventMoved> {
    let mean = |events: &[BreakdownRow], name: &str| {
        events.iter().find(|row| row.name == name).and_then(|row| row.load.total()).unwrap_or_default()
    };
    let names: BTreeSet<&str> = before.iter().chain(after).map(|row| row.name.as_str()).collect();
    let event = |name: &str| EventMoved {
        name: name.to_owned(),
        load: ThenNow { then: mean(before, name), now: mean(after, name) },
    };
    let mut events: Vec<EventMoved> = names.into_iter().filter(|name| !name.is_empty()).map(event).collect();
    by_most(&mut events, |event| event.load.now - event.load.then);
    events.truncate(MOST_EVENTS);
    events
}

fn tables_moved(catalog: &Catalog, before: &Period, after: &Period) -> Vec<TableMoved> {
    let of = |period: &Period, oid: u32, figure: fn(&TableCounters) -> i64| {
        let (tables, seconds) = &period.tables;
        tables.get(&oid).map_or(0.0, |counters| figure(counters) as f64 / seconds.max(1e-9))
    };
    let table = |oid: u32, name: String| {
        let both = |figure| ThenNow { then: of(before, oid, figure), now: of(after, oid, figure) };
        TableMoved {
            name,
            read_rows: both(|table| table.full_read_rows + table.index_read_rows),
            full_read_rows: both(|table| table.full_read_rows),
            changed_rows: both(|table| table.inserted_rows + table.updated_rows + table.deleted_rows),
        }
    };
    let named = catalog.tables.iter().map(|known| table(known.oid, format!("{}.{}", known.schema, known.name)));
    let moved = |table: &TableMoved| {
        (table.read_rows.now - table.read_rows.then).abs() + (table.changed_rows.now - table.changed_rows.then).abs()
    };
    let mut tables: Vec<TableMoved> = named.filter(|table| moved(table) > 0.0).collect();
    by_most(&mut tables, moved);
    tables.truncate(MOST_TABLES);
    tables
}

async fn figures(app: &App, instance: &Instance, then: Window, now: Window) -> Result<Vec<FigureThenAndNow>, Problem> {
    let bucket_seconds = app.intervals_of(instance).bucket.as_secs() as i64;
    let on = async |window| moved_on(app, instance, whole_buckets(window, bucket_seconds), bucket_seconds).await;
    let (before, after) = tokio::try_join!(on(then), on(now))?;
    let told = figures_moved(&before, &after).into_iter().take(MOST_FIGURES).map(|moved| FigureThenAndNow {
        figure: moved.figure.name(),
        title: moved.figure.title(),
        unit: Word(moved.figure.unit()),
        object: moved.object,
        mean: ThenNow { then: moved.then, now: moved.now },
        apart: moved.apart,
    });
    Ok(told.collect())
}

/// The periods around something that happened.
#[derive(Serialize, ToSchema)]
pub struct PeriodsAround {
    /// The same hours before it.
    then: Span,
    /// What follows it: a day, as far as there is one yet.
    now: Span,
}

/// The periods after and before a marker: a day from it, as far as it goes, and the same hours before.
#[utoipa::path(get, path = "/instances/{instance_id}/markers/{marker_id}/periods", tag = "diagnose",
    params(("instance_id" = i32, Path), ("marker_id" = String, Path)),
    responses((status = 200, body = PeriodsAround)))]
pub async fn periods_around(
    State(app): State<App>,
    _: SignedIn,
    Path((instance_id, marker_id)): Path<(i32, i64)>,
) -> Answer<PeriodsAround> {
    find(&app, instance_id).await?;
    let marker = app.store.marker(instance_id, marker_id).await?;
    let marker = marker.ok_or_else(|| Problem::not_found("marker_id", "marker", marker_id))?;
    let (then, now) = matched_periods(marker.at, AFTER_MARKER_SECONDS, now());
    Ok(Json(PeriodsAround { then: then.into(), now: now.into() }))
}
