//! The format of bundles: its schema, its page, and what is said about bad lines.

use hurnix_source::bundle::{Line, read, schema, write};
use serde_json::Value;

const PAGE: &str = include_str!("../../../../docs/formats/bundle.md");
const SCHEMA: &str = include_str!("../../../../docs/formats/bundle.schema.json");

/// The example of the page.
fn example() -> &'static str {
    PAGE.split("```json\n").nth(1).unwrap().split("```").next().unwrap()
}

fn faults(text: &str) -> Vec<String> {
    read(text.as_bytes()).filter_map(|line| line.unwrap().err()).map(|bad| bad.to_string()).collect()
}

#[test]
fn the_schema_in_the_docs_is_that_of_the_program() {
    let written: Value = serde_json::from_str(SCHEMA).unwrap();
    assert_eq!(written, schema(), "run ./run api, which writes it anew");
}

#[test]
fn the_example_of_the_page_is_good_and_comes_back_as_it_was() {
    let validator = jsonschema::validator_for(&schema()).unwrap();
    let lines: Vec<Line> = read(example().as_bytes()).map(|line| line.unwrap().unwrap()).collect();
    assert_eq!(lines.len(), example().lines().count());
    let mut again = Vec::new();
    for line in &lines {
        write(line, &mut again).unwrap();
    }
    let values = |text: &str| text.lines().map(|line| serde_json::from_str(line).unwrap()).collect::<Vec<Value>>();
    let again = String::from_utf8(again).unwrap();
    assert_eq!(values(&again), values(example()));
    for value in values(&again) {
        let errors: Vec<String> = validator.iter_errors(&value).map(|error| error.to_string()).collect();
        assert!(errors.is_empty(), "{value}: {errors:?}");
    }
}

#[test]
fn a_bad_line_says_where_what_and_how_and_costs_no_other() {
    let period = |rest: &str| {
        format!(r#"{{"line":"period","counted":"tables","detail":"fine","to":"2026-11-24T08:01:00Z",{rest}}}"#)
    };
    let from = r#""from":"2026-11-24T08:00:00Z""#;
    let cases = [
        (String::from("{"), "line 1: the line: EOF"),
        (String::from(r#"{"line":"tide"}"#), "unknown variant `tide`"),
        (period(r#""from":"2026-11-24T08:02:00Z""#), "from: 2026-11-24 08:02:00 UTC is not before `to`"),
        (period(r#""rows":[{"number":1,"figures":{}}]"#), "from: it is missing"),
        (
            period(&format!(r#"{from},"rows":[{{"number":1,"figures":{{"reads":1}}}}]"#)),
            "rows[0].figures.reads: there is no such figure. There are: full_reads",
        ),
        (
            period(&format!(r#"{from},"rows":[{{"number":1,"figures":{{"full_reads":-1}}}}]"#)),
            "rows[0].figures.full_reads: -1 is negative",
        ),
        (
            period(&format!(r#"{from},"rows":[{{"family":"a","figures":{{}}}}]"#)),
            "rows[0].family: it belongs to rows of statements",
        ),
        (period(r#""fromm":1"#), "unknown field `fromm`"),
        (
            String::from(
                r#"{"line":"bundle","version":2,"instance":"a","engine":"b","from":"2026-11-24T08:00:00Z","to":"2026-11-24T09:00:00Z"}"#,
            ),
            "version: 2 is a version that this program does not know",
        ),
        (
            String::from(r#"{"line":"load","detail":"hour","to":"2026-11-24T08:10:00Z","samples":1,"sessions":1}"#),
            "to: 2026-11-24 08:10:00 UTC is not the end of a bucket of 3600 s",
        ),
        (
            String::from(r#"{"line":"load","detail":"day","to":"2026-11-25T00:00:00Z","samples":1,"sessions":1}"#),
            "detail: `day` is not brought in. Give its hours",
        ),
        (
            String::from(
                r#"{"line":"measures","figures":"host","detail":"fine","to":"2026-11-24T08:10:00Z","values":[{"metric":"tide","value":1}]}"#,
            ),
            "values[0].metric: there is no metric tide",
        ),
        (
            String::from(
                r#"{"line":"measures","figures":"host","detail":"hour","to":"2026-11-24T08:00:00Z","values":[{"metric":"cpus","value":1}]}"#,
            ),
            "values[0].readings",
        ),
        (
            String::from(
                r#"{"line":"log","at":"2026-11-24T08:10:00Z","kind":"fatal","severity":"FATAL","state":"57P01","message":"","who":{"account":"","program":"","client":"","database":""},"process":1,"session":"a","number":1,"times":0}"#,
            ),
            "times: 0 lines",
        ),
        (
            String::from(r#"{"line":"marker","at":"2026-11-24T08:10:00Z","kind":"noted","text":"a\\\u0000"}"#),
            "a text in it holds a zero byte",
        ),
    ];
    for (line, expected) in cases {
        let found = faults(&format!("{line}\n{}", example()));
        assert_eq!(found.len(), 1, "{line}: {found:?}");
        assert!(found[0].starts_with("line 1: ") && found[0].contains(expected), "{line}: {}", found[0]);
    }
}

#[test]
fn numbers_of_lines_count_empty_ones_and_deep_nesting_is_no_danger() {
    let deep = format!("{}{}", "[".repeat(100_000), "]".repeat(100_000));
    let text = format!("\n\n{deep}\n{}", example());
    let found = faults(&text);
    assert_eq!(found.len(), 1);
    assert!(found[0].starts_with("line 3: "), "{}", found[0]);
}
