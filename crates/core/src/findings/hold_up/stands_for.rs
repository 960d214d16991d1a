//! Rule 5: how many seconds a look at the sessions stands for.

use crate::time::Timestamp;

/// A look stands for the time since the one before, and for no more than this many times what is usual between two: what
/// went on while nobody looked is not known.
const MOST_GAPS: f64 = 3.0;

/// How many seconds each look stands for, in order of time: the first as many as is usual. n log n.
pub fn stands_for(looks: &[Timestamp]) -> Vec<f64> {
    let gaps: Vec<f64> = looks.windows(2).map(|pair| pair[1].seconds_since(pair[0])).collect();
    let mut sorted = gaps.clone();
    sorted.sort_by(f64::total_cmp);
    let usual = sorted.get(sorted.len() / 2).copied().unwrap_or(1.0);
    let first = looks.first().map(|_| usual);
    first.into_iter().chain(gaps.into_iter().map(|gap| gap.min(MOST_GAPS * usual))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_look_stands_for_the_time_since_the_one_before_where_that_is_near() {
        let at = |second: i64| Timestamp(second * 1_000_000);
        assert_eq!(stands_for(&[at(0), at(5), at(11), at(16), at(600)]), [6.0, 5.0, 6.0, 5.0, 18.0]);
        assert_eq!(stands_for(&[at(3)]), [1.0]);
        assert_eq!(stands_for(&[]), [] as [f64; 0]);
    }
}
