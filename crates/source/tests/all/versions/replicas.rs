//! Whom a server follows and who follows it.

use anyhow::Result;
use hurnix_core::findings::health::Health;
use hurnix_core::findings::replication::{Member, Server, behind, chain, promotion};
use hurnix_core::readings::replication::Replication;
use hurnix_source::Source;
use hurnix_source::postgres::{Address, PostgresSource};
use sqlx::Executor;

use super::servers::{DATABASE, Watched, until};

/// Asks both ends until they stand so.
async fn both(
    (above, below): (&mut PostgresSource, &mut PostgresSource),
    what: &str,
    stand: impl Fn(&Replication, &Replication) -> bool,
) -> Result<(Replication, Replication)> {
    until(what, async || {
        let (above, below) = (above.replication().await?, below.replication().await?);
        Ok(stand(&above, &below).then_some((above, below)))
    })
    .await
}

pub async fn are_seen_from_both_ends(server: &Watched) -> Result<()> {
    let slot = "SELECT pg_create_physical_replication_slot('board', true)";
    server.cluster.connect(DATABASE).await?.execute(slot).await?;
    let replica = server.cluster.replica_by_copy("board")?;
    let mut source = server.source().await?;
    let mut copy = PostgresSource::connect(&Address { port: replica.port(), ..server.address() }).await?;
    let mut client = server.client(DATABASE).await?;
    let (above, below) = both((&mut source, &mut copy), "the replica has it all", |above, below| {
        let replayed = below.upstream.as_ref().is_some_and(|from| from.is_connected && from.replayed == above.position);
        replayed && above.followers.iter().any(|follower| follower.behind_bytes == Some(0))
    })
    .await?;
    assert_eq!((above.is_replica, below.is_replica), (false, true));
    assert_eq!((above.system_identifier.clone(), below.name.as_str()), (below.system_identifier.clone(), "board"));
    assert!(above.system_identifier.is_some() && above.started_at != below.started_at);
    let from = below.upstream.as_ref().expect("it follows");
    assert_eq!(
        (from.host.as_str(), from.port, from.slot.as_deref(), from.is_paused),
        ("127.0.0.1", Some(server.cluster.port()), Some("board"), false)
    );
    let [reader] = above.followers.as_slice() else { panic!("one follows: {above:?}") };
    assert_eq!(
        (reader.name.as_str(), reader.state.as_str(), reader.synchronous.as_str(), reader.slot.as_deref()),
        ("board", "streaming", "async", Some("board"))
    );
    let [slot] = above.slots.as_slice() else { panic!("one slot: {above:?}") };
    assert_eq!(
        (slot.name.as_str(), slot.is_active, slot.is_logical, slot.state.as_str()),
        ("board", true, false, "reserved")
    );
    assert!(below.conflicts.iter().any(|(cause, count)| cause == "snapshot" && *count == 0), "{:?}", below.conflicts);
    assert_eq!(
        promotion(&below, Some(&above)).map(|told| (told.health, told.lost_bytes)),
        Some((Health::Quiet, Some(0)))
    );

    // Paused, it goes on receiving.
    replica.connect(DATABASE).await?.execute("SELECT pg_wal_replay_pause()").await?;
    client.execute("UPDATE deck SET metres = metres + 1").await?;
    let (above, below) = both((&mut source, &mut copy), "it received what it does not replay", |above, below| {
        let waits = below.upstream.as_ref().is_some_and(|from| from.is_paused && below.position > from.replayed);
        waits && below.position == above.position && above.followers.iter().any(|reader| reader.behind_bytes > Some(0))
    })
    .await?;
    let members = [("127.0.0.1", server.cluster.port(), &above), ("127.0.0.1", replica.port(), &below)]
        .map(|(host, port, replication)| Member { host, port, replication });
    let places = chain(&members);
    assert_eq!(
        places.iter().map(|place| place.server.clone()).collect::<Vec<_>>(),
        [Server::Member(0), Server::Member(1)]
    );
    assert_eq!(places[1].seen_as, Some((0, 0)));
    let late = behind(&members, &places, &places[1]).expect("it follows");
    assert!(late.bytes > Some(0) && late.transactions > Some(0) && late.seconds.is_some(), "{late:?}");
    let told = promotion(&below, Some(&above)).expect("a replica");
    assert_eq!((told.health, told.lost_bytes), (Health::Look, Some(0)));
    assert!(told.replayed_first_bytes > 0 && told.sentence.contains("paused"), "{told:?}");

    // Gone, it is still known by its slot.
    drop(replica);
    let above = until("nobody reads from the slot", async || {
        let above = source.replication().await?;
        Ok(above.slots.iter().any(|slot| !slot.is_active).then_some(above))
    })
    .await?;
    assert_eq!(above.followers, []);
    client.execute("UPDATE deck SET metres = metres + 1").await?;
    let kept = source.replication().await?.slots[0].clone();
    assert!(kept.kept_bytes > Some(0) && (server.version < 17 || kept.inactive_since.is_some()), "{kept:?}");
    server.cluster.connect(DATABASE).await?.execute("SELECT pg_drop_replication_slot('board')").await?;
    Ok(())
}
