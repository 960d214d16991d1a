//! What makes counters fall, move and vanish: nothing that did not happen is counted, and what happened is not
//! counted twice.

use std::process::Command;

use anyhow::{Context, Result, ensure};
use hurnix_core::readings::counters::CheckpointCounters;
use hurnix_core::readings::counters::DatabaseCounters;
use hurnix_core::readings::counters::{IndexCounters, NestedCounters, StatementCounters, TableCounters};
use hurnix_core::readings::difference::{Difference, Grown, NoDifference, Snapshot, between, followed};
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::measure_rates::rates;
use hurnix_core::readings::statement::StatementKey;
use hurnix_source::ReadCounters;
use hurnix_source::Source;
use hurnix_source::postgres::PostgresSource;
use sqlx::{AssertSqlSafe, Executor, PgConnection};

use super::servers::{DATABASE, Watched, finish, until};

async fn read_by(server: &Watched, sql: &str, times: usize) -> Result<()> {
    let mut client = server.client(DATABASE).await?;
    for _ in 0..times {
        client.execute(AssertSqlSafe(format!("SET enable_seqscan = off; {sql}"))).await?;
    }
    finish(client).await
}

/// Reads of an index, by the server itself, once they are at least so many.
async fn counted_reads(admin: &mut PgConnection, index: &str, at_least: i64) -> Result<i64> {
    until("index reads", async || {
        let sql = "SELECT idx_scan FROM pg_stat_user_indexes WHERE indexrelname = $1";
        let reads: i64 = sqlx::query_scalar(sql).bind(index).fetch_one(&mut *admin).await?;
        Ok((reads >= at_least).then_some(reads))
    })
    .await
}

fn only<K: Clone, C: Clone>(difference: &Difference<K, C>) -> Result<Grown<K, C>> {
    match difference.rows.as_slice() {
        [row] => Ok(row.clone()),
        rows => anyhow::bail!("{} objects moved", rows.len()),
    }
}

pub async fn a_dropped_index_takes_its_reads_along(server: &Watched) -> Result<()> {
    let mut admin = server.cluster.connect(DATABASE).await?;
    admin.execute("CREATE INDEX deck_short ON deck ((metres * 7)); ANALYZE deck").await?;
    read_by(server, "SELECT count(*) FROM deck WHERE metres * 7 = 14", 40).await?;
    counted_reads(&mut admin, "deck_short", 40).await?;
    let mut source = server.source().await?;
    let before: Snapshot<u32, TableCounters> = source.read::<TableCounters>().await?.unwrap();
    let inserted = before.rows[0].1.inserted_rows;
    admin.execute("DROP INDEX deck_short").await?;
    let mut client = server.client(DATABASE).await?;
    client.execute("INSERT INTO deck VALUES (70001, 7), (70002, 7), (70003, 7)").await?;
    finish(client).await?;
    let after = until("the rows are counted", async || {
        let tables = source.read::<TableCounters>().await?.unwrap();
        Ok((tables.rows[0].1.inserted_rows == inserted + 3).then_some(tables))
    })
    .await?;
    assert!(after.rows[0].1.index_reads < before.rows[0].1.index_reads, "as the server says");
    let row = only(&between(&before, &after, 600.0)?)?;
    assert_eq!((row.by.inserted_rows, row.by.index_reads, row.by.index_read_rows), (3, 0, 0));
    assert!(row.by.full_reads < 5 && row.lower_bound, "not the whole history: {row:?}");
    Ok(())
}

pub async fn an_index_built_anew_counts_once(server: &Watched) -> Result<()> {
    let mut admin = server.cluster.connect(DATABASE).await?;
    let by_metres = "SELECT count(*) FROM deck WHERE metres = 11";
    read_by(server, by_metres, 30).await?;
    let known = counted_reads(&mut admin, "deck_metres", 30).await?;
    let mut source = server.source().await?;
    let (mut indexes, mut tables) =
        (source.read::<IndexCounters>().await?.unwrap(), source.read::<TableCounters>().await?.unwrap());
    let (mut index_reads, mut table_reads) = (0, 0);
    let mut look = async |source: &mut PostgresSource| -> Result<(i64, i64)> {
        let (later_indexes, later_tables) =
            (source.read::<IndexCounters>().await?.unwrap(), source.read::<TableCounters>().await?.unwrap());
        let difference: Difference<u32, IndexCounters> = between(&indexes, &later_indexes, 600.0)?;
        index_reads += difference.rows.iter().map(|row| row.by.reads).sum::<i64>();
        let difference = between(&tables, &later_tables, 600.0)?;
        table_reads += difference.rows.iter().map(|row| row.by.index_reads).sum::<i64>();
        (indexes, tables) = (followed(&indexes, later_indexes), followed(&tables, later_tables));
        Ok((index_reads, table_reads))
    };
    // Seen as it stands between its steps, too: an open transaction holds it up before the old one goes.
    let mut holder = server.client(DATABASE).await?;
    holder.execute("BEGIN; SELECT 1 FROM deck WHERE deck_id = 3").await?;
    let mut builder = server.cluster.connect(DATABASE).await?;
    let building = tokio::spawn(async move {
        builder.execute("REINDEX INDEX CONCURRENTLY deck_metres").await?;
        finish(builder).await
    });
    until("it waits", async || {
        look(&mut source).await?;
        let sql =
            "SELECT EXISTS (SELECT FROM pg_stat_activity WHERE query LIKE 'REINDEX%' AND wait_event_type = 'Lock')";
        let waits: bool = sqlx::query_scalar(sql).fetch_one(&mut admin).await?;
        Ok(waits.then_some(()))
    })
    .await?;
    holder.execute("COMMIT").await?;
    finish(holder).await?;
    building.await??;
    look(&mut source).await?;
    read_by(server, by_metres, 25).await?;
    // Whether they took the counts over at once or late: all of the old and the new.
    counted_reads(&mut admin, "deck_metres", known + 25).await?;
    // One read by the holder was of the table's other index.
    let (index_reads, table_reads) = look(&mut source).await?;
    assert_eq!((index_reads, table_reads), (26, 26), "and not the {known} before");
    Ok(())
}

type Statements = Snapshot<StatementKey, StatementCounters>;

async fn statements(source: &mut PostgresSource) -> Result<(Statements, Vec<(StatementKey, String)>)> {
    let reading = source.counters(Figures::Statements).await?.context("they are counted")?;
    Ok((
        reading.of::<StatementCounters>().unwrap().clone(),
        reading.texts.into_iter().map(|text| (text.key, text.text)).collect(),
    ))
}

pub async fn statements_of_functions_are_told_apart(server: &Watched) -> Result<()> {
    let mut admin = server.cluster.connect(DATABASE).await?;
    // The server counts a hundred statements, and there shall be room for these two for as long as they are looked at.
    admin.execute("SELECT pg_stat_statements_reset()").await?;
    admin
        .execute(
            "CREATE FUNCTION longest() RETURNS int LANGUAGE plpgsql AS
             $$ BEGIN RETURN (SELECT max(metres) AS longest_of_all FROM deck); END $$",
        )
        .await?;
    let mut source = server.source().await?;
    let (before, _) = statements(&mut source).await?;
    let nested_before = source.read::<NestedCounters>().await?;
    let mut client = server.client(DATABASE).await?;
    for _ in 0..6 {
        client.execute("SELECT longest()").await?;
    }
    finish(client).await?;
    let (after, texts) = statements(&mut source).await?;
    let difference = between(&before, &after, 600.0)?;
    let calls = |part: &str| -> Result<(i64, bool)> {
        let (key, _) = texts.iter().find(|(_, text)| text.contains(part)).context("its text is told")?;
        let row = difference.rows.iter().find(|row| row.key == *key).context("it ran")?;
        Ok((row.by.calls, key.top_level))
    };
    assert_eq!(calls("longest()")?, (6, true));
    // Version 13 cannot tell, and says so.
    assert_eq!(calls("longest_of_all")?, (6, server.version < 14));
    // What the function ran is read by itself as well, to the unit.
    let (Some(nested_before), Some(nested_after)) = (nested_before, source.read::<NestedCounters>().await?) else {
        assert!(server.version < 14, "it is read");
        return Ok(());
    };
    let (key, _) = texts.iter().find(|(_, text)| text.contains("longest_of_all")).context("its text is told")?;
    let difference = between(&nested_before, &nested_after, 600.0)?;
    let row = difference.rows.iter().find(|row| StatementKey::from(row.key) == *key).context("it ran")?;
    let sql = "SELECT calls, round(total_exec_time * 1000)::bigint, rows, shared_blks_hit FROM pg_stat_statements
               WHERE queryid = $1 AND NOT toplevel";
    let told: (i64, i64, i64, i64) = sqlx::query_as(sql).bind(key.query_id).fetch_one(&mut admin).await?;
    assert_eq!((row.by.calls, row.by.exec_us, row.by.rows, row.by.hit_pages), told);
    let (of_client, _) = texts.iter().find(|(_, text)| text.contains("longest()")).context("its text is told")?;
    assert!(
        difference.rows.iter().all(|row| StatementKey::from(row.key) != *of_client),
        "those of clients are not among them"
    );
    Ok(())
}

pub async fn a_statement_that_came_back_is_noticed(server: &Watched) -> Result<()> {
    let mut client = server.client(DATABASE).await?;
    let seen = "SELECT metres AS seen_again, -deck_id FROM deck LIMIT 1";
    client.execute(seen).await?;
    let mut source = server.source().await?;
    let mut all_texts = Vec::new();
    let (before, texts) = statements(&mut source).await?;
    all_texts.extend(texts);
    // Others, run often, throw it out.
    let mut others = server.client(DATABASE).await?;
    let mut admin = server.cluster.connect(DATABASE).await?;
    until("it is thrown out", async || {
        for columns in 1..120 {
            for _ in 0..4 {
                let other = format!("SELECT {} FROM deck LIMIT 1", vec!["metres"; columns].join(", "));
                sqlx::query(AssertSqlSafe(other)).persistent(false).execute(&mut others).await?;
            }
        }
        let sql = "SELECT NOT EXISTS (SELECT FROM pg_stat_statements WHERE query LIKE '%seen_again%' AND query NOT LIKE '%LIKE%')";
        let is_out: bool = sqlx::query_scalar(sql).fetch_one(&mut admin).await?;
        Ok(is_out.then_some(()))
    })
    .await?;
    for _ in 0..9 {
        client.execute(seen).await?;
    }
    let (after, texts) = statements(&mut source).await?;
    all_texts.extend(texts);
    let (key, _) = all_texts.iter().find(|(_, text)| text.contains("seen_again")).context("its text is told")?;
    let difference = between(&before, &after, 600.0)?;
    let row = difference.rows.iter().find(|row| row.key == *key).context("it ran")?;
    assert!(row.lower_bound && row.by.calls <= 9, "{row:?}");
    if server.version >= 17 {
        assert_eq!(row.by.calls, 9, "since when it is counted is told");
    }
    finish(client).await?;
    finish(others).await
}

pub async fn a_crash_ends_differences(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let started = source.read::<DatabaseCounters>().await?.unwrap().server_started_at;
    let (tables, indexes) =
        (source.read::<TableCounters>().await?.unwrap(), source.read::<IndexCounters>().await?.unwrap());
    let (databases, checkpoints) =
        (source.read::<DatabaseCounters>().await?.unwrap(), source.read::<CheckpointCounters>().await?.unwrap());
    let (before, _) = statements(&mut source).await?;
    let replication = source.measures(Figures::Replication).await?.unwrap();
    let mut victim = server.client(DATABASE).await?;
    let process: i32 = sqlx::query_scalar("SELECT pg_backend_pid()").fetch_one(&mut victim).await?;
    ensure!(Command::new("kill").args(["-KILL", &process.to_string()]).status()?.success());
    let mut source = until("it is there again", async || match PostgresSource::connect(&server.address()).await {
        Ok(mut source) => Ok(source.now().await.is_ok().then_some(source)),
        Err(_) => Ok(None),
    })
    .await?;
    assert_eq!(
        source.read::<DatabaseCounters>().await?.unwrap().server_started_at,
        started,
        "the server itself went on"
    );
    let crashed = Some(NoDifference::Crashed);
    assert_eq!(between(&tables, &source.read::<TableCounters>().await?.unwrap(), 600.0).err(), crashed);
    assert_eq!(between(&indexes, &source.read::<IndexCounters>().await?.unwrap(), 600.0).err(), crashed);
    assert_eq!(between(&databases, &source.read::<DatabaseCounters>().await?.unwrap(), 600.0).err(), crashed);
    assert_eq!(between(&checkpoints, &source.read::<CheckpointCounters>().await?.unwrap(), 600.0).err(), crashed);
    assert_eq!(between(&before, &statements(&mut source).await?.0, 600.0).err(), crashed);
    assert_eq!(rates(&replication.counted, &source.measures(Figures::Replication).await?.unwrap().counted, 600.0), []);
    // And from there on there are differences again.
    let tables = source.read::<TableCounters>().await?.unwrap();
    between(&tables, &source.read::<TableCounters>().await?.unwrap(), 600.0)?;
    Ok(())
}
