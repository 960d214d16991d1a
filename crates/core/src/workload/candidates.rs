//! The indexes that could serve a statement: what is compared for single values first, then one range or the order asked
//! for; and the same with what is looked up by joins.

use std::collections::HashSet;

use super::cost::condition_of;
use super::index_form::{FormKey, IndexForm, Method, is_ordered, is_text};
use super::shape::{Block, Compared, Of, Relation, Shape};
use crate::readings::catalog::{IndexKey, Table};

/// Keys of an index that is proposed.
const MOST_KEYS: usize = 4;
/// Columns that are held only so that the table need not be read.
const MOST_FURTHER: usize = 3;

/// An index that could serve a statement.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Proposed {
    /// The index.
    pub form: IndexForm,
    /// Columns that it holds only so that the table need not be read.
    pub further: usize,
}

/// Indexes that could serve a statement, each once. Keys that are compared for single values stand in the order that
/// `first` gives them, the smallest first.
pub fn candidates(shape: &Shape, first: &impl Fn(&Table, &str) -> f64) -> Vec<Proposed> {
    let mut known = HashSet::new();
    let mut found = Vec::new();
    for block in &shape.blocks {
        for (number, relation) in block.relations.iter().enumerate() {
            let Of::Table(table) = relation.of else { continue };
            for proposed in of_relation(block, number, table, relation, first) {
                if known.insert(proposed.form.clone()) {
                    found.push(proposed);
                }
            }
        }
    }
    found
}

fn of_relation(
    block: &Block,
    number: usize,
    table: &Table,
    relation: &Relation,
    first: &impl Fn(&Table, &str) -> f64,
) -> Vec<Proposed> {
    let form = |keys: Vec<FormKey>| IndexForm {
        table: table.oid,
        method: Method::Btree,
        keys,
        carried: Vec::new(),
        condition: None,
    };
    let subjects = |is_meant: fn(Compared) -> bool| {
        let terms = relation.terms.iter().filter(move |term| is_meant(term.compared));
        terms.filter_map(|term| term.subject.clone().map(|key| (key, term.compared)))
    };
    let mut exact: Vec<FormKey> = subjects(Compared::is_exact).map(|(key, _)| plain(key)).collect();
    exact.sort_by(|a, b| first(table, a.key.text()).total_cmp(&first(table, b.key.text())));
    let ends: Vec<FormKey> = subjects(|compared| compared.is_searched() && !compared.is_exact())
        .map(|(key, compared)| FormKey {
            by_pattern: compared == Compared::Prefix && orders_as_text(table, &key),
            ..plain(key)
        })
        .collect();
    let mut joined: Vec<FormKey> = Vec::new();
    for join in &block.joins {
        for (relation, column) in [&join.left, &join.right] {
            let key = FormKey::column(column);
            if *relation == number && !joined.contains(&key) && !exact.contains(&key) {
                joined.push(key);
            }
        }
    }
    let order: Vec<FormKey> = if block.order.iter().all(|by| by.relation == number) {
        let turned = block.order.first().is_some_and(|by| by.descending);
        // An index is read backwards as well: only where directions differ do they matter.
        block
            .order
            .iter()
            .map(|by| FormKey { descending: by.descending != turned, ..FormKey::column(&by.column) })
            .collect()
    } else {
        Vec::new()
    };
    let mut heads: Vec<Vec<FormKey>> = vec![exact.clone()];
    for key in &joined {
        heads.push([std::slice::from_ref(key), &exact].concat());
        heads.push([&exact, std::slice::from_ref(key)].concat());
    }
    if joined.len() > 1 {
        heads.push([joined.as_slice(), &exact].concat());
    }
    let mut keys: Vec<Vec<FormKey>> = Vec::new();
    for head in &heads {
        for tail in ends.iter().map(std::slice::from_ref).chain([order.as_slice(), &[]]) {
            let own: Vec<FormKey> =
                tail.iter().filter(|key| !head.iter().any(|one| one.key == key.key)).cloned().collect();
            let whole = [head.as_slice(), &own].concat();
            keys.extend((1..=whole.len().min(MOST_KEYS)).map(|length| whole[..length].to_vec()));
        }
    }
    keys.sort_by_key(Vec::len);
    keys.dedup();
    let mut forms: Vec<Proposed> = keys.into_iter().map(|keys| Proposed { form: form(keys), further: 0 }).collect();
    // With what else is wanted of the rows, where that is little: as further keys, which share entries, or carried where
    // they have no order.
    for index in 0..forms.len() {
        let of = &forms[index].form;
        let held: HashSet<&str> = of.columns().collect();
        let lacking: Vec<&String> =
            relation.wanted.iter().flatten().filter(|column| !held.contains(column.as_str())).collect();
        let further = lacking.len();
        if relation.wanted.is_some() && (1..=MOST_FURTHER).contains(&further) {
            let (keys, carried): (Vec<&String>, Vec<&String>) = lacking
                .into_iter()
                .partition(|column| table.column(column).is_some_and(|column| is_ordered(&column.type_name)));
            let keys = keys.into_iter().map(|column| FormKey::column(column));
            let form = IndexForm {
                keys: of.keys.iter().cloned().chain(keys).collect(),
                carried: carried.into_iter().cloned().collect(),
                ..of.clone()
            };
            forms.push(Proposed { form, further });
        }
    }
    // Of only the rows that meet what every call asks for; ordered by what is wanted of them where nothing else is asked.
    for term in relation.terms.iter() {
        let Some(condition) = condition_of(term) else { continue };
        let wanted = relation
            .wanted
            .iter()
            .flatten()
            .filter(|column| Some(column.as_str()) != term.subject.as_ref().map(IndexKey::text));
        let wanted: Vec<FormKey> = wanted.map(|column| FormKey::column(column)).take(MOST_FURTHER).collect();
        if !wanted.is_empty() {
            let further = wanted.len();
            forms.push(Proposed { form: IndexForm { condition: Some(condition.clone()), ..form(wanted) }, further });
        }
        for index in 0..forms.len() {
            let Proposed { form, further } = &forms[index];
            let keys: Vec<FormKey> =
                form.keys.iter().filter(|key| Some(&key.key) != term.subject.as_ref()).cloned().collect();
            if !keys.is_empty() && form.condition.is_none() {
                let form = IndexForm { keys, condition: Some(condition.clone()), ..form.clone() };
                forms.push(Proposed { form, further: *further });
            }
        }
    }
    forms.extend(
        subjects(|compared| compared == Compared::Contains)
            .map(|(key, _)| Proposed { form: IndexForm { method: Method::Gin, ..form(vec![plain(key)]) }, further: 0 }),
    );
    let is_possible = |key: &FormKey| match &key.key {
        IndexKey::Column(name) => table.column(name).is_some_and(|column| is_ordered(&column.type_name)),
        IndexKey::Expression(_) => true,
    };
    forms.retain(|proposed| proposed.form.method != Method::Btree || proposed.form.keys.iter().all(is_possible));
    forms
}

fn plain(key: IndexKey) -> FormKey {
    FormKey { key, descending: false, by_pattern: false }
}

fn orders_as_text(table: &Table, key: &IndexKey) -> bool {
    match key {
        IndexKey::Column(name) => table.column(name).is_some_and(|column| is_text(&column.type_name)),
        IndexKey::Expression(_) => true,
    }
}
