use std::collections::{BTreeMap, HashMap};
use std::io::Write;

use anyhow::{Context, Result};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::activity::AwaitedLock;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::Metric;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Named, Timestamp, WaitKind, Window};
use hurnix_source::bundle::{
    Busy, Catalog, Family, Head, Inventory, Line, Load, LogEntry, Marker, Measures, Period, Plan, Row, Sample, Session,
    Setting, VERSION, Value, Who, write,
};
use hurnix_store::{
    BackfilledSnapshot, Bucket, Instance, KeptBusy, KeptLogEntry, Kind, NamedObject, PeriodRow, StatementObject, Store,
};

use crate::api::moment;
use crate::state::now;

/// Writes what is kept of an instance within a window, each part of it as finely as it is kept; answers with
/// the number of lines.
pub async fn export(store: &Store, instance: &Instance, window: Window, out: &mut (impl Write + Send)) -> Result<u64> {
    let mut writer = Writer { names: store.all_names(instance.instance_id).await?, out, lines: 0 };
    let id = instance.instance_id;
    writer.put(Line::Bundle(Head {
        version: VERSION,
        instance: instance.label.clone(),
        engine: instance.engine.name().into(),
        from: moment(window.from),
        to: moment(window.to),
    }))?;
    for family in store.all_families(id).await? {
        let sample = (family.sample != family.text).then_some(family.sample);
        let family_key = family.family_id.to_string();
        writer.put(Line::Family(Family { family: family_key, text: family.text, tag: family.tag, sample }))?;
    }
    for (family_id, plan) in store.all_plans(id).await? {
        let (first_read_at, read_at) = (moment(plan.first_read_at), moment(plan.read_at));
        let (text, absent) = match plan.plan {
            Ok((_, text)) => (Some(text), None),
            Err(reason) => (None, Some(reason)),
        };
        let (family, database) = (family_id.to_string(), plan.database);
        writer.put(Line::Plan(Plan { family, first_read_at, read_at, text, absent, database }))?;
    }
    for (seen_at, setting) in store.kept_settings(id, window.to).await? {
        writer.put(Line::Setting(Setting {
            seen_at: moment(seen_at),
            name: setting.name,
            value: setting.value,
            unit: setting.unit,
            source: setting.source,
            pending_restart: setting.pending_restart,
        }))?;
    }
    for catalog in store.catalogs(id).await? {
        writer.put(Line::Catalog(Catalog { catalog }))?;
    }
    if let Some(inventory) = store.inventory(id).await? {
        writer.put(Line::Inventory(Inventory { inventory }))?;
    }
    // A day at a time, so that memory does not depend on the length of the window.
    let mut from = window.from;
    while from < window.to {
        let to = Timestamp((from.plus_seconds(SECONDS_PER_DAY).0 / 86_400_000_000) * 86_400_000_000).min(window.to);
        let day = Window { from, to: if to > from { to } else { window.to } };
        for marker in store.markers(id, day).await? {
            let (at, kind, text, noted_by) = (moment(marker.at), marker.kind, marker.text, marker.noted_by);
            writer.put(Line::Marker(Marker { at, kind, text, noted_by }))?;
        }
        for entry in store.kept_log(id, day).await? {
            writer.log_entry(entry)?;
        }
        macro_rules! counters {
            ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {$(
                if let Some(group) = Figures::$kind.retention_group() {
                    for (detail, part) in store.pieces(id, &[group], day, Detail::Fine, now()).await?.parts() {
                        writer.counters::<$counters>(store, id, detail, part).await?;
                    }
                }
            )+};
        }
        hurnix_core::all_counters!(counters);
        for (detail, part) in store.pieces(id, &[RetentionGroup::Activity], day, Detail::Fine, now()).await?.parts() {
            writer.activity(store, id, detail, part).await?;
        }
        for (detail, part) in store.pieces(id, &[RetentionGroup::Measures], day, Detail::Fine, now()).await?.parts() {
            writer.measures(store, id, detail, part).await?;
        }
        from = day.to;
    }
    Ok(writer.lines)
}

struct Writer<'a, W> {
    names: HashMap<i32, String>,
    out: &'a mut W,
    lines: u64,
}

/// What a line calls an object.
trait Called {
    fn row(&self, names: &HashMap<i32, String>) -> Row;
}

impl Called for StatementObject {
    fn row(&self, names: &HashMap<i32, String>) -> Row {
        let name = |id: i32| Some(names.get(&id).cloned().unwrap_or_default());
        Row {
            family: Some(self.family_id.to_string()),
            account: name(self.account_id),
            database: name(self.database_id),
            ..Row::default()
        }
    }
}

impl Called for u32 {
    fn row(&self, _: &HashMap<i32, String>) -> Row {
        Row { number: Some(*self), ..Row::default() }
    }
}

impl Called for NamedObject {
    fn row(&self, names: &HashMap<i32, String>) -> Row {
        Row { name: names.get(&self.0).cloned(), ..Row::default() }
    }
}

impl<W: Write> Writer<'_, W> {
    fn put(&mut self, line: Line) -> Result<()> {
        write(&line, self.out).context("writing the bundle")?;
        self.lines += 1;
        Ok(())
    }

    fn log_entry(&mut self, entry: KeptLogEntry) -> Result<()> {
        let KeptLogEntry { line, kind, times, value, family_id, has_literals } = entry;
        self.put(Line::Log(LogEntry {
            at: moment(line.at),
            kind,
            severity: line.severity,
            state: line.state,
            message: line.message,
            detail: line.detail,
            family: family_id.map(|family| family.to_string()),
            statement: has_literals.then_some(line.statement),
            who: Who { account: line.account, program: line.program, client: line.client, database: line.database },
            process: line.process,
            session: line.session,
            number: line.number,
            times,
            value,
        }))
    }

    fn name(&self, id: Option<i32>) -> String {
        id.and_then(|id| self.names.get(&id)).cloned().unwrap_or_default()
    }

    fn who(&self, [_, account, program, client, database]: [Option<i32>; 5]) -> Who {
        Who {
            account: self.name(account),
            program: self.name(program),
            client: self.name(client),
            database: self.name(database),
        }
    }

    fn rows<O: Called, C: Kind>(&self, rows: Vec<PeriodRow<O, C>>) -> Vec<Row> {
        let row = |row: PeriodRow<O, C>| {
            let figures = C::NAMES.iter().zip(row.by.values()).filter(|(_, value)| *value != 0);
            let figures: BTreeMap<String, i64> = figures.map(|(name, value)| ((*name).to_owned(), value)).collect();
            Row { lower_bound: row.lower_bound, figures, ..row.object.row(&self.names) }
        };
        rows.into_iter().map(row).collect()
    }

    async fn counters<C: Kind>(&mut self, store: &Store, id: i32, detail: Detail, window: Window) -> Result<()>
    where
        C::Object: Called,
    {
        if detail == Detail::Fine {
            for BackfilledSnapshot { taken_at, read_ms, server_started_at, reset_at, period } in
                store.kept_snapshots::<C>(id, window).await?
            {
                let (from, reason, rows) = match period {
                    Ok((from, rows)) => (Some(from), None, rows),
                    Err(reason) => (None, Some(reason), Vec::new()),
                };
                let line = Period {
                    counted: C::FIGURES,
                    detail,
                    to: moment(taken_at),
                    from: from.map(moment),
                    reason,
                    server_started_at: Some(moment(server_started_at)),
                    reset_at: reset_at.map(moment),
                    read_ms: Some(read_ms),
                    seconds: None,
                    periods: None,
                    rows: self.rows(rows),
                };
                self.put(Line::Period(line))?;
            }
            return Ok(());
        }
        for Bucket { to, from, seconds, periods, rows } in store.kept_buckets::<C>(id, detail, window).await? {
            let line = Period {
                counted: C::FIGURES,
                detail,
                to: moment(to),
                from: Some(moment(from)),
                reason: None,
                server_started_at: None,
                reset_at: None,
                read_ms: None,
                seconds: Some(seconds),
                periods: Some(periods),
                rows: self.rows(rows),
            };
            self.put(Line::Period(line))?;
        }
        Ok(())
    }

    async fn activity(&mut self, store: &Store, id: i32, detail: Detail, window: Window) -> Result<()> {
        if detail != Detail::Fine {
            for load in store.kept_load(id, detail, window).await? {
                let rows = load.rows.into_iter().filter_map(
                    |KeptBusy { wait_kind, names, family_id, lock_object_id, busy }| {
                        Some(Busy {
                            wait_kind: WaitKind::at_position(wait_kind as usize)?,
                            event: names[0].map(|event| self.name(Some(event))),
                            family: family_id.map(|family| family.to_string()),
                            who: self.who(names),
                            awaited_table: lock_object_id.map(|table| self.name(Some(table))),
                            busy,
                        })
                    },
                );
                let rows = rows.collect();
                let (samples, sessions) = (load.samples, load.sessions);
                self.put(Line::Load(Load { detail, to: moment(load.to), samples, sessions, rows }))?;
            }
            return Ok(());
        }
        for sample in store.kept_samples(id, window).await? {
            let session = |session: hurnix_store::KeptSession| Session {
                process: session.process,
                started_at: moment(session.started_at),
                wait_kind: session.wait_kind.and_then(|kind| WaitKind::at_position(kind as usize)),
                event: session.names[0].map(|event| self.name(Some(event))),
                family: session.family_id.map(|family| family.to_string()),
                who: self.who(session.names),
                transaction_started_at: session.transaction_started_at.map(moment),
                statement_started_at: session.statement_started_at.map(moment),
                blocked_by: session.blocked_by,
                awaited: session.awaited.map(|[mode, kind, object]| AwaitedLock {
                    mode: self.name(Some(mode)),
                    kind: self.name(Some(kind)),
                    object: self.name(Some(object)),
                }),
            };
            let active = sample.active.into_iter().map(session).collect();
            self.put(Line::Sample(Sample { at: moment(sample.at), sessions: sample.sessions, active }))?;
        }
        Ok(())
    }

    async fn measures(&mut self, store: &Store, id: i32, detail: Detail, window: Window) -> Result<()> {
        for kept in store.kept_measures(id, detail, window).await? {
            let Some(figures) = Figures::named(&kept.figures) else {
                continue;
            };
            let summed = detail != Detail::Fine;
            let values = kept.rows.iter().filter_map(|(metric, object, readings, sum, least, most)| {
                Some(Value {
                    metric: Metric::numbered(*metric)?.name().into(),
                    object: self.name(Some(*object)),
                    value: *sum,
                    readings: summed.then_some(*readings),
                    least: summed.then_some(*least),
                    most: summed.then_some(*most),
                })
            });
            let values = values.collect();
            self.put(Line::Measures(Measures { figures, detail, to: moment(kept.at), values }))?;
        }
        Ok(())
    }
}
