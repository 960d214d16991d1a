//! Figures that are ratios of others: from sums of both parts, never as means of ratios.

use std::collections::BTreeMap;

use crate::findings::lasting_change::{Measured, ServerSeries};
use crate::readings::metric::Unit;
use crate::time::Timestamp;

/// A figure that is a ratio of others.
#[derive(Debug, PartialEq, Eq, Hash)]
pub struct Ratio {
    /// Its name.
    pub name: &'static str,
    /// Its name for people.
    pub title: &'static str,
    /// What it means, in a sentence.
    pub meaning: &'static str,
    /// What it is measured in.
    pub unit: Unit,
    /// What is summed above the line: names of metrics, or of what databases count, as it is told.
    above: &'static [&'static str],
    /// What is summed below it.
    below: &'static [&'static str],
    /// Whether nothing above the line says that it is not counted, as on servers that do not time their reads.
    needs_above: bool,
}

/// All of them, in the order in which they are shown.
pub static RATIOS: [Ratio; 6] = [
    Ratio {
        name: "transaction_time",
        title: "Time of a transaction",
        meaning: "Mean time executing statements of a transaction, from version 14 on.",
        unit: Unit::Seconds,
        above: &["active_time"],
        below: &["commits", "rollbacks"],
        needs_above: true,
    },
    Ratio {
        name: "rollback_ratio",
        title: "Rollback ratio",
        meaning: "Share of transactions that were rolled back.",
        unit: Unit::Share,
        above: &["rollbacks"],
        below: &["commits", "rollbacks"],
        needs_above: false,
    },
    Ratio {
        name: "cache_hit_ratio",
        title: "Cache hit ratio",
        meaning: "Share of pages that the server found in its own cache.",
        unit: Unit::Share,
        above: &["hit_pages"],
        below: &["hit_pages", "read_pages"],
        needs_above: false,
    },
    Ratio {
        name: "index_use_ratio",
        title: "Index use ratio",
        meaning: "Rows fetched by indexes as a share of all rows and index entries that reads went through.",
        unit: Unit::Share,
        above: &["fetched_rows"],
        below: &["returned_rows"],
        needs_above: false,
    },
    Ratio {
        name: "page_read_time",
        title: "Time to read a page",
        meaning: "Mean time to read a page from outside the server's cache, where it times its reads (track_io_timing).",
        unit: Unit::Seconds,
        above: &["read_time"],
        below: &["read_pages"],
        needs_above: true,
    },
    Ratio {
        name: "storage_latency",
        title: "Storage latency",
        meaning: "Mean time that a read or write took, by device.",
        unit: Unit::Seconds,
        above: &["storage_queue"],
        below: &["storage_requests"],
        needs_above: false,
    },
];

impl Ratio {
    /// The ratio of that name.
    pub fn named(name: &str) -> Option<&'static Ratio> {
        RATIOS.iter().find(|ratio| ratio.name == name)
    }

    /// Names of the figures that it is made of.
    pub fn parts(&self) -> impl Iterator<Item = &'static str> {
        self.above.iter().chain(self.below).copied()
    }

    /// It over time, of each object and at each moment of which all its parts are among these series. n log n in them.
    pub fn of(&self, series: &[ServerSeries]) -> Vec<ServerSeries> {
        let parts = |name: &str, object: &str| -> Option<&ServerSeries> {
            let of_server = |series: &&ServerSeries| series.measured == Measured::Metric;
            series.iter().filter(of_server).find(|series| of_object(&series.object, name) == Some(object))
        };
        let objects = series.iter().filter_map(|series| of_object(&series.object, self.below[0]));
        let made = objects.filter_map(|object| {
            let above: Option<Vec<&ServerSeries>> = self.above.iter().map(|name| parts(name, object)).collect();
            let below: Option<Vec<&ServerSeries>> = self.below.iter().map(|name| parts(name, object)).collect();
            let (above, below) = (above?, below?);
            let mut sums: BTreeMap<Timestamp, (usize, f64, f64)> = BTreeMap::new();
            let sides = above.iter().map(|part| (part, true)).chain(below.iter().map(|part| (part, false)));
            for (part, is_above) in sides {
                for (at, value, _) in &part.values {
                    let sum = sums.entry(*at).or_default();
                    sum.0 += 1;
                    *(if is_above { &mut sum.1 } else { &mut sum.2 }) += value;
                }
            }
            let counted = above.iter().flat_map(|part| &part.values).any(|(_, value, _)| *value != 0.0);
            let whole = above.len() + below.len();
            let values = sums.iter().filter(|(_, (known, ..))| *known == whole);
            let values = values.map(|(at, (_, above, below))| (*at, *above, *below)).collect();
            let object = [self.name, object].join(" ").trim_end().to_owned();
            let made = ServerSeries { measured: Measured::Metric, object, counts: false, values };
            (counted || !self.needs_above).then_some(made)
        });
        made.collect()
    }
}

/// The object that a series of this figure is of; nothing where it is of another figure.
fn of_object<'a>(series: &'a str, figure: &str) -> Option<&'a str> {
    let object = series.strip_prefix(figure)?;
    if object.is_empty() { Some(object) } else { object.strip_prefix(' ') }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn series(object: &str, values: [(f64, f64); 2]) -> ServerSeries {
        let values = values.iter().enumerate().map(|(at, (value, over))| (Timestamp(at as i64), *value, *over));
        ServerSeries { measured: Measured::Metric, object: object.into(), counts: false, values: values.collect() }
    }

    fn of(name: &str, of: &[ServerSeries]) -> Vec<(String, Vec<(f64, f64)>)> {
        let told = |series: ServerSeries| {
            (series.object, series.values.into_iter().map(|(_, above, below)| (above, below)).collect())
        };
        Ratio::named(name).unwrap().of(of).into_iter().map(told).collect()
    }

    #[test]
    fn both_parts_are_summed_before_they_are_divided() {
        let pages =
            [series("hit_pages", [(90.0, 60.0), (0.0, 60.0)]), series("read_pages", [(10.0, 60.0), (300.0, 60.0)])];
        assert_eq!(of("cache_hit_ratio", &pages), [("cache_hit_ratio".into(), vec![(90.0, 100.0), (0.0, 300.0)])]);
    }

    #[test]
    fn the_page_of_metrics_names_them_all() {
        let page = include_str!("../../../../docs/formats/metrics.md");
        for ratio in &RATIOS {
            let row = format!("| `{}` | ", ratio.name);
            assert!(page.contains(&row) && page.contains(ratio.meaning), "{row}");
        }
    }

    #[test]
    fn each_device_has_its_own() {
        let devices = [
            series("storage_queue sda", [(3.0, 2.0), (1.0, 2.0)]),
            series("storage_requests sda", [(300.0, 2.0), (100.0, 2.0)]),
            series("storage_requests sdb", [(300.0, 2.0), (100.0, 2.0)]),
        ];
        assert_eq!(of("storage_latency", &devices), [("storage_latency sda".into(), vec![(3.0, 300.0), (1.0, 100.0)])]);
    }

    #[test]
    fn what_is_not_timed_has_no_time() {
        let of_time = |time| {
            let counted =
                [series("read_time", [(time, 1.0), (time, 1.0)]), series("read_pages", [(5.0, 1.0), (5.0, 1.0)])];
            of("page_read_time", &counted).len()
        };
        assert_eq!((of_time(0.0), of_time(0.1)), (0, 1));
    }
}
