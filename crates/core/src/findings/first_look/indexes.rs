use std::collections::HashMap;

use super::Check;
use super::evidence::{Evidence, OpenAdvice};
use super::finding::{Finding, Notes, Page, Step};
use crate::changes::advice::unused_index::{not_read, subject};
use crate::changes::advice::{AdviceKind, IndexUseSeen};
use crate::changes::remedy::{Qualified, Remedy};
use crate::findings::alarm::Trouble;
use crate::findings::health::{ACT_FROM, Health};
use crate::findings::index_review::{IndexEvidence, Unread, same_indexes};
use crate::readings::catalog::{Index, Table};
use crate::time::SECONDS_PER_DAY;
use crate::wording::{bytes, counted, names, number, seconds};

/// Names told in a list.
const MOST_NAMES: usize = 6;
/// Tables that are read in whole most, told.
const MOST_TOLD: usize = 3;

/// Which indexes are missing, broken or of no use: what can be said at a glance.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    // Advice stays open for days while its statements do not run: then nothing is lost to it now.
    let is_of_late = |advice: &&OpenAdvice| advice.given_at >= evidence.lately.window.from;
    let missing = evidence.advice.iter().filter(|advice| advice.kind == AdviceKind::MissingIndex);
    for advice in missing.filter(is_of_late) {
        let verdict =
            if advice.saved_seconds_per_day >= ACT_FROM * SECONDS_PER_DAY { Health::Act } else { Health::Look };
        let text = format!(
            "An index is missing: {}. It would save {} a day.",
            advice.subject,
            seconds(advice.saved_seconds_per_day)
        );
        let step = Step::new("Read the advice, with its evidence and its statement.");
        let point = notes.point(verdict, text, step.see(Page::Advice(advice.advice_id)));
        point.of(Trouble::MissingIndex, advice.subject.clone()).families = advice.families.clone();
    }
    let Some(catalog) = &evidence.catalog else {
        notes.unknown(
            "Indexes were not read yet.",
            Step::new("Wait for the first reading, or ask for one now.").see(Page::Collection),
        );
        return notes.done(Check::Indexes, "");
    };
    for (table, index) in catalog.indexes().filter(|(_, index)| !index.valid) {
        let text = format!(
            "The index {} on {} is not usable: it is written and never read.",
            index.name,
            table.qualified_name()
        );
        let step = Step::new("Making it failed, or goes on just now. If it failed, drop it and make it anew.");
        notes.look(text, step.run(drop(table, index)));
    }
    for (table, kept, again) in same_indexes(&IndexEvidence::new(catalog, evidence.at, None)) {
        let text = format!("The index {} on {} says the same as {}.", again.name, table.qualified_name(), kept.name);
        let seen = |index: &Index| evidence.index_use.is_seen_for_a_cycle(index.oid, evidence.at);
        notes.look(
            text,
            if seen(kept) && seen(again) {
                Step::new("Make sure that nothing names it, then drop it.").run(drop(table, again))
            } else {
                Step::new(format!(
                    "Ask whether one is being built to replace the other; drop {} once both were watched for {} days.",
                    again.name, evidence.index_use.cycle_days
                ))
            },
        );
    }
    unused(&mut notes, evidence);
    whole_reads(&mut notes, evidence);
    let (count, size) =
        catalog.indexes().fold((0, 0), |(count, size), (_, index)| (count + 1, size + index.size_bytes));
    notes.fact("Indexes", format!("{count}, {}", bytes(size as f64)));
    let quiet = match count {
        0 => "There is no index, and none is missed.".to_owned(),
        _ => format!("{count} indexes; none is missed, broken or plainly of no use."),
    };
    notes.done(Check::Indexes, quiet)
}

fn drop(table: &Table, index: &Index) -> Remedy {
    Remedy::DropIndex(Qualified::new(&table.schema, &index.name))
}

/// Indexes that nobody has read, called unused only after they were watched for the whole cycle, wherever they are.
fn unused(notes: &mut Notes, evidence: &Evidence) {
    let (Some(catalog), Some(reads)) = (&evidence.catalog, &evidence.indexes) else { return };
    let watched = &evidence.index_use;
    let seen = IndexUseSeen { at: evidence.at, reads, watched, is_replica: false };
    let (long, short): (Vec<Unread>, Vec<Unread>) =
        not_read(catalog, &seen).into_iter().partition(|unread| unread.is_for_a_cycle);
    for Unread { table, index, seconds: unread, .. } in &long {
        let text = format!(
            "Nobody has read the index {} on {} for {}: {} that every write keeps up.",
            index.name,
            table.qualified_name(),
            seconds(*unread),
            bytes(index.size_bytes as f64)
        );
        if watched.unwatched == 0 {
            let step = Step::new("Make sure that no yearly work needs it, then drop it.").run(drop(table, index));
            let advised = subject(&table.schema, &index.name, &table.name);
            let mut unused = evidence.advice.iter().filter(|advice| advice.kind == AdviceKind::UnusedIndex);
            let advice = unused.find(|advice| advice.subject == advised);
            notes.look(
                text,
                match advice {
                    Some(advice) => step.see(Page::Advice(advice.advice_id)),
                    None => step,
                },
            );
        } else {
            let others = counted(watched.unwatched, "server");
            let step = Step::new(format!(
                "It may be read on {others} with the same data that Hurnix does not watch: connect them first."
            ));
            notes.unknown(text, step.see(Page::Instances));
        }
    }
    if let Some(longest) = short.iter().map(|unread| unread.seconds).reduce(f64::max) {
        let text = format!(
            "Nobody has read {} while Hurnix watched, for {} at most, too short a time to call them unused: {}.",
            if short.len() == 1 { "1 index".to_owned() } else { format!("{} indexes", number(short.len() as f64)) },
            seconds(longest),
            names(short.iter().map(|unread| unread.index.name.as_str()), MOST_NAMES)
        );
        notes.unknown(
            text,
            Step::new(format!(
                "Look again when they were watched for {} days, a month end included.",
                watched.cycle_days
            )),
        );
    }
}

fn whole_reads(notes: &mut Notes, evidence: &Evidence) {
    let (Some(catalog), Some(read)) = (&evidence.catalog, &evidence.tables) else { return };
    let names: HashMap<u32, String> = catalog.tables.iter().map(|table| (table.oid, table.qualified_name())).collect();
    let mut rows: Vec<_> = read.rows.iter().filter(|(_, counters)| counters.full_read_rows > 0).collect();
    rows.sort_by_key(|(_, counters)| std::cmp::Reverse(counters.full_read_rows));
    for (oid, counters) in rows.into_iter().take(MOST_TOLD) {
        let Some(name) = names.get(oid) else { continue };
        notes.fact(
            format!("{name} was read in whole"),
            format!(
                "{}, {} rows in all",
                counted(counters.full_reads as usize, "time"),
                number(counters.full_read_rows as f64)
            ),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::index_watch::{IndexUse, IndexWatch};
    use crate::readings::catalog::test_catalog::{catalog, index, table};
    use crate::readings::counters::IndexCounters;
    use crate::readings::difference::Snapshot;
    use crate::time::Timestamp;

    fn evidence(indexes: Vec<Index>) -> Evidence {
        Evidence { catalog: Some(catalog(0, vec![table("passage", 100.0, &[], indexes)])), ..Evidence::default() }
    }

    fn at_day(day: f64) -> Timestamp {
        Timestamp(0).plus_seconds(day * SECONDS_PER_DAY)
    }

    fn watch(oid: u32, seen_day: f64, unread_day: f64) -> (u32, IndexWatch) {
        (oid, IndexWatch { seen_since: at_day(seen_day), unread_since: at_day(unread_day) })
    }

    #[test]
    fn two_that_say_the_same_are_found_and_the_constraint_is_kept() {
        let constraint = Index { constraint: true, unique: true, ..index("passage_pkey", &["passage_id"], true) };
        let again = index("a_copy", &["passage_id"], true);
        let mut two = evidence(vec![again.clone(), constraint.clone()]);
        two.at = at_day(100.0);
        let finding = check(&two);
        assert_eq!(finding.summary, "The index a_copy on public.passage says the same as passage_pkey.");
        assert_eq!(finding.points[0].step.remedy, None, "one may be in the making, to replace the other");
        two.index_use.here = [watch(again.oid, 60.0, 60.0), watch(constraint.oid, 60.0, 60.0)].into();
        let finding = check(&two);
        assert_eq!(finding.points[0].step.remedy, Some(Remedy::DropIndex(Qualified::new("public", "a_copy"))));
        let other_order = Index { order: "1994/0/1".into(), ..index("by_desc", &["passage_id"], true) };
        assert_eq!(check(&evidence(vec![other_order, constraint.clone()])).verdict(), Health::Quiet);
        let twice = Index { name: "again".into(), oid: 9, ..constraint.clone() };
        assert_eq!(check(&evidence(vec![twice, constraint])).verdict(), Health::Quiet, "two promises");
    }

    /// A hundred days after Hurnix first looked, an index that is not read here.
    fn idle(here: (u32, IndexWatch), elsewhere: &[(u32, IndexWatch)], unwatched: usize) -> Finding {
        let index = index("passage_fare", &["fare"], true);
        let mut evidence = evidence(vec![index.clone()]);
        evidence.at = at_day(100.0);
        let rows = vec![(index.oid, IndexCounters::default())];
        evidence.indexes = Some(Snapshot::new(at_day(100.0), at_day(-300.0), rows));
        let elsewhere = elsewhere.iter().map(|watch| [*watch].into()).collect();
        evidence.index_use = IndexUse { here: [here].into(), elsewhere, unwatched, ..IndexUse::default() };
        check(&evidence)
    }

    #[test]
    fn an_index_is_called_unused_after_a_month_end_only() {
        let oid = index("passage_fare", &["fare"], true).oid;
        let unread = |seen, since| idle(watch(oid, seen, since), &[], 0).verdict();
        assert_eq!(unread(60.0, 60.0), Health::Look);
        assert_eq!(unread(0.0, 60.0), Health::Look, "read long ago, and not for a cycle");
        assert_eq!(unread(80.0, 80.0), Health::NoData);
        assert_eq!(unread(99.9, 99.9), Health::NoData, "it was made an hour before, on a server of old");
        assert_eq!(unread(0.0, 80.0), Health::NoData, "a crash set its count to zero");
    }

    #[test]
    fn reads_on_replicas_count_and_those_that_are_not_watched_are_told() {
        let oid = index("passage_fare", &["fare"], true).oid;
        let here = watch(oid, 0.0, 0.0);
        assert_eq!(idle(here, &[watch(oid, 0.0, 99.0)], 0).verdict(), Health::NoData, "a replica reads it");
        assert_eq!(
            idle(here, &[watch(oid + 1, 0.0, 0.0)], 0).verdict(),
            Health::NoData,
            "nothing is known of it there"
        );
        assert_eq!(idle(here, &[watch(oid, 0.0, 0.0)], 0).verdict(), Health::Look);
        let unwatched = idle(here, &[], 1);
        assert_eq!(unwatched.verdict(), Health::NoData);
        assert!(unwatched.points.iter().all(|point| point.step.remedy.is_none()), "{unwatched:?}");
    }

    #[test]
    fn servers_that_are_not_watched_are_counted() {
        for (primaries, replicas, connected, unwatched) in
            [(1, 0, 0, 0), (1, 0, 2, 2), (1, 2, 2, 0), (1, 2, 1, 0), (0, 1, 0, 1), (0, 1, 1, 1)]
        {
            let counted = IndexUse::count_unwatched(primaries, replicas, connected);
            assert_eq!(counted, unwatched, "{primaries} {replicas} {connected}");
        }
    }

    #[test]
    fn of_a_pair_one_is_named_and_never_both() {
        let (first, second) = (index("fare_a", &["fare"], true), Index { oid: 8, ..index("fare_b", &["fare"], true) });
        let mut evidence = evidence(vec![first.clone(), second.clone()]);
        evidence.at = at_day(100.0);
        let rows = vec![(first.oid, IndexCounters::default()), (second.oid, IndexCounters::default())];
        evidence.indexes = Some(Snapshot::new(evidence.at, Timestamp(0), rows));
        evidence.index_use.here = [watch(first.oid, 0.0, 0.0), watch(second.oid, 0.0, 0.0)].into();
        let finding = check(&evidence);
        let drops: Vec<_> = finding.points.iter().filter_map(|point| point.step.remedy.as_ref()).collect();
        assert_eq!(drops.len(), 1, "{finding:?}");
    }

    #[test]
    fn what_a_constraint_needs_is_never_unused_and_an_unusable_one_is_named() {
        let constraint = Index { constraint: true, ..index("passage_pkey", &["passage_id"], true) };
        let mut evidence = evidence(vec![constraint.clone(), index("half_made", &["fare"], false)]);
        evidence.at = at_day(100.0);
        let rows = vec![(constraint.oid, IndexCounters::default())];
        evidence.indexes = Some(Snapshot::new(evidence.at, Timestamp(0), rows));
        let finding = check(&evidence);
        assert_eq!(finding.points.len(), 1);
        assert!(finding.summary.contains("half_made"));
    }
}
