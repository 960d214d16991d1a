//! What is read of a server only while somebody looks.

use anyhow::{Result, ensure};
use hurnix_core::findings::upkeep_queue::{DueFor, upkeep_queue};
use hurnix_core::readings::activity::PREPARED;
use hurnix_core::readings::operation::{OperationKind, WorkUnit};
use hurnix_source::Source;
use sqlx::{Executor, Row};

use super::servers::{DATABASE, Watched, finish, until};

pub async fn processes_are_told_apart_from_sessions(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut idle = server.client(DATABASE).await?;
    let of_idle: i32 = idle.fetch_one("SELECT pg_backend_pid()").await?.get(0);
    let mut reader = server.client(DATABASE).await?;
    reader.execute("BEGIN ISOLATION LEVEL REPEATABLE READ; SELECT FROM deck").await?;
    let process: i32 = reader.fetch_one("SELECT pg_backend_pid()").await?.get(0);
    let mut writer = server.client(DATABASE).await?;
    for _ in 0..3 {
        writer.execute("UPDATE deck SET metres = 1 WHERE deck_id = 3").await?;
    }
    let found = source.processes().await?;
    let kinds: Vec<&str> = found.background.iter().map(|one| one.kind.as_str()).collect();
    assert!(["checkpointer", "walwriter", "background writer"].iter().all(|kind| kinds.contains(kind)), "{kinds:?}");
    assert!(!kinds.contains(&"client backend"));
    let held = found.snapshots.iter().find(|snapshot| snapshot.process == process).expect("it may see old rows");
    assert!(held.transactions >= 3, "{held:?}");
    assert!(found.snapshots.iter().all(|snapshot| snapshot.process != of_idle), "an idle session needs nothing");
    finish(reader).await?;
    finish(writer).await?;
    finish(idle).await
}

pub async fn locks_are_those_of_the_server(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    assert_eq!(source.held_locks("deck", 10).await?.locks, [], "nobody holds one");
    let mut holder = server.client(DATABASE).await?;
    holder.execute("BEGIN; LOCK TABLE deck IN SHARE MODE").await?;
    let process: i32 = holder.fetch_one("SELECT pg_backend_pid()").await?.get(0);
    let mut elsewhere = server.client("quay").await?;
    elsewhere.execute("BEGIN; SELECT pg_advisory_xact_lock(4)").await?;
    let mut gone = server.client(DATABASE).await?;
    gone.execute("BEGIN; SELECT pg_advisory_xact_lock(5); PREPARE TRANSACTION 'ferry'").await?;
    let mut waiter = server.client(DATABASE).await?;
    let waiting =
        tokio::spawn(
            async move { waiter.execute("UPDATE deck SET metres = 1 WHERE deck_id = 3").await.map(|_| waiter) },
        );
    let found = until("somebody waits for the table", async || {
        let found = source.held_locks("BLIC.DE", 10).await?;
        Ok(found.locks.iter().any(|lock| !lock.is_held).then_some(found))
    })
    .await?;
    assert_eq!(found.count, found.locks.len() as i64);
    let held = found.locks.iter().find(|lock| lock.process == process).expect("the holder's");
    assert_eq!(
        (held.mode.as_str(), held.kind.as_str(), held.object.as_str()),
        ("ShareLock", "relation", "public.deck")
    );
    assert_eq!(
        (held.account.as_str(), held.database.as_str(), held.waiting, held.is_held),
        ("crew", DATABASE, 1, true)
    );
    assert!(
        held.is_idle && held.transaction_started_at.is_some() && held.text.starts_with("SELECT pg_backend_pid"),
        "{held:?}"
    );
    let all = source.held_locks("", 500).await?;
    let of =
        |process: i32, kind: &str| all.locks.iter().filter(|lock| lock.process == process && lock.kind == kind).count();
    assert_eq!(of(PREPARED, "advisory"), 1, "{all:?}");
    let prepared = all.locks.iter().find(|lock| lock.process == PREPARED).expect("it was prepared");
    assert_eq!((prepared.program.as_str(), prepared.account.as_str()), ("prepared transaction ferry", "crew"));
    assert!(all.locks.iter().any(|lock| lock.kind == "advisory" && lock.database == "quay"), "{all:?}");
    assert!(all.locks.iter().all(|lock| lock.program != "hurnix"));
    let first = source.held_locks("", 1).await?;
    assert_eq!((first.locks.len(), first.count), (1, all.count), "what was left out is counted");
    holder.execute("ROLLBACK").await?;
    finish(waiting.await??).await?;
    gone.execute("ROLLBACK PREPARED 'ferry'").await?;
    elsewhere.execute("ROLLBACK").await?;
    Ok(())
}

pub async fn long_work_is_told_while_it_goes_on(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let quiet = source.operations().await?;
    assert_eq!((quiet.operations.as_slice(), quiet.is_automatic, quiet.workers.0), ([].as_slice(), false, 0));
    let mut admin = server.cluster.connect(DATABASE).await?;
    let process: i32 = admin.fetch_one("SELECT pg_backend_pid()").await?.get(0);
    admin.execute("SET vacuum_cost_delay = '10ms'; SET vacuum_cost_limit = 1").await?;
    let vacuum = tokio::spawn(async move { admin.execute("VACUUM (FREEZE) deck").await.is_err() });
    let seen = until("pages are scanned", async || {
        let now = source.operations().await?;
        Ok(now.operations.into_iter().find(|one| one.done > 1.0).map(|one| (now.at, one)))
    })
    .await?;
    let (at, one) = seen;
    assert_eq!(
        (one.process, one.kind, one.is_automatic, one.unit),
        (process, OperationKind::Vacuum, false, WorkUnit::Pages)
    );
    assert_eq!((one.table.as_str(), one.database.as_str(), one.phase.as_str()), ("deck", DATABASE, "scanning heap"));
    assert!(
        one.total.is_some_and(|total| total > one.done) && at > one.began_at && one.blocked_by.is_empty(),
        "{one:?}"
    );
    let further = until("it goes on", async || {
        let now = source.operations().await?;
        Ok(now.operations.into_iter().find(|next| next.done > one.done))
    })
    .await?;
    assert_eq!(further.began_at, one.began_at);
    let mut other = server.cluster.connect("postgres").await?;
    sqlx::query("SELECT pg_cancel_backend($1)").bind(process).execute(&mut other).await?;
    ensure!(vacuum.await?, "it was cancelled while it scanned");
    Ok(())
}

pub async fn upkeep_is_due_by_the_servers_own_rule(server: &Watched) -> Result<()> {
    let mut source = server.source().await?;
    let mut admin = server.cluster.connect(DATABASE).await?;
    admin
        .execute(
            "CREATE TABLE buoy (buoy_id int, depth int) WITH (autovacuum_vacuum_threshold = 10, autovacuum_vacuum_scale_factor = 0.5, autovacuum_analyze_threshold = 100000);
             CREATE TABLE mole (n int) WITH (autovacuum_enabled = off); GRANT ALL ON buoy, mole TO crew;
             INSERT INTO buoy SELECT n, 0 FROM generate_series(1, 100) n; INSERT INTO mole SELECT n FROM generate_series(1, 100000) n",
        )
        .await?;
    admin.execute("VACUUM ANALYZE buoy").await?;
    let mut client = server.client(DATABASE).await?;
    client.execute("UPDATE buoy SET depth = 1 WHERE buoy_id <= 75").await?;
    // A session counts what it did when it ends, at the latest.
    finish(client).await?;
    let table = until("the server has counted", async || {
        let found = source.operations().await?.tables.into_iter().find(|table| table.table == "public.buoy");
        Ok(found.filter(|table| table.dead_rows.0 >= 75.0))
    })
    .await?;
    assert_eq!(table.dead_rows, (75.0, 10.0 + 0.5 * 100.0));
    assert_eq!((table.changed_rows.0, table.is_automatic), (75.0, true));
    assert!(table.inserted_rows.is_some_and(|(_, at)| at == 1000.0 + 0.2 * 100.0), "{table:?}");
    let all = source.operations().await?.tables;
    let queue = upkeep_queue(&all);
    let place = |name: &str| queue.iter().find(|queued| queued.table.table == name).expect("it is there");
    assert!(place("public.buoy").is_due() && place("public.buoy").due_for == DueFor::DeadRows);
    let left = place("public.mole");
    assert!(!left.table.is_automatic && !left.is_due() && left.due_for == DueFor::Age, "{left:?}");
    admin.execute("DROP TABLE buoy, mole").await?;
    Ok(())
}
