use hurnix_core::readings::server_log::LogLine;
use serde::Deserialize;

use super::Format;

/// A line whose time is still as the server wrote it, without its zone: `2026-03-02 07:14:05.123`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamped {
    /// When, by the server's zone for logs.
    pub written: String,
    /// The line; its moment is to be set.
    pub line: LogLine,
}

/// Letters of a time without its zone.
const TIME_LETTERS: usize = 23;

/// Takes whole lines from a piece of the log; answers how many bytes those are. What does not begin like a
/// line, such as the rest of one, is passed over.
pub fn take(format: Format, piece: &[u8], found: &mut Vec<Stamped>) -> usize {
    let mut at = 0;
    while let Some(length) = length_of_first(format, &piece[at..]) {
        let text = String::from_utf8_lossy(&piece[at..at + length]);
        found.extend(match format {
            Format::Json => json(&text),
            Format::Csv => csv(&text),
        });
        at += length;
    }
    at
}

/// Bytes of the first line with its end; nothing while that is not written yet.
fn length_of_first(format: Format, bytes: &[u8]) -> Option<usize> {
    // Quotes count only in a line that begins like one: what is passed over may end within some.
    let quotes = format == Format::Csv && begins_with_a_time(bytes);
    let mut within = false;
    for (at, byte) in bytes.iter().enumerate() {
        match byte {
            b'"' if quotes => within = !within,
            b'\n' if !within => return Some(at + 1),
            _ => {}
        }
    }
    None
}

/// Whether bytes begin like `2026-03-02 07:14:05`.
fn begins_with_a_time(bytes: &[u8]) -> bool {
    const SHAPE: &[u8] = b"0000-00-00 00:00:00";
    bytes.len() >= SHAPE.len()
        && SHAPE
            .iter()
            .zip(bytes)
            .all(|(shape, byte)| if *shape == b'0' { byte.is_ascii_digit() } else { byte == shape })
}

fn written(timestamp: &str) -> Option<String> {
    timestamp.get(..TIME_LETTERS).filter(|time| begins_with_a_time(time.as_bytes())).map(str::to_owned)
}

/// The parts of a line that Hurnix reads.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct Object {
    timestamp: String,
    user: String,
    dbname: String,
    pid: i32,
    remote_host: String,
    session_id: String,
    line_num: i64,
    error_severity: String,
    state_code: String,
    message: String,
    detail: String,
    statement: String,
    application_name: String,
}

fn json(text: &str) -> Option<Stamped> {
    let object: Object = serde_json::from_str(text).ok()?;
    let state = if object.state_code.is_empty() { "00000".to_owned() } else { object.state_code };
    Some(Stamped {
        written: written(&object.timestamp)?,
        line: LogLine {
            severity: object.error_severity,
            state,
            message: object.message,
            detail: object.detail,
            statement: object.statement,
            account: object.user,
            database: object.dbname,
            program: object.application_name,
            client: object.remote_host,
            process: object.pid,
            session: object.session_id,
            number: object.line_num,
            ..LogLine::default()
        },
    })
}

/// By position: later versions add columns at the end.
fn csv(text: &str) -> Option<Stamped> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(text.as_bytes());
    let record = reader.records().next()?.ok()?;
    let value = |position: usize| record.get(position).map(str::to_owned);
    let client = value(4)?;
    Some(Stamped {
        written: written(record.get(0)?)?,
        line: LogLine {
            account: value(1)?,
            database: value(2)?,
            process: value(3)?.parse().ok()?,
            // The port says nothing.
            client: client.rsplit_once(':').map_or(client.as_str(), |(host, _)| host).to_owned(),
            session: value(5)?,
            number: value(6)?.parse().ok()?,
            severity: value(11)?,
            state: value(12)?,
            message: value(13)?,
            detail: value(14)?,
            statement: value(19)?,
            program: value(22).unwrap_or_default(),
            ..LogLine::default()
        },
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const JSON: &str = r#"{"timestamp":"2026-03-02 07:14:05.123 CET","user":"gate","dbname":"passage","pid":4711,"remote_host":"10.5.1.14","remote_port":5543,"session_id":"69a5.1267","line_num":3,"ps":"SELECT","error_severity":"ERROR","state_code":"22012","message":"division by zero","statement":"select\n1/0","application_name":"gate list"}"#;
    const CSV: &str = "2026-03-02 07:14:05.123 CET,\"gate\",\"passage\",4711,\"10.5.1.14:5543\",69a5.1267,3,\"SELECT\",2026-03-02 07:00:00 CET,3/21,0,ERROR,22012,\"division by zero\",,,,,,\"select\n1/0, \"\"x\"\"\",8,,\"gate list\",\"client backend\",,0";

    fn read(format: Format, text: &str) -> (Vec<Stamped>, usize) {
        let mut found = Vec::new();
        let used = take(format, text.as_bytes(), &mut found);
        (found, used)
    }

    #[test]
    fn both_formats_say_the_same() {
        let (json, used) = read(Format::Json, &format!("{JSON}\n"));
        assert_eq!(used, JSON.len() + 1);
        let (csv, used) = read(Format::Csv, &format!("{CSV}\n"));
        assert_eq!(used, CSV.len() + 1);
        assert_eq!(json[0].written, "2026-03-02 07:14:05.123");
        assert_eq!(json[0].line.client, "10.5.1.14");
        assert_eq!(csv[0].line.statement, "select\n1/0, \"x\"");
        let same = Stamped {
            line: LogLine { statement: json[0].line.statement.clone(), ..csv[0].line.clone() },
            ..csv[0].clone()
        };
        assert_eq!(json[0], same);
    }

    #[test]
    fn the_rest_of_a_line_is_passed_over_and_an_unfinished_one_waits() {
        let (found, used) = read(Format::Json, &format!("est of a line\"}}\n{JSON}\n{JSON}"));
        assert_eq!((found.len(), used), (1, "est of a line\"}\n".len() + JSON.len() + 1));
        // A quote that only ends must not hide the lines behind it.
        let (found, used) = read(Format::Csv, &format!("rest of \"\"it\"\" \",8\n{CSV}\n{}", &CSV[..CSV.len() - 20]));
        assert_eq!((found.len(), used), (1, "rest of \"\"it\"\" \",8\n".len() + CSV.len() + 1));
    }

    #[test]
    fn a_line_without_a_state_is_no_error() {
        let (found, _) = read(
            Format::Json,
            "{\"timestamp\":\"2026-03-02 07:14:05.123 UTC\",\"error_severity\":\"LOG\",\"message\":\"checkpoint starting: time\"}\n",
        );
        assert_eq!(found[0].line.state, "00000");
    }

    proptest! {
        #[test]
        fn cutting_a_log_anywhere_loses_no_line(cut in 0usize..(2 * CSV.len()), csv in any::<bool>()) {
            let (format, one) = if csv { (Format::Csv, CSV) } else { (Format::Json, JSON) };
            let all = format!("{one}\n{one}\n{one}\n");
            let cut = cut.min(all.len());
            let mut found = Vec::new();
            let used = take(format, &all.as_bytes()[..cut], &mut found);
            let more = take(format, &all.as_bytes()[used..], &mut found);
            prop_assert_eq!((used + more, found.len()), (all.len(), 3));
        }

        #[test]
        fn any_bytes_are_read_without_harm(bytes in prop::collection::vec(any::<u8>(), 0..400), csv in any::<bool>()) {
            let mut found = Vec::new();
            let used = take(if csv { Format::Csv } else { Format::Json }, &bytes, &mut found);
            prop_assert!(used <= bytes.len());
        }
    }
}
