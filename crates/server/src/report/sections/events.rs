//! What happened: hold-ups, log, alarms, advice, and who was affected.

use std::collections::HashMap;

use hurnix_core::changes::advice::AdviceState;
use hurnix_core::findings::hold_up::{Episode, lost_by};
use hurnix_core::findings::then_and_now::by_most;
use hurnix_core::wording::{counted, number, seconds};
use hurnix_core::{Named, Timestamp};
use hurnix_store::{AdviceFilter, AdviceRow, AlarmRow, Dimension, LogFilter, Result};

use crate::hold_ups::hold_ups_of;
use crate::report::document::{Cell, Measure, ReportTable, column};
use crate::state::now;

use super::{Gathered, MOST, Made, table_of_all};

pub(super) async fn hold_ups(of: &Gathered<'_>) -> Result<Made> {
    let (store, id) = (of.store, of.instance.instance_id);
    let mut episodes = hold_ups_of(of.store, id, of.span).await?.episodes;
    let lost: f64 = episodes.iter().map(|episode| episode.lost_seconds).sum();
    let deadlocks: i64 = of.now.databases.databases.values().map(|sums| sums.deadlocks).sum();
    let sentence = format!(
        "Sessions lost {} in {}; the server broke off {}.",
        seconds(lost),
        counted(episodes.len(), "hold-up"),
        counted(deadlocks as usize, "deadlock")
    );
    let by_table = lost_by(&episodes, |_, wait| wait.lock.as_ref().map(|lock| lock.object.clone()).unwrap_or_default());
    let table_rows = by_table.iter().take(MOST).map(|lost| -> Vec<Cell> {
        let table = if lost.key.is_empty() { "no table, or of another database" } else { &lost.key };
        vec![lost.seconds.into(), (lost.waits as i64).into(), table.into()]
    });
    let columns =
        vec![column("lost", Measure::Seconds), column("waits", Measure::Count), column("table", Measure::Text)];
    let by_table = ReportTable::new("lost_by_table", "Time lost by table waited for", columns).with(table_rows);
    episodes.retain(|episode| !episode.is_brief());
    by_most(&mut episodes, |episode| episode.lost_seconds);
    episodes.truncate(MOST);
    let families: Vec<i64> = episodes.iter().filter_map(|episode| episode.family).collect();
    let texts = store.family_texts(id, &families).await?;
    let row = |episode: &Episode| -> Vec<Cell> {
        vec![
            episode.from.into(),
            episode.lost_seconds.into(),
            (episode.most_waiting as i64).into(),
            episode.seconds.into(),
            episode.idle_share().into(),
            episode.who.account.as_str().into(),
            episode.who.program.as_str().into(),
            episode.family.and_then(|family| texts.get(&family)).map(String::as_str).into(),
        ]
    };
    let columns = vec![
        column("since", Measure::Time),
        column("lost", Measure::Seconds),
        column("most waiting", Measure::Count),
        column("lasted", Measure::Seconds),
        column("idle in transaction", Measure::Share),
        column("account of the holder", Measure::Text),
        column("its program", Measure::Text),
        column("its statement", Measure::Code),
    ];
    let worst = ReportTable::new("hold_ups", "Worst hold-ups", columns).with(episodes.iter().map(row));
    Ok((vec![sentence], vec![worst, by_table]))
}

pub(super) async fn log(of: &Gathered<'_>) -> Result<Made> {
    let mut counts = of.store.log_counts(of.instance.instance_id, of.span, &LogFilter::default()).await?;
    by_most(&mut counts, |count| count.times as f64);
    let rows = counts
        .iter()
        .map(|count| -> Vec<Cell> { vec![count.kind.name().replace('_', " ").into(), count.times.into()] });
    let columns = vec![column("kind", Measure::Text), column("lines", Measure::Count)];
    let lines: i64 = counts.iter().map(|count| count.times).sum();
    let sentence = format!("{} of note were written.", counted(lines as usize, "line"));
    Ok((vec![sentence], vec![ReportTable::new("log", "Lines by kind", columns).with(rows)]))
}

pub(super) async fn alarms(all: &[Gathered<'_>]) -> Result<Made> {
    let mut rows = Vec::new();
    for of in all {
        let alarms = of.store.alarms_of(of.instance.instance_id, of.span).await?;
        rows.extend(alarms.into_iter().map(|row| (of.instance.label.clone(), alarm_row(&row))));
    }
    let sentence = match rows.len() {
        0 => "No alarm was open in this period.".to_owned(),
        count => format!("{} open in this period.", counted(count, "alarm")),
    };
    let columns = vec![
        column("opened", Measure::Time),
        column("closed", Measure::Time),
        column("state", Measure::Text),
        column("alarm", Measure::Text),
        column("what to do", Measure::Text),
    ];
    Ok((vec![sentence], vec![table_of_all(all, ReportTable::new("alarms", "Alarms", columns), rows)]))
}

fn alarm_row(AlarmRow { alarm, .. }: &AlarmRow) -> Vec<Cell> {
    vec![
        alarm.opened_at.into(),
        alarm.closed_at.into(),
        alarm.sign.verdict.name().into(),
        alarm.sign.text.as_str().into(),
        alarm.sign.step.as_str().into(),
    ]
}

pub(super) async fn advice(all: &[Gathered<'_>]) -> Result<Made> {
    let filter = AdviceFilter { limit: 200, ..AdviceFilter::default() };
    let mut rows = Vec::new();
    for of in all {
        let is_of_period = |at: Option<Timestamp>| at.is_some_and(|at| at >= of.span.from && at < of.span.to);
        let is_about = |page: &AdviceRow| match &of.family {
            Some(family) => page.advice.told().families().contains(&family.family_id),
            None => true,
        };
        let (pages, _) = of.store.advice_list(of.instance.instance_id, &filter).await?;
        let told = pages
            .iter()
            .filter(|page| (page.state == AdviceState::Open || is_of_period(page.applied_at)) && is_about(page));
        rows.extend(told.map(|page| (of.instance.label.clone(), advice_row(page))));
    }
    let columns = vec![
        column("kind", Measure::Text),
        column("about", Measure::Code),
        column("state", Measure::Text),
        column("predicted a day", Measure::Seconds),
        column("measured", Measure::Text),
        column("applied", Measure::Time),
    ];
    let sentence = match rows.len() {
        0 => "No recommendation is open, and none was applied in this period.".to_owned(),
        count => format!("{} open or applied in this period.", counted(count, "recommendation")),
    };
    Ok((vec![sentence], vec![table_of_all(all, ReportTable::new("advice", "Advice", columns), rows)]))
}

fn advice_row(page: &AdviceRow) -> Vec<Cell> {
    vec![
        page.advice.kind().name().replace('_', " ").into(),
        page.subject.as_str().into(),
        page.state.name().replace('_', " ").into(),
        page.advice.told().prediction().saved_seconds_per_day.into(),
        page.effect.as_ref().map(|effect| effect.verdict.name().replace('_', " ")).into(),
        page.applied_at.into(),
    ]
}

pub(super) async fn affected(of: &Gathered<'_>) -> Result<Made> {
    let (store, id) = (of.store, of.instance.instance_id);
    let coarsest = hurnix_core::keeping::detail::Detail::for_sums(of.span);
    let group = [hurnix_core::keeping::retention::RetentionGroup::Activity];
    let pieces = store.pieces(id, &group, of.span, coarsest, now()).await?;
    let before = store.pieces(id, &group, of.then, coarsest, now()).await?;
    let only = of.only();
    let mut made = Vec::new();
    let mut first = None;
    let parts = [
        (Dimension::Account, "account"),
        (Dimension::Program, "program"),
        (Dimension::Client, "client"),
        (Dimension::Database, "database"),
    ];
    for (dimension, name) in parts {
        let now = store.breakdown(id, &pieces, dimension, &only, 200).await?.parts;
        let then = store.breakdown(id, &before, dimension, &only, 200).await?.parts;
        let was: HashMap<Option<i64>, f64> =
            then.iter().map(|part| (part.part, part.load.waiting().unwrap_or_default())).collect();
        let mut waited: Vec<(String, f64, f64)> = now
            .into_iter()
            .map(|part| {
                let waiting = part.load.waiting().unwrap_or_default();
                (part.name, waiting, was.get(&part.part).copied().unwrap_or_default())
            })
            .collect();
        by_most(&mut waited, |(_, now, then)| now - then);
        waited.truncate(MOST);
        first = first.or_else(|| waited.first().filter(|(_, now, then)| now > then).cloned());
        let rows =
            waited.into_iter().map(|(name, now, then)| -> Vec<Cell> { vec![name.into(), now.into(), then.into()] });
        let columns = vec![
            column(name, Measure::Text),
            column("waiting", Measure::Count),
            column("waiting before", Measure::Count),
        ];
        made.push(ReportTable::new(&format!("affected_by_{name}"), &format!("By {name}"), columns).with(rows));
    }
    let sentence = match first {
        None => "Nobody waited more than before.".to_owned(),
        Some((account, now, then)) => {
            format!("Account {account} waited most: {} sessions on average, {} before.", number(now), number(then))
        }
    };
    Ok((vec![sentence], made))
}
