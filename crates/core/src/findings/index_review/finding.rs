use strum::{EnumString, IntoStaticStr, VariantArray};

use super::{IndexEvidence, IndexFindingKind};
use crate::changes::remedy::Qualified;
use crate::readings::catalog::{Index, Table};

/// A finding that is worth less is a small one, in bytes.
const SMALL_BYTES: f64 = 1024.0 * 1024.0;

/// How sure a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Certainty {
    /// It follows from what the server tells.
    Certain,
    /// Nothing known speaks against it.
    Likely,
    /// It is worth a look, and may well be as it should be.
    Possible,
}

/// What is to be done about a finding, where one statement does it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum IndexChange {
    /// Drop an index.
    Drop(Qualified),
    /// Build an index anew.
    Rebuild(Qualified),
    /// Fill the pages of an index as usual, and build it anew.
    Refill(Qualified),
    /// Make an index on columns of a table.
    Create {
        /// The table.
        table: Qualified,
        /// The columns, in order.
        columns: Vec<String>,
    },
}

/// One finding on an index, or on a table for the sake of its indexes.
#[derive(Debug, Clone, PartialEq)]
pub struct IndexFinding {
    /// What was found.
    pub kind: IndexFindingKind,
    /// The table.
    pub table: Qualified,
    /// The index; none where it is about the table.
    pub index: Option<String>,
    /// The index that serves in its place, or that it is held against.
    pub beside: Option<String>,
    /// Size of the index in bytes; of the table with its indexes where it is about that.
    pub size_bytes: f64,
    /// Space that is given back, in bytes.
    pub freed_bytes: f64,
    /// What it is worth: bytes that need not be kept, nor written or read within a month.
    pub worth_bytes: f64,
    /// Entries written to the index in a day; nothing where that is not counted.
    pub entries_per_day: Option<f64>,
    /// Reads that the index serves in a day; nothing where that is not counted.
    pub reads_per_day: Option<f64>,
    /// How sure it is.
    pub certainty: Certainty,
    /// What was found, with what shows it.
    pub evidence: String,
    /// What does it.
    pub change: Option<IndexChange>,
    /// Why nobody should do it yet; nothing where nothing speaks against it.
    pub held_back: Option<String>,
}

impl<'a> IndexEvidence<'a, '_> {
    /// A finding on an index that gives nothing back by itself.
    pub(super) fn found(
        &self,
        kind: IndexFindingKind,
        (table, index): (&'a Table, &'a Index),
        certainty: Certainty,
        evidence: String,
    ) -> IndexFinding {
        IndexFinding {
            index: Some(index.name.clone()),
            size_bytes: self.index_bytes(index),
            entries_per_day: self.entries_per_day(table, index),
            reads_per_day: self.reads_per_day(index),
            ..IndexFinding::new(kind, table, certainty, evidence)
        }
    }

    /// A finding on an index that is to be dropped: its space is given back, and nothing is written to it any more. It is
    /// held back until it and the one that serves instead were watched for a whole cycle of the business: of two that
    /// stand in for each other one may be new, and meant to replace the other.
    pub(super) fn dropping(
        &self,
        kind: IndexFindingKind,
        (table, index): (&'a Table, &'a Index),
        beside: Option<&'a Index>,
        certainty: Certainty,
        evidence: String,
    ) -> IndexFinding {
        let size = self.index_bytes(index);
        let is_new = |index: &Index| {
            self.counted.as_ref().is_none_or(|counted| {
                let cycle = counted.watched.cycle_seconds();
                self.seen_since(index).is_none_or(|since| self.at.seconds_since(since) < cycle)
            })
        };
        let held_back = [Some(index), beside].into_iter().flatten().any(is_new).then(|| match &self.counted {
            Some(counted) => format!(
                "The statement is shown once it was watched for {} days, with what serves instead: one of them may be new and meant to replace the other.",
                counted.watched.cycle_days
            ),
            None => "Indexes of this database are not watched: ask whether one of them is new and meant to replace the other.".to_owned(),
        });
        IndexFinding {
            held_back,
            beside: beside.map(|beside| beside.name.clone()),
            freed_bytes: size,
            worth_bytes: size + self.month_bytes(table, index),
            change: Some(IndexChange::Drop(Qualified::new(&table.schema, &index.name))),
            ..self.found(kind, (table, index), certainty, evidence)
        }
    }

    /// A finding on a table with all its indexes.
    pub(super) fn found_on_table(
        &self,
        kind: IndexFindingKind,
        table: &'a Table,
        certainty: Certainty,
        evidence: String,
    ) -> IndexFinding {
        let indexes: f64 = table.indexes.iter().map(|index| self.index_bytes(index)).sum();
        IndexFinding {
            size_bytes: self.table_bytes(table) + indexes,
            entries_per_day: self.table_entries_per_day(table),
            reads_per_day: self.index_reads_per_day(table),
            ..IndexFinding::new(kind, table, certainty, evidence)
        }
    }
}

impl IndexFinding {
    /// Whether it is told on request only: it is worth little. An index that statements may not use is never small.
    pub fn is_small(&self) -> bool {
        self.worth_bytes < SMALL_BYTES && self.kind != IndexFindingKind::Invalid
    }

    /// Without figures.
    fn new(kind: IndexFindingKind, table: &Table, certainty: Certainty, evidence: String) -> IndexFinding {
        IndexFinding {
            kind,
            table: Qualified::new(&table.schema, &table.name),
            index: None,
            beside: None,
            size_bytes: 0.0,
            freed_bytes: 0.0,
            worth_bytes: 0.0,
            entries_per_day: None,
            reads_per_day: None,
            certainty,
            evidence,
            change: None,
            held_back: None,
        }
    }
}
