//! What stands in the way of a connection, made on a real server, and removed by carrying its remedy out.

use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
use std::path::Path;

use crate::common::{address, watched, watched_with};
use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_source::postgres::{
    AccountMayRead, Address, PostgresSource, ServerFound, account_script, databases, server_at,
};
use hurnix_source::{ConnectProblem, Obstacle, Source};
use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair};
use sqlx::postgres::PgConnectOptions;
use sqlx::{AssertSqlSafe, ConnectOptions, Connection, Executor, PgConnection, Row};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

async fn obstacle(address: &Address) -> ConnectProblem {
    PostgresSource::connect(address).await.map(|_| ()).expect_err("there is an obstacle")
}

async fn connects(address: &Address) -> Result<()> {
    PostgresSource::connect(address).await?.close().await;
    Ok(())
}

/// Carries a remedy out, as its administrator would, with a secret in place of the dots.
async fn carry_out(admin: &mut PgConnection, remedy: &str) -> Result<()> {
    let statements: Vec<&str> = remedy.lines().filter(|line| line.ends_with(';')).collect();
    anyhow::ensure!(!statements.is_empty(), "no statement in {remedy}");
    for statement in statements {
        admin
            .execute(AssertSqlSafe(statement.replace('…', "a word that was changed")))
            .await
            .context(statement.to_owned())?;
    }
    Ok(())
}

async fn setting(admin: &mut PgConnection, name: &str) -> Result<String> {
    Ok(admin.fetch_one(AssertSqlSafe(format!("SHOW {name}"))).await?.get(0))
}

#[tokio::test]
async fn a_host_that_is_not_permitted_is_let_in_by_the_line_that_is_printed() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    let rules = setting(&mut admin, "hba_file").await?;
    fs::write(&rules, "host all postgres 127.0.0.1/32 trust\n")?;
    admin.execute("SELECT pg_reload_conf()").await?;
    let told = loop {
        // The reload takes effect a moment later.
        match PostgresSource::connect(&address(&cluster)).await {
            Ok(source) => source.close().await,
            Err(problem) => break problem,
        }
    };
    assert_eq!(told.obstacle, Obstacle::HostNotPermitted);
    let line = told.remedy.lines().last().context("a line")?;
    let line = line.split('<').next().context("before the address")?.to_owned() + "127.0.0.1/32  scram-sha-256\n";
    fs::write(&rules, format!("host all postgres 127.0.0.1/32 trust\n{line}"))?;
    admin.execute("SELECT pg_reload_conf()").await?;
    for _ in 0..100 {
        if connects(&address(&cluster)).await.is_ok() {
            return Ok(());
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    connects(&address(&cluster)).await
}

#[tokio::test]
async fn accounts_passwords_and_privileges_are_mended_by_what_is_printed() -> Result<()> {
    let cluster = watched().await?;
    let (good, mut admin) = (address(&cluster), cluster.connect("postgres").await?);
    let wrong = Address { password: "no".into(), ..good.clone() };
    let told = obstacle(&wrong).await;
    assert_eq!(told.obstacle, Obstacle::WrongPassword);
    carry_out(&mut admin, &told.remedy).await?;
    connects(&Address { password: "a word that was changed".into(), ..good.clone() }).await?;

    // An account that is not there, with a name that needs its quotes.
    let newcomer = Address { account: "we\"ird; DROP TABLE x".into(), password: String::new(), ..good.clone() };
    let told = obstacle(&newcomer).await;
    assert_eq!(told.obstacle, Obstacle::WrongPassword, "{told:?}");
    carry_out(&mut admin, &told.remedy).await?;
    connects(&newcomer).await?;

    admin.execute("REVOKE pg_monitor FROM \"we\"\"ird; DROP TABLE x\"").await?;
    let told = obstacle(&newcomer).await;
    assert_eq!(told.obstacle, Obstacle::PrivilegeMissing);
    carry_out(&mut admin, &told.remedy).await?;
    connects(&newcomer).await?;

    admin.execute("REVOKE CONNECT ON DATABASE postgres FROM PUBLIC").await?;
    let told = obstacle(&newcomer).await;
    assert_eq!(told.obstacle, Obstacle::PrivilegeMissing);
    carry_out(&mut admin, &told.remedy).await?;
    connects(&newcomer).await
}

#[tokio::test]
async fn a_database_that_is_not_there_is_found_by_what_is_printed() -> Result<()> {
    let cluster = watched().await?;
    let told = obstacle(&Address { database: "nowhere".into(), ..address(&cluster) }).await;
    assert_eq!(told.obstacle, Obstacle::NoSuchDatabase);
    let query = told.remedy.split("; ").nth(1).context("a query")?.split(" lists").next().context("a query")?;
    let mut admin = cluster.connect("postgres").await?;
    let names = admin.fetch_all(AssertSqlSafe(query.to_owned())).await?;
    assert!(names.iter().any(|row| row.get::<String, _>(0) == "postgres"), "{query}");
    Ok(())
}

#[tokio::test]
async fn an_extension_that_is_missing_is_told_and_comes_by_what_is_printed() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin.execute("DROP EXTENSION pg_stat_statements").await?;
    let without = PostgresSource::connect(&address(&cluster)).await?;
    let limit = without.limits().iter().find(|limit| limit.figures == "statements").context("it is told")?.clone();
    carry_out(&mut admin, &limit.remedy).await?;
    let with = PostgresSource::connect(&address(&cluster)).await?;
    assert!(with.limits().iter().all(|limit| limit.figures != "statements"), "{:?}", with.limits());

    // Installed, but not loaded: only a restart helps, and that is what is said.
    let bare = watched_with(&[("shared_preload_libraries", "")]).await?;
    let source = PostgresSource::connect(&address(&bare)).await?;
    let limit = source.limits().iter().find(|limit| limit.figures == "statements").context("it is told")?;
    assert!(limit.remedy.contains("shared_preload_libraries") && limit.remedy.contains("restart"), "{limit:?}");
    Ok(())
}

#[tokio::test]
async fn servers_and_databases_are_found_where_they_are_and_nowhere_else() -> Result<()> {
    let (cluster, other) = (watched().await?, watched().await?);
    let patience = std::time::Duration::from_secs(2);
    for port in [cluster.port(), other.port()] {
        assert_eq!(server_at("127.0.0.1", port, patience).await, Some(ServerFound { port, offers_tls: false }));
    }
    // Something that answers otherwise, something that never answers, and nothing at all.
    let chatty = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let silent = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let (chatty_port, silent_port) = (chatty.local_addr()?.port(), silent.local_addr()?.port());
    let answering = tokio::spawn(async move {
        let (mut stream, _) = chatty.accept().await?;
        tokio::io::AsyncWriteExt::write_all(&mut stream, b"220 harbour mail").await
    });
    assert_eq!(server_at("127.0.0.1", chatty_port, patience).await, None);
    answering.await??;
    let soon = std::time::Duration::from_millis(200);
    assert_eq!(server_at("127.0.0.1", silent_port, soon).await, None);
    drop(silent);
    assert_eq!(server_at("127.0.0.1", silent_port, patience).await, None);
    let (_, certificate, key) = certificates("localhost")?;
    encrypt(&other, &certificate, &key).await?;
    let mut waited = 0;
    while server_at("127.0.0.1", other.port(), patience).await.is_some_and(|server| !server.offers_tls) {
        waited += 1;
        anyhow::ensure!(waited < 100, "the reload took too long");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }

    let mut admin = cluster.connect("postgres").await?;
    admin.execute("CREATE DATABASE \"tide & time\"").await?;
    admin.execute("CREATE DATABASE vault").await?;
    admin.execute("REVOKE CONNECT ON DATABASE vault FROM PUBLIC").await?;
    let found = databases(&address(&cluster)).await?;
    let told: Vec<(&str, bool)> = found.iter().map(|database| (database.name.as_str(), database.may_connect)).collect();
    assert_eq!(told, [("postgres", true), ("tide & time", true), ("vault", false)]);
    assert!(found.iter().all(|database| database.size_bytes > Some(1_000_000)), "{found:?}");
    let told = databases(&Address { password: "no".into(), ..address(&cluster) }).await.unwrap_err();
    assert_eq!(told.obstacle, Obstacle::WrongPassword);
    Ok(())
}

#[tokio::test]
async fn all_connections_taken_is_told_apart() -> Result<()> {
    let cluster =
        watched_with(&[("max_connections", "8"), ("superuser_reserved_connections", "1"), ("max_wal_senders", "0")])
            .await?;
    let mut held = Vec::new();
    let told = loop {
        match PostgresSource::connect(&address(&cluster)).await {
            Ok(source) => held.push(source),
            Err(problem) => break problem,
        }
    };
    assert_eq!((told.obstacle, held.len()), (Obstacle::TooManyConnections, 7), "{told:?}");
    Ok(())
}

#[tokio::test]
async fn the_script_for_a_new_account_gives_it_all_figures_and_no_more_rights() -> Result<()> {
    let settings = [("logging_collector", "on"), ("log_destination", "stderr,jsonlog")];
    let cluster = watched_with(&settings).await?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute("CREATE SCHEMA quay; CREATE TABLE quay.berth (berth_id int); CREATE TABLE public.tide (at int)")
        .await?;
    let account = "harbour \"watch\"";
    let all = AccountMayRead { tables: true, host: true, log: true, access: true };
    // As it would be for an older server, which knows no role that reads everything.
    for (version, may_read) in [(15, all), (13, all), (15, AccountMayRead::default())] {
        let script = account_script(version, account, "postgres", may_read);
        admin.execute(AssertSqlSafe(script.replace('…', "a word"))).await?;
        let newcomer = Address { account: account.into(), password: "a word".into(), ..address(&cluster) };
        let source = PostgresSource::connect(&newcomer).await?;
        // What the version itself cannot tell no script gives.
        let others = source.limits().iter().filter(|limit| !limit.by_version);
        let absent: Vec<&str> = others.map(|limit| limit.figures.as_str()).collect();
        let expected: &[&str] = if may_read == all {
            &[]
        } else {
            &["plans and planner statistics", "host", "host processes", "access rules", "log"]
        };
        assert_eq!(absent, *expected, "version {version}");
        source.close().await;
        let mut own = PgConnectOptions::new()
            .host("127.0.0.1")
            .port(cluster.port())
            .username(account)
            .password("a word")
            .database("postgres")
            .connect()
            .await?;
        for change in
            ["CREATE TABLE quay.mine (n int)", "INSERT INTO tide VALUES (1)", "ALTER SYSTEM SET work_mem = '1GB'"]
        {
            assert!(own.execute(change).await.is_err(), "{change}");
        }
        own.close().await?;
        let dropped = "DROP FUNCTION IF EXISTS public.hurnix_host_file(text), public.hurnix_host_processes(), public.hurnix_log_piece(text, bigint), public.hurnix_access_rules(), public.hurnix_passwords_kept();
             DROP OWNED BY \"harbour \"\"watch\"\"\"; DROP ROLE \"harbour \"\"watch\"\"\"";
        admin.execute(dropped).await?;
    }
    Ok(())
}

/// A signer, and a server's certificate that it has signed for a name.
fn certificates(name: &str) -> Result<(String, String, String)> {
    let mut of_signer = CertificateParams::new(Vec::new())?;
    of_signer.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    of_signer.distinguished_name.push(rcgen::DnType::CommonName, "Skerry Line");
    let signer_key = KeyPair::generate()?;
    let signer = of_signer.self_signed(&signer_key)?;
    let key = KeyPair::generate()?;
    let certificate =
        CertificateParams::new(vec![name.to_owned()])?.signed_by(&key, &Issuer::new(of_signer, signer_key))?;
    Ok((signer.pem(), certificate.pem(), key.serialize_pem()))
}

/// Gives a server a certificate, and switches encryption on.
async fn encrypt(cluster: &Cluster, certificate: &str, key: &str) -> Result<()> {
    let mut admin = cluster.connect("postgres").await?;
    let data = setting(&mut admin, "data_directory").await?;
    let owner = fs::metadata(&data)?;
    for (name, text) in [("server.crt", certificate), ("server.key", key)] {
        let file = Path::new(&data).join(name);
        fs::write(&file, text)?;
        fs::set_permissions(&file, fs::Permissions::from_mode(0o600))?;
        chown(&file, Some(owner.uid()), Some(owner.gid()))?;
    }
    admin.execute("ALTER SYSTEM SET ssl = on").await?;
    admin.execute("SELECT pg_reload_conf()").await?;
    Ok(())
}

#[tokio::test]
async fn encryption_is_offered_checked_and_told_when_it_is_not_what_was_asked_for() -> Result<()> {
    let cluster = watched().await?;
    let with = |tls, tls_ca: Option<&str>, host: &str| Address {
        tls,
        tls_ca: tls_ca.map(str::to_owned),
        host: host.into(),
        ..address(&cluster)
    };
    let told = obstacle(&with(TlsMode::Require, None, "127.0.0.1")).await;
    assert_eq!(told.obstacle, Obstacle::Tls);
    assert!(told.message.contains("offers no encryption"), "{told:?}");

    let (signer, certificate, key) = certificates("localhost")?;
    encrypt(&cluster, &certificate, &key).await?;
    let mut waited = 0;
    while connects(&with(TlsMode::Require, None, "127.0.0.1")).await.is_err() {
        waited += 1;
        anyhow::ensure!(waited < 100, "the reload took too long");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    for mode in [TlsMode::Off, TlsMode::Prefer] {
        connects(&with(mode, None, "127.0.0.1")).await?;
    }
    let told = obstacle(&with(TlsMode::Verify, None, "localhost")).await;
    assert_eq!(told.obstacle, Obstacle::Tls, "{told:?}");
    assert!(told.remedy.contains("certificate of its signer"), "{told:?}");
    connects(&with(TlsMode::Verify, Some(&signer), "localhost")).await?;
    let told = obstacle(&with(TlsMode::Verify, Some(&signer), "127.0.0.1")).await;
    assert!(told.message.contains("made out to another name"), "{told:?}");
    let (another, ..) = certificates("localhost")?;
    let told = obstacle(&with(TlsMode::Verify, Some(&another), "localhost")).await;
    assert_eq!(told.obstacle, Obstacle::Tls, "signed by somebody else: {told:?}");
    Ok(())
}

#[tokio::test]
async fn a_server_that_is_too_old_and_what_is_no_such_server_are_told_apart() -> Result<()> {
    // A real server whose functions answer, to this account, as those of an older one do.
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE SCHEMA before;
             CREATE FUNCTION before.current_setting(name text) RETURNS text LANGUAGE sql AS
                $$ SELECT CASE name WHEN 'server_version' THEN '12.17' WHEN 'server_version_num' THEN '120017'
                          ELSE pg_catalog.current_setting(name) END $$;
             GRANT USAGE ON SCHEMA before TO hurnix_watch;
             ALTER ROLE hurnix_watch SET search_path = before, pg_catalog",
        )
        .await?;
    let too_old = obstacle(&address(&cluster)).await;
    assert_eq!(too_old.obstacle, Obstacle::NotSupported);
    assert_eq!(too_old.message, "The server is PostgreSQL 12.17.");
    assert!(too_old.remedy.contains("13 and later"), "{too_old:?}");

    // One that speaks the protocol and is something else.
    admin
        .execute(
            "DROP FUNCTION before.current_setting;
             CREATE FUNCTION before.pg_postmaster_start_time() RETURNS timestamptz LANGUAGE plpgsql AS
                $$ BEGIN RAISE EXCEPTION 'no such function'; END $$",
        )
        .await?;
    let other_engine = obstacle(&address(&cluster)).await;
    assert_eq!(other_engine.obstacle, Obstacle::NotSupported);
    assert!(
        other_engine.message.contains("does not tell its version: ")
            && other_engine.message.contains("no such function"),
        "{other_engine:?}"
    );
    admin.execute("DROP SCHEMA before CASCADE").await?;
    connects(&address(&cluster)).await?;

    // Another program altogether, which answers in its own way and hangs up.
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await?;
    let port = listener.local_addr()?.port();
    let answering = tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut asked = [0; 64];
            let _ = stream.read(&mut asked).await;
            let _ = stream.write_all(b"HTTP/1.1 400 Bad Request\r\n\r\n").await;
        }
    });
    for tls in [TlsMode::Off, TlsMode::Prefer, TlsMode::Verify] {
        let other = obstacle(&Address { port, tls, ..address(&cluster) }).await;
        assert_eq!(other.obstacle, Obstacle::NotSupported, "{tls:?} {other:?}");
        assert!(other.remedy.contains("Correct the port"), "{tls:?} {other:?}");
    }
    answering.abort();
    Ok(())
}
