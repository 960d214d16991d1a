//! Repositories of earlier versions: brought up to date, with everything in them.

use std::collections::HashMap;
use std::time::Instant;

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::findings::index_watch::IndexWatch;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::{Days, Retention};
use hurnix_core::readings::counters::{IndexCounters, IoCounters};
use hurnix_core::readings::difference::Snapshot;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{AdviceFilter, AuditFilter, Kind, LastRead, NamedObject, Period, PeriodRow, Store, WrittenSnapshot};
use sqlx::{AssertSqlSafe, Executor, PgConnection};

/// When the newest reading was taken.
const LAST: i64 = 1_771_977_600_000_000;

/// A repository as the first two migrations left it, with something of what they could hold.
async fn repository_of_two_migrations() -> Result<Cluster> {
    let cluster = Cluster::temporary(Setup::default())?;
    cluster.ensure_database("hurnix").await?;
    let mut connection = cluster.connect("hurnix").await?;
    migrate_up_to(2, &mut connection).await?;
    let reading = reading();
    sqlx::query(
        "WITH one AS (INSERT INTO instance (label, host, port, database_name, account_name, secret_sealed, tls_mode)
            VALUES ('passage-a', 'passage-host', 5432, 'passage', 'hurnix_watch', 'sealed', 'off') RETURNING instance_id)
         INSERT INTO last_read SELECT instance_id, 'indexes', now(), $1 FROM one",
    )
    // As it was kept then.
    .bind(postcard::to_stdvec(&(reading.at, reading.server_started_at, reading.reset_at, None::<i64>, &reading.rows))?)
    .execute(&mut connection)
    .await?;
    connection
        .execute(
            "INSERT INTO credential (name, account_name, secret_sealed) VALUES ('watch', 'hurnix_watch', 'sealed');
             INSERT INTO audit (account, means, client, action, instance, detail, outcome)
                 VALUES ('mate', 'session', '127.0.0.1', 'add_instance', 'passage-a', 'Passage at the Quay', 'done');
             INSERT INTO maintenance_window (instance_id, name, days, start_minute, minutes, time_zone)
                 SELECT 1, name, ARRAY[true], 60, 60, 'UTC' FROM unnest(ARRAY['night', 'night', 'noon']) name;
             INSERT INTO catalog VALUES (1, '{\"at\": 0, \"database\": \"passage\", \"tables\": [],
                 \"costs\": {\"sequential_page\": 1, \"random_page\": 4, \"row\": 1, \"index_entry\": 1, \"operator\": 1}, \"extensions\": []}')",
        )
        .await?;
    Ok(cluster)
}

async fn migrate_up_to(version: i64, connection: &mut PgConnection) -> Result<()> {
    let mut migrator = sqlx::migrate!("./migrations");
    let earlier = migrator.migrations.iter().filter(|one| one.version <= version);
    migrator.migrations = earlier.cloned().collect::<Vec<_>>().into();
    Ok(migrator.run(connection).await?)
}

/// A repository as the first four migrations left it, with six weeks of hours, two of ten minutes and a day as read, of
/// forty indexes.
async fn repository_with_weeks() -> Result<Cluster> {
    let cluster = Cluster::temporary(Setup::default())?;
    cluster.ensure_database("hurnix").await?;
    let mut connection = cluster.connect("hurnix").await?;
    migrate_up_to(4, &mut connection).await?;
    connection
        .execute(
            "INSERT INTO instance (label, host, port, database_name, account_name, secret_sealed, tls_mode, keeps_literals, more_databases)
                 VALUES ('passage-a', 'passage-host', 5432, 'passage', 'hurnix_watch', 'sealed', 'off', true, '{tides}');
             INSERT INTO advice (instance_id, kind, subject, made_at, updated_at, evidence_from, evidence_to, saved_seconds_per_day, payload)
                 VALUES (1, 'missing_index', 'public.deck (metres)', '2026-02-24Z', '2026-02-24Z', '2026-02-23Z', '2026-02-24Z', 9, '{
                     \"schema\": \"public\", \"table\": \"deck\", \"columns\": [], \"saved_seconds_per_day\": 9,
                     \"families\": [{\"family\": -6148914691236517206, \"calls_per_day\": 1, \"now_ms\": 1, \"predicted_ms\": 1, \"now_pages\": 1,
                         \"predicted_pages\": 1, \"rows_per_call\": 1, \"full_read_share\": 1, \"saved_seconds_per_day\": 9}],
                     \"size_bytes\": 1, \"table_rows\": 1, \"table_pages\": 1, \"indexes_present\": 0, \"makes_superfluous\": [],
                     \"partial_indexes\": [], \"statistics_known\": true}');
             DO $$
             DECLARE kept record; first date;
             BEGIN
                 FOR kept IN SELECT * FROM (VALUES ('index_hour', 28), ('observed_hour', 28), ('index_ten_minutes', 7),
                     ('observed_ten_minutes', 7), ('index_period', 1), ('snapshot', 1)) v (name, days) LOOP
                     FOR first IN SELECT d FROM generate_series(date '1970-01-01', '2026-02-25', make_interval(days => kept.days)) d
                         WHERE d > '2025-12-01' LOOP
                         EXECUTE format('CREATE TABLE %I PARTITION OF %I FOR VALUES FROM (%L) TO (%L)',
                             kept.name || '_' || to_char(first, 'YYYYMMDD'), kept.name, first || 'Z', (first + kept.days) || 'Z');
                     END LOOP;
                 END LOOP;
             END $$",
        )
        .await?;
    for (table, observed, step, days) in [
        ("index_hour", "observed_hour", "1 hour", 42),
        ("index_ten_minutes", "observed_ten_minutes", "10 minutes", 14),
        ("index_period", "snapshot", "1 minute", 1),
    ] {
        let moments = format!(
            "generate_series('2026-02-25Z'::timestamptz - interval '{days} days' + '{step}', '2026-02-25Z', '{step}') AS moment"
        );
        let ones = "(SELECT array_agg(n) FROM generate_series(1::bigint, 40) n)";
        connection
            .execute(AssertSqlSafe(format!(
                "INSERT INTO {table} SELECT 1, moment, {ones}, (SELECT array_agg(false) FROM generate_series(1, 40)),
                     {ones}, {ones}, {ones}, {ones}, {ones} FROM {moments}"
            )))
            .await?;
        let noted = match observed {
            "snapshot" => {
                "SELECT 1, 'indexes', moment, 1, '2026-01-01Z', NULL, moment - interval '1 minute', NULL".to_owned()
            }
            _ => format!(
                "SELECT 1, 'indexes', moment, moment - interval '{step}', extract(epoch FROM interval '{step}'), 1"
            ),
        };
        connection.execute(AssertSqlSafe(format!("INSERT INTO {observed} {noted} FROM {moments}"))).await?;
    }
    sqlx::query("INSERT INTO last_read (instance_id, kind, taken_at, payload, layout) VALUES (1, 'indexes', '2026-02-25Z', $1, $2)")
        .bind(postcard::to_stdvec(&reading())?)
        .bind(IndexCounters::layout())
        .execute(&mut connection)
        .await?;
    Ok(cluster)
}

fn reading() -> Snapshot<u32, IndexCounters> {
    let row = |oid| (oid, IndexCounters { reads: i64::from(oid), ..Default::default() });
    Snapshot::new(Timestamp(LAST), Timestamp(0), vec![row(1), row(2)])
}

#[tokio::test]
async fn what_an_earlier_version_kept_is_there_and_goes_on() -> Result<()> {
    let cluster = repository_of_two_migrations().await?;
    let store = Store::open(&cluster.url("hurnix"), Retention::default()).await?;
    let instance = &store.instances().await?[0];
    assert!(!instance.allows_plain_password && instance.host_secret_sealed.is_none());
    assert_eq!(
        store.last_read::<IndexCounters, _>(1).await?,
        LastRead::Snapshot(reading()),
        "the next difference starts from it"
    );
    let catalog = store.catalog(1).await?.expect("the catalog is that of the database connected to");
    assert_eq!((catalog.database.as_str(), store.catalog_of(1, "passage").await?), ("passage", Some(catalog.clone())));
    assert_eq!(store.credentials().await?[0].hosts, Vec::<String>::new(), "it goes where it went before");
    let windows: Vec<String> = store.maintenance_windows().await?.into_iter().map(|window| window.name).collect();
    assert_eq!(windows, ["night", "noon"], "two that say the same are one");
    let filter = AuditFilter { search: Some("at the quay".into()), limit: 9, ..AuditFilter::default() };
    let all = hurnix_core::Window { from: Timestamp(0), to: Timestamp(i64::from(u32::MAX) * 1_000_000) };
    assert_eq!(store.audit(all, &filter).await?.1, 1, "the trail is searched whatever the case");
    Ok(())
}

#[tokio::test]
async fn the_list_of_instances_shows_the_last_hours_at_once() -> Result<()> {
    let cluster = Cluster::temporary(Setup::default())?;
    cluster.ensure_database("hurnix").await?;
    let mut connection = cluster.connect("hurnix").await?;
    migrate_up_to(9, &mut connection).await?;
    // Two looks in the second of ten minutes and one at their very end, which still belongs to them; one of yesterday.
    connection
        .execute(
            "INSERT INTO instance (label, host, port, database_name, account_name, secret_sealed, tls_mode)
                 VALUES ('passage-a', 'passage-host', 5432, 'passage', 'hurnix_watch', 'sealed', 'off');
             CREATE TABLE activity_sample_now PARTITION OF activity_sample DEFAULT;
             CREATE TABLE activity_now PARTITION OF activity DEFAULT;
             CREATE TABLE look AS SELECT moment, busy, date_bin('10 minutes', now(), 'epoch') - interval '10 minutes' AS cell
                 FROM (VALUES ('61 s'::interval, 2), ('119 s', 0), ('600 s', 1), ('-1 day', 5)) AS v (moment, busy);
             INSERT INTO activity_sample SELECT 1, cell + moment, 9 FROM look;
             INSERT INTO activity (instance_id, sampled_at, process, process_started_at, wait_kind, account_id, program_id,
                     client_id, database_id, blocked_by)
                 SELECT 1, cell + moment, n, cell, CASE WHEN n <= busy THEN 0 END, 1, 1, 1, 1, '{}'
                 FROM look, generate_series(1, 6) AS n",
        )
        .await?;
    migrate_up_to(10, &mut connection).await?;
    let kept: Vec<(i64, i64, Vec<i64>, Vec<i64>)> = sqlx::query_as(
        "SELECT samples, busy, minute_samples, minute_busy FROM load_glance WHERE cell_at = (SELECT min(cell) FROM look)
         UNION ALL SELECT 0, 0, '{}', '{}' FROM load_glance WHERE cell_at <> (SELECT min(cell) FROM look)",
    )
    .fetch_all(&mut connection)
    .await?;
    let [second, last] = [1, 9];
    let by_minute = |of_second: i64, of_last: i64| {
        let mut minutes = vec![0; 10];
        (minutes[second], minutes[last]) = (of_second, of_last);
        minutes
    };
    assert_eq!(kept, [(3, 3, by_minute(2, 1), by_minute(2, 1))]);
    Ok(())
}

#[tokio::test]
async fn a_reading_with_other_figures_is_not_read_as_if_it_had_these() -> Result<()> {
    let cluster = repository_of_two_migrations().await?;
    let store = Store::open(&cluster.url("hurnix"), Retention::default()).await?;
    let mut connection = cluster.connect("hurnix").await?;
    let with = async |change: &str, connection: &mut sqlx::PgConnection| {
        connection.execute(AssertSqlSafe(format!("UPDATE last_read SET {change}"))).await?;
        anyhow::Ok(store.last_read::<IndexCounters, u32>(1).await?)
    };
    // One figure fewer: read as it stands, one index's figures would be taken for another's.
    let fewer = with("layout = '2 reads read_entries fetched_rows read_pages'", &mut connection).await?;
    assert!(matches!(&fewer, LastRead::Unreadable(reason) if reason.contains("another version")), "{fewer:?}");
    assert!(matches!(with("layout = NULL", &mut connection).await?, LastRead::Unreadable(_)));
    let broken =
        with("layout = '2 reads read_entries fetched_rows read_pages hit_pages', payload = '\\xff'", &mut connection);
    assert!(matches!(broken.await?, LastRead::Unreadable(_)));
    Ok(())
}

#[tokio::test]
async fn what_is_known_of_indexes_is_kept_and_forgotten_with_them() -> Result<()> {
    let cluster = repository_of_two_migrations().await?;
    let store = Store::open(&cluster.url("hurnix"), Retention::default()).await?;
    let watch = |seconds: i64| IndexWatch {
        seen_since: Timestamp(seconds * 1_000_000),
        unread_since: Timestamp(seconds * 2_000_000),
    };
    store.write_index_watch(1, &[(1, watch(10)), (2, watch(20))], [1, 2].into_iter()).await?;
    store.write_index_watch(1, &[(2, watch(30))], [1, 2].into_iter()).await?;
    assert_eq!(store.index_watch(1).await?, HashMap::from([(1, watch(10)), (2, watch(30))]));
    store.write_index_watch(1, &[(u32::MAX, watch(40))], [2, u32::MAX].into_iter()).await?;
    assert_eq!(store.index_watch(1).await?, HashMap::from([(2, watch(30)), (u32::MAX, watch(40))]));
    Ok(())
}

#[tokio::test]
async fn weeks_of_figures_are_there_and_collection_goes_on_with_another_kind() -> Result<()> {
    let cluster = repository_with_weeks().await?;
    let keep = Days { fine: 4000, ten_minutes: 4000, hour: 4000 };
    let begun = Instant::now();
    let store = Store::open(&cluster.url("hurnix"), Retention::of_all(keep)).await?;
    println!("six weeks of an instance with forty indexes are brought up to date in {:?}", begun.elapsed());

    let day = |days: i64| Timestamp(LAST - days * 86_400_000_000);
    let kept = async |detail, days| -> Result<(usize, i64)> {
        let window = Window { from: day(days), to: Timestamp(LAST) };
        let buckets = store.kept_buckets::<IndexCounters>(1, detail, window).await?;
        let reads = buckets.iter().flat_map(|bucket| &bucket.rows).map(|row| row.by.reads).sum();
        Ok((buckets.len(), reads))
    };
    let of_one: i64 = (1..=40).sum();
    assert_eq!(kept(Detail::Hour, 42).await?, (42 * 24, 42 * 24 * of_one));
    assert_eq!(kept(Detail::TenMinutes, 14).await?, (14 * 144, 14 * 144 * of_one));
    let fine = store.kept_snapshots::<IndexCounters>(1, Window { from: day(1), to: Timestamp(LAST) }).await?;
    assert!(fine.len() == 1440 && fine.iter().all(|one| one.period.as_ref().is_ok_and(|(_, rows)| rows.len() == 40)));

    // Its days are summed up by themselves.
    while store.roll_up(Timestamp(LAST)).await? > 0 {}
    assert_eq!(kept(Detail::Day, 42).await?, (42, 42 * 24 * of_one));

    // Settings and advice are what they were.
    let instance = store.instance(1).await?.expect("it is there");
    assert!(instance.settings.keeps_literals && instance.settings.more_databases == ["tides"], "{instance:?}");
    let (book, _) = store.advice_list(1, &AdviceFilter { limit: 10, ..AdviceFilter::default() }).await?;
    assert_eq!(book[0].advice.told().families(), [-6_148_914_691_236_517_206]);

    // The next period starts from the newest reading of before.
    let LastRead::Snapshot(last) = store.last_read::<IndexCounters, u32>(1).await? else { panic!("it can be read") };
    let minute = |n: i64| Timestamp(LAST + n * 60_000_000);
    let later = Snapshot { at: minute(1), ..last.clone() };
    let by = IndexCounters { reads: 5, ..Default::default() };
    assert!(store.write_snapshot(1, &written(&later, Ok((last.at, vec![row(7u32, by)])))).await?);

    // A kind that was not there before, of objects that go by a name.
    let name = store.names(1, &["client backend, relation, normal".into()], Timestamp(LAST)).await?;
    let object = NamedObject(*name.values().next().unwrap());
    let io = |n: i64| Snapshot::<String, IoCounters>::new(minute(n), Timestamp(0), Vec::new());
    assert!(store.write_snapshot(1, &written::<_, IoCounters>(&io(1), Err("first reading"))).await?);
    let by = IoCounters { hits: 3, syncs: 2, ..Default::default() };
    for n in [2, 3] {
        assert!(store.write_snapshot(1, &written(&io(n), Ok((minute(n - 1), vec![row(object, by)])))).await?);
    }
    // As of a figure that a later version added: the older of the two periods lacks it.
    let lacking = "UPDATE io_period SET syncs = NULL WHERE to_at = (SELECT min(to_at) FROM io_period)";
    cluster.connect("hurnix").await?.execute(lacking).await?;
    while store.roll_up(minute(60)).await? > 0 {}
    let hour = Window { from: Timestamp(LAST), to: minute(60) };
    let sums = store.kept_buckets::<IoCounters>(1, Detail::Hour, hour).await?;
    let summed = IoCounters { hits: 6, syncs: 2, ..Default::default() };
    assert_eq!(
        sums.iter().map(|sum| (sum.seconds, sum.rows.clone())).collect::<Vec<_>>(),
        [(120.0, vec![row(object, summed)])]
    );
    let read = store.kept_snapshots::<IoCounters>(1, hour).await?;
    let syncs: Vec<i64> = read.iter().filter_map(|one| Some(one.period.as_ref().ok()?.1[0].by.syncs)).collect();
    assert_eq!(syncs, [0, 2]);
    Ok(())
}

fn row<O, C>(object: O, by: C) -> PeriodRow<O, C> {
    PeriodRow { object, by, lower_bound: false }
}

type Outcome<C> = std::result::Result<(Timestamp, Vec<PeriodRow<<C as Kind>::Object, C>>), &'static str>;

fn written<K: Clone, C: Kind>(
    snapshot: &Snapshot<K, C>,
    period: Outcome<C>,
) -> WrittenSnapshot<'static, C::Object, C, Snapshot<K, C>> {
    let period = period.map(|(from, rows)| Period { from, rows: Vec::leak(rows) });
    let as_read = Box::leak(Box::new(snapshot.clone()));
    WrittenSnapshot {
        taken_at: snapshot.at,
        read_ms: 1.0,
        server_started_at: Timestamp(0),
        reset_at: None,
        period,
        as_read,
    }
}
