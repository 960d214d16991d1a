//! Lists of instances, stored credentials and the key that seals, through the program as it is run.

use std::collections::HashMap;
use std::path::Path;

use crate::common::{Hurnix, PASSWORD, connection, hex, wait_until, watched};
use anyhow::{Context, Result, ensure};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::Row;
use tokio::process::Command;

/// A list of 500 servers of Skerry Line, of which 20 rows are bad in four ways.
fn long_list() -> String {
    let mut text = "label,host,port,database,account,password,tls,group\n".to_owned();
    for row in 0..500 {
        let (label, port, tls) = match row {
            0..5 => (String::new(), "5432", "prefer"),
            5..10 => (format!("berth-{row}"), "70000", "prefer"),
            10..15 => (format!("berth-{row}"), "5432", "sometimes"),
            15..20 => ("berth-30".to_owned(), "5432", "off"),
            _ => (format!("berth-{row}"), "", ""),
        };
        text += &format!("{label},berth-host-{row},{port},berth,hurnix_watch,planted-{row},{tls},quay\n");
    }
    text
}

#[tokio::test]
async fn a_list_is_looked_at_row_by_row_brought_in_written_out_and_taken_back() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let list = json!({ "format": "csv", "text": long_list() });
    let (status, preview) = hurnix.send(Method::POST, "instance-lists/preview", Some(list.clone())).await?;
    assert_eq!((status, &preview["good"], &preview["bad"]), (StatusCode::OK, &json!(480), &json!(20)), "{preview}");
    let of_row = |row: usize| {
        let problems = preview["rows"][row]["problems"].as_array().unwrap();
        problems.iter().map(|problem| problem["field"].as_str().unwrap()).collect::<Vec<_>>()
    };
    assert_eq!([of_row(0), of_row(5), of_row(10), of_row(16)], [["label"], ["port"], ["tls"], ["label"]]);
    assert_eq!((of_row(31).len(), &preview["rows"][31]["place"]), (0, &json!(33)), "the line of the file");
    assert_eq!((of_row(15).len(), of_row(30)), (0, vec!["label"]), "of rows with one label, the first is good");
    assert!(preview["rows"][16]["problems"][0]["remedy"].as_str().unwrap().contains("Row 17 has the same label"));
    assert!(!preview.to_string().contains("planted-"), "passwords are not repeated");
    assert_eq!(hurnix.get("instances").await?.as_array().unwrap().len(), 1, "nothing was brought in yet");

    let (status, brought) = hurnix.send(Method::POST, "instance-lists", Some(list.clone())).await?;
    assert_eq!(status, StatusCode::CREATED, "{brought}");
    assert_eq!((&brought["added"], brought["left_out"].as_array().unwrap().len()), (&json!(480), 20));
    assert_eq!(hurnix.get("instances").await?.as_array().unwrap().len(), 481);
    let (_, again) = hurnix.send(Method::POST, "instance-lists/preview", Some(list.clone())).await?;
    assert_eq!(again["good"], 0, "all labels are taken");
    assert_eq!(hurnix.send(Method::POST, "instance-lists", Some(list)).await?.0, StatusCode::UNPROCESSABLE_ENTITY);

    // What is written out is what was brought in, without secrets, and can be brought in again.
    let written = async |format: &str| {
        let answer = hurnix.client.get(hurnix.url(&format!("instance-lists/current?format={format}"))).send().await?;
        anyhow::Ok(answer.text().await?)
    };
    let (csv, json_list) = (written("csv").await?, written("json").await?);
    for text in [&csv, &json_list] {
        assert!(!text.contains("planted-") && !text.contains(PASSWORD) && text.contains("berth-host-77"));
    }
    assert_eq!(csv.lines().count(), 482);
    let taken_back = hurnix.send(Method::DELETE, &format!("instance-lists/{}", id(&brought)), None).await?;
    assert_eq!(taken_back.1["labels"].as_array().map(Vec::len), Some(480));
    assert_eq!(hurnix.get("instances").await?.as_array().unwrap().len(), 1, "the one from before stays");
    let gone = hurnix.send(Method::DELETE, &format!("instance-lists/{}", id(&brought)), None).await?;
    assert_eq!(gone.0, StatusCode::NOT_FOUND);
    assert_eq!(hurnix.send(Method::DELETE, "instances/1", None).await?.0, StatusCode::NO_CONTENT);
    for (format, text) in [("json", &json_list), ("csv", &csv)] {
        let list = json!({ "format": format, "text": text });
        let (status, brought) = hurnix.send(Method::POST, "instance-lists", Some(list)).await?;
        assert_eq!((status, &brought["added"]), (StatusCode::CREATED, &json!(481)), "{brought}");
        assert_eq!(sorted(&written("csv").await?), sorted(&csv), "{format}");
        hurnix.send(Method::DELETE, &format!("instance-lists/{}", id(&brought)), None).await?;
    }
    let (status, problem) =
        hurnix.send(Method::POST, "instance-lists/preview", Some(json!({ "format": "csv", "text": "" }))).await?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
    Ok(())
}

fn id(brought: &Value) -> &str {
    brought["list_id"].as_str().unwrap()
}

fn sorted(text: &str) -> Vec<&str> {
    let mut lines: Vec<&str> = text.lines().collect();
    lines.sort_unstable();
    lines
}

#[tokio::test]
async fn a_credential_serves_several_instances_and_the_key_is_rotated_under_them() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let store = async |password: &str| {
        let new = json!({ "name": "watch", "account": "hurnix_watch", "password": password });
        hurnix.send(Method::POST, "credentials", Some(new)).await
    };
    let (status, stored) = store("wrong").await?;
    assert_eq!(status, StatusCode::CREATED);
    assert_eq!(store(PASSWORD).await?.0, StatusCode::CONFLICT);
    let path = format!("credentials/{}", stored["credential_id"]);

    // By a list, and by the form.
    let row = json!([{ "label": "passage-a", "host": "127.0.0.1", "port": cluster.port(), "database": "postgres",
        "credential": "watch", "tls": "off" }, { "label": "passage-c", "host": "127.0.0.1", "database": "postgres",
        "credential": "nobody" }]);
    let list = json!({ "format": "json", "text": row.to_string() });
    let (_, brought) = hurnix.send(Method::POST, "instance-lists", Some(list)).await?;
    assert_eq!(brought["left_out"][0]["problems"][0]["field"], "credential", "{brought}");
    let by_form = json!({ "label": "ledger", "host": "127.0.0.1", "port": cluster.port(), "database": "postgres",
        "credential": "watch", "tls": "off" });
    let (status, problem) = hurnix.send(Method::POST, "instances", Some(by_form.clone())).await?;
    assert_eq!(status, StatusCode::CREATED, "{problem}");
    let mut both = by_form.clone();
    both["account"] = "somebody".into();
    assert_eq!(hurnix.send(Method::POST, "instances/trial", Some(both)).await?.0, StatusCode::UNPROCESSABLE_ENTITY);
    for instance in ["instances/1", "instances/2"] {
        hurnix.wait_for(instance, |instance| instance["problem"]["message"].to_string().contains("password")).await?;
    }
    let credentials = hurnix.get("credentials").await?;
    assert_eq!((&credentials[0]["used_by"], &credentials[0]["account"]), (&json!(2), &json!("hurnix_watch")));

    // Mended in one place, for both.
    let changed = json!({ "account": "hurnix_watch", "password": PASSWORD });
    assert_eq!(hurnix.send(Method::PUT, &path, Some(changed)).await?.0, StatusCode::NO_CONTENT);
    for instance in ["instances/1", "instances/2"] {
        hurnix.wait_for(instance, |instance| instance["collection"] == "collecting").await?;
    }
    let (status, problem) = hurnix.send(Method::DELETE, &path, None).await?;
    assert_eq!(status, StatusCode::CONFLICT, "{problem}");

    // The key is rotated while Hurnix runs: what is stored still opens, and so does what is stored after it.
    let before = std::fs::read_to_string(hurnix.key_file())?;
    let rotated = Command::new(env!("CARGO_BIN_EXE_hurnix"))
        .args(["key", "rotate", "--key-file"])
        .arg(hurnix.key_file())
        .env("HURNIX_REPOSITORY", hurnix.repository.url("hurnix"))
        .output()
        .await?;
    assert!(rotated.status.success(), "{}", String::from_utf8_lossy(&rotated.stderr));
    assert!(String::from_utf8(rotated.stdout)?.starts_with("3 secrets"), "two instances and one credential");
    assert!(!std::fs::read_to_string(hurnix.key_file())?.contains(before.trim()));
    trial_goes_well(&hurnix, by_form).await?;
    let own = hurnix.send(Method::PUT, "instances/2", Some(connection(&cluster, PASSWORD))).await?;
    assert_eq!(own.0, StatusCode::CONFLICT, "the label is taken: {}", own.1);
    let mut own = connection(&cluster, PASSWORD);
    own["label"] = "ledger".into();
    assert_eq!(hurnix.send(Method::PUT, "instances/2", Some(own.clone())).await?.0, StatusCode::NO_CONTENT);
    own["password"] = Value::Null;
    trial_goes_well(&hurnix, own).await?;
    assert_eq!(hurnix.get("credentials").await?[0]["used_by"], 1);
    Ok(())
}

/// A trial of the second instance; where the machine has much to do, the server may not answer in time at first.
async fn trial_goes_well(hurnix: &Hurnix, asked: Value) -> Result<()> {
    wait_until("the trial is answered in time", async || {
        let (status, answer) = hurnix.send(Method::POST, "instances/2/trial", Some(asked.clone())).await?;
        let is_late = answer.to_string().contains("did not answer within");
        ensure!(status == StatusCode::OK || is_late, "{answer}");
        Ok(status == StatusCode::OK)
    })
    .await
}

#[tokio::test]
async fn servers_and_databases_are_found_when_somebody_asks() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let range = |from: u16, to: u16| Some(json!({ "host": "127.0.0.1", "from_port": from, "to_port": to }));
    let port = cluster.port();
    let (status, found) = hurnix.send(Method::POST, "discovery/servers", range(port, port)).await?;
    assert_eq!(status, StatusCode::OK, "{found}");
    assert_eq!(found, json!([{ "port": port, "offers_tls": false, "known_as": ["passage-a"] }]));
    for (from, to) in [(0, 5), (10, 9), (1000, 1032)] {
        let (status, problem) = hurnix.send(Method::POST, "discovery/servers", range(from, to)).await?;
        assert_eq!((status, &problem["errors"][0]["field"]), (StatusCode::UNPROCESSABLE_ENTITY, &json!("to_port")));
    }
    let mut admin = cluster.connect("postgres").await?;
    sqlx::query("CREATE DATABASE ledger").execute(&mut admin).await?;
    let (status, found) =
        hurnix.send(Method::POST, "discovery/databases", Some(connection(&cluster, PASSWORD))).await?;
    assert_eq!(status, StatusCode::OK, "{found}");
    let told: Vec<(&str, bool)> = found
        .as_array()
        .unwrap()
        .iter()
        .map(|database| (database["name"].as_str().unwrap(), database["is_known"].as_bool().unwrap()))
        .collect();
    assert_eq!(told, [("ledger", false), ("postgres", true)]);
    let (status, problem) =
        hurnix.send(Method::POST, "discovery/databases", Some(connection(&cluster, "wrong"))).await?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem["detail"].as_str().unwrap().contains("ALTER ROLE hurnix_watch PASSWORD"), "{problem}");
    Ok(())
}

#[tokio::test]
async fn a_planted_secret_is_found_nowhere() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let credential = json!({ "name": "watch", "account": "hurnix_watch", "password": PASSWORD });
    hurnix.send(Method::POST, "credentials", Some(credential)).await?;
    // Also where things go wrong: a body that cannot be read, a server that refuses it, a list with faults.
    let mut wrong = connection(&cluster, PASSWORD);
    wrong["database"] = "nowhere".into();
    let mut answers = vec![hurnix.send(Method::POST, "instances/trial", Some(wrong.clone())).await?.1];
    wrong["label"] = "failing".into();
    answers.push(hurnix.send(Method::POST, "instances", Some(wrong)).await?.1);
    answers.push(hurnix.send(Method::POST, "instances", Some(json!({ "password": PASSWORD }))).await?.1);
    answers.push(hurnix.send(Method::POST, "instances", Some(json!({ "password": [PASSWORD] }))).await?.1);
    let list = json!({ "format": "csv", "text": format!("label,password\na,{PASSWORD}\n") });
    answers.push(hurnix.send(Method::POST, "instance-lists/preview", Some(list)).await?.1);
    let list = json!({ "format": "json", "text": format!("[{{\"password\": \"{PASSWORD}\" ") });
    answers.push(hurnix.send(Method::POST, "instance-lists/preview", Some(list)).await?.1);
    hurnix.wait_for("instances/1", |instance| instance["collection"] == "collecting").await?;
    hurnix.wait_for("instances/2", |instance| instance["collection"] == "failing").await?;
    let day = "from=2026-03-01T00:00:00Z&to=2027-12-01T00:00:00Z";
    hurnix.wait_for("instances/1/history", |history| !history["span"].is_null()).await?;
    for path in [
        "session",
        "instances",
        "instances/1",
        "instances/2",
        "instances/1/collection",
        "credentials",
        "instance-lists/current?format=json",
        "instance-lists/current?format=csv",
        &format!("audit?{}", day.replace("2026-03-01", "2026-11-01")),
        &format!("audit.csv?{}", day.replace("2026-03-01", "2026-11-01")),
    ] {
        answers.push(hurnix.send(Method::GET, path, None).await?.1);
    }
    answers.push(Value::String(hurnix.client.get(format!("{}/metrics", hurnix.address)).send().await?.text().await?));
    answers.push(Value::String(hurnix.log_text()?));
    let bundle = tempfile::tempdir()?;
    let file = bundle.path().join("passage-a.ndjson");
    export(&hurnix, &file).await?;
    answers.push(Value::String(std::fs::read_to_string(&file)?));
    answers.push(Value::String(whole_repository(&hurnix).await?));
    for answer in answers {
        let text = answer.to_string();
        for secret in [PASSWORD.to_owned(), hex(PASSWORD)] {
            assert!(!text.contains(&secret), "{}", &text[..text.len().min(400)]);
        }
    }
    // A process that dies leaves no memory behind.
    let limits = std::fs::read_to_string(format!("/proc/{}/limits", hurnix.process.id()))?;
    let core = limits.lines().find(|line| line.starts_with("Max core file size")).context("it is limited")?;
    assert_eq!(core.split_whitespace().rev().take(3).collect::<Vec<_>>(), ["bytes", "0", "0"], "{core}");
    Ok(())
}

async fn export(hurnix: &Hurnix, file: &Path) -> Result<()> {
    let exported = Command::new(env!("CARGO_BIN_EXE_hurnix"))
        .args(["export", "passage-a"])
        .arg(file)
        .env("HURNIX_REPOSITORY", hurnix.repository.url("hurnix"))
        .output()
        .await?;
    anyhow::ensure!(exported.status.success(), "{}", String::from_utf8_lossy(&exported.stderr));
    Ok(())
}

/// All rows of all tables, as text.
async fn whole_repository(hurnix: &Hurnix) -> Result<String> {
    let mut repository = hurnix.repository.connect("hurnix").await?;
    let tables: Vec<String> = sqlx::query_scalar(
        "SELECT oid::regclass::text FROM pg_class WHERE relkind = 'r' AND relnamespace = 'public'::regnamespace",
    )
    .fetch_all(&mut repository)
    .await?;
    let mut all = HashMap::new();
    for table in tables {
        let sql = format!("SELECT coalesce(string_agg(row::text, ' '), '') FROM {table} row");
        let row = sqlx::query(sqlx::AssertSqlSafe(sql)).fetch_one(&mut repository).await?;
        all.insert(table, row.get::<String, _>(0));
    }
    anyhow::ensure!(all["instance"].contains("passage-a"), "it was read");
    Ok(format!("{all:?}"))
}
