use anyhow::Result;
use hurnix_truth::{Tried, index_trial};

use crate::Measured;

/// Seeds that nothing was tuned to.
const SEEDS: [u64; 2] = [7_001, 7_002];

/// Rule 8: the first index advised for each family, held against the best of all that were tried for real.
pub async fn run(seed: Option<u64>) -> Result<()> {
    for one in seed.map_or(SEEDS.to_vec(), |seed| vec![seed]) {
        let tried = index_trial(one, 1.0, 1).await?;
        if seed.is_some() {
            tried.iter().for_each(tell);
        }
        summed_up(one, &tried);
    }
    Ok(())
}

fn tell(tried: &Tried) {
    let best = tried.best.as_ref().map_or("none helps".to_owned(), |(on, ms)| format!("{ms:.2} ms by {on}"));
    let advised = tried.advised.as_ref().map_or("nothing".to_owned(), |advised| {
        format!(
            "{:.2} ms (predicted {:.2}) by {}, {:.0} kB (predicted {:.0})",
            advised.ms,
            advised.predicted_ms,
            advised.made_by.replace('\n', " "),
            advised.bytes / 1e3,
            advised.predicted_bytes / 1e3
        )
    });
    let verdict = match tried.reached() {
        Some(reached) if reached >= 0.9 => "as good",
        Some(_) if tried.advised.is_none() => "MISSED",
        Some(_) => "WORSE",
        None if tried.is_useless() => "USELESS",
        None => "",
    };
    println!(
        "{verdict:8} {}: {:.2} ms\n    {}\n    best: {best}\n    advised: {advised}{}",
        tried.form,
        tried.now_ms,
        tried.statement.split_whitespace().collect::<Vec<_>>().join(" "),
        tried.not_understood.as_ref().map_or(String::new(), |why| format!("\n    {why}"))
    );
}

fn summed_up(seed: u64, tried: &[Tried]) {
    let worth: Vec<f64> = tried.iter().filter_map(Tried::reached).collect();
    let advised = || tried.iter().filter_map(|tried| tried.advised.as_ref());
    let share = |part: usize, all: usize| part as f64 / all.max(1) as f64;
    let within = |ratio: f64, factor: f64| ratio <= factor && ratio >= 1.0 / factor;
    // Nobody waits for less than a tenth of a millisecond, of any of the four statements.
    let floor = |ms: f64| ms.max(0.1 * 4.0);
    let as_good = worth.iter().filter(|reached| **reached >= 0.9).count();
    let close = advised().filter(|advised| within(floor(advised.predicted_ms) / floor(advised.ms), 2.0)).count();
    let sized = advised().filter(|advised| within(advised.predicted_bytes / advised.bytes, 1.15)).count();
    let useless = tried.iter().filter(|tried| tried.is_useless()).count();
    let count = advised().count();
    for (bench, value) in [
        ("of families worth an index, the first advised reaches 90 % of the best", share(as_good, worth.len())),
        ("of the advised, time within a factor of two of the predicted", share(close, count)),
        ("of the advised, size within 15 % of the predicted", share(sized, count)),
        ("of the advised, of no use", share(useless, count)),
    ] {
        let bench =
            format!("indexes tried, seed {seed}, {} families, {} worth an index: {bench}", tried.len(), worth.len());
        Measured { bench, value, unit: "share", against: "all", ratio: value }.print();
    }
}
