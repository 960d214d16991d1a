//! Statements that the advice on missing indexes passes over.

use axum::Json;
use axum::extract::State;
use hurnix_core::changes::advice::FamilyCost;
use hurnix_core::changes::advice::missing_index::not_understood;
use serde::Serialize;
use utoipa::ToSchema;

use crate::analyst::costs_of_last_day;
use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::state::App;

/// Statements that are told, those that took most time.
const MOST_TOLD: usize = 100;

/// Statements that ran within a day and that no missing index, or not every one, is looked for.
#[derive(Serialize, ToSchema)]
pub struct NotUnderstoodStatements {
    /// How many there are.
    count: usize,
    /// Share of the time of all statements of the database connected to that they took.
    share: f64,
    /// Those that took most time, of these first.
    statements: Vec<NotUnderstoodStatement>,
}

/// One statement, and why no index is looked for.
#[derive(Serialize, ToSchema)]
pub struct NotUnderstoodStatement {
    /// Number of its family.
    family_id: Id,
    /// Its text.
    text: String,
    /// Share of the time of all statements of the database connected to.
    share: f64,
    /// Why.
    why: String,
}

/// Statements of the last day that the advice on missing indexes passes over, in whole or in part, those that took most
/// time first: what is not known of them.
#[utoipa::path(get, path = "/instances/{instance_id}/statements-not-understood", tag = "tune",
    params(("instance_id" = i32, Path)), responses((status = 200, body = NotUnderstoodStatements)))]
pub async fn list_statements_not_understood(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<NotUnderstoodStatements> {
    find(&app, instance_id).await?;
    let catalogs = app.store.catalogs(instance_id).await?;
    let (mut found, mut families) = (Vec::new(), Vec::new());
    if let Some(catalog) = catalogs.first() {
        families = costs_of_last_day(&app, instance_id, catalog).await?;
        found = not_understood(&families, catalog);
    }
    let all_us = families.iter().map(|family| family.exec_us).sum::<i64>().max(1) as f64;
    let share = |family: &FamilyCost| family.exec_us as f64 / all_us;
    let mut told: Vec<(&FamilyCost, String)> = found
        .into_iter()
        .filter_map(|one| Some((families.iter().find(|family| family.family == one.family)?, one.why.to_string())))
        .collect();
    told.sort_by_key(|(family, _)| std::cmp::Reverse(family.exec_us));
    Ok(Json(NotUnderstoodStatements {
        count: told.len(),
        share: told.iter().map(|(family, _)| share(family)).sum(),
        statements: told
            .into_iter()
            .take(MOST_TOLD)
            .map(|(family, why)| NotUnderstoodStatement {
                family_id: Id(family.family),
                text: family.text.clone(),
                share: share(family),
                why,
            })
            .collect(),
    }))
}
