use hurnix_store::Instance;

use crate::api::base::problem::Problem;
use crate::state::App;

/// The instance, or the problem that there is none.
pub async fn find(app: &App, instance_id: i32) -> Result<Instance, Problem> {
    app.store.instance(instance_id).await?.ok_or_else(|| Problem::not_found("instance_id", "instance", instance_id))
}

/// The problem that there is none, where somebody else has removed it meanwhile.
pub fn there_was(instance_id: i32, was: bool) -> Result<(), Problem> {
    if was { Ok(()) } else { Err(Problem::not_found("instance_id", "instance", instance_id)) }
}
