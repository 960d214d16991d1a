//! The server's log, where it writes a structured one: read piece by piece from where the last reading
//! ended, through a function that its administrator installs. It reads files of the log folder, and no others.

mod lines;
mod told;
mod wording;

use hurnix_core::Timestamp;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::plan::{LoggedPlan, logged};
use hurnix_core::readings::server_log::{LogLine, LogPosition, ToldLine};
use sqlx::{AssertSqlSafe, PgConnection, Row};

use self::lines::Stamped;
use self::told::not_read;
pub use self::told::told;
pub use self::wording::PostgresWording;
use super::plan::wholes;
use super::quote::quote;
use super::{PROGRAM, PostgresSource, Server};
use crate::{Limit, LogReading, PlanInLog, ReadProblem};

/// The function through which the log is read.
const FUNCTION: &str = "hurnix_log_piece";
/// Bytes that it answers with at a time.
const PIECE_BYTES: i64 = 262_144;
/// Bytes read at once: 100 kB a second at the usual interval.
const MOST_AT_ONCE: i64 = 4 * PIECE_BYTES;
/// When more than this is left, the oldest of it is not read.
const MOST_BEHIND: i64 = 4 * MOST_AT_ONCE;

/// How the server writes its log.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Format {
    /// An object on a line.
    Json,
    /// Values between commas; a line goes on within quotes.
    Csv,
}

impl Format {
    fn ending(self) -> &'static str {
        match self {
            Format::Json => ".json",
            Format::Csv => ".csv",
        }
    }
}

/// Statements that install the function through which the log is read, for the server's administrator.
pub fn log_script(account: &str) -> String {
    format!(
        "CREATE FUNCTION public.{FUNCTION}(file text, begin_at bigint) RETURNS bytea
LANGUAGE sql SECURITY DEFINER SET search_path = pg_catalog
AS $$ SELECT /* hurnix */ pg_read_binary_file(current_setting('log_directory') || '/' || name, begin_at, {PIECE_BYTES})
      FROM pg_ls_logdir() WHERE name = file AND name ~ '\\.(json|csv)$' $$;
REVOKE ALL ON FUNCTION public.{FUNCTION}(text, bigint) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION public.{FUNCTION}(text, bigint) TO {};",
        quote(account)
    )
}

impl Server {
    /// Whether there is a structured log, and whether it may be read.
    pub(super) async fn find_log(&mut self, connection: &mut PgConnection, account: &str) -> Result<(), sqlx::Error> {
        let row = sqlx::query(AssertSqlSafe(format!(
            "SELECT /* hurnix */ current_setting('logging_collector') = 'on' AS collected,
                    current_setting('log_destination') AS destination, current_setting('lc_messages') AS language,
                    current_setting('auto_explain.log_format', true) AS plans_as,
                    has_function_privilege(to_regprocedure('public.{FUNCTION}(text,bigint)'), 'EXECUTE') AS callable"
        )))
        .fetch_one(connection)
        .await?;
        let destination: String = row.get("destination");
        let format = if destination.contains("jsonlog") {
            Some(Format::Json)
        } else if destination.contains("csvlog") {
            Some(Format::Csv)
        } else {
            None
        };
        let mut limit = |in_whole: bool, reason: &str, remedy: String| {
            let concerns = vec![Figures::Log];
            self.limits.push(Limit {
                figures: "log".into(),
                concerns,
                in_whole,
                by_version: false,
                reason: reason.into(),
                remedy,
            });
        };
        let Some(format) = format.filter(|_| row.get("collected")) else {
            let kind = if self.version_number >= 150_000 { "jsonlog" } else { "csvlog" };
            limit(
                true,
                "Errors, deadlocks and temporary files are not told one by one: the server writes no structured log.",
                format!(
                    "ALTER SYSTEM SET logging_collector = on;\nALTER SYSTEM SET log_destination = 'stderr,{kind}';\nthen restart the server."
                ),
            );
            return Ok(());
        };
        if row.get::<Option<bool>, _>("callable") != Some(true) {
            limit(
                true,
                "Errors, deadlocks and temporary files are not told one by one: the server lets only superusers read its log.",
                log_script(account),
            );
            return Ok(());
        }
        let plans_as: Option<String> = row.get("plans_as");
        if let Some(form) = plans_as.filter(|form| !["text", "json"].contains(&form.as_str())) {
            limit(
                false,
                &format!("Plans that auto_explain writes to the log are not read: they are written as {form}."),
                "ALTER SYSTEM SET auto_explain.log_format = 'json';\nSELECT pg_reload_conf();".into(),
            );
        }
        let language: String = row.get("language");
        if !["en", "C", "POSIX"].iter().any(|known| language.starts_with(known)) && !language.is_empty() {
            limit(
                false,
                "The log is not in English: errors are known by their state, but lock waits, temporary files, checkpoints and upkeep are not recognised in it.",
                "ALTER SYSTEM SET lc_messages = 'C';\nSELECT pg_reload_conf();".into(),
            );
        }
        self.log_format = Some(format);
        Ok(())
    }
}

/// A file of the log.
#[derive(Debug, Clone, PartialEq, Eq)]
struct File {
    name: String,
    size: i64,
}

/// Where to read on: the place of a file in the list, and the bytes of it that are read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Place {
    file: usize,
    offset: i64,
}

/// Bytes that lie behind a place.
fn left(files: &[File], place: Place) -> i64 {
    files[place.file..].iter().map(|file| file.size).sum::<i64>() - place.offset
}

/// Where to read on, and how many bytes are passed over. Files are in order of time; there is at least one.
fn start(files: &[File], from: Option<&LogPosition>) -> (Place, i64) {
    let known = from.and_then(|from| Some((files.iter().position(|file| file.name == from.file)?, from.offset)));
    let mut place = match known {
        // A file that is shorter than what was read of it has been begun anew.
        Some((file, offset)) => Place { file, offset: if offset <= files[file].size { offset } else { 0 } },
        None => Place { file: 0, offset: 0 },
    };
    let (most, mut over) = match from {
        Some(_) => (MOST_BEHIND, left(files, place)),
        None => (MOST_AT_ONCE, left(files, place)),
    };
    if over <= most {
        return (place, 0);
    }
    over -= MOST_AT_ONCE;
    let passed = over;
    while over > files[place.file].size - place.offset {
        over -= files[place.file].size - place.offset;
        place = Place { file: place.file + 1, offset: 0 };
    }
    place.offset += over;
    // What was never read before is not missed.
    (place, if from.is_some() { passed } else { 0 })
}

impl PostgresSource {
    pub(super) async fn read_log(&mut self, from: Option<&LogPosition>) -> Result<Option<LogReading>, ReadProblem> {
        let Some(format) = self.server.log_format else { return Ok(None) };
        let files = self.log_files(format).await?;
        if files.is_empty() {
            return Ok(Some(LogReading { lines: Vec::new(), plans: Vec::new(), position: from.cloned(), bytes: 0 }));
        }
        let (mut place, passed) = start(&files, from);
        let (mut found, mut bytes) = (Vec::new(), 0);
        while bytes < MOST_AT_ONCE {
            let piece = self.log_piece(&files[place.file].name, place.offset).await?;
            bytes += piece.len() as i64;
            let used = lines::take(format, &piece, &mut found);
            place.offset += used as i64;
            if used == 0 && piece.len() as i64 == PIECE_BYTES {
                // One line longer than that tells nothing that is worth its length.
                place.offset += PIECE_BYTES;
            } else if (piece.len() as i64) < PIECE_BYTES {
                if place.file + 1 == files.len() {
                    break;
                }
                place = Place { file: place.file + 1, offset: 0 };
            }
        }
        found.retain(|line| line.line.program != PROGRAM);
        let lines = self.dated(found).await?;
        let first = lines.first().map(|line| line.at);
        let plans = self.plans_in(&lines).await?;
        let mut lines: Vec<ToldLine> = lines.into_iter().filter_map(told).collect();
        let position = LogPosition { file: files[place.file].name.clone(), offset: place.offset };
        if passed > 0 {
            let at = match first {
                Some(first) => first,
                None => self.read_now().await?,
            };
            lines.insert(0, not_read(at, passed, &position));
        }
        Ok(Some(LogReading { lines, plans, position: Some(position), bytes }))
    }

    /// Plans that lines tell. Names of partitions are asked of the database connected to.
    async fn plans_in(&mut self, lines: &[LogLine]) -> Result<Vec<PlanInLog>, ReadProblem> {
        let told: Vec<(&LogLine, LoggedPlan)> =
            lines.iter().filter_map(|line| Some((line, logged(&line.message)?))).collect();
        if told.is_empty() {
            return Ok(Vec::new());
        }
        let names: Vec<&str> = told.iter().flat_map(|(_, logged)| logged.plan.names()).collect();
        let wholes = wholes(&mut self.connection, &names).await?;
        let in_log = |(line, logged): (&LogLine, LoggedPlan)| {
            let mut plan = logged.plan.clone();
            plan.note_partitions(|name| wholes.get(name).map(String::as_str));
            PlanInLog { at: line.at, database: line.database.clone(), identity: plan.identity(), logged }
        };
        Ok(told.into_iter().map(in_log).collect())
    }

    /// Files of the log, the one written last at the end.
    async fn log_files(&mut self, format: Format) -> Result<Vec<File>, ReadProblem> {
        let rows = sqlx::query(
            "SELECT /* hurnix */ name, size FROM pg_ls_logdir() WHERE right(name, length($1)) = $1 ORDER BY modification, name",
        )
        .bind(format.ending())
        .fetch_all(&mut self.connection)
        .await?;
        Ok(rows.iter().map(|row| File { name: row.get("name"), size: row.get("size") }).collect())
    }

    async fn log_piece(&mut self, file: &str, offset: i64) -> Result<Vec<u8>, ReadProblem> {
        let sql = AssertSqlSafe(format!("SELECT /* hurnix */ public.{FUNCTION}($1, $2)"));
        let piece: Option<Vec<u8>> =
            sqlx::query_scalar(sql).bind(file).bind(offset).fetch_one(&mut self.connection).await?;
        Ok(piece.unwrap_or_default())
    }

    /// Lines with their moments: the server itself turns its local times into moments.
    async fn dated(&mut self, found: Vec<Stamped>) -> Result<Vec<LogLine>, ReadProblem> {
        let local: Vec<&str> = found.iter().map(|line| line.written.as_str()).collect();
        if local.is_empty() {
            return Ok(Vec::new());
        }
        let moments: Vec<i64> = sqlx::query_scalar(
            "SELECT /* hurnix */ (extract(epoch FROM written::timestamp AT TIME ZONE current_setting('log_timezone')) * 1000000)::bigint
             FROM unnest($1::text[]) WITH ORDINALITY AS line(written, n) ORDER BY n",
        )
        .bind(&local)
        .fetch_all(&mut self.connection)
        .await?;
        Ok(found
            .into_iter()
            .zip(moments)
            .map(|(found, moment)| LogLine { at: Timestamp(moment), ..found.line })
            .collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn files(sizes: &[i64]) -> Vec<File> {
        sizes.iter().enumerate().map(|(n, size)| File { name: format!("{n}.json"), size: *size }).collect()
    }

    fn from(file: usize, offset: i64) -> LogPosition {
        LogPosition { file: format!("{file}.json"), offset }
    }

    #[test]
    fn reading_goes_on_where_it_ended_also_in_a_file_that_is_no_longer_written() {
        let files = files(&[100, 50]);
        assert_eq!(start(&files, Some(&from(0, 30))), (Place { file: 0, offset: 30 }, 0));
        assert_eq!(start(&files, Some(&from(1, 50))), (Place { file: 1, offset: 50 }, 0));
        // Begun anew, and gone.
        assert_eq!(start(&files, Some(&from(1, 60))), (Place { file: 1, offset: 0 }, 0));
        assert_eq!(start(&files, Some(&from(7, 60))), (Place { file: 0, offset: 0 }, 0));
    }

    #[test]
    fn a_log_that_was_never_read_is_read_from_near_its_end() {
        assert_eq!(start(&files(&[100, 50]), None), (Place { file: 0, offset: 0 }, 0));
        let place = Place { file: 1, offset: 5 };
        assert_eq!(start(&files(&[MOST_BEHIND * 3, MOST_AT_ONCE + 5]), None), (place, 0));
    }

    #[test]
    fn what_is_passed_over_is_told() {
        let files = files(&[MOST_BEHIND, MOST_AT_ONCE - 10]);
        let (place, passed) = start(&files, Some(&from(0, 100)));
        assert_eq!((place.file, passed), (0, MOST_BEHIND - 110));
        assert_eq!(left(&files, place), MOST_AT_ONCE);
        assert_eq!(start(&files, Some(&from(0, MOST_AT_ONCE))).1, 0);
    }
}
