//! The simulated instances show what the file of truth says, through the readings that the collector makes.

use std::collections::HashMap;

use anyhow::{Context, Result};
use hurnix_core::readings::counters::DatabaseCounters;
use hurnix_core::readings::counters::IndexCounters;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::difference::{NoDifference, Snapshot, between};
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::measure_rates::rates;
use hurnix_core::readings::metric::Metric;
use hurnix_core::readings::server_log::{LogEntry, LogKind, LogPosition, ToldLine, entries};
use hurnix_core::readings::statement::StatementKey;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Timestamp, WaitKind};
use hurnix_demo::{KnownStory, Truth, fleet, midnight};
use hurnix_source::ReadCounters;
use hurnix_source::simulated::SimulatedSource;
use hurnix_source::{ReadProblem, Source};

/// Wednesday, 2026-11-25 12:00.
const END: Timestamp = Timestamp(1_795_608_000_000_000);
const HOUR: f64 = 3600.0;

fn open(label: &str) -> Result<SimulatedSource> {
    let (_, model) = fleet(END)?.into_iter().find(|(known, _)| *known == label).context("an instance of that label")?;
    Ok(SimulatedSource::stopped(model))
}

fn story(name: &str) -> Result<(KnownStory, SimulatedSource)> {
    let story = Truth::read()?.story(name)?.clone();
    let source = open(&story.instance)?;
    Ok((story, source))
}

/// Statement counters at a moment, with the texts told so far.
async fn statements(
    source: &mut SimulatedSource,
    at: Timestamp,
    texts: &mut HashMap<StatementKey, String>,
) -> Result<Snapshot<StatementKey, StatementCounters>> {
    source.move_to(at);
    let reading = source.counters(Figures::Statements).await?.context("statements are counted")?;
    texts.extend(reading.texts.iter().cloned().map(|text| (text.key, text.text)));
    Ok(reading.of::<StatementCounters>().unwrap().clone())
}

/// What statements whose text begins so cost within a window.
async fn cost(
    source: &mut SimulatedSource,
    texts: &mut HashMap<StatementKey, String>,
    from: Timestamp,
    hours: f64,
    start: &str,
) -> Result<StatementCounters> {
    let before = statements(source, from, texts).await?;
    let after = statements(source, from.plus_seconds(hours * HOUR), texts).await?;
    let difference = between(&before, &after, 1e9).map_err(|none| anyhow::anyhow!("{none}"))?;
    let rows = difference.rows.iter().filter(|row| texts.get(&row.key).is_some_and(|text| text.starts_with(start)));
    Ok(rows.fold(StatementCounters::default(), |sum, row| sum.plus(&row.by)))
}

/// What the server's log tells since a moment.
async fn log(source: &mut SimulatedSource, since: Timestamp) -> Result<Vec<LogEntry>> {
    let from = LogPosition { file: "simulated".into(), offset: since.0 };
    let lines = source.log(Some(&from)).await?.context("it has a log")?.lines;
    Ok(entries(lines, Some(source.log_wording())))
}

fn about(found: f64, expected: f64, tolerance: f64) {
    assert!((found / expected - 1.0).abs() < tolerance, "{found}, and should be about {expected}");
}

#[tokio::test]
async fn statements_cost_what_the_stories_say_before_and_after() -> Result<()> {
    let per_call = |cost: StatementCounters| cost.exec_us as f64 / cost.calls as f64 / 1000.0;
    for (name, start) in [("missing-index", "SELECT passage_leg_id"), ("plan-change", "SELECT tariff_id")] {
        let (story, mut source) = story(name)?;
        let mut texts = HashMap::new();
        let onset = story.began_at(END)?;
        about(
            per_call(cost(&mut source, &mut texts, onset.plus_seconds(-26.0 * HOUR), 25.9, start).await?),
            story.before,
            0.05,
        );
        about(per_call(cost(&mut source, &mut texts, onset, 25.0, start).await?), story.after, 0.05);
    }
    let (setting, mut source) = story("setting-change")?;
    let mut texts = HashMap::new();
    let onset = setting.began_at(END)?;
    let temp = |cost: StatementCounters| cost.temp_written_pages as f64 / cost.calls as f64;
    let week = 7.0 * SECONDS_PER_DAY;
    let report = "SELECT s.sailor_id";
    assert_eq!(temp(cost(&mut source, &mut texts, onset.plus_seconds(-week), 167.0, report).await?), setting.before);
    about(temp(cost(&mut source, &mut texts, onset, 167.0, report).await?), setting.after, 0.01);
    let work_mem = source.settings().await?.into_iter().find(|setting| setting.name == "work_mem");
    assert_eq!(work_mem.unwrap().value.as_deref(), Some("4096"));
    Ok(())
}

#[tokio::test]
async fn power_and_processors_rise_with_the_missing_index() -> Result<()> {
    let (story, mut source) = story("missing-index")?;
    let onset = story.began_at(END)?;
    let mut means = Vec::new();
    // The same hours of the day before and of the day itself.
    for start in [onset.plus_seconds(-23.0 * HOUR), onset.plus_seconds(HOUR)] {
        source.move_to(start);
        let first = source.measures(Figures::Host).await?.unwrap();
        source.move_to(start.plus_seconds(2.0 * HOUR));
        let second = source.measures(Figures::Host).await?.unwrap();
        let used: f64 = rates(&first.counted, &second.counted, 1e9)
            .iter()
            .filter(|rate| rate.metric == Metric::CpuUsed)
            .map(|rate| rate.value)
            .sum();
        let watts = second.measures.iter().find(|measure| measure.metric == Metric::Power).unwrap().value;
        means.push((used, watts));
    }
    assert!(means[1].0 > means[0].0 + 1.0 && means[1].1 > means[0].1 + 30.0, "{means:?}");
    Ok(())
}

#[tokio::test]
async fn the_hold_up_has_its_holder_and_its_line() -> Result<()> {
    let (story, mut source) = story("hold-up")?;
    let (onset, ended) = (story.began_at(END)?, story.ended_at(END)?.unwrap());
    let waiting = async |source: &mut SimulatedSource, at: Timestamp| -> Result<Vec<_>> {
        source.move_to(at);
        let sample = source.activity().await?;
        let held = sample.active.iter().filter(|session| session.awaited.is_some()).cloned().collect::<Vec<_>>();
        let holders: Vec<i32> = sample
            .active
            .iter()
            .filter(|session| session.program == "gate desk")
            .map(|session| session.process)
            .collect();
        for session in &held {
            let lock = session.awaited.as_ref().unwrap();
            assert_eq!((lock.object.as_str(), session.wait_kind), (story.object.as_str(), Some(WaitKind::Lock)));
            // Directly, or behind the one who waits for the holder.
            let first = held.first().unwrap();
            assert!(session.blocked_by == holders || session.blocked_by == [first.process]);
        }
        Ok(held)
    };
    assert!(waiting(&mut source, onset.plus_seconds(-30.0)).await?.is_empty());
    let line = waiting(&mut source, ended.plus_seconds(-10.0)).await?;
    assert_eq!(line.len() as f64, story.after);
    let longest = line.iter().filter_map(|session| session.statement_started_at).min().unwrap();
    assert!(ended.seconds_since(longest) > 0.9 * 60.0 * story.minutes.unwrap());
    assert!(waiting(&mut source, ended.plus_seconds(30.0)).await?.is_empty());
    Ok(())
}

#[tokio::test]
async fn deadlocks_and_the_giant_search_are_counted() -> Result<()> {
    let (deadlocks, mut source) = story("deadlocks")?;
    source.move_to(deadlocks.began_at(END)?.plus_seconds(-60.0));
    let before = source.read::<DatabaseCounters>().await?.unwrap().rows[0].1;
    source.move_to(deadlocks.ended_at(END)?.unwrap());
    let after = source.read::<DatabaseCounters>().await?.unwrap().rows[0].1;
    assert_eq!((after.deadlocks - before.deadlocks) as f64, deadlocks.after);
    let told = log(&mut source, deadlocks.began_at(END)?.plus_seconds(-60.0)).await?;
    let told: Vec<&LogEntry> = told.iter().filter(|entry| entry.kind == LogKind::Deadlock).collect();
    assert_eq!(told.len() as f64, deadlocks.after);
    assert!(told.iter().all(|entry| entry.line.detail.matches(": update ").count() == 2), "{told:?}");

    let (giant, mut source) = story("giant-search")?;
    let (onset, ended) = (giant.began_at(END)?, giant.ended_at(END)?.unwrap());
    source.move_to(onset.plus_seconds(-60.0));
    let before = source.read::<DatabaseCounters>().await?.unwrap().rows[0].1;
    source.move_to(onset.plus_seconds(600.0));
    let busy = source.activity().await?;
    assert!(busy.active.iter().any(|session| session.wait_kind == Some(WaitKind::TempSpace)));
    source.move_to(ended.plus_seconds(120.0));
    let after = source.read::<DatabaseCounters>().await?.unwrap().rows[0].1;
    about((after.temp_bytes - before.temp_bytes) as f64 / 1_073_741_824.0, giant.after, 0.01);
    let told = log(&mut source, onset).await?;
    let spilled: f64 =
        told.iter().filter(|entry| entry.kind == LogKind::TempFile).filter_map(|entry| entry.value).sum();
    about(spilled / 1_073_741_824.0, giant.after, 0.01);
    Ok(())
}

#[tokio::test]
async fn connections_lag_and_transaction_numbers_go_as_told() -> Result<()> {
    let (connecting, mut source) = story("connecting")?;
    let onset = connecting.began_at(END)?;
    for (from, expected) in [(onset.plus_seconds(-HOUR), connecting.before), (onset, connecting.after)] {
        source.move_to(from);
        let before = source.read::<DatabaseCounters>().await?.unwrap().rows[0].1.sessions;
        source.move_to(from.plus_seconds(HOUR));
        about(
            (source.read::<DatabaseCounters>().await?.unwrap().rows[0].1.sessions - before) as f64 / HOUR,
            expected,
            0.05,
        );
    }

    let (lag, mut source) = story("replica-lag")?;
    let peak = midnight(lag.began_at(END)?).plus_seconds(18.0 * HOUR);
    for (days, expected) in [(-1.0, lag.before), (0.0, lag.after)] {
        let mut sum = 0.0;
        for minute in 0..60 {
            source.move_to(peak.plus_seconds(days * SECONDS_PER_DAY + f64::from(minute) * 60.0));
            let reading = source.measures(Figures::Replication).await?.unwrap();
            sum += reading.measures.iter().find(|measure| measure.metric == Metric::ReplayLag).unwrap().value / 60.0;
        }
        about(sum, expected, 0.1);
    }

    let (ids, mut source) = story("transaction-ids")?;
    let age = async |source: &mut SimulatedSource, at: Timestamp| -> Result<f64> {
        source.move_to(at);
        let reading = source.measures(Figures::Space).await?.unwrap();
        Ok(reading.measures.iter().find(|measure| measure.metric == Metric::TransactionAge).unwrap().value)
    };
    let onset = ids.began_at(END)?;
    let young = age(&mut source, onset.plus_seconds(HOUR)).await?;
    let old = age(&mut source, END).await?;
    about((old - young) / END.seconds_since(onset.plus_seconds(HOUR)), ids.after, 0.01);
    assert!(old > 600e6, "{old}");
    source
        .measures(Figures::Standing)
        .await?
        .unwrap()
        .measures
        .iter()
        .find(|measure| measure.metric == Metric::OldestPrepared)
        .context("it is seen")?;
    Ok(())
}

#[tokio::test]
async fn space_runs_out_and_bloat_grows_as_told() -> Result<()> {
    let (growth, mut source) = story("slow-growth")?;
    let free = async |source: &mut SimulatedSource, at: Timestamp| -> Result<f64> {
        source.move_to(at);
        let reading = source.measures(Figures::Host).await?.unwrap();
        Ok(reading.measures.iter().find(|measure| measure.metric == Metric::VolumeFree).unwrap().value)
    };
    let earlier = free(&mut source, END.plus_seconds(-4.0 * SECONDS_PER_DAY)).await?;
    let now = free(&mut source, END).await?;
    about(now / ((earlier - now) / 4.0), growth.after, 0.03);

    let (bloat, mut source) = story("bloat")?;
    let dead_for_each = async |source: &mut SimulatedSource, at: Timestamp| -> Result<f64> {
        source.move_to(at);
        let reading = source.measures(Figures::Space).await?.unwrap();
        let of = |metric| {
            let found = reading
                .measures
                .iter()
                .find(|measure| measure.metric == metric && measure.object == "public.vehicle_slot");
            found.unwrap().value
        };
        Ok(of(Metric::DeadRows) / of(Metric::LiveRows))
    };
    assert!(dead_for_each(&mut source, bloat.began_at(END)?).await? <= bloat.before);
    let ended = bloat.ended_at(END)?.unwrap();
    assert!(dead_for_each(&mut source, ended.plus_seconds(-60.0)).await? > bloat.after);
    assert!(dead_for_each(&mut source, ended.plus_seconds(6.0 * HOUR)).await? <= bloat.before, "cleaned up afterwards");
    Ok(())
}

#[tokio::test]
async fn indexes_serve_nothing_but_for_the_one_of_the_month_end() -> Result<()> {
    let (unused, mut source) = story("unused-indexes")?;
    source.move_to(END);
    let catalog = source.catalog().await?;
    let table = catalog.table(None, &unused.object).context("the table")?;
    let read: HashMap<u32, i64> = source
        .read::<IndexCounters>()
        .await?
        .unwrap()
        .rows
        .into_iter()
        .map(|(oid, counters)| (oid, counters.reads))
        .collect();
    let unread: Vec<&str> =
        table.indexes.iter().filter(|index| read[&index.oid] == 0).map(|index| index.name.as_str()).collect();
    // The three weeks before 25 November hold the end of no month.
    assert_eq!(unread, ["duty_vessel", "duty_remark", "duty_sailor_start_old", "duty_settlement"]);
    source.move_to(END.plus_seconds(7.0 * SECONDS_PER_DAY));
    let read: HashMap<u32, i64> = source
        .read::<IndexCounters>()
        .await?
        .unwrap()
        .rows
        .into_iter()
        .map(|(oid, counters)| (oid, counters.reads))
        .collect();
    let settlement = table.indexes.iter().find(|index| index.name == "duty_settlement").unwrap();
    assert!(read[&settlement.oid] > 0, "the end of November has passed");
    Ok(())
}

#[tokio::test]
async fn restart_reset_and_gap_leave_no_false_difference() -> Result<()> {
    let mut texts = HashMap::new();
    let (restart, mut source) = story("restart")?;
    let (onset, ended) = (restart.began_at(END)?, restart.ended_at(END)?.unwrap());
    let before = statements(&mut source, onset.plus_seconds(-1.0), &mut texts).await?;
    source.move_to(onset.plus_seconds(30.0));
    assert!(matches!(source.activity().await, Err(ReadProblem::Lost(_))));
    let after = statements(&mut source, ended, &mut texts).await?;
    assert_eq!(between(&before, &after, 1e9), Err(NoDifference::Restarted));

    let (reset, mut source) = story("reset")?;
    let onset = reset.began_at(END)?;
    let before = statements(&mut source, onset.plus_seconds(-30.0), &mut texts).await?;
    let after = statements(&mut source, onset.plus_seconds(30.0), &mut texts).await?;
    assert_eq!(between(&before, &after, 1e9), Err(NoDifference::Reset));
    let calls = |snapshot: &Snapshot<_, StatementCounters>| {
        snapshot.rows.iter().map(|(_, counters)| counters.calls).sum::<i64>()
    };
    assert!(calls(&after) < calls(&before) / 1000, "counted anew");
    Ok(())
}

#[tokio::test]
async fn the_flood_is_one_family_of_many_texts() -> Result<()> {
    let (flood, mut source) = story("literal-flood")?;
    let mut texts = HashMap::new();
    statements(&mut source, END, &mut texts).await?;
    let of_flood: Vec<&String> = texts.values().filter(|text| text.contains(&flood.object)).collect();
    assert_eq!(of_flood.len() as f64, flood.after);
    let families: std::collections::HashSet<String> =
        of_flood.iter().map(|text| hurnix_core::readings::family::fold(text).text).collect();
    assert_eq!(families.len(), 1, "{families:?}");
    Ok(())
}

#[tokio::test]
async fn quiet_weeks_are_alike() -> Result<()> {
    let (_, mut source) = story("quiet-weeks")?;
    let mut texts = HashMap::new();
    let began = source.model().began_at;
    let mut weeks = Vec::new();
    for week in 0..2 {
        let from = began.plus_seconds(f64::from(week) * 7.0 * SECONDS_PER_DAY);
        weeks.push(cost(&mut source, &mut texts, from, 168.0, "INSERT INTO gate_scan").await?);
    }
    about(weeks[1].calls as f64, weeks[0].calls as f64, 0.03);
    about(weeks[1].exec_us as f64 / weeks[1].calls as f64, weeks[0].exec_us as f64 / weeks[0].calls as f64, 0.03);
    Ok(())
}

#[tokio::test]
async fn a_log_read_in_steps_is_the_log_read_at_once() -> Result<()> {
    let mut lines_of_all = 0;
    for (label, model) in fleet(END)? {
        let began_at = model.began_at;
        let mut at_once = SimulatedSource::stopped(model.clone());
        at_once.move_to(END);
        let start = LogPosition { file: "simulated".into(), offset: began_at.0 };
        let whole = at_once.log(Some(&start)).await?.context("it has a log")?;
        let mut source = SimulatedSource::stopped(model);
        let (mut position, mut lines) = (Some(start), Vec::new());
        for step in 0..=40 {
            // Steps of no particular length, the last of them at the end.
            let share = f64::from(step * step) / 1600.0;
            source.move_to(began_at.plus_seconds(END.seconds_since(began_at) * share));
            match source.log(position.as_ref()).await {
                Ok(Some(reading)) => {
                    lines.extend(reading.lines);
                    position = reading.position;
                }
                // Away just then: the next reading tells of it.
                Err(ReadProblem::Lost(_)) => {}
                other => anyhow::bail!("{label}: {other:?}"),
            }
        }
        let place = |told: &ToldLine| (told.line.at, told.line.session.clone(), told.line.number);
        lines.sort_by_key(place);
        let mut expected = whole.lines;
        expected.sort_by_key(place);
        assert_eq!(lines, expected, "{label}");
        lines_of_all += lines.len();
    }
    assert!(lines_of_all > 60, "stories are told in logs: {lines_of_all}");
    Ok(())
}
