//! Repositories of earlier versions: brought up to date, with everything in them.

use std::collections::HashMap;

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::At;
use hurnix_core::counters::IndexCounters;
use hurnix_core::difference::Snapshot;
use hurnix_core::index_watch::IndexWatch;
use hurnix_core::keeping::Retention;
use hurnix_store::{AuditFilter, LastRead, Store};
use sqlx::{AssertSqlSafe, Executor};

/// A repository as the first two migrations left it, with something of what they could hold.
async fn repository_of_two_migrations() -> Result<Cluster> {
    let cluster = Cluster::temporary(Setup::default())?;
    cluster.ensure_database("hurnix").await?;
    let mut connection = cluster.connect("hurnix").await?;
    let mut migrator = sqlx::migrate!("./migrations");
    migrator.migrations = migrator.migrations.iter().filter(|one| one.version <= 2).cloned().collect::<Vec<_>>().into();
    migrator.run(&mut connection).await?;
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

fn reading() -> Snapshot<u32, IndexCounters> {
    let row = |oid| (oid, IndexCounters { reads: i64::from(oid), ..Default::default() });
    Snapshot::new(At(1_771_999_200_000_000), At(0), vec![row(1), row(2)])
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
    let all = hurnix_core::Window { from: At(0), to: At(i64::from(u32::MAX) * 1_000_000) };
    assert_eq!(store.audit(all, &filter).await?.1, 1, "the trail is searched whatever the case");
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
    let watch =
        |seconds: i64| IndexWatch { seen_since: At(seconds * 1_000_000), unread_since: At(seconds * 2_000_000) };
    store.write_index_watch(1, &[(1, watch(10)), (2, watch(20))], [1, 2].into_iter()).await?;
    store.write_index_watch(1, &[(2, watch(30))], [1, 2].into_iter()).await?;
    assert_eq!(store.index_watch(1).await?, HashMap::from([(1, watch(10)), (2, watch(30))]));
    store.write_index_watch(1, &[(u32::MAX, watch(40))], [2, u32::MAX].into_iter()).await?;
    assert_eq!(store.index_watch(1).await?, HashMap::from([(2, watch(30)), (u32::MAX, watch(40))]));
    Ok(())
}
