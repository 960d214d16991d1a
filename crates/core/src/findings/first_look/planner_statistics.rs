use std::collections::HashMap;

use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use crate::changes::action::{Action, TableMeant};
use crate::changes::remedy::{Qualified, Remedy};
use crate::readings::metric::Metric;
use crate::wording::{number, percent, seconds};

/// Rows below which a table is not looked at: whatever the planner believes of it costs little.
const LEAST_ROWS: f64 = 10_000.0;
/// Share of the rows changed since statistics were collected that is worth a look.
const CHANGED_TO_LOOK: f64 = 0.5;
/// Factor by which the planner's number of rows may be wrong.
const MOST_WRONG: f64 = 2.0;
/// Tables told.
const MOST_TOLD: usize = 10;

/// Whether the planner knows its tables as they are.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let by_table = |metric| evidence.measured_of(metric).collect::<HashMap<&str, f64>>();
    let (changed, ago) = (by_table(Metric::RowsSinceAnalyze), by_table(Metric::AnalyzedAgo));
    let tables: Vec<(&str, f64)> =
        evidence.largest_of(Metric::LiveRows).into_iter().filter(|(_, rows)| *rows >= LEAST_ROWS).collect();
    if evidence.measured_of(Metric::DatabaseSize).next().is_none() {
        notes.unknown(
            "The state of upkeep was not read yet.",
            Step::new("Wait for the next reading, or ask for one now.").see(Page::Collection),
        );
        return notes.done(Check::PlannerStatistics, "");
    }
    for (table, rows) in &tables {
        let share = changed.get(table).copied().unwrap_or_default() / rows;
        let analyze = Step::new("Collect them anew; if this comes back, let autovacuum analyze this table sooner.")
            .run(analyze(evidence, table));
        if share >= CHANGED_TO_LOOK {
            let age = ago.get(table).map_or_else(|| "a time not known".to_owned(), |ago| seconds(*ago));
            notes.look(
                format!(
                    "{} of the rows of {table} changed since the planner's statistics were collected, {age} ago.",
                    percent(share)
                ),
                analyze,
            );
        } else if !ago.contains_key(table) && is_without_statistics(evidence, table) {
            notes.look(format!("The planner has no statistics of {table}, {} rows.", number(*rows)), analyze);
        }
    }
    wrong_rows(&mut notes, evidence, &tables);
    for (table, ago) in evidence.largest_of(Metric::AnalyzedAgo).into_iter().take(MOST_TOLD) {
        let since = changed.get(table).copied().unwrap_or_default();
        notes.fact(table.to_owned(), format!("collected {} ago, {} rows changed since", seconds(ago), number(since)));
    }
    notes.done(
        Check::PlannerStatistics,
        format!("Statistics of all {} tables of {} rows and more are fresh.", tables.len(), number(LEAST_ROWS)),
    )
}

/// Tables of which the planner believes another number of rows than the server's running estimate says.
fn wrong_rows(notes: &mut Notes, evidence: &Evidence, tables: &[(&str, f64)]) {
    let Some(catalog) = &evidence.catalog else { return };
    let believed: HashMap<String, f64> =
        catalog.tables.iter().filter_map(|table| Some((table.qualified_name(), table.rows?))).collect();
    for (table, rows) in tables {
        let Some(believed) = believed.get(*table).filter(|believed| **believed > 0.0) else { continue };
        if (rows / believed).max(believed / rows) >= MOST_WRONG {
            notes.look(
                format!(
                    "The planner takes {table} to have {} rows; it has about {}.",
                    number(*believed),
                    number(*rows)
                ),
                Step::new("Let it count anew:").run(analyze(evidence, table)),
            );
        }
    }
}

/// Whether no column of a table has statistics; not known where they may not be read.
fn is_without_statistics(evidence: &Evidence, table: &str) -> bool {
    let Some(catalog) = &evidence.catalog else { return false };
    let found = catalog.tables.iter().find(|known| known.qualified_name() == table);
    found.is_some_and(|table| table.rows.is_none() && table.columns.iter().all(|column| column.statistics.is_none()))
}

fn analyze(evidence: &Evidence, table: &str) -> Remedy {
    let Qualified { schema, name: table } = Qualified::of(table);
    Remedy::Act(Action::AnalyzeTable(TableMeant { database: evidence.database.clone(), schema, table }))
}

#[cfg(test)]
mod tests {
    use super::super::evidence::NewestValue;
    use super::*;
    use crate::findings::health::Health;
    use crate::readings::catalog::test_catalog;

    fn verdict(rows: f64, changed: f64) -> Health {
        let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
        let table = "public.gate_scan";
        check(&Evidence {
            measures: vec![
                measured(Metric::DatabaseSize, "passage", 1.0),
                measured(Metric::LiveRows, table, rows),
                measured(Metric::RowsSinceAnalyze, table, changed),
                measured(Metric::AnalyzedAgo, table, 60.0),
            ],
            ..Evidence::default()
        })
        .verdict()
    }

    #[test]
    fn statistics_are_stale_when_half_of_a_large_table_changed() {
        assert_eq!(verdict(100_000.0, 40_000.0), Health::Quiet);
        assert_eq!(verdict(100_000.0, 50_000.0), Health::Look);
        assert_eq!(verdict(9_000.0, 9_000.0), Health::Quiet, "small");
    }

    #[test]
    fn a_table_is_not_what_the_planner_takes_it_for() {
        let verdict = |believed: f64| {
            let table = test_catalog::table("gate_scan", believed, &[], vec![]);
            let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
            check(&Evidence {
                catalog: Some(test_catalog::catalog(0, vec![table])),
                measures: vec![
                    measured(Metric::DatabaseSize, "passage", 1.0),
                    measured(Metric::LiveRows, "public.gate_scan", 100_000.0),
                    measured(Metric::AnalyzedAgo, "public.gate_scan", 60.0),
                ],
                ..Evidence::default()
            })
            .verdict()
        };
        assert_eq!(
            [100_000.0, 60_000.0, 40_000.0, 250_000.0].map(verdict),
            [Health::Quiet, Health::Quiet, Health::Look, Health::Look]
        );
    }
}
