//! What is read is what the server says, column by column, and differences are the server's own to the unit.

use std::collections::BTreeMap;

use anyhow::{Context, Result, ensure};
use hurnix_core::readings::counters::{
    CheckpointCounters, Counters, DatabaseCounters, IndexCounters, IoCounters, StatementCounters, TableCounters,
};
use hurnix_core::readings::difference::{Snapshot, between};
use hurnix_core::readings::statement::StatementKey;
use hurnix_source::ReadCounters;
use hurnix_source::postgres::PostgresSource;
use sqlx::{AssertSqlSafe, Executor, PgConnection, Row};

use super::servers::{DATABASE, Watched, finish, until};

/// Rows of (key, figures in the order of the counters' names), as the server's documented views tell them.
type Told = BTreeMap<i64, Vec<i64>>;

const TABLES: &str =
    "SELECT relid::bigint, ARRAY[seq_scan, seq_tup_read, coalesce(idx_scan, 0), coalesce(idx_tup_fetch, 0), n_tup_ins,
        n_tup_upd, n_tup_hot_upd, n_tup_del, heap_blks_read, heap_blks_hit]
    FROM pg_stat_user_tables JOIN pg_statio_user_tables USING (relid)";
const INDEXES: &str =
    "SELECT indexrelid::bigint, ARRAY[idx_scan, idx_tup_read, idx_tup_fetch, idx_blks_read, idx_blks_hit]
    FROM pg_stat_user_indexes JOIN pg_statio_user_indexes USING (indexrelid)";
const CHECKPOINTS: &str = "SELECT 0::bigint, ARRAY[checkpoints_timed, checkpoints_req, round(checkpoint_write_time * 1000)::bigint,
        round(checkpoint_sync_time * 1000)::bigint, buffers_checkpoint, buffers_clean, buffers_alloc] FROM pg_stat_bgwriter";
const CHECKPOINTS_17: &str = "SELECT 0::bigint, ARRAY[num_timed, num_requested, round(write_time * 1000)::bigint,
        round(sync_time * 1000)::bigint, c.buffers_written, buffers_clean, buffers_alloc] FROM pg_stat_checkpointer c, pg_stat_bgwriter";

/// A database that nobody but the work below touches.
fn databases(version: u32) -> String {
    let sessions = if version >= 14 {
        "sessions, round(session_time * 1000)::bigint, round(active_time * 1000)::bigint, round(idle_in_transaction_time * 1000)::bigint"
    } else {
        "0, 0, 0, 0"
    };
    format!(
        "SELECT datid::bigint, ARRAY[xact_commit, xact_rollback, blks_read, blks_hit, tup_returned, tup_fetched, tup_inserted, tup_updated,
                tup_deleted, deadlocks, temp_files, temp_bytes, round(blk_read_time * 1000)::bigint, round(blk_write_time * 1000)::bigint, {sessions}]
         FROM pg_stat_database WHERE datname = 'quay'"
    )
}

/// By number of the statement: all top-level ones of the account `crew` in the watched database.
fn statements(version: u32) -> String {
    let (read, write) = if version >= 17 {
        ("shared_blk_read_time", "shared_blk_write_time")
    } else {
        ("blk_read_time", "blk_write_time")
    };
    let top_level = if version >= 14 { "AND toplevel" } else { "" };
    format!(
        "SELECT queryid, ARRAY[calls, round(total_exec_time * 1000)::bigint, round(total_plan_time * 1000)::bigint, rows, shared_blks_hit,
                shared_blks_read, shared_blks_dirtied, shared_blks_written, temp_blks_read, temp_blks_written,
                round({read} * 1000)::bigint, round({write} * 1000)::bigint, wal_bytes::bigint,
                (calls * (stddev_exec_time ^ 2 + mean_exec_time ^ 2))::bigint]
         FROM pg_stat_statements WHERE userid = 'crew'::regrole AND dbid = (SELECT oid FROM pg_database WHERE datname = current_database()) {top_level}"
    )
}

async fn told(admin: &mut PgConnection, sql: &str) -> Result<Told> {
    let rows = admin.fetch_all(AssertSqlSafe(sql.to_owned())).await?;
    Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
}

fn rows<C: Counters>(snapshot: &Snapshot<u32, C>) -> Told {
    snapshot.rows.iter().map(|(key, counters)| (i64::from(*key), counters.values())).collect()
}

/// One reading of everything, each taken between two answers of the server that are the same.
struct Read {
    tables: Snapshot<u32, TableCounters>,
    indexes: Snapshot<u32, IndexCounters>,
    databases: Snapshot<u32, DatabaseCounters>,
    checkpoints: Snapshot<u32, CheckpointCounters>,
    statements: Snapshot<StatementKey, StatementCounters>,
    told: [Told; 5],
}

macro_rules! read_between {
    ($what:literal, $admin:expr, $sql:expr, $source:expr, $kind:ty) => {
        until(concat!("equal answers about ", $what), async || {
            let before = told($admin, $sql).await?;
            let read = $source.read::<$kind>().await?.context("they are counted")?;
            let after = told($admin, $sql).await?;
            Ok((before == after).then_some((read, after)))
        })
        .await?
    };
}

async fn read(server: &Watched, source: &mut PostgresSource, admin: &mut PgConnection) -> Result<Read> {
    let checkpoints = if server.version >= 17 { CHECKPOINTS_17 } else { CHECKPOINTS };
    let (tables, of_tables) = read_between!("tables", admin, TABLES, source, TableCounters);
    let (indexes, of_indexes) = read_between!("indexes", admin, INDEXES, source, IndexCounters);
    let (databases, of_databases) =
        read_between!("databases", admin, &databases(server.version), source, DatabaseCounters);
    let (checkpoints, of_checkpoints) = read_between!("checkpoints", admin, checkpoints, source, CheckpointCounters);
    let (statements, of_statements) =
        read_between!("statements", admin, &statements(server.version), source, StatementCounters);
    let told = [of_tables, of_indexes, of_databases, of_checkpoints, of_statements];
    Ok(Read { tables, indexes, databases, checkpoints, statements, told })
}

/// What the account `crew` does: everything that is counted moves.
async fn work(server: &Watched, round: i32) -> Result<()> {
    let mut client = server.client(DATABASE).await?;
    for n in 0..17 {
        sqlx::query("SELECT metres FROM deck WHERE deck_id = $1").bind(n * round).execute(&mut client).await?;
        sqlx::query("SELECT count(*) FROM deck WHERE metres > $1").bind(n).execute(&mut client).await?;
        sqlx::query("UPDATE deck SET metres = metres + 1 WHERE deck_id = $1")
            .bind(n + 500)
            .execute(&mut client)
            .await?;
        sqlx::query("INSERT INTO deck VALUES ($1, 7)").bind(-1000 * round - n).execute(&mut client).await?;
    }
    sqlx::query("DELETE FROM deck WHERE deck_id < $1").bind(-1000 * round - 9).execute(&mut client).await?;
    finish(client).await?;
    let mut client = server.cluster.connect("quay").await?;
    client
        .execute("CREATE TABLE IF NOT EXISTS berth (berth_id int); INSERT INTO berth SELECT generate_series(1, 50)")
        .await?;
    client.execute("SET work_mem = '64kB'; SELECT n FROM generate_series(1, 60000) n ORDER BY n::text").await?;
    assert!(client.execute("SELECT 1 / 0").await.is_err());
    finish(client).await
}

/// Waits until the server has counted what was done: so many rows were put into a table.
async fn counted(admin: &mut PgConnection, inserted: i64) -> Result<()> {
    until("the work is counted", async || {
        let sql = "SELECT n_tup_ins = $1 AND (SELECT tup_inserted FROM pg_stat_database WHERE datname = 'quay') >= $2
                   FROM pg_stat_user_tables WHERE relname = 'deck'";
        let berths = (inserted - 20_000) / 17 * 50;
        let counted: bool = sqlx::query_scalar(sql).bind(inserted).bind(berths).fetch_one(&mut *admin).await?;
        Ok(counted.then_some(()))
    })
    .await
}

fn grown(from: &Told, to: &Told) -> Told {
    let zero = Vec::new();
    let by = |(key, now): (&i64, &Vec<i64>)| {
        let then = from.get(key).unwrap_or(&zero);
        (*key, now.iter().enumerate().map(|(n, now)| now - then.get(n).copied().unwrap_or_default()).collect())
    };
    to.iter().map(by).filter(|(_, by): &(i64, Vec<i64>)| by.iter().any(|by| *by != 0)).collect()
}

pub async fn are_the_servers_own_to_the_unit(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut admin = server.cluster.connect(DATABASE).await?;
    // None of those compared shall be thrown out of the hundred that the server counts.
    admin.execute("SELECT pg_stat_statements_reset()").await?;
    work(server, 1).await?;
    counted(&mut admin, 20_017).await?;
    let first = read(server, &mut source, &mut admin).await?;
    work(server, 2).await?;
    admin.execute("CHECKPOINT").await?;
    counted(&mut admin, 20_034).await?;
    let checkpoints = if server.version >= 17 { CHECKPOINTS_17 } else { CHECKPOINTS };
    until("the checkpoint is counted", async || {
        Ok((told(&mut admin, checkpoints).await?[&0][1] > first.told[3][&0][1]).then_some(()))
    })
    .await?;
    let second = read(server, &mut source, &mut admin).await?;

    let crew: i64 = admin.fetch_one("SELECT 'crew'::regrole::oid::bigint").await?.get(0);
    let is_crews = |key: &StatementKey, query_id: i64| {
        key.query_id == query_id
            && (i64::from(key.account_oid), key.database_oid) == (crew, first.tables.database_oid)
            && key.top_level
    };
    let quay = i64::from(
        second
            .databases
            .rows
            .iter()
            .map(|(oid, _)| *oid)
            .find(|oid| second.told[2].contains_key(&i64::from(*oid)))
            .context("it is read")?,
    );
    for read in [&first, &second] {
        assert_eq!(rows(&read.tables), read.told[0], "tables");
        assert_eq!(rows(&read.indexes), read.told[1], "indexes");
        assert_eq!(rows(&read.databases)[&quay], read.told[2][&quay], "databases");
        assert_eq!(rows(&read.checkpoints), read.told[3], "checkpoints");
        for (query_id, told) in &read.told[4] {
            let row = read.statements.rows.iter().find(|(key, _)| is_crews(key, *query_id));
            assert_eq!(&row.context("it is read")?.1.values(), told, "statement {query_id}");
        }
    }

    macro_rules! windows_are_equal {
        ($what:literal, $kind:ident, $place:literal, $($only:expr)?) => {
            let difference = between(&first.$kind, &second.$kind, 600.0)?;
            let found = difference.rows.iter().map(|row| (i64::from(row.key), row.by.values()));
            $(let found = found.filter(|(key, _)| *key == $only);)?
            let found: Told = found.collect();
            assert_eq!(found, grown(&first.told[$place], &second.told[$place]), $what);
            ensure!(!found.is_empty() && difference.rows.iter().all(|row| !row.lower_bound), $what);
        };
    }
    windows_are_equal!("tables", tables, 0,);
    windows_are_equal!("indexes", indexes, 1,);
    windows_are_equal!("databases", databases, 2, quay);
    windows_are_equal!("checkpoints", checkpoints, 3,);
    let difference = between(&first.statements, &second.statements, 600.0)?;
    let of_crew = grown(&first.told[4], &second.told[4]);
    ensure!(
        of_crew.values().map(|by| by[0]).sum::<i64>() == 4 * 17 + 1,
        "the server counted what was sent: {of_crew:?}"
    );
    for (query_id, by) in &of_crew {
        let row = difference.rows.iter().find(|row| is_crews(&row.key, *query_id));
        assert_eq!(&row.context("it moved")?.by.values(), by, "statement {query_id}");
    }
    Ok(())
}

/// Input and output never stand still: every look moves them. What is read lies between what the server says before and
/// after, figure by figure.
pub async fn input_and_output_are_the_servers_own(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    if server.version < 16 {
        ensure!(source.read::<IoCounters>().await?.is_none(), "this version has none");
        return Ok(());
    }
    let bytes = if server.version >= 18 {
        "read_bytes, write_bytes, extend_bytes"
    } else {
        "reads * op_bytes, writes * op_bytes, extends * op_bytes"
    };
    let [read, written, extended]: [&str; 3] = bytes.split(", ").collect::<Vec<_>>().try_into().unwrap();
    let sql = format!(
        "SELECT format('%s, %s, %s', backend_type, object, context), ARRAY[reads, {read}, round(read_time * 1000), writes, {written},
                round(write_time * 1000), extends, {extended}, round(extend_time * 1000), writebacks, hits, evictions, reuses, fsyncs,
                round(fsync_time * 1000)]::bigint[] FROM pg_stat_io"
    );
    let told = async |admin: &mut PgConnection| -> Result<BTreeMap<String, Vec<Option<i64>>>> {
        let rows = admin.fetch_all(AssertSqlSafe(sql.clone())).await?;
        Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
    };
    let mut admin = server.cluster.connect(DATABASE).await?;
    let before = told(&mut admin).await?;
    let first = source.read::<IoCounters>().await?.context("it is counted")?;
    let after = told(&mut admin).await?;
    assert_eq!(first.rows.len(), before.len());
    for (key, counters) in &first.rows {
        for (n, (name, value)) in IoCounters::NAMES.iter().zip(counters.values()).enumerate() {
            let [least, most] = [&before, &after].map(|told| told[key][n].unwrap_or_default());
            ensure!((least..=most).contains(&value), "{key}: {name} is {value}, and lies not in {least} to {most}");
        }
    }
    work(server, 9).await?;
    until("the work shows as input and output", async || {
        let second = source.read::<IoCounters>().await?.context("it is counted")?;
        let difference = between(&first, &second, 600.0)?;
        let clients = difference.rows.iter().find(|row| row.key == "client backend, relation, normal");
        Ok(clients.is_some_and(|clients| clients.by.hits > 1000 && !clients.lower_bound).then_some(()))
    })
    .await
}
