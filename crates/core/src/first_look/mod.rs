//! What somebody who has never seen an instance goes through first: an ordered list of checks, each with a
//! verdict, its evidence, and the next step.
//!
//! One check, one file. A check reads what is known and says what it found; it never asks for more. Where too
//! little is known it says so, and that is not a trouble.

mod backups;
mod clean_up;
mod collection;
mod connections;
mod contents;
mod evidence;
mod finding;
mod indexes;
mod kept_for;
mod locks;
mod memory;
mod planner_statistics;
mod security;
mod sequences;
mod settings;
mod slots;
mod stability;
mod statements;
mod storage;
mod transaction_ids;
mod waits;

pub use evidence::{
    Checkpoints, CostlyFamily, Day, Evidence, History, IndexUse, Lately, LookedAt, Measured, OpenAdvice,
    SettingInForce, Slowdown, Spill, Supplied, Trend,
};
pub use finding::{Check, Fact, Finding, Page, Point, Step};

/// Goes through everything that is known of an instance: one finding for each check, in their order. Linear in
/// the evidence but for sorting.
pub fn first_look(evidence: &Evidence) -> Vec<Finding> {
    Check::ALL
        .into_iter()
        .map(|check| match check {
            Check::Collection => collection::check(evidence),
            Check::Stability => stability::check(evidence),
            Check::Contents => contents::check(evidence),
            Check::Storage => storage::check(evidence),
            Check::Waits => waits::check(evidence),
            Check::Statements => statements::check(evidence),
            Check::Locks => locks::check(evidence),
            Check::Indexes => indexes::check(evidence),
            Check::Settings => settings::check(evidence),
            Check::Connections => connections::check(evidence),
            Check::Memory => memory::check(evidence),
            Check::Backups => backups::check(evidence),
            Check::PlannerStatistics => planner_statistics::check(evidence),
            Check::CleanUp => clean_up::check(evidence),
            Check::TransactionIds => transaction_ids::check(evidence),
            Check::Sequences => sequences::check(evidence),
            Check::Slots => slots::check(evidence),
            Check::Security => security::check(evidence),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::health::Health;

    #[test]
    fn every_check_answers_in_order_and_nothing_known_is_no_trouble() {
        let findings = first_look(&Evidence::default());
        assert_eq!(findings.iter().map(|finding| finding.check).collect::<Vec<_>>(), Check::ALL);
        for finding in findings {
            assert!(finding.verdict() >= Health::NoData, "{finding:?}");
            assert!(!finding.summary.is_empty() && finding.summary.ends_with('.'), "{finding:?}");
        }
    }
}
