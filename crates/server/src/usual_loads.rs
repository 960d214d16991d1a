//! What load is usual of every instance, at hand for the list of them: read again only where it was learnt anew.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use hurnix_core::Timestamp;
use hurnix_core::findings::normal_range::NormalRange;
use hurnix_store::{Result, Store};

type Known = HashMap<i32, (Timestamp, Arc<NormalRange>)>;

/// What load is usual, by number of the instance.
#[derive(Debug, Clone, Default)]
pub struct UsualLoads(Arc<Mutex<Known>>);

impl UsualLoads {
    /// What load is usual of these instances; those of which nothing was learnt yet are left out.
    pub async fn of(&self, store: &Store, ids: &[i32]) -> Result<HashMap<i32, Arc<NormalRange>>> {
        let known: Vec<Option<Timestamp>> = {
            let known = self.lock();
            ids.iter().map(|id| known.get(id).map(|(learnt_at, _)| *learnt_at)).collect()
        };
        let read = store.usual_loads(ids, &known).await?;
        let mut known = self.lock();
        let mut usual = HashMap::new();
        for (id, learnt_at, range) in read {
            if let Some(range) = range {
                known.insert(id, (learnt_at, Arc::new(range)));
            }
            usual.extend(known.get(&id).map(|(_, range)| (id, Arc::clone(range))));
        }
        Ok(usual)
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Known> {
        // Whoever broke off while holding it left whole ranges behind.
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
