//! Gathers what is known of an instance for a first look.

use hurnix_core::instance::collection_state::CollectionState;
use std::collections::BTreeMap;

use chrono_tz::Tz;
use hurnix_core::changes::advice::AdviceState;
use hurnix_core::findings::first_look::{
    Checkpoints, CostlyFamily, Day, Evidence, FiguresAvailability, Grown, History, Lately, LookedAt, NewestValue,
    OpenAdvice, SettingInForce, Spill, Trend,
};
use hurnix_core::findings::lasting_change::Measured;
use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::{Counters, DatabaseCounters};
use hurnix_core::readings::load::Load;
use hurnix_core::readings::metric::Metric;
use hurnix_core::readings::server_log::LogKind;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Timestamp, Window};
use hurnix_source::ConnectProblem;
use hurnix_store::{AdviceFilter, Instance, LogFilter, NewestMeasure, Result, SettingRow, StatementQuery, TallyRow};

use crate::analyst::followed_since;
use crate::availability::availabilities;
use crate::index_use::index_use;
use crate::newest::newest;
use crate::state::{Collected, last_seconds, now};
use crate::zone::{day_of, zone};

/// What happened lately, where somebody asks, is what happened within so many seconds.
pub const LATELY_SECONDS: f64 = SECONDS_PER_DAY;
/// Days whose readings are told one by one.
const TOLD_DAYS: f64 = 7.0;
/// What happened is told of so many days.
const MARKER_DAYS: f64 = 30.0;
/// Families looked at, the costliest.
const MOST_FAMILIES: i64 = 200;
/// Pieces of advice and spilling statements looked at.
const MOST_FOUND: i64 = 20;
/// Changes of a kind looked at, the newest.
const MOST_CHANGES: i64 = 200;
/// What costs time where it becomes more.
const GROWN: [Measured; 4] = [Measured::TimePerCall, Measured::Calls, Measured::Load, Measured::Waits];
/// A look at the sessions says who is there only for so many seconds.
const NEWEST_LOOK_SECONDS: f64 = 60.0;
/// Looks at the sessions that may be late before nothing is known of them.
const SILENT_LOOKS: u32 = 10;
/// What grows and has an end, or makes something grow that has one, with the days that it is judged by: there may
/// be thousands of tables.
const GROWING: [(Metric, f64); 3] = [(Metric::VolumeFree, 60.0), (Metric::VolumeSize, 60.0), (Metric::TableSize, 7.0)];

/// What is enough to see who holds up whom, and whether anything is read.
pub async fn quick_evidence(app: &Collected, instance: &Instance) -> Result<Evidence> {
    let at = now();
    let lately = Lately { sessions: sessions(app, instance).await?, ..Lately::default() };
    let measures = measures(app, instance).await?;
    let history = History { problem: problem(instance), is_silent: is_silent(app, instance, at), ..History::default() };
    Ok(Evidence { at, history, measures, lately, ..Evidence::default() })
}

/// Everything that is known of an instance and that a first look goes through; what happened lately is what happened
/// within so many seconds.
pub async fn evidence(app: &Collected, instance: &Instance, lately_seconds: f64) -> Result<Evidence> {
    let (id, at) = (instance.instance_id, now());
    let store = &app.store;
    let mut markers = store.markers(id, days_back(at, MARKER_DAYS)).await?;
    // However long ago.
    for kind in [MarkerKind::Backup, MarkerKind::RestoreTest] {
        markers.extend(store.newest_marker(id, kind).await?);
    }
    let settings = store.settings(id).await?;
    Ok(Evidence {
        at,
        account: instance.account_name.clone(),
        database: instance.database_name.clone(),
        history: history(app, instance, at).await?,
        availabilities: availabilities(app, instance, at)
            .await?
            .into_iter()
            .map(|of| FiguresAvailability {
                figures: of.figures,
                availability: of.availability,
                obstacles: of.obstacles.into_iter().map(|limit| (limit.reason, limit.remedy)).collect(),
            })
            .collect(),
        markers: markers.into_iter().map(|row| Marker { at: row.at, kind: row.kind, text: row.text }).collect(),
        settings: settings.into_iter().map(in_force).collect(),
        catalog: store.catalog(id).await?,
        inventory: store.inventory(id).await?,
        measures: measures(app, instance).await?,
        tables: store.last_read::<hurnix_core::readings::counters::TableCounters, _>(id).await?.snapshot(),
        index_use: index_use(app, instance).await?,
        indexes: store.last_read::<hurnix_core::readings::counters::IndexCounters, _>(id).await?.snapshot(),
        databases: store.last_read::<DatabaseCounters, _>(id).await?.snapshot(),
        checkpoints: checkpoints(app, id, at).await?,
        lately: lately(app, instance, at, lately_seconds).await?,
        grown: grown(app, instance).await?,
        advice: advice(app, id).await?,
        trends: trends(app, instance, at).await?,
    })
}

async fn checkpoints(app: &Collected, instance_id: i32, at: Timestamp) -> Result<Checkpoints> {
    let pieces =
        app.store.pieces(instance_id, &[RetentionGroup::Databases], days_back(at, 1.0), Detail::TenMinutes, at).await?;
    let (counted, seconds) = app.store.checkpoint_sums(instance_id, &pieces).await?;
    Ok(Checkpoints { counted, seconds })
}

fn days_back(at: Timestamp, days: f64) -> Window {
    Window { from: at.plus_seconds(-days * SECONDS_PER_DAY), to: at.plus_seconds(1.0) }
}

async fn history(app: &Collected, instance: &Instance, at: Timestamp) -> Result<History> {
    let retained = app.store.retained(instance.instance_id).await?;
    let tallies = app.store.tallies(instance.instance_id, days_back(at, TOLD_DAYS)).await?;
    let kept = app.retention.days(RetentionGroup::Statements);
    Ok(History {
        first: retained.map(|(first, _)| first),
        last: retained.map(|(_, last)| last),
        log_first: app.store.oldest_log_entry(instance.instance_id).await?,
        problem: problem(instance),
        is_silent: is_silent(app, instance, at),
        days: days(&tallies, zone(&instance.settings.day_zone)),
        kept_days: [kept.fine, kept.ten_minutes, kept.hour],
    })
}

/// How reading went on each day of a place, all kinds of figures together. An hour belongs to the day in which it
/// begins.
fn days(tallies: &[TallyRow], zone: Tz) -> Vec<Day> {
    let mut days: BTreeMap<i64, (Day, i64)> = BTreeMap::new();
    for row in tallies {
        let Some((at, hours_in_all)) = day_of(zone, row.hour) else { continue };
        let (day, last_hour) = days.entry(at.0).or_insert((Day { at, hours_in_all, ..Day::default() }, i64::MIN));
        day.read += row.tally.read;
        day.refused += row.tally.refused;
        day.missed += row.tally.missed;
        day.dropped += row.tally.dropped;
        // Rows are in order of time.
        if row.tally.read > 0 && *last_hour != row.hour.0 {
            day.hours += 1;
            *last_hour = row.hour.0;
        }
    }
    days.into_values().map(|(day, _)| day).collect()
}

fn in_force(setting: SettingRow) -> SettingInForce {
    let SettingRow { name, value, unit, source, pending_restart } = setting;
    SettingInForce { name, value, unit, source, pending_restart }
}

async fn measures(app: &Collected, instance: &Instance) -> Result<Vec<NewestValue>> {
    let measured =
        |newest: NewestMeasure| NewestValue { metric: newest.metric, object: newest.object, value: newest.value };
    Ok(newest(app, instance).await?.into_iter().map(measured).collect())
}

/// Why nothing is read just now; nothing while it is.
fn problem(instance: &Instance) -> Option<String> {
    (instance.collection == CollectionState::Failing).then(|| {
        let told = instance.problem.clone().and_then(|told| serde_json::from_value::<ConnectProblem>(told).ok());
        told.map_or_else(|| "The connection fails.".to_owned(), |problem| problem.message)
    })
}

/// Whether nothing arrived for several looks at the sessions.
fn is_silent(app: &Collected, instance: &Instance, at: Timestamp) -> bool {
    let longest = (app.intervals_of(instance).activity * SILENT_LOOKS).as_secs_f64().max(NEWEST_LOOK_SECONDS);
    instance.last_success_at.is_none_or(|last| at.seconds_since(last) > longest)
}

/// The sessions that were not idle when last looked at, a moment ago.
async fn sessions(app: &Collected, instance: &Instance) -> Result<Vec<LookedAt>> {
    let seen = app.store.newest_look(instance.instance_id, last_seconds(NEWEST_LOOK_SECONDS)).await?;
    Ok(seen
        .into_iter()
        .map(|seen| LookedAt {
            process: seen.process,
            started_at: seen.process_started_at,
            wait_kind: seen.wait_kind,
            account: seen.account,
            program: seen.program,
            database: seen.database,
            transaction_started_at: seen.transaction_started_at,
            blocked_by: seen.blocked_by,
        })
        .collect())
}

async fn lately(app: &Collected, instance: &Instance, at: Timestamp, seconds: f64) -> Result<Lately> {
    let (id, store) = (instance.instance_id, &app.store);
    let window = Window { from: at.plus_seconds(-seconds), to: at.plus_seconds(1.0) };
    let of = |group: RetentionGroup| async move { store.pieces(id, &[group], window, Detail::TenMinutes, at).await };
    let mut load = Load::default();
    for cell in store.load(id, &of(RetentionGroup::Activity).await?, seconds as i64, &[]).await? {
        load.join(&cell.load);
    }
    let pieces = of(RetentionGroup::Statements).await?;
    let query = StatementQuery::costliest(MOST_FAMILIES);
    let (families, totals) = store.statements(id, &pieces, &query).await?;
    let sums = store.database_sums(id, &of(RetentionGroup::Databases).await?).await?;
    let log_is_read = store.last_reads(id).await?.contains_key("log");
    let counts = store.log_counts(id, window, &LogFilter::default()).await?;
    let lines = counts.into_iter().map(|count| (count.kind, count.times, count.value.unwrap_or_default()));
    let known_from = store.retained(id).await?.map_or(window.from, |(first, _)| first.max(window.from));
    let known = Window { from: known_from, to: window.to };
    // What was written before anybody looked is held against nothing that was counted since.
    let spills = store.log_families(id, known, LogKind::TempFile, MOST_FOUND).await?;
    let log_from = store.oldest_log_entry(id).await?.map_or(known_from, |first| first.max(window.from));
    Ok(Lately {
        window: known,
        load,
        sessions: sessions(app, instance).await?,
        statements: families
            .into_iter()
            .map(|row| CostlyFamily { family_id: row.family_id, text: row.text, counters: row.counters })
            .collect(),
        all_statements: totals.counters,
        statement_seconds: store.coverage(id, &pieces).await?.seconds,
        databases: sums.databases.values().fold(DatabaseCounters::default(), |sum, more| sum.plus(more)),
        database_seconds: sums.seconds,
        spills: spills.into_iter().map(|(family_id, text, bytes)| Spill { family_id, text, bytes }).collect(),
        log_seconds: at.seconds_since(log_from),
        log: log_is_read.then(|| lines.collect()),
    })
}

/// What became more and still is, whether somebody settled it or not.
async fn grown(app: &Collected, instance: &Instance) -> Result<Vec<Grown>> {
    let mut grown = Vec::new();
    for measured in GROWN {
        let changes =
            app.store.changes(instance.instance_id, followed_since(app), Some(measured), MOST_CHANGES).await?;
        grown.extend(changes.into_iter().filter(|row| row.kept.change.is_more()).map(|row| Grown {
            is_settled: !row.asks(),
            subject: row.subject,
            text: row.text,
            change: row.kept.change,
        }));
    }
    Ok(grown)
}

async fn advice(app: &Collected, instance_id: i32) -> Result<Vec<OpenAdvice>> {
    let filter = AdviceFilter { state: Some(AdviceState::Open), by_age: false, offset: 0, limit: MOST_FOUND };
    let (pages, _) = app.store.advice_list(instance_id, &filter).await?;
    Ok(pages
        .into_iter()
        .map(|page| OpenAdvice {
            advice_id: page.advice_id,
            kind: page.advice.kind(),
            subject: page.subject,
            families: page.advice.told().families(),
            given_at: page.updated_at,
            saved_seconds_per_day: page.advice.told().prediction().saved_seconds_per_day,
        })
        .collect())
}

async fn trends(app: &Collected, instance: &Instance, at: Timestamp) -> Result<Vec<Trend>> {
    let (instance_id, zone) = (instance.instance_id, instance.settings.day_zone.name());
    let mut trends = Vec::new();
    for (metric, days) in GROWING {
        let window = days_back(at, days);
        let pieces = app.store.pieces(instance_id, &[RetentionGroup::Measures], window, Detail::Hour, at).await?;
        let days = app.store.metric_days(instance_id, metric, &pieces, zone).await?;
        trends.extend(days.into_iter().map(|(object, values)| Trend { metric, object, values }));
    }
    Ok(trends)
}
