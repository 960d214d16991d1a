use std::collections::HashMap;
use std::io::BufRead;

use anyhow::{Context, Result};
use chrono::{DateTime, Utc};
use hurnix_core::instance::engine::Engine;
use hurnix_core::instance::marker::Marker;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::activity::Session as CoreSession;
use hurnix_core::readings::family::{fold, mask_tag};
use hurnix_core::readings::metric::Metric;
use hurnix_core::readings::plan::identity;
use hurnix_core::readings::server_log::{LogLine, mask};
use hurnix_core::{Named, Timestamp};
use hurnix_source::bundle::{BadLine, Fault, Line, Load, LogEntry, Measures, Period, Row, Sample, Who, read};
use hurnix_source::postgres::PostgresWording;
use hurnix_store::{
    ActivityRow, BackfilledMeasures, BackfilledSnapshot, Bucket, KeptBusy, KeptLoad, KeptMeasures, Kind, LogRow,
    MeasureRow, NamedObject, NewFamily, PeriodRow, PlanRow, SettingRow, StatementObject, Store,
};
use serde_json::json;

use crate::collector::words::family;

/// Lines written to the repository at a time.
const LINES_AT_A_TIME: usize = 500;
/// Bad lines told in full; of more only their number.
const MOST_TOLD: usize = 1000;

/// After so many bad lines no more are read: the file is no bundle, or all of it is wrong.
const MOST_FAULTS: u64 = 10_000;
/// Clocks of servers may be ahead of this machine's by so much.
const CLOCK_SECONDS: f64 = 86_400.0;

/// What came of bringing in a bundle.
#[derive(Debug, Default)]
pub struct Imported {
    /// Label of the instance that it went to.
    pub instance: String,
    /// Good lines.
    pub lines: u64,
    /// Of those, lines that were there already, or whose time is summed up and closed.
    pub known: u64,
    /// The first bad lines.
    pub bad: Vec<BadLine>,
    /// How many bad lines there were.
    pub bad_lines: u64,
    /// The line after which no more was read, since there were too many bad ones.
    pub stopped_at: Option<u64>,
}

impl Imported {
    /// What came of it in a sentence.
    pub fn summary(&self) -> String {
        let Imported { instance, lines, known, bad_lines, .. } = self;
        let stopped = self.stopped_at.map_or(String::new(), |line| {
            format!("; nothing was read after line {line}, since {MOST_FAULTS} bad lines are enough")
        });
        format!("{instance}: {} lines imported, {known} were there already, {bad_lines} bad{stopped}", lines - known)
    }

    fn note(&mut self, bad: BadLine) {
        self.bad_lines += 1;
        if self.bad.len() < MOST_TOLD {
            self.bad.push(bad);
        }
    }
}

/// Brings a bundle in: into the instance of that label, or of the bundle's own where none is given; one that is not
/// there yet is made. Each good line is taken, each bad one told; what is there already stays as it is.
pub async fn import(store: &Store, label: Option<&str>, from: Box<dyn BufRead + Send>) -> Result<Imported> {
    let (send, mut receive) = tokio::sync::mpsc::channel(LINES_AT_A_TIME);
    // Reading and taking lines apart blocks, and would hold up everything else.
    let reading = tokio::task::spawn_blocking(move || {
        for line in read(from) {
            if send.blocking_send(line).is_err() {
                break;
            }
        }
    });
    let mut target: Option<Target> = None;
    let mut imported = Imported::default();
    let mut number = 0;
    while let Some(line) = receive.recv().await {
        number += 1;
        match line.context("reading the bundle")? {
            Err(bad) => imported.note(bad),
            Ok(line) => {
                let taken = match (&line, &mut target) {
                    (Line::Bundle(_), None) if check_moments(&line).is_err() => check_moments(&line),
                    (Line::Bundle(head), None) => {
                        let label = label.unwrap_or(&head.instance).to_owned();
                        target = Some(Target::new(store.clone(), &label).await?);
                        imported.instance = label;
                        Ok(())
                    }
                    (Line::Bundle(_), Some(_)) => {
                        Err(Fault::new("line", "there is a head already", "A bundle has one, on its first line."))
                    }
                    (_, None) => {
                        let remedy = "The first line says what the bundle is of: see docs/formats/bundle.md.";
                        Err(Fault::new("line", "the head is missing", remedy))
                    }
                    (_, Some(target)) => target.take(line).await?,
                };
                match taken {
                    Ok(()) => imported.lines += 1,
                    Err(fault) => imported.note(BadLine { number, fault }),
                }
            }
        }
        if imported.bad_lines >= MOST_FAULTS {
            imported.stopped_at = Some(number);
            break;
        }
    }
    drop(receive);
    reading.await?;
    let mut target = target.context("the bundle has no line that says what it is of")?;
    target.write().await?;
    imported.known = target.known;
    Ok(imported)
}

/// The instance that a bundle goes to, and what is read and not written yet.
struct Target {
    store: Store,
    instance_id: i32,
    keeps_literals: bool,
    families: HashMap<String, i64>,
    names: HashMap<String, i32>,
    waiting: Vec<Line>,
    known: u64,
}

type Taken = std::result::Result<(), Fault>;

impl Target {
    async fn new(store: Store, label: &str) -> Result<Target> {
        let there = store.instances().await?.into_iter().find(|instance| instance.label == label);
        let (instance_id, keeps_literals) = match there {
            Some(instance) => (instance.instance_id, instance.settings.keeps_literals),
            None => (store.add_unconnected(label, Engine::Bundle, &json!({}), None).await?, false),
        };
        let (families, names) = (HashMap::new(), HashMap::new());
        Ok(Target { store, instance_id, keeps_literals, families, names, waiting: Vec::new(), known: 0 })
    }

    /// Takes a good line; says what is wrong with it after all.
    async fn take(&mut self, line: Line) -> Result<Taken> {
        if let Err(fault) = check_moments(&line).and_then(|()| self.refers_to_known_families(&line)) {
            return Ok(Err(fault));
        }
        let (store, id) = (&self.store, self.instance_id);
        match line {
            Line::Bundle(_) => {}
            Line::Family(line) => {
                let folded = fold(&line.text);
                let sample = line.sample.map(|sample| family(&sample, true, self.keeps_literals).sample);
                let tag = line.tag.or(folded.tag.clone());
                let family = NewFamily {
                    fingerprint: folded.fingerprint(),
                    sample_is_the_servers: sample.is_some(),
                    sample: sample.unwrap_or_else(|| folded.text.clone()),
                    tag: tag.map(|tag| if self.keeps_literals { tag } else { mask_tag(&tag) }),
                    text: folded.text,
                };
                let fingerprint = family.fingerprint;
                let numbers = store.families(id, &[family], crate::state::now()).await?;
                self.families.insert(line.family, numbers[&fingerprint]);
            }
            Line::Plan(line) => {
                let row = PlanRow {
                    first_read_at: at(line.first_read_at),
                    read_at: at(line.read_at),
                    plan: line.text.map(|text| (identity(&text), text)).ok_or(line.absent.unwrap_or_default()),
                    database: line.database,
                };
                self.known += u64::from(!store.write_plan(self.families[&line.family], &row).await?);
            }
            Line::Setting(line) => {
                let setting = SettingRow {
                    name: line.name,
                    value: line.value,
                    unit: line.unit,
                    source: line.source,
                    pending_restart: line.pending_restart,
                };
                self.known += u64::from(!store.add_setting(id, at(line.seen_at), &setting).await?);
            }
            Line::Marker(line) => {
                let noted_by = line.noted_by.as_deref();
                let marker = Marker { at: at(line.at), kind: line.kind, text: line.text.clone() };
                self.known += u64::from(!store.add_marker(id, &marker, noted_by).await?);
            }
            Line::Catalog(line) => {
                let known = store.catalog_of(id, &line.catalog.database).await?;
                let newer = known.is_none_or(|known| known.at < line.catalog.at);
                if newer {
                    store.write_catalog(id, &line.catalog).await?;
                }
                self.known += u64::from(!newer);
            }
            Line::Inventory(line) => {
                let newer = store.inventory(id).await?.is_none_or(|known| known.at < line.inventory.at);
                if newer {
                    store.write_inventory(id, &line.inventory).await?;
                }
                self.known += u64::from(!newer);
            }
            figures => {
                self.waiting.push(figures);
                if self.waiting.len() >= LINES_AT_A_TIME {
                    self.write().await?;
                }
            }
        }
        Ok(Ok(()))
    }

    fn refers_to_known_families(&self, line: &Line) -> Taken {
        let unknown = |field: String, family: &Option<String>| match family {
            Some(family) if !self.families.contains_key(family) => Err(Fault::new(
                field,
                format!("there was no family {family:?} before"),
                "Write the line of the family first.",
            )),
            _ => Ok(()),
        };
        match line {
            Line::Log(entry) => unknown("family".into(), &entry.family),
            Line::Plan(plan) => unknown("family".into(), &Some(plan.family.clone())),
            Line::Period(period) => period
                .rows
                .iter()
                .enumerate()
                .try_for_each(|(n, row)| unknown(format!("rows[{n}].family"), &row.family)),
            Line::Sample(sample) => sample
                .active
                .iter()
                .enumerate()
                .try_for_each(|(n, session)| unknown(format!("active[{n}].family"), &session.family)),
            Line::Load(load) => {
                load.rows.iter().enumerate().try_for_each(|(n, row)| unknown(format!("rows[{n}].family"), &row.family))
            }
            _ => Ok(()),
        }
    }

    /// Writes the figures that wait.
    async fn write(&mut self) -> Result<()> {
        let lines = std::mem::take(&mut self.waiting);
        self.learn_names(&lines).await?;
        let (mut new, mut all) = (0, 0);
        let (mut samples, mut periods, mut loads, mut measures) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let mut log = Vec::new();
        for line in &lines {
            all += 1;
            match line {
                Line::Sample(line) => samples.push(line),
                Line::Period(line) => periods.push(line),
                Line::Load(line) => loads.push(line),
                Line::Measures(line) => measures.push(line),
                Line::Log(line) => log.push(line),
                _ => all -= 1,
            }
        }
        macro_rules! counters {
            ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {
                $(new += self.write_counters::<$counters>(&periods).await?;)+
            };
        }
        hurnix_core::all_counters!(counters);
        new += self.write_samples(&samples).await?;
        for detail in [Detail::TenMinutes, Detail::Hour] {
            let of_level: Vec<KeptLoad> =
                loads.iter().filter(|load| load.detail == detail).map(|load| self.load(load)).collect();
            new += self.store.write_load(self.instance_id, detail, &of_level).await?;
        }
        new += self.write_measures(&measures).await?;
        new += self.write_log(&log).await?;
        self.known += (all - new) as u64;
        Ok(())
    }

    async fn learn_names(&mut self, lines: &[Line]) -> Result<()> {
        let mut names: Vec<String> = Vec::new();
        let add_who = |names: &mut Vec<String>, who: &Who| {
            names.extend([&who.account, &who.program, &who.client, &who.database].map(String::clone))
        };
        for line in lines {
            match line {
                Line::Sample(sample) => {
                    for session in &sample.active {
                        add_who(&mut names, &session.who);
                        names.extend(session.event.clone());
                        if let Some(lock) = &session.awaited {
                            names.extend([&lock.mode, &lock.kind, &lock.object].map(String::clone));
                        }
                    }
                }
                Line::Load(load) => {
                    for row in &load.rows {
                        add_who(&mut names, &row.who);
                        names.extend([&row.event, &row.awaited_table].into_iter().flatten().cloned());
                    }
                }
                Line::Period(period) => {
                    for row in &period.rows {
                        names.extend([&row.account, &row.database, &row.name].into_iter().flatten().cloned());
                    }
                }
                Line::Log(entry) => add_who(&mut names, &entry.who),
                Line::Measures(measures) => names.extend(measures.values.iter().map(|value| value.object.clone())),
                _ => {}
            }
        }
        names.retain(|name| !self.names.contains_key(name));
        names.sort();
        names.dedup();
        if !names.is_empty() {
            self.names.extend(self.store.names(self.instance_id, &names, crate::state::now()).await?);
        }
        Ok(())
    }

    fn five_names(&self, event: &Option<String>, who: &Who) -> [Option<i32>; 5] {
        let [account, program, client, database] =
            [&who.account, &who.program, &who.client, &who.database].map(|name| Some(self.names[name]));
        [event.as_ref().map(|event| self.names[event]), account, program, client, database]
    }

    async fn write_counters<C: Kind>(&self, periods: &[&Period]) -> Result<usize>
    where
        C::Object: Told,
    {
        let of_kind = || periods.iter().filter(|period| period.counted == C::FIGURES);
        let rows = |period: &Period| -> Vec<PeriodRow<C::Object, C>> {
            let row = |row: &Row| {
                let values: Vec<i64> =
                    C::NAMES.iter().map(|name| row.figures.get(*name).copied().unwrap_or(0)).collect();
                let object = C::Object::of(row, &self.families, &self.names);
                PeriodRow { object, by: C::from_values(&values), lower_bound: row.lower_bound }
            };
            period.rows.iter().map(row).collect()
        };
        let snapshots: Vec<BackfilledSnapshot<C::Object, C>> = of_kind()
            .filter(|period| period.detail == Detail::Fine)
            .map(|period| BackfilledSnapshot {
                taken_at: at(period.to),
                read_ms: period.read_ms.unwrap_or(0.0),
                server_started_at: at(period.server_started_at.unwrap_or_default()),
                reset_at: period.reset_at.map(at),
                period: match period.from {
                    Some(from) => Ok((at(from), rows(period))),
                    None => Err(period.reason.clone().unwrap_or_else(|| "not told".into())),
                },
            })
            .collect();
        let mut new = 0;
        if !snapshots.is_empty() {
            new += self.store.backfill_snapshots(self.instance_id, &snapshots).await?;
        }
        for detail in [Detail::TenMinutes, Detail::Hour] {
            let buckets: Vec<Bucket<C::Object, C>> = of_kind()
                .filter(|period| period.detail == detail)
                .map(|period| Bucket {
                    to: at(period.to),
                    from: at(period.from.unwrap_or(period.to)),
                    seconds: period.seconds.unwrap_or(0.0),
                    periods: period.periods.unwrap_or(1),
                    rows: rows(period),
                })
                .collect();
            if !buckets.is_empty() {
                new += self.store.write_buckets(self.instance_id, detail, &buckets).await?;
            }
        }
        Ok(new)
    }

    async fn write_samples(&self, samples: &[&Sample]) -> Result<usize> {
        if samples.is_empty() {
            return Ok(0);
        }
        let sessions: Vec<Vec<CoreSession>> =
            samples.iter().map(|sample| sample.active.iter().map(core_session).collect()).collect();
        let rows: Vec<_> = samples
            .iter()
            .zip(&sessions)
            .map(|(sample, sessions)| {
                let row = |(line, session): (&hurnix_source::bundle::Session, _)| {
                    let [event_id, account, program, client, database] = self.five_names(&line.event, &line.who);
                    ActivityRow {
                        session,
                        event_id,
                        family_id: line.family.as_ref().map(|family| self.families[family]),
                        account_id: account.unwrap_or_default(),
                        program_id: program.unwrap_or_default(),
                        client_id: client.unwrap_or_default(),
                        database_id: database.unwrap_or_default(),
                        awaited: line
                            .awaited
                            .as_ref()
                            .map(|lock| [&lock.mode, &lock.kind, &lock.object].map(|word| self.names[word])),
                    }
                };
                (at(sample.at), sample.sessions, sample.active.iter().zip(sessions).map(row).collect())
            })
            .collect();
        Ok(self.store.backfill_activity(self.instance_id, &rows).await?)
    }

    fn load(&self, load: &Load) -> KeptLoad {
        let row = |row: &hurnix_source::bundle::Busy| KeptBusy {
            wait_kind: row.wait_kind.position() as i16,
            names: self.five_names(&row.event, &row.who),
            family_id: row.family.as_ref().map(|family| self.families[family]),
            lock_object_id: row.awaited_table.as_ref().map(|table| self.names[table]),
            busy: row.busy,
        };
        KeptLoad {
            to: at(load.to),
            samples: load.samples,
            sessions: load.sessions,
            rows: load.rows.iter().map(row).collect(),
        }
    }

    async fn write_log(&self, entries: &[&LogEntry]) -> Result<usize> {
        let line = |entry: &&LogEntry| {
            let line = LogLine {
                at: at(entry.at),
                severity: entry.severity.clone(),
                state: entry.state.clone(),
                message: entry.message.clone(),
                detail: entry.detail.clone(),
                statement: entry.statement.clone().unwrap_or_default(),
                process: entry.process,
                session: entry.session.clone(),
                number: entry.number,
                ..LogLine::default()
            };
            if self.keeps_literals { line } else { mask(line, entry.kind, &PostgresWording) }
        };
        let lines: Vec<LogLine> = entries.iter().map(line).collect();
        let rows = entries.iter().zip(&lines).map(|(entry, line)| {
            let Who { account, program, client, database } = &entry.who;
            LogRow {
                line,
                kind: entry.kind,
                times: entry.times,
                value: entry.value,
                names: [account, program, client, database].map(|name| self.names[name]),
                family_id: entry.family.as_ref().map(|family| self.families[family]),
                statement: entry.statement.as_deref().filter(|_| self.keeps_literals),
            }
        });
        let rows: Vec<LogRow> = rows.collect();
        Ok(self.store.backfill_log(self.instance_id, &rows).await?)
    }

    async fn write_measures(&self, lines: &[&Measures]) -> Result<usize> {
        let fine: Vec<BackfilledMeasures> = lines
            .iter()
            .filter(|line| line.detail == Detail::Fine)
            .map(|line| BackfilledMeasures {
                figures: line.figures,
                at: at(line.to),
                rows: line
                    .values
                    .iter()
                    .filter_map(|value| {
                        Some(MeasureRow {
                            metric: Metric::named(&value.metric)?,
                            object_id: self.names[&value.object],
                            value: value.value,
                        })
                    })
                    .collect(),
            })
            .collect();
        let mut new = 0;
        if !fine.is_empty() {
            new += self.store.backfill_measures(self.instance_id, &fine).await?;
        }
        for detail in [Detail::TenMinutes, Detail::Hour] {
            let buckets: Vec<KeptMeasures> = lines
                .iter()
                .filter(|line| line.detail == detail)
                .map(|line| KeptMeasures {
                    at: at(line.to),
                    figures: line.figures.name().into(),
                    rows: line
                        .values
                        .iter()
                        .filter_map(|value| {
                            let metric = Metric::named(&value.metric)?.number();
                            let (readings, least, most) = (value.readings?, value.least?, value.most?);
                            Some((metric, self.names[&value.object], readings, value.value, least, most))
                        })
                        .collect(),
                })
                .collect();
            if !buckets.is_empty() {
                new += self.store.write_measure_buckets(self.instance_id, detail, &buckets).await?;
            }
        }
        Ok(new)
    }
}

/// An object by what a line calls it.
trait Told {
    fn of(row: &Row, families: &HashMap<String, i64>, names: &HashMap<String, i32>) -> Self;
}

impl Told for StatementObject {
    fn of(row: &Row, families: &HashMap<String, i64>, names: &HashMap<String, i32>) -> Self {
        let name = |name: &Option<String>| name.as_ref().map_or(0, |name| names[name]);
        StatementObject {
            family_id: row.family.as_ref().map_or(0, |family| families[family]),
            account_id: name(&row.account),
            database_id: name(&row.database),
        }
    }
}

impl Told for u32 {
    fn of(row: &Row, _: &HashMap<String, i64>, _: &HashMap<String, i32>) -> Self {
        row.number.unwrap_or_default()
    }
}

impl Told for NamedObject {
    fn of(row: &Row, _: &HashMap<String, i64>, names: &HashMap<String, i32>) -> Self {
        NamedObject(row.name.as_ref().map_or(0, |name| names[name]))
    }
}

/// Moments beyond what can be kept would not be bad lines, but abort everything, or lie about how far the history goes.
fn check_moments(line: &Line) -> Taken {
    let now = crate::state::now();
    match line.moments().into_iter().find(|(_, moment)| {
        let at = at(*moment);
        !at.can_be_kept() || at.seconds_since(now) > CLOCK_SECONDS
    }) {
        None => Ok(()),
        Some((field, moment)) => Err(Fault::new(
            field,
            format!("{moment} lies before 1970 or in the future"),
            "Give the moment at which it was read or happened.",
        )),
    }
}

fn at(time: DateTime<Utc>) -> Timestamp {
    Timestamp(time.timestamp_micros())
}

fn core_session(line: &hurnix_source::bundle::Session) -> CoreSession {
    CoreSession {
        process: line.process,
        started_at: at(line.started_at),
        wait_kind: line.wait_kind,
        event: line.event.clone(),
        query_id: None,
        text: String::new(),
        account: line.who.account.clone(),
        program: line.who.program.clone(),
        client: line.who.client.clone(),
        database: line.who.database.clone(),
        transaction_started_at: line.transaction_started_at.map(at),
        statement_started_at: line.statement_started_at.map(at),
        blocked_by: line.blocked_by.clone(),
        awaited: line.awaited.clone(),
    }
}
