//! What a line of the server's log tells, by the server's own words for it.

use hurnix_core::Timestamp;
use hurnix_core::readings::server_log::{LogKind, LogLine, LogPosition, ToldLine};

/// The line with what it tells; nothing for lines that are not kept.
pub fn told(line: LogLine) -> Option<ToldLine> {
    let (kind, value) = tell(&line)?;
    Some(ToldLine { line, kind, value })
}

/// A stand-in for log that was not read.
pub(super) fn not_read(at: Timestamp, bytes: i64, position: &LogPosition) -> ToldLine {
    let line = LogLine {
        at,
        severity: "NOT READ".into(),
        state: "00000".into(),
        message: format!("about {bytes} bytes of log before this were not read"),
        session: position.file.clone(),
        number: position.offset,
        ..LogLine::default()
    };
    ToldLine { line, kind: LogKind::NotRead, value: Some(bytes as f64) }
}

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
        _ => return None,
    };
    Some((kind, None))
}

fn number_after(text: &str, mark: &str) -> Option<f64> {
    let rest = &text[text.find(mark)? + mark.len()..];
    let end = rest.find(|sign: char| !sign.is_ascii_digit() && sign != '.').unwrap_or(rest.len());
    rest[..end].parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_told_by_state_and_by_message() {
        let kind = |severity, state, message| {
            let (severity, state, message): (&str, &str, &str) = (severity, state, message);
            let line = LogLine {
                severity: severity.into(),
                state: state.into(),
                message: message.into(),
                ..LogLine::default()
            };
            told(line).map(|told| (told.kind, told.value))
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
}
