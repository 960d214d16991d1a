use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context, Result};
use hurnix_store::Store;
use tokio::time::MissedTickBehavior;
use tokio_util::sync::CancellationToken;

use super::{import, open};

/// Between two looks into the folder.
const ROUND: Duration = Duration::from_secs(2);
/// A file is taken once it has not grown for a round: whoever copies it has ended.
const DONE: &str = "done";

/// Brings in every bundle that is put into a folder, one after the other, and moves it to its part `done`, with
/// a report beside it. Runs until told to stop.
pub async fn watch(store: Store, folder: PathBuf, stop: CancellationToken) {
    let mut ticks = tokio::time::interval(ROUND);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut sizes: Vec<(PathBuf, u64)> = Vec::new();
    loop {
        tokio::select! {
            () = stop.cancelled() => return,
            _ = ticks.tick() => {}
        }
        let now = match bundles(&folder) {
            Ok(now) => now,
            Err(error) => {
                tracing::warn!(folder = %folder.display(), "the inbox cannot be read: {error:#}");
                continue;
            }
        };
        for (file, _) in now.iter().filter(|found| sizes.contains(found)) {
            if let Err(error) = take(&store, &folder, file).await {
                tracing::warn!(file = %file.display(), "a bundle could not be imported: {error:#}");
            }
        }
        sizes = now;
    }
}

/// Bundles in the folder, with their sizes.
fn bundles(folder: &Path) -> Result<Vec<(PathBuf, u64)>> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder)? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        if entry.file_type()?.is_file() && (name.ends_with(".ndjson") || name.ends_with(".ndjson.gz")) {
            found.push((entry.path(), entry.metadata()?.len()));
        }
    }
    found.sort();
    Ok(found)
}

async fn take(store: &Store, folder: &Path, file: &Path) -> Result<()> {
    let done = folder.join(DONE);
    std::fs::create_dir_all(&done)?;
    let name = file.file_name().context("a file has a name")?.to_string_lossy().into_owned();
    let outcome = async { import(store, None, open(file)?).await }.await;
    let report = match &outcome {
        Ok(imported) => {
            let bad: String = imported.bad.iter().map(|bad| format!("{bad}\n")).collect();
            format!("{}\n{bad}", imported.summary())
        }
        Err(error) => format!("not imported: {error:#}\n"),
    };
    // A second one of the same name goes beside the first.
    let stamp = crate::state::now().0;
    let target = if done.join(&name).exists() { format!("{stamp}-{name}") } else { name };
    std::fs::write(done.join(format!("{target}.report")), &report)?;
    std::fs::rename(file, done.join(&target)).with_context(|| format!("moving {}", file.display()))?;
    tracing::info!(file = %file.display(), "{}", report.lines().next().unwrap_or_default());
    Ok(())
}
