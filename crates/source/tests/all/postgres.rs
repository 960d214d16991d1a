//! The PostgreSQL source against a real server that each test starts for itself.

use std::time::{Duration, Instant};

use crate::common::{PASSWORD, address, watched, watched_with};
use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::WaitKind;
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_core::readings::activity::{AwaitedLock, Session};
use hurnix_core::readings::blocking::blocked_behind;
use hurnix_core::readings::catalog::{ForeignKey, IndexKey};
use hurnix_core::readings::counters::CheckpointCounters;
use hurnix_core::readings::counters::DatabaseCounters;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::difference::between;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::measure_rates::rates;
use hurnix_core::readings::metric::Metric;
use hurnix_core::readings::unasked::MOST_ASKED;
use hurnix_source::ReadCounters;
use hurnix_source::postgres::{Address, PostgresSource};
use hurnix_source::{ConnectProblem, MeasureReading, Obstacle, Planned, Source};
use sqlx::{Connection, Executor, Row};
use tokio::net::TcpListener;

async fn obstacle(address: &Address) -> ConnectProblem {
    PostgresSource::connect(address).await.map(|_| ()).expect_err("there is an obstacle")
}

#[tokio::test]
async fn what_stands_in_the_way_is_named_with_its_remedy() -> Result<()> {
    let cluster = watched().await?;
    let good = address(&cluster);
    PostgresSource::connect(&good).await?.close().await;

    let wrong_password = obstacle(&Address { password: "no".into(), ..good.clone() }).await;
    assert_eq!(wrong_password.obstacle, Obstacle::WrongPassword);
    assert!(wrong_password.remedy.contains("ALTER ROLE hurnix_watch PASSWORD"), "{wrong_password:?}");
    assert!(!format!("{:?}", good).contains(PASSWORD), "an address never shows its password");

    let no_database = obstacle(&Address { database: "nowhere".into(), ..good.clone() }).await;
    assert_eq!(no_database.obstacle, Obstacle::NoSuchDatabase);
    let no_tls = obstacle(&Address { tls: TlsMode::Require, ..good.clone() }).await;
    assert_eq!(no_tls.obstacle, Obstacle::Tls);
    let no_host = obstacle(&Address { host: "no-such-host.invalid".into(), ..good.clone() }).await;
    assert_eq!(no_host.obstacle, Obstacle::UnknownHost, "{no_host:?}");

    let mut admin = cluster.connect("postgres").await?;
    admin.execute("REVOKE pg_monitor FROM hurnix_watch").await?;
    let no_privilege = obstacle(&good).await;
    assert_eq!(no_privilege.obstacle, Obstacle::PrivilegeMissing);
    // The remedy, run as it is printed, removes the obstacle.
    admin.execute(sqlx::AssertSqlSafe(no_privilege.remedy)).await?;
    PostgresSource::connect(&good).await?.close().await;

    cluster.crash();
    assert_eq!(obstacle(&good).await.obstacle, Obstacle::PortClosed);
    cluster.launch()?;
    PostgresSource::connect(&good).await?.close().await;
    Ok(())
}

#[tokio::test]
async fn something_that_is_no_server_or_never_answers_is_told_apart() -> Result<()> {
    let somewhere = |port| Address {
        host: "127.0.0.1".into(),
        port,
        database: "d".into(),
        account: "a".into(),
        password: String::new(),
        tls: TlsMode::Off,
        tls_ca: None,
        allows_plain_password: false,
    };
    let silent = TcpListener::bind("127.0.0.1:0").await?;
    let never = obstacle(&somewhere(silent.local_addr()?.port())).await;
    assert_eq!(never.obstacle, Obstacle::TimedOut);

    let garbage = TcpListener::bind("127.0.0.1:0").await?;
    let port = garbage.local_addr()?.port();
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = garbage.accept().await {
            let _ = tokio::io::AsyncWriteExt::write_all(&mut stream, b"220 harbour mail\r\n").await;
            tokio::time::sleep(Duration::from_secs(20)).await;
        }
    });
    let other = obstacle(&somewhere(port)).await;
    assert!(matches!(other.obstacle, Obstacle::NotSupported | Obstacle::TimedOut), "{other:?}");
    Ok(())
}

#[tokio::test]
async fn differences_of_statements_are_the_servers_own_to_the_unit() -> Result<()> {
    let cluster = watched().await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let mut client = cluster.connect("postgres").await?;
    client.execute("CREATE TABLE deck AS SELECT n AS deck_id FROM generate_series(1, 1000) n").await?;
    sqlx::query("SELECT deck_id FROM deck WHERE deck_id <= $1").bind(7).fetch_all(&mut client).await?;

    let own = "SELECT calls, rows, round(total_exec_time * 1000)::bigint, shared_blks_hit FROM pg_stat_statements WHERE query LIKE 'SELECT deck_id%'";
    let before = client.fetch_one(own).await?;
    let first = source.counters(Figures::Statements).await?.expect("the extension is there");
    for limit in 1..=23 {
        let rows =
            sqlx::query("SELECT deck_id FROM deck WHERE deck_id <= $1").bind(limit).fetch_all(&mut client).await?;
        assert_eq!(rows.len(), limit as usize);
    }
    let second = source.counters(Figures::Statements).await?.expect("the extension is there");
    let after = client.fetch_one(own).await?;

    let text = first.texts.iter().find(|text| text.text.starts_with("SELECT deck_id")).expect("its text came with it");
    let difference =
        between(first.of::<StatementCounters>().unwrap(), second.of::<StatementCounters>().unwrap(), 60.0)?;
    let grown = difference.rows.iter().find(|row| row.key == text.key).expect("it ran");
    let expected: Vec<i64> = (0..4).map(|figure| after.get::<i64, _>(figure) - before.get::<i64, _>(figure)).collect();
    assert_eq!([grown.by.calls, grown.by.rows, grown.by.exec_us, grown.by.hit_pages], expected[..]);
    assert_eq!((grown.by.calls, grown.by.rows), (23, (1..=23).sum()));
    assert!(!grown.lower_bound);

    // Hurnix's own statements are in the server's counters, and nowhere in what was read.
    let tagged: i64 = client
        .fetch_one(
            "SELECT count(*) FROM pg_stat_statements WHERE query LIKE '%/* hurnix */%' AND query NOT LIKE '%LIKE%'",
        )
        .await?
        .get(0);
    assert!(tagged > 3);
    assert!(second.texts.iter().chain(&first.texts).all(|text| !text.text.starts_with("/* hurnix */")));
    Ok(())
}

#[tokio::test]
async fn a_reset_and_a_restart_leave_no_difference() -> Result<()> {
    let cluster = watched().await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let first = source.read::<StatementCounters>().await?.expect("the extension is there");
    let databases = source.read::<DatabaseCounters>().await?.unwrap();
    cluster.connect("postgres").await?.execute("SELECT pg_stat_statements_reset()").await?;
    let second = source.read::<StatementCounters>().await?.expect("the extension is there");
    assert_eq!(
        between(&first, &second, 60.0).map(|_| ()).map_err(|e| e.to_string()[..5].to_owned()),
        Err("reset".into())
    );
    assert!(between(&databases, &source.read::<DatabaseCounters>().await?.unwrap(), 60.0).is_ok());

    cluster.crash();
    assert!(source.activity().await.is_err());
    cluster.launch()?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let third = source.read::<DatabaseCounters>().await?.unwrap();
    assert!(between(&databases, &third, 60.0).unwrap_err().to_string().starts_with("restarted"));
    Ok(())
}

#[tokio::test]
async fn who_waits_for_a_lock_and_for_whom_is_seen_and_hurnix_is_not() -> Result<()> {
    let cluster = watched().await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let quiet = source.activity().await?;
    assert_eq!((quiet.sessions, quiet.active.len()), (0, 0));

    let mut holder = cluster.connect("postgres").await?;
    holder.execute("CREATE TABLE crossing AS SELECT 1 AS crossing_id").await?;
    let holder_process: i32 = holder.fetch_one("SELECT pg_backend_pid()").await?.get(0);
    let mut transaction = holder.begin().await?;
    transaction.execute("UPDATE crossing SET crossing_id = 2").await?;
    let mut waiter = cluster.connect("postgres").await?;
    let waiting = tokio::spawn(async move { waiter.execute("UPDATE crossing SET crossing_id = 3").await.map(|_| ()) });

    let sample = loop {
        let sample = source.activity().await?;
        if sample.active.iter().any(|session| session.wait_kind == Some(WaitKind::Lock)) {
            break sample;
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    let waits = sample.active.iter().find(|session| session.wait_kind == Some(WaitKind::Lock)).expect("somebody waits");
    assert_eq!(waits.blocked_by, [holder_process]);
    assert_eq!(waits.text, "UPDATE crossing SET crossing_id = 3");
    assert_eq!(waits.event.as_deref(), Some("Lock:transactionid"));
    let awaited = waits.awaited.clone().expect("the lock is told");
    let told = (awaited.mode.as_str(), awaited.kind.as_str(), awaited.object.as_str());
    assert_eq!(told, ("ShareLock", "transactionid", "public.crossing"), "the row's table, too");
    let holds =
        sample.active.iter().find(|session| session.process == holder_process).expect("the holder is in a transaction");
    assert_eq!(holds.wait_kind, None, "it holds a transaction open without working");
    assert_eq!(sample.sessions, 2);

    // Whoever wants the table itself waits behind both, and says which lock it wants.
    let mut altering = cluster.connect("postgres").await?;
    let alter = tokio::spawn(async move { altering.execute("ALTER TABLE crossing ADD pier int").await.map(|_| ()) });
    let behind = loop {
        let sample = source.activity().await?;
        let wanted = |session: &&Session| session.awaited.as_ref().is_some_and(|lock| lock.kind == "relation");
        if let Some(session) = sample.active.iter().find(wanted) {
            break session.clone();
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    let awaited =
        AwaitedLock { mode: "AccessExclusiveLock".into(), kind: "relation".into(), object: "public.crossing".into() };
    assert_eq!(behind.awaited, Some(awaited));
    assert_eq!(behind.blocked_by.len(), 2, "the holder, and the one who waits for it: {behind:?}");
    transaction.commit().await?;
    waiting.await??;
    alter.await??;
    Ok(())
}

#[tokio::test]
async fn however_many_wait_each_is_told_with_whom_it_waits_for() -> Result<()> {
    const WAITING: usize = MOST_ASKED + 30;
    let cluster = watched_with(&[("max_connections", "200")]).await?;
    let mut holder = cluster.connect("postgres").await?;
    holder
        .execute("CREATE TABLE crossing AS SELECT 1 AS crossing_id; CREATE TABLE pier AS SELECT 1 AS pier_id")
        .await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    holder.execute("BEGIN; UPDATE crossing SET crossing_id = 2; LOCK TABLE pier").await?;
    let process: i32 = sqlx::query_scalar("SELECT pg_backend_pid()").fetch_one(&mut holder).await?;
    let mut waiting = Vec::new();
    for number in 0..WAITING {
        let mut client = cluster.connect("postgres").await?;
        // One of them waits for another lock than all others.
        let wants = if number == WAITING / 2 { "SELECT FROM pier" } else { "UPDATE crossing SET crossing_id = 3" };
        waiting.push(tokio::spawn(async move { client.execute(wants).await.map(|_| ()) }));
    }
    let deadline = Instant::now() + Duration::from_secs(60);
    let sample = loop {
        let sample = source.activity().await?;
        if sample.active.iter().filter(|session| session.wait_kind == Some(WaitKind::Lock)).count() == WAITING {
            break sample;
        }
        assert!(Instant::now() < deadline, "not all of them wait");
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    let waits = sample.active.iter().map(|session| (session.process, session.blocked_by.as_slice()));
    assert_eq!(blocked_behind(waits).get(&process), Some(&WAITING));
    let for_pier = sample.active.iter().find(|session| session.text.contains("pier") && session.process != process);
    assert_eq!(for_pier.expect("it waits").blocked_by, [process]);
    holder.execute("ROLLBACK").await?;
    for one in waiting {
        one.await??;
    }
    Ok(())
}

#[tokio::test]
async fn the_catalog_tells_tables_columns_and_indexes_whatever_their_names() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE TABLE passage_leg AS SELECT n AS crossing_id, 'open'::text AS state, n % 7 AS deck FROM generate_series(1, 3000) n;
             CREATE INDEX leg_open ON passage_leg (crossing_id) INCLUDE (deck) WHERE state = 'open';
             CREATE TABLE crossing AS SELECT n AS crossing_id FROM generate_series(1, 3000) n;
             ALTER TABLE crossing ADD PRIMARY KEY (crossing_id);
             ALTER TABLE passage_leg ADD CONSTRAINT leg_crossing FOREIGN KEY (crossing_id) REFERENCES crossing;
             CREATE UNIQUE INDEX leg_lower ON passage_leg (lower(state), crossing_id);
             CREATE TABLE \"Läden \"\" ; DROP\n\u{202e}\" (\"der Schlüssel\" int PRIMARY KEY);
             GRANT SELECT ON passage_leg TO hurnix_watch;
             ANALYZE",
        )
        .await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let limits = &source.server().limits;
    assert!(limits.iter().any(|limit| limit.remedy.contains("GRANT SELECT ON ALL TABLES")), "{limits:?}");
    let catalog = source.catalog().await?;
    assert_eq!(catalog.database, "postgres");

    let leg = catalog.table(Some("public"), "passage_leg").expect("it is there");
    assert_eq!(leg.rows, Some(3000.0));
    let distinct = |column: &str| leg.column(column).unwrap().statistics.as_ref().unwrap().distinct_values(3000.0);
    assert_eq!((distinct("crossing_id"), distinct("deck"), distinct("state")), (3000.0, 7.0, 1.0));
    let reference = ForeignKey {
        name: "leg_crossing".into(),
        columns: vec!["crossing_id".into()],
        parent: "public.crossing".into(),
    };
    assert_eq!(leg.foreign_keys, [reference]);
    let index = |name: &str| leg.indexes.iter().find(|index| index.name == name).unwrap();
    assert_eq!(index("leg_open").condition.as_deref(), Some("state = 'open'::text"));
    assert_eq!(index("leg_open").carried, ["deck"]);
    assert_eq!(
        index("leg_lower").keys,
        [IndexKey::Expression("lower(state)".into()), IndexKey::Column("crossing_id".into())]
    );
    assert!(index("leg_lower").unique && index("leg_lower").valid);

    let odd = catalog.tables.iter().find(|table| table.name.starts_with("Läden")).expect("odd names are read too");
    assert!(odd.indexes[0].constraint);
    assert_eq!(odd.columns[0].statistics, None, "not readable, so not known");
    Ok(())
}

#[track_caller]
fn text(plan: Planned) -> String {
    match plan {
        Planned::Made { text, .. } => text,
        Planned::Absent(reason) => panic!("there is no plan: {reason}"),
    }
}

#[tokio::test]
async fn plans_are_made_without_running_anything() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE TABLE deck AS SELECT n AS deck_id FROM generate_series(1, 1000) n;
             GRANT pg_read_all_data, pg_write_all_data TO hurnix_watch",
        )
        .await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let plan = text(source.plan("SELECT * FROM deck WHERE deck_id = $1").await?);
    assert!(plan.starts_with("Seq Scan on deck") && plan.contains("(deck_id = $1)"), "{plan}");
    let plan = text(source.plan("DELETE FROM deck").await?);
    assert!(plan.starts_with("Delete on deck"), "{plan}");

    // Refused only when it is explained: the one after it is planned all the same.
    admin.execute("CREATE TABLE secret (n int); REVOKE pg_read_all_data, pg_write_all_data FROM hurnix_watch; GRANT SELECT ON deck TO hurnix_watch").await?;
    assert!(matches!(source.plan("SELECT * FROM secret").await?, Planned::Absent(_)));
    text(source.plan("SELECT deck_id FROM deck").await?);

    for text in ["SELECT 1; DROP TABLE deck", "DROP TABLE deck", "SELECT nothing FROM nowhere", "garbage"] {
        let plan = source.plan(text).await?;
        assert!(matches!(plan, Planned::Absent(_)), "{text}: {plan:?}");
    }
    let rows: i64 = admin.fetch_one("SELECT count(*) FROM deck").await?.get(0);
    assert_eq!(rows, 1000);
    assert!(source.activity().await.is_ok(), "the connection is still good");
    Ok(())
}

#[tokio::test]
async fn a_server_without_statement_counters_says_so_and_gives_the_rest() -> Result<()> {
    let cluster = Cluster::temporary(Setup::default())?;
    let mut admin = cluster.connect("postgres").await?;
    admin.execute("CREATE ROLE hurnix_watch LOGIN; GRANT pg_monitor TO hurnix_watch").await?;
    let mut source = PostgresSource::connect(&Address { password: String::new(), ..address(&cluster) }).await?;
    assert_eq!(source.server().limits[0].figures, "statements");
    assert!(source.server().limits[0].remedy.contains("CREATE EXTENSION pg_stat_statements"));
    assert_eq!(source.counters(Figures::Statements).await?, None);
    assert!(!source.read::<DatabaseCounters>().await?.unwrap().rows.is_empty());
    assert_eq!(source.read::<CheckpointCounters>().await?.unwrap().rows.len(), 1);
    assert!(source.settings().await?.len() > 200);
    Ok(())
}

#[tokio::test]
async fn single_figures_are_the_servers_own() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE TABLE tide_reading AS SELECT n AS reading_id FROM generate_series(1, 5000) n;
             CREATE SEQUENCE reading_number MAXVALUE 100;
             SELECT setval('reading_number', 51);
             GRANT SELECT ON SEQUENCE reading_number TO hurnix_watch;
             SELECT pg_create_physical_replication_slot('forgotten', true);",
        )
        .await?;
    admin.execute("VACUUM ANALYZE tide_reading").await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let value = |reading: &MeasureReading, metric: Metric, object: &str| {
        let found = reading.measures.iter().find(|measure| measure.metric == metric && measure.object == object);
        found.map(|measure| measure.value)
    };

    let mut holder = cluster.connect("postgres").await?;
    let mut transaction = holder.begin().await?;
    transaction.execute("LOCK TABLE tide_reading IN SHARE MODE").await?;
    let standing = source.measures(Figures::Standing).await?.unwrap();
    assert_eq!(value(&standing, Metric::Connections, "idle in transaction"), Some(1.0));
    assert_eq!(value(&standing, Metric::Connections, "idle"), Some(1.0));
    assert_eq!(value(&standing, Metric::LocksHeld, "ShareLock"), Some(1.0));
    assert_eq!(value(&standing, Metric::ConnectionsAllowed, ""), Some(97.0));
    assert!(value(&standing, Metric::OldestTransaction, "postgres").is_some_and(|age| age >= 0.0));
    assert_eq!(value(&standing, Metric::PreparedTransactions, ""), Some(0.0));
    assert_eq!(value(&standing, Metric::OldestPrepared, ""), None, "there is none");
    transaction.rollback().await?;

    let first = source.measures(Figures::Replication).await?.unwrap();
    assert_eq!(value(&first, Metric::Recovering, ""), Some(0.0));
    assert_eq!(value(&first, Metric::ReplicasConnected, ""), Some(0.0));
    assert_eq!(value(&first, Metric::LogArchivedAgo, ""), None, "nothing is archived here");
    assert_eq!(value(&first, Metric::SlotActive, "forgotten"), Some(0.0));
    let kept = value(&first, Metric::SlotKept, "forgotten").expect("it keeps the log");
    let position = "SELECT pg_wal_lsn_diff(pg_current_wal_insert_lsn(), '0/0')::bigint";
    let before: i64 = admin.fetch_one(position).await?.get(0);
    admin.execute("INSERT INTO tide_reading SELECT n FROM generate_series(1, 20000) n; CHECKPOINT").await?;
    let second = source.measures(Figures::Replication).await?.unwrap();
    let after: i64 = admin.fetch_one(position).await?.get(0);
    assert!(value(&second, Metric::SlotKept, "forgotten").expect("it still does") > kept);
    let [rate] = <[_; 1]>::try_from(rates(&first.counted, &second.counted, 60.0)).expect("the log has grown");
    let seconds = second.counted.at.seconds_since(first.counted.at);
    let written = rate.value * seconds;
    assert_eq!(rate.metric, Metric::LogWritten);
    // The server has written a little between each pair of looks.
    assert!((written / (after - before) as f64 - 1.0).abs() < 0.05, "{written} of {}", after - before);

    let space = source.measures(Figures::Space).await?.unwrap();
    let size: i64 = admin.fetch_one("SELECT pg_database_size('postgres')").await?.get(0);
    let seen = value(&space, Metric::DatabaseSize, "postgres").expect("there is a size");
    assert!((seen / size as f64 - 1.0).abs() < 0.01, "{seen} of {size}");
    assert_eq!(value(&space, Metric::SequenceUsed, "public.reading_number"), Some(50.0 / 99.0));
    let table = |metric| value(&space, metric, "public.tide_reading");
    assert!(table(Metric::TableSize).is_some_and(|bytes| bytes >= 5000.0 * 28.0));
    assert_eq!(table(Metric::TableIndexSize), Some(0.0));
    assert!(table(Metric::AnalyzedAgo).is_some_and(|age| (0.0..60.0).contains(&age)));
    assert!(value(&space, Metric::TransactionAge, "postgres").is_some_and(|age| age > 0.0));
    Ok(())
}
