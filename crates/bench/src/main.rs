//! Benchmarks: one JSON object per line, `{"bench":…,"value":…,"unit":…,"against":…,"ratio":…}`.
//!
//! The machine is noisy, so what counts is the ratio to something measured in the same run.

mod alarms;
mod changes;
mod crowd;
mod differences;
mod effects;
mod families;
mod fleet;
mod hold_ups;
mod index_trials;
mod indexes;
mod ingest;
mod judging;
mod large;
mod machine;
mod month;
mod overhead;
mod pages;
mod plans;
mod ranges;
mod reads;
mod stories;
mod typical;

use anyhow::{Context, Result, bail};
use serde_json::json;

/// That of the program: what is measured here is what it does there.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// What was measured, and what it is compared with.
struct Measured {
    bench: String,
    value: f64,
    unit: &'static str,
    against: &'static str,
    ratio: f64,
}

impl Measured {
    fn print(&self) {
        let Measured { bench, value, unit, against, ratio } = self;
        println!("{}", json!({ "bench": bench, "value": value, "unit": unit, "against": against, "ratio": ratio }));
    }
}

#[tokio::main]
async fn main() -> Result<()> {
    let asked: Vec<String> = std::env::args().skip(1).collect();
    if let [name, option, file] = &asked[..]
        && (name.as_str(), option.as_str()) == ("changes", "--series")
    {
        return changes::run_on(file.as_ref());
    }
    if let [name, option, seed] = &asked[..]
        && option == "--seed"
    {
        let seed = Some(seed.parse().with_context(|| format!("--seed {seed}: give a whole number"))?);
        match name.as_str() {
            "alarms" => return alarms::run(seed).await,
            "stories" => return stories::run(seed).await,
            "index-trials" => return index_trials::run(seed).await,
            _ => bail!("the bench {name:?} has no --seed; alarms, index-trials and stories have"),
        }
    }
    let all = [
        "alarms",
        "changes",
        "ranges",
        "judging",
        "effects",
        "stories",
        "differences",
        "families",
        "plans",
        "indexes",
        "index-trials",
        "hold-ups",
        "ingest",
        "reads",
        "month",
        "fleet",
        "overhead",
        "pages",
    ];
    if let Some(unknown) = asked.iter().find(|name| !all.contains(&name.as_str())) {
        bail!("there is no bench {unknown:?}; there are: {}", all.join(", "));
    }
    for name in all.iter().filter(|name| asked.is_empty() || asked.iter().any(|asked| asked == *name)) {
        match *name {
            "alarms" => alarms::run(None).await?,
            "changes" => changes::run(),
            "ranges" => ranges::run(),
            "judging" => judging::run().await?,
            "effects" => effects::run(),
            "stories" => stories::run(None).await?,
            "differences" => differences::run(),
            "families" => families::run(),
            "plans" => plans::run(),
            "indexes" => indexes::run(),
            "index-trials" => index_trials::run(None).await?,
            "hold-ups" => hold_ups::run().await?,
            "ingest" => ingest::run().await?,
            "reads" => reads::run().await?,
            "month" => month::run().await?,
            "fleet" => fleet::run().await?,
            "overhead" => overhead::run().await?,
            _ => pages::run().await?,
        }
    }
    Ok(())
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    let middle = values.len() / 2;
    if values.len() % 2 == 1 { values[middle] } else { (values[middle - 1] + values[middle]) / 2.0 }
}
