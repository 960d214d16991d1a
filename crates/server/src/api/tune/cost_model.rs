//! How well predicted costs agree with the server's planner.

use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use hurnix_core::changes::advice::FamilyCost;
use serde::Serialize;
use utoipa::ToSchema;

use crate::analyst::{costs_of_last_day, planner_check};
use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::state::App;

/// Statements that are told, those that are furthest apart.
const MOST_TOLD: usize = 100;

/// How well predicted costs agree with the planner's.
#[derive(Serialize, ToSchema)]
pub struct CostModelCheck {
    /// Plans that were held against what is predicted: the newest of each statement that took most time in the last day.
    plans: usize,
    /// The middle of how many times as much is predicted as the planner expects; nothing of too few plans.
    middle: Option<f64>,
    /// The factor within which four of five agree; nothing of too few plans.
    factor: Option<f64>,
    /// Those that are furthest apart first.
    statements: Vec<CostedStatement>,
}

/// A statement with what it is predicted to cost and what the planner expects.
#[derive(Serialize, ToSchema)]
pub struct CostedStatement {
    /// Number of its family.
    family_id: Id,
    /// Its text.
    text: String,
    /// Predicted cost with the indexes that are there, in the planner's units.
    predicted_cost: f64,
    /// Cost by the planner, in its units.
    planner_cost: f64,
    /// How many times as much is predicted as the planner expects.
    ratio: f64,
}

/// Predicted costs of statements held against those of the server's planner, with the same indexes and the same rows.
#[utoipa::path(get, path = "/instances/{instance_id}/cost-model", tag = "tune",
    params(("instance_id" = i32, Path)), responses((status = 200, body = CostModelCheck)))]
pub async fn check_cost_model(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<CostModelCheck> {
    find(&app, instance_id).await?;
    let catalogs = app.store.catalogs(instance_id).await?;
    let (mut check, mut families) = (Default::default(), Vec::new());
    if let Some(catalog) = catalogs.first() {
        families = costs_of_last_day(&app, instance_id, catalog).await?;
        check = planner_check(&app, &families, catalog).await?;
    }
    let by_number: HashMap<i64, &FamilyCost> = families.iter().map(|family| (family.family, family)).collect();
    Ok(Json(CostModelCheck {
        plans: check.costed.len(),
        middle: check.middle(),
        factor: check.factor(),
        statements: check
            .costed
            .iter()
            .take(MOST_TOLD)
            .filter_map(|costed| {
                Some(CostedStatement {
                    family_id: Id(costed.family),
                    text: by_number.get(&costed.family)?.text.clone(),
                    predicted_cost: costed.ours,
                    planner_cost: costed.planners,
                    ratio: costed.ratio(),
                })
            })
            .collect(),
    }))
}
