use std::collections::BTreeSet;
use std::fmt;

use hurnix_core::Named;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::counters_read::KeySort;
use hurnix_core::readings::figures::{Figures, Shape};
use hurnix_core::readings::metric::Metric;
use serde_json::json;

use super::VERSION;
use super::line::{Head, Line, Load, Measures, Period, Row};

/// What is wrong with a line: the field, what is wrong with it, and what would be right.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    field: String,
    problem: String,
    remedy: String,
}

impl Fault {
    /// Of a field.
    pub fn new(field: impl Into<String>, problem: impl Into<String>, remedy: impl Into<String>) -> Fault {
        Fault { field: field.into(), problem: problem.into(), remedy: remedy.into() }
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "{}: {}. {}", self.field, self.problem, self.remedy)
    }
}

/// Checks what the types of a line do not say.
pub fn check(line: &Line) -> Result<(), Fault> {
    match line {
        Line::Bundle(head) => check_head(head),
        Line::Period(period) => check_period(period),
        Line::Load(load) => check_load(load),
        Line::Measures(measures) => check_measures(measures),
        Line::Log(entry) if entry.times < 1 => {
            Err(Fault::new("times", format!("{} lines", entry.times), "Give the number of lines, at least 1."))
        }
        Line::Family(family) if family.text.trim().is_empty() => {
            Err(Fault::new("text", "it is empty", "Give the statement's text."))
        }
        Line::Plan(plan) if plan.text.is_some() == plan.absent.is_some() => Err(Fault::new(
            "text",
            "either the plan or why it is absent must be there, and not both",
            "Give `text` or `absent`.",
        )),
        _ => Ok(()),
    }
}

fn check_head(head: &Head) -> Result<(), Fault> {
    if head.version != VERSION {
        let problem = format!("{} is a version that this program does not know", head.version);
        return Err(Fault::new("version", problem, format!("It reads version {VERSION}.")));
    }
    if head.from >= head.to {
        return Err(Fault::new(
            "from",
            format!("{} is not before `to`", head.from),
            "Give the begin of the time covered.",
        ));
    }
    Ok(())
}

fn not_of_shape(field: &str, figures: Figures, shape: Shape, what: &str) -> Fault {
    let names: Vec<&str> = Figures::of_shape(shape).map(Named::name).collect();
    Fault::new(field, format!("{} are {what}", figures.name()), format!("Give one of {}.", names.join(", ")))
}

fn check_bucket(detail: Detail, to: chrono::DateTime<chrono::Utc>) -> Result<(), Fault> {
    if detail == Detail::Day {
        return Err(Fault::new("detail", "`day` is not brought in", "Give its hours: days are summed up from them."));
    }
    let seconds = detail.bucket_seconds().unwrap_or(1);
    if detail != Detail::Fine && to.timestamp_micros().rem_euclid(seconds * 1_000_000) != 0 {
        let problem = format!("{to} is not the end of a bucket of {seconds} s");
        return Err(Fault::new("to", problem, "Buckets end at whole multiples of their width."));
    }
    Ok(())
}

fn check_period(period: &Period) -> Result<(), Fault> {
    check_bucket(period.detail, period.to)?;
    let Some(key) = period.counted.key_sort() else {
        return Err(not_of_shape("counted", period.counted, Shape::Counters, "no counters"));
    };
    match period.from {
        Some(from) if from >= period.to => {
            return Err(Fault::new("from", format!("{from} is not before `to`"), "Give the begin of the period."));
        }
        None if !period.rows.is_empty() || period.detail != Detail::Fine => {
            return Err(Fault::new(
                "from",
                "it is missing",
                "Give the begin of the period; without it there can be no rows.",
            ));
        }
        _ => {}
    }
    if period.detail != Detail::Fine {
        let seconds = period.seconds.unwrap_or(-1.0);
        if !(0.0..=1e6).contains(&seconds) || period.periods.is_none_or(|periods| periods < 1) {
            return Err(Fault::new(
                "seconds",
                "a bucket needs the seconds and the number of its periods",
                "Give `seconds` and `periods`.",
            ));
        }
    }
    for (position, row) in period.rows.iter().enumerate() {
        check_row(period.counted, key, row)
            .map_err(|fault| Fault { field: format!("rows[{position}].{}", fault.field), ..fault })?;
    }
    Ok(())
}

fn check_row(counted: Figures, key: KeySort, row: &Row) -> Result<(), Fault> {
    let is_given = [
        ("family", KeySort::Statement, row.family.is_some()),
        ("account", KeySort::Statement, row.account.is_some()),
        ("database", KeySort::Statement, row.database.is_some()),
        ("number", KeySort::Number, row.number.is_some()),
        ("name", KeySort::Name, row.name.is_some()),
    ];
    if let Some((field, sort, _)) = is_given.into_iter().find(|(_, sort, is_given)| *is_given != (*sort == key)) {
        let whose = match sort {
            KeySort::Statement => "statements",
            KeySort::Number => "what goes by the server's number of it",
            KeySort::Name => "what goes by a name",
        };
        let problem = format!("it belongs to rows of {whose}, and to all of them");
        return Err(Fault::new(field, problem, "Give it there, and there only."));
    }
    for (name, value) in &row.figures {
        if !counted.counter_names().contains(&name.as_str()) {
            let known = counted.counter_names().join(", ");
            return Err(Fault::new(
                format!("figures.{name}"),
                "there is no such figure",
                format!("There are: {known}."),
            ));
        }
        if *value < 0 {
            return Err(Fault::new(
                format!("figures.{name}"),
                format!("{value} is negative"),
                "Give how much it grew in the period.",
            ));
        }
    }
    Ok(())
}

fn check_load(load: &Load) -> Result<(), Fault> {
    if load.detail == Detail::Fine {
        return Err(Fault::new("detail", "`fine` looks are lines of their own", "Write them as `sample`."));
    }
    check_bucket(load.detail, load.to)?;
    if load.samples < 1 {
        return Err(Fault::new("samples", format!("{} looks", load.samples), "Give the number of looks, at least 1."));
    }
    match load.rows.iter().position(|row| row.busy < 1) {
        Some(position) => {
            Err(Fault::new(format!("rows[{position}].busy"), "it is not positive", "Leave out what was not busy."))
        }
        None => Ok(()),
    }
}

fn check_measures(measures: &Measures) -> Result<(), Fault> {
    check_bucket(measures.detail, measures.to)?;
    if measures.figures.shape() != Shape::Measures {
        return Err(not_of_shape("figures", measures.figures, Shape::Measures, "no single figures"));
    }
    let mut seen = BTreeSet::new();
    for (position, value) in measures.values.iter().enumerate() {
        let field = |name: &str| format!("values[{position}].{name}");
        let Some(metric) = Metric::named(&value.metric) else {
            return Err(Fault::new(
                field("metric"),
                format!("there is no metric {}", value.metric),
                "See docs/formats/metrics.md for those there are.",
            ));
        };
        if metric.figures() != measures.figures {
            return Err(Fault::new(
                field("metric"),
                format!("{} belongs to {}", value.metric, metric.figures().name()),
                "Write it in a line of those figures.",
            ));
        }
        if !seen.insert((value.metric.as_str(), value.object.as_str())) {
            return Err(Fault::new(
                field("object"),
                format!("{} of {:?} is there twice", value.metric, value.object),
                "Give each once.",
            ));
        }
        let summed = [value.least.is_some(), value.most.is_some(), value.readings.is_some_and(|readings| readings > 0)];
        if summed != [measures.detail != Detail::Fine; 3] {
            return Err(Fault::new(
                field("readings"),
                "readings, least and most belong to buckets",
                "Give all three there, and none at a moment.",
            ));
        }
    }
    Ok(())
}

/// The schema of the figures of a row: those of any kind.
pub fn figures_schema() -> serde_json::Value {
    let names: BTreeSet<&str> = Figures::ALL.into_iter().flat_map(Figures::counter_names).copied().collect();
    let number = json!({ "type": "integer", "minimum": 0 });
    let properties: serde_json::Map<String, serde_json::Value> =
        names.into_iter().map(|name| (name.to_owned(), number.clone())).collect();
    json!({
        "description": "The figures by name; those left out are zero. Which names there are, the kind of counters says.",
        "type": "object",
        "properties": properties,
        "additionalProperties": false,
    })
}
