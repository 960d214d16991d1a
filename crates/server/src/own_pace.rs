//! What an instance may have of its own instead of the program's: how often it is read, and what that may
//! cost it.

use std::collections::BTreeMap;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::options::Intervals;

/// An instance's own intervals and budget. What is not given is the program's.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct OwnPace {
    /// Seconds between two readings, from 1 to 86400, by what is read: activity, statements, databases,
    /// tables, catalog, measures, space, server_log, settings or plans. Likewise activity_write, between two
    /// writes of what looks at the sessions saw, and bucket, the width in which changes are looked for.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub intervals: BTreeMap<String, f64>,
    /// Share of one core that reading may cost the watched server, above 0 and at most 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(exclusive_minimum = 0, maximum = 1)]
    pub budget_share: Option<f64>,
    /// Bytes that may be read from it in a second, from 1024 to 1 GiB.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1024, maximum = 1073741824)]
    pub budget_bytes: Option<f64>,
}

/// Something in it that cannot be.
#[derive(Debug, Clone, PartialEq)]
pub struct Fault {
    /// Name of the field.
    pub field: String,
    /// What was given.
    pub value: f64,
    /// What may be given.
    pub remedy: String,
}

const LONGEST_SECONDS: f64 = 86_400.0;
const LEAST_BYTES: f64 = 1024.0;
const MOST_BYTES: f64 = 1024.0 * 1024.0 * 1024.0;

impl OwnPace {
    /// As it is stored; what cannot be read is as if it were not there.
    pub fn stored(value: &serde_json::Value) -> OwnPace {
        serde_json::from_value(value.clone()).unwrap_or_default()
    }

    /// What in it cannot be.
    pub fn faults(&self) -> Vec<Fault> {
        let fault = |field: String, value: f64, remedy: String| Fault { field, value, remedy };
        let mut faults = Vec::new();
        for (name, seconds) in &self.intervals {
            if !Intervals::OWN.contains(&name.as_str()) {
                let remedy = format!("There is no such interval; there are {}.", Intervals::OWN.join(", "));
                faults.push(fault(format!("intervals.{name}"), *seconds, remedy));
            } else if !(1.0..=LONGEST_SECONDS).contains(seconds) {
                let remedy = "Give seconds from 1 to 86400, which is a day.".into();
                faults.push(fault(format!("intervals.{name}"), *seconds, remedy));
            }
        }
        if let Some(share) = self.budget_share.filter(|share| !(*share > 0.0 && *share <= 1.0)) {
            let remedy = "Give a share of one core such as 0.01, which is one per cent; at most 1.".into();
            faults.push(fault("budget_share".into(), share, remedy));
        }
        if let Some(bytes) = self.budget_bytes.filter(|bytes| !(LEAST_BYTES..=MOST_BYTES).contains(bytes)) {
            let remedy = "Give bytes a second from 1024 to 1073741824, which is 1 GiB.".into();
            faults.push(fault("budget_bytes".into(), bytes, remedy));
        }
        faults
    }

    /// The program's intervals and budget, with its own in their places.
    pub fn in_place_of(&self, usual: &Intervals) -> Intervals {
        let mut intervals = usual.clone();
        for (name, seconds) in &self.intervals {
            if let Some(interval) = intervals.named_mut(name) {
                *interval = Duration::from_secs_f64(*seconds);
            }
        }
        if let Some(share) = self.budget_share {
            intervals.budget_share = share;
        }
        if let Some(bytes) = self.budget_bytes {
            intervals.budget_kib = (bytes / 1024.0).round() as u32;
        }
        intervals
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;
    use serde_json::json;

    use super::*;

    #[derive(Parser)]
    struct Cli {
        #[command(flatten)]
        intervals: Intervals,
    }

    #[test]
    fn its_own_stands_in_place_of_the_programs_and_the_rest_stays() {
        let usual = Cli::parse_from(["hurnix"]).intervals;
        let own = OwnPace::stored(&json!({ "intervals": { "statements": 20 }, "budget_bytes": 65536 }));
        let intervals = own.in_place_of(&usual);
        assert_eq!(intervals.statements, Duration::from_secs(20));
        assert_eq!(intervals.budget().bytes, 65_536.0);
        assert_eq!((intervals.budget_share, intervals.tables), (usual.budget_share, usual.tables));
    }

    #[test]
    fn every_name_that_is_told_is_one_that_works() {
        let mut intervals = Cli::parse_from(["hurnix"]).intervals;
        for name in Intervals::OWN {
            assert!(intervals.named_mut(name).is_some(), "{name}");
        }
    }

    #[test]
    fn each_fault_is_named_with_what_may_be_given() {
        let own = OwnPace::stored(&json!({
            "intervals": { "queries": 5, "tables": 0.5, "plans": 600 }, "budget_share": 1.5, "budget_bytes": 3
        }));
        let fields: Vec<String> = own.faults().into_iter().map(|fault| fault.field).collect();
        assert_eq!(fields, ["intervals.queries", "intervals.tables", "budget_share", "budget_bytes"]);
        assert!(own.faults()[0].remedy.contains("statements"));
        assert_eq!(OwnPace { budget_share: Some(f64::NAN), ..OwnPace::default() }.faults().len(), 1);
    }
}
