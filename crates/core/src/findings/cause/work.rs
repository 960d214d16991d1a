use super::{Cause, CauseKind, Evidence};
use crate::wording::number;

/// Pages per call written to temporary files from which on a statement spills.
const SPILLS_FROM: f64 = 10.0;
/// What explains this share of a change explains it.
const MOSTLY: f64 = 0.5;
/// A share of the pages that comes from outside the cache and matters.
const READS_MATTER: f64 = 0.02;

/// Causes that show in what a call does.
pub fn causes(evidence: &Evidence) -> Vec<Cause> {
    let pages = evidence.explained_by(|counters| counters.hit_pages + counters.read_pages);
    let rows = evidence.explained_by(|counters| counters.rows);
    let rows_explain = rows.map_or(0.0, |(_, share)| share);
    let mut causes: Vec<Cause> = Vec::new();
    if let Some((grown, share)) = rows {
        causes.push(Cause {
            kind: CauseKind::Rows,
            likely: 0.85 * share,
            evidence: format!("A call returns or changes {} the rows", times(grown)),
            against: pages.is_none().then(|| "The pages that a call touches did not follow".into()),
        });
    }
    if let Some((grown, share)) = pages {
        // Where rows grew as well, they bring the pages with them.
        let own = (share - rows_explain).max(0.0);
        causes.push(match evidence.missing_index.filter(|_| evidence.is_slower()) {
            Some(index) => Cause {
                kind: CauseKind::MissingIndex,
                likely: 0.95 * (own / MOSTLY).min(1.0),
                evidence: format!("A call touches {} the pages, and no index serves its search: {index}", times(grown)),
                against: None,
            },
            None => Cause {
                kind: CauseKind::Pages,
                likely: 0.8 * own,
                evidence: format!(
                    "A call touches {} the pages for {} rows: a full read, another plan, or dead rows",
                    times(grown),
                    if rows_explain < 0.2 { "as many" } else { "more" }
                ),
                against: None,
            },
        });
    }
    causes.extend(hit_ratio(evidence, pages.map_or(0.0, |(_, share)| share)));
    causes.extend(spill(evidence));
    causes
}

/// More of its pages come from outside the cache, though it touches as many.
fn hit_ratio(evidence: &Evidence, pages_explain: f64) -> Option<Cause> {
    let (grown, share) = evidence.explained_by(|counters| counters.read_pages)?;
    let worse = if evidence.is_slower() { evidence.after } else { evidence.before };
    let all = worse.per_call(|counters| counters.hit_pages + counters.read_pages)?;
    let read = worse.per_call(|counters| counters.read_pages)?;
    (read >= READS_MATTER * all).then(|| Cause {
        kind: CauseKind::HitRatio,
        likely: 0.75 * (share - pages_explain).max(0.0),
        evidence: format!("A call reads {} the pages from outside the cache, and touches about as many", times(grown)),
        against: None,
    })
}

fn spill(evidence: &Evidence) -> Option<Cause> {
    let (before, after) = (
        evidence.before.per_call(|counters| counters.temp_written_pages)?,
        evidence.after.per_call(|counters| counters.temp_written_pages)?,
    );
    let (less, more) = if evidence.is_slower() { (before, after) } else { (after, before) };
    (more >= SPILLS_FROM && more >= 3.0 * less).then(|| Cause {
        kind: CauseKind::Spill,
        likely: 0.9,
        evidence: format!("A call writes {} pages to temporary files, {} before", number(after), number(before)),
        against: None,
    })
}

/// `3 times`, or `a third of` and the like where it fell.
fn times(grown: f64) -> String {
    if grown >= 1.0 { format!("{} times", number(grown)) } else { format!("{} % of", number(100.0 * grown)) }
}

#[cfg(test)]
mod tests {
    use super::super::tests::Case;
    use super::*;

    #[test]
    fn rows_bring_their_pages_along() {
        let mut case = Case::slower(4.0);
        case.after.counters.rows = 80_000;
        case.after.counters.hit_pages = 400_000;
        assert_eq!(case.kinds(), [CauseKind::Rows]);
    }

    #[test]
    fn a_colder_cache_and_a_spill_are_told_apart() {
        let mut cold = Case::slower(4.0);
        (cold.after.counters.hit_pages, cold.after.counters.read_pages) = (90_000, 11_000);
        assert_eq!(cold.kinds(), [CauseKind::HitRatio]);
        let mut spills = Case::slower(4.0);
        spills.after.counters.temp_written_pages = 500_000;
        assert_eq!(spills.kinds(), [CauseKind::Spill]);
    }

    #[test]
    fn what_became_faster_is_explained_the_other_way_round() {
        let mut faster = Case::slower(0.02);
        faster.after.counters.hit_pages = 2_000;
        assert_eq!(faster.kinds(), [CauseKind::Pages]);
        assert!(faster.causes()[0].evidence.contains("% of the pages"), "{:?}", faster.causes());
        faster.after.counters.hit_pages = 5_000_000;
        assert_eq!(faster.kinds(), []);
    }
}
