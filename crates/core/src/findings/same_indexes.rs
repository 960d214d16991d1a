//! Indexes that say the same.

use std::collections::HashMap;

use crate::readings::catalog::{Catalog, Index, Table};

/// Pairs of usable indexes of one table with the same method, keys, order, condition and carried columns. The
/// first of a pair is the one to keep: the one that a constraint needs, else one that forbids equal keys.
pub fn same_indexes(catalog: &Catalog) -> Vec<(&Table, &Index, &Index)> {
    let mut pairs = Vec::new();
    for table in &catalog.tables {
        let mut alike: HashMap<_, Vec<&Index>> = HashMap::new();
        for index in table.indexes.iter().filter(|index| index.valid) {
            let says = (&index.method, index.key_list(), &index.order, &index.condition, &index.carried);
            alike.entry(says).or_default().push(index);
        }
        for mut indexes in alike.into_values().filter(|indexes| indexes.len() > 1) {
            indexes.sort_by_key(|index| (!index.constraint, !index.unique, index.oid));
            let kept = indexes[0];
            // Two constraints, or two rules of uniqueness, are two promises.
            let others = indexes[1..].iter().filter(|again| !again.constraint && !again.unique);
            pairs.extend(others.map(|again| (table, kept, *again)));
        }
    }
    pairs.sort_by_key(|(table, _, again)| (table.oid, again.oid));
    pairs
}
