use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use crate::findings::alarm::Trouble;
use crate::findings::forecast::{Forecast, forecast};
use crate::readings::metric::Metric;
use crate::time::Timestamp;
use crate::wording::{bytes, names, number, percent, seconds};

/// Share of a volume that is free: below the first somebody should act, below the second look.
const FREE_TO_ACT: f64 = 0.05;
const FREE_TO_LOOK: f64 = 0.15;
/// Days until a volume is full: below the first somebody should act, below the second look.
const DAYS_TO_ACT: f64 = 7.0;
const DAYS_TO_LOOK: f64 = 30.0;
/// WAL is unusually large beyond so many times what checkpoints aim at.
const LOG_FACTOR: f64 = 3.0;
/// Sizes of a volume that differ by less than this share are the same.
const SAME_SIZE: f64 = 0.01;
/// Temporary files worth a look, in bytes.
const TEMP_BYTES: f64 = 1e9;
/// The largest that are told.
const MOST_TOLD: usize = 5;

/// Where everything lies, how large it is, and when it is full.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    for (metric, what) in
        [(Metric::DatabaseSize, "Database"), (Metric::TableSize, "Table"), (Metric::TableIndexSize, "Indexes of")]
    {
        for (name, size) in evidence.largest_of(metric).into_iter().take(MOST_TOLD) {
            notes.fact(format!("{what} {name}"), bytes(size));
        }
    }
    spaces(&mut notes, evidence);
    volumes(&mut notes, evidence);
    files(&mut notes, evidence);
    let size: f64 = evidence.measured_of(Metric::DatabaseSize).map(|(_, size)| size).sum();
    if size == 0.0 {
        notes.unknown(
            "Sizes were not read yet.",
            Step::new("Wait for the next reading, or ask for one now.").see(Page::Collection),
        );
    }
    let known = if evidence.measured_of(Metric::VolumeFree).next().is_some() {
        "its volumes have room"
    } else {
        "how much room is left is not known, as nothing tells of its volumes"
    };
    notes.done(Check::Storage, format!("Databases take {}; {known}.", bytes(size)))
}

fn spaces(notes: &mut Notes, evidence: &Evidence) {
    let spaces = evidence.inventory.iter().flat_map(|inventory| &inventory.tablespaces);
    for space in spaces {
        let size = evidence.measured_of(Metric::TablespaceSize).find(|(name, _)| *name == space.name);
        let size = size.map_or_else(|| "size not known".to_owned(), |(_, size)| bytes(size));
        let place = if space.location.is_empty() { "in the data folder" } else { &space.location };
        notes.fact(format!("Tablespace {}", space.name), format!("{size}, {place}"));
    }
}

fn volumes(notes: &mut Notes, evidence: &Evidence) {
    for (volume, free) in evidence.measured_of(Metric::VolumeFree) {
        let Some((_, size)) = evidence.measured_of(Metric::VolumeSize).find(|(name, _)| *name == volume) else {
            continue;
        };
        let share = if size > 0.0 { free / size } else { 1.0 };
        notes.fact(format!("Volume {volume}"), format!("{} free of {}, {}", bytes(free), bytes(size), percent(share)));
        let full = forecast(&used_of(evidence, volume, size), size, DAYS_TO_LOOK);
        let verdict = match (&full, share) {
            (Some(Forecast { days, .. }), _) if *days < DAYS_TO_ACT => crate::findings::health::Health::Act,
            (_, share) if share < FREE_TO_ACT => crate::findings::health::Health::Act,
            (Some(_), _) => crate::findings::health::Health::Look,
            (_, share) if share < FREE_TO_LOOK => crate::findings::health::Health::Look,
            _ => continue,
        };
        let left = match &full {
            Some(full) => format!(
                "is full in about {} days at the present rate of {} a day",
                number(full.days.round()),
                bytes(full.per_day)
            ),
            None => format!("has {} free, {}", bytes(free), percent(share)),
        };
        let growing = growing(evidence);
        let why = if growing.is_empty() {
            String::new()
        } else {
            format!(" What grows most: {}.", names(growing.iter().map(String::as_str), 3))
        };
        let step = Step::new(format!("Make room, or enlarge it.{why}"));
        notes.point(verdict, format!("The volume {volume} {left}."), step).of(Trouble::Volume, volume);
    }
}

/// Tables with what they grow by in a day, the fastest first.
fn growing(evidence: &Evidence) -> Vec<String> {
    let tables = evidence.trends.iter().filter(|trend| trend.metric == Metric::TableSize);
    let mut by_day: Vec<(&str, f64)> = tables
        .filter_map(|trend| {
            let ((from, then), (to, now)) = (trend.values.first()?, trend.values.last()?);
            let days = to.seconds_since(*from) / crate::time::SECONDS_PER_DAY;
            (days > 0.0 && now > then).then(|| (trend.object.as_str(), (now - then) / days))
        })
        .collect();
    by_day.sort_by(|a, b| b.1.total_cmp(&a.1));
    by_day.into_iter().take(3).map(|(table, per_day)| format!("{table} by {} a day", bytes(per_day))).collect()
}

/// Bytes used of a volume, day by day, since it has had its size. How fast it filled before it was enlarged or reduced
/// says nothing of when it is full.
fn used_of(evidence: &Evidence, volume: &str, size: f64) -> Vec<(Timestamp, f64)> {
    let differs = |then: &f64| (then / size - 1.0).abs() > SAME_SIZE;
    let sizes = evidence.trend(Metric::VolumeSize, volume).unwrap_or_default();
    let resized = sizes.iter().filter(|(_, then)| differs(then)).map(|(at, _)| *at).max();
    let free = evidence.trend(Metric::VolumeFree, volume).unwrap_or_default();
    free.iter()
        .filter(|(at, _)| resized.is_none_or(|resized| *at > resized))
        .map(|(at, free)| (*at, size - free))
        .collect()
}

fn files(notes: &mut Notes, evidence: &Evidence) {
    let Some(inventory) = &evidence.inventory else { return };
    if let (Some(log), Some(aim)) = (inventory.log_files, evidence.setting_bytes("max_wal_size")) {
        notes
            .fact("WAL", format!("{} in {} files; max_wal_size is {}", bytes(log.bytes as f64), log.count, bytes(aim)));
        if log.bytes as f64 > LOG_FACTOR * aim {
            notes
                .look(
                    format!("WAL takes {}, more than {LOG_FACTOR} times max_wal_size.", bytes(log.bytes as f64)),
                    Step::new("Something keeps it: see replication slots, archiving and wal_keep_size."),
                )
                .of(Trouble::Wal, "");
        }
    }
    if let Some(temp) = inventory.temp_files {
        notes.fact("Temporary files just now", format!("{} in {} files", bytes(temp.bytes as f64), temp.count));
        if temp.bytes as f64 > TEMP_BYTES {
            notes
                .look(
                    format!("Temporary files take {} just now.", bytes(temp.bytes as f64)),
                    Step::new("Find the statement that spills, and cap it with temp_file_limit.").see(Page::Statements),
                )
                .of(Trouble::TempFiles, "");
        }
    }
    if let Some(read) = evidence.inventory.as_ref().map(|inventory| evidence.at.seconds_since(inventory.at)) {
        notes.fact("Files were listed", format!("{} ago", seconds(read.max(0.0))));
    }
}

#[cfg(test)]
mod tests {
    use super::super::evidence::{NewestValue, Trend};
    use super::*;
    use crate::findings::health::Health;
    use crate::time::SECONDS_PER_DAY;

    fn evidence(free: f64, free_by_day: &[f64]) -> Evidence {
        let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
        let at = |day: usize| Timestamp(0).plus_seconds(day as f64 * SECONDS_PER_DAY);
        let trend = |metric, object: &str, values: &[f64]| Trend {
            metric,
            object: object.into(),
            values: values.iter().enumerate().map(|(day, value)| (at(day), *value)).collect(),
        };
        Evidence {
            measures: vec![
                measured(Metric::DatabaseSize, "tides", 500.0),
                measured(Metric::VolumeSize, "/data", 1000.0),
                measured(Metric::VolumeFree, "/data", free),
            ],
            trends: vec![
                trend(Metric::VolumeFree, "/data", free_by_day),
                trend(
                    Metric::TableSize,
                    "public.tide_reading",
                    &free_by_day.iter().map(|free| 1000.0 - free).collect::<Vec<_>>(),
                ),
            ],
            ..Evidence::default()
        }
    }

    #[test]
    fn an_enlarged_volume_begins_a_new_forecast() {
        // Half as large until the day before yesterday, and full to the brim then.
        let by_day: Vec<f64> = (0..10).map(|day| if day < 8 { 170.0 - 20.0 * f64::from(day) } else { 500.0 }).collect();
        let mut evidence = evidence(500.0, &by_day);
        let sizes: Vec<f64> = (0..10).map(|day| if day < 8 { 500.0 } else { 1000.0 }).collect();
        let values = sizes.iter().enumerate().map(|(day, size)| (evidence.trends[0].values[day].0, *size)).collect();
        evidence.trends.push(Trend { metric: Metric::VolumeSize, object: "/data".into(), values });
        assert_eq!(used_of(&evidence, "/data", 1000.0).len(), 2);
        assert_eq!(check(&evidence).verdict(), Health::Quiet, "what was before says nothing of now");
    }

    #[test]
    fn a_volume_is_judged_by_what_is_free_and_by_when_it_is_full() {
        assert_eq!(check(&evidence(500.0, &[500.0; 10])).verdict(), Health::Quiet);
        assert_eq!(check(&evidence(100.0, &[])).verdict(), Health::Look);
        assert_eq!(check(&evidence(40.0, &[])).verdict(), Health::Act);
        let by_day: Vec<f64> = (0..10).map(|day| 470.0 - 20.0 * f64::from(day)).collect();
        let finding = check(&evidence(290.0, &by_day));
        assert_eq!(finding.verdict(), Health::Look);
        assert!(finding.summary.contains("full in about 15 days"), "{}", finding.summary);
        assert!(finding.points[0].step.text.contains("public.tide_reading by 20"), "{:?}", finding.points);
        let fast: Vec<f64> = (0..10).map(|day| 1000.0 - 80.0 * f64::from(day)).collect();
        assert_eq!(check(&evidence(280.0, &fast)).verdict(), Health::Act);
    }
}
