use std::sync::Arc;

use hurnix_core::Timestamp;
use hurnix_core::readings::counters::{
    CheckpointCounters, Counters, DatabaseCounters, IndexCounters, StatementCounters, TableCounters,
};
use hurnix_core::time::MICROS_PER_SECOND;

use super::model::{Event, Happening, How, Model, TEMP_FILES, Touch};
use super::noise::Noise;
use super::rates::Changes;
use super::shape::minute_of;

/// Microseconds of a minute.
const MINUTE: i64 = 60 * MICROS_PER_SECOND;
/// Checkpoints begin this often.
const CHECKPOINT_MINUTES: i64 = 5;
/// Share of a statement's pages that are pages of the table; the others are pages of its index.
const TABLE_SHARE: f64 = 0.6;
/// Vacuum passes a table when so many of its rows are dead.
const DEAD_SHARE: f64 = 0.2;
/// Of updates, those that stay in their page.
const IN_PAGE_SHARE: f64 = 0.55;
/// How far the times of single executions lie apart: their standard deviation over their mean.
const TIME_SPREAD: f64 = 0.5;

/// Everything that the server has counted up to the end of a minute.
#[derive(Debug, Clone, Default)]
pub struct Counted {
    /// By family; its variants share this evenly.
    pub families: Vec<StatementCounters>,
    /// By table.
    pub tables: Vec<TableCounters>,
    /// By table and index.
    pub indexes: Vec<Vec<IndexCounters>>,
    /// By database.
    pub databases: Vec<DatabaseCounters>,
    /// Checkpoints.
    pub checkpoints: CheckpointCounters,
    /// Time that statements ran or waited for storage on the host, in microseconds.
    pub running_us: i64,
    /// Time that they waited for storage.
    pub storage_us: i64,
}

impl Counted {
    fn empty(model: &Model) -> Counted {
        let made: Vec<usize> = model
            .events
            .iter()
            .filter_map(|event| if let Happening::IndexMade { table, .. } = event.what { Some(table) } else { None })
            .collect();
        let made = |table: usize| made.iter().filter(|of| **of == table).count();
        Counted {
            families: vec![StatementCounters::default(); model.families.len()],
            tables: vec![TableCounters::default(); model.tables.len()],
            indexes: model
                .tables
                .iter()
                .enumerate()
                .map(|(position, table)| vec![IndexCounters::default(); table.indexes.len() + made(position)])
                .collect(),
            databases: vec![DatabaseCounters::default(); model.databases.len()],
            ..Counted::default()
        }
    }

    /// Adds a share of `by` to everything, rounded down: a later share of the same is never less.
    fn add(&mut self, by: &Counted, share: f64) {
        fn add<C: Counters>(to: &mut [C], by: &[C], share: f64) {
            for (sum, by) in to.iter_mut().zip(by) {
                *sum = sum.plus(&part(by, share));
            }
        }
        add(&mut self.families, &by.families, share);
        add(&mut self.tables, &by.tables, share);
        for (sum, by) in self.indexes.iter_mut().zip(&by.indexes) {
            add(sum, by, share);
        }
        add(&mut self.databases, &by.databases, share);
        self.checkpoints = self.checkpoints.plus(&part(&by.checkpoints, share));
        self.running_us += (by.running_us as f64 * share) as i64;
        self.storage_us += (by.storage_us as f64 * share) as i64;
    }
}

fn part<C: Counters>(counters: &C, share: f64) -> C {
    if share >= 1.0 {
        return *counters;
    }
    C::from_values(&counters.values().iter().map(|value| (*value as f64 * share) as i64).collect::<Vec<_>>())
}

/// A table as it stands.
#[derive(Debug, Clone, Copy, Default)]
pub struct TableState {
    /// Rows that are live, and row versions that vacuum has yet to remove.
    pub live: f64,
    /// Dead ones.
    pub dead: f64,
    /// Rows for which there is space: as many as ever were, live and dead.
    pub room: f64,
    /// Rows changed since the planner's statistics were collected.
    pub changed: f64,
    /// Minute of the last vacuum.
    pub cleaned: i64,
}

/// The server's counters, minute after minute from the beginning of its model.
#[derive(Debug)]
pub struct Server {
    /// What it is made by.
    pub model: Arc<Model>,
    /// How its statements change.
    pub changes: Changes,
    /// The minute up to whose beginning `counted` goes.
    minute: i64,
    counted: Counted,
    /// What statements had been counted when that was last set to zero.
    at_reset: Vec<StatementCounters>,
    tables: Vec<TableState>,
}

impl Server {
    /// As it was when it began.
    pub fn new(model: Arc<Model>) -> Server {
        let minute = minute_of(model.began_at);
        let state = |rows: f64| TableState { live: rows, room: rows, cleaned: minute, ..TableState::default() };
        Server {
            changes: Changes::of(&model),
            minute,
            counted: Counted::empty(&model),
            at_reset: vec![StatementCounters::default(); model.families.len()],
            tables: model.tables.iter().map(|table| state(table.rows)).collect(),
            model,
        }
    }

    /// Its tables, as of the beginning of the minute.
    pub fn tables(&self) -> &[TableState] {
        &self.tables
    }

    /// What it has counted up to a moment. Moments must not go back behind the minute asked for last;
    /// what would be earlier is what it was then.
    pub fn counted(&mut self, at: Timestamp) -> Counted {
        while self.minute < minute_of(at) {
            self.reset_if_due();
            let by = self.in_minute(self.minute);
            self.age_tables(&by);
            self.counted.add(&by, 1.0);
            self.minute += 1;
        }
        self.reset_if_due();
        let mut counted = self.counted.clone();
        let into = (at.0 - self.minute * MINUTE) as f64 / MINUTE as f64;
        if into > 0.0 {
            counted.add(&self.in_minute(self.minute), into.min(1.0));
        }
        counted
    }

    /// Statement counters that are reset are so from the beginning of that minute.
    fn reset_if_due(&mut self) {
        let due = |event: &Event| event.what == Happening::ResetStatements && minute_of(event.at) == self.minute;
        if self.model.events.iter().any(due) {
            self.at_reset.clone_from(&self.counted.families);
        }
    }

    /// What statements count since that was last set to zero.
    pub fn since_reset(&self, counted: &Counted) -> Vec<StatementCounters> {
        let since = |(now, then): (&StatementCounters, &StatementCounters)| now.grown_since(then).unwrap_or_default();
        counted.families.iter().zip(&self.at_reset).map(since).collect()
    }

    fn age_tables(&mut self, by: &Counted) {
        let held_back = self.model.events.iter().any(|event| {
            let goes_on =
                minute_of(event.at) <= self.minute && event.until.is_none_or(|until| minute_of(until) > self.minute);
            matches!(event.what, Happening::OldTransaction { .. }) && goes_on
        });
        for (state, by) in self.tables.iter_mut().zip(&by.tables) {
            state.live += (by.inserted_rows - by.deleted_rows) as f64;
            state.dead += (by.updated_rows + by.deleted_rows) as f64;
            state.changed += (by.inserted_rows + by.updated_rows + by.deleted_rows) as f64;
            state.room = state.room.max(state.live + state.dead);
            if state.dead > state.live * DEAD_SHARE && !held_back {
                (state.dead, state.cleaned) = (0.0, self.minute);
            }
            if state.changed > state.live * DEAD_SHARE / 2.0 {
                state.changed = 0.0;
            }
        }
    }

    /// What is counted within one minute.
    fn in_minute(&self, minute: i64) -> Counted {
        let model = &self.model;
        let mut by = Counted::empty(model);
        let rates = self.changes.in_minute(model, minute);
        for (position, family) in model.families.iter().enumerate() {
            let (per_second, _) = rates.pace(position);
            if per_second <= 0.0 {
                continue;
            }
            let calls = Noise::of(model.seed, &[7, position as u64, minute as u64]).count(per_second * 60.0);
            if calls == 0 {
                continue;
            }
            let rate = rates.of(position);
            let of = |per_call: f64| (per_call * calls as f64).round() as i64;
            let cost = rate.cost;
            let storage: f64 = rate
                .waits
                .iter()
                .filter(|(kind, _, _)| *kind == hurnix_core::WaitKind::StorageRead)
                .map(|wait| wait.2)
                .sum();
            let waiting: f64 = rate.waits.iter().map(|(_, _, share)| share).sum();
            let counters = StatementCounters {
                calls,
                exec_us: of(cost.ms * 1000.0),
                plan_us: of((cost.ms * 20.0).min(300.0)),
                rows: of(cost.rows),
                hit_pages: of(cost.hit_pages),
                read_pages: of(cost.read_pages),
                dirtied_pages: of(cost.dirtied_pages),
                written_pages: 0,
                temp_read_pages: of(cost.temp_pages),
                temp_written_pages: of(cost.temp_pages),
                read_us: of(cost.ms * 1000.0 * storage),
                write_us: 0,
                log_bytes: of(cost.log_bytes),
                squared_ms: of(cost.ms.powi(2) * (1.0 + TIME_SPREAD.powi(2))),
            };
            by.running_us += of(cost.ms * 1000.0 * (1.0 - waiting).max(0.0));
            by.storage_us += counters.read_us;
            for touch in rate.touches {
                self.touch(&mut by, touch, calls, &counters, rate.touches.len() as i64);
            }
            charge(&mut by.databases[family.database], &counters);
            by.families[position] = counters;
        }
        self.add_events(&mut by, minute);
        self.add_sessions(&mut by, minute);
        let changed: i64 = by.families.iter().map(|family| family.dirtied_pages).sum();
        by.checkpoints = CheckpointCounters {
            timed: i64::from(minute % CHECKPOINT_MINUTES == 0),
            write_us: changed * 20,
            sync_us: changed,
            written_pages: changed / 2,
            cleaned_pages: changed / 8,
            allocated_pages: by.families.iter().map(|family| family.read_pages).sum(),
            requested: 0,
        };
        by
    }

    fn touch(&self, by: &mut Counted, touch: &Touch, calls: i64, counters: &StatementCounters, of: i64) {
        let rows = (touch.rows * calls as f64).round() as i64;
        let share = |pages: i64, share: f64| (pages as f64 * share) as i64 / of.max(1);
        let table = &mut by.tables[touch.table];
        table.hit_pages += share(counters.hit_pages, TABLE_SHARE);
        table.read_pages += share(counters.read_pages, TABLE_SHARE);
        match touch.how {
            How::ReadAll => {
                table.full_reads += calls;
                table.full_read_rows += (self.tables[touch.table].live * calls as f64) as i64;
            }
            How::ReadBy(index) => {
                table.index_reads += calls;
                table.index_read_rows += rows;
                if let Some(index) = by.indexes[touch.table].get_mut(index) {
                    index.reads += calls;
                    index.read_entries += rows;
                    index.fetched_rows += rows;
                    index.hit_pages += share(counters.hit_pages, 1.0 - TABLE_SHARE);
                    index.read_pages += share(counters.read_pages, 1.0 - TABLE_SHARE);
                }
            }
            How::Insert => table.inserted_rows += rows,
            How::Update => {
                table.updated_rows += rows;
                table.updated_in_page_rows += (rows as f64 * IN_PAGE_SHARE) as i64;
            }
            How::Delete => table.deleted_rows += rows,
        }
        let database = &mut by.databases[0];
        match touch.how {
            How::Insert => database.inserted_rows += rows,
            How::Update => database.updated_rows += rows,
            How::Delete => database.deleted_rows += rows,
            How::ReadAll | How::ReadBy(_) => {}
        }
    }

    fn add_events(&self, by: &mut Counted, minute: i64) {
        for event in &self.model.events {
            let (first, end) = (minute_of(event.at), event.until.map(minute_of));
            match &event.what {
                Happening::Deadlock if first == minute => by.databases[0].deadlocks += 1,
                // An execution is counted when it ends.
                Happening::Giant { family, temp_bytes } if end == Some(minute) => {
                    let pages = (temp_bytes / 8192.0) as i64;
                    let lasted_us = event.until.map_or(0, |until| until.0 - event.at.0);
                    let counters = &mut by.families[*family];
                    counters.calls += 1;
                    counters.exec_us += lasted_us;
                    counters.squared_ms += (lasted_us as f64 / 1e3).powi(2) as i64;
                    counters.temp_written_pages += pages;
                    counters.temp_read_pages += pages;
                    by.databases[0].temp_files += TEMP_FILES;
                    by.databases[0].temp_bytes += *temp_bytes as i64;
                }
                // Those who waited go on when the holder lets go, and their waiting is part of their time.
                Happening::HoldUp(hold_up) if end == Some(minute) => {
                    let lasted = event.until.map_or(0.0, |until| until.seconds_since(event.at));
                    let counters = &mut by.families[hold_up.family];
                    counters.calls += i64::from(hold_up.waiters);
                    for waiter in 0..hold_up.waiters {
                        let waited = (lasted - f64::from(waiter + 1) * hold_up.arrival_seconds).max(0.0);
                        counters.exec_us += (waited * 1e6) as i64;
                        counters.squared_ms += (waited * 1e3).powi(2) as i64;
                    }
                }
                _ => {}
            }
        }
    }

    /// Sessions begun a second, and how long they last, in a minute.
    pub fn connecting(&self, minute: i64) -> (f64, f64) {
        let usual = (self.model.connections.per_second, self.model.connections.seconds);
        let changed = self.model.events.iter().rev().find_map(|event| match event.what {
            Happening::Connecting { per_second, seconds }
                if minute_of(event.at) <= minute && event.until.is_none_or(|until| minute_of(until) > minute) =>
            {
                Some((per_second, seconds))
            }
            _ => None,
        });
        changed.unwrap_or(usual)
    }

    fn add_sessions(&self, by: &mut Counted, minute: i64) {
        let (per_second, seconds) = self.connecting(minute);
        let begun = Noise::of(self.model.seed, &[11, minute as u64]).count(per_second * 60.0);
        let kept = i64::from(self.model.connections.kept);
        by.databases[0].sessions += begun;
        by.databases[0].session_us += kept * MINUTE + (begun as f64 * seconds * 1e6) as i64;
    }
}

fn charge(database: &mut DatabaseCounters, statement: &StatementCounters) {
    database.commits += statement.calls;
    database.hit_pages += statement.hit_pages;
    database.read_pages += statement.read_pages;
    database.returned_rows += statement.rows;
    database.fetched_rows += statement.rows;
    database.temp_bytes += statement.temp_written_pages * 8192;
    database.temp_files += i64::from(statement.temp_written_pages > 0) * statement.calls;
    database.read_us += statement.read_us;
    database.active_us += statement.exec_us;
}
