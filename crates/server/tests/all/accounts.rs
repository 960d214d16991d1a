//! Accounts, sessions, tokens and the audit trail, through the program as it is run.

use std::net::{IpAddr, Ipv4Addr};
use std::time::{Duration, Instant};

use crate::common::{ADMIN_PASSWORD, Hurnix, PASSWORD, SOMEBODYS_PASSWORD, connection, send, watched};
use anyhow::{Context, Result};
use futures::future::join_all;
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

/// A browser at another address of this machine.
fn elsewhere() -> Result<Client> {
    Ok(Client::builder().cookie_store(true).local_address(IpAddr::V4(Ipv4Addr::new(127, 0, 0, 2))).build()?)
}

async fn try_password(hurnix: &Hurnix, client: &Client, name: &str, password: &str) -> Result<(StatusCode, Value)> {
    send(client.post(hurnix.url("session")), Some(json!({ "name": name, "password": password }))).await
}

#[tokio::test]
async fn a_one_time_password_serves_for_nothing_but_another() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let new = json!({ "name": "pilot", "role": "reader" });
    let (status, made) = hurnix.send(Method::POST, "accounts", Some(new.clone())).await?;
    assert_eq!(status, StatusCode::CREATED, "{made}");
    assert_eq!(hurnix.send(Method::POST, "accounts", Some(new)).await?.0, StatusCode::CONFLICT);
    let one_time = made["password"].as_str().context("it is told")?;

    let client = Client::builder().cookie_store(true).build()?;
    let (status, current) = try_password(&hurnix, &client, "pilot", one_time).await?;
    assert_eq!((status, &current["must_set_password"]), (StatusCode::OK, &json!(true)));
    let (status, problem) = send(client.get(hurnix.url("instances")), None).await?;
    assert_eq!((status, &problem["type"]), (StatusCode::FORBIDDEN, &json!("urn:hurnix:problem:set-password")));

    let csrf_token = current["csrf_token"].as_str().context("there is a token")?;
    let set = async |current: &str, new: &str| {
        let request = client.put(hurnix.url("account/password")).header("x-csrf-token", csrf_token);
        send(request, Some(json!({ "current": current, "new": new }))).await
    };
    for (current, new, field) in
        [(one_time, "short", "new"), (one_time, one_time, "new"), ("wrong", SOMEBODYS_PASSWORD, "current")]
    {
        let (status, problem) = set(current, new).await?;
        assert_eq!((status, &problem["errors"][0]["field"]), (StatusCode::UNPROCESSABLE_ENTITY, &json!(field)));
        assert!(!problem.to_string().contains(one_time) && !problem.to_string().contains(new), "{problem}");
    }
    assert_eq!(set(one_time, SOMEBODYS_PASSWORD).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(send(client.get(hurnix.url("instances")), None).await?.0, StatusCode::OK);
    assert_eq!(try_password(&hurnix, &Client::new(), "pilot", one_time).await?.0, StatusCode::UNAUTHORIZED);

    // Who forgot theirs gets another one; the sessions end.
    let path = format!("accounts/{}/one-time-password", made["account_id"]);
    let (status, again) = hurnix.send(Method::POST, &path, None).await?;
    assert_eq!(status, StatusCode::OK);
    assert_eq!(send(client.get(hurnix.url("instances")), None).await?.0, StatusCode::UNAUTHORIZED);
    let again = again["password"].as_str().context("it is told")?;
    assert_eq!(try_password(&hurnix, &client, "pilot", again).await?.0, StatusCode::OK);
    Ok(())
}

#[tokio::test]
async fn a_thousand_wrong_passwords_are_not_looked_at_and_lock_nobody_out_for_good() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let attacker = elsewhere()?;
    let begun = Instant::now();
    let mut outcomes = Vec::new();
    for _ in 0..20 {
        let tries = (0..50).map(|_| try_password(&hurnix, &attacker, "admin", "a guess at the password"));
        outcomes.extend(join_all(tries).await.into_iter().collect::<Result<Vec<_>>>()?);
    }
    let looked_at = outcomes.iter().filter(|(status, _)| *status == StatusCode::UNAUTHORIZED).count();
    let made_to_wait = outcomes.iter().filter(|(status, _)| *status == StatusCode::TOO_MANY_REQUESTS).count();
    assert_eq!(looked_at + made_to_wait, 1000);
    // Four at once, and then one at the end of each wait, which doubles.
    let waits_over = (begun.elapsed().as_secs_f64() / 2.0 + 1.0).log2().ceil() as usize;
    assert!(looked_at <= 4 + waits_over, "{looked_at} were looked at in {:?}", begun.elapsed());
    let (_, problem) = outcomes.last().context("there were some")?;
    assert!(problem["detail"].as_str().is_some_and(|detail| detail.contains("hurnix account reset")), "{problem}");

    // Not even the right one is looked at there; where the account signed in from before, it is.
    assert_eq!(try_password(&hurnix, &attacker, "admin", ADMIN_PASSWORD).await?.0, StatusCode::TOO_MANY_REQUESTS);
    assert_eq!(try_password(&hurnix, &Client::new(), "admin", ADMIN_PASSWORD).await?.0, StatusCode::OK);
    hurnix.get("instances").await?;

    // The trail shows the guesses that were looked at, and not a row for each of the others.
    let trail = hurnix.get(&format!("audit?{}&action=sign_in&outcome=refused", today())).await?;
    assert_eq!(trail["matching"], looked_at);
    assert_eq!(trail["entries"][0]["client"], "127.0.0.2");
    assert_eq!(trail["entries"][0]["detail"], "wrong-password");

    // With nobody else left to help, the command does.
    let reset = tokio::process::Command::new(env!("CARGO_BIN_EXE_hurnix"))
        .args(["account", "reset", "admin"])
        .env("HURNIX_REPOSITORY", hurnix.repository.url("hurnix"))
        .output()
        .await?;
    let told = String::from_utf8(reset.stdout)?;
    let one_time = told.trim().rsplit(' ').next().context("it is told")?;
    // The address has still to wait for what was tried from it; another one has not.
    let third = Client::builder().local_address(IpAddr::V4(Ipv4Addr::new(127, 0, 0, 3))).build()?;
    assert_eq!(try_password(&hurnix, &third, "admin", one_time).await?.0, StatusCode::OK, "{told}");
    Ok(())
}

#[tokio::test]
async fn names_that_are_accounts_cannot_be_told_from_those_that_are_not() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    for name in ["mate", "bosun", "purser"] {
        hurnix.somebody(name, "reader", &[]).await?;
    }
    let stranger = elsewhere()?;
    // Turn by turn, so that whatever else the machine does slows both.
    let mut answers = [Vec::new(), Vec::new()];
    let mut took = [Duration::ZERO; 2];
    for names in [["mate", "siren"], ["bosun", "kraken"], ["purser", "ghost"]] {
        for _ in 0..2 {
            for (is_unknown, name) in names.into_iter().enumerate() {
                let begun = Instant::now();
                answers[is_unknown].push(try_password(&hurnix, &stranger, name, "wrong all the way").await?);
                took[is_unknown] += begun.elapsed();
            }
        }
    }
    assert_eq!(answers[0], answers[1], "the same in every word");
    let ratio = took[0].as_secs_f64() / took[1].as_secs_f64();
    assert!((0.4..2.5).contains(&ratio), "{took:?}");
    // And both are made to wait alike.
    for name in ["mate", "siren"] {
        for _ in 0..2 {
            assert_eq!(try_password(&hurnix, &stranger, name, "wrong").await?.0, StatusCode::UNAUTHORIZED);
        }
        assert_eq!(try_password(&hurnix, &stranger, name, "wrong").await?.0, StatusCode::TOO_MANY_REQUESTS);
    }
    Ok(())
}

/// The window of the last hour and the next minute, as an address carries it.
fn today() -> String {
    let moment = |seconds: i64| (chrono::Utc::now() + chrono::Duration::seconds(seconds)).format("%Y-%m-%dT%H:%M:%SZ");
    format!("from={}&to={}", moment(-3600), moment(60))
}

#[tokio::test]
async fn sessions_are_listed_and_ended_and_so_are_tokens() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let tuner = hurnix.somebody("mate", "tuner", &[]).await?;
    let second = Client::builder().cookie_store(true).user_agent("a second browser").build()?;
    try_password(&hurnix, &second, "mate", SOMEBODYS_PASSWORD).await?;
    let (_, sessions) = tuner.send(&hurnix, Method::GET, "account/sessions", None).await?;
    let other = sessions.as_array().unwrap().iter().find(|session| session["is_this"] == false).context("two")?;
    assert_eq!((&other["program"], &other["client"]), (&json!("a second browser"), &json!("127.0.0.1")));
    let path = format!("account/sessions/{}", other["session_id"]);
    assert_eq!(hurnix.send(Method::DELETE, &path, None).await?.0, StatusCode::NOT_FOUND, "nobody else's");
    assert_eq!(tuner.send(&hurnix, Method::DELETE, &path, None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(send(second.get(hurnix.url("session")), None).await?.0, StatusCode::UNAUTHORIZED);

    // A token does what its role and its account's may, needs no CSRF token, and makes no other tokens.
    let make = async |name: &str, role: &str, days: i64| {
        let new = json!({ "name": name, "role": role, "days": days });
        tuner.send(&hurnix, Method::POST, "account/tokens", Some(new)).await
    };
    let (status, problem) = make("too much", "administrator", 0).await?;
    let fields: Vec<&Value> = problem["errors"].as_array().unwrap().iter().map(|error| &error["field"]).collect();
    assert_eq!((status, fields), (StatusCode::UNPROCESSABLE_ENTITY, vec![&json!("days"), &json!("role")]));
    let (status, made) = make("nightly", "reader", 30).await?;
    assert_eq!(status, StatusCode::CREATED);
    assert_eq!(make("nightly", "reader", 30).await?.0, StatusCode::CONFLICT);
    let token = made["token"].as_str().context("it is told once")?.to_owned();
    assert!(token.starts_with("hurnix_"));
    let by_token = async |method: Method, path: &str, body: Option<Value>, token: &str| {
        send(Client::new().request(method, hurnix.url(path)).bearer_auth(token), body).await
    };
    assert_eq!(by_token(Method::GET, "instances", None, &token).await?.0, StatusCode::OK);
    let marker = Some(json!({ "text": "by a token" }));
    assert_eq!(by_token(Method::POST, "instances/1/markers", marker, &token).await?.0, StatusCode::FORBIDDEN);
    let (_, made) = make("deploys", "tuner", 30).await?;
    let tuning = made["token"].as_str().context("it is told once")?.to_owned();
    let new = Some(json!({ "name": "more", "role": "reader", "days": 1 }));
    assert_eq!(by_token(Method::POST, "account/tokens", new, &tuning).await?.0, StatusCode::FORBIDDEN);
    assert_eq!(by_token(Method::GET, "instances", None, "hurnix_made-up").await?.0, StatusCode::UNAUTHORIZED);
    let (_, tokens) = tuner.send(&hurnix, Method::GET, "account/tokens", None).await?;
    assert_eq!((&tokens[1]["name"], &tokens[1]["role"]), (&json!("nightly"), &json!("reader")));
    assert!(tokens[1]["seen_at"].is_string() && !tokens.to_string().contains(&token), "{tokens}");
    let path = format!("account/tokens/{}", tokens[1]["token_id"]);
    assert_eq!(tuner.send(&hurnix, Method::DELETE, &path, None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(by_token(Method::GET, "instances", None, &token).await?.0, StatusCode::UNAUTHORIZED);
    Ok(())
}

#[tokio::test]
async fn accounts_are_limited_to_groups_and_an_administrator_is_always_left() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    for label in ["passage-a", "ledger"] {
        let mut instance = connection(&cluster, PASSWORD);
        instance["label"] = label.into();
        hurnix.send(Method::POST, "instances", Some(instance)).await?;
    }
    let group = |group: &str| Some(json!({ "group": group }));
    assert_eq!(hurnix.send(Method::PUT, "instances/1/group", group("sea")).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.send(Method::PUT, "instances/2/group", group(" ")).await?.0, StatusCode::UNPROCESSABLE_ENTITY);
    let limited = hurnix.somebody("mate", "tuner", &["sea"]).await?;
    let seen = async || {
        let (_, list) = limited.send(&hurnix, Method::GET, "instances", None).await?;
        let labels = list.as_array().unwrap().iter().map(|instance| instance["label"].as_str().unwrap().to_owned());
        anyhow::Ok(labels.collect::<Vec<String>>())
    };
    assert_eq!(seen().await?, ["passage-a"]);
    let marker = || Some(json!({ "text": "new timetable" }));
    assert_eq!(limited.send(&hurnix, Method::POST, "instances/1/markers", marker()).await?.0, StatusCode::CREATED);
    for (method, path) in [
        (Method::GET, "instances/2"),
        (Method::GET, "instances/2/history"),
        (Method::GET, "instances/2/collection"),
        (Method::POST, "instances/2/markers"),
    ] {
        let body = (method == Method::POST).then(marker).flatten();
        let (status, problem) = limited.send(&hurnix, method, path, body).await?;
        assert_eq!(status, StatusCode::NOT_FOUND, "{path}");
        let (_, of_none) = limited.send(&hurnix, Method::GET, "instances/77", None).await?;
        assert_eq!(problem.to_string().replace('2', "77"), of_none.to_string().replace('2', "77"), "as if it were not");
    }

    // What an account may do changes while it is signed in.
    let accounts = hurnix.get("accounts").await?;
    let id_of = |name: &str| {
        let account = accounts.as_array().unwrap().iter().find(|account| account["name"] == name).unwrap();
        account["account_id"].clone()
    };
    let rights = |role: &str, groups: &[&str]| Some(json!({ "role": role, "groups": groups }));
    let of_mate = format!("accounts/{}", id_of("mate"));
    assert_eq!(hurnix.send(Method::PUT, &of_mate, rights("reader", &[])).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(seen().await?.len(), 2);
    assert_eq!(limited.send(&hurnix, Method::POST, "instances/1/markers", marker()).await?.0, StatusCode::FORBIDDEN);
    for (role, groups) in [("captain", &[][..]), ("administrator", &["sea"][..]), ("reader", &[""][..])] {
        let (status, problem) = hurnix.send(Method::PUT, &of_mate, rights(role, groups)).await?;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
    }
    let of_admin = format!("accounts/{}", id_of("admin"));
    for (method, body) in [(Method::PUT, rights("tuner", &[])), (Method::DELETE, None)] {
        let (status, problem) = hurnix.send(method, &of_admin, body).await?;
        assert_eq!(status, StatusCode::CONFLICT, "{problem}");
    }
    let sessions = hurnix.get(&format!("{of_mate}/sessions")).await?;
    let ended = format!("{of_mate}/sessions/{}", sessions[0]["session_id"]);
    assert_eq!(hurnix.send(Method::DELETE, &ended, None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(limited.send(&hurnix, Method::GET, "session", None).await?.0, StatusCode::UNAUTHORIZED);
    assert_eq!(hurnix.send(Method::DELETE, &of_mate, None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.send(Method::DELETE, &of_mate, None).await?.0, StatusCode::NOT_FOUND);
    Ok(())
}

#[tokio::test]
async fn whatever_changes_something_is_in_the_audit_trail_and_no_secret_is() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let reader = hurnix.somebody("mate", "reader", &[]).await?;
    reader.send(&hurnix, Method::POST, "instances/1/markers", Some(json!({ "text": "no" }))).await?;
    let formula = json!({ "text": "=2+3, said \"ahoy\"" });
    hurnix.send(Method::POST, "instances/1/markers", Some(formula)).await?;

    let trail = async |more: &str| hurnix.get(&format!("audit?{}&{more}", today())).await;
    let all = trail("page_size=100").await?;
    let told: Vec<[&str; 4]> = all["entries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|entry| ["account", "action", "outcome", "detail"].map(|field| entry[field].as_str().unwrap()))
        .collect();
    let target = format!("passage-a: hurnix_watch at 127.0.0.1:{}/postgres", cluster.port());
    assert_eq!(
        told,
        [
            ["admin", "note_marker", "done", "=2+3, said \"ahoy\""],
            ["mate", "note_marker", "refused", "forbidden"],
            ["mate", "change_password", "done", ""],
            ["mate", "sign_in", "done", ""],
            ["admin", "add_account", "done", "mate: reader"],
            ["admin", "add_instance", "done", &target],
            ["admin", "change_password", "done", ""],
            ["admin", "sign_in", "done", ""],
        ]
    );
    assert_eq!(all["entries"][0]["instance"], "passage-a");
    assert_eq!(trail("account=mate").await?["matching"], 3);
    let by_account = trail("sort=account&ascending=true&page_size=100").await?;
    let accounts: Vec<&str> =
        by_account["entries"].as_array().unwrap().iter().map(|entry| entry["account"].as_str().unwrap()).collect();
    assert!(accounts.is_sorted() && accounts.len() == 8, "{accounts:?}");
    let oldest = trail("sort=at&ascending=true&page_size=1").await?;
    assert_eq!((&oldest["entries"][0]["action"], &oldest["matching"]), (&json!("sign_in"), &json!(8)));
    assert_eq!(trail("outcome=refused&action=note_marker").await?["matching"], 1);
    assert_eq!(trail("search=AHOY").await?["matching"], 1);
    assert_eq!(trail("page=2&page_size=5").await?["entries"].as_array().unwrap().len(), 3);
    let file = hurnix.client.get(hurnix.url(&format!("audit.csv?{}&account=admin", today()))).send().await?;
    assert!(file.headers()["content-disposition"].to_str()?.starts_with("attachment; filename=\"hurnix-audit-"));
    let file = file.text().await?;
    assert_eq!(file.lines().count(), 6, "{file}");
    assert!(file.contains(",note_marker,passage-a,\"'=2+3, said \"\"ahoy\"\"\",done"), "{file}");
    for secret in [PASSWORD, ADMIN_PASSWORD, SOMEBODYS_PASSWORD] {
        assert!(!all.to_string().contains(secret) && !file.contains(secret));
    }
    assert_eq!(reader.send(&hurnix, Method::GET, &format!("audit?{}", today()), None).await?.0, StatusCode::FORBIDDEN);
    Ok(())
}
