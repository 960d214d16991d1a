//! What may stand in an input, whatever the request: every text of every body, query and list passes here before
//! a handler sees it. Handlers add what is particular to them; none checks for control characters itself.

use axum::http::StatusCode;
use serde::de::DeserializeOwned;
use serde_json::Value;
use serde_path_to_error::{Path, Segment};

use crate::api::base::problem::{FieldProblem, Problem};

/// Of a value at fault, so many characters are repeated.
const MOST_TOLD_LETTERS: usize = 60;
/// What is said of whatever else is wrong.
const SEE_DOCUMENT: &str = "/api/openapi.json describes what to give.";
/// What is said of a moment that cannot be read.
const GIVE_MOMENT: &str = "Give a moment such as 2026-03-01T06:00:00Z.";

/// What a text may be.
struct TextRule {
    most_letters: usize,
    /// Whether it may have several lines.
    lines: bool,
    /// Whether it may be a secret: it is never repeated, and any character but the zero byte may stand in it.
    secret: bool,
}

/// What the text of a list is called while it is looked at: its rows are looked at one by one later.
const LIST: &str = "the list";

/// The rule of a field, by its name: one line of 500 characters, but for those named here.
fn rule(field: &str) -> TextRule {
    let line = TextRule { most_letters: 500, lines: false, secret: false };
    match field {
        "password" | "current" | "new" | "host_secret" => TextRule { most_letters: 2_000, secret: true, ..line },
        "search" => TextRule { most_letters: 200, ..line },
        "reason" => TextRule { most_letters: 2_000, lines: true, ..line },
        "words" => TextRule { most_letters: 20_000, lines: true, ..line },
        "tls_ca" => TextRule { most_letters: 60_000, lines: true, ..line },
        "first_plan" | "second_plan" => TextRule { most_letters: 8_000_000, lines: true, ..line },
        LIST => TextRule { most_letters: 4_000_000, lines: true, ..line },
        _ => line,
    }
}

/// A value as it may be repeated: cut when long, and not at all when it may be a secret.
fn told(field: &str, value: &str) -> String {
    if rule(field).secret {
        return String::new();
    }
    let mut told: String = value.chars().take(MOST_TOLD_LETTERS).collect();
    if told.len() < value.len() {
        told.push('…');
    }
    told
}

/// What is wrong with a text, if anything.
pub fn text_fault(field: &str, text: &str) -> Option<FieldProblem> {
    let TextRule { most_letters, lines, secret } = rule(field);
    let is_refused = |letter: char| {
        letter == '\0' || !secret && letter.is_control() && !(lines && matches!(letter, '\n' | '\r' | '\t'))
    };
    let remedy = if text.chars().nth(most_letters).is_some() {
        format!("It is longer than {most_letters} characters: shorten it.")
    } else if text.chars().any(is_refused) {
        "It holds control characters: leave them out.".to_owned()
    } else {
        return None;
    };
    Some(FieldProblem::new(field, told(field, text), remedy))
}

/// What is wrong with the texts of a value, wherever they stand in it.
fn text_faults(field: &str, value: &Value, holds: Holds, faults: &mut Vec<FieldProblem>) {
    match value {
        Value::String(text) if holds == Holds::List && field == "text" => faults.extend(text_fault(LIST, text)),
        Value::String(text) => faults.extend(text_fault(field, text)),
        Value::Array(values) => values.iter().for_each(|value| text_faults(field, value, holds, faults)),
        Value::Object(fields) => fields.iter().for_each(|(name, value)| text_faults(name, value, holds, faults)),
        Value::Null | Value::Bool(_) | Value::Number(_) => {}
    }
}

/// What a body holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Holds {
    /// Fields, of which some may be secret.
    Fields,
    /// Passwords, that people type into the wrong field too: nothing of it is repeated.
    Passwords,
    /// A list of many lines, in the field `text`.
    List,
}

/// Reads a body of JSON.
pub fn from_json<T: DeserializeOwned>(bytes: &[u8], holds: Holds) -> Result<T, Problem> {
    let value: Value = serde_json::from_slice(bytes).map_err(|error| {
        let remedy = format!("It is no JSON ({}). {SEE_DOCUMENT}", without_value(&error.to_string()));
        Problem::unreadable(StatusCode::BAD_REQUEST, FieldProblem::secret("body", remedy))
    })?;
    let mut faults = Vec::new();
    text_faults("body", &value, holds, &mut faults);
    if faults.is_empty() {
        let mut reader = serde_json::Deserializer::from_slice(bytes);
        match serde_path_to_error::deserialize(&mut reader) {
            Ok(read) => return Ok(read),
            Err(error) => faults.push(fault(error.path(), &error.inner().to_string(), |path| scalar_at(&value, path))),
        }
    }
    if holds == Holds::Passwords {
        faults.iter_mut().for_each(|fault| fault.value.clear());
    }
    Err(Problem::invalid(faults))
}

/// Reads the query of an address.
pub fn from_query<T: DeserializeOwned>(query: &str) -> Result<T, Problem> {
    let pairs: Vec<(String, String)> = form_urlencoded::parse(query.as_bytes()).into_owned().collect();
    let mut faults: Vec<FieldProblem> = pairs.iter().filter_map(|(field, value)| text_fault(field, value)).collect();
    if faults.is_empty() {
        let reader = serde_urlencoded::Deserializer::new(form_urlencoded::parse(query.as_bytes()));
        match serde_path_to_error::deserialize(reader) {
            Ok(read) => return Ok(read),
            Err(error) => faults.push(fault(error.path(), &error.inner().to_string(), |path| {
                let field = path.iter().next_back().map(ToString::to_string)?;
                pairs.iter().find(|(name, _)| *name == field).map(|(_, value)| value.clone())
            })),
        }
    }
    Err(Problem::invalid(faults))
}

/// The field, value and remedy of what serde says is wrong at a place.
fn fault(path: &Path, message: &str, value_at: impl Fn(&Path) -> Option<String>) -> FieldProblem {
    let quoted = |begin: &str| Some(message.strip_prefix(begin)?.split_once('`')?.0.to_owned());
    if let Some(field) = quoted("missing field `") {
        return FieldProblem::secret(&field, "It is missing: give it.");
    }
    if let Some(field) = quoted("duplicate field `") {
        return FieldProblem::secret(&field, "It is given twice: give it once.");
    }
    let mut named = path.iter().filter_map(|segment| match segment {
        Segment::Map { key } => Some(key.as_str()),
        _ => None,
    });
    let Some(field) = named.next_back() else {
        return FieldProblem::secret("body", remedy(message));
    };
    let value = value_at(path).unwrap_or_default();
    FieldProblem::new(field, told(field, &value), remedy(message))
}

/// The value at a place, where it is no list and no object.
fn scalar_at(value: &Value, path: &Path) -> Option<String> {
    let at = path.iter().try_fold(value, |value, segment| match segment {
        Segment::Map { key } => value.get(key),
        Segment::Seq { index } => value.get(index),
        _ => None,
    })?;
    match at {
        Value::String(text) => Some(text.clone()),
        Value::Number(_) | Value::Bool(_) => Some(at.to_string()),
        Value::Null => Some("null".into()),
        Value::Array(_) | Value::Object(_) => None,
    }
}

/// What serde says, without the values that it repeats.
fn without_value(message: &str) -> String {
    match (message.find('`'), message.rfind('`')) {
        (Some(first), Some(last)) if first < last => format!("{}…{}", &message[..first], &message[last + 1..]),
        _ => message.to_owned(),
    }
}

/// What to give instead, from what serde says is wrong.
fn remedy(message: &str) -> String {
    let message = message.split(" at line ").next().unwrap_or_default();
    if let Some((_, expected)) = message.split_once(", expected ") {
        return match expected {
            "u16" => "Give a whole number from 0 to 65535.".into(),
            "u32" => "Give a whole number from 0 to 4294967295.".into(),
            "i32" => "Give a whole number from -2147483648 to 2147483647.".into(),
            "i64" | "u64" => "Give a whole number.".into(),
            "f32" | "f64" => "Give a number.".into(),
            "a string" | "a borrowed string" => "Give a text.".into(),
            "a boolean" => "Give true or false.".into(),
            "a sequence" => "Give a list.".into(),
            expected if expected.contains("date and time") => GIVE_MOMENT.into(),
            expected if expected.starts_with("struct") || expected == "a map" => "Give an object.".into(),
            expected => format!("Give {}.", expected.replace('`', "")),
        };
    }
    match message {
        "invalid digit found in string" | "cannot parse integer from empty string" => "Give a whole number.".into(),
        "number too large to fit in target type" => "Give a smaller number.".into(),
        "number too small to fit in target type" => "Give a larger number.".into(),
        "provided string was not `true` or `false`" => "Give true or false.".into(),
        "premature end of input"
        | "trailing input"
        | "input contains invalid characters"
        | "input is out of range"
        | "input is not enough for unique date and time"
        | "no possible date and time matching input" => GIVE_MOMENT.into(),
        _ => SEE_DOCUMENT.into(),
    }
}

#[cfg(test)]
mod tests {
    use chrono::{DateTime, Utc};
    use serde::Deserialize;

    use super::*;

    #[derive(Debug, Default, Deserialize)]
    #[serde(default)]
    struct Given {
        label: String,
        port: u16,
        password: String,
        at: DateTime<Utc>,
        tags: Vec<String>,
    }

    #[track_caller]
    fn body(json: &str) -> (String, String, String) {
        let problem = from_json::<Given>(json.as_bytes(), Holds::Fields).map(drop).unwrap_err();
        let [error] = problem.errors.try_into().unwrap();
        let FieldProblem { field, value, remedy, .. } = error;
        (field, value, remedy)
    }

    #[test]
    fn what_is_wrong_with_a_body_is_told_with_field_value_and_remedy() {
        for (json, field, value, remedy) in [
            (r#"{"port": 70000}"#, "port", "70000", "from 0 to 65535"),
            (r#"{"port": "many"}"#, "port", "many", "from 0 to 65535"),
            (r#"{"label": 7}"#, "label", "7", "Give a text"),
            (r#"{"label": null}"#, "label", "null", "Give a text"),
            (r#"{"label": "a\u0000b"}"#, "label", "a\0b", "control characters"),
            (r#"{"label": "two\nlines"}"#, "label", "two\nlines", "control characters"),
            (r#"{"label": "a", "label": "b"}"#, "label", "", "given twice"),
            (r#"{"tags": ["quay", 5]}"#, "tags", "5", "Give a text"),
            (r#"{"at": "soon"}"#, "at", "soon", "2026-03-01T06:00:00Z"),
            (r#"{"label": {"deep": 1}}"#, "label", "", "Give a text"),
            (r#""a text""#, "body", "", "Give an object"),
        ] {
            let told = body(json);
            assert_eq!((told.0.as_str(), told.1.as_str()), (field, value), "{json}");
            assert!(told.2.contains(remedy), "{json}: {}", told.2);
        }
        let long = format!(r#"{{"label": "{}"}}"#, "x".repeat(5_000));
        assert_eq!(body(&long).1.chars().count(), MOST_TOLD_LETTERS + 1);
    }

    #[test]
    fn a_value_that_may_be_a_secret_is_never_repeated() {
        for json in [
            r#"{"password": 4711}"#,
            r#"{"password": {"is": "4711"}}"#,
            r#"{"password": "4711\u0000"}"#,
            r#""4711""#,
            r#"[4711]"#,
            r#"{"password": 4711"#,
        ] {
            let problem = from_json::<Given>(json.as_bytes(), Holds::Fields).map(drop).unwrap_err();
            assert!(!serde_json::to_string(&problem).unwrap().contains("4711"), "{json}: {problem:?}");
        }
        let problem = from_json::<Given>(br#"{"label": "hunter\u0000"}"#, Holds::Passwords).map(drop).unwrap_err();
        assert!(!format!("{problem:?}").contains("hunter"), "{problem:?}");
        assert!(from_json::<Given>(br#"{"password": "a\tb"}"#, Holds::Fields).is_ok(), "a tab may be in a password");
    }

    #[test]
    fn only_a_list_has_many_lines() {
        #[derive(Debug, Deserialize)]
        struct Text {
            text: String,
        }
        let two_lines = br#"{"text": "label,host\nquay,quay-host"}"#;
        assert!(from_json::<Text>(two_lines, Holds::Fields).is_err());
        assert_eq!(from_json::<Text>(two_lines, Holds::List).unwrap().text.lines().count(), 2);
        assert!(from_json::<Text>(br#"{"text": "a\u0000b"}"#, Holds::List).is_err());
    }

    #[test]
    fn what_is_wrong_with_a_query_is_told_likewise() {
        for (query, field, value, remedy) in [
            ("port=-1", "port", "-1", "whole number"),
            ("port=70000", "port", "70000", "smaller"),
            ("at=2026", "at", "2026", "2026-03-01T06:00:00Z"),
            ("label=a%00b", "label", "a\0b", "control characters"),
            ("port=1&port=2", "port", "", "given twice"),
        ] {
            let problem = from_query::<Given>(query).map(drop).unwrap_err();
            let [error] = problem.errors.try_into().unwrap();
            assert_eq!((error.field.as_str(), error.value.as_str()), (field, value), "{query}");
            assert!(error.remedy.contains(remedy), "{query}: {}", error.remedy);
        }
    }
}
