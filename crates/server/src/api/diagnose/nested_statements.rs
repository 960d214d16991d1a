//! What functions and procedures ran, statement by statement.

use axum::Json;
use axum::extract::State;
use hurnix_core::findings::then_and_now::by_most;
use hurnix_core::keeping::retention::RetentionGroup;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::{WindowQuery, summed_by};
use crate::state::App;

/// Statements that are told, those that took most time.
const MOST_TOLD: usize = 200;

/// What functions and procedures ran in a window.
#[derive(Serialize, ToSchema)]
pub struct NestedStatements {
    /// Seconds of the window that were counted.
    seconds: f64,
    /// How many there are.
    count: usize,
    /// Those that took most time, of these first.
    statements: Vec<NestedStatement>,
}

/// One statement that functions and procedures ran. Times in microseconds, pages in the server's page size.
#[derive(Serialize, ToSchema)]
pub struct NestedStatement {
    /// Number of its family.
    family_id: Id,
    /// Its text.
    text: String,
    /// Executions that ended.
    calls: i64,
    /// Time executing; that of the statement that called the function holds it as well.
    exec_us: i64,
    /// Share of the time of all of them.
    share: f64,
    /// Rows returned or changed.
    rows: i64,
    /// Pages found in the server's cache.
    hit_pages: i64,
    /// Pages read from outside it.
    read_pages: i64,
    /// Pages changed for the first time since they were last written.
    dirtied_pages: i64,
    /// Pages written to temporary files.
    temp_written_pages: i64,
    /// Write-ahead log made, in bytes.
    log_bytes: i64,
}

/// Statements that functions and procedures ran in a window, those that took most time first. The server counts them where
/// `pg_stat_statements.track` is `all`.
#[utoipa::path(get, path = "/instances/{instance_id}/nested-statements", tag = "diagnose",
    params(("instance_id" = i32, Path), WindowQuery), responses((status = 200, body = NestedStatements)))]
pub async fn list_nested_statements(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<WindowQuery>,
) -> Answer<NestedStatements> {
    let window = query.window()?;
    find(&app, instance_id).await?;
    let pieces = summed_by(&app, instance_id, &[RetentionGroup::Statements], window).await?;
    let (sums, seconds) = app.store.nested_sums(instance_id, &pieces).await?;
    let all_us = sums.values().map(|sum| sum.exec_us).sum::<i64>().max(1) as f64;
    let count = sums.len();
    let mut sums: Vec<_> = sums.into_iter().collect();
    by_most(&mut sums, |(_, sum)| sum.exec_us as f64);
    sums.truncate(MOST_TOLD);
    let families: Vec<i64> = sums.iter().map(|(family, _)| *family).collect();
    let mut texts = app.store.family_texts(instance_id, &families).await?;
    let statements = sums
        .into_iter()
        .map(|(family, sum)| NestedStatement {
            family_id: Id(family),
            text: texts.remove(&family).unwrap_or_default(),
            calls: sum.calls,
            exec_us: sum.exec_us,
            share: sum.exec_us as f64 / all_us,
            rows: sum.rows,
            hit_pages: sum.hit_pages,
            read_pages: sum.read_pages,
            dirtied_pages: sum.dirtied_pages,
            temp_written_pages: sum.temp_written_pages,
            log_bytes: sum.log_bytes,
        })
        .collect();
    Ok(Json(NestedStatements { seconds, count, statements }))
}
