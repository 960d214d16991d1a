use std::collections::HashMap;

use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use crate::changes::remedy::Remedy;
use crate::findings::alarm::Trouble;
use crate::readings::metric::Metric;
use crate::wording::{bytes, counted};

/// Log kept for a slot that nobody reads from on which somebody should act, in bytes.
const KEPT_TO_ACT: f64 = 10.0 * 1024.0 * 1024.0 * 1024.0;
/// Likewise of a slot that somebody reads, too slowly: worth a look.
const KEPT_TO_LOOK: f64 = 5.0 * 1024.0 * 1024.0 * 1024.0;

/// Which replication slots keep the log from being removed.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    if evidence.measured(Metric::Recovering).is_none() {
        notes.unknown(
            "Slots were not read yet.",
            Step::new("Wait for the next reading, or ask for one now.").see(Page::Collection),
        );
        return notes.done(Check::Slots, "");
    }
    let kept: HashMap<&str, f64> = evidence.measured_of(Metric::SlotKept).collect();
    let slots: Vec<(&str, f64)> = evidence.measured_of(Metric::SlotActive).collect();
    for (slot, active) in &slots {
        let size = kept.get(slot).copied().unwrap_or_default();
        let state = if *active > 0.0 { "read" } else { "not read by anybody" };
        notes.fact(format!("Slot {slot}"), format!("{state}, {} of log kept", bytes(size)));
        if *active > 0.0 {
            if size >= KEPT_TO_LOOK {
                notes
                    .look(
                        format!("Whoever reads the slot {slot} is {} of log behind.", bytes(size)),
                        Step::new("See why the reader is slow; max_slot_wal_keep_size limits what is kept."),
                    )
                    .of(Trouble::Slot, *slot);
            }
            continue;
        }
        let text = format!("Nobody reads the slot {slot}: {} of log are kept for it, and grow.", bytes(size));
        let step = Step::new("Start its reader again, or drop the slot when the reader is gone for good:")
            .run(Remedy::DropSlot((*slot).to_owned()));
        let point = if size >= KEPT_TO_ACT { notes.act(text, step) } else { notes.look(text, step) };
        point.of(Trouble::Slot, *slot);
    }
    let quiet = if slots.is_empty() {
        "There are no slots.".into()
    } else {
        format!("{}; all are read.", counted(slots.len(), "slot"))
    };
    notes.done(Check::Slots, quiet)
}

#[cfg(test)]
mod tests {
    use super::super::evidence::NewestValue;
    use super::*;
    use crate::findings::health::Health;

    #[test]
    fn a_slot_that_nobody_reads_is_told_of_with_what_it_keeps() {
        let look = |active: f64, kept: f64| {
            let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
            let measures = vec![
                measured(Metric::Recovering, "", 0.0),
                measured(Metric::SlotActive, "gates", active),
                measured(Metric::SlotKept, "gates", kept),
            ];
            check(&Evidence { measures, ..Evidence::default() })
        };
        assert_eq!(look(1.0, 1e6).verdict(), Health::Quiet);
        assert_eq!(look(1.0, 6e9).verdict(), Health::Look);
        assert_eq!(look(0.0, 1e6).verdict(), Health::Look);
        let finding = look(0.0, 2e10);
        assert_eq!(finding.verdict(), Health::Act);
        assert_eq!(finding.points[0].step.remedy, Some(Remedy::DropSlot("gates".into())));
    }
}
