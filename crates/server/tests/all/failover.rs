//! A replica that becomes the primary while nobody looks.

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched};
use anyhow::Result;
use reqwest::Method;
use sqlx::Executor;

#[tokio::test]
async fn a_promotion_is_marked_also_when_it_happened_while_hurnix_was_away() -> Result<()> {
    let primary = watched().await?;
    let replica = primary.temporary_replica()?;
    let mut hurnix = Hurnix::start_with(&["--measures=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&replica, PASSWORD))).await?;
    hurnix
        .wait_for("instances/1/metrics", |metrics| {
            let recovering = metrics.as_array().unwrap().iter().find(|metric| metric["metric"] == "recovering");
            recovering.is_some_and(|metric| metric["values"][0]["value"] == 1.0)
        })
        .await?;
    hurnix.process.kill()?;
    hurnix.process.wait()?;
    primary.crash();
    replica.connect("postgres").await?.execute("SELECT pg_promote()").await?;

    let mut other = hurnix.another(&["--measures=1s"])?;
    let mut repository = hurnix.repository.connect("hurnix").await?;
    wait_until("the promotion is marked", async || {
        let sql = "SELECT count(*) FROM marker WHERE kind = 'failover' AND text LIKE '%replica%primary%'";
        Ok(sqlx::query_scalar::<_, i64>(sql).fetch_one(&mut repository).await? == 1)
    })
    .await?;
    other.kill()?;
    other.wait()?;
    Ok(())
}
