//! What happens to counters when the server around them changes: nothing negative, doubled or invented.

use std::time::{Duration, Instant};

use crate::common::{address, watched};
use anyhow::Result;
use hurnix_core::readings::counters::DatabaseCounters;
use hurnix_core::readings::counters::IndexCounters;
use hurnix_core::readings::counters::TableCounters;
use hurnix_core::readings::difference::{NoDifference, between};
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::measure_rates::rates;
use hurnix_core::readings::metric::Metric;
use hurnix_source::ReadCounters;
use hurnix_source::Source;
use hurnix_source::postgres::{Address, PostgresSource};
use sqlx::Executor;

async fn connect(address: &Address) -> Result<PostgresSource> {
    Ok(PostgresSource::connect(address).await?)
}

#[tokio::test]
async fn a_table_dropped_and_made_anew_counts_from_zero() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    let fill = "CREATE TABLE deck (deck_id int PRIMARY KEY); INSERT INTO deck SELECT n FROM generate_series(1, 500) n";
    admin.execute(fill).await?;
    for _ in 0..5 {
        admin.execute("SELECT count(*) FROM deck WHERE deck_id < 3").await?;
    }
    admin.execute("SELECT pg_stat_force_next_flush()").await?;
    let mut source = connect(&address(&cluster)).await?;
    let (tables, indexes) =
        (source.read::<TableCounters>().await?.unwrap(), source.read::<IndexCounters>().await?.unwrap());
    let old = tables.rows[0].0;
    assert_eq!(tables.rows[0].1.inserted_rows, 500);

    admin.execute("DROP TABLE deck").await?;
    admin.execute(fill).await?;
    admin.execute("SELECT pg_stat_force_next_flush()").await?;
    let (tables_after, indexes_after) =
        (source.read::<TableCounters>().await?.unwrap(), source.read::<IndexCounters>().await?.unwrap());
    let difference = between(&tables, &tables_after, 60.0).unwrap();
    assert_eq!((difference.rows.len(), difference.vanished), (1, 1));
    assert_ne!(difference.rows[0].key, old, "it is another table");
    assert_eq!(difference.rows[0].by.inserted_rows, 500, "not what the one before it had counted");
    let difference = between(&indexes, &indexes_after, 60.0).unwrap();
    assert_eq!(difference.vanished, 1);
    Ok(())
}

#[tokio::test]
async fn a_renamed_database_goes_on_counting() -> Result<()> {
    let cluster = watched().await?;
    cluster.ensure_database("crew").await?;
    let work = async |name: &str| -> Result<()> {
        let mut client = cluster.connect(name).await?;
        for _ in 0..10 {
            client.execute("SELECT 1").await?;
        }
        client.execute("SELECT pg_stat_force_next_flush()").await?;
        Ok(sqlx::Connection::close(client).await?)
    };
    work("crew").await?;
    let mut source = connect(&address(&cluster)).await?;
    let before = source.read::<DatabaseCounters>().await?.unwrap();
    cluster.connect("postgres").await?.execute("ALTER DATABASE crew RENAME TO sailors").await?;
    work("sailors").await?;
    let after = source.read::<DatabaseCounters>().await?.unwrap();
    let difference = between(&before, &after, 60.0).unwrap();
    assert_eq!((before.rows.len(), difference.vanished), (after.rows.len(), 0));
    // It goes by its number: ten statements, and no more than a few for connecting.
    let commits: Vec<i64> = difference.rows.iter().map(|row| row.by.commits).collect();
    assert!(commits.iter().all(|commits| (0..40).contains(commits)), "{commits:?}");
    assert!(difference.rows.iter().all(|row| !row.lower_bound));
    Ok(())
}

#[tokio::test]
async fn a_replica_that_takes_over_leaves_no_false_difference() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin.execute("CREATE TABLE deck AS SELECT n FROM generate_series(1, 9000) n").await?;
    let replica = cluster.temporary_replica()?;
    let mut primary_source = connect(&address(&cluster)).await?;
    let mut replica_source = connect(&address(&replica)).await?;
    let value = async |source: &mut PostgresSource, metric: Metric| -> Result<Option<f64>> {
        let reading = source.measures(Figures::Replication).await?.unwrap();
        Ok(reading.measures.iter().find(|measure| measure.metric == metric).map(|measure| measure.value))
    };
    assert_eq!(value(&mut primary_source, Metric::Recovering).await?, Some(0.0));
    assert_eq!(value(&mut replica_source, Metric::Recovering).await?, Some(1.0));
    let deadline = Instant::now() + Duration::from_secs(30);
    while value(&mut primary_source, Metric::ReplicasConnected).await? != Some(1.0) {
        assert!(Instant::now() < deadline, "the replica never connected");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert!(value(&mut primary_source, Metric::ReplicaLagBytes).await?.is_some_and(|lag| lag >= 0.0));
    admin.execute("INSERT INTO deck VALUES (1)").await?;
    while value(&mut replica_source, Metric::ReplayLag).await?.is_none() {
        assert!(Instant::now() < deadline, "nothing is replayed");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    // A replica can be asked for everything that a primary can.
    replica_source.activity().await?;
    replica_source.measures(Figures::Standing).await?.unwrap();
    replica_source.measures(Figures::Space).await?.unwrap();
    replica_source.catalog().await?;

    // The primary dies; whoever reached it by its name now reaches the replica.
    let (databases, log) = (
        primary_source.read::<DatabaseCounters>().await?.unwrap(),
        primary_source.measures(Figures::Replication).await?.unwrap(),
    );
    cluster.crash();
    let mut promoted = replica.connect("postgres").await?;
    promoted.execute("SELECT pg_promote()").await?;
    let mut source = connect(&address(&replica)).await?;
    assert_eq!(value(&mut source, Metric::Recovering).await?, Some(0.0));
    assert_eq!(
        between(&databases, &source.read::<DatabaseCounters>().await?.unwrap(), 60.0),
        Err(NoDifference::Restarted)
    );
    let after = source.measures(Figures::Replication).await?.unwrap();
    assert!(rates(&log.counted, &after.counted, 60.0).is_empty(), "the logs of two servers have no rate");
    Ok(())
}
