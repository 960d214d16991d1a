//! Parts of a period over which figures can be reported: those between restarts, crashes and resets.
//!
//! Counters of a period with a restart in it are not the server's own at its two ends: such a period is not reported on as
//! a whole. What lies between can be.
//!
//! Laws, tested below: parts lie within the period, do not overlap, and none has an interruption inside.

use crate::time::{Timestamp, Window};

/// Shorter parts are not worth a report, in seconds.
const LEAST_SECONDS: f64 = 600.0;

/// Why counters do not go through a moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Interruption {
    /// When.
    pub at: Timestamp,
    /// What happened, such as `the server was restarted`.
    pub what: String,
}

/// The parts of a period without interruptions inside, in order of time; the whole of it where there is none. Parts too
/// short for a report are left out, unless the period itself is as short. n log n in the interruptions.
pub fn usable_parts(period: Window, interruptions: &[Interruption]) -> Vec<Window> {
    let mut cuts: Vec<Timestamp> =
        interruptions.iter().map(|one| one.at).filter(|at| *at > period.from && *at < period.to).collect();
    if cuts.is_empty() {
        return vec![period];
    }
    cuts.sort_unstable();
    cuts.dedup();
    let starts = std::iter::once(period.from).chain(cuts.iter().copied());
    let ends = cuts.iter().copied().chain(std::iter::once(period.to));
    let least = LEAST_SECONDS.min(period.seconds() / 2.0);
    let parts = starts.zip(ends).map(|(from, to)| Window { from, to });
    parts.filter(|part| part.seconds() >= least).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn window(from: i64, to: i64) -> Window {
        Window { from: Timestamp(from * 1_000_000), to: Timestamp(to * 1_000_000) }
    }

    fn at(second: i64) -> Interruption {
        Interruption { at: Timestamp(second * 1_000_000), what: "the server was restarted".into() }
    }

    #[test]
    fn a_restart_in_the_middle_leaves_two_parts() {
        let parts = usable_parts(window(0, 7_200), &[at(3_000)]);
        assert_eq!(parts, [window(0, 3_000), window(3_000, 7_200)]);
    }

    #[test]
    fn what_happened_at_the_ends_or_outside_cuts_nothing() {
        assert_eq!(usable_parts(window(0, 7_200), &[at(0), at(7_200), at(9_000)]), [window(0, 7_200)]);
    }

    #[test]
    fn short_parts_are_left_out() {
        assert_eq!(usable_parts(window(0, 7_200), &[at(60), at(90), at(7_190)]), [window(90, 7_190)]);
        assert_eq!(usable_parts(window(0, 60), &[at(10)]), [window(10, 60)]);
    }

    proptest! {
        #[test]
        fn parts_are_inside_apart_and_whole(cuts in prop::collection::vec(-500i64..9_000, 0..20), to in 1i64..8_000) {
            let period = window(0, to);
            let interruptions: Vec<Interruption> = cuts.iter().map(|cut| at(*cut)).collect();
            let parts = usable_parts(period, &interruptions);
            for part in &parts {
                prop_assert!(part.from >= period.from && part.to <= period.to && part.from < part.to);
                prop_assert!(interruptions.iter().all(|one| one.at <= part.from || one.at >= part.to));
            }
            prop_assert!(parts.windows(2).all(|pair| pair[0].to <= pair[1].from));
        }
    }
}
