//! The kinds of reports, what each is of, and what it consists of.

use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::report::sections::SectionKind;

/// A kind of report.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum ReportKind {
    /// What an instance did in a period, against the period before.
    Period,
    /// Two periods side by side.
    ThenAndNow,
    /// What happened in a chosen span, or around an alarm: a timeline with figures.
    Incident,
    /// What one statement did in a period, against the period before.
    Statement,
    /// The ordered checklist on an instance as it is.
    FirstLook,
    /// What an instance did between two snapshots that somebody named, to the unit.
    Snapshots,
    /// All instances, or those of a group, in a period, against the period before.
    Instances,
}

/// What a report is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReportOf {
    /// One instance.
    Instance,
    /// One statement of an instance.
    Statement,
    /// Many instances.
    Instances,
}

impl ReportKind {
    /// Its title.
    pub fn title(self) -> &'static str {
        match self {
            ReportKind::Period => "Report on a period",
            ReportKind::ThenAndNow => "Then & now",
            ReportKind::Incident => "Incident report",
            ReportKind::Statement => "One statement",
            ReportKind::FirstLook => "First look",
            ReportKind::Snapshots => "Between two snapshots",
            ReportKind::Instances => "Summary of instances",
        }
    }

    /// What it is of.
    pub fn of(self) -> ReportOf {
        match self {
            ReportKind::Period
            | ReportKind::ThenAndNow
            | ReportKind::Incident
            | ReportKind::FirstLook
            | ReportKind::Snapshots => ReportOf::Instance,
            ReportKind::Statement => ReportOf::Statement,
            ReportKind::Instances => ReportOf::Instances,
        }
    }

    /// Its sections in order.
    pub fn sections(self) -> &'static [SectionKind] {
        use SectionKind::*;
        match self {
            ReportKind::Period => {
                &[Changed, Load, Waits, Statements, Tables, Indexes, Settings, Space, HoldUps, Log, Alarms, Advice]
            }
            ReportKind::ThenAndNow => {
                &[Periods, Changed, Load, Waits, Statements, Tables, Indexes, Settings, Space, Alarms]
            }
            ReportKind::Incident => &[Timeline, Affected, Changed, Waits, HoldUps, Statements, Log],
            ReportKind::Statement => {
                &[OneStatement, LastingChanges, Load, Waits, Affected, Plans, TouchedTables, LogLines, Advice]
            }
            ReportKind::FirstLook => &[Findings],
            ReportKind::Snapshots => {
                &[StatementsBetween, NestedBetween, TablesBetween, IndexesBetween, DatabasesBetween, ServerBetween]
            }
            ReportKind::Instances => &[EachInstance, ChangesOfAll, Alarms, Advice],
        }
    }

    /// Whether a restart or a reset inside its period makes it wrong: figures of the whole are then not the server's own at
    /// its ends. An incident may well be a restart.
    pub fn needs_whole_period(self) -> bool {
        self == ReportKind::Period
    }

    /// Whether it can be made by itself: what it is of needs nobody to choose it.
    pub fn may_be_scheduled(self) -> bool {
        !matches!(self, ReportKind::Statement | ReportKind::Incident | ReportKind::Snapshots)
    }

    /// Whether it is of an instance as it is now, whatever the period.
    pub fn is_of_now(self) -> bool {
        self == ReportKind::FirstLook
    }

    /// Whether it is of the time between two snapshots, whatever the period.
    pub fn is_between_snapshots(self) -> bool {
        self == ReportKind::Snapshots
    }

    /// Whether its period is held against another one.
    pub fn compares(self) -> bool {
        !self.is_of_now() && !self.is_between_snapshots()
    }
}
