use hurnix_core::Timestamp;
use hurnix_core::readings::server_log::{LogLine, LogPosition};

use super::counted::Server;
use super::model::{
    Event, FIRST_PROCESS_OF_EVENTS, FamilyModel, Happening, HoldUp, How, PROCESSES_OF_EVENT, TEMP_FILES,
};
use super::sessions::text;
use crate::LogReading;
use crate::postgres::told;

/// The one file that it writes; an offset in it is a moment, in microseconds.
const FILE: &str = "simulated";
/// A session that has waited this long for a lock looks for a circle, and is told of when it gets the lock.
const DEADLOCK_SECONDS: f64 = 1.0;

impl Server {
    /// What happened since a position, as the server's log tells it; since `earliest` where there is none.
    pub fn log(&self, from: Option<&LogPosition>, earliest: Timestamp, at: Timestamp) -> LogReading {
        let from = from.map_or(earliest, |from| Timestamp(from.offset));
        let mut lines: Vec<LogLine> = Vec::new();
        for (position, event) in self.model.events.iter().enumerate() {
            let process = FIRST_PROCESS_OF_EVENTS + position as i32 * PROCESSES_OF_EVENT;
            let told = event.until.unwrap_or(event.at);
            match &event.what {
                Happening::Deadlock if from < event.at && event.at <= at => {
                    lines.extend(self.deadlock(event, process));
                }
                Happening::Giant { family, temp_bytes } if from < told && told <= at => {
                    let of = &self.model.families[*family];
                    lines.extend((0..TEMP_FILES).map(|number| {
                        let size = (temp_bytes / TEMP_FILES as f64) as i64;
                        let path = format!("base/pgsql_tmp/pgsql_tmp{process}.{number}");
                        let message = format!("temporary file: path \"{path}\", size {size}");
                        self.line(of, event.at, told, process, number + 1, ("LOG", "00000", message))
                    }));
                }
                Happening::HoldUp(hold_up) if from < told && told <= at => {
                    lines.extend(self.waits(event, hold_up, process, told));
                }
                _ => {}
            }
        }
        lines.sort_by_key(|line| line.at);
        let bytes =
            lines.iter().map(|line| line.message.len() + line.detail.len() + line.statement.len()).sum::<usize>();
        let lines = lines.into_iter().filter_map(told).collect();
        let position = Some(LogPosition { file: FILE.into(), offset: at.0 });
        LogReading { lines, plans: Vec::new(), position, bytes: bytes as i64 }
    }

    fn line(
        &self,
        family: &FamilyModel,
        began: Timestamp,
        at: Timestamp,
        process: i32,
        number: i64,
        (severity, state, message): (&str, &str, String),
    ) -> LogLine {
        LogLine {
            at,
            severity: severity.into(),
            state: state.into(),
            message,
            detail: String::new(),
            statement: text(family, 0),
            account: family.account.clone(),
            database: self.model.databases[family.database].clone(),
            program: family.program.clone(),
            client: family.client.clone(),
            process,
            session: format!("{:x}.{process:x}", began.0 / 1_000_000),
            number,
        }
    }

    /// Two statements that update caught each other; of a model with none, nothing.
    fn deadlock(&self, event: &Event, process: i32) -> Option<LogLine> {
        let updates = |family: &&FamilyModel| family.touches.iter().any(|touch| touch.how == How::Update);
        let mut updating = self.model.families.iter().filter(updates);
        let one = updating.next()?;
        let other = updating.next().unwrap_or(one);
        let (first, second) = (process, process + 1);
        let detail = format!(
            "Process {first} waits for ShareLock on transaction {second}; blocked by process {second}.\n\
             Process {second} waits for ShareLock on transaction {first}; blocked by process {first}.\n\
             Process {first}: {}\nProcess {second}: {}",
            text(one, 0),
            text(other, 0)
        );
        let line = self.line(one, event.at, event.at, process, 1, ("ERROR", "40P01", "deadlock detected".into()));
        Some(LogLine { detail, ..line })
    }

    /// Those who waited long, when the holder lets go.
    fn waits(&self, event: &Event, hold_up: &HoldUp, holder: i32, at: Timestamp) -> Vec<LogLine> {
        let lasted = at.seconds_since(event.at);
        let family = &self.model.families[hold_up.family];
        let waits = (0..hold_up.waiters).filter_map(|waiter| {
            let waited = lasted - f64::from(waiter + 1) * hold_up.arrival_seconds;
            let process = holder + 1 + waiter;
            let message =
                format!("process {process} acquired ShareLock on transaction {holder} after {:.3} ms", waited * 1e3);
            (waited > DEADLOCK_SECONDS).then(|| self.line(family, event.at, at, process, 1, ("LOG", "00000", message)))
        });
        waits.collect()
    }
}
