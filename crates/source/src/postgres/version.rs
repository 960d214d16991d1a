//! What a version of the server cannot tell, whatever the account may read.

use hurnix_core::readings::figures::Figures;

use super::missing::Missing;
use super::{Server, counters};
use crate::Limit;

/// Parts of kinds; kinds that are missing in whole stand where they are read.
const PARTS: [Missing; 6] = [
    Missing {
        since: 140_000,
        figures: "numbers of running statements",
        concerns: Figures::Activity,
        in_whole: false,
        reason: "Before version 14 a session does not tell the number of the statement that it runs: its load goes to the statement with the same text, and a text longer than track_activity_query_size finds none.",
    },
    Missing {
        since: 140_000,
        figures: "statements thrown out of the list",
        concerns: Figures::Statements,
        in_whole: false,
        reason: "Before version 14 pg_stat_statements tells neither a reset nor how often its list was full: what was thrown out and came back is known by its longest execution alone, and other figures are told as at least.",
    },
    Missing {
        since: 140_000,
        figures: "statements inside functions",
        concerns: Figures::Statements,
        in_whole: false,
        reason: "Before version 14 pg_stat_statements does not tell which statements a function ran: with pg_stat_statements.track = all they count twice, by themselves and with the function.",
    },
    Missing {
        since: 140_000,
        figures: "sessions by database",
        concerns: Figures::Databases,
        in_whole: false,
        reason: "Before version 14 the server does not count the sessions of a database and the time that they were busy or idle in a transaction.",
    },
    Missing {
        since: 140_000,
        figures: "progress of COPY",
        concerns: Figures::Standing,
        in_whole: false,
        reason: "Before version 14 the server does not tell how far a COPY has come.",
    },
    Missing {
        since: 170_000,
        figures: "start times of statement counters",
        concerns: Figures::Statements,
        in_whole: false,
        reason: "Before version 17 pg_stat_statements does not tell since when it has counted a statement: after its list was full, figures of statements with a new longest execution are told as at least.",
    },
];

impl Server {
    /// Tells what this version does not give.
    pub(super) fn find_version_limits(&mut self) {
        let all = PARTS.iter().chain(counters::MISSING);
        let missing = all.filter(|missing| self.version_number < missing.since);
        let limit = |missing: &Missing| Limit {
            figures: missing.figures.into(),
            concerns: vec![missing.concerns],
            in_whole: missing.in_whole,
            by_version: true,
            reason: missing.reason.into(),
            remedy: format!("Upgrade the server to version {} or later.", missing.since / 10_000),
        };
        let limits: Vec<Limit> = missing.map(limit).collect();
        self.limits.extend(limits);
    }
}
