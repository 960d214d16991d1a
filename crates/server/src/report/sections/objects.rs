//! The busiest tables and indexes, and space.

use std::collections::HashMap;

use hurnix_core::Window;
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::figure_series::{Seen, weighed};
use hurnix_core::findings::then_and_now::by_most;
use hurnix_core::readings::metric::Metric;
use hurnix_core::wording::{bytes, counted, number, seconds};
use hurnix_store::Result;

use crate::report::document::{Cell, Measure, ReportTable, column};
use crate::state::now;

use super::{Gathered, MOST, Made};

/// Before and after: figures that change slowly are taken from so long at each end, in seconds.
const END_SECONDS: f64 = 3_600.0;

pub(super) async fn tables(of: &Gathered<'_>) -> Result<Made> {
    let Some(catalog) = of.store.catalog(of.instance.instance_id).await? else {
        return Ok((vec!["The catalog was not read yet.".into()], Vec::new()));
    };
    let (sums, counted_seconds) = &of.now.tables;
    let mut busy: Vec<_> = catalog.tables.iter().filter_map(|table| Some((table, sums.get(&table.oid)?))).collect();
    by_most(&mut busy, |(_, sums)| {
        (sums.full_read_rows + sums.index_read_rows + sums.inserted_rows + sums.updated_rows + sums.deleted_rows) as f64
    });
    let rows = busy.iter().take(MOST).map(|(table, sums)| -> Vec<Cell> {
        let pages = sums.hit_pages + sums.read_pages;
        vec![
            format!("{}.{}", table.schema, table.name).into(),
            sums.full_reads.into(),
            sums.full_read_rows.into(),
            sums.index_reads.into(),
            sums.index_read_rows.into(),
            sums.inserted_rows.into(),
            sums.updated_rows.into(),
            sums.deleted_rows.into(),
            (pages > 0).then(|| sums.hit_pages as f64 / pages as f64).into(),
            (table.size_bytes as f64).into(),
        ]
    });
    let columns = vec![
        column("table", Measure::Text),
        column("full reads", Measure::Count),
        column("rows by full reads", Measure::Count),
        column("index reads", Measure::Count),
        column("rows by index", Measure::Count),
        column("inserted", Measure::Count),
        column("updated", Measure::Count),
        column("deleted", Measure::Count),
        column("from cache", Measure::Share),
        column("size", Measure::Bytes),
    ];
    let sentence = format!("Tables were counted over {} of database {}.", seconds(*counted_seconds), catalog.database);
    Ok((vec![sentence], vec![ReportTable::new("tables", "Busiest tables", columns).with(rows)]))
}

pub(super) async fn indexes(of: &Gathered<'_>) -> Result<Made> {
    let Some(catalog) = of.store.catalog(of.instance.instance_id).await? else {
        return Ok((vec!["The catalog was not read yet.".into()], Vec::new()));
    };
    let (sums, _) = &of.now.indexes;
    let mut busy: Vec<_> =
        catalog.indexes().filter_map(|(table, index)| Some((table, index, sums.get(&index.oid)?))).collect();
    by_most(&mut busy, |(.., sums)| sums.reads as f64);
    let unread = catalog.indexes().count() - busy.iter().filter(|(.., sums)| sums.reads > 0).count();
    let rows = busy.iter().take(MOST).map(|(table, index, sums)| -> Vec<Cell> {
        let keys: Vec<&str> = index.keys.iter().map(hurnix_core::readings::catalog::IndexKey::text).collect();
        vec![
            index.name.as_str().into(),
            format!("{}.{}", table.schema, table.name).into(),
            keys.join(", ").into(),
            sums.reads.into(),
            sums.read_entries.into(),
            sums.fetched_rows.into(),
            (index.size_bytes as f64).into(),
        ]
    });
    let columns = vec![
        column("index", Measure::Text),
        column("table", Measure::Text),
        column("keys", Measure::Code),
        column("reads", Measure::Count),
        column("entries read", Measure::Count),
        column("rows fetched", Measure::Count),
        column("size", Measure::Bytes),
    ];
    let sentence = format!(
        "{} of {} were not read in this period. That alone does not make one unused: see the advice book.",
        counted(unread, "index").replace("indexs", "indexes"),
        number(catalog.indexes().count() as f64)
    );
    Ok((vec![sentence], vec![ReportTable::new("indexes", "Busiest indexes", columns).with(rows)]))
}

/// Means of figures by object, over one end of the period.
async fn at_end(
    of: &Gathered<'_>,
    figures: &[ServerFigure],
    window: Window,
) -> Result<HashMap<(ServerFigure, String), f64>> {
    let cells = (window.seconds().max(60.0) as i64, hurnix_core::keeping::detail::Detail::Hour);
    let series = of.store.figure_series(of.instance.instance_id, figures, window, cells, now()).await?;
    let mean = |one: hurnix_core::findings::figure_series::FigureSeries| {
        Some(((one.figure, one.object), weighed(&one.buckets, Seen::mean)?))
    };
    Ok(series.into_iter().filter_map(mean).collect())
}

pub(super) async fn space(of: &Gathered<'_>) -> Result<Made> {
    let figures = [Metric::DatabaseSize, Metric::TablespaceSize, Metric::TableSize].map(ServerFigure::Metric);
    let length = END_SECONDS.min(of.span.seconds() / 2.0);
    let first = Window { from: of.span.from, to: of.span.from.plus_seconds(length) };
    let last = Window { from: of.span.to.plus_seconds(-length), to: of.span.to };
    let (begun, ended) = tokio::try_join!(at_end(of, &figures, first), at_end(of, &figures, last))?;
    let days = of.span.seconds() / 86_400.0;
    let mut rows: Vec<(f64, Vec<Cell>)> = Vec::new();
    let mut grown = 0.0;
    for ((figure, object), size) in &ended {
        let before = begun.get(&(*figure, object.clone()));
        let by = before.map(|before| size - before);
        if *figure == ServerFigure::Metric(Metric::DatabaseSize) {
            grown += by.unwrap_or_default();
        }
        let row = vec![
            figure.title().into(),
            object.as_str().into(),
            before.copied().into(),
            (*size).into(),
            by.into(),
            by.map(|by| by / days).into(),
        ];
        rows.push((by.unwrap_or_default(), row));
    }
    by_most(&mut rows, |(by, _)| *by);
    rows.truncate(2 * MOST);
    let columns = vec![
        column("figure", Measure::Text),
        column("of", Measure::Text),
        column("at the begin", Measure::Bytes),
        column("at the end", Measure::Bytes),
        column("grown by", Measure::Bytes),
        column("a day", Measure::Bytes),
    ];
    let sentence = match ended.is_empty() {
        true => "No sizes were read in this period.".to_owned(),
        false => format!("The databases grew by {} together.", bytes(grown)),
    };
    let rows = rows.into_iter().map(|(_, row)| row);
    Ok((vec![sentence], vec![ReportTable::new("space", "Sizes, those that grew most first", columns).with(rows)]))
}
