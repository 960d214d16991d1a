//! What a first look finds: the ordered checklist on an instance as it is.

use hurnix_core::findings::first_look::first_look;
use hurnix_core::findings::health::Health;
use hurnix_core::wording::counted;
use hurnix_source::postgres::remedy_statement;
use hurnix_store::Result;

use crate::first_look::{LATELY_SECONDS, evidence};
use crate::report::document::{Cell, Measure, ReportTable, column};

use super::{Gathered, Made};

/// What a verdict is called.
fn verdict(health: Health) -> &'static str {
    match health {
        Health::Act => "act",
        Health::Look => "look",
        Health::NoData => "not known",
        Health::Quiet => "quiet",
    }
}

pub(super) async fn findings(of: &Gathered<'_>) -> Result<Made> {
    let findings = first_look(&evidence(of.app, of.instance, LATELY_SECONDS).await?);
    let with = |health: Health| findings.iter().filter(|finding| finding.verdict() == health).count();
    let server = of.instance.server_version.as_deref().unwrap_or("that is not known");
    let mut sentences = vec![
        format!("{} runs version {server}.", of.instance.label),
        format!(
            "{}: {} ask for somebody to act, {} for a look, {} are quiet, and of {} too little is known.",
            counted(findings.len(), "check"),
            with(Health::Act),
            with(Health::Look),
            with(Health::Quiet),
            with(Health::NoData)
        ),
    ];
    let mut points: Vec<_> =
        findings.iter().flat_map(|finding| finding.points.iter().map(move |point| (finding, point))).collect();
    points.sort_by_key(|(_, point)| point.verdict);
    let asks = points.iter().filter(|(_, point)| matches!(point.verdict, Health::Act | Health::Look));
    sentences.extend(asks.map(|(finding, point)| {
        format!("{} ({}): {} {}", finding.check.title(), verdict(point.verdict), point.text, point.step.text)
    }));
    let rows = points.into_iter().map(|(finding, point)| -> Vec<Cell> {
        vec![
            verdict(point.verdict).into(),
            finding.check.title().into(),
            point.text.as_str().into(),
            point.since.into(),
            point.step.text.as_str().into(),
            point.step.remedy.as_ref().and_then(remedy_statement).into(),
        ]
    });
    let columns = vec![
        column("verdict", Measure::Text),
        column("check", Measure::Text),
        column("found", Measure::Text),
        column("since", Measure::Time),
        column("what to do", Measure::Text),
        column("statement", Measure::Code),
    ];
    let points = ReportTable::new("found", "What asks for something, the most urgent first", columns).with(rows);
    let rows = findings.iter().map(|finding| -> Vec<Cell> {
        vec![finding.check.title().into(), verdict(finding.verdict()).into(), finding.summary.as_str().into()]
    });
    let columns =
        vec![column("check", Measure::Text), column("verdict", Measure::Text), column("summary", Measure::Text)];
    let checks = ReportTable::new("checks", "All checks", columns).with(rows);
    let facts = findings.iter().flat_map(|finding| finding.facts.iter().map(move |fact| (finding, fact)));
    let rows = facts.map(|(finding, fact)| -> Vec<Cell> {
        vec![finding.check.title().into(), fact.what.as_str().into(), fact.value.as_str().into(), fact.at.into()]
    });
    let columns = vec![
        column("check", Measure::Text),
        column("what", Measure::Text),
        column("figure", Measure::Text),
        column("at", Measure::Time),
    ];
    let facts = ReportTable::new("evidence", "What that rests on", columns).with(rows);
    Ok((sentences, vec![points, checks, facts]))
}
