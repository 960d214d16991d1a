//! The index map of a table: its columns in use across, and each index as a path over them, key by key. Indexes that
//! begin with the same keys share that part of their way, so that duplicates and prefixes are seen.

use std::collections::BTreeMap;

use crate::readings::catalog::{Index, Table};

/// The map of a table.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct IndexMap {
    /// Columns and expressions in use, in the order of the table; expressions behind them.
    pub columns: Vec<String>,
    /// Where paths go, each step below the one before it.
    pub steps: Vec<Step>,
    /// The indexes, in the order in which their ways end.
    pub paths: Vec<Path>,
}

/// One key on the way of the indexes that begin alike so far.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Step {
    /// Place among the columns of the map.
    pub column: usize,
    /// The step before it; nothing for a first key.
    pub after: Option<usize>,
    /// Its place in the key, from 0.
    pub place: usize,
}

/// The way of one index.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Path {
    /// Name of the index.
    pub index: String,
    /// Its last step; nothing of an index without a key that is known.
    pub end: Option<usize>,
    /// Columns that it carries, by their place in the map.
    pub carried: Vec<usize>,
}

/// The map of a table's indexes, with the columns that statements use besides. Linear in keys, times columns.
pub fn index_map<'a>(table: &Table, in_use: impl IntoIterator<Item = &'a str>) -> IndexMap {
    let mut named: Vec<&str> = in_use.into_iter().collect();
    for index in &table.indexes {
        named.extend(index.keys.iter().map(|key| key.text()).chain(index.carried.iter().map(String::as_str)));
    }
    let columns = in_order(table, named);
    let place = |name: &str| columns.iter().position(|column| column == name);
    // Those that begin alike stand together, the shorter first.
    let mut indexes: Vec<(Vec<usize>, &Index)> = table
        .indexes
        .iter()
        .map(|index| (index.keys.iter().filter_map(|key| place(key.text())).collect(), index))
        .collect();
    indexes.sort_by(|(keys, index), (other_keys, other)| (keys, &index.name).cmp(&(other_keys, &other.name)));
    let (mut steps, mut paths) = (Vec::new(), Vec::new());
    // By the step before it and its column.
    let mut known = BTreeMap::new();
    for (keys, index) in indexes {
        let mut end = None;
        for (place, column) in keys.into_iter().enumerate() {
            let step = *known.entry((end, column)).or_insert_with(|| {
                steps.push(Step { column, after: end, place });
                steps.len() - 1
            });
            end = Some(step);
        }
        let carried = index.carried.iter().filter_map(|name| place(name)).collect();
        paths.push(Path { index: index.name.clone(), end, carried });
    }
    IndexMap { columns, steps, paths }
}

/// Names, each once, as the table has them; what is none of its columns comes behind them as it was named.
fn in_order(table: &Table, named: Vec<&str>) -> Vec<String> {
    let of_table = table.columns.iter().map(|column| column.name.as_str()).filter(|name| named.contains(name));
    let mut columns: Vec<String> = of_table.map(str::to_owned).collect();
    for name in &named {
        if !columns.iter().any(|column| column == name) {
            columns.push((*name).to_owned());
        }
    }
    columns
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::catalog::IndexKey;
    use crate::readings::catalog::test_catalog::{index, table};

    const COLUMNS: [(&str, f64); 4] = [("a", 10.0), ("b", 10.0), ("c", 10.0), ("d", 10.0)];

    fn keys(map: &IndexMap, path: &Path) -> Vec<String> {
        let mut keys = Vec::new();
        let mut at = path.end;
        while let Some(step) = at {
            keys.insert(0, map.columns[map.steps[step].column].clone());
            at = map.steps[step].after;
        }
        keys
    }

    #[test]
    fn indexes_that_begin_alike_share_their_way() {
        let mut covering = index("covering", &["b"], true);
        covering.carried = vec!["d".into()];
        let indexes = vec![
            index("long", &["b", "a"], true),
            index("short", &["b"], true),
            index("again", &["b"], true),
            covering,
        ];
        let map = index_map(&table("deck", 1e4, &COLUMNS, indexes), ["c"]);
        assert_eq!(map.columns, ["a", "b", "c", "d"]);
        assert_eq!(map.steps.len(), 2, "{map:?}");
        let ends: Vec<(&str, Option<usize>)> = map.paths.iter().map(|path| (path.index.as_str(), path.end)).collect();
        assert_eq!(ends, [("again", Some(0)), ("covering", Some(0)), ("short", Some(0)), ("long", Some(1))]);
        assert_eq!(map.paths[1].carried, [3]);
        assert_eq!(map.steps[1], Step { column: 0, after: Some(0), place: 1 });
    }

    #[test]
    fn what_nobody_uses_is_left_out_and_expressions_come_last() {
        let mut lower = index("lower_b", &[], true);
        lower.keys = vec![IndexKey::Expression("lower(b)".into())];
        let map = index_map(&table("deck", 1e4, &COLUMNS, vec![lower, index("d", &["d"], true)]), []);
        assert_eq!(map.columns, ["d", "lower(b)"]);
    }

    proptest! {
        /// Each path tells the keys of its index in order, and no way is there twice.
        #[test]
        fn paths_tell_their_keys(lists in prop::collection::vec(prop::collection::vec(0usize..4, 1..4), 0..12)) {
            let names = |list: &Vec<usize>| list.iter().map(|at| COLUMNS[*at].0).collect::<Vec<_>>();
            let indexes = lists.iter().enumerate().map(|(at, list)| index(&format!("i{at}"), &names(list), true)).collect();
            let table = table("deck", 1e4, &COLUMNS, indexes);
            let map = index_map(&table, []);
            prop_assert_eq!(map.paths.len(), lists.len());
            for path in &map.paths {
                let index = table.indexes.iter().find(|index| index.name == path.index).expect("it is one of them");
                prop_assert_eq!(keys(&map, path), index.keys.iter().map(|key| key.text().to_owned()).collect::<Vec<_>>());
            }
            for (at, step) in map.steps.iter().enumerate() {
                prop_assert!(step.after.is_none_or(|after| after < at));
                prop_assert!(!map.steps[..at].iter().any(|other| (other.after, other.column) == (step.after, step.column)));
            }
        }
    }
}
