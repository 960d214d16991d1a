use hurnix_core::readings::activity::{ActivitySample, AwaitedLock, Session};
use hurnix_core::time::MICROS_PER_SECOND;
use hurnix_core::{Timestamp, WaitKind};

use super::counted::Server;
use super::model::{Event, FIRST_PROCESS_OF_EVENTS, FamilyModel, Happening, HoldUp, Model, PROCESSES_OF_EVENT, Stand};
use super::noise::Noise;
use super::rates::Rate;
use super::shape::minute_of;

/// Numbers of the processes of a family's sessions.
const FIRST_PROCESS: i32 = 2_000;
const PROCESSES_OF_FAMILY: i32 = 200;
/// Sessions of a family are begun anew this often, in seconds.
const SESSION_SECONDS: i64 = 6 * 3600;

impl Event {
    /// Whether it goes on at a moment.
    pub fn goes_on(&self, at: Timestamp) -> bool {
        self.at <= at && self.until.is_none_or(|until| at < until)
    }
}

/// The server's number of a statement.
pub fn query_id(seed: u64, family: usize, variant: u32) -> i64 {
    (Noise::of(seed, &[5, family as u64, u64::from(variant)]).unit() * 9e18) as i64 + 1
}

/// The family that a process works for; nothing for those of events.
pub fn family_of(process: i32) -> Option<usize> {
    let place = (FIRST_PROCESS..FIRST_PROCESS_OF_EVENTS).contains(&process);
    place.then(|| ((process - FIRST_PROCESS) / PROCESSES_OF_FAMILY) as usize)
}

/// The text of one of a family's variants.
pub fn text(family: &FamilyModel, variant: u32) -> String {
    family.text.replace("{n}", &variant.to_string())
}

/// Whether a statement is the first of a family's variants.
pub fn is_text_of(family: &FamilyModel, statement: &str) -> bool {
    if family.text.contains("{n}") { text(family, 0) == statement } else { family.text == statement }
}

impl Server {
    /// What every session does at a moment: as many of each family as its rate and time per call make
    /// (Little's law), give or take what chance does.
    pub fn activity(&self, at: Timestamp) -> ActivitySample {
        let (model, minute) = (&self.model, minute_of(at));
        let mut active = Vec::new();
        let rates = self.changes.in_minute(model, minute);
        for (position, family) in model.families.iter().enumerate() {
            let (per_second, ms) = rates.pace(position);
            if per_second <= 0.0 {
                continue;
            }
            let mut noise = Noise::of(model.seed, &[13, position as u64, at.0 as u64]);
            let busy = noise.count(per_second * ms / 1000.0).min(i64::from(PROCESSES_OF_FAMILY)) as i32;
            if busy == 0 {
                continue;
            }
            let rate = rates.of(position);
            active.extend((0..busy).map(|slot| session(model, position, family, &rate, slot, at, &mut noise)));
        }
        for (position, event) in model.events.iter().enumerate().filter(|(_, event)| event.goes_on(at)) {
            let process = FIRST_PROCESS_OF_EVENTS + position as i32 * PROCESSES_OF_EVENT;
            match &event.what {
                Happening::HoldUp(hold_up) => active.extend(held_up(model, event, hold_up, process, at)),
                Happening::Giant { family, .. } => {
                    let of = &model.families[*family];
                    let waits = Some((WaitKind::TempSpace, "IO:BufFileWrite"));
                    active.push(Session {
                        statement_started_at: Some(event.at),
                        ..plain(model, *family, of, process, event.at, waits)
                    });
                }
                Happening::OldTransaction { prepared: false } => {
                    let of = &model.families[0];
                    active.push(Session {
                        wait_kind: None,
                        event: Some("Client:ClientRead".into()),
                        ..plain(model, 0, of, process, event.at, None)
                    });
                }
                _ => {}
            }
        }
        let (per_second, seconds) = self.connecting(minute);
        let passing = Noise::of(model.seed, &[17, at.0 as u64]).count(per_second * seconds) as i32;
        let sessions = (model.connections.kept + passing).max(active.len() as i32).min(model.connections.allowed);
        ActivitySample { at, sessions, active }
    }
}

/// A session of a family that began its transaction at a moment, and runs or waits.
fn plain(
    model: &Model,
    position: usize,
    family: &FamilyModel,
    process: i32,
    began: Timestamp,
    wait: Option<(WaitKind, &str)>,
) -> Session {
    Session {
        process,
        started_at: began.plus_seconds(-60.0),
        wait_kind: Some(wait.map_or(WaitKind::Running, |(kind, _)| kind)),
        event: wait.map(|(_, event)| event.to_owned()),
        query_id: Some(query_id(model.seed, position, 0)),
        text: text(family, 0),
        account: family.account.clone(),
        program: family.program.clone(),
        client: family.client.clone(),
        database: model.databases[family.database].clone(),
        transaction_started_at: Some(began),
        statement_started_at: Some(began),
        blocked_by: Vec::new(),
        awaited: None,
    }
}

/// One of the sessions that are busy with a family just now.
fn session(
    model: &Model,
    position: usize,
    family: &FamilyModel,
    rate: &Rate,
    slot: i32,
    at: Timestamp,
    noise: &mut Noise,
) -> Session {
    let mut drawn = noise.unit();
    let wait = rate.waits.iter().find(|(_, _, share)| {
        drawn -= share;
        drawn < 0.0
    });
    // Where in its time a call is found: long ones are found more often, hence the exponential.
    let began = at.plus_seconds(-rate.cost.ms / 1000.0 * -(1.0 - noise.unit()).ln());
    let variant = if family.variants > 1 { (noise.unit() * f64::from(family.variants)) as u32 } else { 0 };
    let process = FIRST_PROCESS + position as i32 * PROCESSES_OF_FAMILY + slot;
    let width = SESSION_SECONDS * MICROS_PER_SECOND;
    let since = (at.0 + i64::from(process) * 7 * MICROS_PER_SECOND).div_euclid(width) * width;
    Session {
        started_at: Timestamp(since - i64::from(process) * 7 * MICROS_PER_SECOND),
        query_id: Some(query_id(model.seed, position, variant)),
        text: text(family, variant),
        ..plain(model, position, family, process, began, wait.map(|(kind, event, _)| (*kind, event.as_str())))
    }
}

/// Sessions of a hold-up: the holder does nothing, and those who come stand behind it.
fn held_up(model: &Model, event: &Event, hold_up: &HoldUp, holder: i32, at: Timestamp) -> Vec<Session> {
    let family = &model.families[hold_up.family];
    let table = format!("public.{}", model.tables[hold_up.table].name);
    let mut sessions = vec![Session {
        wait_kind: None,
        event: Some("Client:ClientRead".into()),
        query_id: None,
        text: hold_up.text.clone(),
        account: hold_up.account.clone(),
        program: hold_up.program.clone(),
        ..plain(model, hold_up.family, family, holder, event.at, None)
    }];
    let came = (at.seconds_since(event.at) / hold_up.arrival_seconds.max(0.001)) as i32;
    for waiter in 0..came.min(hold_up.waiters) {
        let (behind, kind, mode) = match (hold_up.stand, waiter) {
            (Stand::InChain, _) => (holder + waiter, "transactionid", "ShareLock"),
            (Stand::BehindChange, 0) => (holder, "relation", "AccessExclusiveLock"),
            (Stand::BehindChange, _) => (holder + 1, "relation", "AccessShareLock"),
            (Stand::InLine, 0) => (holder, "transactionid", "ShareLock"),
            (Stand::InLine, _) => (holder + 1, "tuple", "ExclusiveLock"),
        };
        let began = event.at.plus_seconds(f64::from(waiter + 1) * hold_up.arrival_seconds);
        let lock = format!("Lock:{kind}");
        sessions.push(Session {
            blocked_by: vec![behind],
            awaited: Some(AwaitedLock { mode: mode.into(), kind: kind.into(), object: table.clone() }),
            ..plain(model, hold_up.family, family, holder + 1 + waiter, began, Some((WaitKind::Lock, &lock)))
        });
    }
    sessions
}
