use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, HashMap};

use hurnix_core::Timestamp;
use hurnix_core::findings::literal_flood::TextsOfFamily;
use hurnix_core::readings::activity::Session;
use hurnix_core::readings::family::{fold, mask_tag, masked};
use hurnix_core::readings::metric::Measure;
use hurnix_core::readings::server_log::LogEntry;
use hurnix_core::readings::statement::{NestedKey, StatementKey, StatementText, is_planned};
use hurnix_store::{
    ActivityRow, KeptBy, LogRow, LoggedPlanRow, NamedObject, NewFamily, Result, StatementObject, Store,
};

/// Texts remembered at most; past that all are forgotten and looked up anew.
const MOST_TEXTS: usize = 20_000;

/// The numbers by which the repository keeps texts of one instance, remembered.
#[derive(Debug)]
pub struct Words {
    keeps_literals: bool,
    names: HashMap<String, i32>,
    families_by_text: HashMap<String, i64>,
    families_by_query_id: HashMap<i64, i64>,
    /// With the bytes of their texts.
    statements: HashMap<StatementKey, (StatementObject, u64)>,
}

impl Words {
    /// None yet. Literals are kept only where the instance says so.
    pub fn new(keeps_literals: bool) -> Words {
        Words {
            keeps_literals,
            names: HashMap::new(),
            families_by_text: HashMap::new(),
            families_by_query_id: HashMap::new(),
            statements: HashMap::new(),
        }
    }

    /// Number of the family that a statement is of, once its text is known.
    pub fn family_of(&self, key: &StatementKey) -> Option<i64> {
        self.statements.get(key).map(|(object, _)| object.family_id)
    }

    /// Gives numbers to the names that keys are.
    pub async fn learn_keys<'a, K: Keyed + 'a>(
        &mut self,
        store: &Store,
        instance_id: i32,
        keys: impl Iterator<Item = &'a K>,
        seen_at: Timestamp,
    ) -> Result<()> {
        self.learn_names(store, instance_id, keys.filter_map(Keyed::name), seen_at).await
    }

    /// What a statement's counters are kept by; known once [`Self::learn_statements`] has seen its text.
    pub fn statement(&self, key: &StatementKey) -> Option<StatementObject> {
        self.statements.get(key).map(|(object, _)| *object)
    }

    /// Notes families of which a reading has very many texts; of kinds of counters that are not of statements there are none.
    pub async fn note_floods<'a, K: Keyed + 'a>(
        &self,
        store: &Store,
        instance_id: i32,
        keys: impl ExactSizeIterator<Item = &'a K>,
        at: Timestamp,
    ) -> Result<()> {
        let entries = keys.len();
        let mut by_family: HashMap<i64, TextsOfFamily> = HashMap::new();
        for (family, bytes) in keys.filter_map(|key| key.text_of(self)) {
            by_family.entry(family).or_default().add(bytes);
        }
        let floods: Vec<(i64, TextsOfFamily)> = by_family.into_iter().filter(|(_, texts)| texts.is_flood()).collect();
        store.note_literal_floods(instance_id, at, &floods, entries).await
    }

    /// Gives numbers to statements whose texts arrived.
    pub async fn learn_statements(
        &mut self,
        store: &Store,
        instance_id: i32,
        texts: &[StatementText],
        seen_at: Timestamp,
    ) -> Result<()> {
        let names = texts.iter().flat_map(|text| [text.account.clone(), text.database.clone()]);
        self.learn_names(store, instance_id, names, seen_at).await?;
        let families: Vec<NewFamily> = texts.iter().map(|text| family(&text.text, true, self.keeps_literals)).collect();
        let numbers = store.families(instance_id, &families, seen_at).await?;
        for (text, family) in texts.iter().zip(&families) {
            let family_id = numbers[&family.fingerprint];
            self.families_by_query_id.insert(text.key.query_id, family_id);
            let object = StatementObject {
                family_id,
                account_id: self.names[&text.account],
                database_id: self.names[&text.database],
            };
            self.statements.insert(text.key, (object, text.text.len() as u64));
        }
        Ok(())
    }

    /// Gives numbers to everything that sampled sessions mention.
    pub async fn learn_sessions<'a>(
        &mut self,
        store: &Store,
        instance_id: i32,
        sessions: impl Iterator<Item = &'a Session> + Clone,
        seen_at: Timestamp,
    ) -> Result<()> {
        let mut names = Vec::new();
        for session in sessions.clone() {
            names.extend([&session.account, &session.program, &session.client, &session.database].map(String::clone));
            names.extend(session.event.clone());
            if let Some(lock) = &session.awaited {
                names.extend([&lock.mode, &lock.kind, &lock.object].map(String::clone));
            }
        }
        self.learn_names(store, instance_id, names.into_iter(), seen_at).await?;
        let by_number = |session: &&Session| {
            session.query_id.is_some_and(|query_id| self.families_by_query_id.contains_key(&query_id))
        };
        let texts: Vec<&str> =
            sessions.filter(|session| !by_number(session)).map(|session| session.text.as_str()).collect();
        self.learn_texts(store, instance_id, texts.into_iter(), seen_at).await
    }

    /// A sampled session as the repository keeps it; [`Self::learn_sessions`] must have seen it.
    pub fn row<'a>(&self, session: &'a Session) -> ActivityRow<'a> {
        ActivityRow {
            session,
            event_id: session.event.as_ref().map(|event| self.names[event]),
            family_id: self.family_id(session),
            account_id: self.names[&session.account],
            program_id: self.names[&session.program],
            client_id: self.names[&session.client],
            database_id: self.names[&session.database],
            awaited: session
                .awaited
                .as_ref()
                .map(|lock| [&lock.mode, &lock.kind, &lock.object].map(|word| self.names[word])),
        }
    }

    /// By the server's own number where it is known: texts of activity may be cut short.
    fn family_id(&self, session: &Session) -> Option<i64> {
        let by_number = session.query_id.and_then(|query_id| self.families_by_query_id.get(&query_id));
        by_number.or_else(|| self.families_by_text.get(&session.text)).copied()
    }

    /// Gives numbers to everything that was measured.
    pub async fn learn_objects(
        &mut self,
        store: &Store,
        instance_id: i32,
        measures: &[Measure],
        seen_at: Timestamp,
    ) -> Result<()> {
        self.learn_names(store, instance_id, measures.iter().map(|measure| measure.object.clone()), seen_at).await
    }

    /// The number of what was measured; [`Self::learn_objects`] must have seen it.
    pub fn object(&self, measure: &Measure) -> i32 {
        self.names[&measure.object]
    }

    /// Gives numbers to everything that entries of a log mention.
    pub async fn learn_log(
        &mut self,
        store: &Store,
        instance_id: i32,
        entries: &[LogEntry],
        seen_at: Timestamp,
    ) -> Result<()> {
        let names = entries.iter().flat_map(|LogEntry { line, .. }| {
            [&line.account, &line.program, &line.client, &line.database].map(String::clone)
        });
        self.learn_names(store, instance_id, names, seen_at).await?;
        let statements = entries.iter().map(|entry| entry.line.statement.as_str());
        self.learn_texts(store, instance_id, statements, seen_at).await
    }

    /// An entry of a log as the repository keeps it; [`Self::learn_log`] must have seen it.
    pub fn log_row<'a>(&self, entry: &'a LogEntry) -> LogRow<'a> {
        let LogEntry { line, kind, times, value } = entry;
        let statement = Some(line.statement.as_str()).filter(|statement| !statement.is_empty());
        LogRow {
            line,
            kind: *kind,
            times: *times,
            value: *value,
            names: [&line.account, &line.program, &line.client, &line.database].map(|name| self.names[name]),
            family_id: self.families_by_text.get(&line.statement).copied(),
            statement: statement.filter(|_| self.keeps_literals),
        }
    }

    /// Plans of a log by the families of their statements: executions with the same plan as one.
    pub async fn plans_by_family(
        &mut self,
        store: &Store,
        instance_id: i32,
        plans: &[(String, LoggedPlanRow)],
        seen_at: Timestamp,
    ) -> Result<Vec<(i64, LoggedPlanRow)>> {
        self.learn_texts(store, instance_id, plans.iter().map(|(statement, _)| statement.as_str()), seen_at).await?;
        let mut joined: BTreeMap<(i64, i64), LoggedPlanRow> = BTreeMap::new();
        for (statement, plan) in plans {
            let Some(family) = self.families_by_text.get(statement) else { continue };
            match joined.entry((*family, plan.identity)) {
                Entry::Vacant(first) => {
                    first.insert(plan.clone());
                }
                Entry::Occupied(mut one) => one.get_mut().join(plan.clone()),
            }
        }
        Ok(joined.into_iter().map(|((family, _), plan)| (family, plan)).collect())
    }

    /// Gives numbers to the families of texts that nothing else tells apart.
    async fn learn_texts<'a>(
        &mut self,
        store: &Store,
        instance_id: i32,
        texts: impl Iterator<Item = &'a str>,
        seen_at: Timestamp,
    ) -> Result<()> {
        if self.families_by_text.len() > MOST_TEXTS {
            self.families_by_text.clear();
        }
        let mut unknown: HashMap<&str, NewFamily> = HashMap::new();
        for text in texts.filter(|text| !text.is_empty() && !self.families_by_text.contains_key(*text)) {
            // Such texts show literals; the repository keeps them only where the server has folded them itself.
            unknown.entry(text).or_insert_with(|| family(text, false, self.keeps_literals));
        }
        if !unknown.is_empty() {
            let families: Vec<NewFamily> = unknown.values().cloned().collect();
            let numbers = store.families(instance_id, &families, seen_at).await?;
            for (text, family) in unknown {
                self.families_by_text.insert(text.to_owned(), numbers[&family.fingerprint]);
            }
        }
        Ok(())
    }

    async fn learn_names(
        &mut self,
        store: &Store,
        instance_id: i32,
        names: impl Iterator<Item = String>,
        seen_at: Timestamp,
    ) -> Result<()> {
        let mut unknown: Vec<String> = names.filter(|name| !self.names.contains_key(name)).collect();
        unknown.sort();
        unknown.dedup();
        if !unknown.is_empty() {
            self.names.extend(store.names(instance_id, &unknown, seen_at).await?);
        }
        Ok(())
    }
}

/// What a server tells objects apart by, as what they are kept by.
pub trait Keyed: KeptBy {
    /// What the object is kept by; nothing where it is not counted, or not known yet.
    fn object(&self, words: &Words) -> Option<Self::Object>;

    /// The name that it is.
    fn name(&self) -> Option<String> {
        None
    }

    /// Family and bytes of the text that it is; of statements, once their texts are known.
    fn text_of(&self, _: &Words) -> Option<(i64, u64)> {
        None
    }
}

impl Keyed for StatementKey {
    /// What a function ran is in the figures of the statement that called it.
    fn object(&self, words: &Words) -> Option<StatementObject> {
        words.statement(self).filter(|_| self.top_level)
    }

    fn text_of(&self, words: &Words) -> Option<(i64, u64)> {
        words.statements.get(self).map(|(object, bytes)| (object.family_id, *bytes))
    }
}

impl Keyed for NestedKey {
    fn object(&self, words: &Words) -> Option<StatementObject> {
        words.statement(&StatementKey::from(*self))
    }
}

impl Keyed for u32 {
    fn object(&self, _: &Words) -> Option<u32> {
        Some(*self)
    }
}

impl Keyed for String {
    fn object(&self, words: &Words) -> Option<NamedObject> {
        words.names.get(self).copied().map(NamedObject)
    }

    fn name(&self) -> Option<String> {
        Some(self.clone())
    }
}

/// A text as the family that it is of, with a sample as it is kept. The server keeps most of what it plans without its
/// literals, but not what it threw out of its list while it ran; what it does not plan it keeps as it was sent.
pub fn family(text: &str, is_the_servers: bool, keeps_literals: bool) -> NewFamily {
    let family = fold(text);
    let sample_is_the_servers = is_the_servers && is_planned(text);
    let sample = match (sample_is_the_servers, keeps_literals) {
        (true, true) => text.to_owned(),
        (true, false) => masked(text),
        (false, _) => family.text.clone(),
    };
    let tag = family.tag.as_ref().map(|tag| if keeps_literals { tag.clone() } else { mask_tag(tag) });
    NewFamily { fingerprint: family.fingerprint(), text: family.text, tag, sample, sample_is_the_servers }
}
