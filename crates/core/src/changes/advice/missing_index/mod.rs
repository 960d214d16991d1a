//! Rule 8, first part: an index that is missing.
//!
//! For each table, the searches of the families that read it are compared with the indexes it has.
//! Where families pay for full reads that an index on their own columns would spare, [`missing_indexes`]
//! says which columns in which order and why, what it would save, and how large it would be.
//!
//! Equality columns come first, then at most one range column. Among the equality columns those come
//! first that more of the searches use, so that one index serves several, then those that leave fewer
//! rows. That a statement does read the whole table is taken from its counters, not from a guess about
//! its plan: pages per call must be those of a full read, at least in part.
//!
//! What this version does not do yet: joins, order and grouping, expressions, prefix matches,
//! conditions, carried columns, and what writes pay (it is told, not subtracted).

mod claims;
mod cost;
mod searches;
mod told;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Evidence, FamilyCost, Rule};
use crate::findings::index_size::new_index_bytes;
use crate::readings::catalog::{Catalog, Table};
use crate::time::SECONDS_PER_DAY;
use claims::claim_once;
#[cfg(test)]
pub(super) use claims::tests::index as test_index;
use cost::{Access, full_read, index_read};
pub use searches::{Range, Search, Unreadable, searches};

/// Smallest share of the instance's statement time that an index must save to be advised.
pub const LEAST_SHARE: f64 = 0.01;
/// A search must get cheaper by this factor at least.
pub const LEAST_GAIN: f64 = 2.0;
/// Share of rows that lie in a range with two ends, about which nothing more is known: the planner's own default.
const CLOSED_RANGE_SHARE: f64 = 0.005;
/// Share of rows that lie in a range with one end, about which nothing more is known: the planner's own default.
const OPEN_RANGE_SHARE: f64 = 1.0 / 3.0;
/// Different values of a column about which nothing is known: the planner's own default.
const UNKNOWN_DISTINCT: f64 = 200.0;

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
    /// Key columns in the order advised, each with its role and the reason for its place.
    pub columns: Vec<KeyColumn>,
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
    /// The column.
    pub name: String,
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
    /// Compared for a range.
    Range,
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

/// The indexes whose absence costs most, the largest saving first; no two where one would do.
///
/// `instance_seconds_per_day` is the time of all statements of the instance. Families whose text
/// cannot be read are passed over. Linear in families times indexes of their tables.
pub fn missing_indexes(families: &[FamilyCost], catalog: &Catalog, instance_seconds_per_day: f64) -> Vec<MissingIndex> {
    let mut by_table: BTreeMap<String, Vec<(&FamilyCost, Search)>> = BTreeMap::new();
    for family in families.iter().filter(|family| family.calls > 0 && family.seconds > 0.0) {
        for search in searches(&family.text, catalog).unwrap_or_default() {
            by_table.entry(search.table.clone()).or_default().push((family, search));
        }
    }

    let mut advised: Vec<MissingIndex> = Vec::new();
    for (name, searched) in &by_table {
        let Some(table) = catalog.tables.iter().find(|table| table.qualified_name() == *name) else { continue };
        let Some(rows) = table.rows.filter(|rows| *rows >= 1.0) else { continue };
        let mut candidates: Vec<MissingIndex> = Vec::new();
        for (_, search) in searched {
            let keys = key_columns(search, searched, table, rows);
            let names: Vec<&str> = keys.iter().map(|key| key.name.as_str()).collect();
            if candidates
                .iter()
                .any(|known| known.columns.iter().map(|key| key.name.as_str()).eq(names.iter().copied()))
            {
                continue;
            }
            candidates.extend(candidate(table, rows, keys, searched, catalog));
        }
        candidates.retain(|candidate| candidate.saved_seconds_per_day >= LEAST_SHARE * instance_seconds_per_day);
        candidates.sort_by(|a, b| b.saved_seconds_per_day.total_cmp(&a.saved_seconds_per_day));
        // One index per family: the next candidate counts only for families the better ones left out.
        let mut helped: Vec<i64> = Vec::new();
        for candidate in candidates {
            if candidate.families.iter().any(|family| !helped.contains(&family.family)) {
                helped.extend(candidate.families.iter().map(|family| family.family));
                advised.push(candidate);
            }
        }
    }
    claim_once(&mut advised);
    advised.retain(|index| index.saved_seconds_per_day >= LEAST_SHARE * instance_seconds_per_day);
    advised
}

impl Rule for MissingIndex {
    fn judge(evidence: &Evidence) -> Vec<Self> {
        missing_indexes(evidence.families, evidence.catalog, evidence.instance_seconds_per_day)
    }
}

/// The key that serves `search` best, ordered with all searches on the table in view.
fn key_columns(search: &Search, searched: &[(&FamilyCost, Search)], table: &Table, rows: f64) -> Vec<KeyColumn> {
    let used_by =
        |column: &str| searched.iter().filter(|(_, other)| other.equality.iter().any(|name| name == column)).count();
    let distinct = |column: &str| {
        table.column(column).and_then(|column| column.statistics).map(|known| known.distinct_values(rows))
    };
    let mut equality: Vec<&String> = search.equality.iter().collect();
    equality.sort_by(|a, b| {
        let by_use = used_by(b).cmp(&used_by(a));
        by_use.then(distinct(b).unwrap_or_default().total_cmp(&distinct(a).unwrap_or_default()))
    });
    // Of several ranges only the first one after the equalities narrows the search.
    let ranges = search.range.iter().take(1);
    let ordered: Vec<(&String, ColumnRole)> = equality
        .iter()
        .map(|name| (*name, ColumnRole::Equality))
        .chain(ranges.map(|range| (&range.column, ColumnRole::Range)))
        .collect();
    let place = |position: usize| {
        let (name, role) = ordered[position];
        match (role, ordered.get(position + 1)) {
            _ if ordered.len() == 1 => PlaceReason::OnlyKey,
            (ColumnRole::Range, _) => PlaceReason::RangeLast,
            (ColumnRole::Equality, None | Some((_, ColumnRole::Range))) => PlaceReason::LastEquality,
            (ColumnRole::Equality, Some((next, ColumnRole::Equality))) => {
                if used_by(name) > used_by(next) {
                    PlaceReason::UsedByMore
                } else if distinct(name) > distinct(next) {
                    PlaceReason::LeavesFewerRows
                } else {
                    PlaceReason::AsWritten
                }
            }
        }
    };
    (0..ordered.len())
        .map(|position| KeyColumn {
            name: ordered[position].0.clone(),
            role: ordered[position].1,
            searches: used_by(ordered[position].0),
            searches_in_all: searched.len(),
            distinct_values: distinct(ordered[position].0),
            reason: place(position),
        })
        .collect()
}

/// What an index with these keys would do, or nothing when it helps no family.
fn candidate(
    table: &Table,
    rows: f64,
    columns: Vec<KeyColumn>,
    searched: &[(&FamilyCost, Search)],
    catalog: &Catalog,
) -> Option<MissingIndex> {
    let names: Vec<&str> = columns.iter().map(|key| key.name.as_str()).collect();
    let mut families: Vec<HelpedFamily> =
        searched.iter().filter_map(|(family, search)| helped(table, rows, &names, family, search, catalog)).collect();
    if families.is_empty() {
        return None;
    }
    families.sort_by(|a, b| b.saved_seconds_per_day.total_cmp(&a.saved_seconds_per_day));
    let is_prefix = |leading: Vec<&str>| leading.len() < names.len() && names.starts_with(&leading);
    let whole = table.indexes.iter().filter(|index| index.serves_every_row());
    let partial =
        table.indexes.iter().filter(|index| index.valid && index.leading_columns().any(|key| names.contains(&key)));
    Some(MissingIndex {
        database: catalog.database.clone(),
        schema: table.schema.clone(),
        table: table.name.clone(),
        saved_seconds_per_day: families.iter().map(|family| family.saved_seconds_per_day).sum(),
        size_bytes: new_index_bytes(table, rows, &names, &[]),
        table_rows: rows,
        table_pages: table.pages,
        indexes_present: table.indexes.len(),
        makes_superfluous: whole
            .filter(|index| index.plain && !index.unique && !index.is_needed() && index.carried.is_empty())
            .filter(|index| index.leading_columns().count() == index.keys.len())
            .filter(|index| is_prefix(index.leading_columns().collect()))
            .map(|index| index.name.clone())
            .collect(),
        partial_indexes: partial
            .filter_map(|index| Some(PartialIndex { name: index.name.clone(), condition: index.condition.clone()? }))
            .collect(),
        statistics_known: columns.iter().all(|key| key.distinct_values.is_some()),
        columns,
        families,
    })
}

/// What an index on `keys` would do for one family, or nothing when it would not help it.
fn helped(
    table: &Table,
    rows: f64,
    keys: &[&str],
    family: &FamilyCost,
    search: &Search,
    catalog: &Catalog,
) -> Option<HelpedFamily> {
    let costs = &catalog.costs;
    let calls = family.calls as f64;
    let pages = (family.hit_pages + family.read_pages) as f64 / calls;
    let hit_ratio = family.hit_pages as f64 / ((family.hit_pages + family.read_pages) as f64).max(1.0);
    let read_by = |keys: &[&str]| {
        let (share, used) = matched(table, rows, keys, search);
        (used > 0).then(|| index_read(table, rows, share, correlation(table, keys[0]), hit_ratio, costs))
    };
    // How much lies beyond one end is anybody's guess: not enough to advise an index for.
    let narrowed = |key: &&str| {
        search.equality.iter().any(|name| name == key)
            || search.range.iter().any(|range| range.column == **key && range.from && range.to)
    };
    if !keys.first().is_some_and(narrowed) {
        return None;
    }
    let with_index = read_by(keys)?;
    let full = full_read(table, rows, search.equality.len() + search.range.len(), hit_ratio, costs);

    // What the best index already there would cost: if that is as good, this one is not missing.
    let best_present = table
        .indexes
        .iter()
        .filter(|index| index.serves_every_row())
        .filter_map(|index| {
            let leading: Vec<&str> = index.leading_columns().collect();
            if leading.is_empty() { None } else { read_by(&leading) }
        })
        .min_by(|a, b| a.cost.total_cmp(&b.cost));
    let without_index: Access = match best_present {
        Some(present) if present.cost < full.cost => present,
        _ => full,
    };
    if without_index.cost < LEAST_GAIN * with_index.cost || without_index.pages <= with_index.pages {
        return None;
    }

    // How many of the calls pay for it today, judged by the pages they touch.
    let paying = ((pages - with_index.pages) / (without_index.pages - with_index.pages)).clamp(0.0, 1.0);
    let cost_now = paying * without_index.cost + (1.0 - paying) * with_index.cost;
    let now_ms = family.exec_us as f64 / calls / 1e3;
    let predicted_ms = now_ms * with_index.cost / cost_now;
    if now_ms < LEAST_GAIN * predicted_ms {
        return None;
    }
    let calls_per_day = calls / family.seconds * SECONDS_PER_DAY;
    Some(HelpedFamily {
        family: family.family,
        calls_per_day,
        now_ms,
        predicted_ms,
        now_pages: pages,
        predicted_pages: with_index.pages,
        rows_per_call: family.rows as f64 / calls,
        full_read_share: paying,
        saved_seconds_per_day: (now_ms - predicted_ms) / 1e3 * calls_per_day,
    })
}

/// Share of the rows that a search must look at through an index with these keys, and how many keys
/// narrow it: leading ones compared for equality, then one compared for a range.
fn matched(table: &Table, rows: f64, keys: &[&str], search: &Search) -> (f64, usize) {
    let mut share = 1.0;
    let mut used = 0;
    for key in keys {
        let equal = search.equality.iter().any(|name| name == key);
        if equal {
            let known = table.column(key).and_then(|column| column.statistics);
            share /= known.map_or(UNKNOWN_DISTINCT.min(rows), |known| known.distinct_values(rows));
        } else if let Some(range) = search.range.iter().find(|range| range.column == *key) {
            share *= if range.from && range.to { CLOSED_RANGE_SHARE } else { OPEN_RANGE_SHARE };
        } else {
            break;
        }
        used += 1;
        if !equal {
            break;
        }
    }
    (share.max(1.0 / rows), used)
}

fn correlation(table: &Table, column: &str) -> f64 {
    table.column(column).and_then(|column| column.statistics).map_or(0.0, |known| known.correlation)
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

    /// A family that ran 600 times in ten minutes.
    pub fn family(number: i64, text: &str, ms: f64, pages: i64, rows: i64) -> FamilyCost {
        FamilyCost {
            family: number,
            text: text.into(),
            seconds: 600.0,
            calls: 600,
            exec_us: (ms * 1e3) as i64 * 600,
            rows: rows * 600,
            hit_pages: pages * 600,
            read_pages: 0,
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
