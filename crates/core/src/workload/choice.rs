//! Which indexes to make for a workload, so that together they save most: the one that saves most at a time, each judged
//! beside those that are there by then, and exchanged for another as long as that saves more (greedy choice with
//! exchange). What writes pay for an index is taken from what it saves.
//!
//! Laws, tested below: what is saved is never more than the time there is; more room never saves less.

use std::collections::{HashMap, HashSet};

use super::candidates::{Proposed, candidates};
use super::cost::{Cost, Costing, Indexes, Sizes};
use super::index_form::IndexForm;
use super::selectivity::{distinct, held};
use super::shape::{Of, Shape};
use crate::readings::catalog::{Catalog, Table};

/// A statement is helped where it gets faster by this factor at least: less is within the error of what is predicted.
pub const LEAST_FACTOR: f64 = 1.3;
/// What an index with one key more must save more to be preferred, by the share of the saving.
const WORTH_A_KEY: f64 = 1e-4;
/// The same of one that holds only the rows of a condition, which serves fewer statements.
const WORTH_A_CONDITION: f64 = 0.002;
/// The same of one that holds a column more only so that the table need not be read: every update of that goes to the
/// index as well, and reading the index alone relies on vacuum.
const WORTH_A_COLUMN: f64 = 0.02;
/// What an exchange must save more, by the share of the saving.
const WORTH_AN_EXCHANGE: f64 = 0.01;
/// Candidates of a table that are followed, the best by themselves.
const MOST_FOLLOWED: usize = 60;
/// A table of fewer pages is read in whole as fast.
const LEAST_PAGES: f64 = 8.0;
/// Rounds of exchange.
const MOST_EXCHANGES: usize = 3;

/// A statement with its weight in a workload.
#[derive(Debug)]
pub struct Weighted<'a> {
    /// What it asks of its tables.
    pub shape: &'a Shape<'a>,
    /// What it costs.
    pub costing: Costing<'a>,
    /// Calls per day.
    pub calls_per_day: f64,
    /// Time per call, in milliseconds.
    pub now_ms: f64,
    /// Pages per call.
    pub pages: f64,
}

/// What a choice must keep to.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Seconds per day that an index must save.
    pub least_seconds: f64,
    /// Bytes that all of them may take.
    pub most_bytes: f64,
    /// How many a table may get.
    pub most_per_table: usize,
}

/// An index that is chosen.
#[derive(Debug, Clone)]
pub struct Chosen {
    /// The index.
    pub form: IndexForm,
    /// Its size, in bytes.
    pub bytes: f64,
    /// What it saves beside those chosen before it, in seconds per day.
    pub saved_seconds_per_day: f64,
    /// The statements that it makes faster, that which saves most first.
    pub helped: Vec<Helped>,
}

/// What an index does for a statement.
#[derive(Debug, Clone, Copy)]
pub struct Helped {
    /// Its place in the workload.
    pub statement: usize,
    /// Time per call with the indexes before, and with this one, in milliseconds.
    pub before_ms: f64,
    /// With this one.
    pub after_ms: f64,
    /// Pages per call with this one.
    pub after_pages: f64,
    /// Share of its calls that pay for its absence, judged by pages per call.
    pub paying: f64,
}

/// A statement as it stands while indexes are chosen.
struct Standing {
    /// With the indexes that are there.
    now: Cost,
    /// With the best of all candidates.
    best: Cost,
    /// Share of the calls that cost as much as predicted; the others are as cheap as they can be.
    paying: f64,
}

impl Standing {
    /// Time per call at a cost, in milliseconds.
    fn ms(&self, statement: &Weighted, cost: Cost) -> f64 {
        let of = |cost: Cost| self.paying * cost.units + (1.0 - self.paying) * self.best.units.min(cost.units);
        statement.now_ms * of(cost) / of(self.now)
    }
}

/// The indexes that save most for a workload, beside those that are there (with their sizes in bytes).
pub fn choose(
    workload: &[Weighted],
    catalog: &Catalog,
    sizes: &Sizes,
    present: &[(IndexForm, f64)],
    limits: Limits,
) -> Vec<Chosen> {
    let choice = Choice::of(workload, catalog, sizes, present, limits);
    let mut chosen = choice.greedy(Vec::new());
    for _ in 0..MOST_EXCHANGES {
        let Some(better) = choice.exchanged(&chosen) else { break };
        chosen = better;
    }
    choice.told(&chosen)
}

/// An index that could be made, with its size in bytes.
struct Candidate {
    form: IndexForm,
    /// Columns that it holds only so that the table need not be read.
    further: usize,
    bytes: f64,
}

struct Choice<'c> {
    workload: &'c [Weighted<'c>],
    present: Indexes<'c>,
    limits: Limits,
    candidates: Vec<Candidate>,
    /// Places in the workload of the statements that read or write each table.
    on_table: HashMap<u32, Vec<usize>>,
    standing: Vec<Standing>,
}

impl<'c> Choice<'c> {
    fn of(
        workload: &'c [Weighted<'c>],
        catalog: &Catalog,
        sizes: &Sizes,
        present: &'c [(IndexForm, f64)],
        limits: Limits,
    ) -> Choice<'c> {
        let tables: HashMap<u32, &Table> = catalog.tables.iter().map(|table| (table.oid, table)).collect();
        let mut on_table: HashMap<u32, Vec<usize>> = HashMap::new();
        let mut used: HashMap<(u32, String), f64> = HashMap::new();
        for (place, statement) in workload.iter().enumerate() {
            for table in tables_of(statement.shape) {
                on_table.entry(table).or_default().push(place);
            }
            for relation in statement.shape.blocks.iter().flat_map(|block| &block.relations) {
                let Of::Table(table) = relation.of else { continue };
                for term in relation.terms.iter().filter(|term| term.compared.is_exact()) {
                    let key = term.subject.iter().map(|key| (table.oid, key.text().to_owned()));
                    key.for_each(|key| *used.entry(key).or_default() += 1.0);
                }
            }
        }
        // What more statements search by comes first, so that one index serves several; then what leaves fewer rows.
        let first = |table: &Table, column: &str| {
            let searches = used.get(&(table.oid, column.to_owned())).copied().unwrap_or_default();
            let rows = sizes.table(table).rows;
            -(searches + distinct(table, rows, column) / (rows + 1.0))
        };
        let known: HashSet<&IndexForm> = present.iter().map(|(form, _)| form).collect();
        let mut forms: Vec<Proposed> = Vec::new();
        let mut met: HashSet<IndexForm> = HashSet::new();
        for statement in workload {
            let of_statement = candidates(statement.shape, &first).into_iter();
            forms.extend(of_statement.filter(|one| !known.contains(&one.form) && met.insert(one.form.clone())));
        }
        let candidates = forms.into_iter().filter_map(|Proposed { form, further }| {
            let table = tables.get(&form.table)?;
            let size = sizes.table(table);
            let bytes = form.bytes(table, size, held(table, size.rows, &form));
            (size.pages >= LEAST_PAGES).then_some(Candidate { form, further, bytes })
        });
        let mut choice = Choice {
            workload,
            present: Indexes::of(present.iter().map(|(form, bytes)| (form, *bytes))),
            limits,
            candidates: candidates.collect(),
            on_table,
            standing: Vec::new(),
        };
        choice.stand();
        choice
    }

    /// Where each statement stands, and which candidates are worth following.
    fn stand(&mut self) {
        let now: Vec<Cost> = self.workload.iter().map(|statement| statement.costing.cost(&self.present)).collect();
        let mut best = now.clone();
        let mut alone: Vec<f64> = Vec::new();
        for candidate in &self.candidates {
            let with = self.with(std::iter::once(candidate));
            let mut saved = 0.0;
            for place in self.on_table.get(&candidate.form.table).into_iter().flatten() {
                let statement = &self.workload[*place];
                let cost = statement.costing.cost(&with);
                saved += statement.now_ms * statement.calls_per_day * (1.0 - cost.units / now[*place].units);
                if cost.units < best[*place].units {
                    best[*place] = cost;
                }
            }
            alone.push(saved);
        }
        self.standing = (now.iter().zip(&best).zip(self.workload))
            .map(|((now, best), statement)| {
                let paying = (statement.pages - best.pages) / (now.pages - best.pages);
                let paying = if now.pages > best.pages { paying.clamp(0.0, 1.0) } else { 1.0 };
                Standing { now: *now, best: *best, paying }
            })
            .collect();
        let mut of_table: HashMap<u32, usize> = HashMap::new();
        let mut by_saving: Vec<(f64, Candidate)> = alone.into_iter().zip(self.candidates.drain(..)).collect();
        by_saving.sort_by(|a, b| b.0.total_cmp(&a.0));
        by_saving.retain(|(saved, candidate)| {
            let followed = of_table.entry(candidate.form.table).or_default();
            *followed += 1;
            *saved > 0.0 && *followed <= MOST_FOLLOWED
        });
        self.candidates = by_saving.into_iter().map(|(_, candidate)| candidate).collect();
    }

    fn with<'x>(&self, candidates: impl Iterator<Item = &'x Candidate>) -> Indexes<'x>
    where
        'c: 'x,
    {
        let mut indexes: Indexes<'x> = self.present.clone();
        candidates.for_each(|candidate| indexes.add(&candidate.form, candidate.bytes));
        indexes
    }

    /// Seconds per day that one more index saves beside others. A gain within the error of prediction counts for nothing;
    /// a loss counts.
    fn saving(&self, chosen: &[usize], one: usize) -> f64 {
        let table = self.candidates[one].form.table;
        let (before, after) = (self.beside(chosen), self.beside(&[chosen, &[one]].concat()));
        let places = self.on_table.get(&table).into_iter().flatten();
        places.map(|place| self.saved(*place, &before, &after).unwrap_or_default()).sum::<f64>() / 1e3
    }

    /// The indexes that are there, with those chosen.
    fn beside(&self, chosen: &[usize]) -> Indexes<'_> {
        self.with(chosen.iter().map(|one| &self.candidates[*one]))
    }

    /// Milliseconds per day that a statement saves; nothing where that is not sure to be felt.
    fn saved(&self, place: usize, before: &Indexes, after: &Indexes) -> Option<f64> {
        let (statement, standing) = (&self.workload[place], &self.standing[place]);
        let ms = |indexes| standing.ms(statement, statement.costing.cost(indexes));
        let (before, after) = (ms(before), ms(after));
        (after > before || before >= LEAST_FACTOR * after).then_some((before - after) * statement.calls_per_day)
    }

    /// Whether one more index keeps to the limits.
    fn has_room(&self, chosen: &[usize], one: usize) -> bool {
        let bytes: f64 = chosen.iter().chain([&one]).map(|one| self.candidates[*one].bytes).sum();
        let table = self.candidates[one].form.table;
        let on_table = chosen.iter().filter(|one| self.candidates[**one].form.table == table).count();
        bytes <= self.limits.most_bytes && on_table < self.limits.most_per_table
    }

    /// What a candidate's saving is worth where another may do: less for what makes it larger.
    fn worth(&self, one: usize, saving: f64) -> f64 {
        let Candidate { form, further, .. } = &self.candidates[one];
        let larger = WORTH_A_KEY * (form.keys.len() as f64 - 1.0) + WORTH_A_COLUMN * *further as f64;
        let rarer = if form.condition.is_some() { WORTH_A_CONDITION } else { 0.0 };
        saving * (1.0 - larger - rarer)
    }

    fn greedy(&self, mut chosen: Vec<usize>) -> Vec<usize> {
        // What each saves beside the others chosen; it changes only where one of its table's statements is helped.
        let mut savings: Vec<Option<f64>> = vec![None; self.candidates.len()];
        loop {
            let mut best: Option<(usize, f64)> = None;
            for (one, saving) in savings.iter_mut().enumerate() {
                if chosen.contains(&one) || !self.has_room(&chosen, one) {
                    continue;
                }
                let saving = *saving.get_or_insert_with(|| self.saving(&chosen, one));
                let worth = self.worth(one, saving);
                if saving >= self.limits.least_seconds.max(f64::MIN_POSITIVE)
                    && best.is_none_or(|(_, most)| worth > most)
                {
                    best = Some((one, worth));
                }
            }
            let Some((one, _)) = best else { return chosen };
            chosen.push(one);
            let changed = self.neighbours(self.candidates[one].form.table);
            for (place, saving) in savings.iter_mut().enumerate() {
                if changed.contains(&self.candidates[place].form.table) {
                    *saving = None;
                }
            }
        }
    }

    /// Tables that statements on one read as well.
    fn neighbours(&self, table: u32) -> HashSet<u32> {
        let places = self.on_table.get(&table).into_iter().flatten();
        places.flat_map(|place| tables_of(self.workload[*place].shape)).chain([table]).collect()
    }

    /// A better choice with one index in place of another; nothing where there is none.
    fn exchanged(&self, chosen: &[usize]) -> Option<Vec<usize>> {
        for place in 0..chosen.len() {
            let others: Vec<usize> = chosen.iter().copied().filter(|one| *one != chosen[place]).collect();
            let table = self.candidates[chosen[place]].form.table;
            let now = self.worth(chosen[place], self.saving(&others, chosen[place]));
            let instead = (0..self.candidates.len())
                .filter(|one| self.candidates[*one].form.table == table && !chosen.contains(one))
                .filter(|one| self.has_room(&others, *one))
                .map(|one| (one, self.worth(one, self.saving(&others, one))));
            if let Some((one, worth)) = instead.max_by(|a, b| a.1.total_cmp(&b.1))
                && worth > now * (1.0 + WORTH_AN_EXCHANGE)
            {
                return Some(self.greedy([others.as_slice(), &[one]].concat()));
            }
        }
        None
    }

    fn told(&self, chosen: &[usize]) -> Vec<Chosen> {
        let mut told: Vec<Chosen> = Vec::new();
        for (place, one) in chosen.iter().enumerate() {
            let candidate = &self.candidates[*one];
            let (before, after) = (self.beside(&chosen[..place]), self.beside(&chosen[..=place]));
            let places = self.on_table.get(&candidate.form.table).into_iter().flatten();
            let mut helped: Vec<Helped> = places
                .filter_map(|place| {
                    let (statement, standing) = (&self.workload[*place], &self.standing[*place]);
                    self.saved(*place, &before, &after).filter(|saved| *saved > 0.0)?;
                    let (was, is) = (statement.costing.cost(&before), statement.costing.cost(&after));
                    Some(Helped {
                        statement: *place,
                        before_ms: standing.ms(statement, was),
                        after_ms: standing.ms(statement, is),
                        after_pages: is.pages,
                        paying: standing.paying,
                    })
                })
                .collect();
            let saved =
                |helped: &Helped| (helped.before_ms - helped.after_ms) * self.workload[helped.statement].calls_per_day;
            helped.sort_by(|a, b| saved(b).total_cmp(&saved(a)));
            let saved_seconds_per_day = self.saving(&chosen[..place], *one);
            let (form, bytes) = (candidate.form.clone(), candidate.bytes);
            told.push(Chosen { form, bytes, saved_seconds_per_day, helped });
        }
        told.retain(|chosen| !chosen.helped.is_empty() && chosen.saved_seconds_per_day >= self.limits.least_seconds);
        told.sort_by(|a, b| b.saved_seconds_per_day.total_cmp(&a.saved_seconds_per_day));
        told
    }
}

/// The tables that a statement reads or writes.
fn tables_of(shape: &Shape) -> HashSet<u32> {
    let read = shape.blocks.iter().flat_map(|block| &block.relations).filter_map(|relation| match relation.of {
        Of::Table(table) => Some(table.oid),
        Of::Block(_) | Of::Unknown => None,
    });
    read.chain(shape.write.as_ref().map(|write| write.table.oid)).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::catalog::test_catalog::{catalog, table};
    use crate::workload::cost::Counted;
    use crate::workload::shape;

    const STATEMENTS: [&str; 5] = [
        "select * from passage_leg where crossing_id = $1 and state = $2",
        "select * from passage_leg where crossing_id = $1",
        "select count(*) from passage_leg where state = $1 and boarded_at between $2 and $3",
        "select l.state from crossing c join passage_leg l using (crossing_id) where vessel_id = $1",
        "insert into passage_leg values ($1, $2)",
    ];

    /// What is chosen for statements of so many milliseconds, and what they take in all, in seconds per day.
    fn chosen(ms: &[f64], limits: Limits) -> (Vec<Chosen>, f64) {
        let leg = [("passage_leg_id", 6e5), ("crossing_id", 6000.0), ("state", 4.0), ("boarded_at", 3e5)];
        let crossing = [("crossing_id", 6000.0), ("vessel_id", 80.0)];
        let catalog =
            catalog(1, vec![table("passage_leg", 6e5, &leg, vec![]), table("crossing", 6000.0, &crossing, vec![])]);
        let sizes = Sizes::of(&catalog);
        let shapes: Vec<Shape> = STATEMENTS.iter().map(|text| shape(text, &catalog).unwrap()).collect();
        let workload: Vec<Weighted> = (shapes.iter().zip(ms))
            .map(|(shape, ms)| Weighted {
                shape,
                costing: Costing::of(shape, &catalog, &sizes, Counted { rows: 25.0, hit_ratio: 1.0 }),
                calls_per_day: 1000.0,
                now_ms: *ms,
                pages: 6000.0,
            })
            .collect();
        (choose(&workload, &catalog, &sizes, &[], limits), ms.iter().sum())
    }

    const ANY: Limits = Limits { least_seconds: 0.0, most_bytes: f64::MAX, most_per_table: 5 };

    fn keys(chosen: &Chosen) -> Vec<&str> {
        chosen.form.keys.iter().map(|key| key.key.text()).collect()
    }

    #[test]
    fn one_index_serves_several_statements_and_the_next_what_it_left() {
        let (both, _) = chosen(&[240.0, 240.0], ANY);
        assert_eq!(both.iter().map(keys).collect::<Vec<_>>(), [["crossing_id", "state"]]);
        assert_eq!(both[0].helped.len(), 2);
        let (three, _) = chosen(&[240.0, 240.0, 240.0], ANY);
        assert_eq!(three.iter().map(keys).collect::<Vec<_>>(), [["crossing_id", "state"], ["state", "boarded_at"]]);
    }

    #[test]
    fn a_choice_keeps_to_its_limits() {
        let (one, _) = chosen(&[240.0, 240.0, 240.0], Limits { most_per_table: 1, ..ANY });
        assert_eq!(one.len(), 1);
        let (few, _) = chosen(&[240.0; 4], Limits { most_bytes: 6e6, ..ANY });
        assert!(few.iter().map(|chosen| chosen.bytes).sum::<f64>() <= 6e6 && !few.is_empty());
        assert!(chosen(&[240.0], Limits { least_seconds: 1e9, ..ANY }).0.is_empty());
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        #[test]
        fn never_more_is_saved_than_there_is_and_more_room_never_saves_less(ms in prop::collection::vec(0.1f64..500.0, 5)) {
            let saved = |limits| {
                let (chosen, all) = chosen(&ms, limits);
                (chosen.iter().map(|chosen| chosen.saved_seconds_per_day).sum::<f64>(), all)
            };
            let (any, all) = saved(ANY);
            prop_assert!(any <= all + 1e-6, "{any} of {all}");
            let (fewer, _) = saved(Limits { most_per_table: 1, ..ANY });
            prop_assert!(fewer <= any * 1.02 + 1e-6, "{fewer} of {any}");
        }
    }
}
