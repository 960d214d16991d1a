//! The sections that reports consist of. Each is made from what was gathered of two periods, and from lists that pages
//! show as well.

use std::collections::HashMap;

use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::figure_series::{Seen, weighed};
use hurnix_core::findings::hold_up::{Episode, lost_by};
use hurnix_core::findings::then_and_now::{by_most, moved};
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::metric::Metric;
use hurnix_core::wording::{bytes, counted, number, percent, seconds, statement};
use hurnix_core::{Named, Timestamp, WaitKind, Window};
use hurnix_store::{AdviceFilter, Dimension, Instance, LogFilter, OnlyPart, Result, StatementOrder, Store};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::hold_ups::hold_ups_of;
use crate::period::{Period, StatementThenAndNow, statements_moved};
use crate::report::document::{Cell, Measure, ReportTable, Section, column};
use crate::report::timeline;
use crate::state::now;
use crate::zone::moment;

/// Rows of a table that are told.
const MOST: usize = 15;
/// Statements that are told in a sentence, and lie at least so high above the whole of what moved.
const MOST_IN_SENTENCES: usize = 3;
const LEAST_SHARE: f64 = 0.05;
/// Before and after: figures that change slowly are taken from so long at each end, in seconds.
const END_SECONDS: f64 = 3_600.0;
/// Lasting changes that are looked through.
const MOST_CHANGES: i64 = 1_000;

/// What sections are made of.
pub struct Gathered<'a> {
    /// The repository.
    pub store: &'a Store,
    /// The instance.
    pub instance: &'a Instance,
    /// The period of the report.
    pub span: Window,
    /// The period that it is held against.
    pub then: Window,
    /// What the instance did in the first.
    pub now: &'a Period,
    /// And in the second.
    pub before: &'a Period,
}

/// A kind of section.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum SectionKind {
    /// What changed against the period before.
    Changed,
    /// Work for each second and each transaction.
    Load,
    /// What sessions waited for.
    Waits,
    /// Statements by several orders.
    Statements,
    /// The busiest tables.
    Tables,
    /// The busiest indexes.
    Indexes,
    /// Settings that changed, and those that differ from the server's own.
    Settings,
    /// Sizes and how they grew.
    Space,
    /// Hold-ups.
    HoldUps,
    /// What the server wrote to its log.
    Log,
    /// Alarms.
    Alarms,
    /// Advice, open and carried out.
    Advice,
    /// What happened, in order of time.
    Timeline,
    /// Who was affected.
    Affected,
}

impl SectionKind {
    /// Its title.
    pub fn title(self) -> &'static str {
        match self {
            SectionKind::Changed => "What changed",
            SectionKind::Load => "Load",
            SectionKind::Waits => "Waits",
            SectionKind::Statements => "Statements",
            SectionKind::Tables => "Tables",
            SectionKind::Indexes => "Indexes",
            SectionKind::Settings => "Settings",
            SectionKind::Space => "Space and growth",
            SectionKind::HoldUps => "Hold-ups and deadlocks",
            SectionKind::Log => "Server log",
            SectionKind::Alarms => "Alarms",
            SectionKind::Advice => "Advice",
            SectionKind::Timeline => "What happened",
            SectionKind::Affected => "Who was affected",
        }
    }

    /// Makes it.
    pub async fn make(self, gathered: &Gathered<'_>) -> Result<Section> {
        let (sentences, tables) = match self {
            SectionKind::Changed => changed(gathered).await?,
            SectionKind::Load => load(gathered),
            SectionKind::Waits => waits(gathered),
            SectionKind::Statements => statements(gathered).await?,
            SectionKind::Tables => tables(gathered).await?,
            SectionKind::Indexes => indexes(gathered).await?,
            SectionKind::Settings => settings(gathered).await?,
            SectionKind::Space => space(gathered).await?,
            SectionKind::HoldUps => hold_ups(gathered).await?,
            SectionKind::Log => log(gathered).await?,
            SectionKind::Alarms => alarms(gathered).await?,
            SectionKind::Advice => advice(gathered).await?,
            SectionKind::Timeline => timeline::happened(gathered).await?,
            SectionKind::Affected => affected(gathered).await?,
        };
        Ok(Section { key: self.name().to_owned(), title: self.title().to_owned(), sentences, tables })
    }
}

/// What a section says and shows.
pub type Made = (Vec<String>, Vec<ReportTable>);

fn signed(value: f64) -> String {
    let sign = if value > 0.0 { "+" } else { "" };
    format!("{sign}{}", number(value))
}

/// One statement that moved, as a sentence.
fn moved_sentence(one: &StatementThenAndNow) -> String {
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

async fn changed(of: &Gathered<'_>) -> Result<Made> {
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
    let (most, _) = statements_moved(of.store, id, of.before, of.now, MOST).await?;
    if of.before.coverage.periods > 0 {
        let whole: f64 = then_all.time().max(now_all.time());
        let told = most.iter().filter(|one| one.moved.by.abs() >= LEAST_SHARE * whole).take(MOST_IN_SENTENCES);
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
    Ok((sentences, tables))
}

fn load(of: &Gathered<'_>) -> Made {
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
    let (now, then) = (of.now.did_in_all(), of.before.did_in_all());
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
    let hit = |did: &hurnix_core::findings::then_and_now::Did| {
        let pages = did.counters.hit_pages + did.counters.read_pages;
        if pages > 0 { percent(did.counters.hit_pages as f64 / pages as f64) } else { "–".into() }
    };
    let mut sentences = vec![format!(
        "{} of the pages that statements touched came from the server's cache (before: {}).",
        hit(&now),
        hit(&then)
    )];
    if let Some(per_second) = transactions {
        let before =
            of.before.transactions().map_or_else(|| "not counted".into(), |value| format!("{}/s", number(value)));
        sentences.push(format!("Transactions: {}/s (before: {before}).", number(per_second)));
    }
    (sentences, vec![ReportTable::new("load", "Work of all statements", columns).with(rows)])
}

fn waits(of: &Gathered<'_>) -> Made {
    let (now, then) = (&of.now.load, &of.before.load);
    let Some(total) = now.total() else {
        return (vec!["Nobody looked at the sessions in this period.".into()], Vec::new());
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
    (vec![sentence], vec![kinds, events])
}

/// An order of statements: its name in the table, its title, and what each is worth in it.
type StatementsBy = (StatementOrder, &'static str, fn(&StatementCounters, Option<f64>) -> f64);

async fn statements(of: &Gathered<'_>) -> Result<Made> {
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

async fn tables(of: &Gathered<'_>) -> Result<Made> {
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

async fn indexes(of: &Gathered<'_>) -> Result<Made> {
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

async fn settings(of: &Gathered<'_>) -> Result<Made> {
    let (store, id) = (of.store, of.instance.instance_id);
    let changes = store.setting_changes(id, of.span).await?;
    let sentence = match changes.len() {
        0 => "No setting was changed in this period.".to_owned(),
        count => format!("{} changed in this period.", counted(count, "setting")),
    };
    let unit = |unit: &Option<String>| Cell::from(unit.as_deref());
    let rows = changes.iter().map(|change| -> Vec<Cell> {
        vec![
            change.seen_at.into(),
            change.name.as_str().into(),
            change.old.as_deref().into(),
            change.new.as_deref().into(),
            unit(&change.unit),
        ]
    });
    let columns = vec![
        column("seen at", Measure::Time),
        column("setting", Measure::Text),
        column("old", Measure::Text),
        column("new", Measure::Text),
        column("unit", Measure::Text),
    ];
    let changed = ReportTable::new("settings_changed", "Settings that changed", columns).with(rows);
    let mut own = store.settings(id).await?;
    own.retain(|setting| setting.source != "default" && setting.source != "override");
    let rows = own.iter().map(|setting| -> Vec<Cell> {
        vec![
            setting.name.as_str().into(),
            setting.value.as_deref().into(),
            unit(&setting.unit),
            setting.source.as_str().into(),
            if setting.pending_restart { "waits for a restart".into() } else { Cell::Nothing(()) },
        ]
    });
    let columns = vec![
        column("setting", Measure::Text),
        column("value", Measure::Text),
        column("unit", Measure::Text),
        column("from", Measure::Text),
        column("state", Measure::Text),
    ];
    let own = ReportTable::new("settings", "Settings that are not the server's defaults", columns).with(rows);
    Ok((vec![sentence], vec![changed, own]))
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

async fn space(of: &Gathered<'_>) -> Result<Made> {
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

async fn hold_ups(of: &Gathered<'_>) -> Result<Made> {
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

async fn log(of: &Gathered<'_>) -> Result<Made> {
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

async fn alarms(of: &Gathered<'_>) -> Result<Made> {
    let alarms = of.store.alarms_of(of.instance.instance_id, of.span).await?;
    let sentence = match alarms.len() {
        0 => "No alarm was open in this period.".to_owned(),
        count => format!("{} open in this period.", counted(count, "alarm")),
    };
    let row = |row: &hurnix_store::AlarmRow| -> Vec<Cell> {
        let alarm = &row.alarm;
        vec![
            alarm.opened_at.into(),
            alarm.closed_at.into(),
            alarm.sign.verdict.name().into(),
            alarm.sign.text.as_str().into(),
            alarm.sign.step.as_str().into(),
        ]
    };
    let columns = vec![
        column("opened", Measure::Time),
        column("closed", Measure::Time),
        column("state", Measure::Text),
        column("alarm", Measure::Text),
        column("what to do", Measure::Text),
    ];
    Ok((vec![sentence], vec![ReportTable::new("alarms", "Alarms", columns).with(alarms.iter().map(row))]))
}

async fn advice(of: &Gathered<'_>) -> Result<Made> {
    let filter = AdviceFilter { limit: 200, ..AdviceFilter::default() };
    let (pages, _) = of.store.advice_list(of.instance.instance_id, &filter).await?;
    let is_of_period = |at: Option<Timestamp>| at.is_some_and(|at| at >= of.span.from && at < of.span.to);
    let pages: Vec<_> = pages
        .into_iter()
        .filter(|page| page.state == hurnix_core::changes::advice::AdviceState::Open || is_of_period(page.applied_at))
        .collect();
    let row = |page: &hurnix_store::AdviceRow| -> Vec<Cell> {
        vec![
            page.advice.kind().name().replace('_', " ").into(),
            page.subject.as_str().into(),
            page.state.name().replace('_', " ").into(),
            page.advice.told().prediction().saved_seconds_per_day.into(),
            page.effect.as_ref().map(|effect| effect.verdict.name().replace('_', " ")).into(),
            page.applied_at.into(),
        ]
    };
    let columns = vec![
        column("kind", Measure::Text),
        column("about", Measure::Code),
        column("state", Measure::Text),
        column("predicted a day", Measure::Seconds),
        column("measured", Measure::Text),
        column("applied", Measure::Time),
    ];
    let sentence = format!("{} open or applied in this period.", counted(pages.len(), "recommendation"));
    Ok((vec![sentence], vec![ReportTable::new("advice", "Advice", columns).with(pages.iter().map(row))]))
}

async fn affected(of: &Gathered<'_>) -> Result<Made> {
    let (store, id) = (of.store, of.instance.instance_id);
    let coarsest = hurnix_core::keeping::detail::Detail::for_sums(of.span);
    let group = [hurnix_core::keeping::retention::RetentionGroup::Activity];
    let pieces = store.pieces(id, &group, of.span, coarsest, now()).await?;
    let before = store.pieces(id, &group, of.then, coarsest, now()).await?;
    let mut made = Vec::new();
    let mut first = None;
    let parts = [
        (Dimension::Account, "account"),
        (Dimension::Program, "program"),
        (Dimension::Client, "client"),
        (Dimension::Database, "database"),
    ];
    for (dimension, name) in parts {
        let only: &[OnlyPart] = &[];
        let now = store.breakdown(id, &pieces, dimension, only, 200).await?.parts;
        let then = store.breakdown(id, &before, dimension, only, 200).await?.parts;
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
