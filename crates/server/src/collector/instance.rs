use std::sync::Arc;
use std::time::{Duration, Instant};

use hurnix_core::Named;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::figures::{Figures, Other, Shape, Tally};
use hurnix_core::readings::metric::clock_offset;
use hurnix_core::readings::server_log::{LogPosition, entries};
use hurnix_source::postgres::{Address, PostgresSource};
use hurnix_source::{ConnectProblem, Limit, MeasureReading, Obstacle, ReadProblem, Source, exporter};
use hurnix_store::Instance;
use tokio_util::sync::CancellationToken;

use super::queued_write::{LogToWrite, QueuedWrite, logged_plan, plan_row, sample_bytes};
use super::schedule::Schedule;
use super::write_queue::{Memory, WriteQueue};
use super::writer::Writer;
use crate::address::address;
use crate::secrets::random;
use crate::sources::connect;
use crate::state::{App, now};

/// Waits between attempts to connect: doubled each time, up to the longest.
const FIRST_WAIT: Duration = Duration::from_secs(1);
const LONGEST_WAIT: Duration = Duration::from_secs(30);
/// How far a log was read is written this often at least.
const LOG_UNTOLD: Duration = Duration::from_secs(60);
/// A reading may take this long; the server's own limit ends most of them earlier.
const READ_LIMIT: Duration = Duration::from_secs(10);

/// Collects one instance until told to stop: reads, and writes beside it. The reader never waits for the
/// repository. Whatever goes wrong, both try again.
pub async fn collect(app: App, instance: Instance, memory: Arc<Memory>, stop: CancellationToken) {
    let queue = WriteQueue::new(memory);
    let written = CancellationToken::new();
    let writing = tokio::spawn(Writer::new(app.clone(), instance.clone(), queue.clone()).run(written.clone()));
    Reader::new(app, instance, queue).run(stop).await;
    written.cancel();
    if let Err(error) = writing.await {
        tracing::error!(%error, "a writer ended badly");
    }
}

/// A share of a length of time, so that many instances do not do the same at the same moment.
fn some_of(length: Duration) -> Duration {
    length.mul_f64(f64::from(u16::from_le_bytes(random::<2>())) / f64::from(u16::MAX))
}

struct Reader {
    app: App,
    instance: Instance,
    queue: Arc<WriteQueue>,
    schedule: Schedule,
    /// How far the server's log is read.
    log_position: Option<LogPosition>,
    /// When the writer was told of that last.
    log_told_at: Instant,
    /// Asks exporters.
    exporters: reqwest::Client,
    /// What the exporter of the host does not give.
    exporter_limit: Option<Limit>,
    /// Which further databases cannot be read.
    catalog_limits: Vec<Limit>,
}

/// Whether the server's version gives nothing of a kind: then it is never asked for it, and no reading of it counts.
fn lacks(source: &dyn Source, figures: Figures) -> bool {
    let mut limits = source.limits().iter();
    limits.any(|limit| limit.by_version && limit.in_whole && limit.concerns.contains(&figures))
}

impl Reader {
    fn new(app: App, instance: Instance, queue: Arc<WriteQueue>) -> Reader {
        let intervals = app.intervals_of(&instance);
        let start = Instant::now() + some_of(intervals.activity);
        let schedule = Schedule::new(&intervals, start);
        let (log_position, log_told_at) = (instance.log_position.clone(), Instant::now());
        Reader {
            app,
            instance,
            queue,
            schedule,
            log_position,
            log_told_at,
            exporters: exporter::client(),
            exporter_limit: None,
            catalog_limits: Vec::new(),
        }
    }

    async fn run(mut self, stop: CancellationToken) {
        let mut wait = FIRST_WAIT;
        while !stop.is_cancelled() {
            let problem = tokio::select! {
                () = stop.cancelled() => return,
                problem = self.connect_and_read(&mut wait) => problem,
            };
            tracing::warn!(instance = %self.instance.label, %problem, "not collecting");
            self.queue.push(QueuedWrite::Failing { at: now(), problem });
            tokio::select! {
                () = stop.cancelled() => return,
                () = tokio::time::sleep(wait.mul_f64(0.75) + some_of(wait / 2)) => {}
            }
            wait = (wait * 2).min(LONGEST_WAIT);
        }
    }

    /// Reads until something goes wrong, and answers what.
    async fn connect_and_read(&mut self, wait: &mut Duration) -> ConnectProblem {
        let mut source = match connect(&self.app, &self.instance).await {
            Ok(source) => source,
            Err(problem) => return problem,
        };
        *wait = FIRST_WAIT;
        tracing::info!(instance = %self.instance.label, version = source.version(), "collecting");
        self.queue.push(self.connected(source.as_ref()));
        loop {
            let (figures, due) = self.schedule.next();
            tokio::time::sleep_until(due.into()).await;
            if lacks(source.as_ref(), figures) {
                self.schedule.done(figures, Instant::now(), Duration::ZERO, 0);
                continue;
            }
            if let Err(problem) = self.read_in_time(source.as_mut(), figures).await {
                if let ReadProblem::Obstructed(problem) = problem {
                    return problem;
                }
                return ConnectProblem {
                    obstacle: match problem {
                        ReadProblem::TimedOut(_) => Obstacle::TimedOut,
                        _ => Obstacle::NotReady,
                    },
                    message: format!("Reading {} was interrupted: {problem}.", figures.name()),
                    remedy: "Hurnix connects again by itself.".into(),
                };
            }
        }
    }

    /// Reads one kind of figures, and notes how that went. An error means that the connection is no
    /// good any more; what the server merely refuses is noted, and the next reading may work.
    async fn read_in_time(&mut self, source: &mut dyn Source, figures: Figures) -> Result<(), ReadProblem> {
        let begun = Instant::now();
        let mut tally = Tally { missed: self.schedule.give_up_missed(figures, begun), ..Tally::default() };
        let reading = async {
            self.look_again(source, figures).await?;
            match self.read(source, figures).await {
                Err(ReadProblem::Refused(reason)) => {
                    // It may have been refused because of what has changed since.
                    self.tell_limits(source, true).await?;
                    Err(ReadProblem::Refused(reason))
                }
                other => other,
            }
        };
        let read = tokio::time::timeout(READ_LIMIT, reading)
            .await
            .unwrap_or(Err(ReadProblem::TimedOut(READ_LIMIT.as_secs_f64())));
        let took = begun.elapsed();
        tally.read_us = took.as_micros() as i64;
        let bytes = read.as_ref().map_or(0, |bytes| *bytes);
        self.schedule.done(figures, begun, took, bytes);
        let outcome = match read {
            Ok(_) => {
                (tally.read, tally.bytes) = (1, bytes as i64);
                Ok(())
            }
            // Such as one that would have waited for a lock.
            Err(ReadProblem::Refused(reason)) => {
                tally.refused = 1;
                tracing::warn!(instance = %self.instance.label, figures = figures.name(), reason, "refused");
                Ok(())
            }
            Err(problem) => {
                tally.refused = 1;
                Err(problem)
            }
        };
        self.queue.tally(figures, tally);
        let (cost, stretch) = self.schedule.pace();
        self.queue.note_pace(cost, stretch);
        outcome
    }

    /// Before each reading: whether what it rests on may still be read. The look at the sessions sees that itself.
    async fn look_again(&mut self, source: &mut dyn Source, figures: Figures) -> Result<(), ReadProblem> {
        match figures {
            Figures::Activity => Ok(()),
            // Rights on single tables leave no mark.
            _ => self.tell_limits(source, figures == Figures::Catalog).await,
        }
    }

    /// Looks the server over again where that is due, and tells what it does not give any more, or gives again.
    async fn tell_limits(&mut self, source: &mut dyn Source, anyhow: bool) -> Result<(), ReadProblem> {
        if source.look_again(anyhow).await? {
            tracing::info!(instance = %self.instance.label, limits = source.limits().len(), "the server gives other figures now");
            self.queue.push(self.connected(source));
        }
        Ok(())
    }

    /// Reads one kind of figures into the queue; answers how many bytes that was.
    async fn read(&mut self, source: &mut dyn Source, figures: Figures) -> Result<usize, ReadProblem> {
        let begun = Instant::now();
        let queued = match figures.shape() {
            Shape::Counters => match source.counters(figures).await? {
                Some(reading) => QueuedWrite::Counters(reading, begun.elapsed()),
                None => return Ok(0),
            },
            Shape::Measures => match self.read_measures(source, figures).await? {
                Some(reading) => QueuedWrite::Measures(figures, reading),
                None => return Ok(0),
            },
            Shape::Other(other) => match other {
                Other::Activity => {
                    let sample = source.activity().await?;
                    let bytes = sample_bytes(&sample);
                    self.queue.push_sample(sample);
                    return Ok(bytes);
                }
                Other::Catalog => {
                    if self.read_more_catalogs().await {
                        self.queue.push(self.connected(source));
                    }
                    QueuedWrite::Catalog(source.catalog().await?)
                }
                Other::Inventory => QueuedWrite::Inventory(source.inventory().await?),
                Other::Settings => QueuedWrite::Settings(source.now().await?, source.settings().await?),
                Other::Plans => return self.read_plans(source).await,
                Other::Log => return self.read_log(source).await,
            },
        };
        let bytes = queued.bytes();
        self.queue.push(queued);
        Ok(bytes)
    }

    /// Catalogs of further databases, over a connection to each, one after the other. What keeps one from being read is
    /// a limit, and holds up nothing else; says whether these are others now.
    async fn read_more_catalogs(&mut self) -> bool {
        let mut limits = Vec::new();
        for database in self.instance.settings.more_databases.clone() {
            match self.read_catalog_of(&database).await {
                Ok(catalog) => self.queue.push(QueuedWrite::Catalog(catalog)),
                Err((reason, remedy)) => limits.push(Limit {
                    figures: format!("catalog of {database}"),
                    concerns: vec![Figures::Catalog],
                    in_whole: false,
                    by_version: false,
                    reason: format!("Tables and indexes of the database {database} are not read. {reason}"),
                    remedy,
                }),
            }
        }
        let changed = limits != self.catalog_limits;
        self.catalog_limits = limits;
        changed
    }

    async fn read_catalog_of(&self, database: &str) -> Result<Catalog, (String, String)> {
        let told = |problem: ConnectProblem| (problem.message, problem.remedy);
        let address = address(&self.app, &self.instance).map_err(told)?;
        let mut other =
            PostgresSource::connect(&Address { database: database.into(), ..address }).await.map_err(told)?;
        let catalog = other.catalog().await;
        other.close().await;
        catalog.map_err(|problem| (format!("The reading failed: {problem}."), "Hurnix tries again by itself.".into()))
    }

    /// Single figures of a kind, with what Hurnix itself adds to them.
    async fn read_measures(
        &mut self,
        source: &mut dyn Source,
        figures: Figures,
    ) -> Result<Option<MeasureReading>, ReadProblem> {
        if figures == Figures::Host {
            return self.read_host(source).await;
        }
        let before = now();
        let mut reading = source.measures(figures).await?;
        if let Some(reading) = reading.as_mut().filter(|_| figures == Figures::Standing) {
            reading.measures.push(clock_offset(before, reading.counted.at, now()));
        }
        Ok(reading)
    }

    /// The host: by its exporter where it has one, else through the server.
    async fn read_host(&mut self, source: &mut dyn Source) -> Result<Option<MeasureReading>, ReadProblem> {
        match &self.instance.host_endpoint {
            None => source.measures(Figures::Host).await,
            Some(url) => {
                let secret = self.instance.host_secret_sealed.as_deref();
                let secret = secret.map(|sealed| self.app.sealer.unseal(sealed)).transpose();
                let secret = secret.map_err(|error| ReadProblem::Refused(error.to_string()))?;
                let told = exporter::read(&self.exporters, url, secret.as_deref(), now()).await;
                self.tell_exporter(source, &told);
                told.map(|told| Some(told.reading))
            }
        }
    }

    /// Tells as a limit what the exporter does not give, when that is news.
    fn tell_exporter(&mut self, source: &dyn Source, told: &Result<exporter::Told, ReadProblem>) {
        let (in_whole, reason) = match told {
            Ok(told) => (false, told.left_out.as_ref().map(|left_out| format!("Of the exporter {left_out}."))),
            Err(problem) => (true, Some(format!("Figures of the host are missing: {problem}."))),
        };
        let limit = reason.map(|reason| Limit {
            figures: "host".into(),
            concerns: vec![Figures::Host],
            in_whole,
            by_version: false,
            reason,
            remedy: "Look at the exporter, and at its address in the connection of the instance.".into(),
        });
        if limit != self.exporter_limit {
            self.exporter_limit = limit;
            self.queue.push(self.connected(source));
        }
    }

    /// What the server is and does not give, with what its exporter does not.
    fn connected(&self, source: &dyn Source) -> QueuedWrite {
        let mut limits = source.limits().to_vec();
        if self.instance.host_endpoint.is_some() {
            // An exporter tells what the server does not.
            limits.retain(|limit| limit.concerns != [Figures::Host]);
        }
        limits.extend(self.exporter_limit.clone());
        limits.extend(self.catalog_limits.clone());
        QueuedWrite::Connected { at: now(), version: source.version().to_owned(), limits }
    }

    /// What the server has written to its log since the last time; masked before anybody else sees it.
    async fn read_log(&mut self, source: &mut dyn Source) -> Result<usize, ReadProblem> {
        let Some(reading) = source.log(self.log_position.as_ref()).await? else { return Ok(0) };
        let keeps_literals = self.instance.settings.keeps_literals;
        let entries = entries(reading.lines, (!keeps_literals).then(|| source.log_wording()));
        let plans: Vec<_> = reading.plans.into_iter().map(|plan| logged_plan(plan, keeps_literals)).collect();
        let moved = reading.position != self.log_position;
        self.log_position = reading.position;
        // Where nothing is to be kept, the position alone is worth a write now and then.
        if let Some(position) = &self.log_position
            && (!entries.is_empty() || !plans.is_empty() || moved && self.log_told_at.elapsed() > LOG_UNTOLD)
        {
            self.log_told_at = Instant::now();
            self.queue.push(QueuedWrite::Log(LogToWrite { entries, plans, position: position.clone() }));
        }
        Ok(reading.bytes as usize)
    }

    /// Plans of the statements that the writer has asked for.
    async fn read_plans(&mut self, source: &mut dyn Source) -> Result<usize, ReadProblem> {
        let mut bytes = 0;
        for (family_id, sample) in self.queue.take_wanted_plans() {
            let read_at = source.now().await?;
            let queued = QueuedWrite::Plan(
                family_id,
                plan_row(read_at, &source.plan(&sample).await?, &self.instance.database_name),
            );
            bytes += queued.bytes();
            self.queue.push(queued);
        }
        Ok(bytes)
    }
}
