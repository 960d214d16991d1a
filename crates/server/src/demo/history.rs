//! Skerry Line's simulated instances: taken under care, and their three weeks of history written.

use std::time::Instant;

use anyhow::{Result, bail};
use hurnix_core::instance::engine::Engine;
use hurnix_demo::fleet;
use hurnix_source::simulated::Model;
use hurnix_store::{Instance, Store};
use serde_json::json;
use tokio::task::JoinSet;

use crate::collector::backfill;
use crate::state::now;

/// Instances whose history is written at a time: the simulation takes one core, the repository the other.
const AT_A_TIME: usize = 3;

/// Takes the fleet under care, unless it is already; some of it where these are named.
pub async fn add_fleet(store: &Store, only: &[String]) -> Result<()> {
    let known = store.instances().await?;
    let fleet = fleet(now())?;
    let labels: Vec<&str> = fleet.iter().map(|(label, _)| *label).collect();
    if let Some(unknown) = only.iter().find(|label| !labels.contains(&label.as_str())) {
        bail!("--only {unknown}: there is no such server; there are: {}", labels.join(", "));
    }
    // As a server under care is usually read, however short the demo's intervals are.
    let pace = json!({ "intervals": {
        "activity": 10, "activity_write": 10, "statements": 60, "databases": 60, "tables": 600, "catalog": 600,
        "measures": 60, "space": 600, "settings": 3600, "plans": 600, "bucket": 600,
    }});
    for (label, model) in fleet {
        let is_wanted = only.is_empty() || only.iter().any(|wanted| wanted == label);
        if is_wanted && !known.iter().any(|instance| instance.label == label) {
            store.add_unconnected(label, Engine::Simulated, &pace, Some(&serde_json::to_value(&model)?)).await?;
        }
    }
    Ok(())
}

/// Writes the history of every instance of the fleet that has none yet; once all of it is there, they are collected.
pub async fn write_history(store: Store) -> Result<()> {
    let begun = Instant::now();
    let unready = store.simulated_unready().await?;
    let numbers: Vec<i32> = unready.iter().map(|(instance, _)| instance.instance_id).collect();
    let all = unready.len();
    let mut waiting = unready.into_iter();
    let mut writing = JoinSet::new();
    let mut done = 0;
    loop {
        while writing.len() < AT_A_TIME
            && let Some((instance, model)) = waiting.next()
        {
            let model: Model = serde_json::from_value(model)?;
            writing.spawn(write_one(store.clone(), instance, model));
        }
        let Some(ended) = writing.join_next().await else { break };
        ended??;
        done += 1;
        println!("History of Skerry Line: {done} of {all} instances ({:.0} s).", begun.elapsed().as_secs_f64());
    }
    // Long windows are answered from sums; nobody should have to wait for these.
    tokio::try_join!(sum_up(&store), sum_up(&store))?;
    // What is judged and collected from now on would have had to share the machine with that.
    for instance_id in numbers {
        store.simulated_ready(instance_id).await?;
    }
    if all > 0 {
        println!("The history is summed up ({:.0} s).", begun.elapsed().as_secs_f64());
    }
    Ok(())
}

async fn sum_up(store: &Store) -> Result<()> {
    while store.roll_up(now()).await? > 0 {}
    Ok(())
}

async fn write_one(store: Store, instance: Instance, model: Model) -> Result<()> {
    Ok(backfill(&store, instance.instance_id, model, now()).await?)
}
