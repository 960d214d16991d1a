use super::beside::began_then;
use super::{Cause, CauseKind, Evidence, Pace};
use crate::instance::marker::{Marker, MarkerKind};
use crate::readings::statement::has_word;

/// Causes that happened around the onset.
pub fn causes(evidence: &Evidence) -> Vec<Cause> {
    evidence.markers.iter().filter_map(|marker| cause(evidence, marker)).collect()
}

/// How long after it happened something is seen at most, in seconds.
fn seen_late(kind: MarkerKind, pace: Pace) -> f64 {
    match kind {
        kind if kind.is_told() => 0.0,
        MarkerKind::Setting => pace.settings,
        _ => pace.catalog,
    }
}

fn cause(evidence: &Evidence, marker: &Marker) -> Option<Cause> {
    let (earliest, latest) = evidence.onset_between();
    let near = evidence.near();
    let late = near + seen_late(marker.kind, evidence.pace);
    let is_near = earliest.seconds_since(marker.at) <= near && marker.at.seconds_since(latest) <= late;
    if !is_near {
        return None;
    }
    let names_its_table = names_a_table_of(marker, evidence.statement);
    let slower = evidence.is_slower();
    let (kind, likely) = match marker.kind {
        MarkerKind::IndexDropped if slower && names_its_table => (CauseKind::Index, 0.95),
        MarkerKind::IndexMade if !slower && names_its_table => (CauseKind::Index, 0.95),
        MarkerKind::IndexMade | MarkerKind::IndexDropped if names_its_table => (CauseKind::Index, 0.4),
        MarkerKind::TableChanged if names_its_table => (CauseKind::Table, 0.6),
        MarkerKind::Setting => (CauseKind::Setting, 0.7),
        MarkerKind::Noted => (CauseKind::Noted, 0.6),
        MarkerKind::Version | MarkerKind::Failover => (CauseKind::Server, 0.6),
        MarkerKind::Restart | MarkerKind::Crash => (CauseKind::Server, 0.4),
        _ => return None,
    };
    // What reaches everything and moved nothing else is less likely to have moved this.
    let reaches_all = matches!(kind, CauseKind::Setting | CauseKind::Server);
    let is_alone = !evidence.beside.iter().any(|other| began_then(evidence, other));
    let against = (reaches_all && is_alone).then(|| "No other statement changed then".to_owned());
    Some(Cause { kind, likely, evidence: format!("At about that time: {}", marker.text), against })
}

/// Whether the statement names a table that the marker names.
fn names_a_table_of(marker: &Marker, statement: &str) -> bool {
    let is_part = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
    let tables = marker.text.split(|c: char| !is_part(c)).filter_map(|word| word.split_once('.'));
    tables.map(|(_, table)| table).any(|table| !table.is_empty() && has_word(statement, table))
}

#[cfg(test)]
mod tests {
    use super::super::tests::Case;
    use super::*;

    #[test]
    fn an_index_that_went_explains_a_slowdown_of_its_table_only() {
        let dropped = "index leg_state on public.passage_leg dropped";
        assert_eq!(Case::slower(9.0).marked(1100, MarkerKind::IndexDropped, dropped).kinds(), [CauseKind::Index]);
        let other = "index slot_deck on public.vehicle_slot dropped";
        assert_eq!(Case::slower(9.0).marked(1100, MarkerKind::IndexDropped, other).kinds(), []);
        let made = "index leg_state made on public.passage_leg (state)";
        let faster = Case::slower(0.1).marked(1100, MarkerKind::IndexMade, made).causes();
        assert!(faster[0].likely > 0.9 && faster[0].evidence.contains("leg_state"), "{faster:?}");
    }

    #[test]
    fn what_somebody_noted_is_looked_for_close_by_and_what_is_read_rarely_later_too() {
        let noted = |at| Case::slower(9.0).marked(at, MarkerKind::Noted, "release").kinds();
        assert_eq!((noted(980), noted(1200)), (vec![CauseKind::Noted], vec![]));
        let setting = |at| Case::slower(9.0).marked(at, MarkerKind::Setting, "work_mem: 4MB → 1MB").kinds();
        assert_eq!((setting(4500), setting(900)), (vec![CauseKind::Setting], vec![]));
        assert_eq!(setting(4700), [], "it was seen twice since, with the old value");
        let dropped =
            |at| Case::slower(9.0).marked(at, MarkerKind::IndexDropped, "index a on public.passage_leg dropped");
        assert_eq!((dropped(1600).kinds(), dropped(1700).kinds()), (vec![CauseKind::Index], vec![]));
    }
}
