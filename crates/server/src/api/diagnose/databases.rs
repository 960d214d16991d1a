//! From a server to one of its databases: properties, size, work, settings of its own, largest objects.

use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Window;
use hurnix_core::instance::marker::MarkerKind;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::DatabaseCounters;
use hurnix_core::readings::inventory::{Database, Inventory};
use hurnix_core::readings::metric::Metric;
use hurnix_store::{Dimension, NewestMeasure, Pieces};
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::LoadFigures;
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::{Span, WindowQuery, answered_by, cell_seconds, moment};
use crate::api::base::word::{DetailWord, Word};
use crate::api::diagnose::load::STRIP_CELLS;
use crate::newest::newest;
use crate::state::App;

/// Databases whose load is told.
const MOST_PARTS: i64 = 1000;
/// Tables told, the largest.
const MOST_TABLES: usize = 25;

/// The databases of an instance.
#[derive(Serialize, ToSchema)]
pub struct DatabaseList {
    /// The window.
    span: Span,
    /// The coarsest level of detail used: `fine`, `ten_minutes` or `hour`.
    detail: DetailWord,
    /// Seconds of it in which databases were counted.
    seconds: f64,
    /// When their properties were read; nothing while they were not.
    read_at: Option<DateTime<Utc>>,
    /// The databases, the largest first.
    databases: Vec<DatabaseFigures>,
}

/// A database with what it did in a window.
#[derive(Serialize, ToSchema)]
pub struct DatabaseFigures {
    /// Its name.
    name: String,
    /// Account that owns it.
    owner: String,
    /// Whether databases are copied from it.
    is_template: bool,
    /// Whether anybody may connect to it.
    allows_connections: bool,
    /// Whether it is the one that Hurnix connects to, whose tables and indexes are known.
    is_connected: bool,
    /// Size on disk, in bytes.
    size_bytes: Option<f64>,
    /// What it did in the window.
    work: DatabaseWork,
    /// Its load in the window; nothing where none was seen.
    load: Option<LoadFigures>,
}

/// What a database did. Times in microseconds, pages in the server's page size.
#[derive(Default, Serialize, ToSchema)]
pub struct DatabaseWork {
    /// Transactions committed.
    commits: i64,
    /// Transactions rolled back.
    rollbacks: i64,
    /// Pages found in the server's cache.
    hit_pages: i64,
    /// Pages read from outside it.
    read_pages: i64,
    /// Rows inserted, updated and deleted.
    changed_rows: i64,
    /// Deadlocks.
    deadlocks: i64,
    /// Temporary files made.
    temp_files: i64,
    /// Bytes written to them.
    temp_bytes: i64,
    /// Sessions begun; zero where the server does not count them.
    sessions: i64,
    /// Time that sessions were idle with a transaction open.
    idle_open_us: i64,
}

impl From<&DatabaseCounters> for DatabaseWork {
    fn from(counters: &DatabaseCounters) -> Self {
        DatabaseWork {
            commits: counters.commits,
            rollbacks: counters.rollbacks,
            hit_pages: counters.hit_pages,
            read_pages: counters.read_pages,
            changed_rows: counters.inserted_rows + counters.updated_rows + counters.deleted_rows,
            deadlocks: counters.deadlocks,
            temp_files: counters.temp_files,
            temp_bytes: counters.temp_bytes,
            sessions: counters.sessions,
            idle_open_us: counters.idle_open_us,
        }
    }
}

/// What is known of all databases of an instance in a window.
struct Known {
    inventory: Option<Inventory>,
    sums: hurnix_store::DatabaseSums,
    newest: Vec<NewestMeasure>,
    loads: HashMap<String, LoadFigures>,
    connected: String,
}

impl Known {
    async fn gather(app: &App, instance_id: i32, pieces: &Pieces, window: Window) -> Result<Known, Problem> {
        let instance = find(app, instance_id).await?;
        let looks = answered_by(app, instance_id, &[RetentionGroup::Activity], window).await?;
        let parts = app.store.breakdown(instance_id, &looks, Dimension::Database, &[], MOST_PARTS).await?.parts;
        Ok(Known {
            inventory: app.store.inventory(instance_id).await?,
            sums: app.store.database_sums(instance_id, pieces).await?,
            newest: newest(app, &instance).await?,
            loads: parts.into_iter().map(|part| (part.name, (&part.load).into())).collect(),
            connected: instance.database_name,
        })
    }

    /// The newest value of a metric of an object.
    fn measured(&self, metric: Metric, object: &str) -> Option<f64> {
        let found = self.newest.iter().find(|newest| newest.metric == metric && newest.object == object)?;
        Some(found.value)
    }

    fn figures(&self, database: &Database) -> DatabaseFigures {
        DatabaseFigures {
            name: database.name.clone(),
            owner: database.owner.clone(),
            is_template: database.is_template,
            allows_connections: database.allows_connections,
            is_connected: database.name == self.connected,
            size_bytes: self.measured(Metric::DatabaseSize, &database.name),
            work: self.sums.databases.get(&database.oid).map(DatabaseWork::from).unwrap_or_default(),
            load: self.loads.get(&database.name).cloned(),
        }
    }
}

/// Databases with their size and what they did in a window.
#[utoipa::path(get, path = "/instances/{instance_id}/databases", tag = "diagnose",
    params(("instance_id" = i32, Path), WindowQuery),
    responses((status = 200, body = DatabaseList)))]
pub async fn list_databases(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<WindowQuery>,
) -> Answer<DatabaseList> {
    let window = query.window()?;
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Databases], window).await?;
    let known = Known::gather(&app, instance_id, &pieces, window).await?;
    let all = known.inventory.iter().flat_map(|inventory| &inventory.databases);
    let mut databases: Vec<DatabaseFigures> = all.map(|database| known.figures(database)).collect();
    databases.sort_by(|a, b| b.size_bytes.unwrap_or(-1.0).total_cmp(&a.size_bytes.unwrap_or(-1.0)));
    Ok(Json(DatabaseList {
        span: pieces.window().into(),
        detail: Word(pieces.coarsest()),
        seconds: known.sums.seconds,
        read_at: known.inventory.as_ref().map(|inventory| moment(inventory.at)),
        databases,
    }))
}

/// One database in full.
#[derive(Serialize, ToSchema)]
pub struct DatabaseDetail {
    /// The window.
    span: Span,
    /// The coarsest level of detail used: `fine`, `ten_minutes` or `hour`.
    detail: DetailWord,
    /// Seconds of it in which databases were counted.
    seconds: f64,
    /// What it is and did.
    figures: DatabaseFigures,
    /// What it is set up with.
    properties: DatabaseProperties,
    /// Settings that are its own.
    settings: Vec<OwnSettingFigures>,
    /// The last backup of the instance that Hurnix was told of.
    last_backup: Option<BackupTold>,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// The window in cells; those in which nothing was counted are left out.
    cells: Vec<DatabaseCell>,
    /// Its tables, the largest first, 25 at most; nothing where it is not the one that Hurnix connects to.
    tables: Option<Vec<TableFigures>>,
    /// Tables in all.
    table_count: usize,
    /// Indexes in all.
    index_count: usize,
}

/// What a database is set up with.
#[derive(Serialize, ToSchema)]
pub struct DatabaseProperties {
    /// How it encodes text.
    encoding: String,
    /// How it sorts text.
    collation: String,
    /// How it tells letters from other signs.
    character_type: String,
    /// Where its tables lie unless told otherwise.
    tablespace: String,
    /// Folder of that tablespace; empty for the server's own.
    location: String,
    /// Connections that it allows; nothing where it sets no limit.
    connection_limit: Option<i32>,
    /// When its counters were last reset; nothing when never.
    counters_reset_at: Option<DateTime<Utc>>,
    /// Transactions since its oldest row that is not frozen.
    transaction_age: Option<f64>,
    /// Age of its oldest open transaction, in seconds.
    oldest_transaction_seconds: Option<f64>,
    /// When all this was read.
    read_at: DateTime<Utc>,
}

/// A setting of one database, or of an account in it.
#[derive(Serialize, ToSchema)]
pub struct OwnSettingFigures {
    /// The account; nothing for everybody in the database.
    account: Option<String>,
    /// Name of the setting.
    name: String,
    /// Its value there.
    value: String,
}

/// A backup that somebody told of.
#[derive(Serialize, ToSchema)]
pub struct BackupTold {
    /// When it was taken.
    at: DateTime<Utc>,
    /// What was told.
    text: String,
}

/// What a database did in one cell.
#[derive(Serialize, ToSchema)]
pub struct DatabaseCell {
    /// Start of the cell.
    at: DateTime<Utc>,
    /// Seconds of it that were counted.
    seconds: f64,
    /// What it did.
    work: DatabaseWork,
}

/// A table with its size.
#[derive(Serialize, ToSchema)]
pub struct TableFigures {
    /// `schema.name`.
    table: String,
    /// Size with large values, without indexes, in bytes, as of the server's last count.
    size_bytes: i64,
    /// Size of its indexes together, likewise.
    index_bytes: i64,
    /// How many indexes it has.
    indexes: usize,
    /// Rows, by the server's last count; nothing when it never counted.
    rows: Option<f64>,
    /// Row versions that vacuum has yet to remove.
    dead_rows: Option<f64>,
}

/// One database: properties, size, what it did over time, settings of its own, and its largest tables.
#[utoipa::path(get, path = "/instances/{instance_id}/databases/{name}", tag = "diagnose",
    params(("instance_id" = i32, Path), ("name" = String, Path), WindowQuery),
    responses((status = 200, body = DatabaseDetail)))]
pub async fn one_database(
    State(app): State<App>,
    _: SignedIn,
    Path((instance_id, name)): Path<(i32, String)>,
    Query(query): Query<WindowQuery>,
) -> Answer<DatabaseDetail> {
    let window = query.window()?;
    let instance = find(&app, instance_id).await?;
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Databases], window).await?;
    let known = Known::gather(&app, instance_id, &pieces, window).await?;
    let inventory = known.inventory.as_ref().ok_or_else(|| Problem::not_found("database", "database", &name))?;
    let database = inventory.database(&name).ok_or_else(|| Problem::not_found("database", "database", &name))?;
    let cell_seconds = cell_seconds(&pieces, STRIP_CELLS, app.intervals_of(&instance).databases);
    let cells = app.store.database_cells(instance_id, Some(database.oid), &pieces, cell_seconds).await?;
    let catalog = app.store.catalog_of(instance_id, &name).await?;
    let own = inventory.own_settings.iter().filter(|own| own.database.as_deref() == Some(name.as_str()));
    let space = inventory.tablespaces.iter().find(|space| space.name == database.tablespace);
    Ok(Json(DatabaseDetail {
        span: pieces.window().into(),
        detail: Word(pieces.coarsest()),
        seconds: known.sums.seconds,
        figures: known.figures(database),
        properties: DatabaseProperties {
            encoding: database.encoding.clone(),
            collation: database.collation.clone(),
            character_type: database.character_type.clone(),
            tablespace: database.tablespace.clone(),
            location: space.map(|space| space.location.clone()).unwrap_or_default(),
            connection_limit: database.connection_limit,
            counters_reset_at: database.counters_reset_at.map(moment),
            transaction_age: known.measured(Metric::TransactionAge, &name),
            oldest_transaction_seconds: known.measured(Metric::OldestTransaction, &name),
            read_at: moment(inventory.at),
        },
        settings: own
            .map(|own| OwnSettingFigures {
                account: own.account.clone(),
                name: own.name.clone(),
                value: own.value.clone(),
            })
            .collect(),
        last_backup: last_backup(&app, instance_id).await?,
        cell_seconds,
        cells: cells
            .iter()
            .map(|(at, seconds, counters)| DatabaseCell { at: moment(*at), seconds: *seconds, work: counters.into() })
            .collect(),
        table_count: catalog.as_ref().map_or(0, |catalog| catalog.tables.len()),
        index_count: catalog.as_ref().map_or(0, |catalog| catalog.indexes().count()),
        tables: catalog.map(|catalog| largest(&catalog, &known)),
    }))
}

async fn last_backup(app: &App, instance_id: i32) -> Result<Option<BackupTold>, Problem> {
    let last = app.store.newest_marker(instance_id, MarkerKind::Backup).await?;
    Ok(last.map(|marker| BackupTold { at: moment(marker.at), text: marker.text }))
}

fn largest(catalog: &hurnix_core::readings::catalog::Catalog, known: &Known) -> Vec<TableFigures> {
    let mut tables: Vec<TableFigures> = catalog
        .tables
        .iter()
        .map(|table| TableFigures {
            table: table.qualified_name(),
            size_bytes: table.size_bytes,
            index_bytes: table.indexes.iter().map(|index| index.size_bytes).sum(),
            indexes: table.indexes.len(),
            rows: table.rows,
            // Single figures of tables are those of the database that is connected to.
            dead_rows: known
                .measured(Metric::DeadRows, &table.qualified_name())
                .filter(|_| catalog.database == known.connected),
        })
        .collect();
    tables.sort_by_key(|table| std::cmp::Reverse(table.size_bytes + table.index_bytes));
    tables.truncate(MOST_TABLES);
    tables
}
