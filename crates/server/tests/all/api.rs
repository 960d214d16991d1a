//! The API through HTTP: the program as it is run, a real repository, a real watched server.

use std::process::Command;
use std::time::{Duration, Instant};

use crate::common::{Hurnix, PASSWORD, PATIENCE, connection, hex, moment, watched};
use anyhow::{Context, Result, bail};
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::retention::Retention;
use hurnix_store::Store;
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};
use sqlx::{Executor, Row};

/// The problem of an answer, checked for its form.
#[track_caller]
fn problem(answer: (StatusCode, Value), status: u16, kind: &str) -> Value {
    assert_eq!(answer.0.as_u16(), status, "{}", answer.1);
    assert_eq!(answer.1["type"], format!("urn:hurnix:problem:{kind}"), "{}", answer.1);
    assert_eq!(answer.1["status"], status);
    assert!(answer.1["detail"].as_str().is_some_and(|detail| detail.len() > 20), "{}", answer.1);
    answer.1
}

#[tokio::test]
async fn totals_of_a_window_are_the_servers_own_counters_to_the_unit() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let added = hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    assert_eq!(added.0, StatusCode::CREATED);
    let id = added.1["instance_id"].as_i64().context("a number")?;
    let mut client = cluster.connect("postgres").await?;
    let statements = [
        "SELECT deck_id FROM deck WHERE deck_id <= 17",
        "UPDATE deck SET vessel_id = vessel_id + 1 WHERE deck_id = 3",
        "SELECT vessel_id, count(*) FROM deck GROUP BY vessel_id",
    ];
    let own = "SELECT query, calls, round(total_exec_time * 1000)::bigint, rows, shared_blks_hit, shared_blks_read, wal_bytes::bigint
               FROM pg_stat_statements WHERE query LIKE '%deck%' AND query NOT LIKE '%pg_stat_statements%' AND query NOT LIKE 'CREATE%' ORDER BY query";
    for statement in statements {
        client.execute(statement).await?;
    }

    // Nothing runs between the server's own figures and the next reading of them.
    let first = client.fetch_all(own).await?;
    let from = moment(&mut client).await?;
    wait_for_snapshot(&hurnix, id, &from, &mut client).await?;
    let start = moment(&mut client).await?;
    for n in 0..41 {
        client.execute(statements[n % 3]).await?;
    }
    let last = client.fetch_all(own).await?;
    let after = moment(&mut client).await?;
    wait_for_snapshot(&hurnix, id, &after, &mut client).await?;
    let end = moment(&mut client).await?;

    let list = hurnix
        .get(&format!("instances/{id}/statements?from={start}&to={end}&search=deck&sort=text&ascending=true"))
        .await?;
    let families = list["families"].as_array().context("families")?;
    assert_eq!(families.len(), 3, "{list}");
    let figure = |row: &sqlx::postgres::PgRow, column: usize| row.get::<i64, _>(column);
    for (column, name) in ["calls", "exec_us", "rows", "hit_pages", "read_pages", "log_bytes"].iter().enumerate() {
        // Each family on its own, found by what it calls itself in both places.
        for (before, now) in first.iter().zip(&last) {
            let text: String = now.get(0);
            let folded = hurnix_core::readings::family::fold(&text).text;
            let family = families
                .iter()
                .find(|family| family["text"] == folded)
                .with_context(|| format!("{folded} in {list}"))?;
            assert_eq!(
                family["figures"][name],
                figure(now, column + 1) - figure(before, column + 1),
                "{name} of {text}"
            );
        }
    }
    assert_eq!(families.iter().map(|family| family["figures"]["calls"].as_i64().unwrap()).sum::<i64>(), 41);
    Ok(())
}

/// Waits until the counters were read after that moment.
async fn wait_for_snapshot(hurnix: &Hurnix, id: i64, after: &str, client: &mut sqlx::PgConnection) -> Result<()> {
    let deadline = Instant::now() + PATIENCE;
    while Instant::now() < deadline {
        tokio::time::sleep(Duration::from_millis(200)).await;
        let now = moment(client).await?;
        let list = hurnix.get(&format!("instances/{id}/statements?from={after}&to={now}")).await?;
        if list["coverage"]["periods"].as_i64().unwrap_or_default()
            + list["coverage"]["without"].as_array().map_or(0, Vec::len) as i64
            > 0
        {
            return Ok(());
        }
    }
    bail!("no snapshot within {PATIENCE:?}")
}

#[tokio::test]
async fn a_server_that_goes_away_is_told_and_collection_resumes_by_itself() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let added = hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let id = added.1["instance_id"].as_i64().context("a number")?;
    let path = format!("instances/{id}");
    hurnix
        .wait_for(&path, |instance| instance["collection"] == "collecting" && !instance["last_success_at"].is_null())
        .await?;
    cluster.crash();
    let failing = hurnix.wait_for(&path, |instance| instance["collection"] == "failing").await?;
    assert_eq!(failing["health"], "no_data");
    assert!(failing["problem"]["remedy"].as_str().is_some_and(|remedy| !remedy.is_empty()));
    cluster.launch()?;
    let back = hurnix.wait_for(&path, |instance| instance["collection"] == "collecting").await?;
    assert!(back["problem"].is_null());
    // The restart is a marker, and no figure was made across it.
    hurnix.wait_for(&format!("{path}/history"), |history| history["markers"].to_string().contains("restarted")).await?;
    Ok(())
}

#[tokio::test]
async fn a_wrong_password_is_named_and_correcting_it_keeps_the_instance() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let trial = hurnix.send(Method::POST, "instances/trial", Some(connection(&cluster, "wrong"))).await?;
    let told = problem(trial, 422, "connection");
    assert!(told["detail"].as_str().unwrap().contains("ALTER ROLE hurnix_watch PASSWORD"), "{told}");
    let trial = hurnix.send(Method::POST, "instances/trial", Some(connection(&cluster, PASSWORD))).await?;
    assert_eq!(trial.0, StatusCode::OK, "{}", trial.1);
    assert!(trial.1["server_version"].as_str().is_some_and(|version| version.starts_with("1")));

    let added = hurnix.send(Method::POST, "instances", Some(connection(&cluster, "wrong"))).await?;
    let path = format!("instances/{}", added.1["instance_id"]);
    hurnix.wait_for(&path, |instance| instance["problem"]["message"].to_string().contains("password")).await?;
    let changed = hurnix.send(Method::PUT, &path, Some(connection(&cluster, PASSWORD))).await?;
    assert_eq!(changed.0, StatusCode::NO_CONTENT);
    hurnix.wait_for(&path, |instance| instance["collection"] == "collecting").await?;
    let again = hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    problem(again, 409, "conflict");

    // The secret is in no answer, no log, and not readable in the repository.
    assert!(!hurnix.get("instances").await?.to_string().contains(PASSWORD));
    assert!(!hurnix.log_text()?.contains(PASSWORD));
    let mut repository = hurnix.repository.connect("hurnix").await?;
    let rows: String = repository.fetch_one("SELECT string_agg(i::text, ',') FROM instance i").await?.get(0);
    assert!(!rows.contains(PASSWORD) && !rows.contains(&hex(PASSWORD)));
    Ok(())
}

#[tokio::test]
async fn bad_input_gets_a_clear_answer_and_breaks_nothing() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let added = hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let id = added.1["instance_id"].as_i64().context("a number")?;
    let get = async |path: String| hurnix.send(Method::GET, &path, None).await;

    for page in ["load", "statements", "statements/1", "load/breakdown?by=family&x=1"] {
        let with =
            |window: &str| format!("instances/{id}/{page}{}{window}", if page.contains('?') { "&" } else { "?" });
        let future = with("from=2999-01-01T00:00:00Z&to=2999-01-02T00:00:00Z");
        let told = problem(get(future).await?, 422, "invalid");
        assert_eq!(told["errors"][0]["field"], "from");
        assert!(told["errors"][0]["value"].as_str().unwrap().starts_with("2999"));
        let backwards = with("from=2026-01-02T00:00:00Z&to=2026-01-01T00:00:00Z");
        assert_eq!(problem(get(backwards).await?, 422, "invalid")["errors"][0]["field"], "to");
        let told = problem(get(with("from=yesterday&to=2026-01-01T00:00:00Z")).await?, 422, "invalid");
        assert_eq!(told["errors"][0]["value"], "yesterday");
    }
    let window = "from=2026-01-01T00:00:00Z&to=2026-01-02T00:00:00Z";
    problem(get(format!("instances/999/load?{window}")).await?, 404, "not-found");
    problem(get("instances/seven".into()).await?, 400, "unreadable");
    problem(get(format!("instances/{id}/statements/123456789?{window}")).await?, 404, "not-found");
    problem(get(format!("instances/{id}/advice/99")).await?, 404, "not-found");
    problem(get(format!("instances/{id}/advice?state=maybe")).await?, 422, "invalid");
    problem(get(format!("instances/{id}/statements?{window}&page=0&page_size=5000")).await?, 422, "invalid");
    let bounds = format!("instances/{id}/statements?{window}&calls=many&mean=5..&rows=>2");
    let told = problem(get(bounds).await?, 422, "invalid");
    let fields: Vec<&Value> = told["errors"].as_array().unwrap().iter().map(|error| &error["field"]).collect();
    assert_eq!(fields, ["calls", "mean"]);
    problem(get("nowhere".into()).await?, 404, "no-such-address");
    problem(hurnix.send(Method::DELETE, "instances", None).await?, 405, "method");

    let mut asked = json!({ "label": "", "host": "h", "port": 0, "database": "d", "account": "a", "tls": "maybe" });
    let told = problem(hurnix.send(Method::POST, "instances", Some(asked.clone())).await?, 422, "invalid");
    let fault = &told["errors"][0];
    assert_eq!((&fault["field"], &fault["value"]), (&json!("tls"), &json!("maybe")));
    assert!(fault["remedy"].as_str().unwrap().contains("off, prefer, require, verify"), "{told}");
    asked["tls"] = json!("off");
    let told = problem(hurnix.send(Method::POST, "instances", Some(asked)).await?, 422, "invalid");
    let fields: Vec<&str> =
        told["errors"].as_array().unwrap().iter().map(|error| error["field"].as_str().unwrap()).collect();
    assert_eq!(fields, ["label", "port"]);

    let raw = async |body: String| {
        let request = hurnix.client.post(hurnix.url("instances")).header("x-csrf-token", &hurnix.csrf_token);
        let answer = request.header("content-type", "application/json").body(body).send().await?;
        let status = answer.status();
        anyhow::ensure!(answer.headers()["content-type"] == "application/problem+json");
        Ok((status, answer.json::<Value>().await?))
    };
    problem(raw("{\"label\": ".into()).await?, 400, "unreadable");
    problem(raw(format!("{{\"x\": {}", "[".repeat(20_000))).await?, 400, "unreadable");
    problem(raw("{}".into()).await?, 422, "invalid");
    problem(raw(format!("{{\"label\": \"{}\"}}", "x".repeat(100_000))).await?, 413, "unreadable");

    // All that is still as it was.
    assert_eq!(hurnix.get("instances").await?.as_array().unwrap().len(), 1);
    Ok(())
}

#[tokio::test]
async fn markers_are_noted_and_taken_back_and_metrics_are_told() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let added = hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let path = format!("instances/{}", added.1["instance_id"]);
    let note = async |text: &str, at: Option<&str>| {
        hurnix.send(Method::POST, &format!("{path}/markers"), Some(json!({ "text": text, "at": at }))).await
    };
    let noted = note(" release 12.4 ", None).await?;
    assert_eq!(noted.0, StatusCode::CREATED, "{}", noted.1);
    note("tariffs changed", Some("2026-01-05T06:00:00Z")).await?;
    problem(note("tariffs changed", Some("2026-01-05T06:00:00Z")).await?, 409, "conflict");
    assert_eq!(problem(note("", None).await?, 422, "invalid")["errors"][0]["field"], "text");
    assert_eq!(problem(note("two\nlines", None).await?, 422, "invalid")["errors"][0]["field"], "text");
    assert_eq!(problem(note("soon", Some("2999-01-05T06:00:00Z")).await?, 422, "invalid")["errors"][0]["field"], "at");
    let history = hurnix
        .wait_for(&format!("{path}/history"), |history| history["markers"].to_string().contains("release 12.4"))
        .await?;
    let found = history["markers"].as_array().unwrap().iter().find(|marker| marker["text"] == "release 12.4").unwrap();
    assert_eq!((found["kind"].as_str(), found["noted_by"].as_str()), (Some("noted"), Some("admin")));
    let marker = format!("{path}/markers/{}", noted.1["marker_id"].as_str().unwrap());
    assert_eq!(hurnix.send(Method::DELETE, &marker, None).await?.0, StatusCode::NO_CONTENT);
    problem(hurnix.send(Method::DELETE, &marker, None).await?, 404, "not-found");

    // Of itself, Hurnix tells anybody who asks.
    let own = Client::new().get(format!("{}/metrics", hurnix.address)).send().await?;
    assert!(own.headers()["content-type"].to_str()?.starts_with("application/openmetrics-text"));
    let own = own.text().await?;
    assert!(own.contains("hurnix_instances_held 1") && own.trim_end().ends_with("# EOF"), "{own}");
    assert!(own.contains("hurnix_readings_total{figures=\"activity\",outcome=\"read\"}"), "{own}");

    let metrics = hurnix
        .wait_for(&format!("{path}/metrics"), |all| {
            all.to_string().contains("database_size") && all.to_string().contains("connections_allowed")
        })
        .await?;
    let size = metrics.as_array().unwrap().iter().find(|metric| metric["metric"] == "database_size").unwrap();
    assert_eq!(size["unit"], "bytes");
    let of_database = size["values"].as_array().unwrap().iter().find(|value| value["object"] == "postgres").unwrap();
    let value = of_database["value"].as_f64().unwrap();
    let window = "from=2026-01-01T00:00:00Z&to=2026-01-02T00:00:00Z";
    assert_eq!(
        hurnix.get(&format!("{path}/metrics/database_size?object=postgres&{window}")).await?["cells"],
        json!([])
    );
    let now = moment(&mut cluster.connect("postgres").await?).await?;
    let day_ago = "2026-01-01T00:00:00Z";
    let series = hurnix.get(&format!("{path}/metrics/database_size?object=postgres&from={day_ago}&to={now}")).await?;
    assert_eq!(series["cells"][0]["most"].as_f64(), Some(value), "{series}");
    problem(hurnix.send(Method::GET, &format!("{path}/metrics/happiness?{window}"), None).await?, 404, "not-found");
    Ok(())
}

#[tokio::test]
async fn nobody_gets_in_without_signing_in_and_changes_need_the_sessions_token() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let stranger = Client::new();
    for path in ["session", "instances", "instances/1/load", "events"] {
        let answer = stranger.get(hurnix.url(path)).send().await?;
        problem((answer.status(), answer.json().await?), 401, "sign-in");
    }
    for (name, password) in [("admin", "wrong"), ("nobody", "wrong")] {
        let answer =
            stranger.post(hurnix.url("session")).json(&json!({ "name": name, "password": password })).send().await?;
        let told = problem((answer.status(), answer.json().await?), 401, "wrong-password");
        assert_eq!(told["detail"], "There is no account with this name and password.");
    }
    for token in [None, Some("made-up")] {
        let mut request = hurnix.client.post(hurnix.url("instances")).json(&json!({}));
        if let Some(token) = token {
            request = request.header("x-csrf-token", token);
        }
        let answer = request.send().await?;
        problem((answer.status(), answer.json().await?), 403, "forbidden");
    }
    let page = stranger.get(&hurnix.address).send().await?;
    assert!(page.headers()["content-security-policy"].to_str()?.contains("default-src 'self'"));
    assert_eq!(page.headers()["x-content-type-options"], "nosniff");

    assert_eq!(hurnix.send(Method::DELETE, "session", None).await?.0, StatusCode::NO_CONTENT);
    problem(hurnix.send(Method::GET, "session", None).await?, 401, "sign-in");
    Ok(())
}

#[tokio::test]
async fn news_arrive_as_they_happen_and_the_program_stops_in_order() -> Result<()> {
    let (mut hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let mut events = hurnix.client.get(hurnix.url("events")).send().await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let mut heard = String::new();
    let deadline = Instant::now() + PATIENCE;
    while !(heard.contains("\"activity\"") && heard.contains("\"statements\"")) {
        anyhow::ensure!(Instant::now() < deadline, "heard only: {heard}");
        if let Ok(chunk) = tokio::time::timeout(Duration::from_secs(2), events.chunk()).await {
            heard.push_str(&String::from_utf8_lossy(&chunk?.context("the stream goes on")?));
        }
    }
    // A browser that still listens does not hold up a stop.
    let kill = Command::new("kill").arg("-TERM").arg(hurnix.process.id().to_string()).status()?;
    assert!(kill.success());
    let deadline = Instant::now() + Duration::from_secs(10);
    let status = loop {
        if let Some(status) = hurnix.process.try_wait()? {
            break status;
        }
        anyhow::ensure!(Instant::now() < deadline, "it did not stop: {}", hurnix.log_text()?);
        tokio::time::sleep(Duration::from_millis(50)).await;
    };
    assert!(status.success());
    Ok(())
}

#[tokio::test]
async fn of_the_roster_only_lines_that_changed_are_sent_again() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let mut ids = Vec::new();
    for label in ["crew", "freight", "tides"] {
        ids.push(store.add_unconnected(label, Engine::Bundle, &json!({}), None).await?);
    }
    let mut repository = hurnix.repository.connect("hurnix").await?;
    let mut changed_ago = async |id: i32, seconds: f64| {
        let sql = "UPDATE instance SET shown_changed_at = now() - make_interval(secs => $2) WHERE instance_id = $1";
        sqlx::query(sql).bind(id).bind(seconds).execute(&mut repository).await
    };
    for (id, ago) in ids.iter().zip([60.0, 0.0, 30.0]) {
        changed_ago(*id, ago).await?;
    }
    let numbers = |list: &Value| -> Vec<i64> {
        let mut numbers: Vec<i64> =
            list.as_array().unwrap().iter().filter_map(|one| one.as_i64().or(one["instance_id"].as_i64())).collect();
        numbers.sort();
        numbers
    };
    let all: Vec<i64> = ids.iter().map(|id| i64::from(*id)).collect();
    let first = hurnix.get("roster").await?;
    assert_eq!((numbers(&first["order"]), numbers(&first["changed"])), (all.clone(), all.clone()));
    assert_eq!(first["changed"], hurnix.get("instances").await?, "the same lines in the same order");
    let since = format!("roster?since={}", first["as_of"].as_str().context("a moment")?);
    let second = hurnix.get(&since).await?;
    assert_eq!((numbers(&second["order"]), numbers(&second["changed"])), (all.clone(), vec![all[1]]));
    changed_ago(ids[2], 0.0).await?;
    assert_eq!(numbers(&hurnix.get(&since).await?["changed"]), all[1..]);
    // A moment so long ago that the strips of all have moved on.
    assert_eq!(numbers(&hurnix.get("roster?since=2026-01-01T00:00:00Z").await?["changed"]), all);
    let (status, told) = hurnix.send(Method::GET, "roster?since=yesterday", None).await?;
    problem((status, told), 422, "invalid");
    Ok(())
}

#[tokio::test]
async fn literals_are_never_kept() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let added = hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let id = added.1["instance_id"].as_i64().context("a number")?;
    let mut client = cluster.connect("postgres").await?;
    let from = moment(&mut client).await?;
    wait_for_snapshot(&hurnix, id, &from, &mut client).await?;
    // Statements that the server keeps as they were sent, and one that is seen while it runs.
    client.execute("CREATE ROLE deckhand PASSWORD 'planted-kelp-one'").await?;
    client.execute("COMMENT ON ROLE deckhand IS 'planted-kelp-two'").await?;
    client.execute("SELECT pg_sleep(3), 'planted-kelp-three'").await?;
    for _ in 0..3 {
        let after = moment(&mut client).await?;
        wait_for_snapshot(&hurnix, id, &after, &mut client).await?;
    }
    let to = moment(&mut client).await?;
    let seen = hurnix.get(&format!("instances/{id}/statements?from={from}&to={to}&search=deckhand")).await?;
    assert_eq!(seen["families"].as_array().map(Vec::len), Some(2), "{seen}");
    let mut repository = hurnix.repository.connect("hurnix").await?;
    let seen: i64 = repository.fetch_one("SELECT count(*) FROM family WHERE text LIKE '%pg_sleep%'").await?.get(0);
    assert!(seen >= 1, "the one that ran was seen");
    let kept: i64 = repository
        .fetch_one("SELECT count(*) FROM family WHERE concat(text, sample, tag) LIKE '%planted-kelp%'")
        .await?
        .get(0);
    assert_eq!(kept, 0);
    Ok(())
}
