//! What a first look, a database and an action rest on, against a real PostgreSQL.

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::access::role::Role;
use hurnix_core::changes::action::{Action, ActionState, SessionMeant};
use hurnix_core::changes::maintenance_window::WeeklyWindow;
use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::{Days, Retention, RetentionGroup};
use hurnix_core::readings::activity::Session;
use hurnix_core::readings::counters::DatabaseCounters;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::inventory::{Account, Database, Inventory, PasswordKept};
use hurnix_core::readings::metric::Metric;
use hurnix_core::readings::server_log::{LogKind, LogLine};
use hurnix_core::{Timestamp, WaitKind, Window};
use hurnix_store::*;

/// The edge of a day.
const START: i64 = 1_771_977_600;

fn second(second: i64) -> Timestamp {
    Timestamp((START + second) * 1_000_000)
}

fn window(from: i64, to: i64) -> Window {
    Window::new(second(from), second(to)).unwrap()
}

struct Repository {
    store: Store,
    _cluster: Cluster,
    instance: i32,
}

async fn repository() -> Result<Repository> {
    let cluster = Cluster::temporary(Setup::default())?;
    cluster.ensure_database("hurnix").await?;
    let days = Days { fine: 2, ten_minutes: 14, hour: 100 };
    let store = Store::open(&cluster.url("hurnix"), Retention::of_all(days)).await?;
    let new = NewInstance { label: "passage-a".into(), host: "h".into(), port: 5432, ..NewInstance::default() };
    let instance = store.add_instance(&new).await?;
    Ok(Repository { store, _cluster: cluster, instance })
}

impl Repository {
    async fn pieces(&self, group: RetentionGroup, window: Window, coarsest: Detail) -> Result<Pieces> {
        Ok(self.store.pieces(self.instance, &[group], window, coarsest, window.to).await?)
    }

    async fn name(&self, name: &str) -> Result<i32> {
        Ok(self.store.names(self.instance, &[name.to_owned()], second(0)).await?[name])
    }
}

fn work(commits: i64) -> DatabaseCounters {
    DatabaseCounters { commits, hit_pages: commits * 10, ..DatabaseCounters::default() }
}

#[tokio::test]
async fn the_work_of_a_database_adds_up_whatever_the_level() -> Result<()> {
    let repository = repository().await?;
    // Two hours of minutes: database 7 commits as often as the minute says, database 8 once in each.
    for minute in 1..=120 {
        let rows =
            [(7u32, work(minute)), (8u32, work(1))].map(|(object, by)| PeriodRow { object, by, lower_bound: false });
        let written = WrittenSnapshot {
            taken_at: second(minute * 60),
            read_ms: 1.0,
            server_started_at: second(-1000),
            reset_at: None,
            period: Ok(Period { from: second((minute - 1) * 60), rows: &rows }),
            as_read: &minute,
        };
        assert!(repository.store.write_snapshot::<DatabaseCounters, _>(repository.instance, &written).await?);
    }
    let whole = window(0, 7200);
    let sum: i64 = (1..=120).sum();
    for round in ["as read", "summed up"] {
        let pieces = repository.pieces(RetentionGroup::Databases, whole, Detail::Hour).await?;
        let sums = repository.store.database_sums(repository.instance, &pieces).await?;
        assert_eq!((sums.databases[&7].commits, sums.databases[&7].hit_pages), (sum, sum * 10), "{round}");
        assert_eq!((sums.databases[&8].commits, sums.seconds), (120, 7200.0), "{round}");
        let cells = repository.store.database_cells(repository.instance, Some(7), &pieces, 3600).await?;
        let commits: Vec<i64> = cells.iter().map(|(_, _, counters)| counters.commits).collect();
        assert_eq!(commits, [(1..=60).sum::<i64>(), (61..=120).sum::<i64>()], "{round}");
        assert_eq!(cells[0].0, second(0));
        repository.store.roll_up(second(7200)).await?;
    }
    let none = repository.pieces(RetentionGroup::Databases, window(-7200, -3600), Detail::Fine).await?;
    let sums = repository.store.database_sums(repository.instance, &none).await?;
    assert_eq!(sums, DatabaseSums::default());
    Ok(())
}

fn session(process: i32, blocked_by: &[i32]) -> Session {
    Session {
        process,
        started_at: second(-50),
        wait_kind: Some(WaitKind::Lock),
        event: Some("Lock:tuple".into()),
        text: "update crossing".into(),
        account: "skerry_gate".into(),
        program: "gate scanner".into(),
        database: "passage".into(),
        transaction_started_at: Some(second(-10)),
        statement_started_at: Some(second(-9)),
        blocked_by: blocked_by.to_vec(),
        ..Session::default()
    }
}

#[tokio::test]
async fn the_newest_look_tells_who_was_there_and_an_old_one_nobody() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let [event, account, program, client, database] = [
        repository.name("Lock:tuple").await?,
        repository.name("skerry_gate").await?,
        repository.name("gate scanner").await?,
        repository.name("").await?,
        repository.name("passage").await?,
    ];
    let (gone, there) = (session(1, &[]), session(2, &[1]));
    let row = |session| ActivityRow {
        session,
        event_id: Some(event),
        family_id: None,
        account_id: account,
        program_id: program,
        client_id: client,
        database_id: database,
        awaited: None,
    };
    store.write_activity(id, &[(second(1), 9, vec![row(&gone)]), (second(2), 9, vec![row(&there)])]).await?;
    let since = |from| Window { from: second(from), to: second(1000) };
    let seen = store.newest_look(id, since(0)).await?;
    assert_eq!(seen.iter().map(|seen| seen.process).collect::<Vec<_>>(), [2]);
    assert_eq!(
        (seen[0].account.as_str(), seen[0].event.as_deref(), &seen[0].family),
        ("skerry_gate", Some("Lock:tuple"), &None)
    );
    assert_eq!((seen[0].blocked_by.as_slice(), seen[0].process_started_at), ([1].as_slice(), second(-50)));
    assert_eq!(store.newest_look(id, since(2)).await?, [], "too long ago");
    let earlier = store.newest_look(id, Window { from: second(0), to: second(1) }).await?;
    assert_eq!(earlier.iter().map(|seen| seen.process).collect::<Vec<_>>(), [1], "the last one in the window");
    // A look that saw nobody is the newest, too.
    store.write_activity(id, &[(second(3), 9, vec![])]).await?;
    assert_eq!(store.newest_look(id, since(0)).await?, []);
    Ok(())
}

#[tokio::test]
async fn of_two_who_decide_at_once_one_does_and_two_administrators_stay() -> Result<()> {
    let repository = repository().await?;
    let store = &repository.store;
    let session = SessionMeant { process: 7, started_at: second(0), account: "a".into(), program: "p".into() };
    let new = |waits, reason: &str| NewAction {
        instance: Some((repository.instance, "passage-a".into())),
        action: Action::EndSession(session.clone()),
        statement: Some("SELECT 1".into()),
        reason: reason.into(),
        proposed_by: "mate".into(),
        waits,
    };
    let proposed = store.add_action(&new(true, "first")).await?;
    assert_eq!((proposed.state, &proposed.action), (ActionState::Proposed, &Action::EndSession(session.clone())));
    let alone = store.add_action(&new(false, "second")).await?;
    assert_eq!(alone.state, ActionState::Approved);
    let decide = |state, who: &'static str| store.decide_action(proposed.action_id, state, who);
    let (approved, refused) =
        tokio::join!(decide(ActionState::Approved, "pilot"), decide(ActionState::Refused, "bosun"));
    assert!(approved? ^ refused?, "one of them decides");

    // Of two who begin at once one does; it is stopped by whoever asked first, while it runs only.
    assert!(!store.ask_to_stop(alone.action_id, "pilot").await?, "it does not run yet");
    let (first, second) = tokio::join!(store.begin_action(alone.action_id), store.begin_action(alone.action_id));
    let begun = [first?, second?].into_iter().flatten().collect::<Vec<_>>();
    assert!(begun.len() == 1 && begun[0].state == ActionState::Running && begun[0].alive_at.is_some(), "{begun:?}");
    assert_eq!(store.note_progress(alone.action_id, Some((Some(0.25), "acquiring sample rows"))).await?, None);
    assert!(store.ask_to_stop(alone.action_id, "pilot").await? && store.ask_to_stop(alone.action_id, "mate").await?);
    assert_eq!(store.note_progress(alone.action_id, None).await?.as_deref(), Some("pilot"));
    let ended = store.end_action(alone.action_id, ActionState::Done, "The server did it.").await?;
    assert_eq!((ended.share, ended.phase.as_deref()), (Some(0.25), Some("acquiring sample rows")));
    assert!(ended.ended_at >= ended.started_at && !store.ask_to_stop(alone.action_id, "mate").await?);
    let waiting = store.add_action(&new(true, "third")).await?;
    let (page, matching) = store.actions(None, false, 0, 2).await?;
    assert_eq!((page[0].action_id, page[1].reason.as_str(), matching), (waiting.action_id, "second", 3));
    let (page, _) = store.actions(Some(ActionOrder::ProposedAt), true, 0, 1).await?;
    assert_eq!(page[0].action_id, proposed.action_id, "the oldest first");
    assert_eq!(store.action(alone.action_id).await?.unwrap().outcome.as_deref(), Some("The server did it."));

    let account =
        |name| NewAccount { name, role: Role::Administrator, password_hash: "h", one_time: false, groups: &[] };
    store.add_account(&account("mate")).await?;
    let pilot = store.add_account(&account("pilot")).await?;
    assert!(!store.second_person().await?);
    store.set_second_person(true).await?;
    assert!(matches!(store.remove_account(pilot).await, Err(StoreProblem::SecondPerson)));
    assert!(matches!(store.change_account(pilot, Role::Reader, &[]).await, Err(StoreProblem::SecondPerson)));
    store.set_second_person(false).await?;
    assert!(store.remove_account(pilot).await?);
    Ok(())
}

#[tokio::test]
async fn growth_is_told_by_day_and_object() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let (data, log) = (repository.name("/data").await?, repository.name("/log").await?);
    let day = 86_400;
    for hour in 1..=48 {
        let free = 1000.0 - f64::from(hour);
        let row = |object_id, value| MeasureRow { metric: Metric::VolumeFree, object_id, value };
        let rows = [row(data, free), row(log, 5.0)];
        store.write_measures(id, Figures::Host, second(i64::from(hour) * 3600), &rows).await?;
    }
    for round in ["as read", "summed up"] {
        let pieces = repository.pieces(RetentionGroup::Measures, window(0, 2 * day), Detail::Hour).await?;
        let days = store.metric_days(id, Metric::VolumeFree, &pieces, "UTC").await?;
        let mean = |from: i32| (from..from + 24).map(|hour| 1000.0 - f64::from(hour)).sum::<f64>() / 24.0;
        assert_eq!(days["/data"], [(second(0), mean(1)), (second(day), mean(25))], "{round}");
        assert_eq!(days["/log"], [(second(0), 5.0), (second(day), 5.0)], "{round}");
        // Where the clock is an hour ahead, the day begins an hour earlier.
        let days = store.metric_days(id, Metric::VolumeFree, &pieces, "Etc/GMT-1").await?;
        let begins: Vec<Timestamp> = days["/data"].iter().map(|(begin, _)| *begin).collect();
        assert_eq!(begins, [second(-3600), second(day - 3600), second(2 * day - 3600)], "{round}");
        store.roll_up(second(2 * day)).await?;
    }
    Ok(())
}

#[tokio::test]
async fn what_was_told_last_is_found_however_much_was_told_since() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let marker = |at, kind, text: &str| Marker { at: second(at), kind, text: text.into() };
    store.note_marker(id, &marker(1, MarkerKind::Backup, "older"), "mate").await?;
    store.note_marker(id, &marker(2, MarkerKind::Backup, "newer"), "mate").await?;
    store.add_markers(id, &[marker(9, MarkerKind::Setting, "work_mem: 1 → 2")]).await?;
    assert_eq!(store.newest_marker(id, MarkerKind::Backup).await?.unwrap().text, "newer");
    assert_eq!(store.newest_marker(id, MarkerKind::RestoreTest).await?, None);

    let setting = |value: &str| SettingRow {
        name: "work_mem".into(),
        value: Some(value.into()),
        unit: Some("kB".into()),
        source: "configuration file".into(),
        pending_restart: false,
    };
    store.write_settings(id, second(1), &[setting("4096")]).await?;
    store.write_settings(id, second(2), &[setting("128")]).await?;
    assert_eq!(store.settings(id).await?, [setting("128")]);

    let inventory = Inventory {
        at: second(3),
        databases: vec![Database { oid: 7, name: "passage".into(), ..Database::default() }],
        accounts: vec![Account { name: "mate".into(), password: Some(PasswordKept::Scram), ..Account::default() }],
        ..Inventory::default()
    };
    assert_eq!(store.inventory(id).await?, None);
    store.write_inventory(id, &Inventory::default()).await?;
    store.write_inventory(id, &inventory).await?;
    assert_eq!(store.inventory(id).await?, Some(inventory));
    Ok(())
}

#[tokio::test]
async fn spills_are_summed_up_by_the_family_that_made_them() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let name = repository.name("").await?;
    let family = |text: &str| NewFamily {
        fingerprint: hurnix_core::readings::family::fold(text).fingerprint(),
        text: text.into(),
        tag: None,
        sample: text.into(),
        sample_is_the_servers: false,
    };
    let families = [family("select giant"), family("select small")];
    let numbers = store.families(id, &families, second(0)).await?;
    let line = |number: i64| LogLine { at: second(number), session: "s".into(), number, ..LogLine::default() };
    let lines: Vec<LogLine> = (1..=4).map(line).collect();
    let kinds = [
        (0, LogKind::TempFile, 100.0),
        (0, LogKind::TempFile, 50.0),
        (1, LogKind::TempFile, 20.0),
        (1, LogKind::LockWait, 900.0),
    ];
    let rows: Vec<LogRow> = lines
        .iter()
        .zip(kinds)
        .map(|(line, (family, kind, value))| LogRow {
            line,
            kind,
            times: 1,
            value: Some(value),
            names: [name; 4],
            family_id: Some(numbers[&families[family].fingerprint]),
            statement: None,
        })
        .collect();
    store.backfill_log(id, &rows).await?;
    let spills = store.log_families(id, window(0, 10), LogKind::TempFile, 10).await?;
    let told: Vec<(&str, f64)> = spills.iter().map(|(_, text, bytes)| (text.as_str(), *bytes)).collect();
    assert_eq!(told, [("select giant", 150.0), ("select small", 20.0)]);
    assert_eq!(store.log_families(id, window(1, 10), LogKind::TempFile, 1).await?[0].2, 50.0, "within the window");
    assert_eq!(store.oldest_log_entry(id).await?, Some(second(1)));
    Ok(())
}

#[tokio::test]
async fn windows_go_with_their_instance_and_stay_with_their_group() -> Result<()> {
    let repository = repository().await?;
    let (store, id) = (&repository.store, repository.instance);
    let window = |name: &str, of| MaintenanceWindow {
        window_id: 0,
        of,
        name: name.into(),
        weekly: WeeklyWindow { days: [true; 7], start_minute: 60, minutes: 90 },
        time_zone: "UTC".into(),
    };
    let own = window("own", WindowFor::Instance(id, "passage-a".into()));
    let own_id = store.write_maintenance_window(None, &own).await?.unwrap();
    store.write_maintenance_window(None, &window("sea", WindowFor::Group("sea".into()))).await?;
    let kept = store.maintenance_windows().await?;
    assert_eq!(kept[0], MaintenanceWindow { window_id: own_id, ..own.clone() });
    let later = MaintenanceWindow { weekly: WeeklyWindow { start_minute: 120, ..own.weekly }, ..own };
    assert_eq!(store.write_maintenance_window(Some(own_id), &later).await?, Some(own_id));
    assert_eq!(store.maintenance_windows().await?[0].weekly.start_minute, 120);
    assert_eq!(store.write_maintenance_window(Some(99), &later).await?, None);
    store.remove_instance(id).await?;
    let names: Vec<String> = store.maintenance_windows().await?.into_iter().map(|window| window.name).collect();
    assert_eq!(names, ["sea"]);
    Ok(())
}
