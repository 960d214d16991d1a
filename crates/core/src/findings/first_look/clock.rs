use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use crate::readings::metric::Metric;
use crate::wording::seconds;

/// A server's clock so far from Hurnix's is worth a look, in seconds: its figures stand beside those of another moment.
const OFF_TO_LOOK: f64 = 5.0;
/// So far that somebody should act: figures fall into other buckets, and certificates and sessions end at other times.
const OFF_TO_ACT: f64 = 300.0;

/// Whether the clock of the server's host agrees with that of the machine of Hurnix, and which time its log tells. The zone
/// of sessions cannot be seen: Hurnix's own have theirs from the driver.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let Some(ahead) = evidence.measured(Metric::ClockOffset) else {
        let step = Step::new("Wait for the next reading, or ask for one now.").see(Page::Collection);
        notes.unknown("The server's clock was not read yet.", step);
        return notes.done(Check::Clock, "");
    };
    let side = if ahead < 0.0 { "behind" } else { "ahead of" };
    notes.fact("Clock of the host", format!("{} {side} Hurnix's", seconds(ahead.abs())));
    if ahead.abs() >= OFF_TO_LOOK {
        let text =
            format!("The clock of the server's host is {} {side} that of the machine of Hurnix.", seconds(ahead.abs()));
        let step = Step::new("See which of the two is wrong, and let both take their time from the same source (NTP).");
        if ahead.abs() >= OFF_TO_ACT {
            notes.act(text, step)
        } else {
            notes.look(text, step)
        };
    }
    if let Some(zone) = evidence.setting_value("log_timezone") {
        notes.fact("Time zone of the server's log", zone);
    }
    notes.done(Check::Clock, "The clock of the server's host agrees with that of the machine of Hurnix.")
}

#[cfg(test)]
mod tests {
    use super::super::evidence::NewestValue;
    use super::*;
    use crate::findings::health::Health;

    #[test]
    fn a_clock_that_is_off_is_told_of_either_way() {
        let check = |ahead: f64| {
            let measured = NewestValue { metric: Metric::ClockOffset, object: String::new(), value: ahead };
            check(&Evidence { measures: vec![measured], ..Evidence::default() })
        };
        assert_eq!([0.4, -4.9].map(|ahead| check(ahead).verdict()), [Health::Quiet; 2]);
        assert_eq!([5.0, -20.0].map(|ahead| check(ahead).verdict()), [Health::Look; 2]);
        assert_eq!([301.0, -3600.0].map(|ahead| check(ahead).verdict()), [Health::Act; 2]);
        assert!(check(-20.0).summary.contains("behind that of") && check(20.0).summary.contains("ahead of that of"));
    }
}
