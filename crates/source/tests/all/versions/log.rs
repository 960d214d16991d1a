//! The server's log, in the form that the version writes, and the plans in it.

use anyhow::{Context, Result};
use hurnix_core::readings::plan::Plan;
use hurnix_core::readings::server_log::{LogKind, entries};
use hurnix_source::Source;
use sqlx::Executor;

use super::servers::{DATABASE, Watched, finish, until};

pub async fn an_error_is_told(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut position = source.log(None).await?.context("there is a log")?.position;
    let mut client = server.client(DATABASE).await?;
    assert!(client.execute("SELECT metres / 0, 'Ada Lovell' FROM deck").await.is_err());
    let error = until("it is written", async || {
        let reading = source.log(position.as_ref()).await?.context("there is a log")?;
        position = reading.position;
        Ok(entries(reading.lines, Some(source.log_wording())).into_iter().find(|entry| entry.kind == LogKind::Error))
    })
    .await?;
    assert_eq!(error.line.state, "22012");
    assert_eq!((error.line.account.as_str(), error.line.database.as_str()), ("crew", DATABASE));
    assert_eq!(error.line.statement, "select metres / ?, ? from deck");
    finish(client).await
}

/// A plan that auto_explain writes, in both forms that are read: with its statement, and with what came of each step.
pub async fn plans_of_what_ran_are_read(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut position = source.log(None).await?.context("there is a log")?.position;
    let mut client = server.cluster.connect(DATABASE).await?;
    client
        .execute("LOAD 'auto_explain'; SET auto_explain.log_min_duration = 0; SET auto_explain.log_analyze = on; SET auto_explain.log_buffers = on")
        .await?;
    let mut seen = Vec::new();
    for form in ["text", "json"] {
        client.execute(sqlx::AssertSqlSafe(format!("SET auto_explain.log_format = {form}"))).await?;
        client.execute("SELECT count(*)\nFROM deck WHERE deck_id::text <> 'Ada''s' AND metres > 3").await?;
        let found = until("it is written", async || {
            let reading = source.log(position.as_ref()).await?.context("there is a log")?;
            position = reading.position;
            Ok(reading.plans.into_iter().find(|plan| plan.logged.statement.contains("Ada''s")))
        })
        .await?;
        assert_eq!(found.database, DATABASE);
        assert!(found.logged.statement.starts_with("SELECT count(*)\nFROM deck"), "{}", found.logged.statement);
        let root = &found.logged.plan.nodes[0];
        assert!(root.operator.ends_with("Aggregate") && root.actual.is_some_and(|came| came.rows == 1.0), "{root:?}");
        assert_eq!(found.logged.plan.execution_ms, Some(found.logged.ms));
        let masked = found.logged.text(true);
        assert!(!masked.contains("Ada") && masked.contains("Filter: "), "{masked}");
        assert_eq!(Plan::read(&masked)?.nodes.len(), found.logged.plan.nodes.len(), "{masked}");
        assert!(found.logged.text(false).contains("Ada''s"), "{:?}", found.logged.plan);
        seen.push(found.identity);
    }
    assert_eq!(seen[0], seen[1], "both forms tell the same plan");
    finish(client).await
}
