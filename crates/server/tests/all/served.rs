//! How the program is served: HTTPS of its own, options from a file, what is checked before a start, its readiness.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched};
use anyhow::{Context, Result, ensure};
use hurnix_cluster::{Cluster, Setup};
use reqwest::{Method, StatusCode};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;

/// A certificate that signs itself, with its key, written over whatever was there.
fn certify(folder: &Path) -> Result<(PathBuf, PathBuf, String)> {
    let made = rcgen::generate_simple_self_signed(vec!["localhost".to_owned()])?;
    let (certificate, key) = (folder.join("hurnix.pem"), folder.join("hurnix-key.pem"));
    std::fs::write(&key, made.signing_key.serialize_pem())?;
    std::fs::write(&certificate, made.cert.pem())?;
    Ok((certificate, key, made.cert.pem()))
}

/// Sends a request over TLS, trusting one certificate only; answers head and body.
async fn over_tls(address: &str, trusted: &str, request: &str) -> Result<String> {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(trusted.as_bytes())?)?;
    let config = ClientConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()?
        .with_root_certificates(roots)
        .with_no_client_auth();
    let stream = TcpStream::connect(address).await?;
    let mut stream = TlsConnector::from(Arc::new(config)).connect(ServerName::try_from("localhost")?, stream).await?;
    stream.write_all(request.as_bytes()).await?;
    let mut answer = String::new();
    // The end of the connection need not be announced.
    let _ = stream.read_to_string(&mut answer).await;
    Ok(answer)
}

fn asks(method: &str, path: &str, body: &str) -> String {
    format!(
        "{method} {path} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-type: application/json\r\ncontent-length: {}\r\n\r\n{body}",
        body.len()
    )
}

#[tokio::test]
async fn https_is_spoken_without_anything_in_front_and_a_new_certificate_taken_while_it_runs() -> Result<()> {
    let mut hurnix = Hurnix::start().await?;
    let folder = tempfile::tempdir()?;
    let (certificate, key, first) = certify(folder.path())?;
    let options = [format!("--tls-certificate={}", certificate.display()), format!("--tls-key={}", key.display())];
    let mut process = hurnix.another(&options.each_ref().map(String::as_str))?;
    let address = process.address.clone();
    let health = asks("GET", "/api/v1/health", "");
    wait_until("it speaks HTTPS", async || Ok(over_tls(&address, &first, &health).await.is_ok())).await?;
    let answer = over_tls(&address, &first, &health).await?;
    assert!(answer.starts_with("HTTP/1.1 200") && answer.contains("strict-transport-security: max-age="), "{answer}");
    let body = json!({ "name": "admin", "password": crate::common::ADMIN_PASSWORD }).to_string();
    let answer = over_tls(&address, &first, &asks("POST", "/api/v1/session", &body)).await?;
    let cookies: Vec<&str> = answer.lines().filter(|line| line.starts_with("set-cookie")).collect();
    assert!(cookies.len() == 2 && cookies.iter().all(|cookie| cookie.contains("Secure")), "{answer}");
    // Whoever speaks in clear is told so.
    let mut plain = TcpStream::connect(&address).await?;
    plain.write_all(health.as_bytes()).await?;
    let mut told = String::new();
    let _ = plain.read_to_string(&mut told).await;
    assert!(told.starts_with("HTTP/1.1 400") && told.contains("https://"), "{told}");

    // One that does not fit is not served; the next that does is, without a restart.
    std::fs::write(&certificate, "nothing")?;
    let log = hurnix.another_log();
    wait_until("it is told", async || Ok(std::fs::read_to_string(&log)?.contains("certificate is not served"))).await?;
    assert!(over_tls(&address, &first, &health).await.is_ok(), "the one from before still is");
    let (_, _, second) = certify(folder.path())?;
    wait_until("the new one is served", async || Ok(over_tls(&address, &second, &health).await.is_ok())).await?;
    assert!(over_tls(&address, &first, &health).await.is_err());
    process.kill()?;
    // In clear there is no such promise, and cookies are not kept from coming back.
    let answer = hurnix.client.get(hurnix.url("health")).send().await?;
    assert!(!answer.headers().contains_key("strict-transport-security"));
    hurnix.sign_in("admin", crate::common::ADMIN_PASSWORD).await
}

/// Runs the program with nothing of this environment; answers its exit code and all that it says.
fn run(arguments: &[&str]) -> Result<(i32, String)> {
    let mut command = Command::new(env!("CARGO_BIN_EXE_hurnix"));
    for (name, _) in std::env::vars().filter(|(name, _)| name.starts_with("HURNIX_")) {
        command.env_remove(name);
    }
    let output = command.args(arguments).output()?;
    let says = [output.stdout, output.stderr].concat();
    Ok((output.status.code().context("it ended by itself")?, String::from_utf8(says)?))
}

#[tokio::test]
async fn a_check_says_whether_it_could_start_and_changes_nothing() -> Result<()> {
    let repository = Cluster::temporary(Setup::default())?;
    repository.ensure_database("hurnix").await?;
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("hurnix.toml");
    let key_file = folder.path().join("key");
    let write = |more: &str| {
        let url = repository.url("hurnix");
        std::fs::write(&file, format!("repository = {url:?}\nkey-file = {:?}\n{more}", key_file.display().to_string()))
    };
    let config = format!("--config={}", file.display());
    let check = || run(&["serve", "--check", &config]);
    write("listen = \"127.0.0.1:0\"")?;
    let (code, told) = check()?;
    assert_eq!(code, 0, "{told}");
    assert!(told.contains("no schema yet") && told.contains("it is made on the first start"), "{told}");
    assert!(!key_file.exists(), "a check makes no key");
    let mut connection = repository.connect("hurnix").await?;
    let tables: i64 = sqlx::query_scalar("SELECT count(*) FROM pg_tables WHERE schemaname = 'public'")
        .fetch_one(&mut connection)
        .await?;
    assert_eq!(tables, 0, "nor tables");

    // Faults together, each by its option.
    let (certificate, _, _) = certify(folder.path())?;
    let other = tempfile::tempdir()?;
    let (_, key, _) = certify(other.path())?;
    write(&format!(
        "tls-certificate = {:?}\ntls-key = {:?}",
        certificate.display().to_string(),
        key.display().to_string()
    ))?;
    let (code, told) = check()?;
    assert!(code == 1 && told.contains("tls-certificate: FAULT:") && told.contains("is not the key"), "{code} {told}");

    // Wrong options end with the code that says so.
    for (more, says) in [
        ("listen = \"0.0.0.0:8470\"", "--allow-plain-http"),
        ("activty = \"1s\"", "the nearest is activity"),
        ("tls-key = \"a\"", "give both or neither"),
        ("log = \"=loud=\"", "--log"),
    ] {
        write(more)?;
        let (code, told) = run(&["serve", &config])?;
        assert!(code == 2 && told.contains(says), "{more}: {code} {told}");
    }
    // The command line counts before the file.
    let (code, told) = run(&["serve", &config, "--log=info", "--check", "--repository=postgres://127.0.0.1:1/none"])?;
    assert!(code == 1 && told.contains("repository: FAULT:"), "{code} {told}");
    Ok(())
}

#[tokio::test]
async fn readiness_tells_of_repository_leases_and_the_oldest_reading() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start_with(&["--log-format=json"]).await?, watched().await?);
    let health = async || -> Result<(StatusCode, Value)> {
        let answer = reqwest::get(hurnix.url("health")).await?;
        Ok((answer.status(), answer.json().await?))
    };
    let (status, idle) = health().await?;
    assert_eq!((status, &idle["ready"], &idle["collection"]["instances"]), (StatusCode::OK, &json!(true), &json!(0)));
    assert_eq!(idle["collection"]["oldest_reading_seconds"], json!(null));
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    wait_until("it is held and read", async || {
        let (_, told) = health().await?;
        let collection = &told["collection"];
        let age = collection["oldest_reading_seconds"].as_f64();
        Ok(collection["held"] == 1
            && collection["unheld"] == 0
            && collection["silent"] == 0
            && age.is_some_and(|age| age < 60.0))
    })
    .await?;
    let (_, told) = health().await?;
    assert_eq!(told["collection"]["processes"], 1);
    // Each event is an object of its own.
    for line in hurnix.log_text()?.lines() {
        let event: Value = serde_json::from_str(line).with_context(|| line.to_owned())?;
        ensure!(event["level"].is_string() && event["timestamp"].is_string() && event["message"].is_string(), "{line}");
    }
    drop(cluster);
    hurnix.repository.crash();
    wait_until("it is not ready", async || {
        let (status, told) = health().await?;
        Ok(status == StatusCode::SERVICE_UNAVAILABLE
            && told["ready"] == false
            && told["repository"] == false
            && told["collection"].is_null())
    })
    .await
}
