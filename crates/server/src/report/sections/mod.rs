//! The sections that reports consist of, by file. Each is made from what was gathered of two periods, and from lists that pages
//! show as well.

mod changed;
mod events;
mod objects;
mod settings;
mod statements;
mod timeline;
mod work;

use hurnix_core::{Named, Window};
use hurnix_store::{Instance, Result, Store};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::period::Period;
use crate::report::document::{ReportTable, Section};

/// Rows of a table that are told.
const MOST: usize = 15;

/// What sections are made of.
pub struct Gathered<'a> {
    /// The repository.
    pub store: &'a Store,
    /// The instance.
    pub instance: &'a Instance,
    /// The period of the report.
    pub span: Window,
    /// The period that it is held against.
    pub then: Window,
    /// What the instance did in the first.
    pub now: &'a Period,
    /// And in the second.
    pub before: &'a Period,
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
        }
    }

    /// Makes it.
    pub async fn make(self, gathered: &Gathered<'_>) -> Result<Section> {
        let (sentences, tables) = match self {
            SectionKind::Periods => changed::periods(gathered),
            SectionKind::Changed => changed::changed(gathered).await?,
            SectionKind::Load => work::load(gathered),
            SectionKind::Waits => work::waits(gathered),
            SectionKind::Statements => statements::statements(gathered).await?,
            SectionKind::Tables => objects::tables(gathered).await?,
            SectionKind::Indexes => objects::indexes(gathered).await?,
            SectionKind::Settings => settings::settings(gathered).await?,
            SectionKind::Space => objects::space(gathered).await?,
            SectionKind::HoldUps => events::hold_ups(gathered).await?,
            SectionKind::Log => events::log(gathered).await?,
            SectionKind::Alarms => events::alarms(gathered).await?,
            SectionKind::Advice => events::advice(gathered).await?,
            SectionKind::Timeline => timeline::happened(gathered).await?,
            SectionKind::Affected => events::affected(gathered).await?,
        };
        Ok(Section { key: self.name().to_owned(), title: self.title().to_owned(), sentences, tables })
    }
}

/// What a section says and shows.
pub type Made = (Vec<String>, Vec<ReportTable>);
