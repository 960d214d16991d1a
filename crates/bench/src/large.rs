//! A large watched server: many tables and indexes, many statements known, many sessions.

use anyhow::Result;
use hurnix_cluster::Cluster;
use sqlx::postgres::PgConnection;
use sqlx::{AssertSqlSafe, Executor};

pub const TABLES: usize = 500;
const INDEXES_OF_TABLE: usize = 3;
const COLUMNS: usize = 12;
pub const FAMILIES: i64 = 5_000;
pub const IDLE_SESSIONS: usize = 200;

/// Adds tables with indexes to the passage database, runs as many different statements on them, and keeps
/// sessions that do nothing. These live as long as what is returned.
pub async fn enlarge(passage: &Cluster) -> Result<Vec<PgConnection>> {
    let mut admin = passage.connect("passage").await?;
    let columns: Vec<String> = (0..COLUMNS).map(|column| format!("c{column} int")).collect();
    for table in 0..TABLES {
        let mut script = format!("CREATE TABLE chart_{table} ({});", columns.join(", "));
        for index in 0..INDEXES_OF_TABLE {
            script += &format!("CREATE INDEX chart_{table}_{index} ON chart_{table} (c{index});");
        }
        script += &format!("INSERT INTO chart_{table} SELECT n FROM generate_series(1, 20) n;");
        admin.execute(AssertSqlSafe(script)).await?;
    }
    admin.execute("ANALYZE").await?;
    let mut client = passage.connect("passage").await?;
    for n in 0..FAMILIES as usize {
        let (table, column) = (n % TABLES, n / TABLES);
        let sql = format!("SELECT count(*) FROM chart_{table} WHERE c{column} = 1");
        sqlx::query(AssertSqlSafe(sql)).persistent(false).execute(&mut client).await?;
    }
    let known: i64 = sqlx::query_scalar("SELECT count(*) FROM pg_stat_statements").fetch_one(&mut admin).await?;
    anyhow::ensure!(known >= FAMILIES, "{known} statements are known to the server");
    let mut idle = Vec::new();
    for _ in 0..IDLE_SESSIONS {
        idle.push(passage.connect("passage").await?);
    }
    Ok(idle)
}
