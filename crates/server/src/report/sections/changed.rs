//! What changed against the period before.

use hurnix_core::Named;
use hurnix_core::findings::then_and_now::{Likeness, moved};
use hurnix_core::wording::{counted, number, percent, seconds, statement};
use hurnix_store::{LiteralFloodRow, Result};

use crate::period::{Period, StatementThenAndNow, statements_moved};
use crate::report::document::{Cell, Measure, ReportTable, column};
use crate::zone::{clock_of, moment, zone};

use super::{Gathered, MOST, Made};

/// Statements that are told in a sentence.
const MOST_IN_SENTENCES: usize = 3;
/// Lasting changes that are looked through.
const MOST_CHANGES: i64 = 1_000;

/// Which two periods, what was observed of them, and what makes them unlike.
pub(super) fn periods(of: &Gathered<'_>) -> Made {
    let told = |name: &str, period: &Period| {
        let span = |at| moment(at).format("%Y-%m-%d %H:%MZ");
        format!(
            "{name}: {} to {}, {} of it observed.",
            span(period.window.from),
            span(period.window.to),
            percent(period.coverage.seconds / period.window.seconds())
        )
    };
    let there = zone(&of.instance.settings.day_zone);
    let mut sentences = vec![told("Now", &of.now), told("Then", &of.before)];
    sentences.extend(Likeness::of(of.then, of.span, |at| clock_of(there, at)).cautions());
    (sentences, Vec::new())
}

fn signed(value: f64) -> String {
    let sign = if value > 0.0 { "+" } else { "" };
    format!("{sign}{}", number(value))
}

/// One statement that moved, as a sentence.
pub(super) fn moved_sentence(one: &StatementThenAndNow) -> String {
    let reason = |why: &hurnix_core::findings::then_and_now::Why| match why.at() {
        Some(at) => format!("{} since {}", why.told(), moment(at).format("%Y-%m-%d %H:%MZ")),
        None => why.told(),
    };
    let each = match (one.then.each(), one.now.each()) {
        (Some(then), Some(now)) => format!(" ({} → {} a call)", seconds(then), seconds(now)),
        _ => String::new(),
    };
    let reasons: Vec<String> = one.why.iter().map(reason).collect();
    let why = if reasons.is_empty() { "its own figures do not tell why".to_owned() } else { reasons.join("; ") };
    let side = if one.moved.by < 0.0 { "less" } else { "more" };
    format!("Statement `{}` takes {} s/s {side}{each}: {why}.", statement(&one.text), number(one.moved.by.abs()))
}

/// A literal flood, as a sentence.
fn flood_sentence(flood: &LiteralFloodRow) -> String {
    format!(
        "Statement `{}` stands {} times in the server's list of statements, with other literals each time: {} of the list, since {} at the latest.",
        statement(&flood.text),
        flood.texts,
        percent(flood.texts as f64 / flood.entries.max(1) as f64),
        moment(flood.since).format("%Y-%m-%d %H:%MZ")
    )
}

pub(super) async fn changed(of: &Gathered<'_>) -> Result<Made> {
    let (store, id) = (of.store, of.instance.instance_id);
    let (now_all, then_all) = (of.now.did_in_all(), of.before.did_in_all());
    let by = moved(&then_all, &now_all);
    let mut sentences = Vec::new();
    if of.now.coverage.periods == 0 {
        return Ok((vec!["Nothing is known of this period: no statements were counted in it.".into()], Vec::new()));
    }
    if of.before.coverage.periods == 0 {
        sentences.push(format!(
            "Statements took {} s/s. Nothing is known of the period before, so that nothing can be said of what changed.",
            number(now_all.time())
        ));
    } else {
        let ratio = now_all.time() / then_all.time().max(1e-9);
        sentences.push(format!(
            "Statements took {} s/s, {} times as much as in the period before ({} s/s): {} by how often they were called, {} by how long each call took.",
            number(now_all.time()),
            number(ratio),
            number(then_all.time()),
            signed(by.by_calls),
            signed(by.by_each)
        ));
    }
    let (most, _) = statements_moved(of.store, id, &of.before, &of.now, MOST).await?;
    if of.before.coverage.periods > 0 {
        let told = most.iter().filter(|one| one.moved.matters(&then_all, &now_all)).take(MOST_IN_SENTENCES);
        sentences.extend(told.map(moved_sentence));
    }
    let rows = most.iter().filter(|one| one.moved.by != 0.0).map(|one| {
        let why: Vec<String> = one.why.iter().map(|why| why.told()).collect();
        vec![
            one.moved.by.into(),
            one.moved.by_calls.into(),
            one.moved.by_each.into(),
            one.then.each().map(|seconds| seconds * 1e3).into(),
            one.now.each().map(|seconds| seconds * 1e3).into(),
            why.join("; ").into(),
            one.text.as_str().into(),
        ]
    });
    let columns = vec![
        column("time, s/s", Measure::Count),
        column("by calls", Measure::Count),
        column("by each call", Measure::Count),
        column("call then", Measure::Milliseconds),
        column("call now", Measure::Milliseconds),
        column("why", Measure::Text),
        column("statement", Measure::Code),
    ];
    let mut tables = vec![ReportTable::new("statements_moved", "Statements that moved most", columns).with(rows)];
    let changes = store.changes(id, of.span.from, None, MOST_CHANGES).await?;
    let inside = changes.iter().filter(|row| row.kept.change.onset < of.span.to).map(|row| {
        let change = &row.kept.change;
        vec![
            change.onset.into(),
            row.subject.measured.name().replace('_', " ").into(),
            change.before.typical.into(),
            change.after.typical.into(),
            change.ratio.value.into(),
            if row.text.is_empty() { "the server".into() } else { Cell::from(row.text.as_str()) },
        ]
    });
    let columns = vec![
        column("since", Measure::Time),
        column("what", Measure::Text),
        column("before", Measure::Count),
        column("after", Measure::Count),
        column("factor", Measure::Times),
        column("of", Measure::Code),
    ];
    let changes = ReportTable::new("lasting_changes", "Lasting changes that began in it", columns).with(inside);
    if !changes.rows.is_empty() {
        sentences.push(format!("{} began in this period.", counted(changes.rows.len(), "lasting change")));
    }
    tables.push(changes);
    sentences.extend(of.store.literal_floods(id, of.span).await?.iter().map(flood_sentence));
    Ok((sentences, tables))
}
