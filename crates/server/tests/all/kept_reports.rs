//! Kept reports: made, fetched by link in every form, written to, made by themselves, and forgotten.

use anyhow::{Context, Result};
use hurnix_core::Timestamp;
use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_core::keeping::retention::Retention;
use hurnix_store::Store;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::{Connection, Executor};

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched_with};
use crate::contract::start;

const REPORTS: &str = "reports";
const SCHEDULES: &str = "report-schedules";

fn moment(seconds_ago: i64) -> String {
    (chrono::Utc::now() - chrono::TimeDelta::seconds(seconds_ago)).format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

fn titles(list: &Value) -> Vec<&str> {
    list["reports"].as_array().into_iter().flatten().filter_map(|one| one["title"].as_str()).collect()
}

fn faults(problem: &Value) -> Vec<&str> {
    problem["errors"].as_array().into_iter().flatten().filter_map(|error| error["field"].as_str()).collect()
}

fn keys(report: &Value) -> Vec<&str> {
    report["sections"].as_array().into_iter().flatten().filter_map(|one| one["key"].as_str()).collect()
}

async fn file(hurnix: &Hurnix, path: &str) -> Result<String> {
    let response = hurnix.client.get(hurnix.url(path)).send().await?;
    anyhow::ensure!(response.status() == StatusCode::OK, "{}", response.text().await?);
    Ok(response.text().await?)
}

#[tokio::test]
async fn a_report_is_kept_written_to_and_seen_by_whom_it_concerns() -> Result<()> {
    let (hurnix, id) = start().await?;
    hurnix.send(Method::PUT, &format!("instances/{id}/group"), Some(json!({ "group": "sea" }))).await?;
    // The same window for both, however long one of them takes.
    let [from, to] = [moment(4_000), moment(600)];
    let page = hurnix.get(&format!("instances/{id}/statements?from={from}&to={to}")).await?;
    let family = page["families"][0].clone();
    // A report on one statement says of which, and refuses one that there is not.
    let mut asked = json!({ "kind": "statement", "instance_id": id, "from": from, "to": to });
    let (status, problem) = hurnix.send(Method::POST, REPORTS, Some(asked.clone())).await?;
    assert_eq!((status, faults(&problem)), (StatusCode::UNPROCESSABLE_ENTITY, vec!["family_id"]));
    asked["family_id"] = json!("987654321");
    let (status, problem) = hurnix.send(Method::POST, REPORTS, Some(asked.clone())).await?;
    assert_eq!((status, faults(&problem)), (StatusCode::NOT_FOUND, vec!["family_id"]));
    asked["family_id"] = family["family_id"].clone();
    let (status, kept) = hurnix.send(Method::POST, REPORTS, Some(asked)).await?;
    assert_eq!(status, StatusCode::CREATED, "{kept}");
    assert_eq!(
        (&kept["title"], &kept["made_by"], &kept["group"]),
        (&json!("One statement: freight"), &json!("admin"), &json!("sea"))
    );
    let path = format!("{REPORTS}/{}", kept["report_id"].as_str().context("a number")?);
    let report = hurnix.get(&path).await?;
    assert_eq!(keys(&report)[..3], ["one_statement", "lasting_changes", "load"], "{report}");
    assert_eq!(report["sections"][0]["tables"][0]["rows"][0][0], family["text"]);
    let calls = report["sections"][2]["tables"][0]["rows"].as_array().context("rows")?;
    let calls = calls.iter().find(|row| row[0] == "calls").context("calls are told")?;
    assert_eq!(calls[1].as_f64(), family["figures"]["calls"].as_f64(), "those of the statement, to the unit");
    let schema: Value = serde_json::from_str(include_str!("../../../../docs/formats/report.schema.json"))?;
    assert!(jsonschema::validator_for(&schema)?.is_valid(&report), "{report}");

    // Words stand in every form of it.
    let words = json!({ "words": "Called the desk at <7>.\nNobody had changed anything." });
    let (status, written) = hurnix.send(Method::PUT, &format!("{path}/words"), Some(words)).await?;
    assert_eq!((status, &written["words_by"]), (StatusCode::OK, &json!("admin")), "{written}");
    assert!(hurnix.get(&path).await?["words"].as_str().is_some_and(|words| words.contains("<7>")));
    assert!(file(&hurnix, &format!("{path}?form=html")).await?.contains("<p>Called the desk at &lt;7&gt;.</p>"));
    assert!(file(&hurnix, &format!("{path}?form=text")).await?.contains("\nNobody had changed anything.\n"));
    let long = json!({ "words": "a".repeat(20_001) });
    let (status, problem) = hurnix.send(Method::PUT, &format!("{path}/words"), Some(long)).await?;
    assert_eq!((status, faults(&problem)), (StatusCode::UNPROCESSABLE_ENTITY, vec!["words"]));

    // Who sees the group reads it; who reads only keeps and writes nothing; others do not see that there is one.
    let [reader, other] = [("mate", "sea"), ("clerk", "shore")];
    let reader = hurnix.somebody(reader.0, "reader", &[reader.1]).await?;
    let other = hurnix.somebody(other.0, "tuner", &[other.1]).await?;
    assert_eq!(reader.send(&hurnix, Method::GET, &path, None).await?.0, StatusCode::OK);
    let more = Some(json!({ "words": "" }));
    assert_eq!(
        reader.send(&hurnix, Method::PUT, &format!("{path}/words"), more.clone()).await?.0,
        StatusCode::FORBIDDEN
    );
    assert_eq!(other.send(&hurnix, Method::PUT, &format!("{path}/words"), more).await?.0, StatusCode::NOT_FOUND);
    assert_eq!(other.send(&hurnix, Method::GET, &path, None).await?.0, StatusCode::NOT_FOUND);
    assert_eq!(other.send(&hurnix, Method::GET, REPORTS, None).await?.1["matching"], 0);
    assert_eq!(titles(&reader.send(&hurnix, Method::GET, REPORTS, None).await?.1), ["One statement: freight"]);

    // A summary is of a group that one sees, or of all where one sees all.
    let summary =
        |group: Option<&str>| json!({ "kind": "instances", "group": group, "from": moment(4_000), "to": moment(600) });
    for (group, told) in [(None, "sea"), (Some("shore"), "sea")] {
        let tuner = hurnix.somebody(&format!("tuner {group:?}"), "tuner", &["sea"]).await?;
        let (status, problem) = tuner.send(&hurnix, Method::POST, REPORTS, Some(summary(group))).await?;
        assert_eq!((status, faults(&problem)), (StatusCode::UNPROCESSABLE_ENTITY, vec!["group"]), "{problem}");
        assert!(problem["errors"][0]["remedy"].as_str().is_some_and(|remedy| remedy.contains(told)));
    }
    let (status, of_group) = hurnix.send(Method::POST, REPORTS, Some(summary(Some("sea")))).await?;
    assert_eq!((status, &of_group["title"]), (StatusCode::CREATED, &json!("Summary of instances: sea")), "{of_group}");
    let path_of_group = format!("{REPORTS}/{}", of_group["report_id"].as_str().context("a number")?);
    let report = reader.send(&hurnix, Method::GET, &path_of_group, None).await?.1;
    assert_eq!(keys(&report), ["each_instance", "changes_of_all", "alarms", "advice"]);
    assert_eq!(report["sections"][0]["tables"][0]["rows"][0][0], "freight");
    assert_eq!(
        hurnix.send(Method::POST, REPORTS, Some(summary(Some("nowhere")))).await?.0,
        StatusCode::UNPROCESSABLE_ENTITY
    );

    // Found by kind and by what people wrote, in the order asked for.
    let (one, summary) = ("One statement: freight", "Summary of instances: sea");
    for (asked, found) in [
        ("", vec![summary, one]),
        ("?sort=title&ascending=true", vec![one, summary]),
        ("?sort=made&ascending=true", vec![one, summary]),
        ("?kind=instances", vec![summary]),
        ("?search=THE%20DESK", vec![one]),
        ("?search=%25", vec![]),
        ("?page_size=1&page=2", vec![one]),
    ] {
        assert_eq!(titles(&hurnix.get(&format!("{REPORTS}{asked}")).await?), found, "{asked}");
    }
    let (status, problem) = hurnix.send(Method::GET, &format!("{REPORTS}?sort=tide"), None).await?;
    assert_eq!((status.as_u16(), faults(&problem)), (422, vec!["sort"]), "{problem}");

    assert_eq!(hurnix.send(Method::DELETE, &path, None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.send(Method::GET, &path, None).await?.0, StatusCode::NOT_FOUND);
    assert_eq!(titles(&hurnix.get(REPORTS).await?), ["Summary of instances: sea"]);
    Ok(())
}

#[tokio::test]
async fn reports_are_made_by_themselves_also_over_a_restart_and_so_many_are_kept() -> Result<()> {
    let (hurnix, id) = start().await?;
    let set = json!({ "kind": "period", "instance_id": id, "every": "day", "at": "00:00", "time_zone": "UTC", "most_kept": 2,
        "sections": "waits,load" });
    let but = |field: &str, value: Value| {
        let mut set = set.clone();
        set[field] = value;
        set
    };
    let wrong = [
        ("kind", json!("incident")),
        ("kind", json!("hourly")),
        ("every", json!("hour")),
        ("at", json!("25:00")),
        ("time_zone", json!("Skerry/Sound")),
        ("most_kept", json!(0)),
        ("weekday", json!("someday")),
        ("sections", json!("timeline")),
        ("instance_id", Value::Null),
    ];
    for (field, value) in wrong {
        let (status, problem) = hurnix.send(Method::POST, SCHEDULES, Some(but(field, value))).await?;
        assert_eq!((status, faults(&problem)), (StatusCode::UNPROCESSABLE_ENTITY, vec![field]), "{problem}");
    }
    let (status, schedule) = hurnix.send(Method::POST, SCHEDULES, Some(set.clone())).await?;
    assert_eq!((status, &schedule["sections"]), (StatusCode::CREATED, &json!("waits,load")), "{schedule}");
    let number = i32::try_from(schedule["schedule_id"].as_i64().context("a number")?)?;

    // Its day came: the server was restarted meanwhile, and what there is of the day is reported on.
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let midnight = Timestamp(chrono::Utc::now().timestamp_micros()).bucket(86_400);
    let restart = Marker {
        at: midnight.plus_seconds(-7_200.0),
        kind: MarkerKind::Restart,
        text: "the server was restarted".into(),
    };
    store.add_markers(id.try_into()?, &[restart]).await?;
    let find = async || {
        let all = store.report_schedules().await?;
        all.into_iter().find(|one| one.schedule_id == number).context("it is there")
    };
    let due = async || -> Result<()> {
        let mut known = find().await?;
        known.next_at = midnight;
        store.write_report_schedule(Some(number), &known).await?;
        Ok(())
    };
    for made in 1..=3i64 {
        due().await?;
        wait_until("the report is made", async || {
            let known = find().await?;
            let list = hurnix.get(&format!("{REPORTS}?instance_id={id}&kind=period")).await?;
            // Two are kept, besides the one that somebody wrote to.
            Ok(known.problem.is_none() && known.next_at > midnight && list["matching"].as_i64() == Some(made))
        })
        .await?;
        if made == 1 {
            let list = hurnix.get(REPORTS).await?;
            let path = format!("{REPORTS}/{}", list["reports"][0]["report_id"].as_str().context("a number")?);
            let report = hurnix.get(&path).await?;
            assert_eq!(keys(&report), ["load", "waits"]);
            assert!(
                report["remarks"][0].as_str().is_some_and(|text| text.contains("the server was restarted")),
                "{report}"
            );
            assert_eq!(list["reports"][0]["made_by"], "each day");
            hurnix
                .send(Method::PUT, &format!("{path}/words"), Some(json!({ "words": "The night of the storm." })))
                .await?;
        }
    }
    due().await?;
    wait_until("the fourth is made in place of the second", async || {
        let list = hurnix.get(REPORTS).await?;
        let numbers: Vec<&str> =
            list["reports"].as_array().into_iter().flatten().filter_map(|one| one["report_id"].as_str()).collect();
        Ok(numbers == ["4", "3", "1"])
    })
    .await?;

    // What stands in the way is told, and the schedule goes on.
    let (status, _) =
        hurnix.send(Method::PUT, &format!("{SCHEDULES}/{number}"), Some(but("most_kept", json!(3)))).await?;
    assert_eq!(status, StatusCode::OK);
    let all = Marker { at: midnight.plus_seconds(-60.0), kind: MarkerKind::Reset, text: "counters were reset".into() };
    let many: Vec<Marker> =
        (0..300).map(|n| Marker { at: midnight.plus_seconds(f64::from(n) * -300.0), ..all.clone() }).collect();
    store.add_markers(id.try_into()?, &many).await?;
    due().await?;
    wait_until("the problem is told", async || {
        let told = hurnix.get(SCHEDULES).await?;
        Ok(told[0]["problem"].as_str().is_some_and(|problem| problem.contains("no part of it is long enough")))
    })
    .await?;

    // Without the schedule its reports stay.
    assert_eq!(hurnix.send(Method::DELETE, &format!("{SCHEDULES}/{number}"), None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.send(Method::PUT, &format!("{SCHEDULES}/{number}"), Some(set)).await?.0, StatusCode::NOT_FOUND);
    let list = hurnix.get(REPORTS).await?;
    assert_eq!((list["matching"].as_i64(), &list["reports"][0]["schedule_id"]), (Some(3), &Value::Null));
    Ok(())
}

#[tokio::test]
async fn between_two_snapshots_of_a_name_the_servers_own_counters_are_told() -> Result<()> {
    let cluster = watched_with(&[("pg_stat_statements.track", "all")]).await?;
    let hurnix = Hurnix::start().await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    hurnix.wait_for("instances/1", |instance| instance["collection"] == "collecting").await?;
    let mut client = cluster.connect("postgres").await?;
    client
        .execute(
            "CREATE FUNCTION tide() RETURNS bigint LANGUAGE plpgsql AS
             $$ BEGIN RETURN (SELECT count(*) AS high_water FROM pg_class); END $$",
        )
        .await?;
    let calls = async |client: &mut sqlx::PgConnection| -> Result<(i64, i64)> {
        let sql = "SELECT calls, rows FROM pg_stat_statements WHERE query LIKE 'SELECT deck_id AS low_water%'";
        Ok(sqlx::query_as(sql).fetch_one(client).await?)
    };
    let reads = async |client: &mut sqlx::PgConnection| -> Result<i64> {
        let sql = "SELECT seq_scan FROM pg_stat_user_tables WHERE relname = 'deck'";
        Ok(sqlx::query_scalar(sql).fetch_one(client).await?)
    };
    // A server counts what a session read of tables once that has ended.
    let work = async |client: &mut sqlx::PgConnection, times: i64| -> Result<()> {
        let all = reads(client).await? + times;
        let mut crew = cluster.connect("postgres").await?;
        for _ in 0..times {
            crew.execute("SELECT deck_id AS low_water FROM deck WHERE deck_id < 4").await?;
            crew.execute("SELECT tide()").await?;
        }
        crew.close().await?;
        wait_until("the server counted it", async || Ok(reads(client).await? == all)).await
    };
    let taken = async |name: &str| -> Result<String> {
        let (status, asked) = hurnix.send(Method::POST, "instances/1/snapshots", Some(json!({ "name": name }))).await?;
        assert_eq!(status, StatusCode::ACCEPTED, "{asked}");
        let number = asked["snapshot_id"].as_str().context("a number")?.to_owned();
        let is_whole = |list: &Value| {
            let all = list.as_array().into_iter().flatten();
            let mut found = all.filter(|one| one["snapshot_id"] == number.as_str());
            found.next().is_some_and(|one| {
                ["statements", "tables", "indexes", "databases", "checkpoints"]
                    .iter()
                    .all(|kind| one["kinds"].as_array().is_some_and(|kinds| kinds.contains(&json!(kind))))
            })
        };
        hurnix.wait_for("instances/1/snapshots", is_whole).await?;
        Ok(number)
    };
    // The catalog tells what tables are called.
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    wait_until("the catalog is read", async || {
        Ok(store.catalog(1).await?.is_some() && store.inventory(1).await?.is_some())
    })
    .await?;
    work(&mut client, 5).await?;
    let first = taken("before release 12.4").await?;
    let before = calls(&mut client).await?;
    work(&mut client, 7).await?;
    let second = taken("after it").await?;
    let after = calls(&mut client).await?;
    let report = |first: &str, second: &str| format!("instances/1/report?kind=snapshots&first={first}&second={second}");
    let told = hurnix.get(&report(&first, &second)).await?;
    assert_eq!(keys(&told)[..2], ["statements_between", "nested_between"], "{told}");
    let rows = |section: usize| told["sections"][section]["tables"][0]["rows"].as_array().cloned().unwrap_or_default();
    let row = rows(0).into_iter().find(|row| row[9].as_str().is_some_and(|text| text.contains("low_water")));
    let row = row.context("the statement is told")?;
    let grown = ((after.0 - before.0) as f64, (after.1 - before.1) as f64);
    assert_eq!((row[0].as_f64(), row[4].as_f64()), (Some(grown.0), Some(grown.1)), "{row}");
    // What a function ran is told apart, and counted once.
    assert!(rows(0).iter().any(|row| row.to_string().contains("tide()")), "{told}");
    assert!(rows(0).iter().all(|row| !row.to_string().contains("high_water")), "{told}");
    let nested = rows(1).into_iter().find(|row| row.to_string().contains("high_water")).context("it is told")?;
    assert_eq!(nested[1].as_f64(), Some(7.0), "{nested}");
    let deck = rows(2).into_iter().find(|row| row[0] == "public.deck").context("tables go by their names")?;
    assert_eq!(deck[1].as_f64(), Some(7.0), "full reads: {deck}");
    assert!(rows(4).iter().any(|row| row[0] == "postgres"), "databases go by their names: {told}");
    // It is on the ruler, and the same by the command.
    let history =
        hurnix.get(&format!("instances/1/history?from={}&to={}", moment(600), moment(-60))).await?.to_string();
    assert!(history.contains("snapshot before release 12.4"), "{history}");
    let program = std::process::Command::new(env!("CARGO_BIN_EXE_hurnix"))
        .args(["report", "passage-a", "--kind", "snapshots", "--from", "before release 12.4", "--to", "after it"])
        .args(["--repository", &hurnix.repository.url("hurnix")])
        .output()?;
    let text = String::from_utf8_lossy(&program.stdout).into_owned();
    assert!(text.starts_with("Between two snapshots: passage-a\n") && text.contains("low_water"), "{text}");

    // What cannot be held against each other, and what is not there, is refused.
    for (one, other, says) in [(&second, &first, "exchange them"), (&first, &"77".to_owned(), "no snapshot 77")] {
        let (status, problem) = hurnix.send(Method::GET, &report(one, other), None).await?;
        assert_eq!((status, faults(&problem)), (StatusCode::UNPROCESSABLE_ENTITY, vec!["second"]), "{problem}");
        assert!(problem.to_string().contains(says), "{problem}");
    }
    let again = json!({ "name": "after it" });
    assert_eq!(hurnix.send(Method::POST, "instances/1/snapshots", Some(again)).await?.0, StatusCode::CONFLICT);
    client.execute("SELECT pg_stat_statements_reset()").await?;
    work(&mut client, 3).await?;
    let third = taken("after a reset").await?;
    let told = hurnix.get(&report(&second, &third)).await?;
    let sentence = told["sections"][0]["sentences"][0].as_str().context("a sentence")?;
    assert!(sentence.contains("the counters were reset in between"), "{sentence}");

    // It stays when all figures go, and goes when somebody deletes it.
    let path = format!("instances/1/snapshots/{first}");
    assert_eq!(hurnix.send(Method::DELETE, &path, None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.send(Method::DELETE, &path, None).await?.0, StatusCode::NOT_FOUND);
    Ok(())
}
