//! Who held up whom, by scripted sessions of a real server.

use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::retention::Retention;
use hurnix_core::readings::activity::Session;
use hurnix_core::{Timestamp, WaitKind};
use hurnix_store::{ActivityRow, Store};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::PgConnection;
use tokio::task::JoinHandle;

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched_with};

/// A session of the script, by its process number.
struct Player {
    process: i64,
    connection: PgConnection,
}

impl Player {
    async fn begin(cluster: &Cluster, statements: &str) -> Result<Player> {
        let mut connection = cluster.connect("postgres").await?;
        let process: i32 = sqlx::query_scalar("SELECT pg_backend_pid()").fetch_one(&mut connection).await?;
        sqlx::raw_sql(sqlx::AssertSqlSafe(format!("BEGIN; {statements}"))).execute(&mut connection).await?;
        Ok(Player { process: process.into(), connection })
    }

    /// Runs what has to wait, then ends its transaction; answers with the seconds that it waited.
    fn waits(mut self, statement: &'static str) -> (i64, JoinHandle<Result<f64>>) {
        let waiting = tokio::spawn(async move {
            let begun = Instant::now();
            sqlx::raw_sql(statement).execute(&mut self.connection).await?;
            let waited = begun.elapsed().as_secs_f64();
            sqlx::raw_sql("ROLLBACK").execute(&mut self.connection).await?;
            Ok(waited)
        });
        (self.process, waiting)
    }
}

fn of_holder(answer: &Value, process: i64) -> Option<&Value> {
    answer["hold_ups"].as_array()?.iter().find(|hold_up| hold_up["holder"]["process"] == process)
}

/// Who waits, in whose lane, behind whom, how deep, and whether for its turn only.
fn told(hold_up: &Value) -> Vec<(i64, i64, Option<i64>, u64, bool)> {
    let wait = |wait: &Value| {
        let number = |what: &Value| what.as_i64();
        Some((
            number(&wait["session"]["process"])?,
            number(&wait["lane"])?,
            number(&wait["behind"]),
            wait["depth"].as_u64()?,
            wait["is_queued"].as_bool()?,
        ))
    };
    let mut waits: Vec<_> = hold_up["waits"].as_array().into_iter().flatten().filter_map(wait).collect();
    waits.sort_unstable_by_key(|(_, _, _, depth, is_queued)| (*depth, *is_queued));
    waits
}

fn waits(hold_up: Option<&Value>) -> usize {
    hold_up.and_then(|hold_up| hold_up["waits"].as_array()).map_or(0, Vec::len)
}

#[tokio::test]
async fn scripted_hold_ups_are_told_as_the_server_has_them() -> Result<()> {
    let cluster = watched_with(&[("max_prepared_transactions", "5"), ("deadlock_timeout", "60s")]).await?;
    let mut admin = cluster.connect("postgres").await?;
    sqlx::raw_sql(
        "CREATE TABLE berth AS SELECT n AS berth_id, 0 AS state FROM generate_series(1, 20) n;
         CREATE UNIQUE INDEX ON berth (berth_id); CREATE TABLE pier (pier_id int); CREATE TABLE buoy (buoy_id int)",
    )
    .execute(&mut admin)
    .await?;
    let hurnix = Hurnix::start_with(&["--activity=1s", "--activity-write=1s"]).await?;
    let added = hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    assert_eq!(added.0, StatusCode::CREATED);
    let id = added.1["instance_id"].as_i64().context("a number")?;
    let since = chrono::Utc::now().format("%Y-%m-%dT%H:%M:%SZ").to_string();
    let path = || {
        let now = (chrono::Utc::now() + chrono::TimeDelta::seconds(50)).format("%Y-%m-%dT%H:%M:%SZ");
        format!("instances/{id}/hold-ups?from={since}&to={now}")
    };
    hurnix.wait_for(&path(), |answer| answer["looks"].as_u64() > Some(3)).await?;

    // Four deep: each holds a row that the next wants.
    let holder = Player::begin(&cluster, "UPDATE berth SET state = 1 WHERE berth_id = 1").await?;
    let mut chain = Vec::new();
    for (own, wanted) in [
        ("UPDATE berth SET state = 1 WHERE berth_id = 2", "UPDATE berth SET state = 2 WHERE berth_id = 1"),
        ("UPDATE berth SET state = 1 WHERE berth_id = 3", "UPDATE berth SET state = 2 WHERE berth_id = 2"),
        ("UPDATE berth SET state = 1 WHERE berth_id = 4", "UPDATE berth SET state = 2 WHERE berth_id = 3"),
        ("UPDATE berth SET state = 1 WHERE berth_id = 5", "UPDATE berth SET state = 2 WHERE berth_id = 4"),
    ] {
        chain.push(Player::begin(&cluster, own).await?.waits(wanted));
    }
    // A long read, a change of the table behind it, and a reader who waits for its turn only.
    let reader = Player::begin(&cluster, "SELECT count(*) FROM pier").await?;
    let changes = Player::begin(&cluster, "").await?.waits("ALTER TABLE pier ADD COLUMN depth int");
    let waits_for_table = |answer: &Value| waits(of_holder(answer, reader.process)) == 1;
    hurnix.wait_for(&path(), waits_for_table).await?;
    let queued = Player::begin(&cluster, "").await?.waits("SELECT count(*) FROM pier");
    // A transaction that was prepared, and whoever wants its row.
    let mut gone = Player::begin(&cluster, "UPDATE berth SET state = 1 WHERE berth_id = 9").await?;
    sqlx::raw_sql("PREPARE TRANSACTION 'manifest'").execute(&mut gone.connection).await?;
    let wants = Player::begin(&cluster, "").await?.waits("UPDATE berth SET state = 2 WHERE berth_id = 9");
    // Thirty who want one advisory lock.
    let guard = Player::begin(&cluster, "SELECT pg_advisory_xact_lock(77)").await?;
    let mut line = Vec::new();
    for _ in 0..30 {
        line.push(Player::begin(&cluster, "").await?.waits("SELECT pg_advisory_xact_lock(77)"));
    }
    // Two who hold the same table at once, in a mode that suffers the other.
    let shares = [
        Player::begin(&cluster, "LOCK TABLE buoy IN SHARE MODE").await?,
        Player::begin(&cluster, "LOCK TABLE buoy IN SHARE MODE").await?,
    ];
    let writer = Player::begin(&cluster, "").await?.waits("INSERT INTO buoy VALUES (1)");

    let all = |answer: &Value| {
        let of = |process| waits(of_holder(answer, process));
        of(holder.process) == 4
            && of(reader.process) == 2
            && of(guard.process) == 30
            && of(0) == 1
            && shares.iter().all(|one| of(one.process) == 1)
            // What a holder ran last may be known a look later than that it holds.
            && shares.iter().all(|one| of_holder(answer, one.process).is_some_and(|held| held["statement"].is_string()))
    };
    let answer = hurnix.wait_for(&path(), all).await?;
    let hold_up = of_holder(&answer, holder.process).context("the chain")?;
    let lanes: Vec<i64> = std::iter::once(holder.process).chain(chain.iter().map(|(process, _)| *process)).collect();
    let expected: Vec<_> = (1..5).map(|depth| (lanes[depth], lanes[depth - 1], None, depth as u64, false)).collect();
    assert_eq!(told(hold_up), expected, "{hold_up}");
    assert_eq!((&hold_up["depth"], &hold_up["most_waiting"]), (&4.into(), &4.into()));
    assert!(hold_up["idle_share"].as_f64() > Some(0.9) && hold_up["goes_on"] == true, "{hold_up}");
    assert!(hold_up["waits"][0]["table"] == "public.berth" && hold_up["waits"][0]["kind"] == "transactionid");
    let of_table = of_holder(&answer, reader.process).context("the table")?;
    let expected = [(changes.0, reader.process, None, 1, false), (queued.0, reader.process, Some(changes.0), 1, true)];
    assert_eq!(told(of_table), expected, "{of_table}");
    let prepared = of_holder(&answer, 0).context("the prepared transaction")?;
    assert!(prepared["is_prepared"] == true, "{prepared}");
    assert!(prepared["holder"]["program"].as_str().is_some_and(|program| program.contains("manifest")), "{prepared}");
    assert_eq!(told(of_holder(&answer, guard.process).context("the advisory lock")?).len(), 30);
    let patterns = |process: i64| -> Vec<&str> {
        let repairs = of_holder(&answer, process).and_then(|hold_up| hold_up["repairs"].as_array());
        repairs.into_iter().flatten().filter_map(|repair| repair["pattern"].as_str()).collect()
    };
    assert_eq!(patterns(holder.process), ["idle_in_transaction"]);
    assert_eq!(patterns(reader.process), ["idle_in_transaction", "ddl_queue"]);
    assert_eq!(patterns(0), ["prepared_transaction"]);
    assert_eq!(patterns(guard.process), ["idle_in_transaction", "advisory_lock"]);
    assert_eq!(patterns(shares[0].process), ["idle_in_transaction", "explicit_table_lock"]);
    // Narrowed to a table, and sorted by how many waited.
    let narrowed = hurnix.get(&format!("{}&table=public.berth&order=waiting", path())).await?;
    let holders: Vec<_> =
        narrowed["hold_ups"].as_array().into_iter().flatten().map(|one| &one["holder"]["process"]).collect();
    assert_eq!((holders.first(), holders.len()), (Some(&&Value::from(holder.process)), 2), "{narrowed}");

    // The locks as they stand, those of a prepared transaction among them, and those that nobody waits for.
    let locks = hurnix.get(&format!("instances/{id}/held-locks?search=BERTH")).await?;
    let of = |process: i64, mode: &str| {
        let all = locks["locks"].as_array().into_iter().flatten();
        all.filter(|lock| lock["process"] == process && lock["mode"] == mode && lock["object"] == "public.berth")
            .count()
    };
    assert_eq!((of(holder.process, "RowExclusiveLock"), of(0, "RowExclusiveLock")), (1, 1), "{locks}");
    let all = hurnix.get(&format!("instances/{id}/held-locks")).await?;
    assert!(all["count"].as_i64() > locks["count"].as_i64(), "{all}");
    let first = &all["locks"][0];
    assert!(first["kind"] == "advisory" && first["waiting"] == 30, "what most wait for comes first: {first}");
    assert_eq!(hurnix.get(&format!("instances/{id}/held-locks?search=no_such_table")).await?["count"], 0);

    // The sessions of that moment stand in the same lines, and those of the moment before anybody waited in none.
    let sessions = hurnix.get(&format!("instances/{id}/sessions")).await?;
    let mut in_line: Vec<&Value> =
        sessions["sessions"].as_array().into_iter().flatten().filter(|one| !one["line"].is_null()).collect();
    in_line.sort_by_key(|one| one["line"].as_u64());
    let from = in_line.iter().position(|one| one["process"] == holder.process).context("the holder stands in line")?;
    let chained: Vec<_> =
        in_line[from..from + 5].iter().map(|one| (one["process"].as_i64(), one["depth"].as_u64())).collect();
    let expected: Vec<_> =
        lanes.iter().enumerate().map(|(depth, process)| (Some(*process), Some(depth as u64))).collect();
    assert_eq!(chained, expected);
    let before = hurnix.get(&format!("instances/{id}/sessions?at={since}")).await?;
    assert!(before["sessions"].as_array().is_some_and(|all| all.iter().all(|one| one["line"].is_null())), "{before}");

    // Two who wait for each other, until one of them is told to give up.
    let first = Player::begin(&cluster, "UPDATE berth SET state = 1 WHERE berth_id = 15").await?;
    let second = Player::begin(&cluster, "UPDATE berth SET state = 1 WHERE berth_id = 16").await?;
    let first = first.waits("UPDATE berth SET state = 2 WHERE berth_id = 16");
    let second = second.waits("UPDATE berth SET state = 2 WHERE berth_id = 15");
    let circle_begun = Instant::now();
    let circle = |answer: &Value| {
        let all = answer["hold_ups"].as_array().into_iter().flatten();
        all.filter(|hold_up| hold_up["is_circle"] == true && waits(Some(hold_up)) == 2).count()
    };
    let answer = hurnix.wait_for(&path(), |answer| circle(answer) > 0).await?;
    assert_eq!(circle(&answer), 1, "it is told once: {answer}");
    sqlx::query("SELECT pg_cancel_backend($1)").bind(first.0 as i32).execute(&mut admin).await?;
    assert!(first.1.await?.is_err());
    let mut waited = circle_begun.elapsed().as_secs_f64() + second.1.await??;

    // Freed, everybody goes on, and what was lost is what they waited, to within a look each.
    tokio::time::sleep(Duration::from_secs(4)).await;
    for mut free in [holder, reader, guard].into_iter().chain(shares) {
        sqlx::raw_sql("ROLLBACK").execute(&mut free.connection).await?;
    }
    sqlx::raw_sql("ROLLBACK PREPARED 'manifest'").execute(&mut admin).await?;
    let waiters: Vec<_> = chain.into_iter().chain([changes, queued, wants, writer]).chain(line).collect();
    let count = waiters.len() as f64 + 2.0;
    for (_, waiter) in waiters {
        waited += waiter.await??;
    }
    let over = |answer: &Value| {
        answer["hold_ups"].as_array().is_some_and(|all| all.iter().all(|hold_up| hold_up["goes_on"] == false))
    };
    let answer = hurnix.wait_for(&path(), over).await?;
    let (from, to) = (&answer["hold_ups"][0]["from"], &answer["looked_at"]);
    let moment = |value: &Value| value.as_str().and_then(|text| text.parse::<chrono::DateTime<chrono::Utc>>().ok());
    let looked = moment(to).zip(moment(from)).map(|(to, from)| (to - from).as_seconds_f64()).context("both")?;
    let each = looked / answer["looks"].as_f64().context("a number")?;
    let lost = answer["lost_seconds"].as_f64().context("a number")?;
    assert!((lost - waited).abs() <= count * each.max(1.0) * 1.5, "{lost} s of {waited} s, a look each {each} s");
    let by_table: f64 = ["by_table", "by_statement", "by_holder"]
        .iter()
        .flat_map(|list| answer[*list].as_array().into_iter().flatten())
        .filter_map(|lost| lost["lost_seconds"].as_f64())
        .sum();
    assert!((by_table / 3.0 - lost).abs() < 0.01 * lost, "each list adds up to all: {by_table} {lost}");
    Ok(())
}

/// A session of which nothing is known but whom it waits for.
fn session(process: i32, blocked_by: &[i32]) -> Session {
    Session {
        process,
        started_at: Timestamp(1),
        wait_kind: (!blocked_by.is_empty()).then_some(WaitKind::Lock),
        blocked_by: blocked_by.to_vec(),
        ..Session::default()
    }
}

#[tokio::test]
async fn hold_ups_whose_looks_are_gone_are_shown_with_what_is_missing() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let id = store.add_unconnected("weeks-ago", Engine::Bundle, &json!({}), None).await?;
    let now = Timestamp(chrono::Utc::now().timestamp_micros());
    let begun = now.plus_seconds(-9.0 * 86_400.0);
    let name = store.names(id, &["crew".to_owned()], begun).await?["crew"];
    let sessions: Vec<(Timestamp, Vec<Session>)> = (0..60)
        .map(|look| {
            let held_up = if (10..40).contains(&look) { vec![session(7, &[]), session(8, &[7])] } else { Vec::new() };
            (begun.plus_seconds(f64::from(look) * 10.0), held_up)
        })
        .collect();
    let row = |session| ActivityRow {
        session,
        event_id: None,
        family_id: None,
        account_id: name,
        program_id: name,
        client_id: name,
        database_id: name,
        awaited: None,
    };
    let looks: Vec<_> = sessions.iter().map(|(at, seen)| (*at, 20, seen.iter().map(row).collect())).collect();
    store.write_activity(id, &looks).await?;
    while store.roll_up(now).await? > 0 {}
    let written = |at: Timestamp| {
        chrono::DateTime::from_timestamp_micros(at.0).unwrap_or_default().format("%Y-%m-%dT%H:%M:%SZ").to_string()
    };
    let (from, to) = (written(begun.plus_seconds(-3600.0)), written(now));
    let path = format!("instances/{id}/hold-ups?from={from}&to={to}");
    // Whoever uses a part of a table keeps it from going, for a moment.
    wait_until("the looks are gone", async || {
        store.keep_partitions(now).await?;
        Ok(hurnix.get(&path).await?["looks"] == 0)
    })
    .await?;
    let answer = hurnix.get(&path).await?;
    assert_eq!(answer["count"], 1, "{answer}");
    let one = &answer["hold_ups"][0];
    assert_eq!((&one["holder"]["process"], &one["holder"]["account"]), (&7.into(), &"crew".into()), "{one}");
    assert!((one["lost_seconds"].as_f64().context("a number")? - 300.0).abs() < 11.0, "{one}");
    assert_eq!(answer["looks_since"].as_str(), Some(to.as_str()), "no look is kept: {answer}");
    // Narrowed as ever.
    assert_eq!(hurnix.get(&format!("{path}&account=skerry_gate")).await?["count"], 0);
    Ok(())
}
