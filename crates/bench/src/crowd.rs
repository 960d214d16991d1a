//! Many sessions on a watched server, many of which wait behind one.

use std::time::Duration;

use anyhow::Result;
use hurnix_cluster::Cluster;
use sqlx::postgres::PgConnection;
use sqlx::{AssertSqlSafe, Executor};
use tokio::task::JoinHandle;

/// Sessions in all.
pub const SESSIONS: usize = 2_000;
/// Those that wait for one row.
pub const WAITING: usize = 500;
/// Sessions that are opened at a time.
const AT_A_TIME: usize = 20;

/// Sessions that live as long as this.
pub struct Crowd {
    _idle: Vec<PgConnection>,
    _holder: PgConnection,
    waiting: Vec<JoinHandle<()>>,
}

impl Drop for Crowd {
    fn drop(&mut self) {
        self.waiting.iter().for_each(JoinHandle::abort);
    }
}

/// Opens sessions that do nothing, and others that wait for a row that one holds, until all of them stand so.
pub async fn gather(passage: &Cluster) -> Result<Crowd> {
    let mut holder = passage.connect("passage").await?;
    holder.execute("CREATE TABLE quay_light AS SELECT 1 AS lamp").await?;
    holder.execute("BEGIN; UPDATE quay_light SET lamp = 2").await?;
    let mut idle = Vec::new();
    while idle.len() < SESSIONS - WAITING - 1 {
        let some = (0..AT_A_TIME.min(SESSIONS - WAITING - 1 - idle.len())).map(|_| passage.connect("passage"));
        idle.extend(futures::future::try_join_all(some).await?);
    }
    let mut waiting = Vec::new();
    for _ in 0..WAITING {
        let mut client = passage.connect("passage").await?;
        waiting.push(tokio::spawn(async move {
            // It waits until the bench ends.
            let _ended = client.execute("UPDATE quay_light SET lamp = 3").await;
        }));
    }
    let mut admin = passage.connect("passage").await?;
    let stand = format!("SELECT count(*) >= {WAITING} FROM pg_stat_activity WHERE wait_event_type = 'Lock'");
    while !sqlx::query_scalar::<_, bool>(AssertSqlSafe(stand.as_str())).fetch_one(&mut admin).await? {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    Ok(Crowd { _idle: idle, _holder: holder, waiting })
}
