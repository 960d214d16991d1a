//! What was counted between two snapshots that somebody named, to the unit.

use hurnix_core::findings::then_and_now::by_most;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::counters_read::Kept;
use hurnix_core::readings::named_reading::Between;
use hurnix_core::wording::{counted, seconds};
use hurnix_store::Result;
use serde::de::DeserializeOwned;

use crate::report::document::{Cell, Measure, ReportTable, column};

use super::{Gathered, Made};

/// Objects that are told, those that did most.
const MOST_TOLD: usize = 50;

/// What objects of a kind did, or why that is not known.
async fn read<C>(of: &Gathered<'_>) -> Result<std::result::Result<Between<C>, String>>
where
    C: Kept + DeserializeOwned,
    C::Key: DeserializeOwned,
{
    let [first, second] = of.snapshots.unwrap_or_default();
    let (first, second) = tokio::try_join!(of.store.named_reading::<C>(first), of.store.named_reading::<C>(second))?;
    Ok(match (first, second) {
        (Some(first), Some(second)) => first
            .until(&second)
            .map_err(|none| format!("Nothing can be told of the time between the snapshots ({none}).")),
        _ => Err("One of the snapshots holds nothing of this kind.".to_owned()),
    })
}

/// How sure the figures are, and over how long they were counted.
fn sentences<C>(between: &Between<C>, one: &str) -> Vec<String> {
    let mut sentences =
        vec![format!("{} did something within {}.", counted(between.rows.len(), one), seconds(between.seconds()))];
    if between.is_lower_bound {
        sentences.push("The server threw some out of its list meanwhile: figures are at least these.".into());
    }
    sentences
}

pub(super) async fn statements(of: &Gathered<'_>) -> Result<Made> {
    let between = match read::<StatementCounters>(of).await? {
        Ok(between) => between,
        Err(none) => return Ok((vec![none], Vec::new())),
    };
    let sentences = sentences(&between, "statement");
    let all_us = between.rows.values().map(|sum| sum.exec_us).sum::<i64>().max(1) as f64;
    let mut rows: Vec<(String, StatementCounters)> = between.rows.into_iter().collect();
    by_most(&mut rows, |(_, sum)| sum.exec_us as f64);
    let row = |(text, sum): (String, StatementCounters)| -> Vec<Cell> {
        vec![
            sum.calls.into(),
            (sum.exec_us as f64 / 1e6).into(),
            (sum.exec_us as f64 / all_us).into(),
            (sum.calls > 0).then(|| sum.exec_us as f64 / 1e3 / sum.calls as f64).into(),
            sum.rows.into(),
            (sum.hit_pages + sum.read_pages).into(),
            sum.read_pages.into(),
            (sum.temp_read_pages + sum.temp_written_pages).into(),
            (sum.log_bytes as f64).into(),
            text.into(),
        ]
    };
    let columns = vec![
        column("calls", Measure::Count),
        column("time", Measure::Seconds),
        column("share", Measure::Share),
        column("mean", Measure::Milliseconds),
        column("rows", Measure::Count),
        column("pages", Measure::Count),
        column("reads", Measure::Count),
        column("temp", Measure::Count),
        column("WAL", Measure::Bytes),
        column("statement", Measure::Code),
    ];
    let table = ReportTable::new("statements", "Statements by time", columns);
    Ok((sentences, vec![table.with(rows.into_iter().take(MOST_TOLD).map(row))]))
}

/// All counters of a kind, by object; those whose figures add up to most first.
pub(super) async fn all_of<C>(of: &Gathered<'_>) -> Result<Made>
where
    C: Kept + DeserializeOwned,
    C::Key: DeserializeOwned,
{
    let between = match read::<C>(of).await? {
        Ok(between) => between,
        Err(none) => return Ok((vec![none], Vec::new())),
    };
    let sentences = sentences(&between, "object");
    let mut rows: Vec<(String, C)> = between.rows.into_iter().collect();
    by_most(&mut rows, |(_, sum)| sum.values().iter().sum::<i64>() as f64);
    let row = |(name, sum): (String, C)| -> Vec<Cell> {
        let figures = C::NAMES.iter().zip(sum.values()).map(|(figure, value)| match unit(figure) {
            Measure::Seconds => Cell::from(value as f64 / 1e6),
            _ => Cell::from(value),
        });
        std::iter::once(Cell::from(name)).chain(figures).collect()
    };
    let figures = C::NAMES.iter().map(|figure| column(&called(figure), unit(figure)));
    let columns = std::iter::once(column("name", Measure::Code)).chain(figures).collect();
    let table = ReportTable::new(&format!("{}s", C::STEM), "Those that did most first", columns);
    Ok((sentences, vec![table.with(rows.into_iter().take(MOST_TOLD).map(row))]))
}

/// Counters of time end in `_us`, those of bytes in `_bytes`.
fn unit(figure: &str) -> Measure {
    match figure {
        figure if figure.ends_with("_us") => Measure::Seconds,
        figure if figure.ends_with("_bytes") => Measure::Bytes,
        _ => Measure::Count,
    }
}

fn called(figure: &str) -> String {
    figure.trim_end_matches("_us").trim_end_matches("_bytes").replace('_', " ")
}
