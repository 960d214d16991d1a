//! One table in full: columns, indexes and how statements use them.

use std::collections::{BTreeMap, HashMap};

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::changes::advice::{AdviceState, FamilyCost};
use hurnix_core::findings::index_map::{IndexMap, index_map};
use hurnix_core::findings::index_review::{Counted, IndexEvidence, review};
use hurnix_core::readings::catalog::{Column, Index, Table};
use hurnix_core::readings::metric::Metric;
use hurnix_core::workload::table_use::{ColumnUse, Ran, StatementUse, TableUse, table_use};
use hurnix_store::{AdviceRow, Instance};
use serde::Serialize;
use utoipa::ToSchema;

use crate::analyst::{costs_of_last_day, pages};
use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::{AdviceStateWord, ColumnUseWord, Word};
use crate::api::tune::index_review::{CountedFigures, IndexFindingFigures, IndexFindingKindFigures};
use crate::index_use::UseOfIndexes;
use crate::newest::newest;
use crate::state::{App, now};

/// Statements that are told, those that took most time.
const MOST_STATEMENTS: usize = 200;
/// Partitions that are told, the largest.
const MOST_PARTITIONS: usize = 200;

/// One table in full.
#[derive(Serialize, ToSchema)]
pub struct TableDetail {
    /// The database.
    database: String,
    /// Schema.
    schema: String,
    /// Its name.
    table: String,
    /// When it was read.
    read_at: DateTime<Utc>,
    /// Rows with those of its partitions, by the server's last count.
    rows: f64,
    /// Size with large values and partitions, without indexes, in bytes.
    size_bytes: f64,
    /// Size of its indexes together, in bytes.
    index_bytes: f64,
    /// The table that it is a partition of, as `schema.name`.
    part_of: Option<String>,
    /// Columns that tell in which partition a row is.
    partition_keys: Vec<String>,
    /// Its partitions in all.
    partition_count: usize,
    /// The largest of them, 200 at most.
    partitions: Vec<PartitionFigures>,
    /// What its use is known from; nothing of a database whose tables are not counted.
    counted: Option<CountedFigures>,
    /// What it does in a day; nothing of a database whose tables are not counted.
    work: Option<TableWork>,
    /// How it is kept up; nothing where that was not measured lately, and of a table with partitions.
    upkeep: Option<TableUpkeep>,
    /// Its columns in order.
    columns: Vec<TableColumn>,
    /// Its indexes, the largest first.
    indexes: Vec<TableIndex>,
    /// Its columns in use and its indexes as ways over them.
    map: IndexMapFigures,
    /// Tables that it refers to.
    refers_to: Vec<ReferenceFigures>,
    /// Tables that refer to it.
    referred_by: Vec<ReferenceFigures>,
    /// Statements of the last day that use it, in all.
    statement_count: usize,
    /// Those that took most time, 200 at most.
    statements: Vec<TableStatement>,
    /// What can be said against its indexes, by what it is worth.
    findings: Vec<IndexFindingFigures>,
    /// The kinds of these findings.
    kinds: Vec<IndexFindingKindFigures>,
    /// Recommendations about it that are open, applied or set aside.
    advice: Vec<TableAdvice>,
}

/// A partition of a table.
#[derive(Serialize, ToSchema)]
pub struct PartitionFigures {
    /// Schema.
    schema: String,
    /// Its name.
    table: String,
    /// Rows, by the server's last count.
    rows: f64,
    /// Size with large values, without indexes, in bytes.
    size_bytes: f64,
}

/// What a table does in a day, on all watched servers that have it.
#[derive(Serialize, ToSchema)]
pub struct TableWork {
    /// Times that all of it is read.
    full_reads: f64,
    /// Rows that these go through.
    full_read_rows: f64,
    /// Times that it is read by an index.
    index_reads: f64,
    /// Rows inserted.
    inserted_rows: f64,
    /// Rows updated.
    updated_rows: f64,
    /// Of these, updated inside of their page, without writing to an index.
    updated_in_page_rows: f64,
    /// Rows deleted.
    deleted_rows: f64,
    /// Share of its pages that were found in the server's cache; nothing where none were asked for.
    cache_share: Option<f64>,
}

/// How a table is kept up.
#[derive(Serialize, ToSchema)]
pub struct TableUpkeep {
    /// Dead rows: row versions that vacuum has yet to remove.
    dead_rows: Option<f64>,
    /// Rows changed since the planner's statistics were collected.
    rows_since_analyze: Option<f64>,
    /// Seconds since the last vacuum.
    vacuumed_ago: Option<f64>,
    /// Seconds since the planner's statistics were collected.
    analyzed_ago: Option<f64>,
    /// Transactions since its oldest row that is not frozen.
    age: Option<f64>,
}

/// A column with what the planner knows of it and what statements do with it.
#[derive(Serialize, ToSchema)]
pub struct TableColumn {
    /// Its name.
    name: String,
    /// Its type as the server writes it.
    type_name: String,
    /// Mean width of a value in bytes; nothing where statistics were not collected, or may not be read.
    width_bytes: Option<f64>,
    /// Different values; nothing likewise.
    distinct_values: Option<f64>,
    /// Share of rows without a value; nothing likewise.
    null_share: Option<f64>,
    /// Share of rows with the commonest value; nothing where none is common.
    commonest_share: Option<f64>,
    /// From -1 to 1: how far the order of its values follows that of the rows on disk; nothing where not known.
    correlation: Option<f64>,
    /// What statements of the last day do with it.
    uses: Vec<ColumnUseFigures>,
}

/// What statements do with a column.
#[derive(Serialize, ToSchema)]
pub struct ColumnUseFigures {
    /// What.
    does: ColumnUseWord,
    /// Calls per day of the statements that do it.
    calls_per_day: f64,
}

/// One index of a table.
#[derive(Serialize, ToSchema)]
pub struct TableIndex {
    /// Its name.
    name: String,
    /// Access method.
    method: String,
    /// Its keys in order.
    keys: Vec<String>,
    /// Columns that it carries.
    carried: Vec<String>,
    /// Condition that rows must meet to be in it.
    condition: Option<String>,
    /// Whether it forbids equal keys.
    unique: bool,
    /// Whether a constraint needs it.
    constraint: bool,
    /// Whether statements may use it.
    valid: bool,
    /// Size with all its parts, in bytes.
    size_bytes: f64,
    /// How full its pages are made, in per cent, where somebody said so.
    fill_factor: Option<i32>,
    /// Reads served in a day; nothing where that is not counted.
    reads_per_day: Option<f64>,
    /// Entries written in a day; nothing where that is not counted.
    entries_per_day: Option<f64>,
}

/// The index map: columns in use, and indexes as ways over them. Those that begin with the same keys share their steps.
#[derive(Serialize, ToSchema)]
pub struct IndexMapFigures {
    /// Columns and expressions in use.
    columns: Vec<MapColumn>,
    /// Steps: one key, behind those before it.
    steps: Vec<MapStep>,
    /// The ways, in the order of their last steps.
    paths: Vec<MapPath>,
}

/// A column of the map.
#[derive(Serialize, ToSchema)]
pub struct MapColumn {
    /// Its name, or the expression.
    name: String,
    /// What statements of the last day do with it.
    uses: Vec<ColumnUseFigures>,
}

/// A step of the map.
#[derive(Serialize, ToSchema)]
pub struct MapStep {
    /// Place of its column.
    column: usize,
    /// Place of the step before it; nothing for a first key.
    after: Option<usize>,
    /// Its place in the key, from 0.
    place: usize,
}

/// The way of an index.
#[derive(Serialize, ToSchema)]
pub struct MapPath {
    /// Name of the index.
    index: String,
    /// Place of its last step; nothing where it has no key.
    end: Option<usize>,
    /// Places of the columns that it carries.
    carried: Vec<usize>,
}

/// A reference between two tables.
#[derive(Serialize, ToSchema)]
pub struct ReferenceFigures {
    /// Its name.
    name: String,
    /// The other table, as `schema.name`.
    table: String,
    /// Columns that refer.
    columns: Vec<String>,
}

/// A statement that uses the table.
#[derive(Serialize, ToSchema)]
pub struct TableStatement {
    /// Number of its family.
    family_id: Id,
    /// Its text.
    text: String,
    /// Calls per day.
    calls_per_day: f64,
    /// Mean time per call in the last day, in milliseconds.
    mean_ms: f64,
    /// Share of the time of all statements of the database in the last day.
    share: f64,
    /// Whether it reads rows of the table.
    reads: bool,
    /// Whether it inserts, changes or deletes rows of it.
    writes: bool,
    /// Whether more columns may be in use: what it asks for could not be read in full.
    is_unread: bool,
}

/// A recommendation about the table.
#[derive(Serialize, ToSchema)]
pub struct TableAdvice {
    /// Number.
    advice_id: Id,
    /// What its kind is called.
    title: &'static str,
    /// What it is about.
    subject: String,
    /// How far it has come.
    state: AdviceStateWord,
}

fn uses(of: Option<&BTreeMap<ColumnUse, f64>>) -> Vec<ColumnUseFigures> {
    let figures = |(does, calls): (&ColumnUse, &f64)| ColumnUseFigures { does: Word(*does), calls_per_day: *calls };
    of.into_iter().flatten().map(figures).collect()
}

fn column_figures(column: &Column, rows: f64, used: &TableUse) -> TableColumn {
    let known = column.statistics.as_ref();
    TableColumn {
        name: column.name.clone(),
        type_name: column.type_name.clone(),
        width_bytes: known.map(|known| known.width_bytes),
        distinct_values: known.map(|known| known.distinct_values(rows)),
        null_share: known.map(|known| known.null_fraction),
        commonest_share: known.and_then(|known| known.common.first().copied()),
        correlation: known.map(|known| known.correlation),
        uses: uses(used.columns.get(&column.name)),
    }
}

fn index_figures(evidence: &IndexEvidence, table: &Table, index: &Index) -> TableIndex {
    TableIndex {
        name: index.name.clone(),
        method: index.method.clone(),
        keys: index.keys.iter().map(|key| key.text().to_owned()).collect(),
        carried: index.carried.clone(),
        condition: index.condition.clone(),
        unique: index.unique,
        constraint: index.constraint,
        valid: index.valid,
        size_bytes: evidence.index_bytes(index),
        fill_factor: index.fill_factor,
        reads_per_day: evidence.reads_per_day(index),
        entries_per_day: evidence.entries_per_day(table, index),
    }
}

fn map_figures(map: IndexMap, used: &TableUse) -> IndexMapFigures {
    IndexMapFigures {
        columns: map.columns.into_iter().map(|name| MapColumn { uses: uses(used.columns.get(&name)), name }).collect(),
        steps: map
            .steps
            .iter()
            .map(|step| MapStep { column: step.column, after: step.after, place: step.place })
            .collect(),
        paths: map
            .paths
            .into_iter()
            .map(|path| MapPath { index: path.index, end: path.end, carried: path.carried })
            .collect(),
    }
}

fn work(counted: &Counted, evidence: &IndexEvidence, table: &Table) -> Option<TableWork> {
    let counters = evidence.table_counters(table)?;
    let per_day = |number: i64| counted.per_day(number as f64);
    let pages = counters.hit_pages + counters.read_pages;
    Some(TableWork {
        full_reads: per_day(counters.full_reads),
        full_read_rows: per_day(counters.full_read_rows),
        index_reads: per_day(counters.index_reads),
        inserted_rows: per_day(counters.inserted_rows),
        updated_rows: per_day(counters.updated_rows),
        updated_in_page_rows: per_day(counters.updated_in_page_rows),
        deleted_rows: per_day(counters.deleted_rows),
        cache_share: (pages > 0).then(|| counters.hit_pages as f64 / pages as f64),
    })
}

fn statement_figures(used: &StatementUse, family: &FamilyCost, all_us: f64) -> TableStatement {
    TableStatement {
        family_id: Id(family.family),
        text: family.text.clone(),
        calls_per_day: family.calls_per_day,
        mean_ms: family.exec_us as f64 / 1e3 / family.calls.max(1) as f64,
        share: family.exec_us as f64 / all_us,
        reads: used.reads,
        writes: used.writes,
        is_unread: used.is_unread,
    }
}

/// How a table of the database connected to is kept up.
async fn upkeep(app: &App, instance: &Instance, table: &Table) -> Result<Option<TableUpkeep>, Problem> {
    let name = table.qualified_name();
    let measured = newest(app, instance).await?;
    let of = |metric: Metric| {
        measured.iter().find(|one| one.metric == metric && one.object == name).map(|measured| measured.value)
    };
    let upkeep = TableUpkeep {
        dead_rows: of(Metric::DeadRows),
        rows_since_analyze: of(Metric::RowsSinceAnalyze),
        vacuumed_ago: of(Metric::VacuumedAgo),
        analyzed_ago: of(Metric::AnalyzedAgo),
        age: of(Metric::TableAge),
    };
    Ok((upkeep.dead_rows.is_some() || upkeep.age.is_some()).then_some(upkeep))
}

/// Recommendations about a table that are not over.
async fn advice(app: &App, instance_id: i32, database: &str, table: &Table) -> Result<Vec<TableAdvice>, Problem> {
    let is_about = |row: &AdviceRow| {
        let told = row.advice.told();
        (told.database() == database || told.database().is_empty())
            && told.table() == (table.schema.as_str(), table.name.as_str())
    };
    let mut found = Vec::new();
    for state in [AdviceState::Open, AdviceState::Applied, AdviceState::SetAside] {
        found.extend(pages(app, instance_id, state).await?.into_iter().filter(is_about).map(|row| TableAdvice {
            advice_id: Id(row.advice_id),
            title: row.advice.kind().title(),
            subject: row.subject,
            state: Word(row.state),
        }));
    }
    Ok(found)
}

/// One table in full: its columns, its indexes as a map, the statements that use it, and what can be said against its
/// indexes.
#[utoipa::path(get, path = "/instances/{instance_id}/databases/{name}/tables/{schema}/{table}", tag = "tune",
    params(("instance_id" = i32, Path), ("name" = String, Path), ("schema" = String, Path), ("table" = String, Path)),
    responses((status = 200, body = TableDetail)))]
pub async fn one_table(
    State(app): State<App>,
    _: SignedIn,
    Path((instance_id, name, schema, table)): Path<(i32, String, String, String)>,
) -> Answer<TableDetail> {
    let instance = find(&app, instance_id).await?;
    let catalogs = app.store.catalogs(instance_id).await?;
    let place = catalogs.iter().position(|catalog| catalog.database == name);
    let place = place.ok_or_else(|| Problem::not_found("name", "database", &name))?;
    let catalog = &catalogs[place];
    let table = catalog
        .table(Some(&schema), &table)
        .ok_or_else(|| Problem::not_found("table", "table", format!("{schema}.{table}")))?;

    // The first one is that of the database connected to, whose tables are counted.
    let (mut used, mut kept_up) = (None, None);
    if place == 0 {
        used = Some(UseOfIndexes::of(&app, &instance).await?);
        kept_up = upkeep(&app, &instance, table).await?;
    }
    let evidence = IndexEvidence::new(catalog, now(), used.as_ref().map(UseOfIndexes::counted));
    let families = costs_of_last_day(&app, instance_id, catalog).await?;
    let ran = families.iter().map(|family| Ran {
        family: family.family,
        text: &family.text,
        calls_per_day: family.calls_per_day,
    });
    let statements = table_use(ran, catalog, table);
    let all_us = families.iter().map(|family| family.exec_us).sum::<i64>().max(1) as f64;
    let by_number: HashMap<i64, &FamilyCost> = families.iter().map(|family| (family.family, family)).collect();
    let mut told: Vec<TableStatement> = statements
        .statements
        .iter()
        .filter_map(|used| Some(statement_figures(used, by_number.get(&used.family)?, all_us)))
        .collect();
    told.sort_by(|a, b| b.share.total_cmp(&a.share));
    told.truncate(MOST_STATEMENTS);

    let rows = evidence.rows(table);
    let found: Vec<_> = review(&evidence)
        .into_iter()
        .filter(|finding| (&finding.table.schema, &finding.table.name) == (&table.schema, &table.name))
        .collect();
    let mut indexes: Vec<TableIndex> =
        table.indexes.iter().map(|index| index_figures(&evidence, table, index)).collect();
    indexes.sort_by(|a, b| b.size_bytes.total_cmp(&a.size_bytes));
    let parts = evidence.partitions(table);
    let mut partitions: Vec<PartitionFigures> = parts
        .iter()
        .map(|part| PartitionFigures {
            schema: part.schema.clone(),
            table: part.name.clone(),
            rows: evidence.rows(part),
            size_bytes: evidence.table_bytes(part),
        })
        .collect();
    partitions.sort_by(|a, b| b.size_bytes.total_cmp(&a.size_bytes));
    partitions.truncate(MOST_PARTITIONS);
    let whole = table.part_of.and_then(|oid| catalog.tables.iter().find(|other| other.oid == oid));
    let in_use = statements.columns.keys().map(String::as_str);
    Ok(Json(TableDetail {
        database: catalog.database.clone(),
        schema: table.schema.clone(),
        table: table.name.clone(),
        read_at: moment(catalog.at),
        rows,
        size_bytes: evidence.table_bytes(table),
        index_bytes: indexes.iter().map(|index| index.size_bytes).sum(),
        part_of: whole.map(Table::qualified_name),
        partition_keys: table.partition_keys.clone(),
        partition_count: parts.len(),
        partitions,
        counted: used.as_ref().map(CountedFigures::from),
        work: evidence.counted.as_ref().and_then(|counted| work(counted, &evidence, table)),
        upkeep: kept_up,
        columns: table.columns.iter().map(|column| column_figures(column, rows, &statements)).collect(),
        indexes,
        map: map_figures(index_map(table, in_use), &statements),
        refers_to: table
            .foreign_keys
            .iter()
            .map(|key| ReferenceFigures {
                name: key.name.clone(),
                table: key.parent.clone(),
                columns: key.columns.clone(),
            })
            .collect(),
        referred_by: evidence
            .references_to(table)
            .map(|(child, key)| ReferenceFigures {
                name: key.name.clone(),
                table: child.qualified_name(),
                columns: key.columns.clone(),
            })
            .collect(),
        statement_count: statements.statements.len(),
        statements: told,
        kinds: IndexFindingKindFigures::of(&found),
        findings: found.iter().map(IndexFindingFigures::from).collect(),
        advice: advice(&app, instance_id, &catalog.database, table).await?,
    }))
}
