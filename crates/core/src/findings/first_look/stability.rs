use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Step};
use crate::instance::marker::{Marker, MarkerKind};
use crate::time::SECONDS_PER_DAY;
use crate::wording::{counted, seconds};

/// Days that are looked back over.
const DAYS: f64 = 7.0;
/// Restarts within a day from which on somebody should act.
const RESTARTS_TO_ACT: usize = 3;
/// Restarts or resets within the days looked at that are worth a look: one of them may be upkeep.
const SEVERAL: usize = 2;

/// Whether the server stays up and its counters go on.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let recent = |kind: MarkerKind, days: f64| {
        let from = evidence.at.plus_seconds(-days * SECONDS_PER_DAY);
        evidence.markers.iter().filter(move |marker| marker.kind == kind && marker.at >= from)
    };
    let (restarts, today) = (recent(MarkerKind::Restart, DAYS).count(), recent(MarkerKind::Restart, 1.0).count());
    let find_out = "Find out why: look in the server's log for what was written before each start.";
    if today >= RESTARTS_TO_ACT {
        notes.act(format!("The server was restarted {} within a day.", times(today)), Step::new(find_out));
    } else if restarts >= SEVERAL {
        notes.look(format!("The server was restarted {} within {DAYS} days.", times(restarts)), Step::new(find_out));
    }
    let crashes: Vec<&Marker> = recent(MarkerKind::Crash, DAYS).collect();
    if let Some(last) = crashes.last() {
        let told = format!(
            "A process of the server crashed {} within {DAYS} days: all sessions were ended each time.",
            times(crashes.len())
        );
        let step = Step::new(
            "Look in the server's log for the signal that ended it: memory that ran out, an extension, or a fault of the hardware.",
        );
        if last.at >= evidence.at.plus_seconds(-SECONDS_PER_DAY) {
            notes.act(told, step);
        } else {
            notes.look(told, step).since = Some(last.at);
        }
    }
    let resets = recent(MarkerKind::Reset, DAYS).count();
    if resets >= SEVERAL {
        notes.look(
            format!(
                "Counters were reset {} within {DAYS} days: what was counted before is lost each time.",
                times(resets)
            ),
            Step::new("Find the job that resets them, and stop it: Hurnix takes differences and needs no reset."),
        );
    }
    for failover in recent(MarkerKind::Failover, DAYS) {
        notes
            .look(format!("It changed its part: {}.", failover.text), Step::new("Make sure that this was meant."))
            .since = Some(failover.at);
    }
    for marker in evidence.markers_of(&[MarkerKind::Restart, MarkerKind::Crash, MarkerKind::Reset, MarkerKind::Version])
    {
        notes.moment(marker.text.clone(), marker.at);
    }
    let started_at = evidence.databases.as_ref().map(|snapshot| snapshot.server_started_at);
    let Some(started_at) = started_at else {
        notes
            .unknown("Nothing was read yet that tells when it was started.", Step::new("Wait for the first snapshot."));
        return notes.done(Check::Stability, "");
    };
    notes.moment("Started", started_at);
    let up = seconds(evidence.at.seconds_since(started_at).max(0.0));
    notes.fact("Up for", up.clone());
    notes.done(Check::Stability, format!("It has been up for {up}."))
}

fn times(count: usize) -> String {
    counted(count, "time")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::health::Health;
    use crate::readings::difference::Snapshot;
    use crate::time::Timestamp;

    fn verdict(restarts_days_ago: &[f64]) -> Health {
        verdict_of(MarkerKind::Restart, restarts_days_ago)
    }

    fn verdict_of(kind: MarkerKind, days_ago: &[f64]) -> Health {
        let at = Timestamp(0).plus_seconds(30.0 * SECONDS_PER_DAY);
        let marker = |days: &f64| Marker { at: at.plus_seconds(-days * SECONDS_PER_DAY), kind, text: String::new() };
        let databases = Some(Snapshot::new(at, Timestamp(0), vec![]));
        check(&Evidence { at, databases, markers: days_ago.iter().map(marker).collect(), ..Evidence::default() })
            .verdict()
    }

    #[test]
    fn every_crash_is_told() {
        assert_eq!(verdict_of(MarkerKind::Crash, &[0.5]), Health::Act);
        assert_eq!(verdict_of(MarkerKind::Crash, &[3.0]), Health::Look);
        assert_eq!(verdict_of(MarkerKind::Crash, &[8.0]), Health::Quiet);
    }

    #[test]
    fn one_restart_is_upkeep_two_are_worth_a_look_three_in_a_day_are_not_borne() {
        assert_eq!(verdict(&[]), Health::Quiet);
        assert_eq!(verdict(&[2.0]), Health::Quiet);
        assert_eq!(verdict(&[2.0, 6.0]), Health::Look);
        assert_eq!(verdict(&[2.0, 8.0]), Health::Quiet);
        assert_eq!(verdict(&[0.1, 0.2, 0.9]), Health::Act);
    }
}
