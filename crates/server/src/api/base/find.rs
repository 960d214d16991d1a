use hurnix_core::instance::engine::Engine;
use hurnix_store::Instance;

use crate::api::base::problem::{FieldProblem, Problem};
use crate::state::App;

/// The instance, or the problem that there is none.
pub async fn find(app: &App, instance_id: i32) -> Result<Instance, Problem> {
    app.store.instance(instance_id).await?.ok_or_else(|| Problem::not_found("instance_id", "instance", instance_id))
}

/// The instance, if it has a server that can be looked at.
pub async fn find_watched(app: &App, instance_id: i32) -> Result<Instance, Problem> {
    let instance = find(app, instance_id).await?;
    if instance.engine == Engine::Bundle {
        let remedy = "Its figures were imported from bundles: look at an instance that is connected.";
        return Err(Problem::conflict(FieldProblem::new("instance_id", instance.label, remedy)));
    }
    Ok(instance)
}

/// The problem that there is none, where somebody else has removed it meanwhile.
pub fn there_was(instance_id: i32, was: bool) -> Result<(), Problem> {
    if was { Ok(()) } else { Err(Problem::not_found("instance_id", "instance", instance_id)) }
}
