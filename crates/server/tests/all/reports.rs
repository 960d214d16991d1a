//! Reports: the same figures as the pages, in every form, and only over periods that counters go through.

use std::io::{Cursor, Read};
use std::process::Command;

use anyhow::{Context, Result};
use hurnix_core::Timestamp;
use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_core::keeping::retention::Retention;
use hurnix_store::Store;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::common::Hurnix;
use crate::contract::start;

fn moment(seconds_ago: i64) -> String {
    (chrono::Utc::now() - chrono::TimeDelta::seconds(seconds_ago)).format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

fn section<'a>(report: &'a Value, key: &str) -> Result<&'a Value> {
    let sections = report["sections"].as_array().context("sections")?;
    sections.iter().find(|section| section["key"] == key).with_context(|| format!("there is {key}"))
}

/// The row of a table that begins so.
fn row<'a>(section: &'a Value, table: usize, begins: &str) -> Result<&'a Vec<Value>> {
    let rows = section["tables"][table]["rows"].as_array().context("rows")?;
    rows.iter()
        .filter_map(Value::as_array)
        .find(|row| row[0] == begins)
        .with_context(|| format!("{begins} in {section}"))
}

async fn written(hurnix: &Hurnix, path: &str) -> Result<(String, Vec<u8>)> {
    let response = hurnix.client.get(hurnix.url(path)).send().await?;
    anyhow::ensure!(response.status() == StatusCode::OK, "{}", response.text().await?);
    let name = response.headers()["content-disposition"].to_str()?.to_owned();
    Ok((name, response.bytes().await?.to_vec()))
}

#[tokio::test]
async fn a_report_tells_what_the_pages_tell_in_every_form() -> Result<()> {
    let (hurnix, id) = start().await?;
    // After the reset that is among its stories.
    let window = format!("from={}&to={}", moment(4_000), moment(600));
    let then = format!("then_from={}&then_to={}", moment(4 * 3600), moment(2 * 3600 + 1800));
    let path = |more: &str| format!("instances/{id}/report?kind=period&{window}&{then}{more}");
    let report = hurnix.get(&path("")).await?;
    // To the unit: the totals of the page of statements.
    let page = hurnix.get(&format!("instances/{id}/statements?{window}")).await?;
    let load = section(&report, "load")?;
    for (name, figure) in [("calls", "calls"), ("rows", "rows"), ("pages read", "read_pages"), ("WAL", "log_bytes")] {
        assert_eq!(row(load, 0, name)?[1].as_f64(), page["total"][figure].as_f64(), "{name}");
    }
    let moved = hurnix.get(&format!("instances/{id}/then-and-now?{window}&{then}")).await?;
    let first = &section(&report, "changed")?["tables"][0]["rows"][0];
    assert_eq!(first[6], moved["statements"][0]["text"]);
    let strongest = section(&report, "statements")?["tables"][0]["rows"][0][9].clone();
    assert_eq!(strongest, page["families"][0]["text"]);
    // Waits by their length are those of the page, too.
    let lengths = hurnix.get(&format!("instances/{id}/load/lengths?{window}")).await?;
    let told = section(&report, "waits")?["tables"][2]["rows"].as_array().context("rows")?;
    let of_page = lengths["lengths"].as_array().context("lengths")?;
    assert!(!told.is_empty() && told.len() == of_page.len(), "{lengths}");
    for (row, length) in told.iter().zip(of_page) {
        assert_eq!((row[0].as_f64(), row[1].as_f64()), (length["from_seconds"].as_f64(), length["waits"].as_f64()));
    }
    // JSON is what its schema says.
    let schema: Value = serde_json::from_str(include_str!("../../../../docs/formats/report.schema.json"))?;
    let complaints: Vec<String> =
        jsonschema::validator_for(&schema)?.iter_errors(&report).map(|error| error.to_string()).collect();
    assert!(complaints.is_empty(), "{complaints:?}");
    // As HTML that stands alone, as text, and as a file for each table.
    let (name, html) = written(&hurnix, &path("&form=html")).await?;
    let html = String::from_utf8(html)?;
    assert!(name.starts_with("attachment; filename=\"hurnix-period-freight-") && name.ends_with(".html\""), "{name}");
    assert!(html.contains("<h2 id=\"statements\">Statements</h2>") && html.contains("@page"), "{html}");
    assert!(!html.contains("http://") && !html.contains("https://") && !html.contains("<script"));
    let (_, text) = written(&hurnix, &path("&form=text")).await?;
    let text = String::from_utf8(text)?;
    assert!(text.starts_with("Report on a period: freight\n==="), "{text}");
    let (name, archive) = written(&hurnix, &path("&form=csv")).await?;
    assert!(name.ends_with(".zip\""), "{name}");
    let mut archive = zip::ZipArchive::new(Cursor::new(archive))?;
    let tables = report["sections"]
        .as_array()
        .context("sections")?
        .iter()
        .map(|one| one["tables"].as_array().map_or(0, Vec::len));
    assert_eq!(archive.len(), tables.sum::<usize>());
    let mut file = String::new();
    archive.by_name("load.csv")?.read_to_string(&mut file)?;
    assert!(
        file.starts_with("figure,exactly,") && file.contains(&format!("\ncalls,{},", page["total"]["calls"])),
        "{file}"
    );
    // Only some sections; and none that this kind does not have.
    let some = hurnix.get(&path("&sections=waits,load")).await?;
    let keys: Vec<&Value> = some["sections"].as_array().into_iter().flatten().map(|one| &one["key"]).collect();
    assert_eq!(keys, ["load", "waits"], "in the order of the kind");
    let (status, problem) = hurnix.send(Method::GET, &path("&sections=waits,timeline"), None).await?;
    assert_eq!((status, &problem["errors"][0]["value"]), (StatusCode::UNPROCESSABLE_ENTITY, &json!("timeline")));
    Ok(())
}

#[tokio::test]
async fn a_period_with_a_restart_in_it_is_refused_with_parts_that_work() -> Result<()> {
    let (hurnix, id) = start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let at = |seconds_ago: f64| Timestamp(chrono::Utc::now().timestamp_micros()).plus_seconds(-seconds_ago);
    let restart = |seconds_ago, kind, text: &str| Marker { at: at(seconds_ago), kind, text: text.into() };
    let markers = [
        restart(9_000.0, MarkerKind::Restart, "the server was restarted"),
        restart(5_000.0, MarkerKind::Reset, "statement counters were reset"),
    ];
    store.add_markers(id.try_into()?, &markers).await?;
    let window = format!("from={}&to={}", moment(4 * 3600), moment(1800));
    let path = |kind: &str, window: &str| format!("instances/{id}/report?kind={kind}&{window}");
    let (status, problem) = hurnix.send(Method::GET, &path("period", &window), None).await?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    let fault = &problem["errors"][0];
    assert!(fault["remedy"].as_str().is_some_and(|text| text.contains("the server was restarted at")), "{fault}");
    let parts = fault["parts"].as_array().context("parts")?;
    // With the reset that is among its stories, there are four.
    assert!(parts.len() >= 3, "{fault}");
    for part in parts {
        let end = |end: &str| part[end].as_str().context("a time").map(str::to_owned);
        let window = format!("from={}&to={}", end("from")?, end("to")?);
        let report = hurnix.get(&path("period", &window)).await?;
        assert!(row(section(&report, "load")?, 0, "calls")?[1].as_f64() > Some(0.0), "{part}");
    }
    // An incident may be a restart: it is told.
    let incident = hurnix.get(&path("incident", &window)).await?;
    let timeline = section(&incident, "timeline")?["tables"][0]["rows"].to_string();
    assert!(timeline.contains("the server was restarted") && timeline.contains("statement counters were reset"));
    Ok(())
}

#[tokio::test]
async fn the_command_writes_the_same_report_and_judges_by_a_tolerance() -> Result<()> {
    let (hurnix, id) = start().await?;
    let noted = json!({ "text": "release 12.4", "at": moment(4_000) });
    let (status, _) = hurnix.send(Method::POST, &format!("instances/{id}/markers"), Some(noted)).await?;
    assert_eq!(status, StatusCode::CREATED);
    let repository = hurnix.repository.url("hurnix");
    let run = |more: &[&str]| {
        let program = Command::new(env!("CARGO_BIN_EXE_hurnix"))
            .args(["report", "freight", "--repository", &repository])
            .args(more)
            .output()?;
        let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
        anyhow::Ok((program.status.code(), text(program.stdout), text(program.stderr)))
    };
    let (from, then) = (moment(4_000), moment(4 * 3600));
    // From a marker, as text, held against hours of which something is known.
    let until = moment(600);
    let (code, out, error) = run(&["--from", "release 12.4", "--to", &until, "--then-from", &then])?;
    assert_eq!(code, Some(0), "{error}");
    assert!(out.starts_with("Report on a period: freight") && out.contains("Statements took"), "{out}");
    // The same figures as the page, from a file whose name it makes itself.
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("report.json");
    let path = file.to_str().context("a path")?;
    let (code, _, error) =
        run(&["--from", &from, "--to", &until, "--form", "json", "--sections", "load", "--out", path])?;
    assert_eq!(code, Some(0), "{error}");
    let report: Value = serde_json::from_slice(&std::fs::read(&file)?)?;
    let page = hurnix.get(&format!("instances/{id}/statements?from={from}&to={until}")).await?;
    assert_eq!(row(section(&report, "load")?, 0, "calls")?[1].as_f64(), page["total"]["calls"].as_f64());
    // More than anybody tolerates is worse, and has a status of its own; what is tolerated has none.
    let spans = ["--from", &from, "--to", &until, "--then-from", &then, "--sections", "load"];
    let with = |tolerance: &'static str| run(&[spans.as_slice(), &["--tolerance", tolerance]].concat());
    let (code, _, error) = with("900%")?;
    assert_eq!(code, Some(0), "{error}");
    assert!(error.contains("within: the same work takes"), "{error}");
    let (code, _, error) = with("many")?;
    assert_eq!(code, Some(2), "{error}");
    let (code, _, error) = run(&["--from", "release 99"])?;
    assert!(code == Some(1) && error.contains("the text of a marker of this instance"), "{error}");
    Ok(())
}
