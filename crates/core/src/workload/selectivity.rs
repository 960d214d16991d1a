//! Which share of a table's rows meets what a statement asks for, by the planner's statistics (PostgreSQL,
//! `selfuncs.c`), with one difference: the value that is asked for is not known, and the planner takes all values for
//! equally likely; here a value is asked for as often as rows have it. So a column in which nearly all rows are alike
//! does not narrow a search.
//!
//! Laws, tested below: a share is never more than one; more is never met by asking for more.

use super::cost::condition_of;
use super::index_form::IndexForm;
use super::shape::{Compared, Term};
use crate::readings::catalog::{ColumnStatistics, IndexKey, Table};

/// Different values of a column about which nothing is known: the planner's own default.
pub const UNKNOWN_DISTINCT: f64 = 200.0;
/// Share of rows that lie in a range with two ends, about which nothing more is known: the planner's own default.
const CLOSED_RANGE_SHARE: f64 = 0.005;
/// Share of rows that lie in a range with one end, about which nothing more is known: the planner's own default.
const OPEN_RANGE_SHARE: f64 = 1.0 / 3.0;
/// Share of rows that begin with a text: the planner's own default.
const PREFIX_SHARE: f64 = 0.005;
/// Share of rows that contain what is asked for: the planner's own default for arrays and JSON.
const CONTAINS_SHARE: f64 = 0.005;
/// Share of rows that meet what nothing is known about: the planner's own default.
const OTHER_SHARE: f64 = 1.0 / 3.0;
/// Share of rows without a value, and of those that are true, where nothing is known.
const UNKNOWN_NULL_SHARE: f64 = 0.005;
const UNKNOWN_TRUE_SHARE: f64 = 0.5;

/// Share of a table's rows that meet a term.
pub fn share(table: &Table, rows: f64, term: &Term) -> f64 {
    let statistics = match &term.subject {
        Some(IndexKey::Column(name)) => table.column(name).and_then(|column| column.statistics.as_ref()),
        _ => None,
    };
    let share = match term.compared {
        Compared::Equal => equal_share(statistics, rows),
        Compared::OneOf(values) => equal_share(statistics, rows) * values as f64,
        Compared::Range { from: true, to: true } => CLOSED_RANGE_SHARE,
        Compared::Range { .. } => OPEN_RANGE_SHARE,
        Compared::Prefix => PREFIX_SHARE,
        Compared::Null => statistics.map_or(UNKNOWN_NULL_SHARE, |known| known.null_fraction),
        Compared::NotNull => 1.0 - statistics.map_or(UNKNOWN_NULL_SHARE, |known| known.null_fraction),
        Compared::Is(is) => {
            let known = statistics.and_then(|known| Some((known.true_share?, 1.0 - known.null_fraction)));
            match (known, is) {
                (Some((is_true, _)), true) => is_true,
                (Some((is_true, with_value)), false) => with_value - is_true,
                (None, _) => UNKNOWN_TRUE_SHARE,
            }
        }
        Compared::Contains => CONTAINS_SHARE,
        Compared::Other => OTHER_SHARE,
    };
    share.clamp(1.0 / rows.max(1.0), 1.0)
}

/// Share of rows that have one value, which is asked for as often as rows have it.
fn equal_share(statistics: Option<&ColumnStatistics>, rows: f64) -> f64 {
    let Some(known) = statistics else { return 1.0 / UNKNOWN_DISTINCT.min(rows.max(1.0)) };
    let distinct = known.distinct_values(rows);
    let with_value = (1.0 - known.null_fraction).max(f64::EPSILON);
    let common: f64 = known.common.iter().sum();
    let others = (distinct - known.common.len() as f64).max(1.0);
    let rest = (with_value - common).max(0.0);
    let squares = known.common.iter().map(|share| share * share).sum::<f64>() + rest * rest / others;
    (squares / with_value).max(with_value / rows.max(1.0))
}

/// Different values of a column.
pub fn distinct(table: &Table, rows: f64, column: &str) -> f64 {
    let statistics = table.column(column).and_then(|column| column.statistics.as_ref());
    statistics.map_or(UNKNOWN_DISTINCT.min(rows), |known| known.distinct_values(rows)).max(1.0)
}

/// Share of a table's rows that an index with a condition holds; half of them where nothing is known of it.
pub fn held(table: &Table, rows: f64, form: &IndexForm) -> f64 {
    let Some(condition) = &form.condition else { return 1.0 };
    let ways = [Compared::Null, Compared::NotNull, Compared::Is(true), Compared::Is(false)];
    let terms = table.columns.iter().flat_map(|column| {
        let subject = Some(IndexKey::Column(column.name.clone()));
        ways.into_iter().map(move |compared| Term { subject: subject.clone(), compared })
    });
    let meant = terms.into_iter().find(|term| condition_of(term).as_ref() == Some(condition));
    meant.map_or(UNKNOWN_TRUE_SHARE, |term| share(table, rows, &term))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::catalog::test_catalog::table;

    fn share_of(common: &[f64], distinct: f64, compared: Compared) -> f64 {
        let mut leg = table("passage_leg", 1e6, &[("state", distinct)], vec![]);
        let known = leg.columns[0].statistics.as_mut().unwrap();
        known.common = common.to_vec();
        share(&leg, 1e6, &Term { subject: Some(IndexKey::Column("state".into())), compared })
    }

    #[test]
    fn a_value_is_asked_for_as_often_as_rows_have_it() {
        assert!((share_of(&[], 100.0, Compared::Equal) - 0.01).abs() < 1e-9);
        // Nine of ten rows are alike: who asks for any of them finds eight of ten.
        let skewed = share_of(&[0.9, 0.05, 0.03, 0.02], 4.0, Compared::Equal);
        assert!((skewed - 0.8138).abs() < 1e-6, "{skewed}");
        assert!((share_of(&[], 100.0, Compared::OneOf(3)) - 0.03).abs() < 1e-9);
        assert_eq!(share_of(&[], 2.0, Compared::OneOf(3)), 1.0);
    }

    proptest! {
        #[test]
        fn a_share_is_one_at_most_and_a_list_never_finds_less(
            common in prop::collection::vec(0.0f64..0.2, 0..5), distinct in 5.0f64..1e5, values in 1usize..50,
        ) {
            let one = share_of(&common, distinct, Compared::Equal);
            let several = share_of(&common, distinct, Compared::OneOf(values));
            prop_assert!(one > 0.0 && one <= several && several <= 1.0, "{one} {several}");
        }
    }
}
