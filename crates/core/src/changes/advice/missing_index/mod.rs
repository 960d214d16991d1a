//! Rule 8: indexes that are missing.
//!
//! The statements of a database are read into what they ask of its tables ([`crate::workload`]), weighed by what they
//! took, and held against every index that could serve them. Those are advised that save most together. That a
//! statement does pay for the absence of an index is taken from its counters, not from a guess about its plan: pages per
//! call must be those of the way it would take without, at least in part.

mod told;
mod widened;

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

pub use widened::Between;

use super::{Evidence, FamilyCost, Rule};
use crate::readings::catalog::{Catalog, IndexKey, Table};
use crate::workload::choice::{Chosen, Helped, Limits, Weighted, choose};
use crate::workload::cost::{Costing, Counted, Sizes, condition_of};
use crate::workload::index_form::{FormKey, IndexForm, Method};
use crate::workload::shape::{Compared, Of, Relation, Term};
use crate::workload::{Shape, Unreadable, shape};

/// Smallest share of the instance's statement time that an index must save to be advised.
pub const LEAST_SHARE: f64 = 0.01;
/// And as much of it, in seconds per day: an index for less than an hour is more trouble than it saves.
const LEAST_SECONDS_PER_DAY: f64 = 3600.0;
/// Indexes that a table may be advised at once.
const MOST_PER_TABLE: usize = 5;

/// An index that would help.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MissingIndex {
    /// Database that the table is in; empty where that was not noted.
    #[serde(default)]
    pub database: String,
    /// Schema of the table.
    pub schema: String,
    /// The table.
    pub table: String,
    /// How it keeps its entries.
    #[serde(default)]
    pub method: IndexMethod,
    /// Key columns in the order advised, each with its role and the reason for its place.
    pub columns: Vec<KeyColumn>,
    /// Columns that it carries, so that the table need not be read.
    #[serde(default)]
    pub carried: Vec<String>,
    /// The only rows that it holds; nothing where it holds all.
    #[serde(default)]
    pub holds: Option<HeldRows>,
    /// Families it would help, the one that gains most first.
    pub families: Vec<HelpedFamily>,
    /// Predicted time saved on this instance, in seconds per day.
    pub saved_seconds_per_day: f64,
    /// Predicted size in bytes.
    pub size_bytes: f64,
    /// Rows of the table, by the server's last count.
    pub table_rows: f64,
    /// Pages of the table.
    pub table_pages: i64,
    /// Indexes the table has already.
    pub indexes_present: usize,
    /// Existing indexes that the new one would make superfluous.
    pub makes_superfluous: Vec<String>,
    /// Existing indexes that hold only part of the rows, with their conditions: why they did not serve.
    pub partial_indexes: Vec<PartialIndex>,
    /// Whether the planner's statistics of all key columns could be read.
    pub statistics_known: bool,
    /// By which factor predicted costs of the database's statements agree with the planner's, in four of five; nothing
    /// where too few plans were read.
    #[serde(default)]
    pub cost_factor: Option<f64>,
    /// What may be saved, as wide as that, in seconds per day.
    #[serde(default)]
    pub saved_between: Option<Between>,
}

/// An index that holds only part of a table's rows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PartialIndex {
    /// Its name.
    pub name: String,
    /// The condition that its rows meet.
    pub condition: String,
}

/// One key column of an index advised.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KeyColumn {
    /// The column, or the expression.
    pub name: String,
    /// Whether it is an expression.
    #[serde(default)]
    pub is_expression: bool,
    /// Whether the largest comes first.
    #[serde(default)]
    pub descending: bool,
    /// Whether texts are ordered by their bytes, so that the beginning of one is found.
    #[serde(default)]
    pub by_pattern: bool,
    /// How statements search by it.
    pub role: ColumnRole,
    /// Searches on this table, of those looked at, that use it for equality.
    pub searches: usize,
    /// Searches looked at.
    pub searches_in_all: usize,
    /// Its different values, where known.
    pub distinct_values: Option<f64>,
    /// Why it stands where it stands.
    pub reason: PlaceReason,
}

/// How statements search by a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ColumnRole {
    /// Compared for equality.
    Equality,
    /// Equal to a column of another table.
    Join,
    /// Compared for a range.
    Range,
    /// Compared for how it begins.
    Beginning,
    /// Asked for what it contains.
    Contents,
    /// Rows are wanted in its order.
    Order,
}

/// Why a key column stands where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum PlaceReason {
    /// It is the only key.
    OnlyKey,
    /// More searches use it than the next column.
    UsedByMore,
    /// As many searches use it as the next column, but it leaves fewer rows.
    LeavesFewerRows,
    /// Nothing tells it from the next column; they stand as in the statement.
    AsWritten,
    /// Last of the columns compared for equality.
    LastEquality,
    /// A range ends the part of the key that narrows the search, so it comes last.
    RangeLast,
    /// Rows come in its order, so that the first ones are found without sorting.
    InOrder,
}

/// How an index keeps its entries.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum IndexMethod {
    /// In order.
    #[default]
    Btree,
    /// By what a value is made of.
    Gin,
}

/// The only rows that an index holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct HeldRows {
    /// The column that tells them.
    pub column: String,
    /// What it is in all of them.
    pub is: HeldValue,
}

impl HeldRows {
    /// The condition, without quotes around the name.
    pub fn condition(&self) -> String {
        let column = &self.column;
        match self.is {
            HeldValue::Null => format!("{column} IS NULL"),
            HeldValue::NotNull => format!("{column} IS NOT NULL"),
            HeldValue::True => column.clone(),
            HeldValue::False => format!("NOT {column}"),
        }
    }
}

/// What a column is in the rows that an index holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum HeldValue {
    /// Without a value.
    Null,
    /// With one.
    NotNull,
    /// True.
    True,
    /// False.
    False,
}

/// What the index would do for one family.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct HelpedFamily {
    /// The family's number.
    #[serde(with = "super::number")]
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub family: i64,
    /// Calls per day at the rate of the window.
    pub calls_per_day: f64,
    /// Observed time per call, in milliseconds.
    pub now_ms: f64,
    /// Predicted time per call, in milliseconds.
    pub predicted_ms: f64,
    /// What that may be, as wide as predicted costs are apart from the planner's; nothing where that is not known.
    #[serde(default)]
    pub predicted_between_ms: Option<Between>,
    /// Observed pages per call.
    pub now_pages: f64,
    /// Predicted pages per call.
    pub predicted_pages: f64,
    /// Observed rows per call.
    pub rows_per_call: f64,
    /// Share of its calls that read the whole table, judged by pages per call.
    pub full_read_share: f64,
    /// Predicted time saved, in seconds per day.
    pub saved_seconds_per_day: f64,
}

/// A statement that nothing is advised for, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotUnderstood {
    /// Number of its family.
    pub family: i64,
    /// Why.
    pub why: Unreadable,
}

/// Statements that nothing, or not all that could be, is advised for. What searches for nothing is none of them.
pub fn not_understood(families: &[FamilyCost], catalog: &Catalog) -> Vec<NotUnderstood> {
    let why = |family: &FamilyCost| match shape(&family.text, catalog) {
        Ok(shape) if !Costing::is_complete(&shape) => Some(Unreadable::TooManyTables),
        Ok(shape) => shape.hides_literal.then_some(Unreadable::HiddenLiteral),
        Err(Unreadable::NoSearch) => None,
        Err(why) => Some(why),
    };
    families.iter().filter_map(|family| Some(NotUnderstood { family: family.family, why: why(family)? })).collect()
}

/// The indexes whose absence costs most for what these families cost, the largest saving first.
///
/// `instance_seconds_per_day` is the time of all statements of the instance. Families that are not understood are passed
/// over: [`not_understood`] names them.
pub fn missing_indexes(families: &[FamilyCost], catalog: &Catalog, instance_seconds_per_day: f64) -> Vec<MissingIndex> {
    let run = families.iter().filter(|family| family.calls > 0);
    let shapes: Vec<(&FamilyCost, Shape)> =
        run.filter_map(|family| Some((family, shape(&family.text, catalog).ok()?))).collect();
    let sizes = Sizes::of(catalog);
    let workload: Vec<Weighted> =
        shapes.iter().map(|(family, shape)| weighted(family, shape, catalog, &sizes)).collect();
    let limits = Limits {
        least_seconds: (LEAST_SHARE * instance_seconds_per_day).max(LEAST_SECONDS_PER_DAY),
        most_bytes: f64::MAX,
        most_per_table: MOST_PER_TABLE,
    };
    let chosen = choose(&workload, catalog, &sizes, &IndexForm::present(catalog), limits);
    chosen.iter().filter_map(|chosen| told(chosen, &shapes, &workload, catalog, &sizes)).collect()
}

impl Rule for MissingIndex {
    fn judge(evidence: &Evidence) -> Vec<Self> {
        let missing = missing_indexes(evidence.families, evidence.catalog, evidence.instance_seconds_per_day);
        match evidence.cost_factor {
            Some(factor) => missing.into_iter().map(|missing| missing.widened(factor)).collect(),
            None => missing,
        }
    }
}

fn weighted<'a>(family: &FamilyCost, shape: &'a Shape<'a>, catalog: &Catalog, sizes: &'a Sizes) -> Weighted<'a> {
    let (calls, pages) = (family.calls as f64, (family.hit_pages + family.read_pages) as f64);
    let counted = Counted { rows: family.rows as f64 / calls, hit_ratio: family.hit_pages as f64 / pages.max(1.0) };
    Weighted {
        shape,
        costing: Costing::of(shape, catalog, sizes, counted),
        calls_per_day: family.calls_per_day,
        now_ms: family.exec_us as f64 / calls / 1e3,
        pages: pages / calls,
    }
}

/// An index that was chosen, with the reasons.
fn told(
    chosen: &Chosen,
    shapes: &[(&FamilyCost, Shape)],
    workload: &[Weighted],
    catalog: &Catalog,
    sizes: &Sizes,
) -> Option<MissingIndex> {
    let form = &chosen.form;
    let table = catalog.tables.iter().find(|table| table.oid == form.table)?;
    let size = sizes.table(table);
    let on_table = |shape: &&(&FamilyCost, Shape)| relations(&shape.1, table).next().is_some();
    let searches = shapes.iter().filter(on_table).count();
    let helped: Vec<&Shape> = chosen.helped.iter().map(|helped| &shapes[helped.statement].1).collect();
    let known = |key: &FormKey| match &key.key {
        IndexKey::Column(name) => {
            let statistics = table.column(name).and_then(|column| column.statistics.as_ref());
            statistics.map(|known| known.distinct_values(size.rows))
        }
        IndexKey::Expression(_) => None,
    };
    let columns: Vec<KeyColumn> = form
        .keys
        .iter()
        .map(|key| KeyColumn {
            name: written(key, &helped),
            is_expression: matches!(key.key, IndexKey::Expression(_)),
            descending: key.descending,
            by_pattern: key.by_pattern,
            role: role(key, &helped, table),
            searches: searches_by(key, shapes, table),
            searches_in_all: searches,
            distinct_values: known(key),
            reason: PlaceReason::OnlyKey,
        })
        .collect();
    let reasons: Vec<PlaceReason> = (0..columns.len()).map(|place| reason(&columns, place)).collect();
    let columns: Vec<KeyColumn> =
        columns.into_iter().zip(reasons).map(|(column, reason)| KeyColumn { reason, ..column }).collect();
    let held = |key: &str| form.keys.iter().any(|own| own.key.text() == key);
    Some(MissingIndex {
        database: catalog.database.clone(),
        schema: table.schema.clone(),
        table: table.name.clone(),
        method: if form.method == Method::Gin { IndexMethod::Gin } else { IndexMethod::Btree },
        carried: form.carried.clone(),
        holds: held_rows(form, &helped, table),
        saved_seconds_per_day: chosen.saved_seconds_per_day,
        size_bytes: chosen.bytes,
        table_rows: size.rows,
        table_pages: size.pages as i64,
        indexes_present: table.indexes.len(),
        makes_superfluous: superfluous(form, table),
        partial_indexes: table
            .indexes
            .iter()
            .filter(|index| index.valid && index.leading_columns().any(held))
            .filter_map(|index| Some(PartialIndex { name: index.name.clone(), condition: index.condition.clone()? }))
            .collect(),
        statistics_known: columns.iter().all(|key| key.distinct_values.is_some()),
        cost_factor: None,
        saved_between: None,
        families: chosen.helped.iter().map(|helped| family(helped, shapes, workload)).collect(),
        columns,
    })
}

fn family(helped: &Helped, shapes: &[(&FamilyCost, Shape)], workload: &[Weighted]) -> HelpedFamily {
    let (of, statement) = (shapes[helped.statement].0, &workload[helped.statement]);
    HelpedFamily {
        family: of.family,
        calls_per_day: statement.calls_per_day,
        now_ms: statement.now_ms,
        predicted_ms: helped.after_ms,
        predicted_between_ms: None,
        now_pages: statement.pages,
        predicted_pages: helped.after_pages,
        rows_per_call: of.rows as f64 / of.calls as f64,
        full_read_share: helped.paying,
        saved_seconds_per_day: (helped.before_ms - helped.after_ms) / 1e3 * statement.calls_per_day,
    }
}

/// The places at which a statement reads a table.
fn relations<'s>(shape: &'s Shape, table: &'s Table) -> impl Iterator<Item = &'s Relation<'s>> {
    let all = shape.blocks.iter().flat_map(|block| &block.relations);
    all.filter(move |relation| matches!(relation.of, Of::Table(of) if of.oid == table.oid))
}

fn searches_by(key: &FormKey, shapes: &[(&FamilyCost, Shape)], table: &Table) -> usize {
    let is_searched = |relation: &Relation| relation.term(&key.key).is_some_and(|term| term.compared.is_exact());
    shapes.iter().filter(|(_, shape)| relations(shape, table).any(is_searched)).count()
}

/// What the statements that are helped use a key for: what narrows most first.
fn role(key: &FormKey, helped: &[&Shape], table: &Table) -> ColumnRole {
    let terms = helped.iter().flat_map(|shape| relations(shape, table)).filter_map(|relation| relation.term(&key.key));
    let mut roles: Vec<ColumnRole> = terms
        .filter_map(|term| match term.compared {
            Compared::Range { .. } => Some(ColumnRole::Range),
            Compared::Prefix => Some(ColumnRole::Beginning),
            Compared::Contains => Some(ColumnRole::Contents),
            compared if compared.is_exact() => Some(ColumnRole::Equality),
            _ => None,
        })
        .collect();
    let blocks = || helped.iter().flat_map(|shape| &shape.blocks);
    let is_of = |block: &crate::workload::shape::Block, relation: usize| matches!(block.relations[relation].of, Of::Table(of) if of.oid == table.oid);
    let is_joined = |block: &crate::workload::shape::Block| {
        let sides = block.joins.iter().flat_map(|join| [&join.left, &join.right]);
        sides.into_iter().any(|(relation, column)| is_of(block, *relation) && column == key.key.text())
    };
    if blocks().any(is_joined) {
        roles.push(ColumnRole::Join);
    }
    roles.sort_by_key(|role| *role != ColumnRole::Equality);
    roles.first().copied().unwrap_or(ColumnRole::Order)
}

/// Why a key stands where it stands.
fn reason(columns: &[KeyColumn], place: usize) -> PlaceReason {
    let (own, next) = (&columns[place], columns.get(place + 1));
    let narrows = |role: ColumnRole| matches!(role, ColumnRole::Equality | ColumnRole::Join);
    match (own.role, next) {
        _ if columns.len() == 1 => PlaceReason::OnlyKey,
        (ColumnRole::Order, _) => PlaceReason::InOrder,
        (role, _) if !narrows(role) => PlaceReason::RangeLast,
        (_, Some(next)) if narrows(next.role) => {
            if own.searches > next.searches {
                PlaceReason::UsedByMore
            } else if own.distinct_values > next.distinct_values {
                PlaceReason::LeavesFewerRows
            } else {
                PlaceReason::AsWritten
            }
        }
        _ => PlaceReason::LastEquality,
    }
}

/// A key as a statement writes it.
fn written(key: &FormKey, helped: &[&Shape]) -> String {
    match &key.key {
        IndexKey::Column(name) => name.clone(),
        IndexKey::Expression(bare) => {
            let texts: HashMap<&String, &String> = helped.iter().flat_map(|shape| &shape.expressions).collect();
            texts.get(bare).map_or_else(|| bare.clone(), |text| (*text).clone())
        }
    }
}

/// The only rows that an index holds, as its statements ask for them.
fn held_rows(form: &IndexForm, helped: &[&Shape], table: &Table) -> Option<HeldRows> {
    let condition = form.condition.as_ref()?;
    let terms = helped.iter().flat_map(|shape| relations(shape, table)).flat_map(|relation| &relation.terms);
    let meant = |term: &&Term| condition_of(term).as_ref() == Some(condition);
    let term = { terms }.find(meant)?;
    let is = match term.compared {
        Compared::Null => HeldValue::Null,
        Compared::NotNull => HeldValue::NotNull,
        Compared::Is(true) => HeldValue::True,
        Compared::Is(false) => HeldValue::False,
        _ => return None,
    };
    Some(HeldRows { column: term.subject.as_ref()?.text().to_owned(), is })
}

/// Indexes that become a mere beginning of a new one.
fn superfluous(form: &IndexForm, table: &Table) -> Vec<String> {
    let names: Vec<&str> = form.keys.iter().map(|key| key.key.text()).collect();
    let is_beginning = |leading: Vec<&str>| leading.len() < names.len() && names.starts_with(&leading);
    let is_plain =
        form.condition.is_none() && form.method == Method::Btree && form.keys.iter().all(|key| !key.by_pattern);
    let whole = table.indexes.iter().filter(|index| is_plain && index.serves_every_row());
    whole
        .filter(|index| index.plain && index.only_serves_searches() && index.carried.is_empty())
        .filter(|index| index.leading_columns().count() == index.keys.len())
        .filter(|index| is_beginning(index.leading_columns().collect()))
        .map(|index| index.name.clone())
        .collect()
}

#[cfg(test)]
pub(super) mod tests {
    use super::told::fulfilled_by;
    use super::*;
    use crate::readings::catalog::Index;
    use crate::readings::catalog::test_catalog::{catalog, index, table};

    pub const GATE_LIST: &str = "select * from passage_leg where state = $1 and crossing_id = $2";

    pub fn leg_catalog(indexes: Vec<Index>) -> Catalog {
        let columns =
            [("passage_leg_id", 600_000.0), ("crossing_id", 6000.0), ("state", 4.0), ("boarded_at", 300_000.0)];
        catalog(1, vec![table("passage_leg", 600_000.0, &columns, indexes)])
    }

    /// A family that ran 600 times in ten minutes, and does so all day.
    pub fn family(number: i64, text: &str, ms: f64, pages: i64, rows: i64) -> FamilyCost {
        FamilyCost {
            family: number,
            text: text.into(),
            calls_per_day: 86_400.0,
            calls: 600,
            exec_us: (ms * 1e3) as i64 * 600,
            rows: rows * 600,
            hit_pages: pages * 600,
            read_pages: 0,
        }
    }

    /// An index of a table for families with their milliseconds per call now and predicted.
    pub fn test_index(table: &str, families: &[(i64, f64, f64)]) -> MissingIndex {
        let helped = |(family, now_ms, predicted_ms): &(i64, f64, f64)| HelpedFamily {
            family: *family,
            calls_per_day: 1000.0,
            now_ms: *now_ms,
            predicted_ms: *predicted_ms,
            predicted_between_ms: None,
            now_pages: 0.0,
            predicted_pages: 0.0,
            rows_per_call: 1.0,
            full_read_share: 1.0,
            saved_seconds_per_day: now_ms - predicted_ms,
        };
        let families: Vec<HelpedFamily> = families.iter().map(helped).collect();
        MissingIndex {
            database: "passage".into(),
            schema: "public".into(),
            table: table.into(),
            method: IndexMethod::Btree,
            columns: Vec::new(),
            carried: Vec::new(),
            holds: None,
            saved_seconds_per_day: families.iter().map(|helped| helped.saved_seconds_per_day).sum(),
            families,
            size_bytes: 0.0,
            table_rows: 1.0,
            table_pages: 1,
            indexes_present: 0,
            makes_superfluous: Vec::new(),
            partial_indexes: Vec::new(),
            statistics_known: true,
            cost_factor: None,
            saved_between: None,
        }
    }

    fn names(advice: &MissingIndex) -> Vec<&str> {
        advice.columns.iter().map(|key| key.name.as_str()).collect()
    }

    #[test]
    fn the_column_that_leaves_fewer_rows_leads() {
        let advice = missing_indexes(&[family(1, GATE_LIST, 240.0, 6000, 25)], &leg_catalog(vec![]), 20_000.0);
        assert_eq!(advice.len(), 1);
        assert_eq!(names(&advice[0]), ["crossing_id", "state"]);
        assert_eq!(advice[0].columns[0].reason, PlaceReason::LeavesFewerRows);
        assert_eq!(advice[0].columns[1].reason, PlaceReason::LastEquality);
        let gate_list = &advice[0].families[0];
        assert_eq!(gate_list.full_read_share, 1.0);
        assert!(gate_list.predicted_ms < 5.0, "{gate_list:?}");
        let saved = (gate_list.now_ms - gate_list.predicted_ms) / 1e3 * 86_400.0;
        assert!((advice[0].saved_seconds_per_day - saved).abs() < 1e-6);
    }

    #[test]
    fn the_column_that_more_searches_use_leads() {
        let by_state = "select count(*) from passage_leg where state = $1 and boarded_at between $2 and $3";
        let families = [family(1, GATE_LIST, 240.0, 6000, 25), family(2, by_state, 240.0, 6000, 25)];
        let advice = missing_indexes(&families, &leg_catalog(vec![]), 20_000.0);
        assert!(advice.iter().any(|advice| names(advice) == ["state", "crossing_id"]));
        let ranged = advice.iter().find(|advice| names(advice) == ["state", "boarded_at"]).unwrap();
        assert_eq!(ranged.columns[1].reason, PlaceReason::RangeLast);
        assert_eq!(ranged.columns[0].searches, 2);
    }

    #[test]
    fn nothing_is_missing_where_an_index_serves() {
        let gate_list = [family(1, GATE_LIST, 240.0, 6000, 25)];
        for keys in [["crossing_id", "state"], ["state", "crossing_id"]] {
            assert_eq!(missing_indexes(&gate_list, &leg_catalog(vec![index("leg", &keys, true)]), 20_000.0), []);
        }
        // 100 rows for each crossing: good enough.
        let narrow = leg_catalog(vec![index("leg", &["crossing_id"], true)]);
        let fast = [family(1, GATE_LIST, 0.2, 104, 25)];
        assert_eq!(missing_indexes(&fast, &narrow, 20_000.0), []);
    }

    #[test]
    fn an_index_that_is_broken_or_holds_only_part_does_not_serve() {
        let gate_list = [family(1, GATE_LIST, 240.0, 6000, 25)];
        let broken = index("leg", &["crossing_id", "state"], false);
        assert_eq!(missing_indexes(&gate_list, &leg_catalog(vec![broken.clone()]), 20_000.0).len(), 1);
        let partial = Index { valid: true, condition: Some("state = 'open'".into()), ..broken };
        let advice = missing_indexes(&gate_list, &leg_catalog(vec![partial]), 20_000.0);
        assert_eq!(advice[0].partial_indexes[0].condition, "state = 'open'");
    }

    #[test]
    fn statements_that_touch_few_pages_need_no_index_whatever_they_search_by() {
        assert_eq!(missing_indexes(&[family(1, GATE_LIST, 3.0, 12, 25)], &leg_catalog(vec![]), 20_000.0), []);
    }

    #[test]
    fn a_range_with_one_end_is_not_enough_and_one_with_two_is() {
        let mut in_order = leg_catalog(vec![]);
        for column in &mut in_order.tables[0].columns {
            // Rows lie in the order of the column, so that reading a third of them by index would be cheaper.
            column.statistics.as_mut().unwrap().correlation = 1.0;
        }
        let since = family(1, "select count(*) from passage_leg where boarded_at > $1", 240.0, 6000, 1);
        assert_eq!(missing_indexes(&[since], &in_order, 20_000.0), []);
        let within =
            family(1, "select count(*) from passage_leg where boarded_at > $1 and boarded_at < $2", 240.0, 6000, 1);
        assert_eq!(names(&missing_indexes(&[within], &in_order, 20_000.0)[0]), ["boarded_at"]);
    }

    #[test]
    fn small_savings_and_small_tables_are_left_alone() {
        let gate_list = family(1, GATE_LIST, 240.0, 6000, 25);
        assert_eq!(missing_indexes(std::slice::from_ref(&gate_list), &leg_catalog(vec![]), 1e8), []);
        let tiny = catalog(1, vec![table("passage_leg", 80.0, &[("crossing_id", 20.0), ("state", 4.0)], vec![])]);
        assert_eq!(missing_indexes(&[family(1, GATE_LIST, 1.0, 1, 25)], &tiny, 100.0), []);
    }

    #[test]
    fn an_index_that_becomes_a_mere_beginning_of_the_new_one_is_named() {
        let by_state = leg_catalog(vec![index("leg_state", &["state"], true)]);
        let only_state = "select 1 from passage_leg where state = $1";
        let families = [family(1, GATE_LIST, 240.0, 6000, 25), family(2, only_state, 1.0, 20, 1)];
        let advice = missing_indexes(&families, &by_state, 20_000.0);
        assert_eq!(names(&advice[0]), ["state", "crossing_id"]);
        assert_eq!(advice[0].makes_superfluous, ["leg_state"]);
        // One that sorts or compares otherwise finds what the new one does not.
        let by_pattern = Index { plain: false, ..index("leg_state", &["state"], true) };
        let advice = missing_indexes(&families, &leg_catalog(vec![by_pattern]), 20_000.0);
        assert_eq!((names(&advice[0]), advice[0].makes_superfluous.len()), (vec!["state", "crossing_id"], 0));
    }

    #[test]
    fn an_index_fulfils_the_advice_when_it_begins_with_its_columns() {
        let advice = missing_indexes(&[family(1, GATE_LIST, 240.0, 6000, 25)], &leg_catalog(vec![]), 20_000.0);
        let with = |keys: &[&str]| leg_catalog(vec![index("leg", keys, true)]);
        assert!(fulfilled_by(&advice[0], &with(&["crossing_id", "state"])).is_some());
        assert!(fulfilled_by(&advice[0], &with(&["crossing_id", "state", "boarded_at"])).is_some());
        assert!(fulfilled_by(&advice[0], &with(&["state", "crossing_id"])).is_none());
        assert!(fulfilled_by(&advice[0], &with(&["crossing_id"])).is_none());
        assert!(fulfilled_by(&advice[0], &leg_catalog(vec![])).is_none());
    }

    #[test]
    fn without_statistics_it_says_so() {
        let mut bare = leg_catalog(vec![]);
        for column in &mut bare.tables[0].columns {
            column.statistics = None;
        }
        let advice = missing_indexes(&[family(1, GATE_LIST, 240.0, 6000, 25)], &bare, 20_000.0);
        assert!(!advice[0].statistics_known);
        assert_eq!(names(&advice[0]), ["state", "crossing_id"]);
        assert_eq!(advice[0].columns[0].reason, PlaceReason::AsWritten);
    }
}
