//! Rule 7: what can be said against each index of a database, and what is missing beside them. One finding, one file.
//!
//! Laws, tested below: what a constraint, a partition or replication needs is never dropped; after all of it is done, each
//! dropped index that was read has one left that serves in its place.

mod bloated;
mod compared;
mod contained;
mod duplicate;
mod evidence;
mod finding;
mod invalid;
mod low_fill;
mod many_for_writes;
mod nearly_duplicate;
mod never_read_table;
mod overlapping;
mod unindexed_reference;
mod unused;
mod wrong_kind;

use std::collections::HashSet;

use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::named::Named;

pub use duplicate::same_indexes;
pub use evidence::{Counted, IndexEvidence};
pub use finding::{Certainty, IndexChange, IndexFinding};
pub use unused::{Unread, unread, unread_so_far};

macro_rules! findings {
    ($($kind:ident in $module:ident: $title:literal $costs:literal $ignored:literal;)*) => {
        /// What a review can find.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, IntoStaticStr, EnumString, VariantArray)]
        #[strum(serialize_all = "snake_case")]
        pub enum IndexFindingKind {
            $(#[doc = $title] $kind,)*
        }

        impl IndexFindingKind {
            /// What it is called.
            pub fn title(self) -> &'static str {
                match self { $(IndexFindingKind::$kind => $title,)* }
            }

            /// What it is and what it costs.
            pub fn costs(self) -> &'static str {
                match self { $(IndexFindingKind::$kind => $costs,)* }
            }

            /// When it is to be left as it is.
            pub fn ignored_when(self) -> &'static str {
                match self { $(IndexFindingKind::$kind => $ignored,)* }
            }

            fn find(self, evidence: &IndexEvidence) -> Vec<IndexFinding> {
                match self { $(IndexFindingKind::$kind => $module::find(evidence),)* }
            }
        }
    };
}

// In the order in which they are believed: what an earlier one drops, or relies on, a later one leaves alone.
findings! {
    Invalid in invalid: "Invalid index"
        "Statements may not use the index. Where making it failed late, every write keeps it up all the same."
        "It is being built just now: Watch › Long operations shows builds that go on.";
    Duplicate in duplicate: "Duplicate index"
        "Two indexes say the same. Every write keeps up both, and both take space and cache; statements need one."
        "One of them is new and is to replace the other, or a hint or a script names it.";
    Unused in unused: "Unused index"
        "Nobody reads the index, and every insert and many updates write to it. It keeps updates from staying inside of their page."
        "Work that comes once a quarter or a year needs it, or a server that Hurnix does not watch reads it.";
    Contained in contained: "Index contained in another"
        "Its keys are the first keys of a longer index, which finds the same rows. Every write keeps up both."
        "The longer one is much larger and many statements read many rows by the short one.";
    NearlyDuplicate in nearly_duplicate: "Nearly duplicate index"
        "Another index has the same keys and carries more columns, or sorts the other way round and can be read backwards."
        "The smaller one stays in the cache and serves nearly all searches.";
    NeverReadTable in never_read_table: "Table that nobody reads"
        "The table and its indexes are written and kept, and nobody reads them."
        "It is kept for the law, for an audit, or for work that comes once a year.";
    UnindexedReference in unindexed_reference: "Foreign key without index"
        "Whoever deletes a row of the parent makes the server read all of the child table, while it holds its locks."
        "Rows of the parent are deleted in a maintenance window only, and the child is small.";
    Bloated in bloated: "Bloated index"
        "The index is larger than its rows need. It takes space and cache, and reads go through more pages."
        "It grows to that size again within days: then its free space is in use.";
    LowFill in low_fill: "Index with a low fillfactor"
        "Its pages are left emptier than usual for entries that do not come."
        "Many entries are about to be written between the others.";
    WrongKind in wrong_kind: "Index of the wrong kind"
        "The index cannot do what an index on such values is for."
        "Statements compare whole values, or the rows are about to be put in order.";
    ManyForWrites in many_for_writes: "Many indexes for many writes"
        "The table is written far more often than its indexes are read, and each write goes to all of them."
        "Each of them serves a statement that must answer at once.";
    Overlapping in overlapping: "Overlapping indexes"
        "Two indexes have much in common. One that serves both may be enough."
        "Statements search by the first key of each, or rely on the order of each.";
}

/// Everything that is found, the largest worth first; nothing that would take away what another finding relies on.
/// n log n in indexes of the database; of one table's it goes over all pairs.
pub fn review(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let mut found: Vec<IndexFinding> = Vec::new();
    let (mut dropped, mut relied_on) = (HashSet::new(), HashSet::new());
    for finding in IndexFindingKind::all().flat_map(|kind| kind.find(evidence)) {
        // What is to be made may have the name of a constraint beside it, which is no index.
        let is_new = matches!(finding.change, Some(IndexChange::Create { .. }));
        let named = |index: &Option<String>| Some((finding.table.schema.clone(), index.clone().filter(|_| !is_new)?));
        let (own, beside) = (named(&finding.index), named(&finding.beside));
        let is_gone = [&own, &beside].into_iter().flatten().any(|index| dropped.contains(index));
        if matches!(finding.change, Some(IndexChange::Drop(_))) {
            if is_gone || own.as_ref().is_some_and(|index| relied_on.contains(index)) {
                continue;
            }
            dropped.extend(own);
            relied_on.extend(beside);
        } else if is_gone {
            continue;
        }
        found.push(finding);
    }
    found.sort_by(|a, b| b.worth_bytes.total_cmp(&a.worth_bytes).then(a.certainty.cmp(&b.certainty)));
    found
}

#[cfg(test)]
mod tests {
    use std::collections::HashMap;

    use proptest::prelude::*;

    use super::*;
    use crate::changes::remedy::Qualified;
    use crate::findings::index_watch::{IndexUse, IndexWatch};
    use crate::readings::catalog::test_catalog::{catalog, index, table};
    use crate::readings::catalog::{Catalog, ForeignKey, Index, IndexKey, Table};
    use crate::readings::counters::TableCounters;
    use crate::time::{SECONDS_PER_DAY, Timestamp};

    const NOW_DAY: f64 = 100.0;

    fn at_day(day: f64) -> Timestamp {
        Timestamp(0).plus_seconds(day * SECONDS_PER_DAY)
    }

    /// What is counted of a database in forty days.
    struct Known {
        tables: HashMap<u32, TableCounters>,
        index_reads: HashMap<u32, i64>,
        watched: IndexUse,
    }

    impl Known {
        /// Every index watched from the first day on, and read on the last one.
        fn of(catalog: &Catalog) -> Known {
            let watch = IndexWatch { seen_since: at_day(0.0), unread_since: at_day(NOW_DAY - 1.0) };
            let here: HashMap<u32, IndexWatch> = catalog.indexes().map(|(_, index)| (index.oid, watch)).collect();
            let read = TableCounters { full_reads: 9, index_reads: 4_000, ..Default::default() };
            Known {
                tables: catalog.tables.iter().map(|table| (table.oid, read)).collect(),
                index_reads: here.keys().map(|oid| (*oid, 40)).collect(),
                watched: IndexUse { here, ..IndexUse::default() },
            }
        }

        /// Nobody has read these since the first day.
        fn unread(mut self, names: &[&str]) -> Known {
            for name in names {
                let oid = index(name, &[], true).oid;
                self.index_reads.insert(oid, 0);
                self.watched.here.insert(oid, IndexWatch { seen_since: at_day(0.0), unread_since: at_day(0.0) });
            }
            self
        }

        fn review(&self, catalog: &Catalog) -> Vec<IndexFinding> {
            let counted = Counted {
                seconds: 40.0 * SECONDS_PER_DAY,
                tables: &self.tables,
                index_reads: &self.index_reads,
                watched: &self.watched,
                is_replica: false,
            };
            review(&IndexEvidence::new(catalog, at_day(NOW_DAY), Some(counted)))
        }
    }

    const COLUMNS: [(&str, f64); 4] =
        [("crossing_id", 9_000.0), ("deck_id", 4.0), ("fare", 500.0), ("booked_at", -1.0)];

    fn passage(indexes: Vec<Index>) -> Catalog {
        catalog(0, vec![table("passage", 1e6, &COLUMNS, indexes)])
    }

    /// A size that nothing is said about, in bytes.
    const SOUND: i64 = 9_000_000;

    /// An index of that size.
    fn sound(name: &str, columns: &[&str]) -> Index {
        Index { size_bytes: SOUND, ..index(name, columns, true) }
    }

    fn told(found: &[IndexFinding]) -> Vec<(IndexFindingKind, &str, &str)> {
        // The order is by worth; here only what is found matters.
        let mut told: Vec<_> = found
            .iter()
            .map(|finding| {
                let beside = finding.beside.as_deref().unwrap_or("");
                (finding.kind, finding.index.as_deref().unwrap_or(""), beside)
            })
            .collect();
        told.sort_by_key(|(_, index, _)| *index);
        told
    }

    fn found(indexes: Vec<Index>) -> Vec<IndexFinding> {
        let catalog = passage(indexes);
        Known::of(&catalog).review(&catalog)
    }

    use IndexFindingKind::*;

    #[test]
    fn of_two_that_say_the_same_the_one_that_is_needed_stays() {
        let needed = Index { constraint: true, unique: true, ..sound("passage_pkey", &["fare"]) };
        let both = found(vec![sound("a_copy", &["fare"]), needed.clone()]);
        assert_eq!(told(&both), [(Duplicate, "a_copy", "passage_pkey")]);
        assert_eq!(both[0].change, Some(IndexChange::Drop(Qualified::new("public", "a_copy"))));
        assert_eq!((both[0].freed_bytes, both[0].certainty), (SOUND as f64, Certainty::Certain));
        assert_eq!(both[0].held_back, None);
        let catalog = passage(vec![sound("a_copy", &["fare"]), needed.clone()]);
        let mut known = Known::of(&catalog);
        let new = IndexWatch { seen_since: at_day(90.0), unread_since: at_day(90.0) };
        known.watched.here.insert(index("a_copy", &[], true).oid, new);
        let [finding] = &known.review(&catalog)[..] else { panic!("one") };
        assert_eq!(finding.certainty, Certainty::Likely);
        assert!(finding.held_back.as_ref().is_some_and(|why| why.contains("35 days")), "{finding:?}");
        assert!(review(&IndexEvidence::new(&catalog, at_day(NOW_DAY), None))[0].held_back.is_some());
        let unique = Index { unique: true, ..sound("a_copy", &["fare"]) };
        assert_eq!(told(&found(vec![unique.clone(), needed.clone()])), [(Duplicate, "a_copy", "passage_pkey")]);
        let later = Index { deferrable: true, ..needed.clone() };
        assert_eq!(told(&found(vec![unique.clone(), later])), [], "which is checked later");
        let stricter = Index { nulls_equal: true, ..unique };
        assert_eq!(told(&found(vec![stricter, needed.clone()])), [], "which lets several rows without a value pass");
        for (oid, kept) in [
            Index { constraint: true, ..sound("a", &["fare"]) },
            Index { replica_identity: true, ..sound("b", &["fare"]) },
            Index { part_of: Some(7), ..sound("c", &["fare"]) },
            Index { order: "1994/0/1".into(), ..sound("d", &["fare"]) },
            Index { condition: Some("fare > 9".into()), ..sound("e", &["deck_id"]) },
        ]
        .into_iter()
        .enumerate()
        {
            let kept = Index { oid: oid as u32 + 1, ..kept };
            assert_eq!(told(&found(vec![kept.clone(), needed.clone()])), [], "{kept:?}");
        }
    }

    #[test]
    fn what_nobody_reads_is_unused_after_a_cycle_and_never_what_is_needed() {
        let fare = sound("passage_fare", &["fare"]);
        let judged = |index: Index, known: fn(Known) -> Known| {
            let catalog = passage(vec![index]);
            told(&known(Known::of(&catalog)).review(&catalog)).len()
        };
        let unread = |known: Known| known.unread(&["passage_fare"]);
        assert_eq!(judged(fare.clone(), unread), 1);
        for kept in [
            Index { unique: true, ..fare.clone() },
            Index { constraint: true, ..fare.clone() },
            Index { replica_identity: true, ..fare.clone() },
            Index { part_of: Some(7), ..fare.clone() },
        ] {
            assert_eq!(judged(kept.clone(), unread), 0, "{kept:?}");
        }
        let quarterly = |known: Known| {
            let known = known.unread(&["passage_fare"]);
            Known { watched: IndexUse { cycle_days: 120, ..known.watched }, ..known }
        };
        assert_eq!(judged(fare.clone(), quarterly), 0, "no cycle is over");
        let elsewhere = |known: Known| {
            let known = known.unread(&["passage_fare"]);
            let read_there = known
                .watched
                .here
                .keys()
                .map(|oid| (*oid, IndexWatch { seen_since: at_day(0.0), unread_since: at_day(99.0) }));
            let elsewhere = vec![read_there.collect()];
            Known { watched: IndexUse { elsewhere, ..known.watched }, ..known }
        };
        assert_eq!(judged(fare.clone(), elsewhere), 0, "the replica reads it");
        let unwatched = |known: Known| {
            let known = known.unread(&["passage_fare"]);
            Known { watched: IndexUse { unwatched: 1, ..known.watched }, ..known }
        };
        assert_eq!(judged(fare, unwatched), 0, "a server that has it is not watched");
    }

    #[test]
    fn of_a_partitioned_table_the_whole_index_is_judged_by_its_parts() {
        let whole = Index { size_bytes: 0, oid: 500, ..sound("whole", &["fare"]) };
        let part = |name: &str| Index { part_of: Some(500), ..sound(name, &["fare"]) };
        let partition = |name: &str, indexes| Table { part_of: Some(1), ..table(name, 1e6, &COLUMNS, indexes) };
        let tables = vec![
            Table { oid: 1, is_partitioned: true, rows: None, ..table("passage", 0.0, &COLUMNS, vec![whole]) },
            partition("passage_north", vec![part("part_n")]),
            partition("passage_south", vec![part("part_s")]),
        ];
        let catalog = catalog(0, tables);
        let read_in_one = Known::of(&catalog).unread(&["part_n"]).review(&catalog);
        assert_eq!(told(&read_in_one), []);
        let unread = Known::of(&catalog).unread(&["part_n", "part_s"]).review(&catalog);
        assert_eq!(told(&unread), [(Unused, "whole", "")]);
        assert_eq!(unread[0].freed_bytes, 2.0 * SOUND as f64);
    }

    #[test]
    fn the_beginning_of_a_longer_one_is_contained_and_what_sorts_otherwise_is_not() {
        let long = Index { size_bytes: 11_000_000, ..sound("long", &["crossing_id", "deck_id"]) };
        let short = sound("short", &["crossing_id"]);
        let both = found(vec![short.clone(), long.clone()]);
        assert_eq!(told(&both), [(Contained, "short", "long")]);
        assert_eq!(both[0].certainty, Certainty::Likely);
        let little = Index { size_bytes: 2_000_000, ..short.clone() };
        assert_eq!(
            found(vec![little, long.clone()])[0].certainty,
            Certainty::Possible,
            "the longer one is much larger"
        );
        let carrying = Index { carried: vec!["fare".into()], ..short.clone() };
        for other in [
            carrying,
            Index { unique: true, ..short.clone() },
            Index { condition: Some("deck_id = 1".into()), ..short.clone() },
            Index { plain: false, ..short.clone() },
            Index { method: "hash".into(), ..short.clone() },
        ] {
            let both = found(vec![other.clone(), long.clone()]);
            assert!(both.iter().all(|finding| finding.kind != Contained), "{other:?}");
        }
        // Of three that hold one another the longest serves for both.
        let longest = Index { size_bytes: 35_000_000, ..sound("longest", &["crossing_id", "deck_id", "booked_at"]) };
        let chain = found(vec![short, long, longest]);
        assert_eq!(told(&chain), [(Contained, "long", "longest"), (Contained, "short", "longest")]);
    }

    #[test]
    fn what_carries_less_or_runs_the_other_way_is_nearly_a_duplicate() {
        let order = |name: &str, order: &str| Index { order: order.into(), ..sound(name, &["fare"]) };
        let carrying = Index { carried: vec!["deck_id".into()], ..sound("carrying", &["fare"]) };
        assert_eq!(told(&found(vec![sound("bare", &["fare"]), carrying])), [(NearlyDuplicate, "bare", "carrying")]);
        let up = order("up", "1978/0/0");
        let down = Index { plain: false, ..order("down", "1978/0/3") };
        assert_eq!(told(&found(vec![up.clone(), down])), [(NearlyDuplicate, "down", "up")]);
        let nulls_first = Index { plain: false, ..order("nulls", "1978/0/2") };
        assert_eq!(told(&found(vec![up, nulls_first])), [], "it begins with other rows");
    }

    #[test]
    fn overlapping_ones_are_told_once() {
        let one = sound("one", &["crossing_id", "deck_id"]);
        let other = sound("other", &["deck_id", "crossing_id"]);
        assert_eq!(told(&found(vec![one, other])).len(), 1);
        let unique = Index { unique: true, constraint: true, ..sound("passage_pkey", &["booked_at"]) };
        let longer = sound("longer", &["booked_at", "deck_id"]);
        let both = found(vec![unique, longer]);
        assert_eq!(told(&both), [(Overlapping, "longer", "passage_pkey")]);
        assert_eq!((both[0].certainty, &both[0].change), (Certainty::Possible, &None));
        let part = Index { condition: Some("deck_id = 1".into()), ..sound("part", &["fare"]) };
        assert_eq!(told(&found(vec![part, sound("whole", &["fare"])])), [(Overlapping, "part", "whole")]);
    }

    #[test]
    fn unusable_ones_are_told_and_a_needed_one_is_built_anew() {
        let broken = Index { valid: false, ..sound("half_made", &["fare"]) };
        assert_eq!(told(&found(vec![broken.clone()])), [(Invalid, "half_made", "")]);
        let needed = Index { constraint: true, ..broken.clone() };
        assert!(matches!(found(vec![needed])[0].change, Some(IndexChange::Rebuild(_))));
        let left = found(vec![Index { name: "fare_ccnew1".into(), ..broken }]);
        assert!(left[0].evidence.contains("REINDEX CONCURRENTLY"), "{left:?}");
    }

    #[test]
    fn a_reference_without_index_is_told_where_rows_of_the_parent_go() {
        let mut leg = table("passage_leg", 1e6, &COLUMNS, vec![]);
        let columns = vec!["crossing_id".to_owned()];
        leg.foreign_keys = vec![ForeignKey { name: "leg_crossing".into(), columns, parent: "public.crossing".into() }];
        let catalog = catalog(0, vec![leg, table("crossing", 5e3, &[], vec![])]);
        let mut known = Known::of(&catalog);
        assert_eq!(told(&known.review(&catalog)), [], "no row of it is deleted");
        let deleted = TableCounters { deleted_rows: 400, full_reads: 1, ..Default::default() };
        known.tables.insert(catalog.tables[1].oid, deleted);
        let [finding] = &known.review(&catalog)[..] else { panic!("one") };
        assert_eq!((finding.kind, finding.certainty), (UnindexedReference, Certainty::Certain));
        assert!(finding.evidence.contains("each of the 10 rows deleted there in a day"), "{}", finding.evidence);
        assert_eq!(finding.worth_bytes, 300.0 * catalog.tables[0].size_bytes as f64);
        let elsewhere = review(&IndexEvidence::new(&catalog, at_day(1.0), None));
        assert_eq!(elsewhere[0].certainty, Certainty::Possible, "nobody counted");
    }

    #[test]
    fn size_fill_kind_and_number_are_told_where_they_are_wrong() {
        let bloated = Index { size_bytes: 100_000_000, ..sound("by_time", &["booked_at"]) };
        let [finding] = &found(vec![bloated])[..] else { panic!("one") };
        assert_eq!((finding.kind, finding.certainty), (Bloated, Certainty::Likely));
        assert!((finding.freed_bytes - 77_500_000.0).abs() < 1e6, "{finding:?}");
        let empty = Index { fill_factor: Some(50), size_bytes: 45_000_000, ..sound("half_full", &["booked_at"]) };
        let [finding] = &found(vec![empty])[..] else { panic!("one") };
        assert_eq!((finding.kind, finding.freed_bytes), (LowFill, 20_000_000.0));
        let mut values = table("passage", 1e6, &COLUMNS, vec![sound("held", &["fare"])]);
        values.columns[2].type_name = "jsonb".into();
        let catalog = catalog(0, vec![values]);
        assert_eq!(told(&Known::of(&catalog).review(&catalog)), [(WrongKind, "held", "")]);
        let many: Vec<Index> = ["a", "b", "c", "d", "e", "f"]
            .iter()
            .enumerate()
            .map(|(at, name)| Index { condition: Some(format!("fare > {at}")), ..sound(name, &["fare"]) })
            .collect();
        let catalog = passage(many);
        let mut known = Known::of(&catalog);
        assert_eq!(told(&known.review(&catalog)), []);
        let written = TableCounters { inserted_rows: 400_000, index_reads: 400, full_reads: 1, ..Default::default() };
        known.tables.insert(catalog.tables[0].oid, written);
        assert_eq!(told(&known.review(&catalog)), [(ManyForWrites, "", "")]);
    }

    #[test]
    fn a_table_that_nobody_reads_is_told_after_a_cycle() {
        let catalog = passage(vec![Index { constraint: true, unique: true, ..sound("passage_pkey", &["booked_at"]) }]);
        let mut known = Known::of(&catalog).unread(&["passage_pkey"]);
        assert_eq!(told(&known.review(&catalog)), []);
        let written = TableCounters { inserted_rows: 40_000, ..Default::default() };
        known.tables.insert(catalog.tables[0].oid, written);
        assert_eq!(told(&known.review(&catalog)), [(NeverReadTable, "", "")]);
        known.watched.unwatched = 1;
        assert_eq!(told(&known.review(&catalog)), []);
    }

    #[test]
    fn each_kind_has_its_page() {
        let docs = include_str!("../../../../../docs/index-findings.md");
        for kind in IndexFindingKind::all() {
            let (_, page) = docs.split_once(&format!("## {}\n", kind.title())).unwrap_or_else(|| panic!("{kind:?}"));
            let page = page.split("\n## ").next().unwrap_or_default();
            // Where the page goes on to say more, its first sentence may end otherwise.
            assert!(page.contains(kind.costs().trim_end_matches('.')), "{kind:?}: {page}");
            assert!(page.contains(&format!("*Leave it when:* {}", kind.ignored_when())), "{kind:?}: {page}");
        }
    }

    /// Any index of a table with three columns.
    fn any_index() -> impl Strategy<Value = Index> {
        let keys = proptest::sample::subsequence(vec!["crossing_id", "deck_id", "fare"], 1..4).prop_shuffle();
        let flags = (any::<bool>(), any::<bool>(), any::<bool>(), any::<bool>(), 0u8..4, any::<bool>());
        (keys, flags).prop_map(|(keys, (unique, constraint, valid, carries, flags, is_part))| {
            let list = |of: &str| vec![of.to_owned(); keys.len()].join(" ");
            Index {
                unique,
                constraint: constraint && unique,
                valid,
                order: format!("{}/{}/{}", list("1978"), list("0"), list(&flags.to_string())),
                plain: flags == 0,
                carried: if carries { vec!["booked_at".into()] } else { vec![] },
                condition: is_part.then(|| "deck_id = 1".into()),
                ..sound("", &keys)
            }
        })
    }

    proptest! {
        /// Do all that is said at once, and every search of a dropped index is still served; nothing needed is gone.
        #[test]
        fn what_is_dropped_is_not_missed(
            indexes in proptest::collection::vec((any_index(), any::<bool>()), 1..9),
        ) {
            let mut unread = Vec::new();
            let named: Vec<Index> = indexes.into_iter().enumerate().map(|(at, (index, is_unread))| {
                let name = format!("{}", char::from(b'a' + at as u8));
                if is_unread {
                    unread.push(name.clone());
                }
                Index { oid: u32::from(name.as_bytes()[0]), name, ..index }
            }).collect();
            let catalog = passage(named.clone());
            let unread: Vec<&str> = unread.iter().map(String::as_str).collect();
            let found = Known::of(&catalog).unread(&unread).review(&catalog);
            let is_dropped = |index: &Index| found.iter().any(|finding| {
                finding.change == Some(IndexChange::Drop(Qualified::new("public", &index.name)))
            });
            let left: Vec<&Index> = named.iter().filter(|index| index.valid && !is_dropped(index)).collect();
            for gone in named.iter().filter(|index| index.valid && is_dropped(index)) {
                prop_assert!(!gone.is_needed(), "{gone:?}");
                let holds = |index: &&Index| index.condition == gone.condition && index.keys.starts_with(&gone.keys)
                    && gone.carried.iter().all(|column| index.carried.contains(column)
                        || index.keys.contains(&IndexKey::Column(column.clone())));
                let is_unread = unread.contains(&gone.name.as_str());
                prop_assert!(is_unread || left.iter().any(holds), "{gone:?} of {named:?}");
                if gone.unique {
                    prop_assert!(left.iter().any(|index| index.unique && index.keys == gone.keys), "{gone:?}");
                }
            }
        }
    }
}
