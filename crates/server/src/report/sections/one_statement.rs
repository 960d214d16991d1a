//! One statement: how it moved, its lasting changes, its plans, tables that it names, and what the server wrote about it.

use hurnix_core::Named;
use hurnix_core::findings::plan_cost::{PlanCost, PlanVerdict, compared};
use hurnix_core::findings::time_spread::deviation_ms;
use hurnix_core::wording::{counted, number, percent, seconds};
use hurnix_store::{FamilyRow, LogFilter, Result};

use crate::causes::causes_of;
use crate::period::statement_moved;
use crate::plan_costs::plans_in_use;
use crate::report::document::{Cell, Measure, ReportTable, column};
use crate::zone::moment;

use super::changed::moved_sentence;
use super::{Gathered, MOST, Made};

/// Lasting changes that are told.
const MOST_CHANGES: i64 = 15;

/// Of which statement a section is; nothing is told where the report is of none.
macro_rules! family {
    ($of:expr) => {
        match &$of.family {
            Some(family) => family,
            None => return Ok((Vec::new(), Vec::new())),
        }
    };
}

pub(super) async fn moved(of: &Gathered<'_>) -> Result<Made> {
    let family = family!(of);
    let (now, then) = of.did();
    let all = of.now.did_in_all().time();
    let mut sentences = Vec::new();
    if now.counters.calls == 0 {
        sentences.push("It did not run in this period.".to_owned());
    } else {
        let share = if all > 0.0 { percent(now.time() / all) } else { "no part".into() };
        sentences.push(format!(
            "It was called {} times and took {} in all, {share} of the time of all statements.",
            number(now.counters.calls as f64),
            seconds(now.counters.exec_us as f64 / 1e6)
        ));
        let spread =
            deviation_ms(&now.counters).map(|ms| format!(", with a standard deviation of {}", seconds(ms / 1e3)));
        if let Some(each) = now.each() {
            sentences.push(format!("A call took {} on average{}.", seconds(each), spread.unwrap_or_default()));
        }
    }
    if then.counters.calls > 0
        && let Some(moved) =
            statement_moved(of.store, of.instance.instance_id, &of.before, &of.now, family.family_id).await?
    {
        sentences.push(moved_sentence(&moved));
    }
    sentences.push(format!("It was first seen at {}.", moment(family.first_seen_at).format("%Y-%m-%d %H:%MZ")));
    sentences.extend(family.tag.iter().map(|tag| format!("It is tagged `{tag}`.")));
    let text = ReportTable::new("statement", "Text", vec![column("statement", Measure::Code)]);
    Ok((sentences, vec![text.with([vec![family.text.as_str().into()]])]))
}

pub(super) async fn changes(of: &Gathered<'_>) -> Result<Made> {
    let family = family!(of);
    let mut rows = Vec::new();
    for row in of.store.family_changes(family.family_id, MOST_CHANGES).await? {
        let change = &row.kept.change;
        let causes = match row.subject.is_time_per_call() {
            true => causes_of(of.app, of.instance, family, change).await?,
            false => Vec::new(),
        };
        let told: Vec<String> = causes.into_iter().map(|cause| cause.evidence).collect();
        rows.push(vec![
            change.onset.into(),
            change.until.into(),
            row.subject.measured.name().replace('_', " ").into(),
            change.ratio.value.into(),
            change.before.typical.into(),
            change.after.typical.into(),
            told.join("; ").into(),
        ]);
    }
    let columns = vec![
        column("since", Measure::Time),
        column("until", Measure::Time),
        column("what", Measure::Text),
        column("factor", Measure::Times),
        column("before", Measure::Count),
        column("after", Measure::Count),
        column("likely causes", Measure::Text),
    ];
    let sentence = match rows.len() {
        0 => "No lasting change of it is known.".to_owned(),
        1 => "One lasting change of it is known.".to_owned(),
        count => format!("{} of it are known.", counted(count, "lasting change")),
    };
    Ok((vec![sentence], vec![ReportTable::new("changes_of_statement", "Lasting changes", columns).with(rows)]))
}

pub(super) async fn plans(of: &Gathered<'_>) -> Result<Made> {
    let family = family!(of);
    let in_use = plans_in_use(of.store, of.instance.instance_id, family.family_id).await?;
    let cost = |identity: i64| in_use.costs.get(&identity).copied().unwrap_or_default();
    let number_of =
        |identity: i64| in_use.uses.iter().position(|other| other.identity == identity).unwrap_or_default() + 1;
    let mut before: Option<PlanCost> = None;
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let mut sentences = Vec::new();
    for one in &in_use.uses {
        let now = cost(one.identity);
        let held = before.as_ref().and_then(|before| compared(before, &now));
        let told = held.map(|(verdict, factor)| match verdict {
            PlanVerdict::Alike => "alike".to_owned(),
            verdict => format!("{}, × {}", verdict.name(), number(factor)),
        });
        if let (Some(told), true) = (&told, one.from >= of.span.from && one.from < of.span.to) {
            let since = moment(one.from).format("%Y-%m-%d %H:%M:%SZ");
            sentences.push(format!("It is run with plan {} since {since}: {told}.", number_of(one.identity)));
        }
        rows.push(vec![
            one.from.into(),
            (number_of(one.identity) as i64).into(),
            now.calls.into(),
            now.mean_ms().into(),
            told.into(),
        ]);
        before = Some(now);
    }
    let columns = vec![
        column("since", Measure::Time),
        column("plan", Measure::Count),
        column("calls", Measure::Count),
        column("mean", Measure::Milliseconds),
        column("than the one before", Measure::Text),
    ];
    let mut tables = vec![ReportTable::new("plans_in_use", "Plans in use", columns).with(rows)];
    let (kept, logged) = tokio::try_join!(of.store.plans(family.family_id), of.store.logged_plans(family.family_id))?;
    let lines = |text: &str| text.lines().map(|line| vec![Cell::from(line)]).collect::<Vec<_>>();
    let newest = kept.iter().max_by_key(|row| row.read_at).and_then(|row| Some((row, row.plan.as_ref().ok()?)));
    if let Some((row, (identity, text))) = newest {
        let read = moment(row.read_at).format("%Y-%m-%d %H:%MZ");
        let title = match in_use.uses.iter().any(|other| other.identity == *identity) {
            true => format!("Plan {}, as the server made it last, at {read}", number_of(*identity)),
            false => format!("The plan that the server made last, at {read}"),
        };
        let table = ReportTable::new("plan", &title, vec![column("step", Measure::Code)]);
        tables.push(table.with(lines(text)));
    } else {
        sentences.push("No plan of it could be read.".into());
    }
    if let Some(row) = logged.iter().max_by_key(|row| row.last_at) {
        let title =
            format!("The last plan in the server's log, at {}", moment(row.last_at).format("%Y-%m-%d %H:%M:%SZ"));
        tables
            .push(ReportTable::new("plan_logged", &title, vec![column("step", Measure::Code)]).with(lines(&row.text)));
    }
    Ok((sentences, tables))
}

pub(super) async fn tables(of: &Gathered<'_>) -> Result<Made> {
    let FamilyRow { text, .. } = family!(of);
    let catalogs = of.store.catalogs(of.instance.instance_id).await?;
    let mut named: Vec<_> = catalogs
        .iter()
        .flat_map(|catalog| catalog.tables_named_in(text).map(move |table| (&catalog.database, table)))
        .collect();
    named.sort_by_key(|(_, table)| std::cmp::Reverse(table.size_bytes));
    let rows = named.into_iter().take(MOST).map(|(database, table)| -> Vec<Cell> {
        let indexes: Vec<&str> = table.indexes.iter().map(|index| index.name.as_str()).collect();
        vec![
            database.as_str().into(),
            format!("{}.{}", table.schema, table.name).into(),
            table.rows.into(),
            (table.size_bytes as f64).into(),
            indexes.join(", ").into(),
        ]
    });
    let columns = vec![
        column("database", Measure::Text),
        column("table", Measure::Text),
        column("rows", Measure::Count),
        column("size", Measure::Bytes),
        column("indexes", Measure::Text),
    ];
    Ok((Vec::new(), vec![ReportTable::new("tables_named", "Tables", columns).with(rows)]))
}

pub(super) async fn log(of: &Gathered<'_>) -> Result<Made> {
    let family = family!(of);
    let filter = LogFilter { family_id: Some(family.family_id), limit: MOST as i64, ..LogFilter::default() };
    let id = of.instance.instance_id;
    let ((entries, _), counts) =
        tokio::try_join!(of.store.log_entries(id, of.span, &filter), of.store.log_counts(id, of.span, &filter))?;
    let lines: i64 = counts.iter().map(|count| count.times).sum();
    let rows = entries.into_iter().map(|entry| -> Vec<Cell> {
        vec![
            entry.line.at.into(),
            entry.kind.name().replace('_', " ").into(),
            entry.line.account.into(),
            entry.line.message.into(),
        ]
    });
    let columns = vec![
        column("at", Measure::Time),
        column("kind", Measure::Text),
        column("account", Measure::Text),
        column("message", Measure::Text),
    ];
    let sentence = match lines {
        0 => "The server wrote nothing of note about it in this period.".to_owned(),
        1 => "The server wrote one line about it in this period.".to_owned(),
        lines => format!("The server wrote {} about it in this period.", counted(lines as usize, "line")),
    };
    Ok((vec![sentence], vec![ReportTable::new("log_of_statement", "The newest lines", columns).with(rows)]))
}
