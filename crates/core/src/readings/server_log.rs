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

/// A line with what it tells, as its source understands it.
#[derive(Debug, Clone, PartialEq)]
pub struct ToldLine {
    /// The line.
    pub line: LogLine,
    /// What it tells.
    pub kind: LogKind,
    /// What the kind says.
    pub value: Option<f64>,
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
pub fn entries(lines: Vec<ToldLine>, masked: bool) -> Vec<LogEntry> {
    let mut entries: Vec<LogEntry> = Vec::new();
    let mut alike: HashMap<Alike, usize> = HashMap::new();
    for ToldLine { line, kind, value } in lines {
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

    fn line(state: &str, message: &str) -> LogLine {
        LogLine { severity: "ERROR".into(), state: state.into(), message: message.into(), ..LogLine::default() }
    }

    /// An error, or a deadlock.
    fn told(line: LogLine) -> ToldLine {
        let kind = if line.state == "40P01" { LogKind::Deadlock } else { LogKind::Error };
        ToldLine { line, kind, value: None }
    }

    fn only(line: LogLine, masked: bool) -> LogEntry {
        let mut entries = entries(vec![told(line)], masked);
        assert_eq!(entries.len(), 1);
        entries.remove(0)
    }

    #[test]
    fn names_stay_and_values_go() {
        let message = |state, message| only(line(state, message), true).line.message;
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
        let mut deadlock = line("40P01", "deadlock detected");
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
        let spill = |size: i64, statement: &str| ToldLine {
            line: LogLine { statement: statement.into(), ..line("00000", &format!("temporary file {size}")) },
            kind: LogKind::TempFile,
            value: Some(size as f64),
        };
        let found = entries(vec![spill(10, "select 1"), spill(20, "select 2"), spill(5, "select a")], true);
        let shown: Vec<_> = found.iter().map(|e| (e.line.statement.as_str(), e.times, e.value)).collect();
        assert_eq!(shown, [("select ?", 2, Some(30.0)), ("select a", 1, Some(5.0))]);
        let deadlock = |number| told(LogLine { number, ..line("40P01", "deadlock detected") });
        assert_eq!(entries(vec![deadlock(1), deadlock(2)], true).len(), 2);
    }

    #[test]
    fn long_texts_are_cut_between_signs() {
        let mut long = line("42601", "");
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
            let lines: Vec<ToldLine> = states.map(|state| told(LogLine {
                detail: format!("Process 1 waits for Process 1.\nProcess 1: select '{secret}', {number}\nKey (id)=({number}, {secret}) already exists."),
                statement: format!("select '{secret}', {number}"),
                // Constraints are names: their messages hold no literal.
                ..line(state, &if state == "23505" || state == "40P01" { "violated".to_owned() } else { format!("near \"{secret}\" {number}") })
            })).collect();
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
