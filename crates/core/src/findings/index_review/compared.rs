//! What two indexes of a table have in common.

use crate::readings::catalog::{Index, KeyOrder};

/// Whether both are B-trees over the same rows.
pub(super) fn holds_same_rows(one: &Index, other: &Index) -> bool {
    one.oid != other.oid && one.method == "btree" && other.method == "btree" && one.condition == other.condition
}

/// Whether both sort and compare their first keys alike.
pub(super) fn sorts_alike(one: &Index, other: &Index, keys: usize) -> bool {
    match (one.key_orders(), other.key_orders()) {
        (Some(one), Some(other)) => one.iter().take(keys).eq(other.iter().take(keys)),
        _ => one.plain && other.plain,
    }
}

/// Whether one runs through its keys exactly as the other does backwards, which a B-tree can be read.
pub(super) fn sorts_the_other_way_round(one: &Index, other: &Index) -> bool {
    /// Flags of a key: downwards, and rows without a value first.
    const BOTH: u16 = 3;
    let (Some(one), Some(other)) = (one.key_orders(), other.key_orders()) else { return false };
    let is_mirrored = |(one, other): (&KeyOrder, &KeyOrder)| {
        (one.class, one.collation) == (other.class, other.collation) && one.flags ^ other.flags == BOTH
    };
    one.len() == other.len() && one.iter().zip(&other).all(is_mirrored)
}
