use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use sqlx::{AssertSqlSafe, Executor};

/// Name of the database of the passage server.
pub(crate) const DATABASE: &str = "passage";
/// The account through which Hurnix watches.
pub const WATCH_ACCOUNT: &str = "hurnix_watch";
/// What repairs the gate list of the story `gate-list`.
pub const INDEX_THAT_HELPS: &str = "CREATE INDEX passage_leg_crossing_state ON passage_leg (crossing_id, state)";

/// Accounts of Skerry Line's programs.
pub(crate) const ACCOUNTS: [&str; 8] = [
    "skerry_desk",
    "skerry_gate",
    "skerry_deck",
    "skerry_office",
    "skerry_supervisor",
    "skerry_crew",
    "skerry_web",
    "skerry_harbour",
];

/// Memory of a sort or hash, set where a story can change it.
pub(crate) const USUAL_MEMORY: &str = "ALTER SYSTEM SET work_mem = '8MB'";

/// Settings of the passage server: those that Hurnix needs, and a small machine's.
pub fn passage_settings() -> Vec<(&'static str, &'static str)> {
    vec![
        ("shared_preload_libraries", "pg_stat_statements,auto_explain"),
        // Plans of what takes long, with the rows that came of each step.
        ("auto_explain.log_min_duration", "100ms"),
        ("auto_explain.log_analyze", "on"),
        ("auto_explain.log_timing", "off"),
        ("auto_explain.log_buffers", "on"),
        ("auto_explain.log_format", "json"),
        ("track_io_timing", "on"),
        ("logging_collector", "on"),
        ("log_destination", "stderr,jsonlog"),
        // A file for each day of the week, so that they do not pile up.
        ("log_filename", "passage-%a.log"),
        ("log_truncate_on_rotation", "on"),
        ("log_lock_waits", "on"),
        ("log_temp_files", "0"),
        ("shared_buffers", "192MB"),
        ("max_connections", "120"),
        // One statement, one core: the machine of the demo has two.
        ("max_parallel_workers_per_gather", "0"),
    ]
}

/// Loads schema and rows unless they are there; says whether it loaded them.
pub async fn load_passage(cluster: &Cluster) -> Result<bool> {
    cluster.ensure_database(DATABASE).await?;
    let mut connection = cluster.connect(DATABASE).await?;
    let there: bool =
        sqlx::query_scalar("SELECT to_regclass('pier_board') IS NOT NULL").fetch_one(&mut connection).await?;
    // Programs that an earlier version did not have get their accounts too.
    let known: Vec<String> =
        sqlx::query_scalar("SELECT rolname FROM pg_roles").fetch_all(&mut connection).await.context("reading roles")?;
    let accounts: String = ACCOUNTS
        .iter()
        .filter(|account| known.iter().all(|known| known != *account))
        .map(|account| {
            format!("CREATE ROLE {account} LOGIN; GRANT pg_read_all_data, pg_write_all_data TO {account};\n")
        })
        .collect();
    if there {
        connection.execute(AssertSqlSafe(accounts)).await.context("making accounts")?;
        return Ok(false);
    }
    let script = format!(
        "BEGIN;
         CREATE EXTENSION pg_stat_statements;
         CREATE ROLE {WATCH_ACCOUNT} LOGIN;
         GRANT pg_monitor TO {WATCH_ACCOUNT};
         -- For ending sessions and cancelling statements only.
         GRANT pg_signal_backend TO {WATCH_ACCOUNT};
         -- For plans and planner statistics only; watching needs pg_monitor alone.
         GRANT pg_read_all_data TO {WATCH_ACCOUNT};
         {accounts}
         {}
         {}
         {}
         {}
         {}
         COMMIT;",
        include_str!("schema.sql"),
        hurnix_source::postgres::host_script(WATCH_ACCOUNT),
        hurnix_source::postgres::host_processes_script(WATCH_ACCOUNT),
        hurnix_source::postgres::log_script(WATCH_ACCOUNT),
        hurnix_source::postgres::access_script(WATCH_ACCOUNT)
    );
    connection.execute(AssertSqlSafe(script)).await.context("loading the passage database")?;
    // What loading cost is not part of anybody's story.
    connection.execute("VACUUM ANALYZE").await?;
    connection.execute(USUAL_MEMORY).await?;
    connection.execute("SELECT pg_reload_conf()").await?;
    connection.execute("CHECKPOINT").await?;
    connection.execute("SELECT pg_stat_statements_reset()").await?;
    Ok(true)
}

/// Gives the watching account its password: letters and digits only.
pub async fn set_watch_password(cluster: &Cluster, password: &str) -> Result<()> {
    anyhow::ensure!(password.bytes().all(|byte| byte.is_ascii_alphanumeric()), "letters and digits only");
    let mut connection = cluster.connect(DATABASE).await?;
    connection.execute(AssertSqlSafe(format!("ALTER ROLE {WATCH_ACCOUNT} PASSWORD '{password}'"))).await?;
    Ok(())
}
