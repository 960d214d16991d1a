//! Many instances: each in a line, and what changed on any of them.

use std::collections::HashMap;

use hurnix_core::Named;
use hurnix_core::findings::then_and_now::{Moved, by_most, moved};
use hurnix_core::wording::{counted, number, percent};
use hurnix_store::{ChangeRow, Result};

use crate::hold_ups::hold_ups_of;
use crate::period::statements_moved;
use crate::report::document::{Cell, Measure, ReportTable, column};

use super::changed::moved_sentence;
use super::{Gathered, Made};

/// Instances whose move is told in a sentence.
const MOST_IN_SENTENCES: usize = 3;
/// Lasting changes of an instance that are looked through.
const MOST_CHANGES: i64 = 1_000;
/// Lasting changes that are told, the weightiest.
const MOST_TOLD: usize = 40;
/// A period of which less was observed is remarked upon.
const WELL_OBSERVED: f64 = 0.95;

fn gained(of: &Gathered<'_>) -> Moved {
    match of.before.coverage.periods {
        0 => Moved::default(),
        _ => moved(&of.before.did_in_all(), &of.now.did_in_all()),
    }
}

/// Those whose statements gained or lost most time first; those of which nothing is known before last.
fn in_order<'a, 'b>(all: &'a [Gathered<'b>]) -> Vec<(&'a Gathered<'b>, Moved)> {
    let mut all: Vec<_> = all.iter().map(|of| (of, gained(of))).collect();
    by_most(&mut all, |(_, moved)| moved.by);
    all
}

pub(super) async fn each(all: &[Gathered<'_>]) -> Result<Made> {
    let mut rows = Vec::new();
    let mut barely_known = Vec::new();
    for (of, moved) in in_order(all) {
        let (now, then) = (of.now.did_in_all(), of.before.did_in_all());
        let lost: f64 = hold_ups_of(of.store, of.instance.instance_id, of.span)
            .await?
            .episodes
            .iter()
            .map(|one| one.lost_seconds)
            .sum();
        let observed = of.now.coverage.seconds / of.now.window.seconds();
        if observed < WELL_OBSERVED {
            barely_known.push(format!("{} ({})", of.instance.label, percent(observed)));
        }
        let is_known_before = of.before.coverage.periods > 0;
        rows.push(vec![
            of.instance.label.as_str().into(),
            of.instance.group.as_deref().into(),
            now.time().into(),
            is_known_before.then(|| then.time()).into(),
            is_known_before.then_some(moved.by_calls).into(),
            is_known_before.then_some(moved.by_each).into(),
            now.load.total().into(),
            now.load.waiting().into(),
            lost.into(),
            observed.into(),
        ]);
    }
    let columns = vec![
        column("instance", Measure::Text),
        column("group", Measure::Text),
        column("time, s/s", Measure::Count),
        column("before, s/s", Measure::Count),
        column("by calls", Measure::Count),
        column("by each call", Measure::Count),
        column("busy sessions", Measure::Count),
        column("waiting", Measure::Count),
        column("lost in hold-ups", Measure::Seconds),
        column("observed", Measure::Share),
    ];
    let mut sentences =
        vec![format!("{}, those whose statements gained or lost most time first.", counted(rows.len(), "instance"))];
    if !barely_known.is_empty() {
        sentences.push(format!("Statements were not counted throughout the period on {}.", barely_known.join(", ")));
    }
    Ok((sentences, vec![ReportTable::new("instances", "Instances", columns).with(rows)]))
}

pub(super) async fn changes(all: &[Gathered<'_>]) -> Result<Made> {
    let mut sentences = Vec::new();
    for (of, by) in in_order(all).into_iter().take(MOST_IN_SENTENCES) {
        let (now, then) = (of.now.did_in_all(), of.before.did_in_all());
        if of.before.coverage.periods == 0 || !by.matters(&then, &now) {
            continue;
        }
        let side = if by.by < 0.0 { "less" } else { "more" };
        let amount = format!("{}: statements take {} s/s {side}.", of.instance.label, number(by.by.abs()));
        let (most, _) = statements_moved(of.store, of.instance.instance_id, &of.before, &of.now, 1).await?;
        let first = most.first().filter(|one| one.moved.matters(&then, &now)).map(moved_sentence);
        sentences.push(format!("{amount} {}", first.unwrap_or_default()).trim_end().to_owned());
    }
    let mut found: Vec<(&Gathered<'_>, ChangeRow)> = Vec::new();
    for of in all {
        let changes = of.store.changes(of.instance.instance_id, of.span.from, None, MOST_CHANGES).await?;
        found.extend(changes.into_iter().filter(|row| row.kept.change.onset < of.span.to).map(|row| (of, row)));
    }
    let began = found.len();
    by_most(&mut found, |(_, row)| row.kept.change.weight(row.subject.measured));
    let mut by_instance: HashMap<&str, i64> = HashMap::new();
    found.iter().for_each(|(of, _)| *by_instance.entry(&of.instance.label).or_default() += 1);
    let mut by_instance: Vec<(&str, i64)> = by_instance.into_iter().collect();
    by_instance.sort_by_key(|(label, count)| (std::cmp::Reverse(*count), *label));
    sentences.push(match began {
        0 => "No lasting change began in this period.".to_owned(),
        _ => {
            let by = by_instance.iter().map(|(label, count)| format!("{label} {count}")).collect::<Vec<_>>().join(", ");
            format!("{} began in this period: {by}.", counted(began, "lasting change"))
        }
    });
    let rows = found.iter().take(MOST_TOLD).map(|(of, row)| -> Vec<Cell> {
        let change = &row.kept.change;
        vec![
            of.instance.label.as_str().into(),
            change.onset.into(),
            change.until.into(),
            row.subject.measured.name().replace('_', " ").into(),
            change.ratio.value.into(),
            if row.text.is_empty() { "the server".into() } else { Cell::from(row.text.as_str()) },
        ]
    });
    let columns = vec![
        column("instance", Measure::Text),
        column("since", Measure::Time),
        column("until", Measure::Time),
        column("what", Measure::Text),
        column("factor", Measure::Times),
        column("of", Measure::Code),
    ];
    Ok((sentences, vec![ReportTable::new("changes", "Lasting changes, the weightiest first", columns).with(rows)]))
}
