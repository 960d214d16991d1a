//! Whoever listens where a server should be: what it may not have, and what it may not do.

use std::sync::{Arc, Mutex};

use crate::common::{PASSWORD, address, watched};
use anyhow::{Context, Result};
use hurnix_core::Timestamp;
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::figures::Figures;
use hurnix_source::postgres::{Address, PostgresSource};
use hurnix_source::{Obstacle, Source, exporter};
use sqlx::{Executor, Row};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};

/// A message of a server: its letter, its length, its body.
fn message(letter: u8, body: &[u8]) -> Vec<u8> {
    [&[letter][..], &(body.len() as u32 + 4).to_be_bytes(), body].concat()
}

/// Somebody who listens and answers each time they hear something with the next of these; answers with the port,
/// and with all that was heard.
async fn stand_in(answers: Vec<Vec<u8>>) -> Result<(u16, Arc<Mutex<Vec<u8>>>)> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let port = listener.local_addr()?.port();
    let heard = Arc::new(Mutex::new(Vec::new()));
    let noted = heard.clone();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let _ = answer(stream, &answers, &noted).await;
        }
    });
    Ok((port, heard))
}

async fn answer(mut stream: TcpStream, answers: &[Vec<u8>], heard: &Mutex<Vec<u8>>) -> Result<()> {
    let mut bytes = [0; 4096];
    for answer in answers {
        let read = stream.read(&mut bytes).await?;
        anyhow::ensure!(read > 0, "gone");
        heard.lock().unwrap().extend_from_slice(&bytes[..read]);
        stream.write_all(answer).await?;
    }
    while stream.read(&mut bytes).await? > 0 {}
    Ok(())
}

fn to(port: u16, tls: TlsMode) -> Address {
    Address {
        host: "127.0.0.1".into(),
        port,
        database: "passage".into(),
        account: "hurnix_watch".into(),
        password: PASSWORD.into(),
        tls,
        tls_ca: None,
        allows_plain_password: false,
    }
}

#[tokio::test]
async fn a_password_is_not_given_to_whoever_asks_for_it_in_clear() -> Result<()> {
    let in_clear = message(b'R', &3_u32.to_be_bytes());
    let as_md5 = message(b'R', &[&5_u32.to_be_bytes()[..], b"salt"].concat());
    for asked in [in_clear, as_md5] {
        for tls in [TlsMode::Off, TlsMode::Prefer] {
            let mut answers = vec![asked.clone(), Vec::new()];
            if tls == TlsMode::Prefer {
                answers.insert(0, b"N".to_vec());
            }
            let (port, heard) = stand_in(answers.clone()).await?;
            let problem = PostgresSource::connect(&to(port, tls)).await.map(|_| ()).unwrap_err();
            assert_eq!(problem.obstacle, Obstacle::PasswordInClear, "{problem:?}");
            assert!(problem.remedy.contains("scram-sha-256") && problem.remedy.contains("verify"), "{problem:?}");
            let begin = if tls == TlsMode::Prefer { 8 } else { 0 };
            let first = u32::from_be_bytes(heard.lock().unwrap()[begin..begin + 4].try_into()?) as usize;
            assert_eq!(heard.lock().unwrap().len(), begin + first, "nothing follows who one wants to be");
            assert!(!String::from_utf8_lossy(&heard.lock().unwrap()).contains(PASSWORD));

            // Where that is allowed, it is sent: the test would see it.
            let (port, heard) = stand_in(answers).await?;
            let allowed = Address { allows_plain_password: true, ..to(port, tls) };
            let connecting = tokio::spawn(async move { PostgresSource::connect(&allowed).await.map(|_| ()) });
            while !heard.lock().unwrap().windows(5).any(|window| window[0] == b'p' && window[1..4] == [0, 0, 0]) {
                tokio::time::sleep(std::time::Duration::from_millis(5)).await;
            }
            connecting.abort();
        }
    }
    Ok(())
}

#[tokio::test]
async fn a_real_server_that_asks_with_md5_is_used_only_where_that_is_allowed() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    let rules: String = admin.fetch_one("SHOW hba_file").await?.get(0);
    std::fs::write(&rules, "host all postgres 127.0.0.1/32 trust\nhost all hurnix_watch 127.0.0.1/32 md5\n")?;
    admin
        .execute(
            "SET password_encryption = 'md5'; ALTER ROLE hurnix_watch PASSWORD 'kelp and tern'; SELECT pg_reload_conf();",
        )
        .await?;
    let refused = loop {
        // The reload takes effect a moment later.
        match PostgresSource::connect(&address(&cluster)).await {
            Ok(source) => source.close().await,
            Err(problem) => break problem,
        }
    };
    assert_eq!(refused.obstacle, Obstacle::PasswordInClear, "{refused:?}");
    let allowed = Address { allows_plain_password: true, ..address(&cluster) };
    PostgresSource::connect(&allowed).await?.close().await;
    Ok(())
}

/// Resident memory of this process, in bytes.
fn memory() -> Result<usize> {
    let status = std::fs::read_to_string("/proc/self/status")?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).context("the kernel tells")?;
    Ok(line.split_whitespace().next().context("a number")?.parse::<usize>()? * 1024)
}

#[tokio::test]
async fn what_a_hostile_server_sends_is_bounded() -> Result<()> {
    let ready =
        [message(b'R', &0_u32.to_be_bytes()), message(b'S', b"server_version\x0015.0\0"), message(b'Z', b"I")].concat();
    // Declares 1.6 GB, at once or when it is asked the first question, and sends a good part of it.
    let giant = [&b"D"[..], &1_600_000_000_u32.to_be_bytes(), &vec![b'x'; 40 << 20]].concat();
    let endless: Vec<u8> = message(b'N', &vec![b'x'; 1 << 20]).repeat(160);
    let before = memory()?;
    for answers in [
        vec![[&b"S"[..], &1_600_000_000_u32.to_be_bytes()].concat()],
        vec![ready.clone(), giant],
        vec![ready.clone(), endless],
        vec![message(b'S', &vec![b'x'; 300_000]).repeat(20)],
    ] {
        let (port, _) = stand_in(answers).await?;
        let problem = PostgresSource::connect(&to(port, TlsMode::Off)).await.map(|_| ()).unwrap_err();
        assert!(
            matches!(problem.obstacle, Obstacle::Oversized | Obstacle::NotSupported),
            "it is told what is wrong: {problem:?}"
        );
    }
    let grown = memory()?.saturating_sub(before);
    assert!(grown < 600 << 20, "this process, the stand-in included, grew by {grown} bytes");
    Ok(())
}

#[tokio::test]
async fn rights_that_go_and_come_are_noticed_and_nothing_is_left_out_silently() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    assert!(
        source.counters(Figures::Statements).await?.is_some_and(|reading| !reading
            .of::<StatementCounters>()
            .unwrap()
            .rows
            .is_empty())
    );
    assert!(!source.look_again(false).await?, "nothing has changed");

    admin.execute("REVOKE pg_monitor FROM hurnix_watch").await?;
    for problem in [
        source.counters(Figures::Statements).await.map(drop).unwrap_err(),
        source.activity().await.map(drop).unwrap_err(),
        source.look_again(false).await.map(drop).unwrap_err(),
    ] {
        let hurnix_source::ReadProblem::Obstructed(problem) = problem else { panic!("{problem:?}") };
        assert_eq!(problem.obstacle, Obstacle::PrivilegeMissing);
        assert!(problem.remedy.contains("GRANT pg_monitor"), "{problem:?}");
    }
    admin.execute("GRANT pg_monitor TO hurnix_watch").await?;
    source.look_again(false).await?;
    assert!(source.counters(Figures::Statements).await?.is_some());

    admin.execute("DROP EXTENSION pg_stat_statements").await?;
    assert!(source.look_again(false).await?);
    assert!(source.limits().iter().any(|limit| limit.figures == "statements"));
    assert!(source.counters(Figures::Statements).await?.is_none());
    admin.execute("CREATE EXTENSION pg_stat_statements").await?;
    assert!(source.look_again(false).await?);
    assert!(source.limits().iter().all(|limit| limit.figures != "statements"));
    assert!(source.counters(Figures::Statements).await?.is_some());
    Ok(())
}

#[tokio::test]
async fn an_exporter_that_points_elsewhere_is_not_followed_and_gets_its_own_header_only() -> Result<()> {
    let answer = |text: &str| format!("HTTP/1.1 {text}").into_bytes();
    let (elsewhere, heard_elsewhere) =
        stand_in(vec![answer("200 OK\r\ncontent-length: 21\r\nconnection: close\r\n\r\nhw_power_watts{} 1\n\n\n")])
            .await?;
    let (port, heard) = stand_in(vec![answer(&format!(
        "302 Found\r\nlocation: http://127.0.0.1:{elsewhere}/metrics\r\ncontent-length: 0\r\nconnection: close\r\n\r\n"
    ))])
    .await?;
    let url = format!("http://127.0.0.1:{port}/metrics");
    let told = exporter::read(&exporter::client(), &url, Some("Bearer kelp"), Timestamp(0)).await;
    assert!(told.unwrap_err().to_string().contains("points elsewhere"));
    assert!(heard_elsewhere.lock().unwrap().is_empty(), "nobody was asked there");
    let heard = String::from_utf8_lossy(&heard.lock().unwrap()).to_lowercase();
    assert!(heard.contains("authorization: bearer kelp"), "{heard}");
    Ok(())
}
