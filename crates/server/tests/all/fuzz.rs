//! Hostile values in every parameter and field of every operation, as the API's own document lists them. Whatever is
//! sent: no error of ours, no slow answer, no status that the document does not tell of, and every refusal names the
//! field, the value and the remedy.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use crate::common::{Hurnix, PASSWORD, Person, connection, watched};
use anyhow::{Context, Result};
use futures::{StreamExt, stream};
use reqwest::Method;
use serde_json::{Map, Value, json};

/// Nothing is sent any more after this: something hangs.
const BOUND: Duration = Duration::from_secs(480);
/// One answer takes no longer. The machine may be busy with other tests, so a slow request is sent again, by itself,
/// until it is quick: what is slow by itself stays slow.
const SLOWEST: Duration = Duration::from_secs(2);
/// How often it is sent again.
const TRIES: usize = 5;
/// Memory that the program may keep of all this, in bytes.
const MOST_KEPT: f64 = 150e6;
/// Requests under way at a time.
const AT_A_TIME: usize = 4;
/// Given as passwords, to see that nobody repeats them.
const SECRET: &str = "a-secret-that-nobody-repeats";
/// Values of each kind that one field meets.
const OF_EACH: usize = 2;
/// What is not asked here: streams without end, and what would end the test's own session.
const LEFT_OUT: [&str; 3] = ["events", "sign_out", "change_password"];

/// Values that nobody means well with, by what is odd about them.
fn hostile() -> Vec<Vec<Value>> {
    vec![
        vec![json!(""), json!(" ")],
        vec![json!("\0"), json!("two\nlines"), json!("a\0b"), json!("\u{1b}[2J")],
        vec![json!("⛴️🌊"), json!("\u{202e}evil\u{2066}"), json!("％００")],
        vec![json!("' OR 1=1 --"), json!("{{7*7}}"), json!("../../etc/passwd")],
        vec![json!("NaN"), json!("-0"), json!("1e999")],
        vec![json!("9999-12-31T23:59:59Z"), json!("0001-01-01T00:00:00Z"), json!("2026-02-30T00:00:00Z")],
        vec![json!("+262142-01-01T00:00:00Z"), json!("-200000-01-01T00:00:00Z")],
        vec![json!("true"), json!("null"), json!("[]")],
        vec![json!("x".repeat(5_000)), json!("é".repeat(2_100))],
        vec![json!(0), json!(-1), json!(-0.5)],
        vec![json!(i64::MAX), json!(i64::MIN), json!(u64::MAX), json!(1e300)],
        vec![json!(null), json!(true)],
        vec![json!([]), json!({}), json!([null, [[[]]]]), json!({ "a": { "b": [1] } })],
    ]
}

/// Some of each for one field, others for the next: what is odd is told by the same code for all of them, so that each
/// value need not meet each field. Together the fields meet them all.
fn some_hostile(turn: &mut usize) -> Vec<Value> {
    *turn += 1;
    let of = |values: Vec<Value>| {
        (0..values.len().min(OF_EACH)).map(|i| values[(*turn + i) % values.len()].clone()).collect()
    };
    hostile().into_iter().flat_map(|values| -> Vec<Value> { of(values) }).collect()
}

/// Numbers just outside the range that a schema documents.
fn outside(document: &Value, schema: &Value) -> Vec<Value> {
    let schema = resolve(document, schema);
    let below = schema["minimum"].as_i64().filter(|least| *least > 0).map(|least| json!(least - 1));
    let above = schema["maximum"].as_i64().map(|most| json!(most + 1));
    below.into_iter().chain(above).collect()
}

/// One operation of the document.
struct Operation {
    id: String,
    method: Method,
    path: String,
    in_path: Vec<String>,
    in_query: Vec<(String, Value)>,
    body: Option<Value>,
    /// Fields and parameters with numbers outside their documented ranges.
    outside: Vec<(String, Vec<Value>)>,
    statuses: Vec<String>,
}

fn resolve<'a>(document: &'a Value, schema: &'a Value) -> &'a Value {
    match schema["$ref"].as_str() {
        Some(name) => document.pointer(name.trim_start_matches('#')).unwrap_or(schema),
        None => schema,
    }
}

/// A value that fits a schema, as plain as can be.
fn plain(document: &Value, schema: &Value, field: &str) -> Value {
    let schema = resolve(document, schema);
    if let Some(known) = usual(field) {
        return known;
    }
    if let Some(first) = schema["enum"].get(0).or(schema["oneOf"].get(0).filter(|one| one["const"].is_string())) {
        return first.get("const").unwrap_or(first).clone();
    }
    let kind = match &schema["type"] {
        Value::Array(kinds) => kinds[0].as_str(),
        kind => kind.as_str(),
    };
    match kind {
        Some("object") => {
            let properties = schema["properties"].as_object().cloned().unwrap_or_default();
            properties.iter().map(|(name, of)| (name.clone(), plain(document, of, name))).collect::<Map<_, _>>().into()
        }
        Some("array") => json!([plain(document, &schema["items"], field)]),
        Some("integer") => json!(1),
        Some("number") => json!(1.5),
        Some("boolean") => json!(false),
        _ => json!("a text"),
    }
}

/// What the handlers take a good look at.
fn usual(field: &str) -> Option<Value> {
    Some(match field {
        "password" | "current" | "new" | "host_secret" => json!(SECRET),
        "from" => json!("2026-03-01T06:00:00Z"),
        "to" => json!("2026-03-01T07:00:00Z"),
        "at" | "started_at" | "applied_at" => json!("2026-03-01T06:30:00Z"),
        "tls" => json!("off"),
        // Nothing listens there: an attempt to connect ends at once.
        "host" => json!("127.0.0.1"),
        "port" | "from_port" | "to_port" => json!(1),
        "role" => json!("reader"),
        "start" => json!("01:00"),
        "days" => json!(["sunday"]),
        "time_zone" => json!("UTC"),
        "format" => json!("csv"),
        "tls_ca" | "credential" | "host_endpoint" => Value::Null,
        _ => return None,
    })
}

fn operations(document: &Value) -> Result<Vec<Operation>> {
    let mut operations = Vec::new();
    for (path, item) in document["paths"].as_object().context("there are paths")? {
        for (method, told) in item.as_object().context("there are methods")? {
            let id = told["operationId"].as_str().context("it has a name")?.to_owned();
            let (mut in_path, mut in_query, mut outside) = (Vec::new(), Vec::new(), Vec::new());
            for parameter in told["parameters"].as_array().into_iter().flatten() {
                let name = parameter["name"].as_str().context("it has a name")?.to_owned();
                outside.push((name.clone(), self::outside(document, &parameter["schema"])));
                match parameter["in"].as_str() {
                    Some("path") => in_path.push(name),
                    _ => {
                        let value = plain(document, &parameter["schema"], &name);
                        in_query.push((name, value));
                    }
                }
            }
            let schema = &told["requestBody"]["content"]["application/json"]["schema"];
            let body = schema.is_object().then(|| plain(document, schema, ""));
            for (name, of) in resolve(document, schema)["properties"].as_object().into_iter().flatten() {
                outside.push((name.clone(), self::outside(document, of)));
            }
            let statuses = told["responses"].as_object().context("it answers")?.keys().cloned().collect();
            let method = method.to_uppercase().parse()?;
            operations.push(Operation { id, method, path: path.clone(), in_path, in_query, body, outside, statuses });
        }
    }
    Ok(operations)
}

/// One request to send.
struct Case {
    told: String,
    method: Method,
    url: String,
    body: Option<Vec<u8>>,
    statuses: Vec<String>,
    /// Whether it must be refused.
    is_refused: bool,
}

fn text(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

impl Operation {
    /// A request with these values, of which one may be hostile.
    fn case(&self, address: &str, hostile: Option<(&str, &Value)>, body: Option<Vec<u8>>) -> Case {
        let of = |name: &str, usual: &Value| match hostile {
            Some((field, value)) if field == name => text(value),
            _ => text(usual),
        };
        let mut path = self.path.clone();
        for name in &self.in_path {
            let usual = if name == "metric" { json!("connections") } else { json!(1) };
            let value: String = form_urlencoded::byte_serialize(of(name, &usual).as_bytes()).collect();
            path = path.replace(&format!("{{{name}}}"), &value.replace('+', "%20"));
        }
        let query: String = form_urlencoded::Serializer::new(String::new())
            .extend_pairs(
                self.in_query.iter().filter(|(_, usual)| !usual.is_null()).map(|(name, usual)| (name, of(name, usual))),
            )
            .finish();
        let shown = hostile.map(|(field, value)| format!("{field} = {:.80}", value.to_string())).unwrap_or_default();
        Case {
            told: format!("{} {} {shown}", self.method, self.id),
            method: self.method.clone(),
            url: format!("{address}{path}?{query}"),
            body,
            statuses: self.statuses.clone(),
            is_refused: false,
        }
    }

    /// Hostile values in each parameter, each field, and the whole body.
    fn cases(&self, address: &str, turn: &mut usize) -> Vec<Case> {
        let body = |value: &Value| value.to_string().into_bytes();
        let usual = self.body.as_ref().map(body);
        let mut cases = vec![self.case(address, None, usual.clone())];
        let parameters = self.in_path.iter().chain(self.in_query.iter().map(|(name, _)| name));
        for name in parameters {
            // An empty part of a path is another path.
            let fits = |value: &&Value| !self.in_path.contains(name) || !text(value).trim_matches('.').is_empty();
            let values = some_hostile(turn);
            cases
                .extend(values.iter().filter(fits).map(|value| self.case(address, Some((name, value)), usual.clone())));
        }
        for (name, values) in &self.outside {
            for value in values {
                let fields = self.body.clone().map(|mut fields| {
                    if fields.get(name).is_some() {
                        fields[name] = value.clone();
                    }
                    body(&fields)
                });
                let case = self.case(address, Some((name, value)), fields);
                cases.push(Case { is_refused: true, ..case });
            }
        }
        let Some(fields) = self.body.as_ref().and_then(Value::as_object) else { return cases };
        for name in fields.keys() {
            for value in some_hostile(turn) {
                let mut fields = fields.clone();
                fields.insert(name.clone(), value.clone());
                let mut case = self.case(address, None, Some(body(&fields.into())));
                case.told = format!("{} {name} = {:.80}", case.told, value.to_string());
                cases.push(case);
            }
            let mut without = fields.clone();
            without.remove(name);
            cases.push(self.case(address, None, Some(body(&without.into()))));
            let twice = format!("{{{0}:1,{0}:2}}", json!(name));
            cases.push(self.case(address, None, Some(twice.into_bytes())));
        }
        for odd in ["", "{", "null", "[]", "7", "\"text\"", "\u{feff}{}"] {
            cases.push(self.case(address, None, Some(odd.into())));
        }
        cases.push(self.case(address, None, Some("[".repeat(20_000).into_bytes())));
        cases.push(self.case(address, None, Some(vec![0xff, 0xfe, 0])));
        cases.push(self.case(address, None, Some(vec![b' '; 5 << 20])));
        cases
    }
}

/// What is wrong with an answer, if anything.
fn fault(case: &Case, status: u16, answer: &str) -> Option<String> {
    let told = |what: &str| Some(format!("{what}: {} → {status} {answer:.300}", case.told));
    if status >= 500 {
        return told("an error of ours");
    }
    if status == 401 && !case.told.contains("sign_in") {
        return told("the session has ended, and nothing is tried any more");
    }
    if !case.statuses.contains(&status.to_string()) {
        return told("the document does not tell of it");
    }
    if status < 400 && case.is_refused {
        return told("a number outside its documented range is taken");
    }
    if status < 400 {
        return None;
    }
    let problem: Value = serde_json::from_str(answer).unwrap_or_default();
    let errors = problem["errors"].as_array().cloned().unwrap_or_default();
    let is_whole = |error: &Value| {
        error["field"].as_str().is_some_and(|field| !field.is_empty())
            && error["value"].is_string()
            && error["remedy"].as_str().is_some_and(|remedy| remedy.len() > 10)
    };
    if errors.is_empty() || !errors.iter().all(is_whole) {
        return told("it names no field, value and remedy");
    }
    if answer.contains(SECRET) {
        return told("it repeats a secret");
    }
    None
}

/// Memory that the program takes, as it tells.
async fn memory(hurnix: &Hurnix) -> Result<f64> {
    let metrics = hurnix.client.get(format!("{}/metrics", hurnix.address)).send().await?.text().await?;
    let line = metrics.lines().find(|line| line.starts_with("hurnix_resident_memory_bytes "));
    Ok(line.and_then(|line| line.rsplit(' ').next()).context("it is told")?.parse()?)
}

/// Sends a request: the time until its answer, and what is wrong with that, if anything.
async fn ask(pilot: &Person, case: &Case) -> (Duration, Option<String>) {
    let mut request = pilot.client.request(case.method.clone(), &case.url).header("x-csrf-token", &pilot.csrf_token);
    if let Some(body) = &case.body {
        request = request.header("content-type", "application/json").body(body.clone());
    }
    let again = request.try_clone();
    let asked = Instant::now();
    let mut sent = request.send().await;
    // A connection that the server ends, as after a body that is too large, may be picked for the next request.
    if let (Err(_), Some(again)) = (&sent, again) {
        sent = again.send().await;
    }
    let (status, answer) = match sent {
        Ok(answer) => (answer.status().as_u16(), answer.text().await.unwrap_or_default()),
        // A body that is too large may be cut off while it is sent.
        Err(_) if case.body.as_ref().is_some_and(|body| body.len() > 4 << 20) => return (asked.elapsed(), None),
        Err(error) => return (asked.elapsed(), Some(error.to_string())),
    };
    (asked.elapsed(), fault(case, status, &answer))
}

#[tokio::test(flavor = "multi_thread")]
async fn whatever_is_sent_the_answer_is_quick_documented_and_helpful() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    // Number 1 stands in all paths: whoever sends all this is another account, with another session.
    let pilot = hurnix.somebody("pilot", "administrator", &[]).await?;
    let document: Value =
        hurnix.client.get(format!("{}/api/openapi.json", hurnix.address)).send().await?.json().await?;
    let operations: Vec<Operation> =
        operations(&document)?.into_iter().filter(|one| !LEFT_OUT.contains(&one.id.as_str())).collect();
    assert!(operations.len() > 60, "{}", operations.len());
    let mut turn = 0;
    let mut cases: Vec<Case> =
        operations.iter().flat_map(|operation| operation.cases(&hurnix.address, &mut turn)).collect();
    assert!(cases.len() > 4_000, "{}", cases.len());
    // What changes goes last: the instance is looked at before it is removed.
    cases.sort_by_key(|case| (case.method == Method::DELETE, case.method != Method::GET));

    let memory_before = memory(&hurnix).await?;
    let begun = Instant::now();
    let sent = cases.len();
    let (pilot, begun_ref) = (&pilot, &begun);
    let answers = stream::iter(cases.into_iter().map(async |case| {
        if begun_ref.elapsed() > BOUND {
            return (case, Duration::ZERO, Some("not sent any more".to_owned()));
        }
        let (took, fault) = ask(pilot, &case).await;
        (case, took, fault)
    }))
    .buffer_unordered(AT_A_TIME);
    let mut faults: Vec<(String, String)> = Vec::new();
    let mut slow = Vec::new();
    let mut answers = std::pin::pin!(answers);
    while let Some((case, took, fault)) = answers.next().await {
        match fault {
            Some(fault) => faults.push((case.told, fault)),
            None if took > SLOWEST => slow.push(case),
            None => {}
        }
    }
    for case in slow {
        let mut quickest = Duration::MAX;
        for _ in 0..TRIES {
            quickest = quickest.min(ask(pilot, &case).await.0);
            if quickest <= SLOWEST {
                break;
            }
        }
        if quickest > SLOWEST {
            faults.push((case.told, format!("it takes {quickest:?} at least")));
        }
    }
    let mut by_operation: BTreeMap<String, Vec<&String>> = BTreeMap::new();
    for (told, fault) in &faults {
        by_operation.entry(told.split(' ').take(2).collect::<Vec<_>>().join(" ")).or_default().push(fault);
    }
    let first: Vec<String> = by_operation
        .iter()
        .map(|(operation, faults)| format!("{operation}: {} such as {}", faults.len(), faults[0]))
        .collect();
    let log = hurnix.log_text()?;
    let told: Vec<&str> = log.lines().filter(|line| line.contains("WARN") || line.contains("ERROR")).collect();
    let why = || format!("{}\n{}", first.join("\n"), told.join("\n"));
    assert!(faults.is_empty(), "{} of {sent} in {:?}\n{}", faults.len(), begun.elapsed(), why());
    let kept = memory(&hurnix).await? - memory_before;
    println!("{sent} requests in {:?}; {:.0} MB of memory kept", begun.elapsed(), kept / 1e6);
    assert!(kept < MOST_KEPT, "{kept} bytes are kept");
    // It is still there, and nobody was signed out.
    let (status, _) = pilot.send(&hurnix, Method::GET, "instances", None).await?;
    assert_eq!(status, reqwest::StatusCode::OK);
    let log = hurnix.log_text()?;
    assert!(!log.contains(SECRET) && !log.contains("panicked"), "{log}");
    Ok(())
}
