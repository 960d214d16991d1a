//! What the API refuses, whoever asks, through the program as it is run.

use crate::common::{Hurnix, PASSWORD, connection, send, watched};
use anyhow::{Context, Result};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

/// Every operation that the document lists, with ones for numbers: (method, path below the API's).
async fn operations(hurnix: &Hurnix) -> Result<Vec<(Method, String)>> {
    let document: Value =
        hurnix.client.get(format!("{}/api/openapi.json", hurnix.address)).send().await?.json().await?;
    let mut operations = Vec::new();
    for (path, item) in document["paths"].as_object().context("there are paths")? {
        let path = path.strip_prefix("/api/v1/").context("it is of this version")?;
        let numbered = path.split('/').map(|part| if part.starts_with('{') { "1" } else { part });
        let numbered = numbered.collect::<Vec<_>>().join("/");
        for method in item.as_object().context("there are methods")?.keys() {
            operations.push((method.to_uppercase().parse()?, numbered.clone()));
        }
    }
    Ok(operations)
}

#[tokio::test]
async fn every_change_needs_a_session_its_token_the_right_role_and_our_own_pages() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let reader = hurnix.somebody("mate", "reader", &[]).await?;
    let own = hurnix.somebody("bosun", "tuner", &[]).await?;
    let new = json!({ "name": "nightly", "role": "tuner", "days": 1 });
    let (_, made) = own.send(&hurnix, Method::POST, "account/tokens", Some(new)).await?;
    let expired = made["token"].as_str().context("it is told")?;
    let sql = "UPDATE api_token SET expires_at = now() - interval '1 second'";
    sqlx::query(sql).execute(&mut hurnix.repository.connect("hurnix").await?).await?;

    let changes: Vec<(Method, String)> = operations(&hurnix)
        .await?
        .into_iter()
        .filter(|(method, path)| *method != Method::GET && (method, path.as_str()) != (&Method::POST, "session"))
        .collect();
    assert!(changes.len() > 20, "{changes:?}");
    for (method, path) in &changes {
        let url = hurnix.url(path);
        let to = |client: &Client| client.request(method.clone(), &url);
        let answer = async |request| anyhow::Ok(send(request, Some(json!({}))).await?.0);
        let case = format!("{method} {path}");
        assert_eq!(answer(to(&Client::new())).await?, StatusCode::UNAUTHORIZED, "{case} without session");
        assert_eq!(answer(to(&Client::new()).bearer_auth(expired)).await?, StatusCode::UNAUTHORIZED, "{case} expired");
        let cookie = to(&Client::new()).header("cookie", "hurnix_session=made-up");
        assert_eq!(answer(cookie).await?, StatusCode::UNAUTHORIZED, "{case} with a made-up cookie");
        assert_eq!(answer(to(&hurnix.client)).await?, StatusCode::FORBIDDEN, "{case} without CSRF token");
        let foreign = to(&hurnix.client).header("x-csrf-token", &hurnix.csrf_token);
        let foreign = foreign.header("origin", "https://wreckers.example");
        assert_eq!(answer(foreign).await?, StatusCode::FORBIDDEN, "{case} from a foreign page");
        // What concerns one's own account, and what is read and not kept, is for everybody.
        if !["account/", "session", "plans/read"].iter().any(|own| path.starts_with(own)) {
            let by_reader = to(&reader.client).header("x-csrf-token", &reader.csrf_token);
            assert_eq!(answer(by_reader).await?, StatusCode::FORBIDDEN, "{case} by a reader");
        }
    }
    // Nothing of all this happened.
    hurnix.get("instances/1").await?;
    // Nor can a page from elsewhere sign somebody in as somebody else.
    let foreign = Client::new().post(hurnix.url("session")).header("origin", "https://wreckers.example");
    let who = json!({ "name": "admin", "password": "whatever" });
    assert_eq!(send(foreign, Some(who)).await?.0, StatusCode::FORBIDDEN);
    Ok(())
}

#[tokio::test]
async fn pages_and_answers_carry_the_headers_that_keep_them_safe() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    for path in ["/", "/sign-in", "/api/v1/health", "/api/v1/instances/none", "/nowhere.js"] {
        let answer = hurnix.client.get(format!("{}{path}", hurnix.address)).send().await?;
        let header = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
        let policy = header("content-security-policy");
        assert!(policy.contains("default-src 'self'") && policy.contains("frame-ancestors 'none'"), "{path}: {policy}");
        let scripts = policy.split(';').find(|part| part.trim().starts_with("script-src")).unwrap_or_default();
        assert!(!scripts.contains("unsafe") && !policy.contains("*"), "{path}: {policy}");
        assert_eq!(header("x-content-type-options"), "nosniff", "{path}");
        assert_eq!(header("x-frame-options"), "DENY", "{path}");
        assert_eq!(header("referrer-policy"), "same-origin", "{path}");
        assert_eq!(header("access-control-allow-origin"), "", "{path}");
    }
    let who = json!({ "name": "admin", "password": crate::common::ADMIN_PASSWORD });
    let cookie = async |origin: Option<&str>| {
        let mut request = Client::new().post(hurnix.url("session")).json(&who);
        if let Some(origin) = origin {
            request = request.header("origin", origin).header("host", "hurnix.skerry.example");
        }
        let answer = request.send().await?;
        anyhow::Ok(answer.headers()["set-cookie"].to_str()?.to_owned())
    };
    let plain = cookie(None).await?;
    assert!(plain.contains("HttpOnly") && plain.contains("SameSite=Strict") && plain.contains("Path=/"), "{plain}");
    let over_tls = cookie(Some("https://hurnix.skerry.example")).await?;
    assert!(over_tls.contains("Secure"), "{over_tls}");
    Ok(())
}

#[tokio::test]
async fn no_path_leads_out_of_the_pages() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let address = hurnix.address.strip_prefix("http://").context("it has a scheme")?;
    for path in [
        "/../../../../etc/passwd",
        "/assets/../../../../../etc/passwd",
        "/..%2f..%2f..%2fetc%2fpasswd",
        "/assets/%2e%2e/%2e%2e/%2e%2e/etc/passwd",
        "//etc/passwd",
        "/assets/..\\..\\etc\\passwd",
        "/%00",
    ] {
        // As it stands: a client would tidy it up.
        let mut stream = tokio::net::TcpStream::connect(address).await?;
        let request = format!("GET {path} HTTP/1.1\r\nhost: {address}\r\nconnection: close\r\n\r\n");
        stream.write_all(request.as_bytes()).await?;
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).await?;
        let answer = String::from_utf8_lossy(&answer);
        assert!(answer.starts_with("HTTP/1.1 ") && !answer.contains("root:"), "{path}: {answer}");
    }
    Ok(())
}

#[tokio::test]
async fn text_is_text_whatever_it_says() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let nasty = "'; DROP TABLE account; -- <script>alert(1)</script> \u{202e}\" %s ${x}";
    let mut instance = connection(&cluster, PASSWORD);
    instance["label"] = nasty.into();
    let (status, added) = hurnix.send(Method::POST, "instances", Some(instance)).await?;
    assert_eq!(status, StatusCode::CREATED, "{added}");
    hurnix.send(Method::PUT, "instances/1/group", Some(json!({ "group": "'; DROP TABLE audit" }))).await?;
    hurnix.send(Method::POST, "instances/1/markers", Some(json!({ "text": nasty }))).await?;
    hurnix.somebody(&nasty[..24], "reader", &["'; DELETE FROM instance"]).await?;
    let instance = hurnix.get("instances/1").await?;
    assert_eq!((&instance["label"], &instance["group"]), (&json!(nasty), &json!("'; DROP TABLE audit")));
    let history =
        hurnix.wait_for("instances/1/history", |history| history["markers"].to_string().contains("DROP")).await?;
    let markers = history["markers"].as_array().unwrap();
    assert!(markers.iter().any(|marker| marker["text"] == nasty), "{markers:?}");
    let accounts = hurnix.get("accounts").await?;
    assert_eq!(accounts[0]["name"], nasty[..24]);

    // In every field of every query.
    let window = "from=2026-03-01T06:00:00Z&to=2026-03-01T07:00:00Z";
    let encoded = "%27%3B%20DROP%20TABLE%20audit%3B--%20%25_%5C";
    for query in [
        format!("instances/1/statements?{window}&search={encoded}"),
        format!("instances/1/log?{window}&search={encoded}"),
        format!("audit?{window}&search={encoded}&account={encoded}&action={encoded}"),
        format!("instances/1/metrics/connections?{window}&object={encoded}"),
    ] {
        hurnix.get(&query).await?;
    }
    for query in [
        format!("instances/1/statements?{window}&sort={encoded}"),
        format!("instances/1/load/breakdown?{window}&by={encoded}"),
        format!("instances/1/metrics/{encoded}?{window}"),
        format!("instances/1/advice?state={encoded}"),
        format!("audit?{window}&outcome={encoded}"),
        format!("instances/{encoded}"),
    ] {
        let (status, problem) = hurnix.send(Method::GET, &query, None).await?;
        assert!(status.is_client_error(), "{query}: {status} {problem}");
    }
    assert_eq!(hurnix.get("accounts").await?.as_array().unwrap().len(), 2);
    Ok(())
}

#[tokio::test]
async fn bodies_that_are_too_large_or_too_deep_are_told_so() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let post = async |body: String| {
        let request = hurnix.client.post(hurnix.url("instances")).header("x-csrf-token", &hurnix.csrf_token);
        send(request.header("content-type", "application/json").body(body), None).await
    };
    let (status, problem) = post(format!("{{\"label\":\"{}\"}}", "x".repeat(100_000))).await?;
    assert_eq!((status, problem["status"].as_u64()), (StatusCode::PAYLOAD_TOO_LARGE, Some(413)), "{problem}");
    let (status, problem) = post("[".repeat(50_000)).await?;
    assert!(status.is_client_error() && problem["detail"].is_string(), "{status} {problem}");
    let (status, problem) = post(format!("{{\"label\":{}1{}}}", "[".repeat(20_000), "]".repeat(20_000))).await?;
    assert!(status.is_client_error() && problem["detail"].is_string(), "{status} {problem}");
    hurnix.get("instances").await?;
    Ok(())
}
