use std::path::PathBuf;

use anyhow::{Context, Result, bail};
use chrono::{DateTime, Utc};
use clap::Args;
use hurnix_core::keeping::retention::Retention;
use hurnix_core::{Timestamp, Window};
use hurnix_store::Store;

use super::{create, export, import, open};
use crate::state::now;

/// How to write a bundle.
#[derive(Debug, Clone, Args)]
pub struct ExportOptions {
    /// Connection string of the repository.
    #[arg(long, env = "HURNIX_REPOSITORY", hide_env_values = true)]
    repository: String,
    /// Label of the instance.
    instance: String,
    /// The file to make; compressed when its name ends in `.gz`.
    file: PathBuf,
    /// Begin of the time to write, such as 2026-11-01T00:00:00Z; the first that is kept when left out.
    #[arg(long)]
    from: Option<DateTime<Utc>>,
    /// End of that time; now when left out.
    #[arg(long)]
    to: Option<DateTime<Utc>>,
}

/// How to bring a bundle in.
#[derive(Debug, Clone, Args)]
pub struct ImportOptions {
    /// Connection string of the repository.
    #[arg(long, env = "HURNIX_REPOSITORY", hide_env_values = true)]
    repository: String,
    /// The file; compressed when its name ends in `.gz`.
    file: PathBuf,
    /// Label of the instance to bring it into; the bundle's own when left out. It is made if it is not there.
    #[arg(long = "as", value_name = "LABEL")]
    label: Option<String>,
}

/// Writes what is kept of an instance to a file.
pub async fn export_file(options: ExportOptions) -> Result<()> {
    let store = Store::open(&options.repository, Retention::default()).await.context("opening the repository")?;
    let all = store.instances().await?;
    let Some(instance) = all.iter().find(|instance| instance.label == options.instance) else {
        let labels: Vec<&str> = all.iter().map(|instance| instance.label.as_str()).collect();
        bail!("there is no instance {:?}; there are: {}", options.instance, labels.join(", "));
    };
    let Some((first, _)) = store.retained(instance.instance_id).await? else {
        bail!("nothing is kept of {} yet", options.instance);
    };
    let at = |time: DateTime<Utc>| Timestamp(time.timestamp_micros());
    let (from, to) = (options.from.map_or(first.plus_seconds(-600.0), at), options.to.map_or(now(), at));
    let window = Window::new(from, to).context("--from and --to: give the earlier time first")?;
    let mut out = create(&options.file)?;
    let lines = export(&store, instance, window, &mut out).await?;
    out.finish()?;
    println!("{lines} lines of {} written to {}", options.instance, options.file.display());
    Ok(())
}

/// Brings a file in, tells every bad line, and fails when there was one.
pub async fn import_file(options: ImportOptions) -> Result<()> {
    let store = Store::open(&options.repository, Retention::default()).await.context("opening the repository")?;
    let imported = import(&store, options.label.as_deref(), open(&options.file)?).await?;
    println!("{}", imported.summary());
    for bad in &imported.bad {
        eprintln!("{bad}");
    }
    if imported.bad_lines > 0 {
        if let Some(line) = imported.stopped_at {
            eprintln!("nothing was read after line {line}");
        }
        bail!("{} lines could not be imported; correct them and import the file again", imported.bad_lines);
    }
    Ok(())
}
