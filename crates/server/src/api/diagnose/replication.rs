//! Who follows whom, how far behind, and whether a replica could be promoted.

use std::time::Duration;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use futures::future::join_all;
use hurnix_core::findings::replication::{Member, Place, ReplicationPart, Server, behind, chain, part, promotion};
use hurnix_core::instance::engine::Engine;
use hurnix_core::readings::replication::{Replication, Slot};
use hurnix_store::Instance;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::find::{find, find_watched};
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::{HealthWord, ReplicationPartWord, Word};
use crate::family::{family_of, primary_of};
use crate::sources::in_time;
use crate::state::{App, now};

/// Other servers of the system are waited for so long.
const OTHERS_LIMIT: Duration = Duration::from_secs(3);

/// Who follows whom, among all servers that are known of one system.
#[derive(Serialize, ToSchema)]
pub struct ServersOfSystem {
    /// When, by the clock of the server that was asked for.
    at: DateTime<Utc>,
    /// Each that follows nobody, and below it those that follow it.
    servers: Vec<ReplicatedServer>,
    /// How many under care are primaries of this system: one, unless two write their own history.
    primaries: usize,
    /// Servers of the system under care that did not answer.
    silent: Vec<SilentServer>,
    /// Replication slots of all of them, those that keep most first.
    slots: Vec<ReplicationSlot>,
    /// Statements that replay has ended on replicas.
    conflicts: Vec<ReplayConflict>,
}

/// A server with its place among those that replicate.
#[derive(Serialize, ToSchema)]
pub struct ReplicatedServer {
    /// Its label, or, where it is not under care, what it calls itself or its address.
    name: String,
    /// Its number; nothing where it is not under care.
    instance_id: Option<i32>,
    /// Its address; empty where that is not known.
    address: String,
    /// Servers between it and the first.
    depth: usize,
    /// Which part it has.
    part: ReplicationPartWord,
    /// How it reads, by the server's own words; empty for what follows nobody.
    state: String,
    /// Whether commits wait for it, by the server's own words; empty where nobody told.
    synchronous: String,
    /// Slot that it uses.
    slot: Option<String>,
    /// Seconds that it is behind.
    behind_seconds: Option<f64>,
    /// Bytes of WAL.
    behind_bytes: Option<i64>,
    /// Transactions.
    behind_transactions: Option<i64>,
    /// What promoting it now would mean; for replicas under care.
    promotion: Option<PromotionNow>,
}

/// What promoting a replica now would mean.
#[derive(Serialize, ToSchema)]
pub struct PromotionNow {
    /// `quiet` where nothing stands against it.
    health: HealthWord,
    /// The verdict in words.
    sentence: String,
    /// Bytes of WAL that would be lost; nothing where that cannot be known.
    lost_bytes: Option<i64>,
    /// Bytes that would be replayed first.
    replayed_first_bytes: i64,
}

/// A server that did not answer.
#[derive(Serialize, ToSchema)]
pub struct SilentServer {
    /// Its label.
    label: String,
    /// What was in the way.
    problem: String,
}

/// A replication slot.
#[derive(Serialize, ToSchema)]
pub struct ReplicationSlot {
    /// Label of the server that has it.
    server: String,
    /// Its name.
    name: String,
    /// Whether changes of rows are read from it.
    is_logical: bool,
    /// Its database; empty for slots of the whole server.
    database: String,
    /// Whether somebody reads from it.
    is_active: bool,
    /// Whether it goes with the session that made it.
    is_temporary: bool,
    /// Bytes of WAL kept for it.
    kept_bytes: Option<i64>,
    /// Whether that is still there, by the server's own words.
    state: String,
    /// Bytes until it loses what it needs.
    safe_bytes: Option<i64>,
    /// Transactions since the oldest row version kept for it.
    xmin_age: Option<i64>,
    /// Since when nobody reads from it, where the server tells.
    inactive_since: Option<DateTime<Utc>>,
}

/// Statements that replay has ended on a replica.
#[derive(Serialize, ToSchema)]
pub struct ReplayConflict {
    /// Label of the replica.
    server: String,
    /// What was in the way of replay, by the server's own name.
    cause: String,
    /// How many since `since`.
    count: i64,
    /// When the counts were last reset; nothing where they never were.
    since: Option<DateTime<Utc>>,
}

/// Which part an instance has, by what was read last.
#[derive(Serialize, ToSchema)]
pub struct InstancePart {
    /// Whether it is a replica; nothing where that was never read.
    is_replica: Option<bool>,
    /// Label of the primary of its system, where that is under care and is another instance.
    primary: Option<String>,
}

/// Which part an instance has, by what was read last: advice on a replica is carried out on its primary.
#[utoipa::path(get, path = "/instances/{instance_id}/part", tag = "metrics",
    params(("instance_id" = i32, Path)), responses((status = 200, body = InstancePart)))]
pub async fn instance_part(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<InstancePart> {
    let instance = find(&app, instance_id).await?;
    let is_replica = app.store.is_replica(instance_id, now()).await?;
    let primary = if is_replica == Some(true) { primary_of(&app, &instance).await? } else { None };
    let primary = primary.filter(|primary| caller.sees(primary.group.as_deref()));
    Ok(Json(InstancePart { is_replica, primary: primary.map(|primary| primary.label) }))
}

/// Who follows whom, read now from the server and from all others of its system that are under care.
#[utoipa::path(get, path = "/instances/{instance_id}/replication", tag = "metrics",
    params(("instance_id" = i32, Path)), responses((status = 200, body = ServersOfSystem)))]
pub async fn show_replication(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<ServersOfSystem> {
    let instance = find_watched(&app, instance_id).await?;
    let own = read(&app, &instance).await?;
    let family = family_of(&app, &instance).await?;
    let seen = |other: &Instance| other.engine != Engine::Bundle && caller.sees(other.group.as_deref());
    let others: Vec<Instance> = family.into_iter().filter(seen).collect();
    let readings = join_all(others.iter().map(|other| tokio::time::timeout(OTHERS_LIMIT, read(&app, other)))).await;
    let mut read: Vec<(&Instance, Replication)> = vec![(&instance, own)];
    let mut silent = Vec::new();
    for (other, reading) in others.iter().zip(readings) {
        match reading {
            Ok(Ok(found)) => {
                // Another instance of the same server, such as another of its databases, is no other server.
                let is_known = |(_, known): &(&Instance, Replication)| known.started_at == found.started_at;
                if !read.iter().any(is_known) {
                    read.push((other, found));
                }
            }
            Ok(Err(problem)) => silent.push(SilentServer { label: other.label.clone(), problem: problem.detail }),
            Err(_) => silent.push(SilentServer {
                label: other.label.clone(),
                problem: format!("It did not answer within {} s.", OTHERS_LIMIT.as_secs()),
            }),
        }
    }
    read.sort_by(|(a, _), (b, _)| a.label.cmp(&b.label));
    Ok(Json(told(&read, silent, moment(read_at(&read, instance_id)))))
}

fn read_at(read: &[(&Instance, Replication)], instance_id: i32) -> hurnix_core::Timestamp {
    let own = read.iter().find(|(instance, _)| instance.instance_id == instance_id);
    own.map_or_else(now, |(_, own)| own.at)
}

async fn read(app: &App, instance: &Instance) -> Result<Replication, Problem> {
    let mut lent = app.live.lend(app, instance).await.map_err(|problem| Problem::connection(&problem))?;
    let read = in_time(lent.source().replication()).await.map_err(|problem| Problem::reading(&problem))?;
    app.live.give_back(lent);
    Ok(read)
}

fn told(read: &[(&Instance, Replication)], silent: Vec<SilentServer>, at: DateTime<Utc>) -> ServersOfSystem {
    let members: Vec<Member> = read
        .iter()
        .map(|(instance, replication)| Member {
            host: &instance.host,
            port: u16::try_from(instance.port).unwrap_or_default(),
            replication,
        })
        .collect();
    let places = chain(&members);
    let server = |place: &Place| replicated(read, &members, &places, place);
    let mut slots: Vec<ReplicationSlot> =
        read.iter().flat_map(|(instance, own)| own.slots.iter().map(|slot| slot_of(&instance.label, slot))).collect();
    slots.sort_by_key(|slot| std::cmp::Reverse(slot.kept_bytes));
    let conflicts = read.iter().flat_map(|(instance, own)| {
        own.conflicts.iter().filter(|(_, count)| *count > 0).map(|(cause, count)| ReplayConflict {
            server: instance.label.clone(),
            cause: cause.clone(),
            count: *count,
            since: own.conflicts_since.map(moment),
        })
    });
    ServersOfSystem {
        at,
        servers: places.iter().map(server).collect(),
        primaries: places.iter().filter(|place| part(&members, place) == ReplicationPart::Primary).count(),
        silent,
        slots,
        conflicts: conflicts.collect(),
    }
}

fn replicated(
    read: &[(&Instance, Replication)],
    members: &[Member],
    places: &[Place],
    place: &Place,
) -> ReplicatedServer {
    let seen = place.seen_as.map(|(above, number)| &members[above].replication.followers[number]);
    let own = match place.server {
        Server::Member(own) => Some(&read[own]),
        Server::Outside { .. } => None,
    };
    let followed = place.follows.and_then(|above| match places[above].server {
        Server::Member(above) => Some(members[above].replication),
        Server::Outside { .. } => None,
    });
    let (name, address) = match (&place.server, own) {
        (Server::Outside { name, address }, _) => (name.clone(), address.clone()),
        (_, Some((instance, _))) => (instance.label.clone(), address_of(instance)),
        (_, None) => Default::default(),
    };
    let upstream = own.and_then(|(_, own)| own.upstream.as_ref());
    let own_state = upstream.map(|from| if from.is_connected { "streaming" } else { "not connected" });
    let behind = behind(members, places, place).unwrap_or_default();
    let promoted = own.and_then(|(_, own)| promotion(own, followed));
    ReplicatedServer {
        name,
        instance_id: own.map(|(instance, _)| instance.instance_id),
        address,
        depth: place.depth,
        part: Word(part(members, place)),
        state: seen.map(|seen| seen.state.clone()).or(own_state.map(Into::into)).unwrap_or_default(),
        synchronous: seen.map(|seen| seen.synchronous.clone()).unwrap_or_default(),
        slot: seen.and_then(|seen| seen.slot.clone()).or_else(|| upstream.and_then(|from| from.slot.clone())),
        behind_seconds: behind.seconds,
        behind_bytes: behind.bytes,
        behind_transactions: behind.transactions,
        promotion: promoted.map(|promoted| PromotionNow {
            health: Word(promoted.health),
            sentence: promoted.sentence,
            lost_bytes: promoted.lost_bytes,
            replayed_first_bytes: promoted.replayed_first_bytes,
        }),
    }
}

/// Nothing for a simulated server, which has no address.
fn address_of(instance: &Instance) -> String {
    if instance.host.is_empty() { String::new() } else { format!("{}:{}", instance.host, instance.port) }
}

fn slot_of(server: &str, slot: &Slot) -> ReplicationSlot {
    ReplicationSlot {
        server: server.to_owned(),
        name: slot.name.clone(),
        is_logical: slot.is_logical,
        database: slot.database.clone(),
        is_active: slot.is_active,
        is_temporary: slot.is_temporary,
        kept_bytes: slot.kept_bytes,
        state: slot.state.clone(),
        safe_bytes: slot.safe_bytes,
        xmin_age: slot.xmin_age,
        inactive_since: slot.inactive_since.map(moment),
    }
}
