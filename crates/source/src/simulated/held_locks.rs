use std::collections::HashMap;

use hurnix_core::Timestamp;
use hurnix_core::readings::activity::Session;
use hurnix_core::readings::held_lock::{HeldLock, HeldLocks};

use super::counted::Server;
use super::model::How;
use super::sessions::{family_of, query_id};

impl Server {
    /// What its sessions hold: each what it needs of the tables that its statement touches, holders the row that others
    /// want, and those who want it the lock that they wait for.
    pub fn held_locks(&self, at: Timestamp, search: &str, most: i64) -> HeldLocks {
        let active = self.activity(at).active;
        let wanted: HashMap<i32, &Session> =
            active.iter().flat_map(|session| session.blocked_by.iter().map(move |holder| (*holder, session))).collect();
        let mut waiting: HashMap<i32, i32> = HashMap::new();
        for holder in active.iter().flat_map(|session| &session.blocked_by) {
            *waiting.entry(*holder).or_default() += 1;
        }
        let mut locks: Vec<HeldLock> = Vec::new();
        for session in &active {
            let family = family_of(session.process).or_else(|| self.family_of_text(session));
            for touch in
                family.and_then(|family| self.model.families.get(family)).into_iter().flat_map(|of| &of.touches)
            {
                let mode = match touch.how {
                    How::ReadAll | How::ReadBy(_) => "AccessShareLock",
                    How::Insert | How::Update | How::Delete => "RowExclusiveLock",
                };
                let table = format!("public.{}", self.model.tables[touch.table].name);
                locks.push(lock(session, mode, "relation", table, true, 0));
            }
            if let Some(awaited) = wanted.get(&session.process).and_then(|waiter| waiter.awaited.as_ref()) {
                let waiters = waiting.get(&session.process).copied().unwrap_or_default();
                locks.push(lock(session, "ExclusiveLock", &awaited.kind, awaited.object.clone(), true, waiters));
            }
            if let Some(awaited) = &session.awaited {
                locks.push(lock(session, &awaited.mode, &awaited.kind, awaited.object.clone(), false, 1));
            }
        }
        let search = search.to_lowercase();
        locks.retain(|lock| lock.object.to_lowercase().contains(&search));
        locks.sort_by(|a, b| b.waiting.cmp(&a.waiting).then(a.mode.cmp(&b.mode)).then(a.process.cmp(&b.process)));
        let count = locks.len() as i64;
        locks.truncate(usize::try_from(most).unwrap_or_default());
        HeldLocks { at, locks, count }
    }

    fn family_of_text(&self, session: &Session) -> Option<usize> {
        let of = session.query_id?;
        (0..self.model.families.len()).find(|family| query_id(self.model.seed, *family, 0) == of)
    }
}

fn lock(session: &Session, mode: &str, kind: &str, object: String, is_held: bool, waiting: i32) -> HeldLock {
    HeldLock {
        process: session.process,
        started_at: Some(session.started_at),
        account: session.account.clone(),
        program: session.program.clone(),
        client: session.client.clone(),
        is_idle: session.wait_kind.is_none(),
        transaction_started_at: session.transaction_started_at,
        text: session.text.clone(),
        mode: mode.to_owned(),
        kind: kind.to_owned(),
        object,
        database: session.database.clone(),
        is_held,
        waiting,
    }
}
