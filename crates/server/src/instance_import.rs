//! Lists of instances, as comma-separated values with a line of heads, or as a JSON array of objects.

use std::collections::BTreeMap;

use hurnix_core::instance::instance_settings::SETTINGS;
use serde_json::Value;
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::csv::plain;

/// In which form a list is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum ListFormat {
    /// Comma-separated values with a line of heads.
    Csv,
    /// An array of objects.
    Json,
}

/// How an instance is reached, in the order of files that are written; its settings come in between.
const WAY: [&str; 9] = ["label", "host", "port", "database", "account", "credential", "tls", "tls_ca", "host_endpoint"];
const LAST: [&str; 3] = ["allows_plain_password", "group", "password"];

/// What an instance may be told by, in the order of files that are written.
pub fn all_fields() -> Vec<&'static str> {
    WAY.into_iter().chain(SETTINGS.iter().map(|setting| setting.name)).chain(LAST).collect()
}

/// Longest list.
pub const MOST_ROWS: usize = 5000;

/// A row of a list: where it is, and what it says by field. Fields that are empty are left out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Line of the file, or place in the array, from 1.
    pub place: usize,
    /// What it says.
    pub fields: BTreeMap<String, String>,
    /// What cannot be read in it, with the remedy.
    pub faults: Vec<String>,
}

/// The rows of a list. What keeps all of it from being read is told with the remedy.
pub fn rows(format: ListFormat, text: &str) -> Result<Vec<Row>, String> {
    let rows = match format {
        ListFormat::Csv => csv_rows(text)?,
        ListFormat::Json => json_rows(text)?,
    };
    match rows.len() {
        0 => Err("The list is empty: give a line of heads and one line for each instance, or a JSON array.".into()),
        some if some > MOST_ROWS => {
            Err(format!("The list has {some} rows, more than {MOST_ROWS}: bring it in by several parts."))
        }
        _ => Ok(rows),
    }
}

fn unknown(field: &str) -> String {
    format!("There is no field {field:?}; there are {}.", all_fields().join(", "))
}

fn csv_rows(text: &str) -> Result<Vec<Row>, String> {
    // A mark of the byte order, as some spreadsheets write it.
    let text = text.trim_start_matches('\u{feff}');
    let mut reader = ::csv::ReaderBuilder::new().flexible(true).trim(::csv::Trim::All).from_reader(text.as_bytes());
    let heads: Vec<String> = match reader.headers() {
        Ok(heads) => heads.iter().map(|head| head.to_lowercase()).collect(),
        Err(error) => return Err(format!("The line of heads cannot be read: {error}.")),
    };
    if let Some(field) = heads.iter().find(|head| !all_fields().contains(&head.as_str())) {
        return Err(unknown(field));
    }
    if let Some(field) = heads.iter().enumerate().find_map(|(at, head)| heads[..at].contains(head).then_some(head)) {
        return Err(format!("The field {field:?} has two columns: leave one out."));
    }
    let mut rows = Vec::new();
    let (mut line, mut counted_to) = (1, 0);
    for record in reader.records() {
        let record = record.map_err(|error| format!("The list cannot be read on: {error}."))?;
        // The reader's own count is one short after lines that end as those of some systems do.
        let begin = record.position().map_or(counted_to, |position| position.byte() as usize);
        let begin = begin + text[begin..].len() - text[begin..].trim_start_matches(['\r', '\n']).len();
        line += text[counted_to..begin].matches('\n').count();
        counted_to = begin;
        let place = line;
        let mut faults = Vec::new();
        if record.len() != heads.len() {
            faults.push(format!(
                "It has {} values for {} heads: put quotes around values with commas.",
                record.len(),
                heads.len()
            ));
        }
        let fields = heads.iter().zip(record.iter()).filter(|(_, value)| !value.is_empty());
        let fields = fields.map(|(head, value)| (head.clone(), plain(value).to_owned())).collect();
        rows.push(Row { place, fields, faults });
    }
    Ok(rows)
}

fn json_rows(text: &str) -> Result<Vec<Row>, String> {
    let list: Vec<Value> = serde_json::from_str(text)
        .map_err(|error| format!("It is no JSON array: {error}. Give [{{\"label\": …, \"host\": …}}, …]."))?;
    let row = |(at, value): (usize, Value)| {
        let (mut fields, mut faults) = (BTreeMap::new(), Vec::new());
        let Value::Object(given) = value else {
            faults.push("It is no object: give {\"label\": …, \"host\": …}.".to_owned());
            return Row { place: at + 1, fields, faults };
        };
        for (name, value) in given {
            if !all_fields().contains(&name.as_str()) {
                faults.push(unknown(&name));
                continue;
            }
            match value {
                Value::Null => {}
                Value::String(text) if text.trim().is_empty() => {}
                Value::String(text) => {
                    fields.insert(name, text);
                }
                Value::Number(_) | Value::Bool(_) => {
                    fields.insert(name, value.to_string());
                }
                Value::Array(_) | Value::Object(_) => faults.push(format!("{name} must be a text or a number.")),
            }
        }
        Row { place: at + 1, fields, faults }
    };
    Ok(list.into_iter().enumerate().map(row).collect())
}

#[cfg(test)]
mod tests {
    use hurnix_core::Named;
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn both_formats_say_the_same() {
        let csv = "\u{feff}Label,host,port,database,account\r\npassage-c, passage-host ,5432,passage,hurnix_watch\r\n\"quay, old\",quay-host,,quay,hurnix_watch\r\n";
        let json = r#"[
            {"label": "passage-c", "host": "passage-host", "port": 5432, "database": "passage", "account": "hurnix_watch"},
            {"label": "quay, old", "host": "quay-host", "port": null, "database": "quay", "account": "hurnix_watch"}
        ]"#;
        let fields = |rows: Vec<Row>| rows.into_iter().map(|row| row.fields).collect::<Vec<_>>();
        let read = rows(ListFormat::Csv, csv).unwrap();
        assert_eq!(read.iter().map(|row| row.place).collect::<Vec<_>>(), [2, 3]);
        assert_eq!(read[1].fields["label"], "quay, old");
        assert!(!read[1].fields.contains_key("port"));
        assert_eq!(fields(read), fields(rows(ListFormat::Json, json).unwrap()));
    }

    #[test]
    fn what_cannot_be_read_is_told_with_the_remedy() {
        for (format, text, told) in [
            (ListFormat::Csv, "", "empty"),
            (ListFormat::Csv, "label,host\n", "empty"),
            (ListFormat::Csv, "label,colour\na,red\n", "\"colour\""),
            (ListFormat::Csv, "label,label\na,b\n", "two columns"),
            (ListFormat::Json, "{}", "no JSON array"),
            (ListFormat::Json, "[]", "empty"),
        ] {
            let problem = rows(format, text).unwrap_err();
            assert!(problem.contains(told), "{text}: {problem}");
        }
        let short = rows(ListFormat::Csv, "label,host\nonly one\n").unwrap();
        assert!(short[0].faults[0].contains("1 values for 2 heads"), "{short:?}");
        let odd = rows(ListFormat::Json, r#"[1, {"label": ["a"], "colour": "red"}]"#).unwrap();
        assert_eq!((odd[0].faults.len(), odd[1].faults.len()), (1, 2), "{odd:?}");
    }

    proptest! {
        /// Whatever is given, something is answered.
        #[test]
        fn no_text_is_too_odd(text in ".{0,200}") {
            for format in ListFormat::all() {
                let _ = rows(format, &text);
            }
        }
    }
}
