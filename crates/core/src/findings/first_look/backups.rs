use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Step};
use crate::instance::marker::MarkerKind;
use crate::readings::metric::Metric;
use crate::time::SECONDS_PER_DAY;
use crate::wording::seconds;

/// Age of the last backup that is worth a look, and to act on, in days.
const BACKUP_TO_LOOK: f64 = 8.0;
const BACKUP_TO_ACT: f64 = 32.0;
/// The log is archived late when nothing was archived for so long while log was written, in seconds.
const LATE_SECONDS: f64 = 3600.0;
/// Log written that a file of it holds, in bytes: less than one in the time looked at archives nothing.
const LOG_FILE_BYTES: f64 = 16.0 * 1024.0 * 1024.0;

/// Whether the instance could be brought back.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let is_replica = evidence.measured(Metric::Recovering).is_some_and(|recovering| recovering > 0.0);
    archiving(&mut notes, evidence, is_replica);
    let told = |kind: MarkerKind| evidence.markers.iter().rev().find(|marker| marker.kind == kind);
    match told(MarkerKind::Backup) {
        None => {
            let text = "No backup is known: the server keeps no record of them, and nobody has told Hurnix of one.";
            let step = Step::new(
                "Let whatever takes backups note a marker of the kind “backup” when it is done; then its age is watched.",
            );
            notes.unknown(text, step);
        }
        Some(backup) => {
            notes.dated("Last backup", backup.text.clone(), backup.at);
            let age = evidence.at.seconds_since(backup.at).max(0.0);
            let text = format!("The last backup is {} old.", seconds(age));
            let step = Step::new("Find out why there is no newer one, and take one.");
            if age >= BACKUP_TO_ACT * SECONDS_PER_DAY {
                notes.act(text, step).since = Some(backup.at);
            } else if age >= BACKUP_TO_LOOK * SECONDS_PER_DAY {
                notes.look(text, step).since = Some(backup.at);
            }
        }
    }
    match told(MarkerKind::RestoreTest) {
        None => notes.fact("Last restore test", "none told"),
        Some(test) => notes.dated("Last restore test", test.text.clone(), test.at),
    }
    notes.done(Check::Backups, "A recent backup is known, and archiving goes on.")
}

fn archiving(notes: &mut Notes, evidence: &Evidence, is_replica: bool) {
    let mode = evidence.setting_value("archive_mode");
    notes.fact("archive_mode", mode.unwrap_or("not known"));
    for name in ["archive_command", "archive_library", "archive_timeout", "wal_level"] {
        if let Some(setting) = evidence.setting(name) {
            notes.fact(name, setting.told());
        }
    }
    if mode == Some("off") && !is_replica {
        notes.fact("Log kept for later", "none: a backup brings back its own moment, and nothing after it");
    }
    if mode.is_none_or(|mode| mode == "off") {
        return;
    }
    let failed = evidence.measured(Metric::LogArchiveFailed).unwrap_or_default();
    if failed > 0.0 {
        notes.act(
            "Archiving the log fails: it piles up on the server, and a backup could not be brought forward.",
            Step::new("See in the server's log why, and run archive_command by hand."),
        );
    }
    let ago = evidence.measured(Metric::LogArchivedAgo);
    if let Some(ago) = ago {
        notes.fact("Last file archived", format!("{} ago", seconds(ago)));
    }
    let written = evidence.measured(Metric::LogWritten).unwrap_or_default();
    if let Some(ago) = ago.filter(|ago| *ago > LATE_SECONDS && written * *ago > LOG_FILE_BYTES) {
        notes.look(
            format!("No file of the log was archived for {}, though log is written.", seconds(ago)),
            Step::new("See whether archive_command still runs."),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::super::evidence::{NewestValue, SettingInForce};
    use super::*;
    use crate::findings::health::Health;
    use crate::instance::marker::Marker;
    use crate::time::Timestamp;

    fn evidence(backup_days_ago: Option<f64>) -> Evidence {
        let at = Timestamp(0).plus_seconds(100.0 * SECONDS_PER_DAY);
        let marker = |days: f64| Marker {
            at: at.plus_seconds(-days * SECONDS_PER_DAY),
            kind: MarkerKind::Backup,
            text: "full backup".into(),
        };
        let on = SettingInForce { name: "archive_mode".into(), value: Some("on".into()), ..SettingInForce::default() };
        Evidence {
            at,
            markers: backup_days_ago.map(marker).into_iter().collect(),
            settings: vec![on],
            ..Evidence::default()
        }
    }

    #[test]
    fn a_backup_that_nobody_told_of_is_not_known_and_an_old_one_is_a_trouble() {
        assert_eq!(check(&evidence(None)).verdict(), Health::NoData);
        assert_eq!(
            [1.0, 9.0, 40.0].map(|days| check(&evidence(Some(days))).verdict()),
            [Health::Quiet, Health::Look, Health::Act]
        );
    }

    #[test]
    fn archiving_that_fails_or_stands_still_is_told() {
        let with = |measures: &[(Metric, f64)]| {
            let mut evidence = evidence(Some(1.0));
            evidence.measures = measures
                .iter()
                .map(|(metric, value)| NewestValue { metric: *metric, object: String::new(), value: *value })
                .collect();
            check(&evidence).verdict()
        };
        assert_eq!(with(&[(Metric::LogArchiveFailed, 0.1)]), Health::Act);
        assert_eq!(with(&[(Metric::LogArchivedAgo, 7200.0), (Metric::LogWritten, 10_000.0)]), Health::Look);
        assert_eq!(with(&[(Metric::LogArchivedAgo, 7200.0), (Metric::LogWritten, 10.0)]), Health::Quiet, "idle");
    }
}
