//! Entries of a server's log in the repository.

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::retention::Retention;
use hurnix_core::readings::server_log::{LogKind, LogLine, LogPosition};
use hurnix_core::{Timestamp, Window};
use hurnix_store::*;
use serde_json::json;

/// The edge of an hour.
const START: i64 = 1_771_999_200;

fn second(second: i64) -> Timestamp {
    Timestamp((START + second) * 1_000_000)
}

fn line(at: i64, number: i64, message: &str) -> LogLine {
    let (severity, session) = ("ERROR".into(), "69a5.1267".into());
    LogLine { at: second(at), severity, session, number, message: message.into(), ..LogLine::default() }
}

fn position(offset: i64) -> LogPosition {
    LogPosition { file: "log.json".into(), offset }
}

#[tokio::test]
async fn entries_are_written_once_with_the_position_and_found_by_what_they_say() -> Result<()> {
    let cluster = Cluster::temporary(Setup::default())?;
    cluster.ensure_database("hurnix").await?;
    let store = Store::open(&cluster.url("hurnix"), Retention::default()).await?;
    let instance = store.add_unconnected("gates", Engine::Bundle, &json!({}), None).await?;
    let names = store.names(instance, &["skerry_gate".into(), String::new()], second(0)).await?;
    let (gate, none) = (names["skerry_gate"], names[""]);
    let lines = [line(1, 1, "100% wrong_turn"), line(2, 2, "wrong turn"), line(3, 3, "deadlock detected")];
    let row = |line, kind, times| LogRow {
        line,
        kind,
        times,
        value: None,
        names: [gate, none, none, none],
        family_id: None,
        statement: None,
    };
    let first = [row(&lines[0], LogKind::Error, 4), row(&lines[1], LogKind::Error, 1)];
    store.write_log(instance, &first, None, &position(10)).await?;
    // Written, though the writer did not hear of it: doing it again changes nothing.
    store.write_log(instance, &first, None, &position(10)).await?;
    // Another process has read on: whoever believes the log to stand where it began writes nothing.
    let second_part = [row(&lines[1], LogKind::Error, 1), row(&lines[2], LogKind::Deadlock, 1)];
    let overtaken = store.write_log(instance, &second_part, None, &position(20)).await;
    assert!(matches!(overtaken, Err(StoreProblem::Overtaken)), "{overtaken:?}");
    store.write_log(instance, &second_part, Some(&position(10)), &position(20)).await?;
    assert_eq!(store.instance(instance).await?.unwrap().log_position, Some(position(20)));

    let window = Window::new(second(0), second(60))?;
    let found = async |filter: LogFilter| -> Result<(Vec<String>, i64)> {
        let (entries, matching) = store.log_entries(instance, window, &LogFilter { limit: 2, ..filter }).await?;
        Ok((entries.into_iter().map(|entry| entry.line.message).collect(), matching))
    };
    let text = |texts: &[&str]| texts.iter().map(|text| (*text).to_owned()).collect::<Vec<_>>();
    assert_eq!(found(LogFilter::default()).await?, (text(&["deadlock detected", "wrong turn"]), 3));
    let searched = |search: &str| LogFilter { search: Some(search.into()), ..LogFilter::default() };
    assert_eq!(found(searched("00% WRONG_")).await?, (text(&["100% wrong_turn"]), 1));
    assert_eq!(found(searched("skerry_gate")).await?.1, 3);
    assert_eq!(found(LogFilter { kinds: vec![LogKind::Deadlock], ..LogFilter::default() }).await?.1, 1);
    assert_eq!(found(LogFilter { offset: 2, ..LogFilter::default() }).await?.0, text(&["100% wrong_turn"]));
    let of = |account: &str| LogFilter { account: Some(account.into()), ..LogFilter::default() };
    assert_eq!((found(of("skerry_gate")).await?.1, found(of("skerry")).await?.1), (3, 0));
    // Cells of ten seconds hold what lies in them, and together everything.
    let everything = LogFilter::default();
    let cells = store.log_cells(instance, window, &everything, 10).await?;
    assert!(cells.keys().all(|(_, at)| at.0 % 10_000_000 == 0), "{cells:?}");
    assert_eq!(cells.values().sum::<i64>(), 6);
    let mut counts: Vec<_> = store
        .log_counts(instance, window, &everything)
        .await?
        .into_iter()
        .map(|count| (count.kind, count.times))
        .collect();
    counts.sort();
    assert_eq!(counts, [(LogKind::Deadlock, 1), (LogKind::Error, 5)]);
    // What narrows the list narrows cells and counts, but for its kinds.
    let turns = LogFilter { kinds: vec![LogKind::Deadlock], ..searched("wrong") };
    assert_eq!(store.log_counts(instance, window, &turns).await?.len(), 1);
    assert_eq!(store.log_cells(instance, window, &turns, 10).await?.values().sum::<i64>(), 5);
    assert!(store.log_cells(instance, window, &of("skerry"), 10).await?.is_empty());
    let by_times = LogFilter { order: LogOrder::Times, ..LogFilter::default() };
    assert_eq!(found(by_times).await?.0, text(&["100% wrong_turn", "deadlock detected"]));
    let by_message = LogFilter { order: LogOrder::Message, ascending: true, ..LogFilter::default() };
    assert_eq!(found(by_message).await?.0, text(&["100% wrong_turn", "deadlock detected"]));
    let by_kind = LogFilter { order: LogOrder::Kind, ..LogFilter::default() };
    assert_eq!(found(by_kind).await?.0, text(&["wrong turn", "100% wrong_turn"]), "those alike newest first");
    let oldest_first = LogFilter { ascending: true, ..LogFilter::default() };
    assert_eq!(found(oldest_first).await?.0, text(&["100% wrong_turn", "wrong turn"]));
    assert_eq!(
        store
            .log_entries(instance, Window::new(second(-9), second(1))?, &LogFilter { limit: 9, ..LogFilter::default() })
            .await?
            .1,
        1
    );
    Ok(())
}
