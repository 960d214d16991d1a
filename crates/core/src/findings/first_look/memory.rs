use std::collections::HashMap;

use super::Check;
use super::evidence::{Evidence, Spill};
use super::finding::{Finding, Notes, Page, Step};
use crate::findings::alarm::Trouble;
use crate::readings::metric::Metric;
use crate::readings::wait_kind::WaitKind;
use crate::wording::{bytes, number, percent, seconds, statement};

/// Share of pages found in the server's cache that is worth a look when lower, where so many sessions at a time
/// wait for storage.
const HITS_TO_LOOK: f64 = 0.95;
const WAITING_FOR_STORAGE: f64 = 0.1;
/// Temporary files, in bytes a second, that are worth a look.
const SPILLED_TO_LOOK: f64 = 1e6;
/// Share of the host's memory that programs can still have: worth a look, and to act on.
const AVAILABLE_TO_LOOK: f64 = 0.1;
const AVAILABLE_TO_ACT: f64 = 0.03;
/// Share of the host's memory that may lie on disk.
const MOST_SWAPPED: f64 = 0.05;
/// Share of the host's memory that the server's cache should leave to others.
const MOST_CACHE: f64 = 0.6;
/// Bytes of a page of temporary files.
const PAGE_BYTES: f64 = 8192.0;
/// Families that spill, told.
const MOST_TOLD: usize = 3;

/// Whether there is enough memory, and what spills to disk.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let hits = hits(&mut notes, evidence);
    spills(&mut notes, evidence);
    host(&mut notes, evidence);
    let (cache, working) = (evidence.setting_bytes("shared_buffers"), evidence.setting_bytes("work_mem"));
    if let (Some(cache), Some(working)) = (cache, working) {
        notes.fact("Cache of the server", bytes(cache));
        notes.fact("Working memory of each sort or hash", bytes(working));
    }
    match hits {
        Some(hits) => {
            notes.done(Check::Memory, format!("{} of the pages wanted were in the server's cache.", percent(hits)))
        }
        None => {
            notes.unknown("No pages were wanted yet.", Step::new("Come back when the server has worked for a while."));
            notes.done(Check::Memory, "")
        }
    }
}

/// Share of the pages wanted that were in the cache.
fn hits(notes: &mut Notes, evidence: &Evidence) -> Option<f64> {
    let lately = &evidence.lately.databases;
    let wanted = lately.hit_pages + lately.read_pages;
    if wanted == 0 {
        return None;
    }
    let hits = lately.hit_pages as f64 / wanted as f64;
    notes.fact("Pages found in the cache", percent(hits));
    let waiting = evidence.lately.load.mean(WaitKind::StorageRead).unwrap_or_default();
    if hits < HITS_TO_LOOK && waiting >= WAITING_FOR_STORAGE {
        notes.look(
            format!(
                "{} of the pages wanted were in the cache, and {} sessions at a time waited for storage.",
                percent(hits),
                number(waiting)
            ),
            Step::new("See which statements read most, before giving the cache more memory.").see(Page::Statements),
        );
    }
    Some(hits)
}

fn spills(notes: &mut Notes, evidence: &Evidence) {
    let (lately, over) = (&evidence.lately.databases, evidence.lately.database_seconds);
    if over <= 0.0 {
        return;
    }
    let rate = lately.temp_bytes as f64 / over;
    notes.fact("Spilled to temporary files", format!("{} in {}", bytes(lately.temp_bytes as f64), seconds(over)));
    let spilling = spilling(evidence);
    for spill in spilling.iter().take(MOST_TOLD) {
        notes.fact(statement(&spill.text), format!("{} spilled", bytes(spill.bytes)));
    }
    if rate >= SPILLED_TO_LOOK {
        let (most, page) = match spilling.first() {
            Some(family) => (format!(" Most of it by: {}", statement(&family.text)), Page::Family(family.family_id)),
            None => (String::new(), Page::Statements),
        };
        notes
            .look(
                format!("{} a second spill to temporary files.{most}", bytes(rate)),
                Step::new("Let the statement sort less, or give it, not everybody, more work_mem.").see(page),
            )
            .of(Trouble::TempFiles, "");
    }
}

/// Families that spilled, the most first. The server counts a statement that was broken off in its log only,
/// and without a log in its statement counters only what ended: the larger figure is nearer the truth.
fn spilling(evidence: &Evidence) -> Vec<Spill> {
    let counted = evidence.lately.statements.iter().map(|family| Spill {
        family_id: family.family_id,
        text: family.text.clone(),
        bytes: family.counters.temp_written_pages as f64 * PAGE_BYTES,
    });
    let mut by_family: HashMap<i64, Spill> = HashMap::new();
    for spill in counted.chain(evidence.lately.spills.iter().cloned()).filter(|spill| spill.bytes > 0.0) {
        let known = by_family.entry(spill.family_id).or_insert_with(|| spill.clone());
        known.bytes = known.bytes.max(spill.bytes);
    }
    let mut spilling: Vec<Spill> = by_family.into_values().collect();
    spilling.sort_by(|a, b| b.bytes.total_cmp(&a.bytes).then(a.family_id.cmp(&b.family_id)));
    spilling
}

fn host(notes: &mut Notes, evidence: &Evidence) {
    let Some(total) = evidence.measured(Metric::MemoryTotal) else { return };
    notes.fact("Memory of the host", bytes(total));
    if let Some(available) = evidence.measured(Metric::MemoryAvailable) {
        let share = available / total.max(1.0);
        notes.fact("Still to be had", format!("{}, {}", bytes(available), percent(share)));
        let text = format!("{} of the host's memory can still be had.", percent(share));
        let step = Step::new("See what else runs there; the host may end the server when nothing is left.");
        if share < AVAILABLE_TO_ACT {
            notes.act(text, step);
        } else if share < AVAILABLE_TO_LOOK {
            notes.look(text, step);
        }
    }
    if let Some(swapped) = evidence.measured(Metric::SwapUsed)
        && swapped > MOST_SWAPPED * total
    {
        notes.look(
            format!("{} of the host's memory lie on disk.", bytes(swapped)),
            Step::new("Take memory from what runs there, beginning with the server's cache."),
        );
    }
    if let Some(cache) = evidence.setting_bytes("shared_buffers")
        && cache > MOST_CACHE * total
    {
        notes.look(
            format!("The server's cache takes {} of the host's memory.", percent(cache / total)),
            Step::new("Leave more to the host: it caches files too, and sessions need working memory."),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::super::evidence::{CostlyFamily, NewestValue};
    use super::*;
    use crate::findings::health::Health;
    use crate::readings::counters::StatementCounters;

    fn evidence(hit: i64, read: i64, temp_bytes: i64) -> Evidence {
        let mut evidence = Evidence::default();
        let databases = &mut evidence.lately.databases;
        (databases.hit_pages, databases.read_pages, databases.temp_bytes) = (hit, read, temp_bytes);
        evidence.lately.database_seconds = 100.0;
        evidence
    }

    #[test]
    fn misses_matter_where_somebody_waits_for_them() {
        let mut evidence = evidence(80, 20, 0);
        assert_eq!(check(&evidence).verdict(), Health::Quiet);
        evidence.lately.load.samples = 100;
        evidence.lately.load.busy[WaitKind::StorageRead.position()] = 50;
        assert_eq!(check(&evidence).verdict(), Health::Look);
    }

    #[test]
    fn what_spills_most_is_named() {
        let mut evidence = evidence(100, 0, 500_000_000);
        let spilled = |family_id, text: &str, pages| CostlyFamily {
            family_id,
            text: text.into(),
            counters: StatementCounters { temp_written_pages: pages, calls: 1, ..Default::default() },
        };
        evidence.lately.statements = vec![spilled(7, "SELECT small", 10), spilled(8, "SELECT giant", 60_000)];
        let finding = check(&evidence);
        assert_eq!(finding.verdict(), Health::Look);
        assert!(finding.summary.ends_with("SELECT giant"), "{}", finding.summary);
        evidence.lately.spills = vec![Spill { family_id: 9, text: "SELECT broken_off".into(), bytes: 9e9 }];
        assert!(check(&evidence).summary.ends_with("SELECT broken_off"));
        evidence.lately.databases.temp_bytes = 5_000_000;
        assert_eq!(check(&evidence).verdict(), Health::Quiet);
    }

    #[test]
    fn a_host_without_memory_comes_first() {
        let mut evidence = evidence(100, 0, 0);
        let measured = |metric, value| NewestValue { metric, object: String::new(), value };
        evidence.measures = vec![measured(Metric::MemoryTotal, 16e9), measured(Metric::MemoryAvailable, 0.3e9)];
        assert_eq!(check(&evidence).verdict(), Health::Act);
        evidence.measures[1].value = 1e9;
        assert_eq!(check(&evidence).verdict(), Health::Look);
        evidence.measures[1].value = 8e9;
        assert_eq!(check(&evidence).verdict(), Health::Quiet);
    }
}
