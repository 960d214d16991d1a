//! Readings of counters that belong to a snapshot with a name, with what their objects are called.

use std::collections::HashMap;

use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::counters_read::CountersRead;
use hurnix_core::readings::difference::Snapshot;
use hurnix_core::readings::named_reading::NamedReading;
use hurnix_core::readings::statement::StatementKey;
use hurnix_store::{Result, Store, StoreProblem};

use super::words::Words;

/// The reading as it is kept.
pub async fn written(store: &Store, instance_id: i32, words: &Words, read: &CountersRead) -> Result<serde_json::Value> {
    let mut names = names(store, instance_id, words, read).await?;
    let of_clients;
    let read = match read {
        CountersRead::Statements(snapshot) => {
            of_clients = CountersRead::Statements(without_nested(snapshot, &mut names));
            &of_clients
        }
        read => read,
    };
    macro_rules! written {
        ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {
            match read {
                $(CountersRead::$kind(snapshot) => {
                    serde_json::to_value(NamedReading { snapshot: snapshot.clone(), names: std::mem::take(&mut names) })
                })+
            }
        };
    }
    let written = hurnix_core::all_counters!(written);
    written.map_err(|error| StoreProblem::Unreadable { what: "named reading", reason: error.to_string() })
}

/// What clients sent, and not what functions ran for it: that is a kind of its own, and in here as well.
fn without_nested(
    snapshot: &Snapshot<StatementKey, StatementCounters>,
    names: &mut Vec<String>,
) -> Snapshot<StatementKey, StatementCounters> {
    let is_sent: Vec<bool> = snapshot.rows.iter().map(|(key, _)| key.top_level).collect();
    let mut sent = snapshot.clone();
    let mut keep = is_sent.iter();
    sent.rows.retain(|_| keep.next() == Some(&true));
    let mut keep = is_sent.iter();
    sent.traces.retain(|_| keep.next() == Some(&true));
    let mut keep = is_sent.iter();
    names.retain(|_| keep.next() == Some(&true));
    sent.gone.retain(|(key, _)| key.top_level);
    sent
}

/// What the objects are called, in the order of the reading.
async fn names(store: &Store, instance_id: i32, words: &Words, read: &CountersRead) -> Result<Vec<String>> {
    Ok(match read {
        CountersRead::Statements(snapshot) => {
            texts(store, instance_id, words, snapshot.rows.iter().map(|(key, _)| *key)).await?
        }
        CountersRead::Nested(snapshot) => {
            texts(store, instance_id, words, snapshot.rows.iter().map(|(key, _)| StatementKey::from(*key))).await?
        }
        CountersRead::Databases(snapshot) => {
            let inventory = store.inventory(instance_id).await?;
            let known = inventory.iter().flat_map(|inventory| &inventory.databases);
            in_order(known.map(|database| (database.oid, database.name.clone())), &snapshot.rows)
        }
        CountersRead::Tables(snapshot) => {
            let catalogs = store.catalogs(instance_id).await?;
            let known = catalogs.iter().flat_map(|catalog| &catalog.tables);
            let named = known.map(|table| (table.oid, format!("{}.{}", table.schema, table.name)));
            in_order(named, &snapshot.rows)
        }
        CountersRead::Indexes(snapshot) => {
            let catalogs = store.catalogs(instance_id).await?;
            let known = catalogs.iter().flat_map(|catalog| catalog.indexes());
            let named =
                known.map(|(table, index)| (index.oid, format!("{} on {}.{}", index.name, table.schema, table.name)));
            in_order(named, &snapshot.rows)
        }
        CountersRead::Io(snapshot) => snapshot.rows.iter().map(|(key, _)| key.clone()).collect(),
        CountersRead::Checkpoints(snapshot) => vec!["server".to_owned(); snapshot.rows.len()],
    })
}

async fn texts(
    store: &Store,
    instance_id: i32,
    words: &Words,
    keys: impl Iterator<Item = StatementKey>,
) -> Result<Vec<String>> {
    let families: Vec<Option<i64>> = keys.map(|key| words.family_of(&key)).collect();
    let known: Vec<i64> = families.iter().flatten().copied().collect();
    let texts = store.family_texts(instance_id, &known).await?;
    Ok(families
        .iter()
        .map(|family| family.and_then(|family| texts.get(&family).cloned()).unwrap_or_default())
        .collect())
}

fn in_order<C>(named: impl Iterator<Item = (u32, String)>, rows: &[(u32, C)]) -> Vec<String> {
    let named: HashMap<u32, String> = named.collect();
    rows.iter().map(|(oid, _)| named.get(oid).cloned().unwrap_or_default()).collect()
}
