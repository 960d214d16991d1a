//! What is read, kind by kind.

use anyhow::{Context, Result, ensure};
use hurnix_core::WaitKind;
use hurnix_core::readings::counters::CheckpointCounters;
use hurnix_core::readings::counters::DatabaseCounters;
use hurnix_core::readings::counters::IndexCounters;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::counters::TableCounters;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::Metric;
use hurnix_source::ReadCounters;
use hurnix_source::{Planned, Source};
use sqlx::{Connection, Executor, Row};

use super::servers::{ACCOUNT, DATABASE, Watched, finish, until};

pub async fn every_kind_is_read(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    assert!(source.version().starts_with(&server.version.to_string()));
    assert!(source.now().await?.0 > 0);
    source.activity().await?;
    assert!(
        source
            .counters(Figures::Statements)
            .await?
            .context("it is counted")?
            .of::<StatementCounters>()
            .unwrap()
            .rows
            .len()
            > 3
    );
    assert!(source.read::<DatabaseCounters>().await?.unwrap().rows.len() >= 4);
    assert_eq!(source.read::<CheckpointCounters>().await?.unwrap().rows.len(), 1);
    assert_eq!(source.read::<TableCounters>().await?.unwrap().rows.len(), 1);
    assert_eq!(source.read::<IndexCounters>().await?.unwrap().rows.len(), 2);
    let catalog = source.catalog().await?;
    let deck = catalog.table(Some("public"), "deck").context("it is there")?;
    assert_eq!((deck.rows, deck.indexes.len()), (Some(20_000.0), 2));
    assert!(deck.column("metres").context("it has one")?.statistics.is_some(), "the planner's statistics are read");
    let inventory = source.inventory().await?;
    assert!(inventory.databases.iter().any(|database| database.name == DATABASE));
    assert!(inventory.access_rules.is_some_and(|rules| !rules.is_empty()));
    assert!(inventory.system_identifier.is_some());
    assert!(source.settings().await?.len() > 200);
    let host = source.measures(Figures::Host).await?.context("the script lets it be read")?;
    assert!(host.measures.iter().any(|measure| measure.metric == Metric::MemoryTotal));
    let of_server = source.measures(Figures::Processes).await?.context("the script lets it be read")?;
    let [((Metric::CpuOfServer, _), used)] = of_server.counted.rows.as_slice() else { anyhow::bail!("{of_server:?}") };
    assert!(used.counted > 0, "making this server took some time: {used:?}");
    let busy = source.processes().await?.host.context("the host's processes are seen")?;
    assert!(busy.of_server.len() > 3 && busy.of_server.iter().all(|one| one.name == "postgres"), "{busy:?}");
    assert!(busy.others.iter().any(|one| one.process == std::process::id() as i32), "this test runs there too");
    let mut standing = source.measures(Figures::Standing).await?.unwrap();
    let has_connected = |reading: &hurnix_source::MeasureReading| {
        reading.measures.iter().any(|measure| measure.metric == Metric::ConnectTime)
    };
    // The first connection is timed beside the first reading, and told with a later one.
    for _ in 0..500 {
        if has_connected(&standing) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        standing = source.measures(Figures::Standing).await?.unwrap();
    }
    let metrics = |reading: &hurnix_source::MeasureReading, wanted: &[Metric]| -> Vec<Metric> {
        let told = |metric: &&Metric| !reading.measures.iter().any(|measure| measure.metric == **metric);
        wanted.iter().filter(told).copied().collect()
    };
    let wanted = [Metric::ConnectionsAllowed, Metric::PreparedTransactions, Metric::ConnectTime];
    assert_eq!(metrics(&standing, &wanted), []);
    let replication = source.measures(Figures::Replication).await?.unwrap();
    assert_eq!(metrics(&replication, &[Metric::Recovering, Metric::ReplicasConnected]), []);
    let space = source.measures(Figures::Space).await?.unwrap();
    let wanted =
        [Metric::DatabaseSize, Metric::TransactionAge, Metric::MultixactAge, Metric::TableSize, Metric::LiveRows];
    assert_eq!(metrics(&space, &wanted), []);
    Ok(())
}

pub async fn own_statements_are_left_out(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    // A plan is made within a transaction, which the driver begins with a statement of its own.
    source.plan("SELECT metres FROM deck WHERE deck_id = $1").await?;
    source.measures(Figures::Space).await?.unwrap();
    let reading = source.counters(Figures::Statements).await?.context("they are counted")?;
    let told: Vec<&str> = reading
        .texts
        .iter()
        .filter(|text| text.account == ACCOUNT || text.text.contains("hurnix */"))
        .map(|text| text.text.as_str())
        .collect();
    assert_eq!(told, Vec::<&str>::new());
    let mut admin = server.cluster.connect(DATABASE).await?;
    let sql = "SELECT count(*), count(*) FILTER (WHERE query NOT LIKE '%/* hurnix */%')
               FROM pg_stat_statements JOIN pg_roles r ON r.oid = userid WHERE rolname = $1";
    let counted = sqlx::query(sql).bind(ACCOUNT).fetch_one(&mut admin).await?;
    let (all, unmarked): (i64, i64) = (counted.get(0), counted.get(1));
    assert!(all > 10, "the server has counted them");
    // Those of the driver, and what the narrow functions run inside.
    assert!(unmarked > 0 && unmarked < all / 2, "{unmarked} of {all}");
    // As soon as somebody else uses the account, too, only the mark tells.
    let mut guest = sqlx::PgConnection::connect_with(
        &sqlx::postgres::PgConnectOptions::new()
            .host("127.0.0.1")
            .port(server.cluster.port())
            .username(ACCOUNT)
            .password(&server.address().password)
            .database(DATABASE)
            .application_name("somebody else"),
    )
    .await?;
    guest.execute("SELECT max(metres) AS highest FROM deck").await?;
    source.look_again(true).await?;
    let reading = source.counters(Figures::Statements).await?.context("they are counted")?;
    assert!(reading.texts.iter().any(|text| text.text.contains("AS highest")), "it is told");
    assert!(!reading.texts.iter().any(|text| text.text.contains("hurnix */")));
    finish(guest).await
}

pub async fn sessions_are_seen_as_they_are(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut holder = server.client(DATABASE).await?;
    let mut transaction = holder.begin().await?;
    transaction.execute("UPDATE deck SET metres = metres WHERE deck_id = 1").await?;
    let mut waiter = server.client(DATABASE).await?;
    let waiting = tokio::spawn(async move {
        waiter.execute("UPDATE deck SET metres = metres WHERE deck_id = 1").await.map(|_| waiter)
    });
    let (waits, holds) = until("somebody waits", async || {
        let sample = source.activity().await?;
        let waits = sample.active.iter().find(|session| session.wait_kind == Some(WaitKind::Lock)).cloned();
        Ok(waits.and_then(|waits| {
            let holds = sample.active.iter().find(|session| waits.blocked_by.contains(&session.process)).cloned()?;
            Some((waits, holds))
        }))
    })
    .await?;
    assert_eq!((waits.account.as_str(), waits.database.as_str()), ("crew", DATABASE));
    assert_eq!(waits.event.as_deref(), Some("Lock:transactionid"));
    assert_eq!(waits.query_id.is_some(), server.version >= 14, "{waits:?}");
    let standing = source.measures(Figures::Standing).await?.unwrap();
    assert!(standing.measures.iter().any(|measure| measure.metric == Metric::LocksAwaited && measure.value == 1.0));
    assert_eq!((holds.wait_kind, holds.transaction_started_at.is_some()), (None, true));
    transaction.rollback().await?;
    finish(waiting.await??).await?;
    finish(holder).await
}

pub async fn progress_moves_while_pages_are_scanned(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut admin = server.cluster.connect(DATABASE).await?;
    let process: i32 = admin.fetch_one("SELECT pg_backend_pid()").await?.get(0);
    // One page every ten milliseconds: nothing is vacuumed before all of them are scanned.
    admin.execute("SET vacuum_cost_delay = '10ms'; SET vacuum_cost_limit = 1").await?;
    let vacuum = tokio::spawn(async move { admin.execute("VACUUM (FREEZE) deck").await.is_err() });
    let seen = until("it moves", async || {
        let standing = source.measures(Figures::Standing).await?.unwrap();
        let progress = standing.measures.into_iter().find(|measure| measure.metric == Metric::Progress);
        Ok(progress.filter(|measure| measure.value > 0.05))
    })
    .await?;
    assert_eq!(seen.object, "vacuum deck");
    assert!(seen.value < 1.0, "{seen:?}");
    let mut other = server.cluster.connect("postgres").await?;
    sqlx::query("SELECT pg_cancel_backend($1)").bind(process).execute(&mut other).await?;
    ensure!(vacuum.await?, "it was cancelled while it scanned");
    Ok(())
}

pub async fn plans_are_made(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    for (statement, expected) in [
        ("SELECT metres FROM deck WHERE deck_id = $1", "Index Scan using deck_pkey"),
        ("/* svc=gate */ SELECT count(*) FROM deck", "Aggregate"),
        ("-- the gate\nSELECT count(*) FROM deck", "Aggregate"),
        ("(SELECT deck_id FROM deck WHERE metres = $1) UNION (SELECT 1)", "deck"),
    ] {
        match source.plan(statement).await? {
            Planned::Made { text, .. } => assert!(text.contains(expected), "{statement}: {text}"),
            Planned::Absent(reason) => panic!("{statement}: {reason}"),
        }
    }
    for statement in ["SELECT 1; DROP TABLE deck", "(DROP TABLE deck)", "/* x */ DROP TABLE deck", "garbage"] {
        assert!(matches!(source.plan(statement).await?, Planned::Absent(_)), "{statement}");
    }
    assert_eq!(
        source.read::<TableCounters>().await?.unwrap().rows.len(),
        1,
        "nothing was run, and the connection is good"
    );
    Ok(())
}

/// Versions 17 and later list their wait events.
pub async fn wait_events_have_their_kind(server: &Watched) -> Result<()> {
    if server.version < 17 {
        return Ok(());
    }
    let mut admin = server.cluster.connect("postgres").await?;
    let rows =
        admin.fetch_all("SELECT type, name FROM pg_wait_events WHERE type IN ('IO', 'LWLock', 'IPC', 'Lock')").await?;
    assert!(rows.len() > 150, "{}", rows.len());
    let kind = |row: &sqlx::postgres::PgRow| {
        hurnix_source::postgres::wait_kind(Some(row.get::<&str, _>("type")), Some(row.get::<&str, _>("name")))
    };
    for row in rows.iter().filter(|row| row.get::<&str, _>("type") == "IO") {
        let name: &str = row.get("name");
        let expected = match name {
            _ if name.starts_with("Wal") => WaitKind::LogWrite,
            _ if name.starts_with("Buffile") => WaitKind::TempSpace,
            _ if name.ends_with("Read") || name.ends_with("Prefetch") || name.starts_with("Aio") => {
                WaitKind::StorageRead
            }
            _ => WaitKind::StorageWrite,
        };
        assert_eq!(kind(row), expected, "{name}");
    }
    assert!(rows.iter().filter(|row| row.get::<&str, _>("type") == "Lock").all(|row| kind(row) == WaitKind::Lock));
    let asynchronous = rows.iter().filter(|row| row.get::<&str, _>("name").starts_with("Aio")).count();
    assert_eq!(asynchronous > 0, server.version >= 18);
    Ok(())
}
