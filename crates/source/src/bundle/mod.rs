//! Figures that come in files: one JSON object a line, of any engine. `docs/formats/bundle.md` describes
//! them, and `docs/formats/bundle.schema.json` is made from the types of this folder.

mod check;
mod line;

use std::io::{self, BufRead, Write};

pub use check::{Fault, check};
pub use line::{
    Busy, Catalog, Family, Head, Inventory, Line, Load, LogEntry, Marker, Measures, Period, Plan, Row, Sample, Session,
    Setting, Value, Who,
};

/// Version of the format that is read and written.
pub const VERSION: u32 = 1;
/// Longest line that is read, in bytes.
pub const LONGEST_LINE: usize = 64 << 20;

/// A line that is not what it should be.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {number}: {fault}")]
pub struct BadLine {
    /// Its number, from 1.
    pub number: u64,
    /// What is wrong with it.
    pub fault: Fault,
}

/// Writes one line.
pub fn write(line: &Line, out: &mut impl Write) -> io::Result<()> {
    serde_json::to_writer(&mut *out, line)?;
    out.write_all(b"\n")
}

/// Reads lines one by one; each is checked by itself, so that a bad one costs no other. Empty lines are passed
/// over. An error of reading ends it.
pub fn read(mut from: impl BufRead) -> impl Iterator<Item = io::Result<Result<Line, BadLine>>> {
    let (mut number, mut bytes) = (0, Vec::new());
    std::iter::from_fn(move || {
        loop {
            bytes.clear();
            number += 1;
            match read_line(&mut from, &mut bytes) {
                Err(error) => return Some(Err(error)),
                Ok(Ended::AtEnd) if bytes.is_empty() => return None,
                Ok(Ended::TooLong) => {
                    let problem = format!("it is longer than {LONGEST_LINE} bytes");
                    let fault = Fault::new("the line", problem, "Divide it into lines of shorter windows.");
                    return Some(Ok(Err(BadLine { number, fault })));
                }
                Ok(_) if bytes.iter().all(u8::is_ascii_whitespace) => {}
                Ok(_) => return Some(Ok(parse(&bytes).map_err(|fault| BadLine { number, fault }))),
            }
        }
    })
}

enum Ended {
    AtLine,
    AtEnd,
    TooLong,
}

/// Reads up to the end of the line. Of one that is too long no more is kept than that.
fn read_line(from: &mut impl BufRead, bytes: &mut Vec<u8>) -> io::Result<Ended> {
    let mut too_long = false;
    loop {
        let available = from.fill_buf()?;
        if available.is_empty() {
            return Ok(if too_long { Ended::TooLong } else { Ended::AtEnd });
        }
        let end = available.iter().position(|byte| *byte == b'\n');
        let taken = end.map_or(available.len(), |end| end + 1);
        too_long |= bytes.len() + taken > LONGEST_LINE;
        if !too_long {
            bytes.extend_from_slice(&available[..end.unwrap_or(taken)]);
        }
        from.consume(taken);
        if end.is_some() {
            return Ok(if too_long { Ended::TooLong } else { Ended::AtLine });
        }
    }
}

fn parse(bytes: &[u8]) -> Result<Line, Fault> {
    if holds_zero(bytes) {
        return Err(Fault::new(
            "the line",
            "a text in it holds a zero byte",
            "Leave it out: the repository cannot keep it.",
        ));
    }
    let line: Line = serde_json::from_slice(bytes).map_err(|error| {
        Fault::new("the line", error.to_string(), "See docs/formats/bundle.md for what a line may hold.")
    })?;
    check(&line)?;
    Ok(line)
}

/// Whether a text in the line holds the character 0, which is always written as an escape.
fn holds_zero(bytes: &[u8]) -> bool {
    const ZERO: &[u8] = b"\\u0000";
    bytes.windows(ZERO.len()).enumerate().any(|(at, window)| {
        let is_escaped = || bytes[..at].iter().rev().take_while(|byte| **byte == b'\\').count() % 2 == 1;
        window == ZERO && !is_escaped()
    })
}

/// The JSON Schema of a line.
pub fn schema() -> serde_json::Value {
    let mut schema = schemars::schema_for!(Line).to_value();
    schema["title"] = "A line of a bundle".into();
    // Numbers of figures: not negative, and only those that there are.
    if let Some(figures) = schema.pointer_mut("/$defs/Row/properties/figures") {
        *figures = check::figures_schema();
    }
    schema
}
