//! How long somebody must wait who gave wrong passwords.
//!
//! The first few mistakes cost nothing. After them each one doubles the wait, up to a quarter of an hour:
//! long enough to make guessing hopeless, and never for good. Attempts made while waiting are not looked at,
//! and do not make the wait longer. A quiet day forgives everything.

/// Mistakes that cost nothing.
const FREE: u32 = 3;
/// Mistakes that cost nothing, of all who share an address.
const FREE_OF_ADDRESS: u32 = 20;
/// The first wait, in seconds.
const FIRST_SECONDS: f64 = 2.0;
/// The longest wait, in seconds.
pub const LONGEST_SECONDS: f64 = 900.0;
/// After so many seconds without a mistake, all are forgiven.
pub const FORGIVEN_SECONDS: f64 = 86_400.0;

/// Seconds still to wait, `since_last` seconds after the last of so many mistakes; 0 for nothing.
pub fn wait_seconds(mistakes: u32, since_last: f64) -> f64 {
    if mistakes <= FREE || since_last >= FORGIVEN_SECONDS {
        return 0.0;
    }
    // No more doublings than reach the longest wait.
    let doublings = (mistakes - FREE - 1).min(20);
    let wait = (FIRST_SECONDS * f64::from(1u32 << doublings)).min(LONGEST_SECONDS);
    (wait - since_last.max(0.0)).max(0.0)
}

/// Likewise for all mistakes made from one address, which many people may share: more of them cost nothing.
pub fn wait_seconds_of_address(mistakes: u32, since_last: f64) -> f64 {
    wait_seconds(mistakes.saturating_sub(FREE_OF_ADDRESS - FREE), since_last)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_few_mistakes_are_free_and_then_waits_double() {
        assert_eq!([1, 2, 3, 4, 5, 6].map(|mistakes| wait_seconds(mistakes, 0.0)), [0.0, 0.0, 0.0, 2.0, 4.0, 8.0]);
        assert_eq!(wait_seconds(5, 3.0), 1.0);
        assert_eq!(wait_seconds(100, FORGIVEN_SECONDS), 0.0);
        assert_eq!([20, 21, 22].map(|mistakes| wait_seconds_of_address(mistakes, 0.0)), [0.0, 2.0, 4.0]);
    }

    #[test]
    fn a_thousand_guesses_take_more_than_a_week() {
        let week = 7.0 * 86_400.0;
        assert!((1..=1000).map(|mistakes| wait_seconds(mistakes, 0.0)).sum::<f64>() > week);
    }

    proptest! {
        /// Nobody is locked out for longer than the longest wait, whatever happened.
        #[test]
        fn every_wait_ends(mistakes: u32, since_last in -1e9f64..1e9) {
            let wait = wait_seconds(mistakes, since_last);
            prop_assert!((0.0..=LONGEST_SECONDS).contains(&wait));
            prop_assert!(wait_seconds(mistakes, since_last.max(0.0) + LONGEST_SECONDS) == 0.0);
            prop_assert!(wait_seconds(mistakes.saturating_add(1), since_last) >= wait);
        }
    }
}
