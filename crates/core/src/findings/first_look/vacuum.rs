use std::collections::HashMap;

use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use super::kept_for::rows_are_kept_for;
use crate::changes::remedy::{Qualified, Remedy};
use crate::findings::alarm::Trouble;
use crate::findings::health::Health;
use crate::readings::metric::Metric;
use crate::wording::{number, percent, seconds};

/// Share of dead row versions that is worth a look, and to act on, of tables with so many of them.
const DEAD_TO_LOOK: f64 = 0.2;
const DEAD_TO_ACT: f64 = 0.5;
const LEAST_DEAD: f64 = 10_000.0;
const LEAST_DEAD_TO_ACT: f64 = 1_000_000.0;
/// Age of a prepared transaction that is worth a look, and to act on, in seconds.
const PREPARED_TO_LOOK: f64 = 600.0;
const PREPARED_TO_ACT: f64 = 3600.0;
/// Tables told.
const MOST_TOLD: usize = 5;

/// Whether old versions of rows are removed, and what holds that back.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    if evidence.measured_of(Metric::DatabaseSize).next().is_none() {
        notes.unknown(
            "The state of upkeep was not read yet.",
            Step::new("Wait for the next reading, or ask for one now.").see(Page::Collection),
        );
        return notes.done(Check::Vacuum, "");
    }
    let by_table = |metric| evidence.measured_of(metric).collect::<HashMap<&str, f64>>();
    let (live, ago) = (by_table(Metric::LiveRows), by_table(Metric::VacuumedAgo));
    let back = rows_are_kept_for(evidence, false);
    for (table, dead) in evidence.largest_of(Metric::DeadRows).into_iter().filter(|(_, dead)| *dead > 0.0) {
        let share = dead / (dead + live.get(table).copied().unwrap_or_default());
        let passed = ago.get(table).map_or_else(|| "never yet".to_owned(), |ago| format!("{} ago", seconds(*ago)));
        if notes.facts_noted() < MOST_TOLD {
            notes.fact(
                table.to_owned(),
                format!("{} dead rows, {}; last vacuumed {passed}", number(dead), percent(share)),
            );
        }
        if dead < LEAST_DEAD || share < DEAD_TO_LOOK {
            continue;
        }
        let verdict = if share >= DEAD_TO_ACT && dead >= LEAST_DEAD_TO_ACT { Health::Act } else { Health::Look };
        let step = match &back {
            Some(back) => Step::new(format!("First end what holds it back: {back}. Then:")),
            None => Step::new("Clean it up now; if this comes back, let autovacuum take this table sooner:"),
        };
        notes.point(
            verdict,
            format!("{} of the versions of rows in {table} are dead, {} of them.", percent(share), number(dead)),
            step.run(Remedy::Vacuum(Qualified::of(table))),
        );
    }
    prepared(&mut notes, evidence);
    if let Some(back) = &back {
        notes.fact("What keeps vacuum from removing rows", back.clone());
    }
    notes.done(Check::Vacuum, "No table has many dead rows.")
}

fn prepared(notes: &mut Notes, evidence: &Evidence) {
    let Some(age) = evidence.measured(Metric::OldestPrepared) else { return };
    notes.fact("Oldest prepared transaction", seconds(age));
    if age < PREPARED_TO_LOOK {
        return;
    }
    let text = format!(
        "A transaction was prepared {} ago and never finished: it keeps its locks and holds vacuum back.",
        seconds(age)
    );
    let step = Step::new("Ask who prepared it, then finish it or take it back by its name:").run(Remedy::ListPrepared);
    let point = if age >= PREPARED_TO_ACT { notes.act(text, step) } else { notes.look(text, step) };
    point.of(Trouble::PreparedTransaction, "").since = Some(evidence.at.plus_seconds(-age));
}

#[cfg(test)]
mod tests {
    use super::super::evidence::NewestValue;
    use super::*;
    use crate::time::Timestamp;

    fn evidence(live: f64, dead: f64) -> Evidence {
        let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
        Evidence {
            at: Timestamp(600_000_000),
            measures: vec![
                measured(Metric::DatabaseSize, "passage", 1.0),
                measured(Metric::LiveRows, "public.vehicle_slot", live),
                measured(Metric::DeadRows, "public.vehicle_slot", dead),
            ],
            ..Evidence::default()
        }
    }

    #[test]
    fn dead_versions_are_judged_by_share_and_number() {
        let verdict = |live, dead| check(&evidence(live, dead)).verdict();
        assert_eq!(verdict(100_000.0, 9_000.0), Health::Quiet);
        assert_eq!(verdict(1_000_000.0, 100_000.0), Health::Quiet, "a tenth waits its turn");
        assert_eq!(verdict(40_000.0, 12_000.0), Health::Look);
        assert_eq!(verdict(40_000.0, 100_000.0), Health::Look, "most of a small table");
        assert_eq!(verdict(1e6, 2e6), Health::Act);
    }

    #[test]
    fn what_holds_vacuum_back_is_named() {
        let mut evidence = evidence(40_000.0, 12_000.0);
        let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
        evidence.measures.push(measured(Metric::XminAge, "slot lake", 5e6));
        let finding = check(&evidence);
        assert!(finding.points[0].step.text.contains("the slot lake"), "{finding:?}");
        evidence.measures.push(measured(Metric::OldestPrepared, "", 7200.0));
        let finding = check(&evidence);
        assert_eq!(finding.verdict(), Health::Act);
        assert!(finding.summary.starts_with("A transaction was prepared 2\u{a0}h ago"), "{}", finding.summary);
    }
}
