//! What the server worked, and what sessions waited for.

use std::collections::HashMap;

use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::wording::{counted, number, percent, seconds};
use hurnix_core::{Named, WaitKind};
use hurnix_store::Result;

use crate::report::document::{Cell, Measure, ReportTable, column};

use crate::wait_lengths::{NotFollowed, waits_seen};

use super::{Gathered, MOST, Made};

pub(super) fn load(of: &Gathered<'_>) -> Made {
    type Figure = fn(&StatementCounters) -> i64;
    let figures: [(&str, Figure, f64, Measure); 10] = [
        ("time in statements", |sums| sums.exec_us, 1e-6, Measure::Seconds),
        ("time planning", |sums| sums.plan_us, 1e-6, Measure::Seconds),
        ("calls", |sums| sums.calls, 1.0, Measure::Count),
        ("rows", |sums| sums.rows, 1.0, Measure::Count),
        ("pages touched", |sums| sums.hit_pages + sums.read_pages, 1.0, Measure::Count),
        ("pages read", |sums| sums.read_pages, 1.0, Measure::Count),
        ("pages changed", |sums| sums.dirtied_pages, 1.0, Measure::Count),
        ("temp pages read", |sums| sums.temp_read_pages, 1.0, Measure::Count),
        ("temp pages written", |sums| sums.temp_written_pages, 1.0, Measure::Count),
        ("WAL", |sums| sums.log_bytes, 1.0, Measure::Bytes),
    ];
    let (now, then) = of.did();
    let transactions = of.now.transactions();
    let rows = figures.into_iter().map(|(name, figure, factor, unit)| {
        let (all, before) = (figure(&now.counters) as f64 * factor, figure(&then.counters) as f64 * factor);
        let each = |all: f64, by: f64| if by > 0.0 { Cell::from(all / by) } else { Cell::Nothing(()) };
        let written = |cell: Cell| Cell::from(cell.written(unit));
        let per_transaction = transactions.map_or(0.0, |each| each * now.seconds);
        vec![
            name.into(),
            all.into(),
            written(Cell::from(all)),
            written(each(all, now.seconds)),
            written(each(all, per_transaction)),
            written(each(before, then.seconds)),
        ]
    });
    let columns = vec![
        column("figure", Measure::Text),
        column("exactly", Measure::Count),
        column("in all", Measure::Text),
        column("each second", Measure::Text),
        column("each transaction", Measure::Text),
        column("each second before", Measure::Text),
    ];
    let title = if of.family.is_some() { "Work of the statement" } else { "Work of all statements" };
    let hit = |did: &hurnix_core::findings::then_and_now::Did| {
        let pages = did.counters.hit_pages + did.counters.read_pages;
        if pages > 0 { percent(did.counters.hit_pages as f64 / pages as f64) } else { "–".into() }
    };
    let mut sentences = vec![format!(
        "{} of the pages that statements touched came from the server's cache (before: {}).",
        hit(&now),
        hit(&then)
    )];
    if let Some(per_second) = transactions.filter(|_| of.family.is_none()) {
        let before =
            of.before.transactions().map_or_else(|| "not counted".into(), |value| format!("{}/s", number(value)));
        sentences.push(format!("Transactions: {}/s (before: {before}).", number(per_second)));
    }
    (sentences, vec![ReportTable::new("load", title, columns).with(rows)])
}

pub(super) async fn waits(of: &Gathered<'_>) -> Result<Made> {
    let (now, then) = (&of.now.load, &of.before.load);
    let Some(total) = now.total() else {
        return Ok((vec!["Nobody looked at the sessions in this period.".into()], Vec::new()));
    };
    let kinds =
        WaitKind::all().filter(|kind| now.mean(*kind).unwrap_or_default() + then.mean(*kind).unwrap_or_default() > 0.0);
    let rows = kinds.map(|kind| {
        let mean = now.mean(kind).unwrap_or_default();
        let share = if total > 0.0 { Cell::from(mean / total) } else { Cell::Nothing(()) };
        vec![kind.name().replace('_', " ").into(), mean.into(), share, then.mean(kind).into()]
    });
    let columns = vec![
        column("wait kind", Measure::Text),
        column("mean sessions", Measure::Count),
        column("share", Measure::Share),
        column("mean before", Measure::Count),
    ];
    let kinds = ReportTable::new("wait_kinds", "Busy sessions by wait kind", columns).with(rows);
    let before: HashMap<&str, f64> =
        of.before.events.iter().map(|row| (row.name.as_str(), row.load.total().unwrap_or_default())).collect();
    let events = of.now.events.iter().filter(|row| !row.name.is_empty()).take(MOST).map(|row| {
        vec![
            row.name.as_str().into(),
            row.load.total().into(),
            row.share.into(),
            before.get(row.name.as_str()).copied().unwrap_or_default().into(),
        ]
    });
    let columns = vec![
        column("wait event", Measure::Text),
        column("mean sessions", Measure::Count),
        column("share", Measure::Share),
        column("mean before", Measure::Count),
    ];
    let events = ReportTable::new("wait_events", "Wait events", columns).with(events);
    let waiting = now.waiting().unwrap_or_default();
    let sentence = format!(
        "{} sessions were busy on average, {} of them waiting (before: {} and {}).",
        number(total),
        number(waiting),
        then.total().map_or_else(|| "–".into(), number),
        then.waiting().map_or_else(|| "–".into(), number)
    );
    let (lengths, table) = lengths(of).await?;
    Ok((vec![sentence, lengths], [vec![kinds, events], table].concat()))
}

/// How many waits of which length the looks saw.
async fn lengths(of: &Gathered<'_>) -> Result<(String, Vec<ReportTable>)> {
    let seen = match waits_seen(of.store, of.instance.instance_id, of.span, &of.only()).await? {
        Ok(seen) if seen.looks > 0 => seen,
        Ok(_) => return Ok(("Looks of this period are not kept one by one any more.".into(), Vec::new())),
        Err(NotFollowed::TooLong) => {
            return Ok(("How long single waits took is told of periods of up to six hours.".into(), Vec::new()));
        }
        Err(NotFollowed::TooMany) => {
            return Ok(("Too many sessions waited in this period to follow each.".into(), Vec::new()));
        }
    };
    let sentence = format!(
        "{} were seen, by looks {} apart.",
        counted(seen.lengths.iter().map(|one| one.waits).sum(), "wait"),
        seconds(seen.look_seconds)
    );
    let rows = seen
        .lengths
        .iter()
        .map(|one| -> Vec<Cell> { vec![one.from_seconds.into(), (one.waits as i64).into(), one.lost_seconds.into()] });
    let columns =
        vec![column("at least", Measure::Seconds), column("waits", Measure::Count), column("lost", Measure::Seconds)];
    Ok((sentence, vec![ReportTable::new("wait_lengths", "Waits by their length", columns).with(rows)]))
}
