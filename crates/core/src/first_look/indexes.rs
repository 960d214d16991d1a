use std::collections::HashMap;

use super::evidence::Evidence;
use super::finding::{Check, Finding, Notes, Page, Step};
use crate::catalog::{Index, Table};
use crate::health::{ACT_FROM, Health};
use crate::marker::MarkerKind;
use crate::time::{At, SECONDS_PER_DAY};
use crate::wording::{bytes, counted, identifier, names, number, seconds};

/// Days over which nobody may have read an index before it is called unused: a month end lies within.
const DAYS_TO_CALL_UNUSED: f64 = 35.0;
/// Names told in a list.
const MOST_NAMES: usize = 6;
/// Tables that are read in whole most, told.
const MOST_TOLD: usize = 3;

/// Which indexes are missing, broken or of no use: what can be said at a glance.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    for advice in &evidence.advice {
        let verdict =
            if advice.saved_seconds_per_day >= ACT_FROM * SECONDS_PER_DAY { Health::Act } else { Health::Look };
        let text = format!(
            "An index is missing: {}. It would save {} a day.",
            advice.subject,
            seconds(advice.saved_seconds_per_day)
        );
        notes.point(
            verdict,
            text,
            Step::new("Read the advice, with its evidence and its statement.").see(Page::Advice(advice.advice_id)),
        );
    }
    let Some(catalog) = &evidence.catalog else {
        notes.unknown(
            "Indexes were not read yet.",
            Step::new("Wait for the first reading, or ask for one now.").see(Page::Figures),
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
        notes.look(text, step.run(format!("DROP INDEX CONCURRENTLY {};", quoted(table, index))));
    }
    for (table, kept, again) in same(catalog.tables.iter()) {
        let text = format!("The index {} on {} says the same as {}.", again.name, table.qualified_name(), kept.name);
        let step = Step::new("Make sure that nothing names it, then drop it.");
        notes.look(text, step.run(format!("DROP INDEX CONCURRENTLY {};", quoted(table, again))));
    }
    unread(&mut notes, evidence);
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

fn quoted(table: &Table, index: &Index) -> String {
    format!("{}.{}", identifier(&table.schema), identifier(&index.name))
}

/// Pairs of usable indexes of one table with the same method, keys, order, condition and carried columns. The
/// first of a pair is the one to keep: the one that a constraint needs, else one that forbids equal keys.
fn same<'a>(tables: impl Iterator<Item = &'a Table>) -> Vec<(&'a Table, &'a Index, &'a Index)> {
    let mut pairs = Vec::new();
    for table in tables {
        let mut alike: HashMap<_, Vec<&Index>> = HashMap::new();
        for index in table.indexes.iter().filter(|index| index.valid) {
            let says = (&index.method, index.key_list(), &index.order, &index.condition, &index.carried);
            alike.entry(says).or_default().push(index);
        }
        for mut indexes in alike.into_values().filter(|indexes| indexes.len() > 1) {
            indexes.sort_by_key(|index| (!index.constraint, !index.unique, index.oid));
            let kept = indexes[0];
            // Two constraints, or two rules of uniqueness, are two promises.
            pairs.extend(
                indexes[1..]
                    .iter()
                    .filter(|again| !again.constraint && !again.unique)
                    .map(|again| (table, kept, *again)),
            );
        }
    }
    pairs.sort_by_key(|(table, _, again)| (table.oid, again.oid));
    pairs
}

/// Indexes that nobody has read since their counters began, which is called unused only after long enough.
fn unread(notes: &mut Notes, evidence: &Evidence) {
    let (Some(catalog), Some(read)) = (&evidence.catalog, &evidence.indexes) else { return };
    let reads: HashMap<u32, i64> = read.rows.iter().map(|(oid, counters)| (*oid, counters.reads)).collect();
    let since = Evidence::counted_since(read);
    let made: Vec<(&str, At)> =
        evidence.markers_of(&[MarkerKind::IndexMade]).map(|marker| (marker.text.as_str(), marker.at)).collect();
    let observed = |index: &Index| {
        let head = format!("index {} made", index.name);
        let made = made.iter().filter(|(text, _)| text.starts_with(&head)).map(|(_, at)| *at).max();
        evidence.at.seconds_since(made.map_or(since, |made| made.max(since))).max(0.0)
    };
    let unread: Vec<(&Table, &Index, f64)> = catalog
        .indexes()
        .filter(|(_, index)| index.valid && !index.constraint && !index.unique && reads.get(&index.oid) == Some(&0))
        .map(|(table, index)| (table, index, observed(index)))
        .collect();
    let (long, short): (Vec<_>, Vec<_>) =
        unread.into_iter().partition(|(_, _, observed)| *observed >= DAYS_TO_CALL_UNUSED * SECONDS_PER_DAY);
    for (table, index, observed) in long {
        let text = format!(
            "Nobody has read the index {} on {} for {}: {} that every write keeps up.",
            index.name,
            table.qualified_name(),
            seconds(observed),
            bytes(index.size_bytes as f64)
        );
        let step = Step::new("Make sure that no replica reads it either, then drop it.");
        notes.look(text, step.run(format!("DROP INDEX CONCURRENTLY {};", quoted(table, index))));
    }
    if let Some(longest) = short.iter().map(|(_, _, observed)| *observed).reduce(f64::max) {
        let text = format!(
            "Nobody has read {} for {} yet, too short a time to call them unused: {}.",
            if short.len() == 1 { "1 index".to_owned() } else { format!("{} indexes", short.len()) },
            seconds(longest),
            names(short.iter().map(|(_, index, _)| index.name.as_str()), MOST_NAMES)
        );
        notes.unknown(
            text,
            Step::new(format!(
                "Look again when they were watched for {DAYS_TO_CALL_UNUSED} days, a month end included."
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
    use crate::catalog::test_catalog::{catalog, index, table};
    use crate::counters::IndexCounters;
    use crate::difference::Snapshot;
    use crate::marker::Marker;

    fn evidence(indexes: Vec<Index>) -> Evidence {
        Evidence { catalog: Some(catalog(0, vec![table("passage", 100.0, &[], indexes)])), ..Evidence::default() }
    }

    fn at_day(day: f64) -> At {
        At(0).plus_seconds(day * SECONDS_PER_DAY)
    }

    #[test]
    fn two_that_say_the_same_are_found_and_the_constraint_is_kept() {
        let constraint = Index { constraint: true, unique: true, ..index("passage_pkey", &["passage_id"], true) };
        let again = index("a_copy", &["passage_id"], true);
        let finding = check(&evidence(vec![again, constraint.clone()]));
        assert_eq!(finding.summary, "The index a_copy on public.passage says the same as passage_pkey.");
        assert_eq!(finding.points[0].step.statement.as_deref(), Some("DROP INDEX CONCURRENTLY \"public\".\"a_copy\";"));
        let other_order = Index { order: "1994/0/1".into(), ..index("by_desc", &["passage_id"], true) };
        assert_eq!(check(&evidence(vec![other_order, constraint.clone()])).verdict(), Health::Quiet);
        let twice = Index { name: "again".into(), oid: 9, ..constraint.clone() };
        assert_eq!(check(&evidence(vec![twice, constraint])).verdict(), Health::Quiet, "two promises");
    }

    #[test]
    fn an_index_is_called_unused_after_a_month_end_only() {
        let unread = |days: f64, made: Option<f64>| {
            let idle = index("passage_fare", &["fare"], true);
            let mut evidence = evidence(vec![idle.clone()]);
            evidence.at = at_day(100.0);
            let marker = |day| Marker {
                at: at_day(day),
                kind: MarkerKind::IndexMade,
                text: "index passage_fare made on public.passage (fare)".into(),
            };
            evidence.markers = made.map(marker).into_iter().collect();
            evidence.indexes = Some(Snapshot {
                at: at_day(100.0),
                server_started_at: at_day(100.0 - days),
                reset_at: None,
                evictions: None,
                rows: vec![(idle.oid, IndexCounters::default())],
            });
            check(&evidence).verdict()
        };
        assert_eq!(unread(36.0, None), Health::Look);
        assert_eq!(unread(20.0, None), Health::NoData);
        assert_eq!(unread(90.0, Some(99.0)), Health::NoData, "it was made yesterday");
    }

    #[test]
    fn what_a_constraint_needs_is_never_unused_and_an_unusable_one_is_named() {
        let constraint = Index { constraint: true, ..index("passage_pkey", &["passage_id"], true) };
        let mut evidence = evidence(vec![constraint.clone(), index("half_made", &["fare"], false)]);
        evidence.at = at_day(100.0);
        let rows = vec![(constraint.oid, IndexCounters::default())];
        evidence.indexes =
            Some(Snapshot { at: evidence.at, server_started_at: At(0), reset_at: None, evictions: None, rows });
        let finding = check(&evidence);
        assert_eq!(finding.points.len(), 1);
        assert!(finding.summary.contains("half_made"));
    }
}
