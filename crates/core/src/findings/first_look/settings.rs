use super::Check;
use super::evidence::{Checkpoints, Evidence};
use super::finding::{Finding, Notes, Step};
use crate::changes::remedy::Remedy;
use crate::findings::alarm::Trouble;
use crate::findings::health::Health;
use crate::instance::marker::MarkerKind;
use crate::time::SECONDS_PER_DAY;
use crate::wording::{names, percent, seconds};

/// Settings that should not stand as they do: name, value, verdict, and what it means.
const OUT_OF_THE_ORDINARY: [(&str, &str, Health, &str); 16] = [
    ("fsync", "off", Health::Act, "a power cut destroys the data"),
    ("full_page_writes", "off", Health::Act, "a power cut may tear pages"),
    ("autovacuum", "off", Health::Act, "nothing cleans up, and nothing refreshes the planner's statistics"),
    ("track_counts", "off", Health::Act, "autovacuum knows nothing of what changed, and does not run"),
    ("zero_damaged_pages", "on", Health::Act, "damaged pages are emptied without asking"),
    ("ignore_checksum_failure", "on", Health::Act, "damaged pages are read as if they were whole"),
    ("ignore_system_indexes", "on", Health::Act, "the server's own indexes are passed over"),
    ("synchronous_commit", "off", Health::Look, "the last transactions are lost when the server crashes"),
    ("track_activities", "off", Health::Look, "nobody sees what sessions do"),
    ("enable_indexscan", "off", Health::Look, "the planner passes over indexes, for everybody"),
    ("enable_bitmapscan", "off", Health::Look, "the planner passes over indexes, for everybody"),
    ("enable_seqscan", "off", Health::Look, "the planner takes an index even where reading the whole is faster"),
    ("enable_hashjoin", "off", Health::Look, "the planner joins in slower ways, for everybody"),
    ("enable_nestloop", "off", Health::Look, "the planner joins in slower ways, for everybody"),
    ("enable_mergejoin", "off", Health::Look, "the planner joins in slower ways, for everybody"),
    ("enable_sort", "off", Health::Look, "the planner avoids sorting at any price, for everybody"),
];
/// Changes are told of so many days.
const DAYS: f64 = 7.0;
/// Checkpoints from which on it is judged why they happened, and the share that may be asked for by the log.
const LEAST_CHECKPOINTS: i64 = 20;
const MOST_REQUESTED: f64 = 0.5;
/// Settings told that differ from what the server would have them be.
const MOST_TOLD: usize = 60;

/// Which settings endanger data or slow the server down, and which changed.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    if evidence.settings.is_empty() {
        notes.unknown("Settings were not read yet.", Step::new("Wait for the first reading, or ask for one now."));
        return notes.done(Check::Settings, "");
    }
    for (name, value, verdict, means) in OUT_OF_THE_ORDINARY {
        if evidence.setting_value(name) == Some(value) {
            let usual = if value == "off" { "on" } else { "off" };
            let step = Step::new(format!("Set it to {usual}, unless you know why it is not."));
            let step = step.run(Remedy::Set { name, value: usual });
            notes.point(verdict, format!("{name} is {value}: {means}."), step);
        }
    }
    if let (Some(random), Some(sequential)) =
        (evidence.setting_number("random_page_cost"), evidence.setting_number("seq_page_cost"))
        && random < sequential
    {
        notes.look(
            format!("random_page_cost ({random}) is below seq_page_cost ({sequential}): no storage reads out of order faster than in order."),
            Step::new("Set random_page_cost to at least seq_page_cost."),
        );
    }
    let waiting: Vec<&str> = evidence
        .settings
        .iter()
        // What the command line gives stays as it is, whatever the file says.
        .filter(|setting| setting.pending_restart && setting.source != "command line")
        .map(|setting| setting.name.as_str())
        .collect();
    if !waiting.is_empty() {
        notes.look(
            format!("A restart is awaited by {}.", names(waiting.iter().copied(), 8)),
            Step::new("Until then the old values are in force: restart at a quiet time, or take the change back."),
        );
    }
    changes(&mut notes, evidence);
    checkpoints(&mut notes, evidence);
    let own: Vec<_> = evidence
        .settings
        .iter()
        .filter(|setting| !["default", "override"].contains(&setting.source.as_str()))
        .collect();
    for setting in own.iter().take(MOST_TOLD) {
        notes.fact(setting.name.clone(), format!("{}, from {}", setting.told(), setting.source));
    }
    for own in evidence.inventory.iter().flat_map(|inventory| &inventory.own_settings) {
        let whose = match (&own.database, &own.account) {
            (Some(database), Some(account)) => format!("for {account} in {database}"),
            (Some(database), None) => format!("for the database {database}"),
            (None, Some(account)) => format!("for the account {account}"),
            (None, None) => "for all".into(),
        };
        notes.fact(own.name.clone(), format!("{}, {whose}", own.value));
    }
    notes.done(
        Check::Settings,
        format!(
            "{} of {} settings are the server's own choice; nothing is out of the ordinary.",
            evidence.settings.len() - own.len(),
            evidence.settings.len()
        ),
    )
}

fn changes(notes: &mut Notes, evidence: &Evidence) {
    let from = evidence.at.plus_seconds(-DAYS * SECONDS_PER_DAY);
    let changed: Vec<_> = evidence.markers_of(&[MarkerKind::Setting]).filter(|marker| marker.at >= from).collect();
    for marker in &changed {
        notes.moment(marker.text.clone(), marker.at);
    }
    if let Some(last) = changed.last() {
        let texts: Vec<&str> = changed.iter().rev().map(|marker| marker.text.as_str()).collect();
        let step = Step::new("Make sure that this was meant, and compare statements before and after.");
        let point = notes.look(format!("Changed within {DAYS} days: {}.", names(texts, 4)), step);
        point.of(Trouble::SettingChanged, "").since = Some(last.at);
    }
}

/// Checkpoints that the log asks for come too often, and write the same pages again and again.
fn checkpoints(notes: &mut Notes, evidence: &Evidence) {
    let Checkpoints { counted, seconds: over } = evidence.checkpoints;
    if over <= 0.0 {
        return;
    }
    let all = counted.timed + counted.requested;
    let told = format!("{} when their time had come, {} before", counted.timed, counted.requested);
    notes.fact(format!("Checkpoints of the last {}", seconds(over)), told);
    let share = counted.requested as f64 / all.max(1) as f64;
    if all >= LEAST_CHECKPOINTS && share > MOST_REQUESTED {
        notes.look(
            format!("{} of {all} checkpoints of the last {} came before their time.", percent(share), seconds(over)),
            Step::new("Raise max_wal_size, so that the log does not ask for them."),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::super::evidence::SettingInForce;
    use super::*;
    use crate::instance::marker::Marker;
    use crate::readings::counters::CheckpointCounters;
    use crate::time::Timestamp;

    fn evidence(settings: &[(&str, &str)]) -> Evidence {
        let setting = |(name, value): &(&str, &str)| SettingInForce {
            name: (*name).into(),
            value: Some((*value).into()),
            source: "default".into(),
            ..SettingInForce::default()
        };
        Evidence { settings: settings.iter().map(setting).collect(), ..Evidence::default() }
    }

    #[test]
    fn what_endangers_data_comes_before_what_slows() {
        let finding = check(&evidence(&[("enable_sort", "off"), ("fsync", "off"), ("autovacuum", "on")]));
        assert_eq!(finding.points.iter().map(|point| point.verdict).collect::<Vec<_>>(), [Health::Act, Health::Look]);
        assert_eq!(finding.summary, "fsync is off: a power cut destroys the data.");
        assert_eq!(
            check(&evidence(&[("fsync", "on"), ("random_page_cost", "4"), ("seq_page_cost", "1")])).verdict(),
            Health::Quiet
        );
        assert_eq!(check(&evidence(&[("random_page_cost", "0.5"), ("seq_page_cost", "1")])).verdict(), Health::Look);
    }

    #[test]
    fn checkpoints_are_judged_by_the_last_day_alone() {
        let verdict = |timed, requested| {
            let mut evidence = evidence(&[("fsync", "on")]);
            let counted = CheckpointCounters { timed, requested, ..CheckpointCounters::default() };
            evidence.checkpoints = Checkpoints { counted, seconds: 86_400.0 };
            check(&evidence).verdict()
        };
        assert_eq!(verdict(288, 3), Health::Quiet);
        assert_eq!(verdict(3, 9), Health::Quiet, "too few to tell");
        assert_eq!(verdict(40, 90), Health::Look);
    }

    #[test]
    fn changes_are_told_with_their_time() {
        let mut evidence = evidence(&[("work_mem", "128")]);
        let marker = |at, text: &str| Marker { at: Timestamp(at), kind: MarkerKind::Setting, text: text.into() };
        evidence.at = Timestamp(0).plus_seconds(30.0 * SECONDS_PER_DAY);
        evidence.markers = vec![marker(5, "fsync: off → on"), marker(evidence.at.0 - 1, "work_mem: 8192 → 128")];
        let finding = check(&evidence);
        assert_eq!(finding.summary, "Changed within 7 days: work_mem: 8192 → 128.");
        assert_eq!(finding.points[0].since, Some(Timestamp(evidence.at.0 - 1)));
    }
}
