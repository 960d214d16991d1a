//! What a statement costs with a set of indexes, by the planner's published formulas (PostgreSQL, `costsize.c`), with one
//! change: the share of pages that the server finds in its cache is known from the statement's own counters, and such a
//! page is charged [`CACHED_PAGE`] instead of a read.
//!
//! Tables are joined in the order that costs least, found over all subsets (Selinger); each is read in whole and
//! compared by hash, or searched by an index for each row of those before it.
//!
//! Laws, tested below: another index never makes a statement cost more; more rows never cost less.

use std::collections::HashMap;

use super::index_form::{FormKey, IndexForm, Method, bare};
use super::selectivity::{distinct, share};
use super::shape::{Block, Compared, Join, Of, Relation, Shape, Term};
use crate::readings::catalog::{Catalog, IndexKey, PlannerCosts, Table};

/// Cost of a page that is in the server's cache: looked up, pinned and let go. About as much as handling five rows.
const CACHED_PAGE: f64 = 0.05;
/// Operators to descend one level of a B-tree, as the planner charges them.
const OPERATORS_PER_LEVEL: f64 = 50.0;
/// Entries of a page of an index above its leaves.
const ENTRIES_PER_PAGE: f64 = 200.0;
/// Bytes of a page.
const PAGE: f64 = 8192.0;
/// What starting a statement costs.
const START: f64 = 2.0;
/// More tables than this are not joined in every order.
pub const MOST_JOINED: usize = 9;
/// Rows of what is not known: a function, a view.
const UNKNOWN_ROWS: f64 = 100.0;
/// Groups for each row that is grouped, where nothing is known: the planner's own default for one column.
const ROWS_PER_GROUP: f64 = 10.0;
/// Share of the pages of a table that changed since it was last vacuumed: their rows are looked at even where an index
/// holds all that is asked for.
const NOT_ALL_VISIBLE: f64 = 0.1;
/// How far the first of several keys orders the rows, as the planner takes it.
const FIRST_OF_SEVERAL: f64 = 0.75;
/// Cost of one entry written to an index, in operators beyond its descent.
const OPERATORS_PER_ENTRY: f64 = 100.0;
/// Cost of one value that is handed on, in operators.
const OPERATORS_PER_VALUE: f64 = 8.0;
/// How far what was counted may outweigh what the statistics say.
const LEAST_POWER: f64 = 0.2;
const MOST_POWER: f64 = 3.0;

/// Pages touched, and the cost in the planner's units.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Cost {
    /// Pages touched.
    pub pages: f64,
    /// In the planner's units.
    pub units: f64,
}

impl std::ops::Add for Cost {
    type Output = Cost;
    fn add(self, other: Cost) -> Cost {
        Cost { pages: self.pages + other.pages, units: self.units + other.units }
    }
}

impl std::ops::Mul<f64> for Cost {
    type Output = Cost;
    fn mul(self, times: f64) -> Cost {
        Cost { pages: self.pages * times, units: self.units * times }
    }
}

/// Rows and pages of each table, those of partitions together.
#[derive(Debug)]
pub struct Sizes(HashMap<u32, Size>);

/// How large a table is.
#[derive(Debug, Clone, Copy)]
pub struct Size {
    /// Its rows.
    pub rows: f64,
    /// Its pages.
    pub pages: f64,
    /// Tables that hold its rows: itself, or its partitions.
    pub parts: f64,
}

impl Sizes {
    /// Of the tables of a catalog.
    pub fn of(catalog: &Catalog) -> Sizes {
        let mut sizes: HashMap<u32, Size> = HashMap::new();
        let whole_of: HashMap<u32, Option<u32>> =
            catalog.tables.iter().map(|table| (table.oid, table.part_of)).collect();
        for table in catalog.tables.iter().filter(|table| !table.is_partitioned) {
            let mut of = Some(table.oid);
            while let Some(oid) = of {
                let size = sizes.entry(oid).or_insert(Size { rows: 0.0, pages: 0.0, parts: 0.0 });
                size.rows += table.rows.unwrap_or_default();
                size.pages += table.pages as f64;
                size.parts += 1.0;
                of = whole_of.get(&oid).copied().flatten();
            }
        }
        Sizes(sizes)
    }

    /// Of one table.
    pub fn table(&self, table: &Table) -> Size {
        let size = self.0.get(&table.oid).copied();
        let Size { rows, pages, parts } = size.unwrap_or(Size { rows: 0.0, pages: 0.0, parts: 1.0 });
        Size { rows: rows.max(1.0), pages: pages.max(1.0), parts: parts.max(1.0) }
    }
}

/// The indexes that a statement may use, with their sizes in bytes.
#[derive(Debug, Clone, Default)]
pub struct Indexes<'i>(HashMap<u32, Vec<(&'i IndexForm, f64)>>);

impl<'i> Indexes<'i> {
    /// All of these.
    pub fn of(forms: impl IntoIterator<Item = (&'i IndexForm, f64)>) -> Indexes<'i> {
        let mut indexes = Indexes::default();
        forms.into_iter().for_each(|(form, bytes)| indexes.add(form, bytes));
        indexes
    }

    /// One more.
    pub fn add(&mut self, form: &'i IndexForm, bytes: f64) {
        self.0.entry(form.table).or_default().push((form, bytes));
    }

    fn on(&self, table: u32) -> &[(&'i IndexForm, f64)] {
        self.0.get(&table).map_or(&[], Vec::as_slice)
    }
}

/// What is known of a statement from its own counters.
#[derive(Debug, Clone, Copy)]
pub struct Counted {
    /// Rows that a call returns or changes.
    pub rows: f64,
    /// Share of its pages that are found in the server's cache.
    pub hit_ratio: f64,
}

/// What is charged beyond the planner, which leaves it out because all plans of a statement pay it alike, or nearly.
#[derive(Debug, Clone, Copy)]
struct Extra {
    /// Starting a statement.
    start: f64,
    /// Share of handling a row that is charged once more where it is handed on as it was read, without a join.
    single_rows: f64,
    /// Operators for each value that is handed on.
    per_value: f64,
    /// Share of the pages above the leaves of an index that are charged.
    inner_pages: f64,
    /// Share of what is written that is charged.
    writes: f64,
}

impl Default for Extra {
    fn default() -> Self {
        Extra { start: START, single_rows: 1.0, per_value: OPERATORS_PER_VALUE, inner_pages: 1.0, writes: 1.0 }
    }
}

/// What a statement is costed by.
#[derive(Debug)]
pub struct Costing<'a> {
    shape: &'a Shape<'a>,
    sizes: &'a Sizes,
    costs: PlannerCosts,
    extra: Extra,
    counted: Counted,
    /// To which power the share of each term is raised, so that as many rows come out as were counted; nothing where
    /// what was counted does not tell.
    power: Option<f64>,
    /// Rows that each query finds, and that it hands on.
    found: Vec<f64>,
    handed_on: Vec<f64>,
}

/// One way to read a relation.
struct Way {
    cost: Cost,
    is_ordered: bool,
}

impl<'a> Costing<'a> {
    /// For a statement of this shape.
    pub fn of(shape: &'a Shape<'a>, catalog: &Catalog, sizes: &'a Sizes, counted: Counted) -> Costing<'a> {
        let blocks = shape.blocks.len();
        let (found, handed_on) = (vec![UNKNOWN_ROWS; blocks], vec![UNKNOWN_ROWS; blocks]);
        let extra = Extra::default();
        let mut costing = Costing { shape, sizes, costs: catalog.costs, extra, counted, power: None, found, handed_on };
        costing.power = costing.fitted();
        // Queries within others come after them.
        for (number, block) in shape.blocks.iter().enumerate().rev() {
            let found = costing.rows_of(block, everything(block));
            costing.found[number] = found;
            let most = if number == 0 { counted.rows.max(1.0) } else { f64::MAX };
            costing.handed_on[number] = match (block.sums_up, block.ends_early) {
                (true, _) => (found / ROWS_PER_GROUP).max(1.0).min(most),
                (_, true) => found.min(most),
                _ => found,
            };
        }
        costing
    }

    /// As the planner charges it, of the same rows: what every plan of a statement costs alike it leaves out.
    pub fn as_planned(shape: &'a Shape<'a>, catalog: &Catalog, sizes: &'a Sizes, rows: f64) -> Costing<'a> {
        let extra = Extra { start: 0.0, single_rows: 0.0, per_value: 0.0, inner_pages: 0.0, writes: 0.0 };
        Costing { extra, ..Costing::of(shape, catalog, sizes, Counted { rows, hit_ratio: 0.0 }) }
    }

    /// What a call costs with these indexes.
    pub fn cost(&self, indexes: &Indexes) -> Cost {
        let blocks = self.shape.blocks.iter().enumerate();
        let read = blocks.map(|(number, block)| self.block(number, block, indexes)).fold(Cost::default(), |a, b| a + b);
        read + self.written(indexes) * self.extra.writes + Cost { pages: 0.0, units: self.extra.start }
    }

    /// Whether all of its queries have few enough tables to be joined in every order.
    pub fn is_complete(shape: &Shape) -> bool {
        shape.blocks.iter().all(|block| block.relations.len() <= MOST_JOINED)
    }

    /// The power by which a query finds the rows that it was counted to return: where these are all that it finds, that
    /// says more of its terms together than what is known of each.
    fn fitted(&self) -> Option<f64> {
        let block = self.shape.blocks.first()?;
        let inserts = self.shape.write.as_ref().is_some_and(|write| write.inserts);
        let is_plain = |relation: &Relation| matches!(relation.of, Of::Table(_)) && multiplies(relation);
        if block.sums_up || block.ends_early || inserts || !block.relations.iter().all(is_plain) {
            return None;
        }
        let known = |relation: &Relation| match relation.of {
            Of::Table(table) => {
                let rows = self.sizes.table(table).rows;
                relation.terms.iter().map(|term| share(table, rows, term)).product::<f64>().max(1.0 / rows)
            }
            Of::Block(_) | Of::Unknown => 1.0,
        };
        let shares: f64 = block.relations.iter().map(known).product();
        let joined: f64 = block.joins.iter().map(|join| self.joined_share(block, join)).product();
        let all: f64 = block.relations.iter().map(|relation| self.table_rows(relation)).product();
        let wanted = self.counted.rows.max(0.5) / (all * joined);
        let power = wanted.ln() / shares.ln();
        (shares < 0.999 && power.is_finite()).then(|| power.clamp(LEAST_POWER, MOST_POWER))
    }

    fn table_rows(&self, relation: &Relation) -> f64 {
        match relation.of {
            Of::Table(table) => self.sizes.table(table).rows,
            Of::Block(block) => self.handed_on[block],
            Of::Unknown => UNKNOWN_ROWS,
        }
    }

    /// Share of a relation's rows that meet a term.
    fn term_share(&self, relation: &Relation, term: &Term) -> f64 {
        match relation.of {
            // How much lies beyond one end is anybody's guess, where nobody counted it: all of it, then.
            Of::Table(_) if self.power.is_none() && term.compared.has_one_end() => 1.0,
            Of::Table(table) => share(table, self.sizes.table(table).rows, term).powf(self.power.unwrap_or(1.0)),
            Of::Block(_) | Of::Unknown => 1.0,
        }
    }

    /// Share of a relation's rows that meet all of its terms.
    fn own_share(&self, relation: &Relation) -> f64 {
        let shares = relation.terms.iter().map(|term| self.term_share(relation, term));
        shares.product::<f64>().max(1.0 / self.table_rows(relation).max(1.0))
    }

    /// Rows of a relation before it is joined.
    fn rows(&self, relation: &Relation) -> f64 {
        (self.table_rows(relation) * self.own_share(relation)).max(1.0)
    }

    fn joined_share(&self, block: &Block, join: &Join) -> f64 {
        let table = |relation: usize| match block.relations[relation].of {
            Of::Table(table) => Some((table, self.sizes.table(table).rows)),
            Of::Block(_) | Of::Unknown => None,
        };
        let side = |(relation, column): &'_ (usize, String)| {
            table(*relation).map(|(table, rows)| distinct(table, rows, column))
        };
        let values = [side(&join.left), side(&join.right)].into_iter().flatten();
        1.0 / values.fold(1.0, f64::max)
    }

    /// Rows that come of joining the relations of a set.
    fn rows_of(&self, block: &Block, set: usize) -> f64 {
        let is_in = |relation: usize| set >> relation & 1 == 1;
        let numbers = || (0..block.relations.len()).filter(|number| is_in(*number));
        let drives = |number: usize| multiplies(&block.relations[number]);
        // Where nothing else is read yet, what is only checked for drives the search.
        let is_led = numbers().any(drives);
        let mut rows = 1.0;
        for number in numbers() {
            let relation = &block.relations[number];
            if drives(number) || !is_led {
                rows *= self.rows(relation);
                continue;
            }
            let touching = block.joins.iter().filter(|join| {
                (join.left.0 == number || join.right.0 == number) && is_in(join.left.0) && is_in(join.right.0)
            });
            let for_each = self.rows(relation) * touching.map(|join| self.joined_share(block, join)).product::<f64>();
            rows *= match (relation.is_checked, relation.after.is_empty()) {
                (true, true) => for_each.min(1.0),
                // What is checked to be missing may leave every row.
                (true, false) => 1.0,
                (false, _) => for_each.max(1.0),
            };
        }
        for join in &block.joins {
            if is_in(join.left.0) && is_in(join.right.0) && drives(join.left.0) && drives(join.right.0) {
                rows *= self.joined_share(block, join);
            }
        }
        rows.max(1.0)
    }

    /// What a query costs, all its runs together.
    fn block(&self, number: usize, block: &Block, indexes: &Indexes) -> Cost {
        let times = block.per_row_of.map_or(1.0, |outer| self.found[outer]);
        if block.relations.is_empty() {
            return Cost::default();
        }
        if block.relations.len() > MOST_JOINED {
            let whole = |relation: &Relation| self.in_whole(relation, times);
            return block.relations.iter().map(whole).fold(Cost::default(), |a, b| a + b);
        }
        let found = self.found[number];
        let sort = if block.order.is_empty() || block.sums_up {
            0.0
        } else {
            found * (found + 1.0).log2() * 2.0 * self.costs.operator * times
        };
        let whole = self.joined(block, indexes, times);
        let best = Cost { units: whole.units + sort, ..whole };
        let part = if block.ends_early { (self.handed_on[number] / found).min(1.0) } else { 1.0 };
        let ordered = (0..block.relations.len()).filter_map(|first| self.in_order(block, first, indexes, times));
        let ordered = ordered.map(|cost| cost * part).filter(|_| !block.order.is_empty() || part < 1.0);
        let cheapest = ordered.chain([best]).min_by(|a, b| a.units.total_cmp(&b.units)).unwrap_or(best);
        let handed_on = if block.sums_up { self.handed_on[number] } else { found * part };
        Cost { units: cheapest.units + handed_on * times * self.handing_on(block), ..cheapest }
    }

    /// What it costs to hand on a row: its values are written out one by one.
    fn handing_on(&self, block: &Block) -> f64 {
        let values = block.relations.iter().filter(|relation| multiplies(relation)).map(|relation| {
            match (&relation.wanted, relation.of) {
                (Some(wanted), _) => wanted.len(),
                (None, Of::Table(table)) => table.columns.len(),
                (None, _) => 1,
            }
        });
        let rows = if block.relations.len() > 1 { 1.0 } else { self.extra.single_rows };
        rows * self.costs.row + values.sum::<usize>() as f64 * self.extra.per_value * self.costs.operator
    }

    /// The cheapest way to join all relations.
    fn joined(&self, block: &Block, indexes: &Indexes, times: f64) -> Cost {
        let all = everything(block);
        let mut best: Vec<Option<Cost>> = vec![None; all + 1];
        best[0] = Some(Cost::default());
        let alone: Vec<Cost> =
            block.relations.iter().map(|relation| self.best_way(relation, &[], indexes, 1.0)).collect();
        for set in 0..all {
            let Some(cost) = best[set] else { continue };
            let outer = if set == 0 { times } else { times * self.rows_of(block, set) };
            for number in (0..block.relations.len()).filter(|number| set >> number & 1 == 0) {
                let relation = &block.relations[number];
                if relation.after.iter().any(|before| set >> before & 1 == 0) {
                    continue;
                }
                let bound = bound(block, set, number);
                let searched = self.best_way(relation, &bound, indexes, outer);
                let step = if set == 0 {
                    searched
                } else {
                    let handled = (outer + times * self.rows(relation)) * 3.0 * self.costs.operator;
                    let hashed = alone[number] * times + Cost { pages: 0.0, units: handled };
                    if !bound.is_empty() && searched.units < hashed.units { searched } else { hashed }
                };
                let joined = cost + step;
                let known = &mut best[set | 1 << number];
                if known.is_none_or(|known| joined.units < known.units) {
                    *known = Some(joined);
                }
            }
        }
        best[all].unwrap_or_default()
    }

    /// All relations one by one, beginning with one that is read in the order asked for, and each other searched by an
    /// index; nothing where that cannot be.
    fn in_order(&self, block: &Block, first: usize, indexes: &Indexes, times: f64) -> Option<Cost> {
        let relation = &block.relations[first];
        if block.order.iter().any(|by| by.relation != first) || !relation.after.is_empty() {
            return None;
        }
        let ways = self.ways(block, relation, &[], indexes, times);
        let ordered = ways.filter(|way| way.is_ordered).map(|way| way.cost);
        let mut cost = ordered.min_by(|a, b| a.units.total_cmp(&b.units))?;
        let (mut set, all) = (1usize << first, everything(block));
        while set != all {
            let outer = times * self.rows_of(block, set);
            let next = (0..block.relations.len()).filter(|number| set >> number & 1 == 0).filter_map(|number| {
                let relation = &block.relations[number];
                let is_ready = relation.after.iter().all(|before| set >> before & 1 == 1);
                let bound = bound(block, set, number);
                (is_ready && !bound.is_empty()).then(|| (number, self.best_way(relation, &bound, indexes, outer)))
            });
            let (number, step) = next.min_by(|a, b| a.1.units.total_cmp(&b.1.units))?;
            cost = cost + step;
            set |= 1 << number;
        }
        Some(cost)
    }

    fn best_way(&self, relation: &Relation, bound: &[&str], indexes: &Indexes, times: f64) -> Cost {
        let block = Block::default();
        let ways = self.ways(&block, relation, bound, indexes, times).map(|way| way.cost);
        ways.min_by(|a, b| a.units.total_cmp(&b.units)).unwrap_or_default()
    }

    /// Every way to read a relation, once for each of so many rows of which some columns are known.
    fn ways<'w>(
        &'w self,
        block: &'w Block,
        relation: &'w Relation,
        bound: &'w [&'w str],
        indexes: &'w Indexes,
        times: f64,
    ) -> impl Iterator<Item = Way> + 'w {
        let whole = Way { cost: self.in_whole(relation, times), is_ordered: block.order.is_empty() };
        let of = match relation.of {
            Of::Table(table) => Some(table),
            Of::Block(_) | Of::Unknown => None,
        };
        let by_index = of.into_iter().flat_map(move |table| {
            let on = indexes.on(table.oid).iter();
            on.filter_map(move |(form, bytes)| self.by_index(block, (table, relation), bound, (form, *bytes), times))
        });
        std::iter::once(whole).chain(by_index)
    }

    /// Reading all of a relation so many times: from the second time on out of the cache.
    fn in_whole(&self, relation: &Relation, times: f64) -> Cost {
        let Of::Table(table) = relation.of else { return Cost::default() };
        let Size { rows, pages, .. } = self.sizes.table(table);
        let per_row = self.costs.row + self.costs.operator * relation.terms.len() as f64;
        let part = self.part_read(table, relation);
        let (rows, pages) = (rows * part, pages * part);
        let first = pages * self.page(self.costs.sequential_page);
        let again = (times - 1.0).max(0.0) * pages * CACHED_PAGE;
        Cost { pages: pages * times, units: first + again + times * rows * per_row }
    }

    /// Reading a relation by an index; nothing where that does not help to find its rows.
    fn by_index(
        &self,
        block: &Block,
        (table, relation): (&Table, &Relation),
        bound: &[&str],
        (form, bytes): (&IndexForm, f64),
        times: f64,
    ) -> Option<Way> {
        let part = self.part_read(table, relation);
        let Size { rows, pages, parts } = self.sizes.table(table);
        let (rows, table_pages, parts, bytes) = (rows * part, pages * part, parts * part, bytes * part);
        let held = match &form.condition {
            None => 1.0,
            Some(condition) => {
                let meets = |term: &&Term| condition_of(term).as_ref() == Some(condition);
                self.term_share(relation, relation.terms.iter().find(meets)?)
            }
        };
        let (mut leaves, mut heap, mut descents, mut narrowed, mut is_open) = (1.0, 1.0, 1.0, 0, true);
        for key in &form.keys {
            let Some((share, compared)) = self.narrows(table, relation, bound, key) else {
                is_open = false;
                continue;
            };
            heap *= share;
            let finds = match form.method {
                Method::Btree => compared.is_searched() && (compared != Compared::Prefix || key.by_pattern),
                Method::Gin => compared == Compared::Contains,
                Method::Other => false,
            };
            if is_open && finds {
                leaves *= share;
                narrowed += 1;
                if let Compared::OneOf(values) = compared {
                    descents *= values as f64;
                }
            }
            is_open &= compared.is_exact() && finds;
        }
        let has_all = form.method == Method::Btree
            && relation
                .wanted
                .as_ref()
                .is_some_and(|wanted| wanted.iter().all(|column| form.columns().any(|held| held == column)));
        let is_ordered = block.order.is_empty() || delivers(form, relation, block);
        let in_order = is_ordered && !block.order.is_empty();
        if narrowed == 0 && !in_order && !has_all && form.condition.is_none() {
            return None;
        }
        let entries = (rows * held * leaves).max(1.0 / times.max(1.0));
        let found = (rows * held * heap).max(1.0 / times.max(1.0));
        let levels = ((rows * held / parts).max(2.0).ln() / f64::ln(ENTRIES_PER_PAGE)).ceil() * parts;
        let leaf_pages = (leaves * bytes / PAGE).max(descents * parts);
        let heap_pages = if has_all {
            (found * NOT_ALL_VISIBLE).min(table_pages * NOT_ALL_VISIBLE)
        } else {
            self.heap_pages(table, form, found, table_pages, rows)
        };
        let touched = times * (levels * descents * self.extra.inner_pages + leaf_pages + heap_pages);
        // What is touched again is in the cache by then.
        let apart = touched.min(table_pages + bytes / PAGE);
        let per_row = self.costs.row + self.costs.operator * relation.terms.len() as f64;
        let per_time = descents * levels * OPERATORS_PER_LEVEL * self.costs.operator
            + entries * self.costs.index_entry
            + found * per_row;
        let units = apart * self.page(self.costs.random_page) + (touched - apart) * CACHED_PAGE + times * per_time;
        Some(Way { cost: Cost { pages: touched, units }, is_ordered })
    }

    /// Scattered rows touch the pages of Mackert and Lohman's formula; rows in order only as many as they fill.
    fn heap_pages(&self, table: &Table, form: &IndexForm, found: f64, pages: f64, rows: f64) -> f64 {
        let scattered = (2.0 * pages * found / (2.0 * pages + found)).min(pages);
        let in_order = (found / rows * pages).max(1.0).min(scattered.max(1.0));
        let column = form.keys.first().and_then(|key| match &key.key {
            IndexKey::Column(name) => table.column(name),
            IndexKey::Expression(_) => None,
        });
        let correlation = column.and_then(|column| column.statistics.as_ref()).map_or(0.0, |known| known.correlation);
        let several = if form.keys.len() > 1 { FIRST_OF_SEVERAL } else { 1.0 };
        let ordered = (correlation * several).powi(2);
        scattered + ordered * (in_order - scattered)
    }

    /// How a key narrows the search for a relation's rows: by a column of a row read before, or by a term.
    fn narrows(&self, table: &Table, relation: &Relation, bound: &[&str], key: &FormKey) -> Option<(f64, Compared)> {
        if let IndexKey::Column(name) = &key.key
            && bound.contains(&name.as_str())
        {
            return Some((1.0 / distinct(table, self.sizes.table(table).rows, name), Compared::Equal));
        }
        let term = relation.term(&key.key)?;
        let share = self.term_share(relation, term);
        // Among the partitions that are read at all, more of the rows meet what they were picked by.
        let is_picked_by = table.partition_keys.first().is_some_and(|column| column == key.key.text());
        let share = if is_picked_by { (share / self.part_read(table, relation)).min(1.0) } else { share };
        Some((share, term.compared))
    }

    /// Share of a table's partitions that are read: those that rows can be in which meet the terms.
    fn part_read(&self, table: &Table, relation: &Relation) -> f64 {
        let parts = self.sizes.table(table).parts;
        let term = table.partition_keys.first().and_then(|column| relation.term(&IndexKey::Column(column.clone())));
        match term.map(|term| term.compared) {
            Some(Compared::Equal) => 1.0 / parts,
            Some(Compared::OneOf(values)) => (values as f64 / parts).min(1.0),
            Some(Compared::Range { from: true, to: true }) => {
                let share = term.map_or(1.0, |term| self.term_share(relation, term));
                share.max(1.0 / parts)
            }
            _ => 1.0,
        }
    }

    /// What a call writes, to the table and to its indexes.
    fn written(&self, indexes: &Indexes) -> Cost {
        let Some(write) = &self.shape.write else { return Cost::default() };
        let rows = self.counted.rows;
        let levels = self.sizes.table(write.table).rows.max(2.0).ln() / f64::ln(ENTRIES_PER_PAGE);
        let page = CACHED_PAGE + self.page(self.costs.random_page);
        let entry = (levels.ceil() * OPERATORS_PER_LEVEL + OPERATORS_PER_ENTRY) * self.costs.operator + page;
        let on = indexes.on(write.table.oid);
        let entries = match &write.sets {
            // One set column that any index holds takes the row out of its page: then every index gets a new entry.
            Some(sets) if on.iter().any(|(form, _)| form.columns().any(|column| sets.contains(column))) => on.len(),
            Some(_) => 0,
            None if write.inserts => on.len(),
            // A deleted row's entries are left to vacuum.
            None => 0,
        };
        Cost { pages: rows * (1.0 + entries as f64 * 3.0), units: rows * (entry + entries as f64 * entry) }
    }

    fn page(&self, read_cost: f64) -> f64 {
        read_cost * (1.0 - self.counted.hit_ratio) + CACHED_PAGE * self.counted.hit_ratio
    }
}

/// The set of all relations of a query.
fn everything(block: &Block) -> usize {
    (1 << block.relations.len().min(MOST_JOINED)) - 1
}

/// Whether each of a relation's rows gives a row of its own: it is not only looked up for the rows of others.
fn multiplies(relation: &Relation) -> bool {
    !relation.is_checked && relation.after.is_empty()
}

/// Columns of a relation that are known once the relations of a set were read.
fn bound<'b>(block: &'b Block, set: usize, number: usize) -> Vec<&'b str> {
    let is_in = |relation: usize| set >> relation & 1 == 1;
    let columns = block.joins.iter().filter_map(|join| match (&join.left, &join.right) {
        ((own, column), (other, _)) | ((other, _), (own, column)) if *own == number && is_in(*other) => {
            Some(column.as_str())
        }
        _ => None,
    });
    columns.collect()
}

/// Whether the rows of a relation come out of an index in the order that a query asks for.
fn delivers(form: &IndexForm, relation: &Relation, block: &Block) -> bool {
    let is_one_value = |key: &IndexKey| relation.term(key).is_some_and(|term| term.compared.is_one_value());
    let mut keys = form.keys.iter().filter(|key| !is_one_value(&key.key));
    let mut turned = None;
    let wanted = block.order.iter().filter(|by| !is_one_value(&IndexKey::Column(by.column.clone())));
    form.method == Method::Btree
        && wanted.into_iter().all(|by| {
            let Some(key) = keys.next() else { return false };
            let is_turned = key.descending != by.descending;
            let is_same_way = *turned.get_or_insert(is_turned) == is_turned;
            is_same_way && !key.by_pattern && matches!(&key.key, IndexKey::Column(name) if *name == by.column)
        })
}

/// A term as the condition of an index that holds only the rows that meet it; nothing where it differs from call to call.
pub fn condition_of(term: &Term) -> Option<String> {
    let of = term.subject.as_ref()?.text();
    Some(match term.compared {
        Compared::Null => bare(&format!("{of} IS NULL")),
        Compared::NotNull => bare(&format!("{of} IS NOT NULL")),
        Compared::Is(true) => bare(of),
        Compared::Is(false) => bare(&format!("NOT {of}")),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::catalog::test_catalog::{catalog, table};
    use crate::workload::shape;

    fn skerry() -> Catalog {
        let leg = [("passage_leg_id", 6e5), ("crossing_id", 6000.0), ("state", 4.0), ("boarded_at", 3e5)];
        let crossing = [("crossing_id", 6000.0), ("vessel_id", 80.0), ("departs_at", 5900.0)];
        catalog(1, vec![table("passage_leg", 6e5, &leg, vec![]), table("crossing", 6000.0, &crossing, vec![])])
    }

    fn form(catalog: &Catalog, table: &str, keys: &[&str]) -> (IndexForm, f64) {
        let of = catalog.table(None, table).unwrap();
        let keys = keys.iter().map(|key| FormKey::column(key)).collect();
        let form = IndexForm { table: of.oid, method: Method::Btree, keys, carried: vec![], condition: None };
        let bytes = form.bytes(of, Sizes::of(catalog).table(of), 1.0);
        (form, bytes)
    }

    /// Cost of a statement that returns so many rows, all of its pages in the cache, with these indexes.
    fn units(statement: &str, rows: f64, indexes: &[(&str, &[&str])]) -> f64 {
        let (catalog, sizes) = (skerry(), Sizes::of(&skerry()));
        let shape = shape(statement, &catalog).unwrap();
        let costing = Costing::of(&shape, &catalog, &sizes, Counted { rows, hit_ratio: 1.0 });
        let forms: Vec<_> = indexes.iter().map(|(table, keys)| form(&catalog, table, keys)).collect();
        costing.cost(&Indexes::of(forms.iter().map(|(form, bytes)| (form, *bytes)))).units
    }

    #[test]
    fn an_index_serves_a_search_a_join_and_an_order() {
        let search = "select * from passage_leg where crossing_id = $1";
        assert!(units(search, 100.0, &[]) > 100.0 * units(search, 100.0, &[("passage_leg", &["crossing_id"])]));
        let join = "select l.state from crossing c join passage_leg l using (crossing_id) where vessel_id = $1";
        assert!(units(join, 7500.0, &[]) > 3.0 * units(join, 7500.0, &[("passage_leg", &["crossing_id"])]));
        let newest = "select * from passage_leg order by boarded_at desc limit $1";
        assert!(units(newest, 10.0, &[]) > 500.0 * units(newest, 10.0, &[("passage_leg", &["boarded_at"])]));
        // Another order is no help, and where all rows are wanted neither is an index.
        let other = units(newest, 10.0, &[("passage_leg", &["state", "boarded_at"])]);
        assert!(other > units(newest, 10.0, &[]) * 0.99);
        let all = "select * from passage_leg";
        assert_eq!(units(all, 6e5, &[]), units(all, 6e5, &[("passage_leg", &["crossing_id"])]));
    }

    #[test]
    fn rows_that_were_counted_say_more_than_what_is_known_of_each_column() {
        let search = "select * from passage_leg where crossing_id = $1 and state = $2";
        let with = |rows: f64| units(search, rows, &[("passage_leg", &["crossing_id", "state"])]);
        assert!(with(20_000.0) > 20.0 * with(20.0));
    }

    #[test]
    fn writes_pay_for_every_index_unless_the_row_stays_in_its_page() {
        let insert = "insert into passage_leg values ($1, $2)";
        assert!(units(insert, 1.0, &[("passage_leg", &["state"])]) > units(insert, 1.0, &[]));
        let update = "update passage_leg set state = $1 where passage_leg_id = $2";
        let key: (&str, &[&str]) = ("passage_leg", &["passage_leg_id"]);
        let unset = units(update, 1.0, &[key, ("passage_leg", &["boarded_at"])]);
        assert_eq!(unset, units(update, 1.0, &[key]));
        assert!(units(update, 1.0, &[key, ("passage_leg", &["state"])]) > unset);
    }

    proptest! {
        #[test]
        fn another_index_never_makes_a_query_cost_more(rows in 1.0f64..1e5, first in 0usize..4, second in 0usize..4) {
            let columns = ["passage_leg_id", "crossing_id", "state", "boarded_at"];
            let keys = [columns[first], columns[second]];
            for query in [
                "select * from passage_leg where crossing_id = $1 and state = $2",
                "select count(*) from passage_leg where boarded_at between $1 and $2",
                "select 1 from crossing c join passage_leg l using (crossing_id) where vessel_id = $1 and state = $2",
                "select * from passage_leg where state = $1 order by boarded_at limit $2",
            ] {
                prop_assert!(units(query, rows, &[("passage_leg", &keys)]) <= units(query, rows, &[]) * (1.0 + 1e-9));
            }
        }
    }
}
