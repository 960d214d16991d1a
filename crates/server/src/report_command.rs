//! Reports from the command line, and whether a period is worse than somebody tolerates: for a pipeline.

use std::io::Write;
use std::path::PathBuf;
use std::process::ExitCode;

use anyhow::{Context, Result, bail};
use chrono::{DateTime, Utc};
use clap::Args;
use hurnix_core::findings::then_and_now::{Tolerated, matched_before, same_work, tolerated};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::{Retention, RetentionGroup};
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::wording::number;
use hurnix_core::{Named, Timestamp, Window};
use hurnix_store::{Instance, Store};

use crate::options::Intervals;
use crate::report::{Asked, ReportForm, ReportKind, ReportOf, SectionKind, make};
use crate::state::{Collected, now};

/// Exit status where a period is worse than is tolerated.
pub const WORSE: u8 = 3;
/// Buckets that each period is cut into to learn its noise.
const BUCKETS: f64 = 48.0;
/// Shorter buckets hold too few readings.
const LEAST_BUCKET_SECONDS: f64 = 60.0;

/// Which report, and what is tolerated.
#[derive(Debug, Clone, Args)]
pub struct ReportOptions {
    /// Connection string of the repository.
    #[arg(long, env = "HURNIX_REPOSITORY", hide_env_values = true)]
    repository: String,
    /// Label of the instance; left out for a report on many.
    instance: Option<String>,
    /// Kind of report: period, then_and_now, incident, statement, first_look, snapshots or instances.
    #[arg(long, default_value = "period", value_parser = named::<ReportKind>)]
    kind: ReportKind,
    /// Number of the statement, for a report on one.
    #[arg(long)]
    statement: Option<i64>,
    /// Group whose instances a report on many is of; all when left out.
    #[arg(long)]
    group: Option<String>,
    /// Begin of its period, such as 2026-11-01T06:00:00Z, or the text of a marker; a day before its end when left
    /// out. For a report between two snapshots, the name of the first.
    #[arg(long)]
    from: Option<String>,
    /// End of its period; now when left out. For a report between two snapshots, the name of the second.
    #[arg(long)]
    to: Option<String>,
    /// Begin of the period that it is held against; the same hours before when left out.
    #[arg(long)]
    then_from: Option<String>,
    /// End of that; as long after its begin as the period is long, when left out.
    #[arg(long)]
    then_to: Option<String>,
    /// Sections, with commas between them; all of the kind when left out.
    #[arg(long, value_delimiter = ',', value_parser = named::<SectionKind>)]
    sections: Vec<SectionKind>,
    /// How it is written: json, html, text or csv.
    #[arg(long, default_value = "text", value_parser = named::<ReportForm>)]
    form: ReportForm,
    /// File to write to; the standard output when left out, and a name made of its period for `.`.
    #[arg(long)]
    out: Option<PathBuf>,
    /// How much longer the same work may take than then, such as 20%: more ends with status 3.
    #[arg(long, value_parser = share)]
    tolerance: Option<f64>,
}

fn named<T: Named>(text: &str) -> Result<T, String> {
    T::named(text).ok_or_else(|| format!("give one of {}", T::names()))
}

/// A share, as `20%` or `0.2`.
fn share(text: &str) -> Result<f64, String> {
    let (number, by) = text.strip_suffix('%').map_or((text, 1.0), |number| (number, 100.0));
    let share = number.trim().parse::<f64>().ok().filter(|share| share.is_finite() && *share >= 0.0);
    share.map(|share| share / by).ok_or_else(|| "give a share such as 20% or 0.2".to_owned())
}

/// Writes a report; ends with status 3 where the period is worse than tolerated.
pub async fn write_report(mut options: ReportOptions) -> Result<ExitCode> {
    let store = Store::open(&options.repository, Retention::default()).await.context("opening the repository")?;
    let app = Collected { store, intervals: Intervals::of_environment(), retention: Retention::default() };
    let instances = options.meant(app.store.instances().await?)?;
    let moments = Moments { store: &app.store, instance: instances.first() };
    let snapshots = match options.kind.is_between_snapshots() {
        true => Some([moments.snapshot("--from", &options.from).await?, moments.snapshot("--to", &options.to).await?]),
        false => None,
    };
    if snapshots.is_some() {
        (options.from, options.to) = (None, None);
    }
    let to = match &options.to {
        None => now(),
        Some(to) => moments.named("--to", to).await?,
    };
    let from = match &options.from {
        None => to.plus_seconds(-SECONDS_PER_DAY),
        Some(from) => moments.named("--from", from).await?,
    };
    let span = Window::new(from, to).context("--from and --to: give the earlier time first")?;
    let then = match &options.then_from {
        None => matched_before(span),
        Some(then_from) => {
            let from = moments.named("--then-from", then_from).await?;
            let to = match &options.then_to {
                None => from.plus_seconds(span.seconds()),
                Some(to) => moments.named("--then-to", to).await?,
            };
            Window::new(from, to).context("--then-from and --then-to: give the earlier time first")?
        }
    };
    let ReportOptions { kind, statement: family, group, sections, .. } = options;
    let report =
        make(&app, &instances, &Asked { kind, family, snapshots, group, span, then: Some(then), sections }).await?;
    let written = options.form.write(&report)?;
    match options.out {
        None => std::io::stdout().write_all(&written)?,
        Some(path) => {
            let named = PathBuf::from(format!("{}.{}", report.file_name(), options.form.ending()));
            let path = if path.as_os_str() == "." { named } else { path };
            std::fs::write(&path, &written).with_context(|| format!("writing {}", path.display()))?;
            eprintln!("written to {}", path.display());
        }
    }
    match (options.tolerance, instances.as_slice()) {
        (None, _) => Ok(ExitCode::SUCCESS),
        (Some(tolerance), [instance]) => judge(&app.store, instance, span, then, tolerance).await,
        (Some(_), _) => bail!("--tolerance: give it with a report on one instance"),
    }
}

impl ReportOptions {
    /// The instances that the report is of.
    fn meant(&self, mut all: Vec<Instance>) -> Result<Vec<Instance>> {
        if self.kind.of() == ReportOf::Instances {
            if let Some(label) = &self.instance {
                bail!(
                    "{label:?}: a report of this kind is of many instances; leave the label out, and narrow it by --group"
                );
            }
            all.retain(|one| self.group.is_none() || one.group == self.group);
            return Ok(all);
        }
        let labels = || all.iter().map(|instance| instance.label.as_str()).collect::<Vec<_>>().join(", ");
        let Some(label) = &self.instance else { bail!("give the label of an instance; there are: {}", labels()) };
        match all.iter().find(|instance| instance.label == *label) {
            Some(instance) => Ok(vec![instance.clone()]),
            None => bail!("there is no instance {label:?}; there are: {}", labels()),
        }
    }
}

async fn judge(store: &Store, instance: &Instance, span: Window, then: Window, tolerance: f64) -> Result<ExitCode> {
    let series = async |window: Window| {
        let pieces = store.pieces(
            instance.instance_id,
            &[RetentionGroup::Statements],
            window,
            Detail::for_window(window),
            now(),
        );
        let pieces = pieces.await?;
        let least = pieces.coarsest().bucket_seconds().map_or(LEAST_BUCKET_SECONDS, |seconds| seconds as f64);
        let bucket = (window.seconds() / BUCKETS).max(least);
        let bucket = ((bucket / least).round() * least) as i64;
        store.family_series(instance.instance_id, &pieces, bucket, None).await
    };
    let ratio = same_work(&series(then).await?, &series(span).await?);
    let percent = |share: f64| format!("{} %", number(share * 100.0));
    match (tolerated(ratio, tolerance), ratio) {
        (Tolerated::CannotTell, _) | (_, None) => {
            eprintln!("cannot tell: both periods need statements in common, counted at least six times");
            Ok(ExitCode::SUCCESS)
        }
        (verdict, Some(ratio)) => {
            let verdict = if verdict == Tolerated::Worse { "worse" } else { "within" };
            eprintln!(
                "{verdict}: the same work takes {} times as long as then, from {} to {} with 95 % certainty; {} more are tolerated",
                number(ratio.value),
                number(ratio.low),
                number(ratio.high),
                percent(tolerance)
            );
            Ok(if verdict == "worse" { ExitCode::from(WORSE) } else { ExitCode::SUCCESS })
        }
    }
}

/// Moments as somebody names them.
struct Moments<'a> {
    store: &'a Store,
    instance: Option<&'a Instance>,
}

impl Moments<'_> {
    /// The snapshot of a name.
    async fn snapshot(&self, option: &str, name: &Option<String>) -> Result<i64> {
        let known = match self.instance {
            Some(instance) => self.store.named_snapshots(instance.instance_id).await?,
            None => Vec::new(),
        };
        let found = known.iter().find(|one| Some(&one.name) == name.as_ref());
        found.map(|one| one.snapshot_id).with_context(|| {
            let names: Vec<&str> = known.iter().map(|one| one.name.as_str()).collect();
            let given = name.as_deref().unwrap_or_default();
            format!("{option} {given:?}: give the name of a snapshot of this instance; there are: {}", names.join(", "))
        })
    }

    /// A moment as RFC 3339, or the text of a marker: the newest one that has it.
    async fn named(&self, option: &str, text: &str) -> Result<Timestamp> {
        if let Ok(at) = text.parse::<DateTime<Utc>>() {
            return Ok(Timestamp(at.timestamp_micros()));
        }
        let all = Window { from: Timestamp(0), to: now().plus_seconds(1.0) };
        let markers = match self.instance {
            Some(instance) => self.store.markers(instance.instance_id, all).await?,
            None => Vec::new(),
        };
        let found = markers.iter().rfind(|marker| marker.text == text);
        found.map(|marker| marker.at).with_context(|| {
            format!(
                "{option} {text:?}: give a time such as 2026-11-01T06:00:00Z, or the text of a marker of this instance"
            )
        })
    }
}
