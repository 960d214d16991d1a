//! The API is what its document says: for everything that the document lists.

use crate::common::{Hurnix, lately};
use anyhow::{Context, Result};
use hurnix_core::changes::action::Action;
use hurnix_core::findings::alarm::{Looked, Patience, Sign, Trouble};
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::health::Health;
use hurnix_core::findings::lasting_change::{LastingChange, Look, Measured, Subject};
use hurnix_core::findings::normal_range::NormalRange;
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::retention::Retention;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::Metric;
use hurnix_core::{Timestamp, Window};
use hurnix_demo::fleet;
use hurnix_server::backfill;
use hurnix_store::{AdviceDraft, BackfilledMeasures, MeasureRow, NewAction, Store};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

/// Hurnix with the last hours of a server of Skerry Line, in which it had its stories; answers with its number.
pub async fn start() -> Result<(Hurnix, i64)> {
    let hurnix = Hurnix::start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let now = Timestamp(chrono::Utc::now().timestamp_micros());
    let (_, mut model) = fleet(now)?.into_iter().find(|(label, _)| *label == "freight").context("it is there")?;
    let began_at = Timestamp(now.plus_seconds(-5.0 * 3600.0).0 / 60_000_000 * 60_000_000);
    // What happened in weeks happens in hours.
    let faster = now.seconds_since(model.began_at) / now.seconds_since(began_at);
    let squeezed = |at: Timestamp| began_at.plus_seconds(at.seconds_since(model.began_at) / faster);
    for event in &mut model.events {
        (event.at, event.until) = (squeezed(event.at), event.until.map(squeezed));
    }
    model.began_at = began_at;
    model.families.iter_mut().for_each(|family| family.shape = hurnix_source::simulated::Shape::steady());
    let id =
        store.add_unconnected("freight", Engine::Simulated, &json!({}), Some(&serde_json::to_value(&model)?)).await?;
    backfill(&store, id, model, now).await?;
    store.simulated_ready(id).await?;
    hurnix.wait_for(&format!("instances/{id}"), |instance| instance["collection"] == "collecting").await?;
    Ok((hurnix, i64::from(id)))
}

async fn document(hurnix: &Hurnix) -> Result<Value> {
    Ok(hurnix.client.get(format!("{}/api/openapi.json", hurnix.address)).send().await?.json().await?)
}

/// Every path and method of the document.
fn operations(document: &Value) -> Vec<(String, Method, Value)> {
    let paths = document["paths"].as_object().unwrap();
    let of_path = |(path, methods): (&String, &Value)| {
        let methods = methods.as_object().unwrap().clone();
        let path = path.trim_start_matches("/api/v1/").to_owned();
        methods.into_iter().map(move |(method, operation)| {
            (path.clone(), Method::from_bytes(method.to_uppercase().as_bytes()).unwrap(), operation)
        })
    };
    paths.iter().flat_map(of_path).collect()
}

/// Complaints about a body, by the schema that the document has for this answer.
fn complaints(document: &Value, operation: &Value, status: StatusCode, body: &Value) -> Vec<String> {
    let content = operation["responses"][status.as_str()]["content"].as_object();
    let Some(schema) = content.and_then(|content| content.values().next()).map(|content| &content["schema"]) else {
        return vec![format!("{status} is not described")];
    };
    let whole = json!({ "allOf": [schema], "components": document["components"] });
    let validator = jsonschema::validator_for(&whole).unwrap();
    validator.iter_errors(body).map(|error| format!("{}: {error}", error.instance_path())).collect()
}

#[tokio::test]
async fn every_answer_has_the_shape_that_the_document_gives() -> Result<()> {
    let (hurnix, id) = start().await?;
    let document = document(&hurnix).await?;
    let moment = |seconds_ago: i64| {
        let moment = chrono::Utc::now() - chrono::TimeDelta::seconds(seconds_ago);
        moment.format("%Y-%m-%dT%H:%M:%SZ").to_string()
    };
    let window = format!("from={}&to={}&by=family", moment(4 * 3600), moment(0));
    let usual = format!("{window}&figure=load&cell_seconds=600");
    let statements = hurnix.get(&format!("instances/{id}/statements?{window}")).await?;
    let family = statements["families"][0]["family_id"].as_str().context("something ran")?;
    let token = json!({ "name": "nightly", "role": "reader", "days": 1 });
    hurnix.send(Method::POST, "account/tokens", Some(token)).await?;
    let credential = json!({ "name": "watch", "account": "hurnix_watch", "password": "kelp" });
    hurnix.send(Method::POST, "credentials", Some(credential)).await?;
    let night = json!({ "name": "night", "group": "sea", "days": ["sunday"], "start": "01:00", "minutes": 90, "time_zone": "UTC" });
    hurnix.send(Method::POST, "maintenance-windows", Some(night)).await?;
    let path = format!("instances/{id}/databases?{window}");
    let databases = hurnix.wait_for(&path, |list| !list["databases"][0].is_null()).await?;
    let database = databases["databases"][0]["name"].as_str().context("it has a name")?.to_owned();
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let lifting = NewAction {
        instance: None,
        action: Action::LiftSecondPerson,
        statement: None,
        reason: "the crew is small".into(),
        proposed_by: "admin".into(),
        waits: true,
    };
    let action = store.add_action(&lifting).await?.action_id.to_string();
    let sign = Sign::new(Trouble::SlowServer, "", Health::Act, "All statements take twice as long.");
    let looked = Looked {
        at: Timestamp(chrono::Utc::now().timestamp_micros()),
        looked_for: &[Trouble::SlowServer],
        signs: vec![sign],
    };
    store.follow_alarms(id.try_into()?, looked, &Patience::default()).await?;
    let day: Vec<f64> = (0..144).map(|bucket| f64::from(bucket % 7)).collect();
    let range = NormalRange::learn(&day, Timestamp(0), 600.0).context("a day is enough")?;
    let ranges = std::iter::once((ServerFigure::Load, "", &range));
    store.write_usual_ranges(id.try_into()?, Timestamp(0), ranges).await?;
    let alarm = hurnix.get("alarms").await?["alarms"][0]["alarm_id"].as_str().context("a number")?.to_owned();
    let noted = json!({ "text": "release 12.4" });
    let (_, marker) = hurnix.send(Method::POST, &format!("instances/{id}/markers"), Some(noted)).await?;
    let marker = marker["marker_id"].as_str().context("a number")?.to_owned();
    // A span of an incident may have a reset in it.
    let report = format!("kind=incident&{window}");
    let many = format!("kind=instances&{window}");
    let first_look = json!({ "kind": "first_look", "instance_id": id });
    let (_, kept) = hurnix.send(Method::POST, "reports", Some(first_look)).await?;
    let kept = kept["report_id"].as_str().context("a number")?.to_owned();
    let weekly = json!({ "kind": "instances", "every": "week", "at": "07:00", "time_zone": "UTC", "most_kept": 5 });
    hurnix.send(Method::POST, "report-schedules", Some(weekly)).await?;
    let (mut asked, mut nothing) = (0, Vec::new());
    for (path, method, operation) in operations(&document) {
        // Live news never end; pages of advice need advice.
        if method != Method::GET || path == "events" || path.contains("{advice_id}") {
            continue;
        }
        let path = path
            .replace("{instance_id}", &id.to_string())
            .replace("{family_id}", family)
            .replace("{account_id}", "1")
            .replace("{action_id}", &action)
            .replace("{alarm_id}", &alarm)
            .replace("{marker_id}", &marker)
            .replace("{report_id}", &kept)
            .replace("{metric}", "memory_available")
            .replace("{name}", &database)
            .replace("{schema}", "public")
            .replace("{table}", "tariff");
        let query = match path.as_str() {
            "search" => "text=admin",
            "account-script" => "version=15&account=hurnix_watch&database=passage",
            "thresholds/trial" => "figure=load&side=high&value=1&lasts_minutes=10&verdict=look",
            path if path.ends_with("usual-ranges") => &usual,
            "report" => &many,
            "reports" => "",
            path if path.ends_with("/report") => &report,
            _ => &window,
        };
        let (status, body) = hurnix.send(Method::GET, &format!("{path}?{query}"), None).await?;
        assert_eq!(status, StatusCode::OK, "{path}: {body}\n{}", hurnix.log_end());
        assert_eq!(complaints(&document, &operation, status, &body), [] as [String; 0], "{path}: {body}");
        asked += 1;
        if body.to_string().len() < 40 {
            nothing.push(path.clone());
        }
        // What is missing is a problem, in the shape of problems.
        let (status, problem) = hurnix
            .send(
                Method::GET,
                &format!("{}?{query}", path.replace(&format!("instances/{id}"), "instances/98765")),
                None,
            )
            .await?;
        if path.starts_with("instances/") {
            assert_eq!(status, StatusCode::NOT_FOUND, "{path}: {problem}");
            assert_eq!(complaints(&document, &operation, status, &problem), [] as [String; 0], "{path}: {problem}");
        }
    }
    assert!(asked >= 14, "only {asked} were asked");
    assert!(
        nothing.iter().all(|path| {
            // Nothing has changed, is advised, was put in force; and sessions come and go.
            [
                "/changes",
                "/advice",
                "/sessions",
                "/part",
                "/literal-floods",
                "/snapshots",
                "actions",
                "house-rules",
                "health",
            ]
            .iter()
            .any(|end| path.ends_with(end))
        }),
        "{nothing:?}"
    );
    Ok(())
}

#[tokio::test]
async fn nothing_that_the_document_lists_is_answered_to_a_stranger() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let stranger = Client::new();
    for (path, method, _) in operations(&document(&hurnix).await?) {
        let open = path == "health" || path == "session" && method == Method::POST;
        let address = ["{instance_id}", "{family_id}", "{advice_id}", "{marker_id}"]
            .iter()
            .fold(path.replace("{metric}", "cpus"), |path, name| path.replace(name, "1"));
        for body in ["", "{}", "garbage"] {
            let request =
                stranger.request(method.clone(), hurnix.url(&address)).header("content-type", "application/json");
            let status = request.body(body).send().await?.status();
            assert_eq!(status == StatusCode::UNAUTHORIZED, !open, "{method} {path} with {body:?}: {status}");
        }
    }
    Ok(())
}

/// An index that is advised, as the rule would write it.
fn advised() -> Value {
    let key = |name: &str, reason: &str| json!({ "name": name, "role": "equality", "searches": 1, "searches_in_all": 1, "distinct_values": 40.0, "reason": reason });
    json!({
        "kind": "missing_index", "schema": "public", "table": "vehicle_slot", "columns": [key("crossing_id", "only_key")],
        "families": [{
            "family": 1, "calls_per_day": 8640.0, "now_ms": 240.0, "predicted_ms": 1.5, "now_pages": 6000.0,
            "predicted_pages": 12.0, "rows_per_call": 9.0, "full_read_share": 1.0, "saved_seconds_per_day": 1900.0,
        }],
        "saved_seconds_per_day": 1900.0, "size_bytes": 1e6, "table_rows": 5e5, "table_pages": 6000,
        "indexes_present": 1, "makes_superfluous": [], "partial_indexes": [], "statistics_known": true,
    })
}

#[tokio::test]
async fn advice_goes_from_open_to_applied_or_aside_and_back() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let id = store.add_unconnected("freight", Engine::Bundle, &json!({}), None).await?;
    let now = Timestamp(chrono::Utc::now().timestamp_micros());
    let evidence = Window { from: now.plus_seconds(-7200.0), to: now.plus_seconds(-600.0) };
    let draft = AdviceDraft {
        advice: serde_json::from_value(advised())?,
        subject: "public.vehicle_slot (crossing_id)".into(),
        evidence,
    };
    store.write_advice(id, now, &draft).await?;
    let document = document(&hurnix).await?;
    let list = hurnix.get(&format!("instances/{id}/advice")).await?;
    assert_eq!(list["matching"], 1, "{list}");
    let advice = list["advice"][0]["advice_id"].as_str().context("a number")?.to_owned();
    let page = "instances/{instance_id}/advice/{advice_id}";
    // Asks, checks the shape of the answer, and answers with status and body.
    let ask = async |method: Method, what: &str, body: Option<Value>| -> Result<(u16, Value)> {
        let path = format!("instances/{id}/advice/{advice}{what}");
        let (status, answer) = hurnix.send(method.clone(), &path, body).await?;
        let operation = &document["paths"][format!("/api/v1/{page}{what}")][method.as_str().to_lowercase()];
        assert_eq!(complaints(&document, operation, status, &answer), [] as [String; 0], "{what}: {answer}");
        Ok((status.as_u16(), answer))
    };

    let (status, open) = ask(Method::GET, "", None).await?;
    assert_eq!((status, &open["advice"]["state"]), (200, &json!("open")), "{open}");
    assert!(open.to_string().contains("vehicle_slot"), "{open}");
    // A replica takes its indexes from its primary, and the advice says so.
    assert_eq!(open["on_replica"], false);
    let object = store.names(id, &[String::new()], now).await?[""];
    let rows = vec![MeasureRow { metric: Metric::Recovering, object_id: object, value: 1.0 }];
    store.backfill_measures(id, &[BackfilledMeasures { figures: Figures::Replication, at: now, rows }]).await?;
    assert_eq!(ask(Method::GET, "", None).await?.1["on_replica"], true);
    // Before its evidence ended nothing can have been applied, nor in the future.
    for wrong in [-3600.0, 3600.0] {
        let at = chrono::DateTime::from_timestamp_micros(now.plus_seconds(wrong).0).context("a time")?;
        let (status, problem) = ask(Method::POST, "/applied", Some(json!({ "applied_at": at }))).await?;
        assert_eq!((status, &problem["errors"][0]["field"]), (422, &json!("applied_at")), "{problem}");
    }
    let (status, applied) = ask(Method::POST, "/applied", Some(json!({}))).await?;
    assert_eq!((status, &applied["advice"]["state"]), (200, &json!("applied")), "{applied}");
    assert!(applied.to_string().contains("\"admin\""), "it says who: {applied}");
    assert_eq!(ask(Method::POST, "/applied", Some(json!({}))).await?.0, 409);
    assert_eq!(ask(Method::POST, "/set-aside", None).await?.0, 409);

    assert_eq!(ask(Method::POST, "/reopen", None).await?.1["advice"]["state"], "open");
    assert_eq!(ask(Method::POST, "/set-aside", None).await?.1["advice"]["state"], "set_aside");
    // What was set aside is not given again.
    store.write_advice(id, now, &draft).await?;
    assert_eq!(hurnix.get(&format!("instances/{id}/advice?state=open")).await?["matching"], 0);
    assert_eq!(ask(Method::POST, "/reopen", None).await?.1["advice"]["state"], "open");
    assert_eq!(hurnix.get("instances").await?[0]["open_advice"], 1);
    Ok(())
}

#[tokio::test]
async fn a_change_is_accepted_dismissed_or_followed_and_that_is_undone_and_audited() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let id = store.add_unconnected("freight", Engine::Bundle, &json!({}), None).await?;
    let now = Timestamp(chrono::Utc::now().timestamp_micros());
    let onset = now.plus_seconds(-5.0);
    let side = json!({
        "typical": 1.0, "quarter": 1.0, "three_quarters": 1.0, "calls_per_second": 1.0, "rows_per_call": 1.0,
        "pages_per_call": 1.0, "seconds": 600.0,
    });
    let change: LastingChange = serde_json::from_value(json!({
        "onset": onset, "until": null, "ratio": { "value": 3.0, "low": 2.0, "high": 4.0 }, "before": side, "after": side,
        "from_time_per_call": 1.0, "from_calls": 0.0,
    }))?;
    let window = Window { from: now.plus_seconds(-600.0), to: now };
    let look = Look { tells: window, at: now, tolerance_seconds: 30.0, rounds: 1 };
    store.write_changes(id, window.from, &look, &[(Subject::of(None, Measured::TimePerCall), change)]).await?;
    let list = hurnix.get(&format!("instances/{id}/changes")).await?;
    assert_eq!((&list[0]["family_id"], &list[0]["change"]["answer"]), (&Value::Null, &Value::Null), "{list}");
    let number = list[0]["change"]["change_id"].as_str().context("a number")?.to_owned();

    let document = document(&hurnix).await?;
    let path = "/instances/{instance_id}/changes/{change_id}/answer";
    let ask = async |method: Method, body: Option<Value>| -> Result<(u16, Value)> {
        let (status, answer) =
            hurnix.send(method.clone(), &format!("instances/{id}/changes/{number}/answer"), body).await?;
        let operation = &document["paths"][format!("/api/v1{path}")][method.as_str().to_lowercase()];
        assert_eq!(complaints(&document, operation, status, &answer), [] as [String; 0], "{answer}");
        Ok((status.as_u16(), answer))
    };
    let lost = async || {
        let changes = store.changes(id, window.from, None, 10).await?;
        anyhow::Ok(changes.iter().filter(|row| row.asks()).count())
    };
    assert_eq!(lost().await?, 1);
    for without in [json!({ "answer": "dismissed" }), json!({ "answer": "dismissed", "reason": "  " })] {
        let (status, problem) = ask(Method::PUT, Some(without)).await?;
        assert_eq!((status, &problem["errors"][0]["field"]), (422, &json!("reason")), "{problem}");
    }
    let reason = "The report reads a whole season now.";
    let (status, told) = ask(Method::PUT, Some(json!({ "answer": "dismissed", "reason": reason }))).await?;
    assert_eq!(
        (status, &told["answer"]["reason"], &told["answer"]["answered_by"]),
        (200, &json!(reason), &json!("admin"))
    );
    assert_eq!(lost().await?, 0, "it asks for attention no more");
    assert_eq!(ask(Method::PUT, Some(json!({ "answer": "followed" }))).await?.1["answer"]["answer"], "followed");
    assert_eq!(lost().await?, 1, "what is followed stays");
    assert_eq!(ask(Method::PUT, Some(json!({ "answer": "accepted" }))).await?.1["answer"]["reason"], Value::Null);
    assert_eq!(ask(Method::DELETE, None).await?.1["answer"], Value::Null);
    assert_eq!(lost().await?, 1);
    let (status, problem) = hurnix.send(Method::DELETE, &format!("instances/{id}/changes/99/answer"), None).await?;
    assert_eq!((status.as_u16(), &problem["errors"][0]["field"]), (404, &json!("change_id")));
    let audit = hurnix.get(&format!("audit?{}", lately()?)).await?.to_string();
    assert!(audit.contains("answer_change") && audit.contains(reason) && audit.contains("take_back_answer"), "{audit}");
    Ok(())
}
