//! The kinds of reports, and what each consists of.

use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::report::sections::SectionKind;

/// A kind of report on one instance.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum ReportKind {
    /// What an instance did in a period, against the period before.
    Period,
    /// Two periods side by side.
    ThenAndNow,
    /// What happened in a chosen span, or around an alarm: a timeline with figures.
    Incident,
}

impl ReportKind {
    /// Its title.
    pub fn title(self) -> &'static str {
        match self {
            ReportKind::Period => "Report on a period",
            ReportKind::ThenAndNow => "Then & now",
            ReportKind::Incident => "Incident report",
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
        }
    }

    /// Whether a restart or a reset inside its period makes it wrong: figures of the whole are then not the server's own at
    /// its ends. An incident may well be a restart.
    pub fn needs_whole_period(self) -> bool {
        self == ReportKind::Period
    }
}
