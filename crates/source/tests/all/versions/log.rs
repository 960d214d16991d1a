//! The server's log, in the form that the version writes.

use anyhow::{Context, Result};
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
