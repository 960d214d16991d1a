//! Reports: what a DBA takes away. Each kind is a list of sections, each section is made from what the repository holds,
//! and what comes of it is one document that is written as a page, HTML, text, CSV or JSON.
//!
//! Not here: rules. What is concluded is concluded in core; what is gathered is gathered by the pages' own means.

pub mod cadence;
mod document;
mod kind;
pub mod scheduled;
mod sections;
mod written_csv;
mod written_html;
mod written_text;

use futures::stream::{self, StreamExt, TryStreamExt};
use hurnix_core::findings::then_and_now::matched_before;
use hurnix_core::findings::usable_parts::{Interruption, usable_parts};
use hurnix_core::instance::marker::MarkerKind;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{Instance, Store, StoreProblem};
use strum::{EnumString, IntoStaticStr, VariantArray};

pub use document::Report;
pub use kind::{ReportKind, ReportOf};
pub use sections::SectionKind;

use crate::first_look::LATELY_SECONDS;
use crate::report::sections::Gathered;
use crate::state::{Collected, now};
use crate::zone::moment;

/// How a report is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum ReportForm {
    /// JSON, by `docs/formats/report.schema.json`.
    Json,
    /// HTML that stands alone.
    Html,
    /// Plain text.
    Text,
    /// A file of comma-separated values for each table, zipped.
    Csv,
}

impl ReportForm {
    /// What ends the name of its files.
    pub fn ending(self) -> &'static str {
        match self {
            ReportForm::Json => "json",
            ReportForm::Html => "html",
            ReportForm::Text => "txt",
            ReportForm::Csv => "zip",
        }
    }

    /// Its media type.
    pub fn media_type(self) -> &'static str {
        match self {
            ReportForm::Json => "application/json",
            ReportForm::Html => "text/html; charset=utf-8",
            ReportForm::Text => "text/plain; charset=utf-8",
            ReportForm::Csv => "application/zip",
        }
    }

    /// The report in this form.
    pub fn write(self, report: &Report) -> anyhow::Result<Vec<u8>> {
        Ok(match self {
            ReportForm::Json => serde_json::to_vec_pretty(report)?,
            ReportForm::Html => written_html::html(report)?.into_bytes(),
            ReportForm::Text => written_text::text(report).into_bytes(),
            ReportForm::Csv => written_csv::zipped(report)?,
        })
    }
}

/// The JSON Schema of a report.
pub fn schema() -> serde_json::Value {
    let mut schema = schemars::schema_for!(Report).to_value();
    schema["title"] = "A report".into();
    schema
}

/// What is asked of a report.
#[derive(Debug, Clone)]
pub struct Asked {
    /// Its kind.
    pub kind: ReportKind,
    /// The statement that it is of, by number of the family, where it is of one.
    pub family: Option<i64>,
    /// The two snapshots that it is between, the first one first, where it is of that.
    pub snapshots: Option<[i64; 2]>,
    /// The group whose instances it is of, where it is of many; of all when left out.
    pub group: Option<String>,
    /// The period that it is of.
    pub span: Window,
    /// What it is held against; the same hours before when left out.
    pub then: Option<Window>,
    /// Sections, in the order of the kind; all when empty.
    pub sections: Vec<SectionKind>,
}

/// Why there is no report.
#[derive(Debug, thiserror::Error)]
pub enum NoReport {
    /// Counters do not go through the period.
    #[error("{0}")]
    Interrupted(Interrupted),
    /// It is between two snapshots, and these cannot be held against each other, or one of them is not there.
    #[error("{0}")]
    NoSnapshots(String),
    /// It is of one statement, and there is none of that number.
    #[error("There is no statement {0} on this instance: give the number of one that it has.")]
    NoStatement(String),
    /// The repository failed.
    #[error(transparent)]
    Store(#[from] StoreProblem),
}

/// What stands in the way of a report is named up to so many.
const MOST_NAMED: usize = 5;

/// A period with restarts, crashes or resets inside.
#[derive(Debug, Clone, PartialEq)]
pub struct Interrupted {
    /// What happened.
    pub by: Vec<Interruption>,
    /// Parts of the period that can be reported on.
    pub parts: Vec<Window>,
}

fn written(at: Timestamp) -> String {
    moment(at).format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

impl Interrupted {
    /// What happened, and when.
    fn what(&self) -> String {
        let by = |one: &Interruption| format!("{} at {}", one.what, written(one.at));
        let mut by: Vec<String> = self.by.iter().take(MOST_NAMED).map(by).collect();
        if self.by.len() > MOST_NAMED {
            by.push(format!("and {} more", self.by.len() - MOST_NAMED));
        }
        by.join("; ")
    }
}

impl std::fmt::Display for Interrupted {
    fn fmt(&self, out: &mut std::fmt::Formatter) -> std::fmt::Result {
        let part = |part: &Window| format!("{} to {}", written(part.from), written(part.to));
        let by = self.what();
        write!(out, "Counters do not go through this period ({by}); ")?;
        match self.parts.iter().map(part).collect::<Vec<_>>().join("; ") {
            none if none.is_empty() => write!(out, "no part of it is long enough: give another period."),
            parts => write!(out, "these parts can be reported on: {parts}."),
        }
    }
}

/// Instances of which figures are gathered at the same time.
const AT_ONCE: usize = 4;

/// Makes a report on one instance, or on many. A period with a restart or a reset in it is refused with its usable parts.
pub async fn make(app: &Collected, instances: &[Instance], asked: &Asked) -> Result<Report, NoReport> {
    let kind = asked.kind;
    let span = match asked.snapshots.filter(|_| kind.is_between_snapshots()) {
        Some(snapshots) => between_snapshots(&app.store, instances, snapshots).await?,
        None if kind.is_of_now() => Window { from: now().plus_seconds(-LATELY_SECONDS), to: now() },
        None => asked.span,
    };
    if kind.needs_whole_period() {
        for instance in instances {
            let by = interruptions(&app.store, instance.instance_id, span).await?;
            let parts = usable_parts(span, &by);
            if parts != [span] {
                return Err(NoReport::Interrupted(Interrupted { by, parts }));
            }
        }
    }
    let then = asked.then.unwrap_or_else(|| matched_before(span));
    let each: Vec<_> = instances.iter().map(|instance| Gathered::gather(app, instance, asked, span, then)).collect();
    let gathered: Vec<Gathered<'_>> = stream::iter(each).buffered(AT_ONCE).try_collect().await?;
    let named = match (instances, &asked.group) {
        ([instance], _) if kind.of() != ReportOf::Instances => &instance.label,
        (_, Some(group)) => group,
        _ => "all",
    };
    let mut report = Report::new(kind, named, span, kind.compares().then_some(then), now());
    let wanted = |section: &&SectionKind| asked.sections.is_empty() || asked.sections.contains(section);
    for section in kind.sections().iter().filter(wanted) {
        report.sections.push(section.make(&gathered).await?);
    }
    Ok(report)
}

/// From the first of two snapshots to the second, by what was read first.
async fn between_snapshots(store: &Store, instances: &[Instance], snapshots: [i64; 2]) -> Result<Window, NoReport> {
    let mut taken = Vec::new();
    for instance in instances {
        let known = store.named_snapshots(instance.instance_id).await?;
        for wanted in snapshots {
            let found = known.iter().find(|one| one.snapshot_id == wanted);
            let moment = found.and_then(|one| one.readings.iter().map(|(_, at)| *at).min());
            let none =
                || NoReport::NoSnapshots(format!("There is no snapshot {wanted} of this instance that was taken."));
            taken.push(moment.ok_or_else(none)?);
        }
    }
    match taken.as_slice() {
        [first, second, ..] => Window::new(*first, *second).map_err(|_| {
            NoReport::NoSnapshots("The second snapshot was not taken after the first: exchange them.".into())
        }),
        _ => Err(NoReport::NoSnapshots("Give two snapshots of an instance.".into())),
    }
}

/// Restarts, crashes and resets in a span: after them counters begin anew.
async fn interruptions(store: &Store, instance_id: i32, span: Window) -> hurnix_store::Result<Vec<Interruption>> {
    let ends = |kind: MarkerKind| matches!(kind, MarkerKind::Restart | MarkerKind::Crash | MarkerKind::Reset);
    let found = store.markers(instance_id, span).await?.into_iter().filter(|marker| ends(marker.kind));
    Ok(found.map(|marker| Interruption { at: marker.at, what: marker.text }).collect())
}
