//! What keeps vacuum from removing row versions.

use hurnix_core::readings::metric::Metric;
use hurnix_store::Instance;
use serde::Serialize;
use utoipa::ToSchema;

use crate::newest::newest;
use crate::state::App;

/// Something that needs old row versions.
#[derive(Serialize, ToSchema)]
pub struct HeldBack {
    /// What it is: a session, a prepared transaction, a slot or a replica.
    by: String,
    /// Transactions since the oldest row version that it needs.
    transactions: f64,
}

/// What needs old row versions by the newest reading, the oldest first.
pub async fn held_back_by(app: &App, instance: &Instance) -> hurnix_store::Result<Vec<HeldBack>> {
    let newest = newest(app, instance).await?.into_iter();
    let ages = newest.filter(|newest| newest.metric == Metric::XminAge && newest.value > 0.0);
    let mut held: Vec<HeldBack> =
        ages.map(|newest| HeldBack { by: newest.object, transactions: newest.value }).collect();
    held.sort_by(|a, b| b.transactions.total_cmp(&a.transactions));
    Ok(held)
}
