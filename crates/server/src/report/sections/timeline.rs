//! What happened in a span, in order of time: what began first, what followed, what ended it, and what people did.

use hurnix_core::findings::hold_up::Episode;
use hurnix_core::wording::{counted, seconds};
use hurnix_core::{Named, Timestamp};
use hurnix_store::Result;
use strum::IntoStaticStr;

use crate::hold_ups::hold_ups_of;
use crate::report::document::{Cell, Measure, ReportTable, column};
use crate::report::sections::{Gathered, Made};
use crate::zone::moment;

/// Entries of a timeline that are told.
const MOST: usize = 200;
/// Lasting changes that are looked through.
const MOST_CHANGES: i64 = 1_000;
/// Actions that are looked through, the newest.
const MOST_ACTIONS: i64 = 500;

/// What sort of thing happened, as the table calls it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr)]
enum What {
    #[strum(serialize = "trouble began")]
    TroubleBegan,
    #[strum(serialize = "trouble over")]
    TroubleOver,
    #[strum(serialize = "hold-up began")]
    HoldUpBegan,
    #[strum(serialize = "hold-up over")]
    HoldUpOver,
    #[strum(serialize = "lasting change")]
    LastingChange,
    #[strum(serialize = "marker")]
    Marker,
    #[strum(serialize = "setting")]
    Setting,
    #[strum(serialize = "action")]
    Action,
}

impl What {
    fn is_begin(self) -> bool {
        matches!(self, What::TroubleBegan | What::HoldUpBegan | What::LastingChange)
    }

    fn is_end(self) -> bool {
        matches!(self, What::TroubleOver | What::HoldUpOver)
    }

    /// It may be why something began.
    fn may_cause(self) -> bool {
        matches!(self, What::Marker | What::Setting)
    }
}

/// One thing that happened.
struct Happened {
    at: Timestamp,
    what: What,
    text: String,
    /// Who did it; nothing for what came by itself.
    by: Option<String>,
}

/// The timeline of the span.
pub async fn happened(of: &Gathered<'_>) -> Result<Made> {
    let (store, id, span) = (of.store, of.instance.instance_id, of.span);
    let is_inside = |at: Timestamp| at >= span.from && at <= span.to;
    let mut all: Vec<Happened> = Vec::new();
    for row in store.alarms_of(id, span).await? {
        let alarm = &row.alarm;
        let began = alarm.sign.since.unwrap_or(alarm.opened_at);
        all.push(Happened { at: began, what: What::TroubleBegan, text: alarm.sign.text.clone(), by: None });
        if let Some(closed) = alarm.closed_at {
            all.push(Happened { at: closed, what: What::TroubleOver, text: alarm.sign.text.clone(), by: None });
        }
    }
    for marker in store.markers(id, span).await? {
        all.push(Happened { at: marker.at, what: What::Marker, text: marker.text, by: marker.noted_by });
    }
    for change in store.setting_changes(id, span).await? {
        let value = |value: Option<String>| value.unwrap_or_else(|| "nothing".into());
        let text = format!("Setting {} from {} to {}", change.name, value(change.old), value(change.new));
        all.push(Happened { at: change.seen_at, what: What::Setting, text, by: None });
    }
    for row in store.changes(id, span.from, None, MOST_CHANGES).await? {
        let of_what = if row.text.is_empty() { "the server".to_owned() } else { format!("`{}`", row.text) };
        let text = format!("Lasting change of {}: {of_what}", row.subject.measured.name().replace('_', " "));
        all.push(Happened { at: row.kept.change.onset, what: What::LastingChange, text, by: None });
    }
    let episodes = hold_ups_of(of.store, id, span).await?.episodes;
    for episode in episodes.iter().filter(|episode| !episode.is_brief()) {
        all.extend(hold_up(episode));
    }
    for action in store.actions(None, false, 0, MOST_ACTIONS).await?.0 {
        if action.instance_id == Some(id)
            && let Some(at) = action.started_at
        {
            let outcome = action.outcome.map(|outcome| format!(": {outcome}")).unwrap_or_default();
            let statement = action.statement.unwrap_or_default();
            let text = format!("{statement}{outcome} ({})", action.reason);
            all.push(Happened { at, what: What::Action, text, by: Some(action.proposed_by) });
        }
    }
    all.retain(|one| is_inside(one.at));
    all.sort_by_key(|one| one.at);
    let sentences = sentences(&all);
    let more = all.len().saturating_sub(MOST);
    let rows = all
        .into_iter()
        .take(MOST)
        .map(|one| -> Vec<Cell> { vec![one.at.into(), <&str>::from(one.what).into(), one.by.into(), one.text.into()] });
    let columns = vec![
        column("at", Measure::Time),
        column("what", Measure::Text),
        column("by", Measure::Text),
        column("happened", Measure::Text),
    ];
    let title = if more > 0 { format!("In order of time, the first {MOST}") } else { "In order of time".to_owned() };
    Ok((sentences, vec![ReportTable::new("timeline", &title, columns).with(rows)]))
}

fn hold_up(episode: &Episode) -> [Happened; 2] {
    let who = format!("{} ({})", episode.who.account, episode.who.program);
    let waiting = counted(episode.most_waiting, "session");
    [
        Happened {
            at: episode.from,
            what: What::HoldUpBegan,
            text: format!("{who} held up {waiting} at most, which lost {}", seconds(episode.lost_seconds)),
            by: None,
        },
        Happened { at: episode.to, what: What::HoldUpOver, text: format!("{who} held up nobody any more"), by: None },
    ]
}

/// What began first, and what ended it.
fn sentences(all: &[Happened]) -> Vec<String> {
    let at = |at: Timestamp| moment(at).format("%Y-%m-%d %H:%M:%S").to_string();
    let Some(first) = all.iter().find(|one| one.what.is_begin()) else {
        return vec!["No trouble began in this span.".into()];
    };
    let mut sentences = vec![format!("First, at {}: {}.", at(first.at), first.text.trim_end_matches('.'))];
    let cause = all.iter().rfind(|one| one.at <= first.at && one.what.may_cause());
    sentences.extend(cause.map(|one| format!("Shortly before or at that time, at {}: {}.", at(one.at), one.text)));
    let acted = all.iter().rfind(|one| one.what == What::Action);
    sentences.extend(acted.map(|one| {
        let by = one.by.as_deref().unwrap_or("somebody");
        format!("{by} acted at {}: {}.", at(one.at), one.text)
    }));
    let last = all.iter().rfind(|one| one.what.is_end());
    sentences.extend(last.map(|one| format!("It was over at {}.", at(one.at))));
    sentences
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(second: i64, what: What, text: &str) -> Happened {
        Happened { at: Timestamp(second * 1_000_000), what, text: text.into(), by: Some("harbourmaster".into()) }
    }

    #[test]
    fn what_began_first_what_was_done_and_when_it_was_over() {
        let all = [
            one(0, What::Marker, "release 12.4"),
            one(60, What::HoldUpBegan, "gate_super held up 37 sessions"),
            one(90, What::TroubleBegan, "Sessions wait for locks."),
            one(900, What::Action, "SELECT pg_terminate_backend(4711)"),
            one(901, What::HoldUpOver, "gate_super held up nobody any more"),
            one(960, What::TroubleOver, "Sessions wait for locks."),
        ];
        assert_eq!(
            sentences(&all),
            [
                "First, at 1970-01-01 00:01:00: gate_super held up 37 sessions.",
                "Shortly before or at that time, at 1970-01-01 00:00:00: release 12.4.",
                "harbourmaster acted at 1970-01-01 00:15:00: SELECT pg_terminate_backend(4711).",
                "It was over at 1970-01-01 00:16:00.",
            ]
        );
        assert_eq!(sentences(&all[..1]), ["No trouble began in this span."]);
    }
}
