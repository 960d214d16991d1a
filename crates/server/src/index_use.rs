use hurnix_core::findings::index_watch::IndexUse;
use hurnix_core::readings::metric::Metric;
use hurnix_store::{Instance, Result};

use crate::family::family_of;
use crate::newest::newest;
use crate::state::Collected;

/// How long indexes were watched, on the instance and on every server that has the same ones: a primary and its
/// replicas share one number, and the numbers of their indexes.
pub async fn index_use(app: &Collected, instance: &Instance) -> Result<IndexUse> {
    let store = &app.store;
    let mut index_use = IndexUse { here: store.index_watch(instance.instance_id).await?, ..IndexUse::default() };
    let mut family = vec![instance.clone()];
    for other in family_of(app, instance).await? {
        if other.database_name == instance.database_name {
            index_use.elsewhere.push(store.index_watch(other.instance_id).await?);
            family.push(other);
        }
    }
    let (mut primaries, mut replicas, mut connected) = (0, 0, 0.0);
    for one in &family {
        let measured = newest(app, one).await?;
        let of =
            |metric: Metric| measured.iter().find(|measured| measured.metric == metric).map(|measured| measured.value);
        if of(Metric::Recovering) == Some(1.0) {
            replicas += 1;
        } else {
            primaries += 1;
        }
        connected += of(Metric::ReplicasConnected).unwrap_or_default();
    }
    index_use.unwatched = IndexUse::count_unwatched(primaries, replicas, connected as usize);
    Ok(index_use)
}
