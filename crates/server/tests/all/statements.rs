//! Statements of an instance: ranked, narrowed, single executions of them, and two periods side by side.

use anyhow::{Context, Result};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::Executor;

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched_with};
use crate::contract::start;

fn moment(seconds_ago: i64) -> String {
    (chrono::Utc::now() - chrono::TimeDelta::seconds(seconds_ago)).format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

fn rows<'a>(list: &'a Value, name: &str) -> &'a [Value] {
    list[name].as_array().map_or(&[], Vec::as_slice)
}

fn sum(list: &[Value], of: impl Fn(&Value) -> &Value) -> f64 {
    list.iter().filter_map(|row| of(row).as_f64()).sum()
}

#[tokio::test]
async fn parts_of_a_window_add_up_to_all_of_it() -> Result<()> {
    let (hurnix, id) = start().await?;
    let window = format!("from={}&to={}", moment(2 * 3600), moment(1800));
    let path = |more: &str| format!("instances/{id}/statements?{window}&page_size=200{more}");
    let all = hurnix.get(&path("")).await?;
    let total = all["total"]["exec_us"].as_i64().context("a total")?;
    assert!(total > 0 && rows(&all, "families").len() > 10, "{all}");
    // By account, and by database; one page holds all families of some of them.
    let mut whole = 0;
    for (by, field) in [("account", "account"), ("database", "database")] {
        let parts = hurnix.get(&format!("instances/{id}/load/breakdown?{window}&by={by}&most=40")).await?;
        let mut of_parts = 0;
        for part in rows(&parts, "parts") {
            let name = part["name"].as_str().context("a name")?;
            let list = hurnix.get(&path(&format!("&{field}={name}"))).await?;
            of_parts += list["total"]["exec_us"].as_i64().unwrap_or_default();
            if list["matching"].as_u64() == Some(rows(&list, "families").len() as u64) {
                let sum = sum(rows(&list, "families"), |row| &row["figures"]["exec_us"]);
                assert_eq!(list["total"]["exec_us"].as_f64(), Some(sum), "{by} {name}");
                whole += 1;
            }
        }
        assert_eq!(of_parts, total, "{by}");
    }
    assert!(whole > 0);
    // By both together: what an account does in each database is all that it does.
    let names = async |by: &str| {
        let parts = hurnix.get(&format!("instances/{id}/load/breakdown?{window}&by={by}&most=40")).await?;
        anyhow::Ok(rows(&parts, "parts").iter().filter_map(|part| Some(part["name"].as_str()?.to_owned())).collect())
    };
    let (accounts, databases): (Vec<String>, Vec<String>) = (names("account").await?, names("database").await?);
    let mut of_both = 0;
    for account in &accounts {
        let of_account = hurnix.get(&path(&format!("&account={account}"))).await?["total"]["exec_us"].as_i64();
        let mut of_databases = 0;
        for database in &databases {
            let list = hurnix.get(&path(&format!("&account={account}&database={database}"))).await?;
            of_databases += list["total"]["exec_us"].as_i64().unwrap_or_default();
        }
        assert_eq!(Some(of_databases), of_account, "{account}");
        of_both += of_databases;
    }
    assert_eq!(of_both, total);
    let nobody = hurnix.get(&path("&account=nobody")).await?;
    assert_eq!((nobody["matching"].as_i64(), nobody["total"]["exec_us"].as_i64()), (Some(0), Some(0)));
    // What goes on around applications, and the rest.
    let around = hurnix.get(&path("&kinds=session,monitoring")).await?;
    let others = hurnix.get(&path("&kinds=query,change,procedure,definition,upkeep,other")).await?;
    assert_eq!(around["matching"], all["around"]["families"]);
    let both = around["matching"].as_i64().zip(others["matching"].as_i64()).map(|(one, other)| one + other);
    assert_eq!(both, all["matching"].as_i64());
    let (status, problem) = hurnix.send(Method::GET, &path("&kinds=query,tides"), None).await?;
    assert_eq!((status, &problem["errors"][0]["value"]), (StatusCode::UNPROCESSABLE_ENTITY, &json!("tides")));
    Ok(())
}

#[tokio::test]
async fn each_order_is_that_of_its_figure() -> Result<()> {
    let (hurnix, id) = start().await?;
    let window = format!("from={}&to={}", moment(2 * 3600), moment(1800));
    let path = |more: &str| format!("instances/{id}/statements?{window}&page_size=200{more}");
    let figure = |name: &'static str| move |row: &Value| row["figures"][name].as_f64();
    type Of = Box<dyn Fn(&Value) -> Option<f64>>;
    let orders: [(&str, Of); 7] = [
        ("planning", Box::new(figure("plan_us"))),
        ("reads", Box::new(figure("read_pages"))),
        ("writes", Box::new(figure("dirtied_pages"))),
        ("wal", Box::new(figure("log_bytes"))),
        (
            "temp",
            Box::new(|row| {
                Some(row["figures"]["temp_read_pages"].as_f64()? + row["figures"]["temp_written_pages"].as_f64()?)
            }),
        ),
        ("waiting", Box::new(|row| row["waiting"].as_f64())),
        ("running", Box::new(|row| row["running"].as_f64())),
    ];
    for (sort, of) in orders {
        let list = hurnix.get(&path(&format!("&sort={sort}"))).await?;
        let values: Vec<f64> = rows(&list, "families").iter().filter_map(&of).collect();
        assert!(values.len() > 10 && values.windows(2).all(|pair| pair[0] >= pair[1]), "{sort}: {values:?}");
        assert!(sort == "temp" || values[0] > 0.0, "{sort}");
    }
    // Sessions seen in each family make up those seen at all, but for what no statement is known of.
    let list = hurnix.get(&path("&sort=waiting")).await?;
    let (seen, all) = (sum(rows(&list, "families"), |row| &row["load"]["total"]), list["load"]["total"].as_f64());
    assert!(seen > 0.0 && all.is_some_and(|all| seen <= all + 1e-9), "{seen} of {all:?}");
    // By a bound of it, and by a program: only what was seen.
    let least = rows(&list, "families")[3]["waiting"].as_f64().context("it waited")?;
    let some = hurnix.get(&path(&format!("&sort=waiting&waiting=>={least}"))).await?;
    assert_eq!(some["matching"], 4);
    let parts = hurnix.get(&format!("instances/{id}/load/breakdown?{window}&by=program&most=40")).await?;
    let program = rows(&parts, "parts")[0]["name"].as_str().context("a program")?;
    let of_program = hurnix.get(&path(&format!("&program={}", program.replace(' ', "%20")))).await?;
    assert!(!rows(&of_program, "families").is_empty());
    assert!(rows(&of_program, "families").iter().all(|row| row["load"]["total"].as_f64() > Some(0.0)), "{of_program}");
    // The model's executions lie half of their mean apart, or more where their mean itself drifts.
    let spread = |row: &Value| Some(row["deviation_ms"].as_f64()? / row["mean_ms"].as_f64()?);
    let spreads: Vec<f64> = rows(&list, "families")
        .iter()
        .filter(|row| row["figures"]["calls"].as_i64() > Some(200) && row["mean_ms"].as_f64() > Some(2.0))
        .filter_map(spread)
        .collect();
    assert!(!spreads.is_empty() && spreads.iter().all(|spread| (0.4..3.0).contains(spread)), "{spreads:?}");
    Ok(())
}

#[tokio::test]
async fn single_executions_are_those_that_the_looks_saw() -> Result<()> {
    let (hurnix, id) = start().await?;
    let path = |more: &str| format!("instances/{id}/executions?from={}&to={}{more}", moment(3 * 3600), moment(0));
    let newest = hurnix.get(&path("&most=200")).await?;
    let looked_at = newest["looked_at"].as_str().context("it was looked at")?.to_owned();
    let executions = rows(&newest, "executions");
    assert!(executions.len() > 5, "{newest}");
    for execution in executions {
        assert_eq!(execution["is_running"], json!(execution["last_seen_at"] == looked_at), "{execution}");
        let looks = execution["load"]["samples"].as_f64();
        assert!(looks >= Some(1.0) && execution["load"]["total"].as_f64() == Some(1.0), "{execution}");
        assert!(!execution["mostly"].is_null());
    }
    let seen =
        |one: &Value| one["last_seen_at"].as_str().and_then(|at| at.parse::<chrono::DateTime<chrono::Utc>>().ok());
    assert!(executions.windows(2).all(|pair| seen(&pair[0]) >= seen(&pair[1]) && seen(&pair[1]).is_some()), "{newest}");
    let longest = hurnix.get(&path("&order=longest&most=50")).await?;
    let lengths: Vec<f64> = rows(&longest, "executions").iter().filter_map(|one| one["seconds"].as_f64()).collect();
    assert!(lengths.windows(2).all(|pair| pair[0] >= pair[1]) && lengths[0] > 0.0, "{lengths:?}");
    // The longest of each family is what statements are sorted by; it is told where it is asked for only.
    let statements = |more: &str| {
        format!("instances/{id}/statements?from={}&to={}&page_size=200{more}", moment(3 * 3600), moment(0))
    };
    let by_longest = hurnix.get(&statements("&sort=longest")).await?;
    let told: Vec<f64> =
        rows(&by_longest, "families").iter().filter_map(|row| row["longest_seconds"].as_f64()).collect();
    assert!((told[0] - lengths[0]).abs() < 1e-6 && told.windows(2).all(|pair| pair[0] >= pair[1]), "{told:?}");
    let bound = hurnix.get(&statements(&format!("&longest=>={}", told[1]))).await?;
    assert_eq!(bound["matching"].as_u64(), Some(told.iter().filter(|seconds| **seconds >= told[1]).count() as u64));
    let plain = hurnix.get(&statements("")).await?;
    assert!(rows(&plain, "families").iter().all(|row| row["longest_seconds"].is_null()), "nobody asked");
    let family = executions[0]["family_id"].as_str().context("a number")?;
    let of_family = hurnix.get(&path(&format!("&family_id={family}"))).await?;
    assert!(rows(&of_family, "executions").iter().all(|one| one["family_id"] == family), "{of_family}");
    // Its page tells who ran it, and the tables that it names.
    let page =
        hurnix.get(&format!("instances/{id}/statements/{family}?from={}&to={}", moment(7200), moment(0))).await?;
    assert!(page["tables"].is_array() && page["kind"].is_string(), "{page}");
    let elsewhere = hurnix
        .get(&format!("instances/{id}/statements/{family}/elsewhere?from={}&to={}", moment(7200), moment(0)))
        .await?;
    assert_eq!(rows(&elsewhere, "instances").len(), 1, "{elsewhere}");
    let long = format!("instances/{id}/executions?from={}&to={}", moment(7 * 3600), moment(0));
    for (bad, field) in [(long, "from"), (path("&most=0"), "most"), (path("&family_id=x"), "family_id")] {
        let (status, problem) = hurnix.send(Method::GET, &bad, None).await?;
        assert_eq!(
            (status, &problem["errors"][0]["field"]),
            (StatusCode::UNPROCESSABLE_ENTITY, &json!(field)),
            "{bad}"
        );
    }
    Ok(())
}

#[tokio::test]
async fn two_periods_differ_by_what_their_statements_do() -> Result<()> {
    let (hurnix, id) = start().await?;
    let spans = format!(
        "from={}&to={}&then_from={}&then_to={}",
        moment(2 * 3600),
        moment(3600),
        moment(4 * 3600),
        moment(2 * 3600 + 1800)
    );
    let both = hurnix.get(&format!("instances/{id}/then-and-now?{spans}")).await?;
    let by = |of: &Value, part: &str| of["moved"][part].as_f64().unwrap_or_default();
    let whole = both["now"]["time"].as_f64().zip(both["then"]["time"].as_f64()).map(|(now, then)| now - then);
    assert!((by(&both, "by") - whole.context("both have figures")?).abs() < 1e-9, "{both}");
    assert!((by(&both, "by") - by(&both, "by_calls") - by(&both, "by_each")).abs() < 1e-9);
    let statements = rows(&both, "statements");
    assert!(statements.windows(2).all(|pair| by(&pair[0], "by").abs() >= by(&pair[1], "by").abs()));
    if both["families"].as_u64() <= Some(statements.len() as u64) {
        let sum: f64 = statements.iter().map(|row| by(row, "by")).sum();
        assert!((sum - by(&both, "by")).abs() < 1e-6, "{sum}");
    }
    let likeness = &both["likeness"];
    assert_eq!((&likeness["has_other_length"], &likeness["overlaps"]), (&json!(true), &json!(false)), "{likeness}");
    // Left to itself, it takes the same hours of the day before.
    let alone = hurnix.get(&format!("instances/{id}/then-and-now?from={}&to={}", moment(7200), moment(3600))).await?;
    assert_eq!(alone["likeness"]["has_like_hours"], json!(true));
    // From something that happened.
    let noted = json!({ "text": "release 12.4", "at": moment(5400) });
    let (_, marker) = hurnix.send(Method::POST, &format!("instances/{id}/markers"), Some(noted)).await?;
    let marker = marker["marker_id"].as_str().context("a number")?;
    let periods = hurnix.get(&format!("instances/{id}/markers/{marker}/periods")).await?;
    let at = |side: &str, end: &str| {
        anyhow::Ok(periods[side][end].as_str().context("a time")?.parse::<chrono::DateTime<chrono::Utc>>()?)
    };
    assert_eq!(at("now", "from")? - at("then", "from")?, chrono::TimeDelta::days(1));
    assert_eq!(at("now", "to")? - at("now", "from")?, at("then", "to")? - at("then", "from")?);
    let (status, _) = hurnix.send(Method::GET, &format!("instances/{id}/markers/999999/periods"), None).await?;
    assert_eq!(status, StatusCode::NOT_FOUND);
    let wrong = format!(
        "instances/{id}/then-and-now?from={}&to={}&then_from={}&then_to={}",
        moment(7200),
        moment(3600),
        moment(7200),
        moment(9000)
    );
    let (status, problem) = hurnix.send(Method::GET, &wrong, None).await?;
    assert_eq!((status, &problem["errors"][0]["field"]), (StatusCode::UNPROCESSABLE_ENTITY, &json!("then_to")));
    Ok(())
}

#[tokio::test]
async fn what_functions_ran_is_told_apart_from_what_clients_sent() -> Result<()> {
    let cluster = watched_with(&[("pg_stat_statements.track", "all")]).await?;
    let mut client = cluster.connect("postgres").await?;
    client
        .execute(
            "CREATE FUNCTION gates_open(vessel int) RETURNS bigint LANGUAGE plpgsql AS
             $$ BEGIN RETURN (SELECT count(*) AS open_gates FROM deck WHERE vessel_id = vessel); END $$",
        )
        .await?;
    let hurnix = Hurnix::start_with(&["--tables", "1s", "--statements", "1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let path = || format!("instances/1/nested-statements?from={}&to={}", moment(300), moment(-30));
    let of_gates = |list: &Value| {
        let found = rows(list, "statements").iter();
        let mut found = found.filter(|row| row["text"].as_str().is_some_and(|text| text.contains("open_gates")));
        found.next().cloned()
    };
    // Differences begin once it was read with its text; from then on each call is counted, and none twice.
    wait_until("what the function ran is counted", async || {
        client.execute("SELECT gates_open(3)").await?;
        Ok(of_gates(&hurnix.get(&path()).await?).is_some())
    })
    .await?;
    let list = hurnix.get(&path()).await?;
    let row = of_gates(&list).context("it is there")?;
    assert_eq!(row["rows"], row["calls"], "{row}");
    assert!(row["exec_us"].as_i64() > Some(0) && row["share"].as_f64() > Some(0.0), "{row}");
    assert!(!list.to_string().contains("select gates_open"), "what clients sent is no part of it: {list}");
    // The other way, too: what clients sent is written by itself, and may come a moment later.
    let sent = || format!("instances/1/statements?from={}&to={}&page_size=200", moment(300), moment(-30));
    wait_until("what clients sent is counted", async || {
        client.execute("SELECT gates_open(3)").await?;
        Ok(hurnix.get(&sent()).await?.to_string().contains("gates_open"))
    })
    .await?;
    let sent = hurnix.get(&sent()).await?.to_string();
    assert!(!sent.contains("open_gates"), "{sent}");
    Ok(())
}
