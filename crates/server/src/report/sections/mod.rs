//! The sections that reports consist of, by file. Each is made from what was gathered of two periods, and from lists that pages
//! show as well.

mod between;
mod changed;
mod checks;
mod events;
mod instances;
mod objects;
mod one_statement;
mod settings;
mod statements;
mod timeline;
mod work;

use hurnix_core::findings::then_and_now::Did;
use hurnix_core::readings::counters::{
    CheckpointCounters, DatabaseCounters, IndexCounters, NestedCounters, TableCounters,
};
use hurnix_core::{Named, Window};
use hurnix_store::{FamilyRow, Instance, OnlyPart, Result, Store};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::period::Period;
use crate::report::document::{Cell, Measure, ReportTable, Section, column};
use crate::report::kind::ReportOf;
use crate::report::{Asked, NoReport};
use crate::state::Collected;

/// Rows of a table that are told.
const MOST: usize = 15;

/// What sections are made of.
pub struct Gathered<'a> {
    /// What was collected.
    pub app: &'a Collected,
    /// The repository.
    pub store: &'a Store,
    /// The instance.
    pub instance: &'a Instance,
    /// The statement, where the report is of one.
    pub family: Option<FamilyRow>,
    /// The two snapshots that the report is between, where it is.
    pub snapshots: Option<[i64; 2]>,
    /// The period of the report.
    pub span: Window,
    /// The period that it is held against.
    pub then: Window,
    /// What the instance did in the first; load and waits are those of the statement, where the report is of one.
    pub now: Period,
    /// And in the second.
    pub before: Period,
}

impl<'a> Gathered<'a> {
    /// Gathers what a report is made of from the repository.
    pub(super) async fn gather(
        app: &'a Collected,
        instance: &'a Instance,
        asked: &Asked,
        span: Window,
        then: Window,
    ) -> std::result::Result<Gathered<'a>, NoReport> {
        let (store, id) = (&app.store, instance.instance_id);
        let family = match (asked.kind.of(), asked.family) {
            (ReportOf::Statement, number) => {
                let found = match number {
                    Some(number) => store.family(id, number).await?,
                    None => None,
                };
                let none = || NoReport::NoStatement(number.map(|number| number.to_string()).unwrap_or_default());
                Some(found.ok_or_else(none)?)
            }
            _ => None,
        };
        let only: Vec<OnlyPart> = family.iter().map(FamilyRow::only).collect();
        let (now, before) =
            tokio::try_join!(Period::gather(store, id, span, &only), Period::gather(store, id, then, &only))?;
        Ok(Gathered { app, store, instance, family, snapshots: asked.snapshots, span, then, now, before })
    }

    /// What was done in the first period, and in the second: by the statement, where the report is of one, and else by all.
    fn did(&self) -> (Did, Did) {
        match &self.family {
            Some(family) => (self.now.did(family.family_id), self.before.did(family.family_id)),
            None => (self.now.did_in_all(), self.before.did_in_all()),
        }
    }

    /// Sessions of the statement only, where the report is of one.
    fn only(&self) -> Vec<OnlyPart> {
        self.family.iter().map(FamilyRow::only).collect()
    }
}

/// A table over all instances of a report: which instance a row is of stands first, where there is more than one.
fn table_of_all(
    all: &[Gathered<'_>],
    mut table: ReportTable,
    rows: impl IntoIterator<Item = (String, Vec<Cell>)>,
) -> ReportTable {
    let is_of_many = all.len() > 1;
    if is_of_many {
        table.columns.insert(0, column("instance", Measure::Text));
    }
    let named = |(label, row): (String, Vec<Cell>)| if is_of_many { [vec![label.into()], row].concat() } else { row };
    table.with(rows.into_iter().map(named))
}

/// A kind of section.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum SectionKind {
    /// Which periods are held against each other, and how alike they are.
    Periods,
    /// What changed against the period before.
    Changed,
    /// Work for each second and each transaction.
    Load,
    /// What sessions waited for.
    Waits,
    /// Statements by several orders.
    Statements,
    /// The busiest tables.
    Tables,
    /// The busiest indexes.
    Indexes,
    /// Settings that changed, and those that differ from the server's own.
    Settings,
    /// Sizes and how they grew.
    Space,
    /// Hold-ups.
    HoldUps,
    /// What the server wrote to its log.
    Log,
    /// Alarms.
    Alarms,
    /// Advice, open and carried out.
    Advice,
    /// What happened, in order of time.
    Timeline,
    /// Who was affected.
    Affected,
    /// The statement that the report is of, and how it moved.
    OneStatement,
    /// Its lasting changes, with their causes.
    LastingChanges,
    /// Its plans.
    Plans,
    /// Tables that it names.
    TouchedTables,
    /// Lines of the server's log about it.
    LogLines,
    /// What a first look found, its checks, and what they rest on.
    Findings,
    /// What statements did between two snapshots.
    StatementsBetween,
    /// What functions and procedures ran between them.
    NestedBetween,
    /// What tables did between them.
    TablesBetween,
    /// What indexes did between them.
    IndexesBetween,
    /// What databases did between them.
    DatabasesBetween,
    /// What the server as a whole did between them.
    ServerBetween,
    /// Each instance in a line.
    EachInstance,
    /// What changed on any of them.
    ChangesOfAll,
}

impl SectionKind {
    /// Its title.
    pub fn title(self) -> &'static str {
        match self {
            SectionKind::Periods => "The two periods",
            SectionKind::Changed => "What changed",
            SectionKind::Load => "Load",
            SectionKind::Waits => "Waits",
            SectionKind::Statements => "Statements",
            SectionKind::Tables => "Tables",
            SectionKind::Indexes => "Indexes",
            SectionKind::Settings => "Settings",
            SectionKind::Space => "Space and growth",
            SectionKind::HoldUps => "Hold-ups and deadlocks",
            SectionKind::Log => "Server log",
            SectionKind::Alarms => "Alarms",
            SectionKind::Advice => "Advice",
            SectionKind::Timeline => "What happened",
            SectionKind::Affected => "Who was affected",
            SectionKind::OneStatement => "The statement",
            SectionKind::LastingChanges => "Lasting changes",
            SectionKind::Plans => "Plans",
            SectionKind::TouchedTables => "Tables that it names",
            SectionKind::LogLines => "Lines of the server's log",
            SectionKind::Findings => "What was found",
            SectionKind::StatementsBetween => "Statements",
            SectionKind::NestedBetween => "Inside functions and procedures",
            SectionKind::TablesBetween => "Tables",
            SectionKind::IndexesBetween => "Indexes",
            SectionKind::DatabasesBetween => "Databases",
            SectionKind::ServerBetween => "Checkpoints",
            SectionKind::EachInstance => "Instances",
            SectionKind::ChangesOfAll => "What changed",
        }
    }

    /// Makes it: of the instance that the report is of, or of all of them.
    pub async fn make(self, all: &[Gathered<'_>]) -> Result<Section> {
        let (sentences, tables) = match (self, all) {
            (_, []) => (vec!["There is no instance to report on.".to_owned()], Vec::new()),
            (SectionKind::Periods, [of, ..]) => changed::periods(of),
            (SectionKind::Changed, [of, ..]) => changed::changed(of).await?,
            (SectionKind::Load, [of, ..]) => work::load(of),
            (SectionKind::Waits, [of, ..]) => work::waits(of).await?,
            (SectionKind::Statements, [of, ..]) => statements::statements(of).await?,
            (SectionKind::Tables, [of, ..]) => objects::tables(of).await?,
            (SectionKind::Indexes, [of, ..]) => objects::indexes(of).await?,
            (SectionKind::Settings, [of, ..]) => settings::settings(of).await?,
            (SectionKind::Space, [of, ..]) => objects::space(of).await?,
            (SectionKind::HoldUps, [of, ..]) => events::hold_ups(of).await?,
            (SectionKind::Log, [of, ..]) => events::log(of).await?,
            (SectionKind::Alarms, all) => events::alarms(all).await?,
            (SectionKind::Advice, all) => events::advice(all).await?,
            (SectionKind::Timeline, [of, ..]) => timeline::happened(of).await?,
            (SectionKind::Affected, [of, ..]) => events::affected(of).await?,
            (SectionKind::OneStatement, [of, ..]) => one_statement::moved(of).await?,
            (SectionKind::LastingChanges, [of, ..]) => one_statement::changes(of).await?,
            (SectionKind::Plans, [of, ..]) => one_statement::plans(of).await?,
            (SectionKind::TouchedTables, [of, ..]) => one_statement::tables(of).await?,
            (SectionKind::LogLines, [of, ..]) => one_statement::log(of).await?,
            (SectionKind::Findings, [of, ..]) => checks::findings(of).await?,
            (SectionKind::StatementsBetween, [of, ..]) => between::statements(of).await?,
            (SectionKind::NestedBetween, [of, ..]) => between::all_of::<NestedCounters>(of).await?,
            (SectionKind::TablesBetween, [of, ..]) => between::all_of::<TableCounters>(of).await?,
            (SectionKind::IndexesBetween, [of, ..]) => between::all_of::<IndexCounters>(of).await?,
            (SectionKind::DatabasesBetween, [of, ..]) => between::all_of::<DatabaseCounters>(of).await?,
            (SectionKind::ServerBetween, [of, ..]) => between::all_of::<CheckpointCounters>(of).await?,
            (SectionKind::EachInstance, all) => instances::each(all).await?,
            (SectionKind::ChangesOfAll, all) => instances::changes(all).await?,
        };
        Ok(Section { key: self.name().to_owned(), title: self.title().to_owned(), sentences, tables })
    }
}

/// What a section says and shows.
pub type Made = (Vec<String>, Vec<ReportTable>);
