//! What a report consists of, before it is written as a page, HTML, text, CSV or JSON.

use std::borrow::Cow;

use chrono::{DateTime, Utc};
use hurnix_core::{Named, Timestamp, Window, wording};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use utoipa::openapi::schema::SchemaType;
use utoipa::openapi::{ObjectBuilder, RefOr, Schema, Type};
use utoipa::{PartialSchema, ToSchema};

use crate::report::kind::{ReportKind, ReportOf};
use crate::zone::moment;

/// A report.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema, JsonSchema)]
pub struct Report {
    /// What kind of report it is.
    pub kind: String,
    /// Its title.
    pub title: String,
    /// Instance that it is of; nothing where it is of many.
    pub instance: Option<String>,
    /// The period that it is of.
    pub span: ReportSpan,
    /// The period that it is held against.
    pub then: Option<ReportSpan>,
    /// When it was made.
    pub made_at: DateTime<Utc>,
    /// What must be known to read it right, such as why its period is shorter than was asked for.
    pub remarks: Vec<String>,
    /// What people wrote to it, in lines.
    pub words: String,
    /// Its sections in order.
    pub sections: Vec<Section>,
}

impl Report {
    /// A report without sections yet; of what it is, is named where it is not of one instance.
    pub fn new(kind: ReportKind, of: &str, span: Window, then: Option<Window>, made_at: Timestamp) -> Self {
        Report {
            kind: kind.name().to_owned(),
            title: format!("{}: {of}", kind.title()),
            instance: (kind.of() != ReportOf::Instances).then(|| of.to_owned()),
            span: span.into(),
            then: then.map(ReportSpan::from),
            made_at: moment(made_at),
            remarks: Vec::new(),
            words: String::new(),
            sections: Vec::new(),
        }
    }

    /// The periods in words.
    pub fn periods(&self) -> String {
        let span = |span: &ReportSpan| {
            let [from, to] = [span.from, span.to].map(|at| at.format("%Y-%m-%d %H:%M:%S").to_string());
            format!("{from} to {to}")
        };
        match &self.then {
            Some(then) => format!("{}, compared with {}", span(&self.span), span(then)),
            None => span(&self.span),
        }
    }

    /// A file name without an ending: what, of what, since when.
    pub fn file_name(&self) -> String {
        let of = self.title.split_once(": ").map_or(self.title.as_str(), |(_, of)| of);
        let plain = |text: &str| {
            let kept = |sign: char| if sign.is_alphanumeric() || sign == '-' { sign } else { '-' };
            text.chars().map(kept).collect::<String>()
        };
        format!("hurnix-{}-{}-{}", plain(&self.kind), plain(of), self.span.from.format("%Y%m%dT%H%MZ"))
    }
}

/// A period of a report.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema, JsonSchema)]
pub struct ReportSpan {
    /// Begin.
    pub from: DateTime<Utc>,
    /// End.
    pub to: DateTime<Utc>,
}

impl From<Window> for ReportSpan {
    fn from(window: Window) -> Self {
        ReportSpan { from: moment(window.from), to: moment(window.to) }
    }
}

/// One section of a report.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema, JsonSchema)]
pub struct Section {
    /// Its name, by which it is chosen.
    pub key: String,
    /// Its title.
    pub title: String,
    /// Sentences, the most important first.
    pub sentences: Vec<String>,
    /// Tables.
    pub tables: Vec<ReportTable>,
}

/// A table of a report.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema, JsonSchema)]
pub struct ReportTable {
    /// Its name, also that of its file.
    pub name: String,
    /// Its title.
    pub title: String,
    /// Its columns.
    pub columns: Vec<ReportColumn>,
    /// Its rows; each has a cell for each column.
    pub rows: Vec<Vec<Cell>>,
}

impl ReportTable {
    /// A table of these columns.
    pub fn new(name: &str, title: &str, columns: Vec<ReportColumn>) -> ReportTable {
        ReportTable { name: name.to_owned(), title: title.to_owned(), columns, rows: Vec::new() }
    }

    /// It with these rows.
    pub fn with(mut self, rows: impl IntoIterator<Item = Vec<Cell>>) -> ReportTable {
        self.rows.extend(rows);
        self
    }
}

/// A column of such a table.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema, JsonSchema)]
pub struct ReportColumn {
    /// Its name.
    pub name: String,
    /// Its title.
    pub title: String,
    /// What its numbers are measured in.
    pub unit: Measure,
}

/// A column with this name, which is its title, too.
pub fn column(name: &str, unit: Measure) -> ReportColumn {
    ReportColumn { name: name.replace([' ', '/'], "_"), title: name.to_owned(), unit }
}

/// What the cells of a column are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum Measure {
    /// Text.
    Text,
    /// A statement or another piece of code.
    Code,
    /// A moment.
    Time,
    /// Things counted, or a number without a unit.
    Count,
    /// Seconds.
    Seconds,
    /// Milliseconds.
    Milliseconds,
    /// Bytes.
    Bytes,
    /// A part of a whole, from 0 to 1.
    Share,
    /// Something for each second.
    PerSecond,
    /// How many times as much.
    Times,
}

/// What stands in one cell.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum Cell {
    /// A number, in the unit of its column.
    Number(f64),
    /// Text, or a moment as RFC 3339.
    Text(String),
    /// Nothing that is known.
    Nothing(()),
}

impl PartialSchema for Cell {
    fn schema() -> RefOr<Schema> {
        let types = SchemaType::from_iter([Type::Number, Type::String, Type::Null]);
        ObjectBuilder::new().schema_type(types).description(Some("What stands in one cell.")).into()
    }
}

impl ToSchema for Cell {
    fn name() -> Cow<'static, str> {
        "Cell".into()
    }
}

impl From<f64> for Cell {
    fn from(value: f64) -> Cell {
        if value.is_finite() { Cell::Number(value) } else { Cell::Nothing(()) }
    }
}

impl From<i64> for Cell {
    fn from(value: i64) -> Cell {
        Cell::Number(value as f64)
    }
}

impl From<&str> for Cell {
    fn from(text: &str) -> Cell {
        Cell::Text(text.to_owned())
    }
}

impl From<String> for Cell {
    fn from(text: String) -> Cell {
        Cell::Text(text)
    }
}

impl From<Timestamp> for Cell {
    fn from(at: Timestamp) -> Cell {
        Cell::Text(moment(at).to_rfc3339_opts(chrono::SecondsFormat::Secs, true))
    }
}

impl<T: Into<Cell>> From<Option<T>> for Cell {
    fn from(value: Option<T>) -> Cell {
        value.map_or(Cell::Nothing(()), Into::into)
    }
}

impl Cell {
    /// It as people read it, in the unit of its column.
    pub fn written(&self, unit: Measure) -> String {
        match (self, unit) {
            (Cell::Nothing(()), _) => String::new(),
            (Cell::Text(text), Measure::Time) => {
                let at = text.parse::<DateTime<Utc>>();
                at.map_or_else(|_| text.clone(), |at| at.format("%Y-%m-%d %H:%M:%S").to_string())
            }
            (Cell::Text(text), _) => text.clone(),
            (Cell::Number(value), Measure::Seconds) => wording::seconds(*value),
            (Cell::Number(value), Measure::Milliseconds) => wording::seconds(*value / 1e3),
            (Cell::Number(value), Measure::Bytes) => wording::bytes(*value),
            (Cell::Number(value), Measure::Share) => wording::percent(*value),
            (Cell::Number(value), Measure::PerSecond) => format!("{}/s", wording::number(*value)),
            (Cell::Number(value), Measure::Times) => format!("× {}", wording::number(*value)),
            (Cell::Number(value), _) => wording::number(*value),
        }
    }

    /// It as other programs read it.
    pub fn plain(&self) -> String {
        match self {
            Cell::Number(value) => value.to_string(),
            Cell::Text(text) => text.clone(),
            Cell::Nothing(()) => String::new(),
        }
    }
}

impl Measure {
    /// Whether its cells are numbers, which stand at the right.
    pub fn is_number(self) -> bool {
        !matches!(self, Measure::Text | Measure::Code | Measure::Time)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_written_in_the_unit_of_their_column() {
        let plain = |text: String| text.replace(['\u{a0}', '\u{202f}'], " ");
        assert_eq!(plain(Cell::from(0.25).written(Measure::Share)), "25 %");
        assert_eq!(plain(Cell::from(1_500.0).written(Measure::Milliseconds)), "1.50 s");
        assert_eq!(plain(Cell::from(Timestamp(0)).written(Measure::Time)), "1970-01-01 00:00:00");
        assert_eq!(Cell::from(None::<f64>).written(Measure::Count), "");
        assert_eq!(Cell::from(f64::INFINITY), Cell::Nothing(()));
        assert_eq!(Cell::from(Timestamp(0)).plain(), "1970-01-01T00:00:00Z");
    }

    #[test]
    fn files_are_named_by_what_they_are() {
        let span = Window { from: Timestamp(0), to: Timestamp(60_000_000) };
        let named = |kind, of| Report::new(kind, of, span, None, Timestamp(0)).file_name();
        assert_eq!(named(ReportKind::Period, "gate/north 1"), "hurnix-period-gate-north-1-19700101T0000Z");
        assert_eq!(named(ReportKind::Instances, "all"), "hurnix-instances-all-19700101T0000Z");
    }
}
