//! Figures that follow the server's own rules.

use std::collections::BTreeMap;

use anyhow::{Context, Result};
use hurnix_core::Named;
use hurnix_core::readings::activity::PREPARED;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::Metric;
use hurnix_source::postgres::PostgresSource;
use hurnix_source::{MeasureReading, Source};
use sqlx::{Connection, Executor};

use super::servers::{DATABASE, Watched, finish, until};

fn by_object(reading: &MeasureReading, metric: Metric) -> BTreeMap<String, f64> {
    let of = reading.measures.iter().filter(|measure| measure.metric == metric);
    of.map(|measure| (measure.object.clone(), measure.value)).collect()
}

async fn ages(source: &mut PostgresSource) -> Result<BTreeMap<String, f64>> {
    Ok(by_object(&source.measures(Figures::Standing).await?.unwrap(), Metric::XminAge))
}

pub async fn what_keeps_rows_is_found_as_the_server_does(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut admin = server.cluster.connect(DATABASE).await?;
    let session = format!("session of crew in {DATABASE}");

    // Open for as long as it likes: without a snapshot it keeps nothing.
    let mut idle = server.client(DATABASE).await?;
    let mut open = idle.begin().await?;
    open.execute("SELECT 1").await?;
    assert_eq!(ages(&mut source).await?.get(&session), None);
    open.rollback().await?;
    let mut snapshot = server.client(DATABASE).await?;
    snapshot.execute("BEGIN ISOLATION LEVEL REPEATABLE READ; SELECT 1").await?;
    let mut writer = server.client("quay").await?;
    writer.execute("BEGIN; CREATE TEMP TABLE berth_list (n int)").await?;
    for _ in 0..25 {
        admin.execute("UPDATE deck SET metres = metres WHERE deck_id = 7").await?;
    }
    let kept = ages(&mut source).await?;
    assert!(kept.get(&session).is_some_and(|age| (25.0..60.0).contains(age)), "{kept:?}");
    assert!(kept.contains_key("session of crew in quay"), "one that has written, too: {kept:?}");
    // Just so the server: of the dead rows none can go yet.
    admin.execute("VACUUM deck").await?;
    snapshot.execute("ROLLBACK").await?;
    writer.execute("ROLLBACK").await?;
    assert_eq!(ages(&mut source).await?.get(&session), None);

    // First the slot: to make one waits for whoever has begun before.
    admin.execute("SELECT pg_create_logical_replication_slot('lake', 'pgoutput')").await?;
    admin.execute("BEGIN; UPDATE deck SET metres = metres WHERE deck_id = 8; PREPARE TRANSACTION 'transfer'").await?;
    let kept = ages(&mut source).await?;
    assert!(kept.contains_key(&format!("prepared transaction transfer in {DATABASE}")), "{kept:?}");
    assert!(kept.contains_key("catalog of slot lake") && !kept.contains_key("slot lake"), "{kept:?}");
    admin.execute("ROLLBACK PREPARED 'transfer'").await?;
    admin.execute("SELECT pg_drop_replication_slot('lake')").await?;
    let kept = ages(&mut source).await?;
    assert!(kept.is_empty(), "{kept:?}");

    // TOAST tables and multixacts are counted with their table.
    let space = source.measures(Figures::Space).await?.unwrap();
    for metric in [Metric::TableAge, Metric::TableMultixactAge] {
        assert!(by_object(&space, metric).contains_key("public.deck"), "{}", metric.name());
    }
    for client in [idle, snapshot, writer] {
        finish(client).await?;
    }
    Ok(())
}

pub async fn prepared_transactions_hold_locks(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut client = server.client(DATABASE).await?;
    client
        .execute("BEGIN; UPDATE deck SET metres = metres WHERE deck_id = 9; PREPARE TRANSACTION 'night transfer'")
        .await?;
    // Another one, that nobody waits for.
    client.execute("BEGIN; UPDATE deck SET metres = metres WHERE deck_id = 10; PREPARE TRANSACTION 'idle'").await?;
    let mut waiter = server.client(DATABASE).await?;
    let waiting =
        tokio::spawn(
            async move { waiter.execute("UPDATE deck SET metres = 1 WHERE deck_id = 9").await.map(|_| waiter) },
        );
    let holder = until("somebody waits", async || {
        let sample = source.activity().await?;
        let waits = sample.active.iter().any(|session| session.blocked_by == [PREPARED]);
        Ok(sample.active.into_iter().find(|session| session.process == PREPARED).filter(|_| waits))
    })
    .await?;
    assert_eq!((holder.account.as_str(), holder.program.as_str()), ("crew", "prepared transaction night transfer"));
    assert!(holder.wait_kind.is_none() && holder.transaction_started_at.is_some());
    client.execute("ROLLBACK PREPARED 'night transfer'").await?;
    client.execute("ROLLBACK PREPARED 'idle'").await?;
    finish(waiting.await??).await?;
    assert!(source.activity().await?.active.iter().all(|session| session.process != PREPARED));
    finish(client).await
}

pub async fn sequences_are_as_narrow_as_their_columns(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut admin = server.cluster.connect(DATABASE).await?;
    for sql in [
        // A sequence of bigint that feeds an int, as its own column; one that feeds a smallint by default only.
        "CREATE SCHEMA quay",
        "CREATE TABLE quay.ticket (ticket_id int, other bigint)",
        "CREATE SEQUENCE quay.ticket_number OWNED BY quay.ticket.ticket_id",
        "SELECT setval('quay.ticket_number', 1932735283)",
        "CREATE SEQUENCE quay.pier_number",
        "CREATE TABLE quay.pier (a bigint DEFAULT nextval('quay.pier_number'), b smallint DEFAULT nextval('quay.pier_number'))",
        "SELECT setval('quay.pier_number', 16384)",
        "CREATE TABLE quay.wide (wide_id bigint GENERATED ALWAYS AS IDENTITY)",
        "SELECT setval('quay.wide_wide_id_seq', 1932735283)",
        "CREATE SEQUENCE quay.down INCREMENT -1 MINVALUE -100 MAXVALUE 100 START 100",
        "SELECT setval('quay.down', 0)",
    ] {
        admin.execute(sql).await?;
    }
    let grant = format!(
        "GRANT USAGE ON SCHEMA quay TO \"{0}\"; GRANT SELECT ON ALL SEQUENCES IN SCHEMA quay TO \"{0}\"",
        super::servers::ACCOUNT
    );
    admin.execute(sqlx::AssertSqlSafe(grant)).await?;
    let used = by_object(&source.measures(Figures::Space).await?.unwrap(), Metric::SequenceUsed);
    let of = |name: &str| used.get(name).copied().with_context(|| format!("{name} in {used:?}"));
    assert!((of("quay.ticket_number")? - 0.9).abs() < 1e-6);
    assert!((of("quay.pier_number")? - 0.5).abs() < 1e-4);
    assert!(of("quay.wide_wide_id_seq")? < 1e-6);
    assert!((of("quay.down")? - 0.5).abs() < 1e-9);
    admin.execute("DROP SCHEMA quay CASCADE").await?;
    Ok(())
}

pub async fn shared_row_locks_are_counted(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut admin = server.cluster.connect(DATABASE).await?;
    let before = source.measures(Figures::Multixacts).await?.context("they are counted")?;
    let mut others = [server.client(DATABASE).await?, server.client(DATABASE).await?];
    for n in 1..=3 {
        for other in &mut others {
            other.execute("BEGIN").await?;
            sqlx::query("SELECT FROM deck WHERE deck_id = $1 FOR SHARE").bind(n).execute(other).await?;
        }
        for other in &mut others {
            other.execute("COMMIT").await?;
        }
    }
    let after = source.measures(Figures::Multixacts).await?.context("they are counted")?;
    let made = |reading: &MeasureReading| {
        reading.counted.rows.iter().find(|row| row.0.0 == Metric::MultixactsMade).map(|row| row.1.counted)
    };
    assert_eq!(made(&after).zip(made(&before)).map(|(now, then)| now - then), Some(3));
    let oldest: f64 =
        sqlx::query_scalar("SELECT max(mxid_age(datminmxid))::float8 FROM pg_database").fetch_one(&mut admin).await?;
    let told = after.measures.iter().find(|measure| measure.metric == Metric::OldestMultixact);
    assert_eq!(told.map(|measure| measure.value), Some(oldest));
    for metric in [Metric::MultixactPagesMade, Metric::MultixactPagesRead] {
        let mut of: Vec<&str> =
            after.counted.rows.iter().filter(|row| row.0.0 == metric).map(|row| row.0.1.as_str()).collect();
        of.sort();
        assert_eq!(of, ["members", "offsets"]);
    }
    Ok(())
}
