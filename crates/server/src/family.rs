//! Instances that are servers of one system: a primary and its replicas share one number.

use hurnix_store::{Instance, Result};

use crate::state::{Collected, now};

/// All other instances of the system of an instance, by what was read last.
pub async fn family_of(app: &Collected, instance: &Instance) -> Result<Vec<Instance>> {
    let inventory = app.store.inventory(instance.instance_id).await?;
    let Some(identifier) = inventory.and_then(|inventory| inventory.system_identifier) else { return Ok(Vec::new()) };
    let mut family = app.store.instances_of_system(&identifier).await?;
    family.retain(|other| other.instance_id != instance.instance_id);
    Ok(family)
}

/// The instance that is the primary of a replica, where there is exactly one under care.
pub async fn primary_of(app: &Collected, replica: &Instance) -> Result<Option<Instance>> {
    let mut primaries = Vec::new();
    for other in family_of(app, replica).await? {
        if other.database_name == replica.database_name
            && app.store.is_replica(other.instance_id, now()).await? == Some(false)
        {
            primaries.push(other);
        }
    }
    let first = primaries.pop();
    Ok(first.filter(|_| primaries.is_empty()))
}
