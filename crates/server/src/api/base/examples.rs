//! Examples of requests and answers in the API's document, made from its schemas: each fits its schema, and says what
//! could be said of the ferry company of the demo.

use serde_json::{Map, Value, json};
use utoipa::openapi::path::{Operation, ParameterBuilder};
use utoipa::openapi::{Components, Content, RefOr};

/// Lists that hold themselves, such as nodes of a plan, end at this depth.
const DEEPEST: usize = 8;
/// A moment of the demo's first morning, and one an hour later.
const MOMENT: &str = "2026-03-01T06:00:00Z";
const LATER: &str = "2026-03-01T07:00:00Z";

/// What a text field says, by its name, or by its schema and name where that alone says too little.
const TEXTS: &[(&str, &str)] = &[
    ("AccountFigures.name", "mate"),
    ("AccountToMake.name", "mate"),
    ("AdviceFigures.title", "Missing index"),
    ("CauseFigures.against", "The pages that a call touches did not follow"),
    ("CauseFigures.evidence", "A call touches 60 times the pages for as many rows"),
    ("Choice.label", "CONCURRENTLY"),
    ("CredentialFigures.name", "watchers"),
    ("Current.name", "mate"),
    ("DatabaseFigures.name", "passage"),
    ("FieldProblem.value", "0"),
    ("LogEntryFigures.detail", "Process 4711 waits for ShareLock on transaction 815."),
    ("LogEntryFigures.message", "deadlock detected"),
    ("LogEntryFigures.state", "40P01"),
    ("NewCredential.name", "watchers"),
    ("Problem.detail", "port \"0\": Give a port from 1 to 65535."),
    ("Problem.title", "An input is not right"),
    ("SettingFigures.label", "Day begins in"),
    ("SettingFigures.name", "day_zone"),
    ("SignIn.name", "mate"),
    ("TableColumn.type_name", "bigint"),
    ("TableDetail.part_of", "public.tide_reading"),
    ("TableFigures.name", "passage_leg"),
    ("WindowSet.name", "Sunday night"),
    ("AlarmFigures.object", "crew gate"),
    ("AlarmFigures.statement", "ALTER TABLE passage_leg ALTER COLUMN passage_leg_id TYPE bigint"),
    ("AlarmFigures.step", "Ask crew to end the transaction of process 4711, or end the session."),
    ("AlarmFigures.text", "crew (gate, process 4711) holds up 37 sessions."),
    ("AlarmFigures.title", "Hold-up"),
    ("AlarmEntry.text", "crew (gate, process 4711) holds up 37 sessions."),
    ("WorstAlarm.text", "crew (gate, process 4711) holds up 37 sessions."),
    ("FollowedFigure.title", "Busy sessions"),
    ("ThresholdFigures.title", "Busy sessions"),
    ("PlanDetail.name", "Filter"),
    ("PlanDetail.text", "(state = 'waiting'::text)"),
    ("PlanStep.name", "Seq Scan on passage_leg"),
    ("PlanStep.role", "InitPlan 1"),
    ("PlansToRead.first_plan", "Seq Scan on passage_leg  (cost=0.00..35.50 rows=10 width=8)"),
    ("PlansToRead.second_plan", "Index Scan using passage_leg_pkey on passage_leg  (cost=0.29..8.30 rows=1 width=8)"),
    ("HeldRows.column", "paid_at"),
    (
        "NotUnderstoodStatement.why",
        "its tables are not known: they are the server's own, views, temporary, or several have that name",
    ),
    ("IndexFindingFigures.evidence", "passage_leg_state says the same as passage_leg_by_state: state."),
    ("IndexFindingKindFigures.title", "Duplicate index"),
    ("DeadlockParty.wanted", "ShareLock on transaction 815"),
    ("LastingRepair.evidence", "The holder was idle in its transaction for 98 % of the 14 min in which others waited."),
    ("LockOnServer.kind", "relation"),
    ("LockOnServer.mode", "AccessExclusiveLock"),
    ("SessionOnServer.awaits", "ShareLock transactionid public.crossing"),
    ("ThresholdSet.object", "/data"),
    ("ThresholdSet.step", "Call the desk of the office."),
    ("TriedObject.object", "/data"),
    ("UsualRange.object", "/data"),
    ("LockWait.kind", "transactionid"),
    ("LockWait.mode", "ShareLock"),
    ("LostToTable.mode", "ShareLock"),
    ("InstancePart.primary", "passage-a"),
    ("ProcessOnServer.kind", "checkpointer"),
    ("ProcessOnServer.event", "Activity:CheckpointerMain"),
    ("ProcessOnServer.text", "autovacuum: VACUUM public.gate_scan"),
    ("PromotionNow.sentence", "Nothing would be lost."),
    ("ReplayConflict.cause", "snapshot"),
    ("ReplayConflict.server", "passage-b"),
    ("ReplicatedServer.address", "10.4.1.12:5432"),
    ("ReplicatedServer.slot", "passage_b"),
    ("ReplicatedServer.state", "streaming"),
    ("ReplicatedServer.synchronous", "async"),
    ("ReplicationSlot.server", "passage-a"),
    ("ReplicationSlot.state", "reserved"),
    ("SilentServer.problem", "It did not answer within 3 s."),
    ("KeptReportFigures.made_by", "each week"),
    ("ReportAsked.family_id", "71"),
    ("ReportAsked.first", "1"),
    ("ReportAsked.second", "2"),
    ("ReportAsked.sections", "changed,waits"),
    ("ScheduleSet.at", "07:00"),
    ("ScheduleSet.sections", "changed,waits"),
    ("ScheduleSet.weekday", "monday"),
    ("absent", "The statement has not run since."),
    ("account", "crew"),
    ("action", "add_instance"),
    ("acknowledged_by", "pilot"),
    ("after", "1024"),
    ("answered_by", "pilot"),
    ("applied_by", "pilot"),
    ("asked_by", "mate"),
    ("assigned_to", "mate"),
    ("asks", "Whether rows that nobody sees any more are removed in time."),
    ("before", "8192"),
    ("beside", "passage_leg_by_state"),
    ("by", "pilot"),
    ("character_type", "C.UTF-8"),
    ("client", "192.0.2.9"),
    ("collation", "C.UTF-8"),
    ("comment", "The gate team restarts its terminals."),
    ("condition", "state = 'waiting'"),
    ("consequence", "The table can be written to meanwhile; it takes about twice as long."),
    ("costs", "Two indexes say the same. Every write keeps up both; statements need one."),
    ("credential", "watchers"),
    ("cycle_days", "35"),
    ("consequences[]", "A transaction in passage has been open for 14 min: it keeps its locks."),
    ("csrf_token", "kelp2dune7tern"),
    ("current", "the password so far"),
    ("database", "passage"),
    ("databases[]", "passage"),
    ("days[]", "sunday"),
    ("decided_by", "pilot"),
    ("detail", "passage-a"),
    ("encoding", "UTF8"),
    ("event", "transactionid"),
    ("family", "select id from passage_leg where crossing_id = ? and state = ?"),
    ("field", "port"),
    ("figure", "load"),
    ("figures", "statements"),
    ("folded_groups[]", "gates"),
    ("group", "gates"),
    ("groups[]", "gates"),
    ("held_back", "The statement is shown once it was watched for 35 days."),
    ("hint", "A time zone, such as Europe/Lisbon"),
    ("host", "passage-a.skerry.example"),
    ("host_endpoint", "http://passage-a.skerry.example:9470/metrics"),
    ("host_secret", "Bearer kelp2dune7tern"),
    ("hosts[]", "passage-a.skerry.example"),
    ("id", "7"),
    ("ignored_when", "One of them is new and is to replace the other."),
    ("index", "passage_leg_state"),
    ("instance", "passage-a"),
    ("keys[]", "state"),
    ("known_as[]", "passage-a"),
    ("key", "load"),
    ("kind", "period"),
    ("label", "passage-a"),
    ("labels[]", "passage-a"),
    ("location", "/var/lib/postgresql/15/main/base"),
    ("least_change", "20"),
    ("least_share", "0.5"),
    ("makes_superfluous[]", "passage_leg_crossing_id"),
    ("may_not_approve", "Somebody else must approve what you proposed."),
    ("meaning", "Share of page requests that were served from the cache."),
    ("means", "password"),
    ("message", "Nothing listens on passage-a.skerry.example:5432."),
    ("method", "btree"),
    ("meanwhile[]", "work_mem: 4MB → 1MB"),
    ("more_databases[]", "freight"),
    ("name", "nightly report"),
    ("new", "a longer password"),
    ("noted_by", "mate"),
    ("object", "passage"),
    ("only", "account:crew"),
    ("outcome", "1,204,331 rows in 8,902 pages were read."),
    ("owner", "crew"),
    ("password", "a long password"),
    ("path", "/metrics/instances/1"),
    ("phase", "acquiring sample rows"),
    ("place", "passage-a.skerry.example:5432"),
    ("program", "gate"),
    ("proposed_by", "mate"),
    ("reason", "37 scanners wait behind it."),
    ("remedy", "Give a port from 1 to 65535."),
    ("sample", "select id from passage_leg where crossing_id = $1 and state = $2"),
    ("schema", "public"),
    ("search", "gate"),
    ("section", "load"),
    ("server_version", "15.18"),
    ("severity", "ERROR"),
    ("start", "01:30"),
    ("statement", "select id from passage_leg where crossing_id = ? and state = ?"),
    ("step", "Look at the statement behind it."),
    ("silenced_by", "Sunday night"),
    ("stop_asked_by", "pilot"),
    ("subject", "public.passage_leg (crossing_id, state)"),
    ("summary", "3 tables have more than a tenth of dead rows."),
    ("table", "passage_leg"),
    ("tablespace", "pg_default"),
    ("tag", "gate list"),
    ("tells", "Calls, time, rows and pages by statement."),
    ("text", "select id from passage_leg where crossing_id = ? and state = ?"),
    ("time_zone", "Europe/Lisbon"),
    ("title", "Analyze a table"),
    ("tls_ca", "-----BEGIN CERTIFICATE-----"),
    ("token", "hurnix_kelp2dune7tern"),
    ("told", "The planner's statistics of public.passage_leg are gathered anew."),
    ("type", "urn:hurnix:problem:invalid"),
    ("unread_so_far[]", "passage_leg_state"),
    ("undo", "Nothing needs to be undone."),
    ("unit", "kB"),
    ("value", "128 MB"),
    ("version", "0.1.0"),
    ("what", "shared_buffers"),
    ("words", "The desk was called; the gate team restarted its terminals."),
    ("words_by", "mate"),
];

/// Makes examples from the schemas of a document.
pub struct Examples {
    schemas: Value,
}

impl Examples {
    /// Knows the schemas.
    pub fn of(components: Option<&Components>) -> Examples {
        let schemas = components.and_then(|components| serde_json::to_value(&components.schemas).ok());
        Examples { schemas: schemas.unwrap_or_default() }
    }

    /// Gives an operation its examples: of each parameter, of what is sent, and of what is answered when it goes well.
    pub fn add_to(&self, operation: &mut Operation) {
        for parameter in operation.parameters.iter_mut().flatten() {
            if let RefOr::T(parameter) = parameter {
                let schema = serde_json::to_value(&parameter.schema).unwrap_or_default();
                let example = self.value(&schema, "", &parameter.name, 0);
                *parameter = ParameterBuilder::from(parameter.clone()).example(Some(example)).build();
            }
        }
        if let Some(RefOr::T(body)) = &mut operation.request_body {
            body.content.iter_mut().for_each(|(kind, content)| self.add_to_content(kind, content));
        }
        for (status, response) in &mut operation.responses.responses {
            if let RefOr::T(response) = response
                && status.starts_with('2')
            {
                response.content.iter_mut().for_each(|(kind, content)| self.add_to_content(kind, content));
            }
        }
    }

    fn add_to_content(&self, kind: &str, content: &mut RefOr<Content>) {
        let RefOr::T(content) = content else { return };
        let schema = serde_json::to_value(&content.schema).unwrap_or_default();
        if kind == "application/json" && content.example.is_none() && content.examples.is_empty() {
            content.example = Some(self.value(&schema, "", "", 0));
        }
    }

    /// A value that fits a schema; `owner` names the schema that the field is of.
    fn value(&self, schema: &Value, owner: &str, field: &str, depth: usize) -> Value {
        if let Some(name) = schema["$ref"].as_str().and_then(|path| path.rsplit('/').next()) {
            return self.value(&self.schemas[name], name, field, depth);
        }
        if let Some(known) = schema.get("example").or_else(|| schema.get("const")).or_else(|| schema["enum"].get(0)) {
            return known.clone();
        }
        if let Some(parts) = schema["allOf"].as_array() {
            let merged = parts.iter().filter_map(|part| self.value(part, owner, field, depth).as_object().cloned());
            return merged.flatten().collect::<Map<_, _>>().into();
        }
        if let Some(ways) = schema["oneOf"].as_array() {
            let known = ways.iter().find(|way| way["type"] != "null").unwrap_or(&ways[0]);
            return self.value(known, owner, field, depth);
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => kinds.iter().find(|kind| *kind != "null").and_then(Value::as_str),
            kind => kind.as_str(),
        };
        match kind {
            Some("object") => {
                let fields = schema["properties"].as_object().into_iter().flatten();
                fields
                    .map(|(name, of)| (name.clone(), self.value(of, owner, name, depth + 1)))
                    .collect::<Map<_, _>>()
                    .into()
            }
            Some("array") if depth >= DEEPEST => json!([]),
            Some("array") => json!([self.value(&schema["items"], owner, &format!("{field}[]"), depth + 1)]),
            Some("integer") => schema["minimum"].as_i64().map_or(json!(1), |least| json!(least.max(1))),
            Some("number") => json!(schema["minimum"].as_f64().map_or(0.25, |least| least.max(0.25))),
            Some("boolean") => json!(true),
            Some("string") => text(schema, owner, field).into(),
            _ => Value::Null,
        }
    }
}

fn text(schema: &Value, owner: &str, field: &str) -> String {
    if schema["format"] == "date-time" {
        return if matches!(field, "to" | "until" | "entries_to") { LATER } else { MOMENT }.into();
    }
    let says = |name: &str| TEXTS.iter().find(|(known, _)| *known == name).map(|(_, says)| *says);
    says(&format!("{owner}.{field}")).or_else(|| says(field)).map_or_else(|| field.to_owned(), str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// All schemas beside one, for a validator.
    fn whole(document: &Value, schema: &Value) -> Value {
        let mut schema = schema.as_object().cloned().unwrap_or_default();
        schema.insert("components".into(), document["components"].clone());
        schema.into()
    }

    #[test]
    fn every_example_fits_its_schema_and_every_text_is_given() {
        let document: Value = serde_json::to_value(crate::api_document()).unwrap();
        let (mut seen, mut unknown) = (0, Vec::new());
        let mut look = |at: String, schema: &Value, example: &Value| {
            seen += 1;
            assert!(!example.is_null(), "{at} has no example");
            let validator = jsonschema::validator_for(&whole(&document, schema)).unwrap();
            let faults: Vec<String> = validator.iter_errors(example).map(|fault| fault.to_string()).collect();
            assert!(faults.is_empty(), "{at}: {faults:?}\n{example}");
        };
        for (path, item) in document["paths"].as_object().unwrap() {
            for (method, operation) in item.as_object().unwrap() {
                let at = format!("{method} {path}");
                assert!(operation["summary"].as_str().is_some_and(|summary| !summary.is_empty()), "{at}");
                for parameter in operation["parameters"].as_array().into_iter().flatten() {
                    look(format!("{at} {}", parameter["name"]), &parameter["schema"], &parameter["example"]);
                }
                let sent = &operation["requestBody"]["content"]["application/json"];
                if sent.is_object() {
                    look(at.clone(), &sent["schema"], &sent["example"]);
                }
                for (status, response) in operation["responses"].as_object().unwrap() {
                    let answered = &response["content"]["application/json"];
                    if status.starts_with('2') && answered.is_object() {
                        look(format!("{at} {status}"), &answered["schema"], &answered["example"]);
                    }
                }
            }
        }
        assert!(seen > 200, "{seen}");
        for (name, schema) in document["components"]["schemas"].as_object().unwrap() {
            for (field, of) in schema["properties"].as_object().into_iter().flatten() {
                let is_text = of["type"] == "string"
                    || of["type"].as_array().is_some_and(|kinds| kinds.contains(&json!("string")));
                if is_text && of.get("enum").is_none() && text(of, name, field) == *field {
                    unknown.push(format!("{name}.{field}"));
                }
            }
        }
        assert!(unknown.is_empty(), "no text for {unknown:?}");
    }
}
