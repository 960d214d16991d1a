use std::collections::HashMap;

use super::MissingIndex;

/// Lets each family's time be claimed once, by the index that saves most of it: the others may claim what that leaves.
///
/// An index of the same table is used in place of the first or not at all, so it claims only by how much it would be
/// better still. One of another table is used beside it, and claims its share of what is left. The list is in order of
/// saving before, and again after.
pub fn claim_once(advised: &mut [MissingIndex]) {
    let by_saving = |a: &MissingIndex, b: &MissingIndex| b.saved_seconds_per_day.total_cmp(&a.saved_seconds_per_day);
    advised.sort_by(by_saving);
    // Milliseconds per call that are left of each family, and the table whose index left them.
    let mut left: HashMap<i64, Vec<(String, f64)>> = HashMap::new();
    for index in advised.iter_mut() {
        let table = format!("{}.{}", index.schema, index.table);
        for helped in &mut index.families {
            let claimed = left.entry(helped.family).or_default();
            let share_of_others: f64 =
                claimed.iter().filter(|(other, _)| *other != table).map(|(_, ms)| ms / helped.now_ms).product();
            let of_table = claimed.iter().filter(|(other, _)| *other == table).map(|(_, ms)| *ms);
            let best = of_table.fold(helped.now_ms, f64::min);
            let saved_ms = (best - helped.predicted_ms).max(0.0) * share_of_others;
            helped.saved_seconds_per_day = saved_ms / 1e3 * helped.calls_per_day;
            claimed.retain(|(other, _)| *other != table);
            claimed.push((table.clone(), best.min(helped.predicted_ms)));
        }
        index.families.sort_by(|a, b| b.saved_seconds_per_day.total_cmp(&a.saved_seconds_per_day));
        index.saved_seconds_per_day = index.families.iter().map(|helped| helped.saved_seconds_per_day).sum();
    }
    advised.sort_by(by_saving);
}

#[cfg(test)]
pub(super) mod tests {
    use proptest::prelude::*;

    use super::super::HelpedFamily;
    use super::*;

    /// An index of a table for families with their milliseconds per call now and predicted.
    pub fn index(table: &str, families: &[(i64, f64, f64)]) -> MissingIndex {
        let helped = |(family, now_ms, predicted_ms): &(i64, f64, f64)| HelpedFamily {
            family: *family,
            calls_per_day: 1000.0,
            now_ms: *now_ms,
            predicted_ms: *predicted_ms,
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
            columns: Vec::new(),
            saved_seconds_per_day: families.iter().map(|helped| helped.saved_seconds_per_day).sum(),
            families,
            size_bytes: 0.0,
            table_rows: 1.0,
            table_pages: 1,
            indexes_present: 0,
            makes_superfluous: Vec::new(),
            partial_indexes: Vec::new(),
            statistics_known: true,
        }
    }

    fn savings(mut advised: Vec<MissingIndex>) -> Vec<f64> {
        claim_once(&mut advised);
        advised.iter().map(|index| index.saved_seconds_per_day).collect()
    }

    #[test]
    fn a_second_index_of_a_table_claims_what_the_first_left_out() {
        assert_eq!(savings(vec![index("leg", &[(1, 100.0, 10.0)]), index("leg", &[(1, 100.0, 20.0)])]), [90.0, 0.0]);
        assert_eq!(
            savings(vec![index("leg", &[(1, 100.0, 40.0)]), index("leg", &[(1, 100.0, 30.0), (2, 50.0, 40.0)])]),
            [80.0, 0.0]
        );
    }

    #[test]
    fn an_index_of_another_table_claims_its_share_of_what_is_left() {
        let savings = savings(vec![index("leg", &[(1, 100.0, 10.0)]), index("slot", &[(1, 100.0, 50.0)])]);
        assert!((savings[0] - 90.0).abs() < 1e-9 && (savings[1] - 5.0).abs() < 1e-9, "{savings:?}");
    }

    proptest! {
        #[test]
        fn never_more_is_claimed_than_there_is(
            claims in prop::collection::vec((0usize..3, 0i64..3, 0.0f64..1.0), 1..12),
        ) {
            let now = |family: i64| 100.0 * (family + 1) as f64;
            let tables = ["leg", "slot", "crossing"];
            let advised = claims
                .iter()
                .map(|(table, family, left)| index(tables[*table], &[(*family, now(*family), now(*family) * left)]));
            let mut advised: Vec<MissingIndex> = advised.collect();
            claim_once(&mut advised);
            for family in 0..3 {
                let of_family = advised.iter().flat_map(|index| &index.families).filter(|one| one.family == family);
                let claimed: f64 = of_family.map(|one| one.saved_seconds_per_day).sum();
                prop_assert!(claimed <= now(family) + 1e-6, "{claimed} of {}", now(family));
            }
        }
    }
}
