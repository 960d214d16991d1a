//! What a server writes to its log, sorted by what it tells, with its literals masked.
//!
//! A server's log tells what no counter does: which statement failed and why, who was caught in a deadlock
//! with whom, which statement spilled how much to disk. Most of a log tells nothing of that sort and is not
//! kept. Lines of one reading that say the same are kept once, with their number.
//!
//! Laws, tested below: no literal of a masked line is kept; masking twice is masking once; merging loses no
//! line from the count.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::readings::family::fold;
use crate::time::Timestamp;

/// Longest text that is kept of a line, in bytes; what is longer is cut.
pub const LONGEST_TEXT: usize = 8192;

/// What an entry of a server's log tells.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    IntoStaticStr,
    EnumString,
    VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum LogKind {
    /// A session was ended, could not begin, or the server itself went down.
    Fatal,
    /// Sessions waited for each other in a circle, and one was made to give up.
    Deadlock,
    /// A statement gave up waiting for a lock.
    LockTimeout,
    /// A statement was cancelled, by somebody or by a time limit.
    Cancelled,
    /// Any other statement that failed.
    Error,
    /// Something that is likely to be a mistake.
    Warning,
    /// Somebody has waited long for a lock. Its value is the wait in seconds.
    LockWait,
    /// A statement wrote to temporary files. Its value is their size in bytes.
    TempFile,
    /// A checkpoint ended. Its value is how long it took, in seconds.
    Checkpoint,
    /// The server vacuumed or analyzed a table by itself. Its value is how long that took, in seconds.
    Upkeep,
    /// Log that was not read, as more was written than may be read. Its value is its size in bytes.
    NotRead,
}

/// How far a server's log has been read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LogPosition {
    /// Name of the file within the folder of logs.
    pub file: String,
    /// Bytes of it that are read.
    pub offset: i64,
}

/// A line of a server's log as it was read, literals and all.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LogLine {
    /// When it was written, by the server's clock.
    pub at: Timestamp,
    /// The server's own word for how grave it is, such as `ERROR`.
    pub severity: String,
    /// State by the SQL standard, such as `40P01`; `00000` where nothing went wrong.
    pub state: String,
    /// What it says.
    pub message: String,
    /// More of it.
    pub detail: String,
    /// The statement that it is about.
    pub statement: String,
    /// Account of the session.
    pub account: String,
    /// Its database.
    pub database: String,
    /// Its program.
    pub program: String,
    /// Where it came from.
    pub client: String,
    /// Number of the server's process.
    pub process: i32,
    /// What the server calls the session; with `number` it tells lines apart.
    pub session: String,
    /// Number of the line within its session.
    pub number: i64,
}

/// What is kept of one line, or of several that say the same.
#[derive(Debug, Clone, PartialEq)]
pub struct LogEntry {
    /// The first of them. Masked, if the instance says so.
    pub line: LogLine,
    /// What they tell.
    pub kind: LogKind,
    /// How many lines they are.
    pub times: i64,
    /// What the kind says, summed over the lines.
    pub value: Option<f64>,
}

/// Lines of one reading as they are kept, in order of time.
pub fn entries(lines: Vec<LogLine>, masked: bool) -> Vec<LogEntry> {
    let mut entries: Vec<LogEntry> = Vec::new();
    let mut alike: HashMap<Alike, usize> = HashMap::new();
    for line in lines {
        let Some((kind, value)) = tell(&line) else { continue };
        let alike = alike.entry(Alike::of(kind, &line)).or_insert(entries.len());
        if let Some(entry) = entries.get_mut(*alike) {
            entry.times += 1;
            entry.value = entry.value.map(|sum| sum + value.unwrap_or(0.0));
        } else {
            let line = if masked { mask(line, kind) } else { line };
            entries.push(LogEntry { line: shortened(line), kind, times: 1, value });
        }
    }
    entries
}

/// Says the same: of one kind, about the same statement, for the same account.
#[derive(PartialEq, Eq, Hash)]
struct Alike {
    kind: LogKind,
    state: String,
    message: String,
    statement: String,
    account: String,
    database: String,
    program: String,
}

impl Alike {
    fn of(kind: LogKind, line: &LogLine) -> Alike {
        // Whose deadlock it was, each one tells anew; a path of a temporary file tells nothing.
        let message = match kind {
            LogKind::Deadlock | LogKind::Checkpoint | LogKind::NotRead => format!("{} {}", line.session, line.number),
            LogKind::TempFile => String::new(),
            _ => mask_message(&line.message),
        };
        Alike {
            kind,
            state: line.state.clone(),
            message,
            statement: fold(&line.statement).text,
            account: line.account.clone(),
            database: line.database.clone(),
            program: line.program.clone(),
        }
    }
}

/// What a line tells, with its figure; nothing for lines that are not kept.
fn tell(line: &LogLine) -> Option<(LogKind, Option<f64>)> {
    let message = line.message.as_str();
    let kind = match (line.severity.as_str(), line.state.as_str()) {
        ("FATAL" | "PANIC", _) => LogKind::Fatal,
        ("ERROR", "40P01") => LogKind::Deadlock,
        ("ERROR", "55P03") => LogKind::LockTimeout,
        ("ERROR", "57014") => LogKind::Cancelled,
        ("ERROR", _) => LogKind::Error,
        ("WARNING", _) => LogKind::Warning,
        _ if message.starts_with("temporary file: ") => {
            return Some((LogKind::TempFile, number_after(message, ", size ")));
        }
        // Only the end of a wait: the line before told of the same one.
        _ if message.starts_with("process ") && message.contains(" acquired ") => {
            return Some((LogKind::LockWait, number_after(message, " after ").map(|ms| ms / 1e3)));
        }
        _ if message.starts_with("checkpoint complete") || message.starts_with("restartpoint complete") => {
            return Some((LogKind::Checkpoint, number_after(message, "total=")));
        }
        _ if message.starts_with("automatic vacuum") || message.starts_with("automatic analyze") => {
            return Some((LogKind::Upkeep, number_after(message, "elapsed: ")));
        }
        ("NOT READ", _) => return Some((LogKind::NotRead, number_after(message, " "))),
        _ => return None,
    };
    Some((kind, None))
}

/// A stand-in for log that was not read.
pub fn not_read(at: Timestamp, bytes: i64, position: &LogPosition) -> LogLine {
    LogLine {
        at,
        severity: "NOT READ".into(),
        state: "00000".into(),
        message: format!("about {bytes} bytes of log before this were not read"),
        session: position.file.clone(),
        number: position.offset,
        ..LogLine::default()
    }
}

fn number_after(text: &str, mark: &str) -> Option<f64> {
    let rest = &text[text.find(mark)? + mark.len()..];
    let end = rest.find(|sign: char| !sign.is_ascii_digit() && sign != '.').unwrap_or(rest.len());
    rest[..end].parse().ok()
}

/// A line without its literals. Of one that is masked already nothing changes.
pub fn mask(mut line: LogLine, kind: LogKind) -> LogLine {
    line.statement = fold(&line.statement).text;
    line.detail = match kind {
        LogKind::Deadlock => mask_statements(&line.detail),
        LogKind::LockWait => line.detail,
        _ => String::new(),
    };
    if !names_only(&line.state) {
        line.message = mask_message(&line.message);
    }
    line
}

fn shortened(mut line: LogLine) -> LogLine {
    for text in [&mut line.message, &mut line.detail, &mut line.statement] {
        cut(text);
    }
    line
}

/// Whether messages of a state quote names of objects and never a literal: by its class. Syntax errors
/// quote what stands in the statement.
fn names_only(state: &str) -> bool {
    const CLASSES: [&str; 16] =
        ["00", "01", "08", "23", "25", "28", "2B", "3D", "3F", "40", "42", "53", "54", "55", "57", "58"];
    state != "42601" && CLASSES.iter().any(|class| state.starts_with(class))
}

/// A message without what stands in quotes in it, and without numbers.
fn mask_message(message: &str) -> String {
    let mut masked = String::with_capacity(message.len());
    let mut rest = message.chars().peekable();
    let mut in_word = false;
    while let Some(sign) = rest.next() {
        match sign {
            // An apostrophe within a word quotes nothing.
            '"' | '\'' if sign == '"' || !in_word => {
                while let Some(inner) = rest.next() {
                    // A doubled quote stands for itself.
                    if inner == sign && rest.next_if_eq(&sign).is_none() {
                        break;
                    }
                }
                masked.push('?');
            }
            '0'..='9' if !in_word => {
                while rest.next_if(|next| next.is_ascii_alphanumeric() || *next == '.').is_some() {}
                masked.push('?');
            }
            _ => masked.push(sign),
        }
        in_word = sign.is_alphanumeric() || sign == '_';
    }
    masked
}

/// The detail of a deadlock: who waits for whom, and their statements, folded.
fn mask_statements(detail: &str) -> String {
    let lines: Vec<&str> = detail.lines().collect();
    let is_wait = |line: &&str| line.starts_with("Process ") && line.contains(" waits for ");
    let (waits, statements) = lines.split_at(lines.iter().take_while(|line| is_wait(line)).count());
    let heads: Vec<String> =
        waits.iter().filter_map(|wait| wait.split(" waits").next()).map(|who| format!("{who}: ")).collect();
    let mut masked: Vec<String> = waits.iter().map(|wait| (*wait).to_owned()).collect();
    let mut rest = statements;
    while let Some((first, more)) = rest.split_first() {
        let length = more.iter().position(|line| heads.iter().any(|head| line.starts_with(head))).unwrap_or(more.len());
        if let Some(head) = heads.iter().find(|head| first.starts_with(*head)) {
            let statement = [&[&first[head.len()..]], &more[..length]].concat().join("\n");
            masked.push(format!("{head}{}", fold(&statement).text));
        }
        rest = &more[length..];
    }
    masked.join("\n")
}

fn cut(text: &mut String) {
    if text.len() > LONGEST_TEXT {
        let end = (0..=LONGEST_TEXT).rev().find(|end| text.is_char_boundary(*end)).unwrap_or(0);
        text.truncate(end);
        text.push('…');
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn line(severity: &str, state: &str, message: &str) -> LogLine {
        LogLine { severity: severity.into(), state: state.into(), message: message.into(), ..LogLine::default() }
    }

    fn only(line: LogLine, masked: bool) -> LogEntry {
        let mut entries = entries(vec![line], masked);
        assert_eq!(entries.len(), 1);
        entries.remove(0)
    }

    #[test]
    fn kinds_are_told_by_state_and_by_message() {
        let kind = |severity, state, message| {
            entries(vec![line(severity, state, message)], true).first().map(|e| (e.kind, e.value))
        };
        let figureless = |kind| Some((kind, None));
        assert_eq!(kind("ERROR", "40P01", "deadlock detected"), figureless(LogKind::Deadlock));
        assert_eq!(kind("ERROR", "55P03", "canceling statement due to lock timeout"), figureless(LogKind::LockTimeout));
        assert_eq!(kind("ERROR", "57014", "canceling statement due to user request"), figureless(LogKind::Cancelled));
        assert_eq!(kind("ERROR", "23505", "duplicate key value"), figureless(LogKind::Error));
        assert_eq!(kind("FATAL", "28P01", "password authentication failed"), figureless(LogKind::Fatal));
        assert_eq!(kind("WARNING", "01000", "there is no transaction in progress"), figureless(LogKind::Warning));
        assert_eq!(
            kind("LOG", "00000", "temporary file: path \"base/pgsql_tmp/pgsql_tmp7.0\", size 14057472"),
            Some((LogKind::TempFile, Some(14_057_472.0)))
        );
        assert_eq!(
            kind("LOG", "00000", "process 7 acquired ShareLock on transaction 921 after 2001.5 ms"),
            Some((LogKind::LockWait, Some(2.0015)))
        );
        assert_eq!(
            kind(
                "LOG",
                "00000",
                "checkpoint complete: wrote 8 buffers (0.0%); write=1.2 s, sync=0.01 s, total=1.306 s; sync files=4"
            ),
            Some((LogKind::Checkpoint, Some(1.306)))
        );
        assert_eq!(
            kind(
                "LOG",
                "00000",
                "automatic vacuum of table \"ferry.public.leg\": index scans: 1\nsystem usage: CPU: user: 0.05 s, system: 0.01 s, elapsed: 0.25 s"
            ),
            Some((LogKind::Upkeep, Some(0.25)))
        );
        for ordinary in [
            "process 7 still waiting for ShareLock on transaction 921 after 1000.1 ms",
            "duration: 7 ms  statement: select 'secret'",
            "connection received",
        ] {
            assert_eq!(kind("LOG", "00000", ordinary), None, "{ordinary}");
        }
    }

    #[test]
    fn names_stay_and_values_go() {
        let message = |state, message| only(line("ERROR", state, message), true).line.message;
        assert_eq!(message("42P01", "relation \"gate\" does not exist"), "relation \"gate\" does not exist");
        assert_eq!(
            message("22P02", "invalid input syntax for type integer: \"Ada's 7\""),
            "invalid input syntax for type integer: ?"
        );
        assert_eq!(message("42601", "syntax error at or near \"o\"\"clock\" 7"), "syntax error at or near ? ?");
        assert_eq!(message("P0001", "can't board passenger 4711 of O'Hara"), "can't board passenger ? of O'Hara");
        assert_eq!(message("22003", "value '12' of int4 is out of range"), "value ? of int4 is out of range");
    }

    #[test]
    fn the_detail_of_a_deadlock_keeps_who_and_loses_what() {
        let waits = "Process 7 waits for ShareLock on transaction 9; blocked by process 8.\nProcess 8 waits for ShareLock on transaction 6; blocked by process 7.\n";
        let mut deadlock = line("ERROR", "40P01", "deadlock detected");
        deadlock.detail = format!(
            "{waits}Process 7: update leg set note = 'secret\nProcess 9: more' where leg_id = 1\nProcess 8: update leg\n set note = 'x'"
        );
        let masked =
            format!("{waits}Process 7: update leg set note = ? where leg_id = ?\nProcess 8: update leg set note = ?");
        assert_eq!(only(deadlock.clone(), true).line.detail, masked);
        assert_eq!(only(deadlock.clone(), false).line.detail, deadlock.detail);
    }

    #[test]
    fn lines_that_say_the_same_are_one_with_their_number() {
        let spill = |size: i64, statement: &str| LogLine {
            statement: statement.into(),
            ..line("LOG", "00000", &format!("temporary file: path \"base/{size}\", size {size}"))
        };
        let found = entries(
            vec![spill(10, "select 1"), spill(20, "select 2"), spill(5, "select a"), line("LOG", "00000", "listening")],
            true,
        );
        let shown: Vec<_> = found.iter().map(|e| (e.line.statement.as_str(), e.times, e.value)).collect();
        assert_eq!(shown, [("select ?", 2, Some(30.0)), ("select a", 1, Some(5.0))]);
        let deadlock = |number| LogLine { number, ..line("ERROR", "40P01", "deadlock detected") };
        assert_eq!(entries(vec![deadlock(1), deadlock(2)], true).len(), 2);
    }

    #[test]
    fn what_was_not_read_is_an_entry_of_its_own() {
        let position = LogPosition { file: "log.json".into(), offset: 5 };
        let entry = only(not_read(Timestamp(7), 4096, &position), true);
        assert_eq!((entry.kind, entry.value, entry.line.at), (LogKind::NotRead, Some(4096.0), Timestamp(7)));
    }

    #[test]
    fn long_texts_are_cut_between_signs() {
        let mut long = line("ERROR", "42601", "");
        long.statement = format!("a{}", "é".repeat(LONGEST_TEXT));
        let kept = only(long, false).line.statement;
        assert!(kept.len() <= LONGEST_TEXT + '…'.len_utf8() && kept.ends_with("é…"));
    }

    proptest! {
        #[test]
        fn no_literal_of_a_masked_line_is_kept_and_no_line_is_lost_from_the_count(
            secret in "[a-z]{12}", number in 1_000_000i64..9_999_999, states in prop::collection::vec(0usize..5, 1..20),
        ) {
            let states = states.iter().map(|state| ["22P02", "23505", "42601", "P0001", "40P01"][*state]);
            let lines: Vec<LogLine> = states.map(|state| LogLine {
                detail: format!("Process 1 waits for Process 1.\nProcess 1: select '{secret}', {number}\nKey (id)=({number}, {secret}) already exists."),
                statement: format!("select '{secret}', {number}"),
                // Constraints are names: their messages hold no literal.
                ..line("ERROR", state, &if state == "23505" || state == "40P01" { "violated".to_owned() } else { format!("near \"{secret}\" {number}") })
            }).collect();
            let count = lines.len() as i64;
            let found = entries(lines, true);
            prop_assert_eq!(found.iter().map(|entry| entry.times).sum::<i64>(), count);
            for entry in found {
                prop_assert_eq!(&mask(entry.line.clone(), entry.kind), &entry.line);
                let all = format!("{} {} {}", entry.line.message, entry.line.detail, entry.line.statement);
                prop_assert!(!all.contains(&number.to_string()) && !all.contains(&format!("'{secret}'")) , "{}", all);
            }
        }
    }
}
