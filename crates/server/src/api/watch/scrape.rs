use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use hurnix_core::Window;
use hurnix_core::findings::health::Health;
use hurnix_core::instance::collection_state::CollectionState;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::load::Load;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Administrator, Path, bearer};
use crate::api::base::find::{find, there_was};
use crate::api::base::problem::{Answer, Problem};
use crate::api::watch::roster::lines;
use crate::instance_metrics::{Told, text};
use crate::newest::newest;
use crate::own_metrics::CONTENT_TYPE;
use crate::secrets::{random_text, token_hash};
use crate::state::{App, now};

const TOKEN_LETTERS: usize = 40;
/// The load that is told is that of the last minute.
const LOAD_SECONDS: f64 = 60.0;

/// A token that opens the metrics of one instance, and nothing else.
#[derive(Serialize, ToSchema)]
pub struct ScrapeToken {
    /// To be shown as `Authorization: Bearer …`. It is told this once only.
    token: String,
    /// Where the metrics are.
    path: String,
}

/// Make the token that opens `/metrics/instances/{instance_id}`. An earlier one opens nothing any more.
#[utoipa::path(post, path = "/instances/{instance_id}/scrape-token", tag = "instances", params(("instance_id" = i32, Path)),
    responses((status = 200, body = ScrapeToken)))]
pub async fn make_scrape_token(
    State(app): State<App>,
    _: Administrator,
    Path(instance_id): Path<i32>,
) -> Answer<ScrapeToken> {
    find(&app, instance_id).await?;
    let token = random_text(TOKEN_LETTERS);
    there_was(instance_id, app.store.set_scrape_token(instance_id, Some(&token_hash(&token))).await?)?;
    Ok(Json(ScrapeToken { token, path: format!("/metrics/instances/{instance_id}") }))
}

/// Take the token back: nothing opens the metrics of the instance any more.
#[utoipa::path(delete, path = "/instances/{instance_id}/scrape-token", tag = "instances", params(("instance_id" = i32, Path)),
    responses((status = 204)))]
pub async fn end_scrape_token(
    State(app): State<App>,
    _: Administrator,
    Path(instance_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    find(&app, instance_id).await?;
    there_was(instance_id, app.store.set_scrape_token(instance_id, None).await?)?;
    Ok(StatusCode::NO_CONTENT)
}

/// The main figures of an instance, for whoever shows its token. An instance that there is not is no other
/// than one whose token is wrong.
pub async fn instance_metrics(
    State(app): State<App>,
    Path(instance_id): Path<i32>,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    let opens = match bearer(&headers) {
        Some(token) => app.store.is_scrape_token(instance_id, &token_hash(token)).await?,
        None => false,
    };
    if !opens {
        return Err(Problem::show_token());
    }
    let instance = find(&app, instance_id).await?;
    let to = now();
    let window = Window { from: to.plus_seconds(-LOAD_SECONDS), to };
    let pieces = app.store.pieces(instance_id, &[RetentionGroup::Activity], window, Detail::Fine, to).await?;
    let mut load = Load::default();
    for cell in app.store.load(instance_id, &pieces, LOAD_SECONDS as i64, &[]).await? {
        load.join(&cell.load);
    }
    let health =
        lines(&app, vec![instance.clone()]).await?.first().map_or(Health::NoData, |(urgency, _)| urgency.health);
    let told = Told {
        health,
        is_collected: instance.collection == CollectionState::Collecting,
        last_success_at: instance.last_success_at,
        load: Some(load).filter(|load| load.samples > 0),
        newest: newest(&app, &instance).await?,
        label: instance.label,
    };
    Ok(([(header::CONTENT_TYPE, CONTENT_TYPE)], text(&told)).into_response())
}
