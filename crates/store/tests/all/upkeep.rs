//! Sums over ten minutes and hours, and partitions, against a real PostgreSQL.

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::{Days, Retention, RetentionGroup};
use hurnix_core::readings::activity::Session;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::load::Load;
use hurnix_core::readings::metric::Metric;
use hurnix_core::{Timestamp, WaitKind, Window};
use hurnix_store::*;
use sqlx::Executor;

/// The edge of a day.
const START: i64 = 1_771_977_600;
const HOUR: i64 = 3600;
const DAY: i64 = 24 * HOUR;
/// What most questions here are answered from.
const GROUPS: [RetentionGroup; 2] = [RetentionGroup::Statements, RetentionGroup::Activity];
/// Short, so that a test sees figures go.
const DAYS: Days = Days { fine: 2, ten_minutes: 14, hour: 100 };

fn second(second: i64) -> Timestamp {
    Timestamp((START + second) * 1_000_000)
}

fn window(from: i64, to: i64) -> Window {
    Window::new(second(from), second(to)).unwrap()
}

/// Figures that differ from minute to minute.
fn cost(minute: i64) -> StatementCounters {
    let calls = minute * 7919 % 101;
    StatementCounters { calls, exec_us: calls * 1_003, rows: minute, hit_pages: 3, ..Default::default() }
}

struct Repository {
    store: Store,
    cluster: Cluster,
    instance: i32,
    family: i64,
    name: i32,
}

/// A session that does something, or waits behind others.
fn session(process: i32, wait_kind: Option<WaitKind>, blocked_by: &[i32]) -> Session {
    Session { process, started_at: second(-100), wait_kind, blocked_by: blocked_by.to_vec(), ..Session::default() }
}

impl Repository {
    async fn new() -> Result<Repository> {
        let cluster = Cluster::temporary(Setup::default())?;
        cluster.ensure_database("hurnix").await?;
        let store = Store::open(&cluster.url("hurnix"), Retention::of_all(DAYS)).await?;
        let instance = store
            .add_instance(&NewInstance {
                label: "tides".into(),
                host: "127.0.0.1".into(),
                port: 5432,
                database_name: "tides".into(),
                account_name: "hurnix_watch".into(),
                secret_sealed: Vec::new(),
                tls_mode: "off".into(),
                ..NewInstance::default()
            })
            .await?;
        let family = NewFamily {
            fingerprint: 1,
            text: "insert into tide_reading values (?)".into(),
            tag: None,
            sample: String::new(),
            sample_is_the_servers: true,
        };
        let family = store.families(instance, &[family], second(0)).await?[&1];
        let name = store.names(instance, &["skerry_tides".into()], second(0)).await?["skerry_tides"];
        Ok(Repository { store, cluster, instance, family, name })
    }

    /// A snapshot every minute from one moment to another, and two looks at the sessions, one busy.
    async fn collect(&self, from_minute: i64, to_minute: i64) -> Result<()> {
        for minute in from_minute + 1..=to_minute {
            let object = StatementObject { family_id: self.family, account_id: self.name, database_id: self.name };
            let rows = [PeriodRow { object, by: cost(minute), lower_bound: minute == 95 }];
            let period = if minute == from_minute + 1 && from_minute > 0 {
                Err("gap")
            } else {
                Ok(Period { from: second((minute - 1) * 60), rows: &rows })
            };
            let snapshot = WrittenSnapshot {
                taken_at: second(minute * 60),
                read_ms: 1.0,
                server_started_at: second(-1000),
                reset_at: None,
                period,
                as_read: &(),
            };
            self.store.write_snapshot(self.instance, &snapshot).await?;
        }
        let looks = |minute: i64| [(minute * 60 - 30, Some(WaitKind::LogWrite)), (minute * 60, None)];
        self.look(&(from_minute + 1..=to_minute).flat_map(looks).collect::<Vec<_>>()).await
    }

    /// Looks at the sessions, each with one that was not idle: (second, what it waited for).
    async fn look(&self, looks: &[(i64, Option<WaitKind>)]) -> Result<()> {
        let looks: Vec<_> = looks.iter().map(|(at, wait_kind)| (*at, vec![session(1, *wait_kind, &[])])).collect();
        self.look_at(&looks).await
    }

    /// Looks at the sessions, each with those that were not idle.
    async fn look_at(&self, looks: &[(i64, Vec<Session>)]) -> Result<()> {
        let row = |session| ActivityRow {
            session,
            event_id: None,
            family_id: Some(self.family),
            account_id: self.name,
            program_id: self.name,
            client_id: self.name,
            database_id: self.name,
            awaited: Some([self.name; 3]),
        };
        let samples: Vec<_> =
            looks.iter().map(|(at, sessions)| (second(*at), 3, sessions.iter().map(row).collect())).collect();
        self.store.write_activity(self.instance, &samples).await?;
        Ok(())
    }

    async fn roll_up_all(&self, before: i64) -> Result<usize> {
        let mut buckets = 0;
        loop {
            match self.store.roll_up(second(before)).await? {
                0 => return Ok(buckets),
                some => buckets += some,
            }
        }
    }

    /// What answers sums over a window.
    async fn pieces(&self, window: Window, now: i64) -> Result<Pieces> {
        Ok(self.store.pieces(self.instance, &GROUPS, window, Detail::Day, second(now)).await?)
    }

    /// Calls, seconds observed, samples and busy sessions of a window, by way of levels up to `coarsest`.
    async fn figures(&self, window: Window, coarsest: Detail, now: i64) -> Result<(StatementCounters, f64, Load)> {
        let pieces = self.store.pieces(self.instance, &GROUPS, window, coarsest, second(now)).await?;
        let query = StatementQuery::costliest(10);
        let (rows, totals) = self.store.statements(self.instance, &pieces, &query).await?;
        assert_eq!(rows.iter().map(|row| row.counters.calls).sum::<i64>(), totals.counters.calls);
        let coverage = self.store.coverage(self.instance, &pieces).await?;
        let mut load = Load::default();
        for cell in self.store.load(self.instance, &pieces, 86_400, &[]).await? {
            load.join(&cell.load);
        }
        let parts = self.store.breakdown(self.instance, &pieces, Dimension::Family, &[], 10).await?.parts;
        assert_eq!(parts.iter().map(|part| part.load.busy_in_all()).sum::<i64>(), load.busy_in_all());
        let tables = self.store.breakdown(self.instance, &pieces, Dimension::AwaitedTable, &[], 10).await?.parts;
        let of_table = tables.iter().filter(|part| part.part == Some(i64::from(self.name)));
        assert_eq!(of_table.map(|part| part.load.busy_in_all()).sum::<i64>(), load.busy_in_all());
        Ok((totals.counters, coverage.seconds, load))
    }
}

#[tokio::test]
async fn sums_are_exact_whatever_the_level_and_made_once() -> Result<()> {
    let repository = Repository::new().await?;
    repository.collect(0, 250).await?;
    // The bucket that is still filling is left alone, and so is the day: 24 of ten minutes and 4 hours are complete.
    assert_eq!(repository.roll_up_all(250 * 60 - 60).await?, 24 + 4);
    assert_eq!(repository.roll_up_all(250 * 60 - 60).await?, 0, "nothing is due any more");
    for (from, to) in [(0, 250), (7, 183), (60, 180), (119, 121), (0, 240), (55, 249)] {
        let asked = window(from * 60, to * 60);
        let fine = repository.figures(asked, Detail::Fine, 250 * 60).await?;
        let expected = (from + 1..=to).fold(StatementCounters::default(), |sum, minute| sum.plus(&cost(minute)));
        assert_eq!((fine.0, fine.1), (expected, ((to - from) * 60) as f64), "{from} to {to}");
        for coarsest in [Detail::TenMinutes, Detail::Hour] {
            assert_eq!(repository.figures(asked, coarsest, 250 * 60).await?, fine, "{from} to {to}, {coarsest:?}");
        }
    }
    let mut admin = repository.cluster.connect("hurnix").await?;
    let bounds: Vec<bool> = sqlx::query_scalar("SELECT unnest(lower_bound) FROM statement_hour ORDER BY to_at")
        .fetch_all(&mut admin)
        .await?;
    assert_eq!(bounds, [false, true, false, false], "a lower bound makes a lower bound");
    Ok(())
}

#[tokio::test]
async fn days_are_summed_up_when_they_are_over_and_again_when_something_comes_late() -> Result<()> {
    let repository = Repository::new().await?;
    let minutes = 2 * DAY / 60 + 90;
    repository.collect(0, minutes).await?;
    let rolled = repository.roll_up_all(minutes * 60).await?;
    assert_eq!(rolled, 2 * 144 + 9 + 2 * 24 + 1 + 2, "two days of three");
    let told =
        async |from: i64, to: i64| repository.figures(window(from * 60, to * 60), Detail::Day, minutes * 60).await;
    for (from, to) in [(0, minutes), (0, 2880), (7, 2897), (1440, 2880), (1439, 2881)] {
        let expected = (from + 1..=to).fold(StatementCounters::default(), |sum, minute| sum.plus(&cost(minute)));
        let of_days = told(from, to).await?;
        assert_eq!((of_days.0, of_days.1), (expected, ((to - from) * 60) as f64), "{from} to {to}");
    }
    let pieces = repository.pieces(window(60, minutes * 60), minutes * 60).await?;
    let levels: Vec<Detail> = pieces.parts().into_iter().map(|(detail, _)| detail).collect();
    assert_eq!(
        levels,
        [Detail::Fine, Detail::TenMinutes, Detail::Hour, Detail::Day, Detail::Hour, Detail::TenMinutes],
        "each as coarse as it can be"
    );
    // Something of the first day comes late: until it is summed up anew, finer levels answer.
    let mut admin = repository.cluster.connect("hurnix").await?;
    admin
        .execute(
            "INSERT INTO roll_up_due (instance_id, detail, to_at)
             SELECT instance_id, 'ten_minutes', min(to_at) FROM statement_ten_minutes GROUP BY 1",
        )
        .await?;
    let before = told(0, minutes).await?;
    let pieces = repository.pieces(window(0, minutes * 60), minutes * 60).await?;
    assert!(pieces.coarsest() < Detail::Hour, "{pieces:?}");
    assert_eq!(repository.roll_up_all(minutes * 60).await?, 3, "ten minutes, their hour, their day");
    assert_eq!(told(0, minutes).await?, before);
    Ok(())
}

#[tokio::test]
async fn what_comes_late_is_summed_up_again_and_only_once() -> Result<()> {
    let repository = Repository::new().await?;
    repository.collect(0, 125).await?;
    repository.roll_up_all(2 * HOUR).await?;
    let before = repository.figures(window(0, 2 * HOUR), Detail::Hour, 125 * 60).await?;
    repository.look(&[(1815, Some(WaitKind::Lock))]).await?;
    let unsummed = repository.figures(window(0, 2 * HOUR), Detail::Hour, 125 * 60).await?;
    assert_eq!(unsummed.2.samples, before.2.samples + 1, "what is due again is read finely");
    assert_eq!(repository.roll_up_all(2 * HOUR).await?, 2, "one bucket of ten minutes, one hour");
    let after = repository.figures(window(0, 2 * HOUR), Detail::Hour, 125 * 60).await?;
    assert_eq!((after.0, after.1), (before.0, before.1));
    assert_eq!(after.2, unsummed.2);
    Ok(())
}

#[tokio::test]
async fn single_figures_keep_their_mean_and_their_ends_at_every_level() -> Result<()> {
    let repository = Repository::new().await?;
    let (store, instance) = (&repository.store, repository.instance);
    let object_id = repository.name;
    for minute in 1..=125 {
        let row = |metric, value| MeasureRow { metric, object_id, value };
        let rows = [row(Metric::ReplicaLag, (minute % 7) as f64), row(Metric::ReplicaLagBytes, 1e6)];
        for _ in 0..2 {
            // Once more, as after an answer that was lost.
            store.write_measures(instance, Figures::Replication, second(minute * 60), &rows).await?;
        }
    }
    let lag = async |coarsest| {
        let pieces = store
            .pieces(instance, &[RetentionGroup::Measures], window(0, 2 * HOUR), coarsest, second(125 * 60))
            .await?;
        store.metric_cells(instance, Metric::ReplicaLag, "skerry_tides", &pieces, HOUR).await
    };
    let fine = lag(Detail::Fine).await?;
    let expected: f64 = (1..=60).map(|minute| (minute % 7) as f64).sum::<f64>() / 60.0;
    assert_eq!((fine.len(), fine[0].at, fine[0].readings), (2, second(0), 60));
    assert_eq!((fine[0].mean, fine[0].least, fine[0].most), (expected, 0.0, 6.0));
    repository.roll_up_all(2 * HOUR).await?;
    assert_eq!(lag(Detail::TenMinutes).await?, fine);
    assert_eq!(lag(Detail::Hour).await?, fine);

    let newest = store.newest_measures(instance, second(0)).await?;
    let shown: Vec<(Metric, &str, f64)> =
        newest.iter().map(|newest| (newest.metric, newest.object.as_str(), newest.value)).collect();
    assert_eq!(
        shown,
        [(Metric::ReplicaLagBytes, "skerry_tides", 1e6), (Metric::ReplicaLag, "skerry_tides", (125 % 7) as f64)]
    );
    assert_eq!(store.newest_measures(instance, second(126 * 60)).await?, []);
    Ok(())
}

#[tokio::test]
async fn two_processes_sum_up_side_by_side_without_doubling() -> Result<()> {
    let repository = Repository::new().await?;
    repository.collect(0, 240).await?;
    let other = Store::open(&repository.cluster.url("hurnix"), Retention::of_all(DAYS)).await?;
    let both = tokio::join!(async { while repository.store.roll_up(second(4 * HOUR)).await.unwrap() > 0 {} }, async {
        while other.roll_up(second(4 * HOUR)).await.unwrap() > 0 {}
    });
    assert_eq!(both, ((), ()));
    repository.roll_up_all(4 * HOUR).await?;
    let asked = window(0, 4 * HOUR);
    assert_eq!(
        repository.figures(asked, Detail::Hour, 4 * HOUR).await?,
        repository.figures(asked, Detail::Fine, 4 * HOUR).await?
    );
    Ok(())
}

#[tokio::test]
async fn old_partitions_go_when_they_are_summed_up_and_the_sums_stay() -> Result<()> {
    let repository = Repository::new().await?;
    // Nobody made partitions for this time: they are made when the first rows come.
    repository.collect(0, 130).await?;
    let partitions = async || {
        let sql = "SELECT relname::text FROM pg_class WHERE relname LIKE 'statement\\_period\\_2%' AND relkind = 'r' ORDER BY 1 LIMIT 1";
        anyhow::Ok(
            sqlx::query_scalar::<_, String>(sql).fetch_one(&mut repository.cluster.connect("hurnix").await?).await?,
        )
    };
    assert_eq!(partitions().await?, "statement_period_20260225");
    let dropped = repository.store.keep_partitions(second(9 * DAY)).await?;
    assert!(!dropped.iter().any(|name| name == "statement_period_20260225"), "it is not summed up yet: {dropped:?}");
    repository.roll_up_all(9 * DAY).await?;
    let (first, _) = repository.store.retained(repository.instance).await?.unwrap();
    assert_eq!(first, second(30), "sums do not make a history look longer than it is");
    let whole = repository.figures(window(0, 130 * 60), Detail::Hour, 130 * 60).await?;
    let dropped = repository.store.keep_partitions(second(9 * DAY)).await?;
    assert!(dropped.iter().any(|name| name == "statement_period_20260225"), "{dropped:?}");
    assert_eq!(repository.store.keep_partitions(second(9 * DAY)).await?, [] as [String; 0]);

    // Minutes are gone, so a window widens to whole ten minutes, and says so.
    let asked = window(7 * 60, 125 * 60);
    let pieces = repository.store.pieces(repository.instance, &GROUPS, asked, Detail::Fine, second(9 * DAY)).await?;
    assert_eq!((pieces.coarsest(), pieces.window()), (Detail::TenMinutes, window(0, 130 * 60)));
    assert_eq!(repository.figures(asked, Detail::Fine, 9 * DAY).await?, whole);
    let (first, _) = repository.store.retained(repository.instance).await?.unwrap();
    assert_eq!(first, second(0));

    // Weeks later only hours are left.
    repository.store.keep_partitions(second(40 * DAY)).await?;
    let pieces = repository.store.pieces(repository.instance, &GROUPS, asked, Detail::Fine, second(40 * DAY)).await?;
    assert_eq!((pieces.coarsest(), pieces.window()), (Detail::Hour, window(0, 3 * HOUR)));
    assert_eq!(repository.figures(asked, Detail::Fine, 40 * DAY).await?, whole);
    // And some day nothing.
    repository.store.keep_partitions(second(200 * DAY)).await?;
    let forgotten = repository.store.forget_unused(second(100 * DAY)).await?;
    assert_eq!(forgotten, Forgotten::default(), "figures of its last day are still kept");
    let forgotten = repository.store.forget_unused(second(200 * DAY)).await?;
    assert_eq!(forgotten, Forgotten { texts: 1, names: 1 }, "they go with their last figures");
    assert_eq!(repository.store.retained(repository.instance).await?, None);
    let mut admin = repository.cluster.connect("hurnix").await?;
    admin.execute("SELECT FROM statement_hour").await?;
    Ok(())
}

#[tokio::test]
async fn hold_ups_are_kept_when_the_looks_that_told_of_them_are_gone() -> Result<()> {
    let repository = Repository::new().await?;
    // Five minutes across the edge of an hour, and one look of daily life later on.
    let is_held_up = |at: i64| (HOUR - 100..HOUR + 200).contains(&at) || at == 2 * HOUR - 300;
    let sessions = |at| {
        let holder = session(1, None, &[]);
        if is_held_up(at) { vec![holder, session(2, Some(WaitKind::Lock), &[1])] } else { vec![holder] }
    };
    let looks: Vec<_> = (0..=3 * HOUR).step_by(4).map(|at| (at, sessions(at))).collect();
    repository.look_at(&looks).await?;
    let day = window(0, DAY);
    let store = &repository.store;
    assert_eq!(store.kept_hold_ups(repository.instance, day).await?, []);
    repository.roll_up_all(3 * HOUR).await?;
    let kept = store.kept_hold_ups(repository.instance, day).await?;
    let [one] = kept.as_slice() else { anyhow::bail!("one of the two is worth keeping: {kept:?}") };
    assert_eq!((one.holder.process, one.from, one.to), (1, second(HOUR - 100), second(HOUR + 196)), "it is whole");
    assert!((one.lost_seconds - 300.0).abs() < 6.0, "{}", one.lost_seconds);

    // What comes late changes what is kept, and doubles nothing.
    repository.look_at(&[(HOUR + 202, vec![session(1, None, &[]), session(2, Some(WaitKind::Lock), &[1])])]).await?;
    repository.roll_up_all(3 * HOUR).await?;
    let again = store.kept_hold_ups(repository.instance, day).await?;
    assert_eq!(again.iter().map(|one| one.to).collect::<Vec<_>>(), [second(HOUR + 202)]);

    // The looks go; hours that are summed up again without them leave what they told.
    store.keep_partitions(second(9 * DAY)).await?;
    assert_eq!(store.first_look_kept(repository.instance).await?, None);
    let mut admin = repository.cluster.connect("hurnix").await?;
    let due =
        "INSERT INTO roll_up_due (instance_id, detail, to_at) SELECT DISTINCT instance_id, 'hour', to_at FROM hold_up";
    admin.execute(due).await?;
    repository.roll_up_all(9 * DAY).await?;
    assert_eq!(store.kept_hold_ups(repository.instance, day).await?, again);
    assert_eq!(store.kept_hold_ups(repository.instance, window(2 * HOUR, DAY)).await?, [], "it was over by then");
    store.keep_partitions(second(30 * DAY)).await?;
    assert_eq!(store.kept_hold_ups(repository.instance, day).await?, [], "they go with the sums of their time");
    Ok(())
}

#[tokio::test]
async fn figures_with_a_time_of_their_own_go_alone_and_leave_their_sums() -> Result<()> {
    let repository = Repository::new().await?;
    let own = Retention::of_all(DAYS).with(RetentionGroup::Statements, Days { fine: 1, ten_minutes: 4, hour: 300 });
    let store = Store::open(&repository.cluster.url("hurnix"), own).await?;
    repository.collect(0, 130).await?;
    repository.roll_up_all(9 * DAY).await?;
    let asked = window(0, 2 * HOUR);
    let whole = repository.figures(asked, Detail::Hour, 130 * 60).await?;
    let coarsest_kept = async |group, now| {
        anyhow::Ok(store.pieces(repository.instance, &[group], asked, Detail::Fine, second(now)).await?.coarsest())
    };

    // After two days the statements as read are gone, and the looks at sessions are not.
    store.keep_partitions(second(2 * DAY + HOUR)).await?;
    assert_eq!(coarsest_kept(RetentionGroup::Statements, 2 * DAY + HOUR).await?, Detail::TenMinutes);
    assert_eq!(coarsest_kept(RetentionGroup::Activity, 2 * DAY + HOUR).await?, Detail::Fine);
    let mut admin = repository.cluster.connect("hurnix").await?;
    let mut left = async |table: &str| {
        let sql = format!("SELECT count(*) FROM {table}");
        anyhow::Ok(sqlx::query_scalar::<_, i64>(sqlx::AssertSqlSafe(sql)).fetch_one(&mut admin).await?)
    };
    assert_eq!((left("statement_period").await?, left("activity_sample").await?), (0, 260));
    assert_eq!(left("snapshot").await?, 0, "nothing tells of readings whose figures are gone");
    // A late line cannot replace the sums of what is gone.
    let object =
        StatementObject { family_id: repository.family, account_id: repository.name, database_id: repository.name };
    let late = BackfilledSnapshot {
        taken_at: second(3000),
        read_ms: 1.0,
        server_started_at: second(-1000),
        reset_at: None,
        period: Ok((second(2990), vec![PeriodRow { object, by: cost(5), lower_bound: false }])),
    };
    assert_eq!(store.backfill_snapshots(repository.instance, &[late]).await?, 0);

    // A week later only their hours are left, and these outlast everything else.
    store.keep_partitions(second(12 * DAY)).await?;
    assert_eq!(coarsest_kept(RetentionGroup::Statements, 12 * DAY).await?, Detail::Hour);
    assert_eq!(coarsest_kept(RetentionGroup::Activity, 12 * DAY).await?, Detail::TenMinutes);
    store.keep_partitions(second(200 * DAY)).await?;
    assert_eq!((left("activity_hour").await?, left("statement_hour").await?), (0, 3));
    let pieces = store.pieces(repository.instance, &GROUPS, asked, Detail::Hour, second(200 * DAY)).await?;
    let sums = store.family_sums(repository.instance, &pieces, Some(repository.name)).await?;
    assert_eq!(sums[&repository.family], whole.0);
    assert_eq!(store.forget_unused(second(200 * DAY)).await?, Forgotten::default(), "texts stay with them");
    Ok(())
}

#[tokio::test]
async fn a_name_in_use_is_noted_with_the_hours_and_one_that_is_not_goes() -> Result<()> {
    let repository = Repository::new().await?;
    let unused = repository.store.names(repository.instance, &["a gangway".into()], second(0)).await?["a gangway"];
    // Learnt once, and referred to three days later without being learnt anew.
    repository.store.make_partitions(window(0, 4 * DAY)).await?;
    repository.collect(3 * DAY / 60, 3 * DAY / 60 + 70).await?;
    repository.roll_up_all(4 * DAY).await?;
    let day = i64::from(DAYS.hour) * DAY;
    let forgotten = repository.store.forget_unused(second(day + 4 * DAY)).await?;
    assert_eq!(forgotten, Forgotten { texts: 0, names: 1 });
    let names = repository.store.all_names(repository.instance).await?;
    assert!(names.contains_key(&repository.name) && !names.contains_key(&unused), "{names:?}");
    Ok(())
}

#[tokio::test]
async fn the_past_is_added_once_and_never_to_a_bucket_whose_figures_are_gone() -> Result<()> {
    let repository = Repository::new().await?;
    repository.collect(0, 130).await?;
    repository.roll_up_all(9 * DAY).await?;
    repository.store.keep_partitions(second(9 * DAY)).await?;
    let whole = repository.figures(window(0, 130 * 60), Detail::Hour, 9 * DAY).await?;
    let object =
        StatementObject { family_id: repository.family, account_id: repository.name, database_id: repository.name };
    let past = |second_of: i64| BackfilledSnapshot {
        taken_at: second(second_of),
        read_ms: 1.0,
        server_started_at: second(-1000),
        reset_at: None,
        period: Ok((second(second_of - 10), vec![PeriodRow { object, by: cost(5), lower_bound: false }])),
    };
    // The first lies in an hour that is summed up, and the second after all of that.
    let both = [past(3000), past(4 * HOUR)];
    assert_eq!(repository.store.backfill_snapshots(repository.instance, &both).await?, 1);
    assert_eq!(repository.store.backfill_snapshots(repository.instance, &both).await?, 0, "once");
    repository.roll_up_all(9 * DAY).await?;
    assert_eq!(repository.figures(window(0, 130 * 60), Detail::Hour, 9 * DAY).await?, whole);
    let later = repository.figures(window(3 * HOUR, 5 * HOUR), Detail::Hour, 9 * DAY).await?;
    assert_eq!(later.0.calls, cost(5).calls);

    let measures = |at: i64| BackfilledMeasures {
        figures: Figures::Standing,
        at: second(at),
        rows: vec![MeasureRow { metric: Metric::Connections, object_id: repository.name, value: 1.0 }],
    };
    assert_eq!(repository.store.backfill_measures(repository.instance, &[measures(60), measures(61)]).await?, 2);
    assert_eq!(repository.store.backfill_measures(repository.instance, &[measures(61)]).await?, 0, "once");
    Ok(())
}

#[tokio::test]
async fn a_past_that_comes_while_old_partitions_go_is_all_there_in_the_end() -> Result<()> {
    let repository = Repository::new().await?;
    let object =
        StatementObject { family_id: repository.family, account_id: repository.name, database_id: repository.name };
    // A snapshot every three hours, over four days of which nothing is kept as it was read.
    let past = |hour: i64| BackfilledSnapshot {
        taken_at: second(hour * HOUR),
        read_ms: 1.0,
        server_started_at: second(-1000),
        reset_at: None,
        period: Ok((second(hour * HOUR - 600), vec![PeriodRow { object, by: cost(1), lower_bound: false }])),
    };
    let other = Store::open(&repository.cluster.url("hurnix"), Retention::of_all(DAYS)).await?;
    let done = std::sync::atomic::AtomicBool::new(false);
    let relaxed = std::sync::atomic::Ordering::Relaxed;
    let (rounds, mut round) = tokio::sync::watch::channel(0);
    let writing = async {
        let mut new: anyhow::Result<usize> = Ok(0);
        for third in 1..=32 {
            let written = repository.store.backfill_snapshots(repository.instance, &[past(3 * third)]).await;
            new = new.and_then(|new| Ok(new + written?));
            // Whoever writes all the time lets nobody drop anything: now and then one round sums up what is there, and
            // the next drops it.
            if third % 4 == 0 {
                let now = *round.borrow();
                round.wait_for(|round| *round > now + 2).await?;
            }
        }
        done.store(true, relaxed);
        new
    };
    let keeping = async {
        let mut dropped = 0;
        while !done.load(relaxed) {
            dropped += other.keep_partitions(second(9 * DAY)).await?.len();
            while other.roll_up(second(9 * DAY)).await? > 0 {}
            rounds.send_modify(|round| *round += 1);
        }
        anyhow::Ok(dropped)
    };
    let (new, dropped) = tokio::join!(writing, keeping);
    assert!(dropped? > 0, "there was something to drop meanwhile");
    repository.roll_up_all(9 * DAY).await?;
    let pieces = repository
        .store
        .pieces(repository.instance, &[RetentionGroup::Statements], window(0, 4 * DAY), Detail::Hour, second(9 * DAY))
        .await?;
    let calls: i64 = repository
        .store
        .family_sums(repository.instance, &pieces, Some(repository.name))
        .await?
        .values()
        .map(|sum| sum.calls)
        .sum();
    assert_eq!(calls, new? as i64 * cost(1).calls, "nothing that was taken is lost or counted twice");
    assert_eq!(calls, 32 * cost(1).calls);
    Ok(())
}

#[tokio::test]
async fn sums_that_are_brought_in_stay_beside_those_of_ones_own() -> Result<()> {
    let repository = Repository::new().await?;
    repository.collect(0, 130).await?;
    let object =
        StatementObject { family_id: repository.family, account_id: repository.name, database_id: repository.name };
    let bucket = |to: i64| Bucket {
        to: second(to),
        from: second(to - 600),
        seconds: 600.0,
        periods: 10,
        rows: vec![PeriodRow { object, by: cost(5), lower_bound: false }],
    };
    // One for which there are figures as read, and one from before them.
    let (own, before) = (bucket(1200), bucket(-3000));
    let both = [own, before];
    assert_eq!(repository.store.write_buckets(repository.instance, Detail::TenMinutes, &both).await?, 2);
    assert_eq!(repository.store.write_buckets(repository.instance, Detail::TenMinutes, &both).await?, 0, "once");
    repository.roll_up_all(9 * DAY).await?;
    // What was read oneself is summed up anew and wins; what is from before stays and reaches its hour.
    let asked = window(0, 130 * 60);
    assert_eq!(
        repository.figures(asked, Detail::TenMinutes, 130 * 60).await?.0,
        repository.figures(asked, Detail::Fine, 130 * 60).await?.0
    );
    let earlier = repository.figures(window(-HOUR, 0), Detail::Hour, 9 * DAY).await?;
    assert_eq!(earlier.0, cost(5));
    // Once the ten minutes are gone, nothing can be added to that hour.
    repository.store.keep_partitions(second(40 * DAY)).await?;
    let late = [bucket(-2400)];
    assert_eq!(repository.store.write_buckets(repository.instance, Detail::TenMinutes, &late).await?, 0);
    repository.roll_up_all(40 * DAY).await?;
    assert_eq!(repository.figures(window(-HOUR, 0), Detail::Hour, 40 * DAY).await?.0, cost(5));
    Ok(())
}

#[tokio::test]
async fn loads_at_a_glance_are_those_of_each_instance() -> Result<()> {
    let repository = Repository::new().await?;
    let young = repository.store.add_unconnected("young", Engine::Bundle, &serde_json::json!({}), None).await?;
    let both = [repository.instance, young];
    // Only the last hours are kept: an hour ago, at full ten minutes.
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_secs() as i64;
    let begin = now / 600 * 600 - 3600 - START;
    let busy = Some(WaitKind::Running);
    // The first look still belongs to the minute that ends with it.
    let looks: Vec<(i64, Option<WaitKind>)> = [(0, busy), (1, busy), (60, None), (90, busy), (610, None), (1799, busy)]
        .map(|(at, busy)| (begin + at, busy))
        .into();
    repository.look(&looks[..4]).await?;
    repository.look(&looks).await?;
    // Long ago, which the list does not show.
    repository.look(&[(begin - 86_400, busy)]).await?;
    let told = |seen: &[SeenLoad], width: i64| -> Vec<(i64, i64, i64)> {
        let told = |seen: &SeenLoad| (seen.at.seconds_since(second(begin)) as i64 / width, seen.samples, seen.busy);
        seen.iter().map(told).collect()
    };
    let loads = repository.store.loads(&both, second(begin - 600)).await?;
    assert_eq!(loads.keys().copied().collect::<Vec<_>>(), [repository.instance], "nobody looked at the other one");
    assert_eq!(told(&loads[&repository.instance], 600), [(-1, 1, 1), (0, 3, 2), (1, 1, 0), (2, 1, 1)]);
    let by_minute = repository.store.loads_by_minute(&both, second(begin - 600)).await?;
    let minutes = told(&by_minute[&repository.instance], 60);
    assert_eq!(minutes, [(-1, 1, 1), (0, 2, 1), (1, 1, 1), (10, 1, 0), (29, 1, 1)]);
    let later = repository.store.loads(&both, second(begin + 700)).await?;
    assert_eq!(told(&later[&repository.instance], 600), [(1, 1, 0), (2, 1, 1)], "from the cell that holds the moment");
    assert!(repository.store.loads(&[young], second(begin)).await?.is_empty());
    repository.store.forget_old_loads().await?;
    assert_eq!(repository.store.loads(&both, second(begin - 600)).await?, loads, "nothing of it is old");
    Ok(())
}
