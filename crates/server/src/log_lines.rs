//! Where Hurnix's own log goes. What it tells of watched servers and of people is foreign text: a line break or an
//! escape in it must not make a line of its own, nor move the cursor of whoever looks.

use std::io::{self, Write};

use tracing_subscriber::EnvFilter;
use tracing_subscriber::fmt::MakeWriter;

use crate::options::{LogFormat, OptionFault};

/// Begins the log: which events, and how they are written.
///
/// # Errors
/// The filter cannot be read.
pub fn begin_log(filter: &str, format: LogFormat) -> Result<(), OptionFault> {
    let filter = EnvFilter::try_new(filter)
        .map_err(|error| OptionFault(format!("--log {filter}: {error}; give one such as info or info,sqlx=warn")))?;
    let log = tracing_subscriber::fmt().with_env_filter(filter).with_ansi(false);
    match format {
        LogFormat::Text => log.with_writer(OneLineEach).init(),
        // JSON itself escapes what would make a line of its own.
        LogFormat::Json => log.json().flatten_event(true).with_writer(io::stderr).init(),
    }
    Ok(())
}

/// Writes each event as one line to the standard error, with control characters shown instead of sent.
#[derive(Debug, Clone, Copy, Default)]
struct OneLineEach;

impl<'a> MakeWriter<'a> for OneLineEach {
    type Writer = Line;

    fn make_writer(&'a self) -> Line {
        Line(Vec::new())
    }
}

/// One event.
#[derive(Debug)]
struct Line(Vec<u8>);

impl Write for Line {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Drop for Line {
    fn drop(&mut self) {
        // Nobody can be told that the log cannot be written.
        let _ = io::stderr().lock().write_all(escaped(&String::from_utf8_lossy(&self.0)).as_bytes());
    }
}

/// A line with its control characters escaped, and its end.
fn escaped(event: &str) -> String {
    let mut line = String::with_capacity(event.len() + 1);
    for letter in event.trim_end_matches('\n').chars() {
        match letter {
            // Also what turns the direction of writing.
            letter
                if letter.is_control()
                    || matches!(letter, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{2028}' | '\u{2029}') =>
            {
                line.extend(letter.escape_default());
            }
            letter => line.push(letter),
        }
    }
    line.push('\n');
    line
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn foreign_text_makes_no_lines_of_its_own() {
        let forged = "not collecting problem=no\n2026-03-01T06:00:00Z  INFO signed in\x1b[2J\u{202e}\n";
        let line = escaped(forged);
        assert_eq!(line.matches('\n').count(), 1);
        assert!(line.ends_with("signed in\\u{1b}[2J\\u{202e}\n") && line.contains("no\\n2026"), "{line}");
        assert_eq!(escaped("fog over the narrows — 3 °C\n"), "fog over the narrows — 3 °C\n");
    }
}
