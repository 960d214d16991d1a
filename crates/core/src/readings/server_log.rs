//! What a server writes to its log, sorted by what it tells, with its literals masked.
//!
//! A server's log tells what no counter does: which statement failed and why, who was caught in a deadlock
//! with whom, which statement spilled how much to disk. Most of a log tells nothing of that sort and is not
//! kept. Lines of one reading that say the same are kept once, with their number.
//!
//! Which words of a line are literals, its engine's source knows ([`LogWording`]).
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

/// What the wording of an engine's log tells of literals in it.
pub trait LogWording: Sync {
    /// Whether the message of a line quotes names of objects, and never a literal.
    fn quotes_names_only(&self, line: &LogLine) -> bool;

    /// The detail of a line of this kind without its literals; empty where they cannot be told from the rest.
    fn masked_detail(&self, detail: &str, kind: LogKind) -> String;

    /// Who waited for whom, by the detail of a deadlock; empty where it does not tell.
    fn circle(&self, detail: &str) -> Vec<InCircle>;
}

/// One of the sessions that a deadlock caught.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InCircle {
    /// Its process.
    pub process: i32,
    /// The lock that it waited for, in the server's words.
    pub wanted: String,
    /// The process that held that.
    pub held_by: i32,
    /// Its statement; empty where that is not told.
    pub statement: String,
}

/// Lines of one reading as they are kept, in order of time; masked where the wording of their engine is given.
pub fn entries(lines: Vec<ToldLine>, masked_by: Option<&dyn LogWording>) -> Vec<LogEntry> {
    let mut entries: Vec<LogEntry> = Vec::new();
    let mut alike: HashMap<Alike, usize> = HashMap::new();
    for ToldLine { line, kind, value } in lines {
        let alike = alike.entry(Alike::of(kind, &line)).or_insert(entries.len());
        if let Some(entry) = entries.get_mut(*alike) {
            entry.times += 1;
            entry.value = entry.value.map(|sum| sum + value.unwrap_or(0.0));
        } else {
            let line = match masked_by {
                Some(wording) => mask(line, kind, wording),
                None => line,
            };
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
pub fn mask(mut line: LogLine, kind: LogKind, wording: &dyn LogWording) -> LogLine {
    line.statement = fold(&line.statement).text;
    line.detail = wording.masked_detail(&line.detail, kind);
    if !wording.quotes_names_only(&line) {
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

    fn told(line: LogLine) -> ToldLine {
        let kind = if line.message.starts_with("deadlock") { LogKind::Deadlock } else { LogKind::Error };
        ToldLine { line, kind, value: None }
    }

    fn only(line: LogLine, masked: bool) -> LogEntry {
        let wording: Option<&dyn LogWording> = if masked { Some(&Plain) } else { None };
        let mut entries = entries(vec![told(line)], wording);
        assert_eq!(entries.len(), 1);
        entries.remove(0)
    }

    /// An engine that quotes names in messages of state 42, and says nothing else in details.
    struct Plain;

    impl LogWording for Plain {
        fn quotes_names_only(&self, line: &LogLine) -> bool {
            line.state == "42"
        }

        fn masked_detail(&self, _: &str, _: LogKind) -> String {
            String::new()
        }

        fn circle(&self, _: &str) -> Vec<InCircle> {
            Vec::new()
        }
    }

    #[test]
    fn names_stay_and_values_go() {
        let message = |state, message| only(line(state, message), true).line.message;
        assert_eq!(message("42", "relation \"gate\" does not exist"), "relation \"gate\" does not exist");
        assert_eq!(message("22", "invalid integer: \"Ada's 7\""), "invalid integer: ?");
        assert_eq!(message("22", "syntax error at or near \"o\"\"clock\" 7"), "syntax error at or near ? ?");
        assert_eq!(message("22", "can't board passenger 4711 of O'Hara"), "can't board passenger ? of O'Hara");
        assert_eq!(message("22", "value '12' of int4 is out of range"), "value ? of int4 is out of range");
    }

    #[test]
    fn lines_that_say_the_same_are_one_with_their_number() {
        let spill = |size: i64, statement: &str| ToldLine {
            line: LogLine { statement: statement.into(), ..line("00000", &format!("temporary file {size}")) },
            kind: LogKind::TempFile,
            value: Some(size as f64),
        };
        let found = entries(vec![spill(10, "select 1"), spill(20, "select 2"), spill(5, "select a")], Some(&Plain));
        let shown: Vec<_> = found.iter().map(|e| (e.line.statement.as_str(), e.times, e.value)).collect();
        assert_eq!(shown, [("select ?", 2, Some(30.0)), ("select a", 1, Some(5.0))]);
        let deadlock = |number| told(LogLine { number, ..line("40P01", "deadlock detected") });
        assert_eq!(entries(vec![deadlock(1), deadlock(2)], Some(&Plain)).len(), 2);
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
            secret in "[a-z]{12}", number in 1_000_000i64..9_999_999, quotes in prop::collection::vec(any::<bool>(), 1..20),
        ) {
            let lines: Vec<ToldLine> = quotes.into_iter().map(|quotes_names| told(LogLine {
                detail: format!("({number}, {secret}) is there already."),
                statement: format!("select '{secret}', {number}"),
                ..if quotes_names { line("42", "violated \"a_name\"") } else { line("22", &format!("near \"{secret}\" {number}")) }
            })).collect();
            let count = lines.len() as i64;
            let found = entries(lines, Some(&Plain));
            prop_assert_eq!(found.iter().map(|entry| entry.times).sum::<i64>(), count);
            for entry in found {
                prop_assert_eq!(&mask(entry.line.clone(), entry.kind, &Plain), &entry.line);
                let all = format!("{} {} {}", entry.line.message, entry.line.detail, entry.line.statement);
                prop_assert!(!all.contains(&number.to_string()) && !all.contains(&secret), "{}", all);
            }
        }
    }
}
