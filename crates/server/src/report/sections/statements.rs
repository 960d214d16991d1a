//! Statements by several orders.

use hurnix_core::Named;
use hurnix_core::findings::then_and_now::by_most;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::wording::{counted, seconds};
use hurnix_store::{Result, StatementOrder};

use crate::report::document::{Cell, Measure, ReportTable, column};

use super::{Gathered, MOST, Made};

/// An order of statements: its name in the table, its title, and what each is worth in it.
type StatementsBy = (StatementOrder, &'static str, fn(&StatementCounters, Option<f64>) -> f64);

pub(super) async fn statements(of: &Gathered<'_>) -> Result<Made> {
    let orders: [StatementsBy; 6] = [
        (StatementOrder::Time, "By time", |sums, _| sums.exec_us as f64),
        (StatementOrder::Waiting, "By sessions waiting", |_, waiting| waiting.unwrap_or_default()),
        (StatementOrder::Reads, "By pages read", |sums, _| sums.read_pages as f64),
        (StatementOrder::Temp, "By temp pages", |sums, _| (sums.temp_read_pages + sums.temp_written_pages) as f64),
        (StatementOrder::Wal, "By WAL", |sums, _| sums.log_bytes as f64),
        (StatementOrder::Calls, "By calls", |sums, _| sums.calls as f64),
    ];
    let waiting = |family: &i64| of.now.loads.get(family).and_then(hurnix_core::readings::load::Load::waiting);
    let mut picked: Vec<(StatementOrder, &str, Vec<i64>)> = Vec::new();
    for (order, title, worth) in orders {
        let mut families: Vec<(i64, f64)> =
            of.now.statements.iter().map(|(family, sums)| (*family, worth(sums, waiting(family)))).collect();
        families.retain(|(_, worth)| *worth > 0.0);
        by_most(&mut families, |(_, worth)| *worth);
        families.truncate(MOST);
        picked.push((order, title, families.into_iter().map(|(family, _)| family).collect()));
    }
    let mut numbers: Vec<i64> = picked.iter().flat_map(|(.., families)| families.iter().copied()).collect();
    numbers.sort_unstable();
    numbers.dedup();
    let texts = of.store.family_texts(of.instance.instance_id, &numbers).await?;
    let all_us = of.now.did_in_all().counters.exec_us.max(1) as f64;
    let row = |family: &i64| -> Vec<Cell> {
        let did = of.now.did(*family);
        let sums = did.counters;
        vec![
            sums.calls.into(),
            (sums.exec_us as f64 / 1e6).into(),
            (sums.exec_us as f64 / all_us).into(),
            did.each().map(|seconds| seconds * 1e3).into(),
            waiting(family).into(),
            sums.rows.into(),
            sums.read_pages.into(),
            (sums.temp_read_pages + sums.temp_written_pages).into(),
            (sums.log_bytes as f64).into(),
            texts.get(family).map(String::as_str).into(),
        ]
    };
    let columns = || {
        vec![
            column("calls", Measure::Count),
            column("time", Measure::Seconds),
            column("share", Measure::Share),
            column("mean", Measure::Milliseconds),
            column("waiting", Measure::Count),
            column("rows", Measure::Count),
            column("reads", Measure::Count),
            column("temp", Measure::Count),
            column("WAL", Measure::Bytes),
            column("statement", Measure::Code),
        ]
    };
    let tables = picked.iter().map(|(order, title, families)| {
        ReportTable::new(&format!("statements_by_{}", order.name()), title, columns()).with(families.iter().map(row))
    });
    let ran = of.now.statements.len();
    let sentence = format!("{} ran, {} in all.", counted(ran, "statement"), seconds(all_us / 1e6));
    Ok((vec![sentence], tables.collect()))
}
