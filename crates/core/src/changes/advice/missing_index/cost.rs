//! What it costs to find rows, by the planner's published formulas (PostgreSQL, `costsize.c`), with
//! one change: the share of pages that the server finds in its cache is known from the statement's
//! own counters, and such a page is charged [`CACHED_PAGE`] instead of a read.

use crate::readings::catalog::{PlannerCosts, Table};

/// Cost of a page that is in the server's cache: looked up, pinned and let go. About as much as
/// handling five rows.
const CACHED_PAGE: f64 = 0.05;
/// Operators to descend one level of a B-tree, as the planner charges them.
const OPERATORS_PER_LEVEL: f64 = 50.0;

/// Rows, pages and cost of one way to find rows.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Access {
    /// Pages touched.
    pub pages: f64,
    /// In the planner's units.
    pub cost: f64,
}

/// Reading all of a table with `conditions` to check on each row.
pub fn full_read(table: &Table, rows: f64, conditions: usize, hit_ratio: f64, costs: &PlannerCosts) -> Access {
    let pages = table.pages.max(1) as f64;
    let per_row = costs.row + costs.operator * conditions as f64;
    Access { pages, cost: pages * page(costs.sequential_page, hit_ratio) + rows * per_row }
}

/// Reading `share` of a table's rows through a B-tree whose leading key has this correlation with
/// the order of the rows.
pub fn index_read(
    table: &Table,
    rows: f64,
    share: f64,
    correlation: f64,
    hit_ratio: f64,
    costs: &PlannerCosts,
) -> Access {
    let found = (rows * share).max(1.0);
    let table_pages = table.pages.max(1) as f64;
    // Scattered rows touch the pages of Mackert and Lohman's formula; rows in order only as many as they fill.
    let scattered = (2.0 * table_pages * found / (2.0 * table_pages + found)).min(table_pages);
    let in_order = (share * table_pages).max(1.0).ceil();
    let ordered = correlation * correlation;
    let heap_pages = scattered + ordered * (in_order - scattered);
    let entries_per_page = 200.0;
    let leaf_pages = (found / entries_per_page).ceil();
    let levels = (rows.max(2.0).ln() / f64::ln(entries_per_page)).ceil();
    let page_cost = page(costs.random_page, hit_ratio);
    let cost = (levels * OPERATORS_PER_LEVEL) * costs.operator
        + (levels + leaf_pages + heap_pages) * page_cost
        + found * (costs.index_entry + costs.row);
    Access { pages: levels + leaf_pages + heap_pages, cost }
}

fn page(read_cost: f64, hit_ratio: f64) -> f64 {
    read_cost * (1.0 - hit_ratio) + CACHED_PAGE * hit_ratio
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::catalog::test_catalog::table;

    #[test]
    fn few_rows_are_cheaper_by_index_and_all_rows_by_a_full_read() {
        let costs = PlannerCosts::default();
        let leg = table("passage_leg", 600_000.0, &[], vec![]);
        let full = full_read(&leg, 600_000.0, 2, 0.0, &costs);
        assert!(index_read(&leg, 600_000.0, 1e-4, 0.0, 0.0, &costs).cost < full.cost / 20.0);
        assert!(index_read(&leg, 600_000.0, 1.0, 0.0, 0.0, &costs).cost > full.cost);
    }

    proptest! {
        #[test]
        fn more_rows_and_colder_pages_never_cost_less(share in 1e-6f64..0.5, hit in 0.0f64..1.0, order in -1.0f64..1.0) {
            let costs = PlannerCosts::default();
            let leg = table("passage_leg", 600_000.0, &[], vec![]);
            let cost = |share: f64, hit: f64| index_read(&leg, 600_000.0, share, order, hit, &costs).cost;
            prop_assert!(cost(share * 2.0, hit) >= cost(share, hit));
            prop_assert!(cost(share, hit * 0.5) >= cost(share, hit));
        }
    }
}
