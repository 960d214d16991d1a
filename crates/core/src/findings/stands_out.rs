//! Which instances of a group stand out from the others by one figure, such as the time per call of one statement.
//!
//! Each instance is held against the others, not against a middle that it is part of: with three of them one that is ten
//! times slower would move that by itself. On a log scale, since times are ratios.

use super::robust::{median, scaled_mad};

/// Calls below which the time per call on an instance tells too little to be held against others.
pub const LEAST_CALLS: i64 = 20;
/// So many others there must be to be held against.
const LEAST_OTHERS: usize = 2;
/// Less of a difference is nothing that anybody acts upon.
const LEAST_RATIO: f64 = 1.5;
/// Spreads of the others that it must be away from their median.
const SPREADS: f64 = 3.0;
/// The least spread that is believed, on the log scale: few instances may be alike by chance.
const LEAST_SPREAD: f64 = 0.1;

/// How far each value is from the median of the others, as a ratio; nothing where it does not stand out. Values that are
/// not above zero are left out. Quadratic in the number of instances, which are few.
pub fn stands_out(values: &[Option<f64>]) -> Vec<Option<f64>> {
    let logs: Vec<Option<f64>> = values.iter().map(|value| value.filter(|value| *value > 0.0).map(f64::ln)).collect();
    let away = |(place, own): (usize, &Option<f64>)| {
        let own = (*own)?;
        let others = logs.iter().enumerate().filter(|(other, _)| *other != place);
        let others: Vec<f64> = others.filter_map(|(_, log)| *log).collect();
        if others.len() < LEAST_OTHERS {
            return None;
        }
        let by = own - median(&others)?;
        let spread = scaled_mad(&others)?.max(LEAST_SPREAD);
        (by.abs() >= LEAST_RATIO.ln() && by.abs() > SPREADS * spread).then(|| by.exp())
    };
    logs.iter().enumerate().map(away).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn of(values: &[f64]) -> Vec<Option<f64>> {
        stands_out(&values.iter().copied().map(Some).collect::<Vec<_>>())
    }

    #[test]
    fn one_of_three_that_is_ten_times_slower() {
        let found = of(&[3.0, 30.0, 3.2]);
        assert!(found[0].is_none() && found[2].is_none());
        assert!((found[1].unwrap() - 30.0 / 9.6_f64.sqrt()).abs() < 1e-9);
    }

    #[test]
    fn nothing_stands_out_where_all_differ_or_too_few_are_known() {
        assert_eq!(of(&[1.0, 4.0, 20.0, 90.0]), [None; 4]);
        assert_eq!(of(&[3.0, 30.0]), [None; 2]);
        assert_eq!(stands_out(&[Some(3.0), Some(30.0), None, Some(0.0)]), [None; 4]);
        assert_eq!(of(&[3.0, 3.1, 4.0]), [None; 3]);
    }

    proptest! {
        #[test]
        fn units_and_order_do_not_matter(values in prop::collection::vec(0.1..1e4f64, 1..9), unit in 1e-3..1e3f64) {
            let found = of(&values);
            let scaled: Vec<f64> = values.iter().map(|value| value * unit).collect();
            let mut turned: Vec<f64> = values.clone();
            turned.reverse();
            let mut turned = of(&turned);
            turned.reverse();
            for ((one, other), third) in found.iter().zip(of(&scaled)).zip(turned) {
                prop_assert_eq!(one.is_some(), other.is_some());
                prop_assert_eq!(one.is_some(), third.is_some());
            }
        }

        #[test]
        fn instances_that_are_alike_do_not_stand_out(value in 0.1..1e4f64, count in 1usize..9) {
            prop_assert!(of(&vec![value; count]).iter().all(Option::is_none));
        }
    }
}
