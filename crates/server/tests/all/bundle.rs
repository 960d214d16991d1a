//! Bundles against real repositories: nothing is lost, doubled or mixed up.

use std::collections::BTreeMap;
use std::process::Command;
use std::sync::LazyLock;

use crate::common::{Hurnix, wait_until};
use anyhow::{Context, Result};
use chrono::{DateTime, TimeDelta, Utc};
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::Retention;
use hurnix_core::readings::counters_read::KeySort;
use hurnix_core::readings::figures::{Figures, Shape};
use hurnix_core::readings::server_log::LogKind;
use hurnix_core::{Named, Timestamp, WaitKind, Window};
use hurnix_server::{Imported, export, import};
use hurnix_source::bundle::*;
use hurnix_store::Store;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestCaseError, TestRunner};
use serde_json::Value as Json;

struct Repository {
    store: Store,
    _cluster: Cluster,
}

impl Repository {
    async fn new() -> Result<Repository> {
        let cluster = Cluster::temporary(Setup::default())?;
        cluster.ensure_database("hurnix").await?;
        let store = Store::open(&cluster.url("hurnix"), Retention::default()).await?;
        Ok(Repository { store, _cluster: cluster })
    }

    async fn import(&self, label: &str, lines: &[Line]) -> Result<Imported> {
        import(&self.store, Some(label), Box::new(std::io::Cursor::new(text(lines)))).await
    }

    async fn export(&self, label: &str, window: Window) -> Result<Vec<Line>> {
        let instances = self.store.instances().await?;
        let instance = instances.iter().find(|instance| instance.label == label).context("it was made")?;
        let mut out = Vec::new();
        export(&self.store, instance, window, &mut out).await?;
        read(out.as_slice()).map(|line| Ok(line??)).collect()
    }
}

fn text(lines: &[Line]) -> Vec<u8> {
    let mut bytes = Vec::new();
    lines.iter().for_each(|line| write(line, &mut bytes).unwrap());
    bytes
}

/// Lines without the head, by what they say and not by what a bundle calls its families; how often each occurs.
fn content(lines: &[Line]) -> BTreeMap<String, usize> {
    let mut texts: BTreeMap<String, String> = BTreeMap::new();
    let mut found = BTreeMap::new();
    for line in lines {
        let mut value = serde_json::to_value(line).unwrap();
        match line {
            Line::Bundle(_) => continue,
            Line::Family(family) => {
                texts.insert(family.family.clone(), family.text.clone());
                value["family"] = "".into();
            }
            _ => rename(&mut value, &texts),
        }
        *found.entry(value.to_string()).or_default() += 1;
    }
    found
}

fn rename(value: &mut Json, texts: &BTreeMap<String, String>) {
    match value {
        Json::Object(fields) => {
            for (name, field) in fields.iter_mut() {
                match field {
                    Json::String(key) if name == "family" => *field = texts[key].clone().into(),
                    other => rename(other, texts),
                }
            }
        }
        Json::Array(items) => items.iter_mut().for_each(|item| rename(item, texts)),
        _ => {}
    }
}

/// An hour that is kept as read, one of which ten minutes are kept, and one of which hours are; the same for the whole
/// run.
fn hours() -> [DateTime<Utc>; 3] {
    static NOW: LazyLock<DateTime<Utc>> = LazyLock::new(Utc::now);
    let hour = |days: i64| {
        let at = *NOW - TimeDelta::days(days);
        DateTime::from_timestamp(at.timestamp() / 3600 * 3600, 0).unwrap()
    };
    [hour(2), hour(20), hour(40)]
}

const LEVELS: [Detail; 3] = [Detail::Fine, Detail::TenMinutes, Detail::Hour];

fn word() -> impl Strategy<Value = String> {
    prop_oneof![Just(String::new()), "[a-z]{1,6}", Just("läden \"\u{202e}; DROP\n".to_owned())]
}

fn who() -> impl Strategy<Value = Who> {
    (word(), word(), word(), word()).prop_map(|(account, program, client, database)| Who {
        account,
        program,
        client,
        database,
    })
}

fn wait_kind() -> impl Strategy<Value = WaitKind> {
    proptest::sample::select(WaitKind::ALL.to_vec())
}

/// Figures of a row: a few of the names, each with some number.
fn figures(counted: Figures) -> impl Strategy<Value = BTreeMap<String, i64>> {
    let names: Vec<String> = counted.counter_names().iter().map(|name| (*name).to_owned()).collect();
    proptest::collection::btree_map(proptest::sample::select(names), 1..i64::MAX / 1000, 0..5)
}

fn rows(counted: Figures) -> impl Strategy<Value = Vec<Row>> {
    let object = match counted.key_sort().unwrap() {
        KeySort::Statement => (0..3usize, word(), word())
            .prop_map(|(family, account, database)| Row {
                family: Some(family.to_string()),
                account: Some(account),
                database: Some(database),
                ..Row::default()
            })
            .boxed(),
        KeySort::Number => (0..9u32).prop_map(|number| Row { number: Some(number), ..Row::default() }).boxed(),
        KeySort::Name => word().prop_map(|name| Row { name: Some(name), ..Row::default() }).boxed(),
    };
    let row = (object, any::<bool>(), figures(counted));
    let row = row.prop_map(|(object, lower_bound, figures)| Row { lower_bound, figures, ..object });
    proptest::collection::vec(row, 0..4).prop_map(|mut rows| {
        // Each object once.
        let object =
            |row: &Row| (row.family.clone(), row.account.clone(), row.database.clone(), row.number, row.name.clone());
        rows.sort_by_key(object);
        rows.dedup_by_key(|row| object(row));
        rows
    })
}

/// Ends of periods of a level within its hour.
fn ends(level: usize) -> Vec<DateTime<Utc>> {
    let start = hours()[level];
    match LEVELS[level] {
        Detail::Fine => [1, 2, 5].map(|minute| start + TimeDelta::minutes(minute)).into(),
        Detail::TenMinutes => [10, 30].map(|minute| start + TimeDelta::minutes(minute)).into(),
        Detail::Hour => vec![start + TimeDelta::hours(1)],
        Detail::Day => unreachable!("no bundle holds days"),
    }
}

fn period(counted: Figures, level: usize, to: DateTime<Utc>) -> impl Strategy<Value = Line> {
    let detail = LEVELS[level];
    let start = hours()[level];
    (rows(counted), any::<bool>(), 1..500i64).prop_map(move |(rows, known, millis)| {
        let known = known || detail != Detail::Fine;
        let (from, reason) = if known { (Some(start), None) } else { (None, Some("gap".to_owned())) };
        let fine = detail == Detail::Fine;
        Line::Period(Period {
            counted,
            detail,
            to,
            from,
            reason,
            server_started_at: fine.then_some(start - TimeDelta::days(9)),
            reset_at: (fine && millis % 2 == 0).then_some(start - TimeDelta::milliseconds(millis)),
            read_ms: fine.then_some(millis as f32),
            seconds: (!fine).then_some(millis as f64),
            periods: (!fine).then_some(millis),
            rows: if known { rows } else { Vec::new() },
        })
    })
}

fn session() -> impl Strategy<Value = Session> {
    let lock = proptest::option::of(
        (word(), word(), word()).prop_map(|(mode, kind, object)| hurnix_core::readings::activity::AwaitedLock {
            mode,
            kind,
            object,
        }),
    );
    let family = proptest::option::of((0..3usize).prop_map(|family| family.to_string()));
    (proptest::option::of(wait_kind()), proptest::option::of(word()), family, who(), lock, any::<bool>()).prop_map(
        |(wait_kind, event, family, who, awaited, dated)| {
            let since = hours()[0] - TimeDelta::microseconds(77);
            Session {
                process: 0,
                started_at: since,
                wait_kind,
                event,
                family,
                who,
                transaction_started_at: dated.then_some(since),
                statement_started_at: dated.then_some(since),
                blocked_by: if dated { vec![5, 6] } else { vec![] },
                awaited,
            }
        },
    )
}

fn sample(at: DateTime<Utc>) -> impl Strategy<Value = Line> {
    (0..50i32, proptest::collection::vec(session(), 0..4)).prop_map(move |(sessions, mut active)| {
        active.iter_mut().zip(1..).for_each(|(session, process)| session.process = process);
        Line::Sample(Sample { at, sessions, active })
    })
}

fn load(level: usize, to: DateTime<Utc>) -> impl Strategy<Value = Line> {
    let family = proptest::option::of((0..3usize).prop_map(|family| family.to_string()));
    let awaited_table = proptest::option::of(word());
    let row = (wait_kind(), proptest::option::of(word()), family, who(), awaited_table, 1..99i64).prop_map(
        |(wait_kind, event, family, who, awaited_table, busy)| Busy {
            wait_kind,
            event,
            family,
            who,
            awaited_table,
            busy,
        },
    );
    (1..99i64, 0..99i64, proptest::collection::vec(row, 0..4)).prop_map(move |(samples, sessions, mut rows)| {
        // The order in which they are kept is not theirs; one of each kind keeps it simple.
        rows.sort_by_key(|row| row.wait_kind);
        rows.dedup_by_key(|row| row.wait_kind);
        Line::Load(Load { detail: LEVELS[level], to, samples, sessions, rows })
    })
}

fn measures(level: usize, to: DateTime<Utc>) -> impl Strategy<Value = Line> {
    let detail = LEVELS[level];
    (word(), any::<i32>(), 1..99i64).prop_map(move |(object, value, readings)| {
        let fine = detail == Detail::Fine;
        let value = |metric: &str, object: String| Value {
            metric: metric.into(),
            object,
            value: f64::from(value) / 8.0,
            readings: (!fine).then_some(readings),
            least: (!fine).then_some(-1.5),
            most: (!fine).then_some(1e300),
        };
        let values = vec![value("cpu_used", object), value("cpus", String::new())];
        Line::Measures(Measures { figures: Figures::Host, detail, to, values })
    })
}

/// An entry of a log that is masked already; each of a session of its own.
fn log_entry(at: DateTime<Utc>) -> impl Strategy<Value = Line> {
    let family = proptest::option::of((0..3usize).prop_map(|family| family.to_string()));
    (proptest::sample::select(LogKind::all().collect::<Vec<_>>()), word(), family, who(), 1..99i64).prop_map(
        move |(kind, message, family, who, times)| {
            Line::Log(LogEntry {
                at,
                kind,
                severity: "LOG".into(),
                state: "42P01".into(),
                message,
                detail: String::new(),
                family,
                statement: None,
                who,
                process: 7,
                session: "69240f60.1267".into(),
                number: 3,
                times,
                value: (times > 50).then_some(0.25),
            })
        },
    )
}

fn bundle() -> impl Strategy<Value = Vec<Line>> {
    let mut lines: Vec<BoxedStrategy<Line>> = Vec::new();
    for level in 0..LEVELS.len() {
        for to in ends(level) {
            lines.extend(Figures::of_shape(Shape::Counters).map(|counted| period(counted, level, to).boxed()));
            lines.push(if level == 0 { sample(to).boxed() } else { load(level, to).boxed() });
            lines.push(measures(level, to).boxed());
            lines.push(log_entry(to).boxed());
        }
    }
    let [recent, _, old] = hours();
    lines.push(
        word()
            .prop_map(move |value| {
                let value = (!value.is_empty()).then_some(value);
                Line::Setting(Setting {
                    seen_at: recent,
                    name: "work_mem".into(),
                    value,
                    unit: None,
                    source: "default".into(),
                    pending_restart: true,
                })
            })
            .boxed(),
    );
    lines.push(
        word()
            .prop_map(move |text| {
                Line::Marker(Marker {
                    at: old + TimeDelta::microseconds(1),
                    kind: hurnix_core::instance::marker::MarkerKind::Noted,
                    text,
                    noted_by: Some("harbourmaster".into()),
                })
            })
            .boxed(),
    );
    lines.push(
        Just(Line::Plan(Plan {
            family: "1".into(),
            first_read_at: old,
            read_at: recent,
            text: Some("Seq Scan on deck  (cost=0.00..1.00 rows=1 width=4)".into()),
            absent: None,
            database: Some("freight".into()),
        }))
        .boxed(),
    );
    lines.prop_map(|figures| {
        let [recent, _, old] = hours();
        let head = Head {
            version: 1,
            instance: "freight".into(),
            engine: "postgres".into(),
            from: old,
            to: recent + TimeDelta::hours(1),
        };
        let family = |n: usize| Family {
            family: n.to_string(),
            text: format!("select col_{n} from deck where deck_id = ?"),
            tag: (n == 1).then(|| "/* deck plan */".to_owned()),
            sample: (n == 2).then(|| "SELECT col_2 FROM deck WHERE deck_id = $1".to_owned()),
        };
        let mut lines = vec![Line::Bundle(head)];
        lines.extend((0..3).map(|n| Line::Family(family(n))));
        lines.extend(figures);
        lines
    })
}

fn whole() -> Window {
    let [recent, _, old] = hours();
    let at = |time: DateTime<Utc>| Timestamp(time.timestamp_micros());
    Window { from: at(old), to: at(recent + TimeDelta::hours(1)) }
}

#[test]
fn a_round_trip_loses_nothing_and_a_second_one_changes_nothing() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let repository = runtime.block_on(Repository::new()).unwrap();
    let number = std::cell::Cell::new(0);
    let mut runner = TestRunner::new(Config { cases: 16, max_shrink_iters: 60, ..Config::default() });
    runner
        .run(&bundle(), |lines| {
            number.set(number.get() + 1);
            let label = format!("freight-{}", number.get());
            let found = runtime.block_on(async {
                let imported = repository.import(&label, &lines).await?;
                anyhow::ensure!(imported.bad_lines == 0 && imported.lines == lines.len() as u64, "{imported:?}");
                let exported = repository.export(&label, whole()).await?;
                let again = repository.import(&label, &exported).await?;
                anyhow::Ok((exported, again))
            });
            let (exported, again) = found.map_err(|error| TestCaseError::fail(format!("{error:#}")))?;
            prop_assert_eq!(content(&exported), content(&lines));
            // All but head and families, which are not counted.
            prop_assert_eq!(again.known, lines.len() as u64 - 4);
            prop_assert_eq!(again.bad_lines, 0);
            Ok(())
        })
        .unwrap();
}

fn text_of_head(to: &str) -> String {
    format!(
        r#"{{"line":"bundle","version":1,"instance":"freight","engine":"other","from":"2020-01-01T00:00:00Z","to":"{to}"}}"#
    )
}

#[tokio::test]
async fn bad_lines_are_told_and_the_others_taken() -> Result<()> {
    let repository = Repository::new().await?;
    let at = hours()[0].to_rfc3339();
    let text = format!(
        r#"{{"line":"bundle","version":1,"instance":"freight","engine":"other","from":"2020-01-01T00:00:00Z","to":"{at}"}}
{{"line":"sample","at":"{at}","sessions":3,"active":[{{"process":1,"started_at":"{at}","family":"nowhere","who":{{"account":"","program":"","client":"","database":""}}}}]}}
garbage
{{"line":"sample","at":"{at}","sessions":4}}
{{"line":"bundle","version":1,"instance":"crew","engine":"other","from":"2020-01-01T00:00:00Z","to":"{at}"}}
"#
    );
    let imported = import(&repository.store, None, Box::new(std::io::Cursor::new(text.into_bytes()))).await?;
    assert_eq!((imported.instance.as_str(), imported.lines, imported.known, imported.bad_lines), ("freight", 2, 0, 3));
    let told: Vec<String> = imported.bad.iter().map(ToString::to_string).collect();
    assert!(told[0].starts_with("line 2: active[0].family: there was no family \"nowhere\""), "{told:?}");
    assert!(told[1].starts_with("line 3: the line: expected value"), "{told:?}");
    assert!(told[2].starts_with("line 5: line: there is a head already"), "{told:?}");

    // Moments that nothing can have, each a bad line that costs no other.
    let mut lines = vec![text_of_head(&at)];
    let impossible = ["9999-12-31T23:59:59Z", "0001-01-01T00:00:00Z", "3000-01-01T00:00:00Z", "+10000-01-01T00:00:00Z"];
    lines.extend(impossible.iter().map(|at| format!(r#"{{"line":"sample","at":"{at}","sessions":3}}"#)));
    lines.push(format!(
        r#"{{"line":"setting","seen_at":"{}","name":"a","source":"b","pending_restart":false}}"#,
        impossible[1]
    ));
    lines.push(format!(r#"{{"line":"sample","at":"{}","sessions":4}}"#, hours()[1].to_rfc3339()));
    let text = lines.join("\n").into_bytes();
    let imported = import(&repository.store, None, Box::new(std::io::Cursor::new(text))).await?;
    assert_eq!((imported.lines, imported.bad_lines), (2, 5), "{:?}", imported.bad);
    let told = imported.bad[0].to_string();
    assert!(told.contains("line 2: at: ") && told.contains("lies before 1970 or in the future"), "{told}");

    // Millions of bad lines are not read to their end.
    let many = format!("{}\n{}", text_of_head(&at), "garbage\n".repeat(200_000));
    let imported = import(&repository.store, None, Box::new(std::io::Cursor::new(many.into_bytes()))).await?;
    assert_eq!((imported.bad_lines, imported.stopped_at), (10_000, Some(10_001)));
    assert!(imported.summary().contains("nothing was read after line 10001"), "{}", imported.summary());

    let headless = import(&repository.store, None, Box::new(std::io::Cursor::new(b"{}\n".to_vec()))).await;
    assert!(headless.unwrap_err().to_string().contains("no line that says what it is of"));
    Ok(())
}

#[tokio::test]
async fn files_go_out_and_come_in_by_command_and_by_the_inbox() -> Result<()> {
    let folder = tempfile::tempdir()?;
    let inbox = folder.path().join("inbox");
    let hurnix = Hurnix::start_with(&[&format!("--inbox={}", inbox.display())]).await?;
    let repository = hurnix.repository.url("hurnix");
    let at = hours()[0];
    let head = Head {
        version: 1,
        instance: "old season".into(),
        engine: "other".into(),
        from: at - TimeDelta::hours(1),
        to: at,
    };
    let lines = [Line::Bundle(head), Line::Sample(Sample { at, sessions: 7, active: vec![] })];
    std::fs::write(inbox.join("season.ndjson"), text(&lines))?;
    wait_until("the bundle is brought in", async || Ok(inbox.join("done/season.ndjson").exists())).await?;
    let report = std::fs::read_to_string(inbox.join("done/season.ndjson.report"))?;
    assert!(report.starts_with("old season: 2 lines imported, 0 were there already, 0 bad"), "{report}");
    let instances = hurnix.get("instances").await?;
    assert_eq!((&instances[0]["label"], &instances[0]["engine"]), (&"old season".into(), &"bundle".into()));

    let file = folder.path().join("season.ndjson.gz");
    let run = |arguments: &[&str]| {
        Command::new(env!("CARGO_BIN_EXE_hurnix")).args(arguments).env("HURNIX_REPOSITORY", &repository).output()
    };
    let exported = run(&["export", "old season", file.to_str().unwrap()])?;
    assert!(exported.status.success(), "{exported:?}");
    assert_eq!(std::fs::read(&file)?[..2], [0x1f, 0x8b], "compressed, as its name says");
    let twice = run(&["export", "old season", file.to_str().unwrap()])?;
    assert!(!twice.status.success(), "no file is written over");
    let imported = run(&["import", file.to_str().unwrap(), "--as", "season copy"])?;
    let said = String::from_utf8(imported.stdout)?;
    assert!(imported.status.success() && said.contains("season copy: 2 lines imported"), "{said}");
    let unknown = run(&["export", "nowhere", "x.ndjson"])?;
    assert!(String::from_utf8(unknown.stderr)?.contains("there are: old season, season copy"));
    Ok(())
}
