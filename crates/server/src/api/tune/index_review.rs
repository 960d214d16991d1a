//! What can be said against each index of a database, and what is missing beside them.

use std::cmp::Ordering;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Named;
use hurnix_core::findings::index_review::{IndexEvidence, IndexFinding, IndexFindingKind, review, unread_so_far};
use hurnix_core::findings::index_size::rebuilt_bytes;
use hurnix_source::postgres::index_statement;
use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::{CertaintyWord, IndexFindingKindWord, Word};
use crate::api::diagnose::statements::page;
use crate::api::tune::advice::StatementPiece;
use crate::index_use::UseOfIndexes;
use crate::state::{App, now};

/// What to sort findings by.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum IndexFindingOrder {
    /// What they are worth.
    #[default]
    Worth,
    /// Size.
    Size,
    /// Entries written.
    Written,
    /// Reads served.
    Reads,
    /// How sure they are.
    Certainty,
    /// What was found.
    Kind,
    /// Name of the table, then of the index.
    Name,
}

/// What to sort findings by.
pub type IndexFindingOrderWord = Word<IndexFindingOrder>;

/// Which findings to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ReviewQuery {
    /// Database; the one connected to where it is left out.
    database: Option<String>,
    /// Only findings of this kind.
    kind: Option<IndexFindingKindWord>,
    /// Only findings whose table or index contains this, whatever its case.
    search: Option<String>,
    /// Those that are worth little, too.
    small: Option<bool>,
    /// What to sort by; by worth where it is left out.
    sort: Option<IndexFindingOrderWord>,
    /// Smallest first.
    ascending: Option<bool>,
    /// Page, from 1.
    #[param(minimum = 1)]
    page: Option<u32>,
    /// Rows on a page, 200 at most.
    #[param(minimum = 1, maximum = 200)]
    page_size: Option<u32>,
}

/// A page of what a review of the indexes of a database found.
#[derive(Serialize, ToSchema)]
pub struct IndexReview {
    /// The database.
    database: String,
    /// Databases whose indexes are known, the one connected to first.
    databases: Vec<String>,
    /// When its tables and indexes were read; nothing while they were not: then there are no findings.
    read_at: Option<DateTime<Utc>>,
    /// Tables.
    tables: usize,
    /// Indexes.
    indexes: usize,
    /// Their size in bytes.
    size_bytes: i64,
    /// Of how many it is known how large they would be if they were built anew: of B-trees on columns whose statistics
    /// may be read.
    estimated: usize,
    /// What their use is known from; nothing of a database whose indexes are not counted.
    counted: Option<CountedFigures>,
    /// How many findings there are of each kind, and what the kind is.
    kinds: Vec<IndexFindingKindFigures>,
    /// Indexes that nobody has read so far, and that were not watched for long enough to call them unused.
    unread_so_far: Vec<String>,
    /// Findings that are worth little and left out.
    small: usize,
    /// Findings that match.
    matching: usize,
    /// Space that those that match give back, in bytes, once nothing holds them back.
    freed_bytes: f64,
    /// The findings of the page, in the order asked for.
    findings: Vec<IndexFindingFigures>,
}

/// What the use of indexes is known from.
#[derive(Serialize, ToSchema)]
pub struct CountedFigures {
    /// Days that an index must go unread before it is called unused.
    cycle_days: u16,
    /// Seconds within that time that were counted.
    seconds: f64,
    /// Watched servers that have the same data, this one among them.
    servers: usize,
    /// Servers that have it and are not watched: they may read what nobody reads here.
    unwatched_servers: usize,
    /// Whether this one is a replica: what it has is decided on its primary.
    is_replica: bool,
}

/// A kind of finding.
#[derive(Serialize, ToSchema)]
pub struct IndexFindingKindFigures {
    /// The kind.
    kind: IndexFindingKindWord,
    /// What it is called.
    title: &'static str,
    /// What it is and what it costs.
    costs: &'static str,
    /// When it is to be left as it is.
    ignored_when: &'static str,
    /// How many there are, small ones too.
    found: usize,
}

impl IndexFindingKindFigures {
    /// Every kind, with how many of it were found.
    pub fn of(found: &[IndexFinding]) -> Vec<IndexFindingKindFigures> {
        let figures = |kind: IndexFindingKind| IndexFindingKindFigures {
            kind: Word(kind),
            title: kind.title(),
            costs: kind.costs(),
            ignored_when: kind.ignored_when(),
            found: found.iter().filter(|finding| finding.kind == kind).count(),
        };
        IndexFindingKind::all().map(figures).collect()
    }
}

/// One finding.
#[derive(Serialize, ToSchema)]
pub struct IndexFindingFigures {
    /// What was found.
    kind: IndexFindingKindWord,
    /// Schema of the table.
    schema: String,
    /// The table.
    table: String,
    /// The index; nothing where it is about the table.
    index: Option<String>,
    /// The index that serves in its place, or what it is held against.
    beside: Option<String>,
    /// Size of the index in bytes; of the table with its indexes where it is about that.
    size_bytes: f64,
    /// Space that is given back, in bytes.
    freed_bytes: f64,
    /// What it is worth: bytes that need not be kept, nor written or read within a month.
    worth_bytes: f64,
    /// Entries written in a day; nothing where that is not counted.
    entries_per_day: Option<f64>,
    /// Reads served in a day, on all servers that have it; nothing where that is not counted.
    reads_per_day: Option<f64>,
    /// How sure it is.
    certainty: CertaintyWord,
    /// What was found, with what shows it.
    evidence: String,
    /// The statement that does it, with what must be decided left open; empty where no single statement does, and where
    /// it is held back.
    statement: Vec<StatementPiece>,
    /// Why the statement is not shown yet.
    held_back: Option<String>,
}

impl From<&IndexFinding> for IndexFindingFigures {
    fn from(finding: &IndexFinding) -> Self {
        let shown = finding.change.as_ref().filter(|_| finding.held_back.is_none());
        let pieces = shown.map(index_statement).unwrap_or_default();
        IndexFindingFigures {
            kind: Word(finding.kind),
            schema: finding.table.schema.clone(),
            table: finding.table.name.clone(),
            index: finding.index.clone(),
            beside: finding.beside.clone(),
            size_bytes: finding.size_bytes,
            freed_bytes: finding.freed_bytes,
            worth_bytes: finding.worth_bytes,
            entries_per_day: finding.entries_per_day,
            reads_per_day: finding.reads_per_day,
            certainty: Word(finding.certainty),
            evidence: finding.evidence.clone(),
            statement: pieces.into_iter().map(StatementPiece::from).collect(),
            held_back: finding.held_back.clone(),
        }
    }
}

/// How two findings lie to each other in an order, the smallest first.
fn compared(a: &IndexFinding, b: &IndexFinding, order: IndexFindingOrder) -> Ordering {
    let by = |of: fn(&IndexFinding) -> f64| of(a).total_cmp(&of(b));
    let known = |figure: Option<f64>| figure.unwrap_or(-1.0);
    match order {
        IndexFindingOrder::Worth => by(|one| one.worth_bytes),
        IndexFindingOrder::Size => by(|one| one.size_bytes),
        IndexFindingOrder::Written => known(a.entries_per_day).total_cmp(&known(b.entries_per_day)),
        IndexFindingOrder::Reads => known(a.reads_per_day).total_cmp(&known(b.reads_per_day)),
        // What is surest counts as the largest.
        IndexFindingOrder::Certainty => b.certainty.cmp(&a.certainty),
        IndexFindingOrder::Kind => a.kind.title().cmp(b.kind.title()),
        IndexFindingOrder::Name => {
            (&a.table.schema, &a.table.name, &a.index).cmp(&(&b.table.schema, &b.table.name, &b.index))
        }
    }
}

/// What can be said against each index of a database, by what it is worth.
#[utoipa::path(get, path = "/instances/{instance_id}/index-review", tag = "tune",
    params(("instance_id" = i32, Path), ReviewQuery),
    responses((status = 200, body = IndexReview)))]
pub async fn review_indexes(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<ReviewQuery>,
) -> Answer<IndexReview> {
    let (page, page_size) = page(query.page, query.page_size)?;
    let instance = find(&app, instance_id).await?;
    let catalogs = app.store.catalogs(instance_id).await?;
    let databases: Vec<String> = catalogs.iter().map(|catalog| catalog.database.clone()).collect();
    // The first one is that of the database connected to, whose indexes are counted.
    let place = match &query.database {
        None => 0,
        Some(name) => {
            let place = databases.iter().position(|database| database == name);
            place.ok_or_else(|| Problem::not_found("database", "database", name))?
        }
    };
    let catalog = catalogs.get(place);
    let used = if place == 0 { Some(UseOfIndexes::of(&app, &instance).await?) } else { None };
    let evidence = catalog.map(|catalog| IndexEvidence::new(catalog, now(), used.as_ref().map(UseOfIndexes::counted)));
    let reviewed = evidence.as_ref().map(review).unwrap_or_default();
    let search = query.search.as_deref().unwrap_or_default().to_lowercase();
    let matches = |finding: &&IndexFinding| {
        let names = [Some(&finding.table.schema), Some(&finding.table.name), finding.index.as_ref()];
        query.kind.is_none_or(|kind| kind.0 == finding.kind)
            && names.into_iter().flatten().any(|name| name.to_lowercase().contains(&search))
    };
    let (small, large): (Vec<_>, Vec<_>) = reviewed.iter().filter(matches).partition(|finding| finding.is_small());
    let with_small = query.small.unwrap_or(false);
    let left_out = if with_small { 0 } else { small.len() };
    let mut matching = large;
    matching.extend(small.into_iter().filter(|_| with_small));
    let order = query.sort.map(|sort| sort.0).unwrap_or_default();
    matching.sort_by(|a, b| {
        let ordering = compared(a, b, order);
        if query.ascending.unwrap_or(false) { ordering } else { ordering.reverse() }
    });
    let findings = matching.iter().skip((page as usize - 1) * page_size as usize).take(page_size as usize);
    let waiting = evidence.as_ref().map(unread_so_far).unwrap_or_default();
    let indexes = || catalog.iter().flat_map(|catalog| catalog.indexes());
    Ok(Json(IndexReview {
        database: databases.get(place).cloned().unwrap_or(instance.database_name),
        databases,
        read_at: catalog.map(|catalog| moment(catalog.at)),
        tables: catalog.map_or(0, |catalog| catalog.tables.len()),
        indexes: indexes().count(),
        estimated: indexes().filter(|(table, index)| rebuilt_bytes(table, index).is_some()).count(),
        size_bytes: indexes().map(|(_, index)| index.size_bytes).sum(),
        counted: used.as_ref().map(CountedFigures::from),
        kinds: IndexFindingKindFigures::of(&reviewed),
        unread_so_far: waiting.into_iter().map(|index| index.name.clone()).collect(),
        small: left_out,
        matching: matching.len(),
        freed_bytes: matching.iter().map(|finding| finding.freed_bytes).sum(),
        findings: findings.map(|finding| IndexFindingFigures::from(*finding)).collect(),
    }))
}

impl From<&UseOfIndexes> for CountedFigures {
    fn from(used: &UseOfIndexes) -> Self {
        CountedFigures {
            cycle_days: used.watched.cycle_days,
            seconds: used.seconds,
            servers: 1 + used.watched.elsewhere.len(),
            unwatched_servers: used.watched.unwatched,
            is_replica: used.is_replica,
        }
    }
}
