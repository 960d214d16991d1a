//! Makes the reports that are due, and keeps them.

use std::time::Duration;

use anyhow::{Context, Result};
use chrono::Utc;
use hurnix_core::{Named, Window};
use hurnix_store::{Instance, NewKeptReport, ReportSchedule};
use tokio::time::MissedTickBehavior;

use crate::report::cadence::{Cadence, Every};
use crate::report::{Asked, NoReport, Report, ReportKind, SectionKind, make};
use crate::state::{App, Collected};

/// Between two looks for what is due.
const ROUND: Duration = Duration::from_secs(5);
/// A report is made so long after its period ended: figures of its last minutes may still be on their way.
const GRACE: chrono::TimeDelta = chrono::TimeDelta::seconds(90);

/// What a schedule says from when its report is begun until it is kept: it stays where the program is stopped meanwhile.
const NOT_KEPT_YET: &str = "The report on the last period was begun and is not kept yet.";

/// Runs until the program stops.
pub async fn run(app: App) {
    let mut ticks = tokio::time::interval(ROUND);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        tokio::select! {
            () = app.stopping.cancelled() => return,
            _ = ticks.tick() => {}
        }
        if let Err(error) = make_due(&app, Utc::now() - GRACE).await {
            tracing::warn!(%error, "reports that are due could not be made; trying again");
        }
    }
}

/// When the periods of a schedule end.
pub fn cadence(schedule: &ReportSchedule) -> Result<Cadence> {
    Ok(Cadence {
        every: Every::named(&schedule.every).context("how often it is made is not known")?,
        weekday: schedule.weekday,
        minute_of_day: schedule.minute_of_day,
        zone: schedule.time_zone.parse().context("its time zone is not known")?,
    })
}

/// Makes what is due at a moment. Where periods were missed, only the last of them is reported on.
pub async fn make_due(app: &Collected, at: chrono::DateTime<Utc>) -> Result<()> {
    for schedule in app.store.report_schedules().await? {
        if crate::zone::moment(schedule.next_at) > at {
            continue;
        }
        let cadence = cadence(&schedule)?;
        let (Some(span), Some(next)) = (cadence.last(at), cadence.next_end(at)) else { continue };
        let next_at = hurnix_core::Timestamp(next.timestamp_micros());
        if !app.store.take_report_schedule(&schedule, next_at, NOT_KEPT_YET).await? {
            continue;
        }
        let problem = make_one(app, &schedule, span).await.err().map(|error| error.to_string());
        app.store.note_report_problem(schedule.schedule_id, problem.as_deref()).await?;
    }
    Ok(())
}

async fn make_one(app: &Collected, schedule: &ReportSchedule, span: Window) -> Result<()> {
    let kind = ReportKind::named(&schedule.kind).context("this version of Hurnix knows no such kind of report")?;
    let sections = schedule.sections.split(',').filter_map(SectionKind::named).collect();
    let asked =
        Asked { kind, family: None, snapshots: None, group: schedule.group.clone(), span, then: None, sections };
    let mut instances = app.store.instances().await?;
    instances.retain(|one| match (&schedule.instance, &schedule.group) {
        (Some((id, _)), _) => one.instance_id == *id,
        (None, Some(group)) => one.group.as_ref() == Some(group),
        (None, None) => true,
    });
    let report = make_longest(app, &instances, &asked).await?;
    let id = schedule.instance.as_ref().map(|(id, _)| *id);
    let made_by = format!("each {}", schedule.every);
    keep(
        app,
        &report,
        Kept {
            instance_id: id,
            group: asked.group.as_deref(),
            schedule_id: Some(schedule.schedule_id),
            made_by: &made_by,
        },
    )
    .await?;
    app.store.forget_reports_of(schedule.schedule_id, schedule.most_kept as i32).await?;
    Ok(())
}

/// The report, or where counters do not go through its period, one on the longest part of it that can be reported on.
async fn make_longest(app: &Collected, instances: &[Instance], asked: &Asked) -> Result<Report, NoReport> {
    let interrupted = match make(app, instances, asked).await {
        Err(NoReport::Interrupted(interrupted)) => interrupted,
        other => return other,
    };
    let longest = interrupted.parts.iter().copied().max_by(|a, b| a.seconds().total_cmp(&b.seconds()));
    let Some(span) = longest else { return Err(NoReport::Interrupted(interrupted)) };
    let mut report = make(app, instances, &Asked { span, ..asked.clone() }).await?;
    report.remarks.push(format!(
        "Counters do not go through the whole period ({}): this is a report on its longest part.",
        interrupted.what()
    ));
    Ok(report)
}

/// Whose a kept report is.
pub struct Kept<'a> {
    /// The instance that it is of; nothing where it is of many.
    pub instance_id: Option<i32>,
    /// The group whose instances it is of.
    pub group: Option<&'a str>,
    /// The schedule that made it.
    pub schedule_id: Option<i32>,
    /// Who made it.
    pub made_by: &'a str,
}

/// Keeps a report; answers its number.
pub async fn keep(app: &Collected, report: &Report, of: Kept<'_>) -> Result<i64> {
    let micros = |at: chrono::DateTime<Utc>| hurnix_core::Timestamp(at.timestamp_micros());
    let new = NewKeptReport {
        instance_id: of.instance_id,
        group: of.group,
        schedule_id: of.schedule_id,
        kind: &report.kind,
        title: &report.title,
        span: Window { from: micros(report.span.from), to: micros(report.span.to) },
        made_at: micros(report.made_at),
        made_by: of.made_by,
        document: serde_json::to_value(report)?,
    };
    Ok(app.store.keep_report(&new).await?)
}
