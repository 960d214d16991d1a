//! The API under `/api/v1`. Each handler reads its inputs, asks the store and the core, and shapes
//! the answer; the OpenAPI document is made from the handlers.

mod base;
mod diagnose;
mod people;
mod tune;
mod watch;

use self::base::recorder;
use self::diagnose::{
    change_answers, courses, databases, deadlocks, executions, family, first_look, held_locks, hold_ups, kept_reports,
    literal_floods, load, log, metrics, moved, nested_statements, plans, replication, report_schedules, reports,
    statements, then_and_now, usual_ranges, wait_lengths,
};
use self::people::{account, accounts, actions, audit, credentials, session};
use self::tune::{advice, cost_model, index_review, not_understood, one_table};
use self::watch::{
    account_script, alarm_course, alarms, availability, collection, discovery, instance_import, instance_settings,
    instances, live, maintenance_windows, markers, named_snapshots, operations, processes, roster, scrape, search,
    sessions, threshold_trial, thresholds,
};
use axum::extract::{DefaultBodyLimit, Request, State};
use axum::http::{HeaderValue, Method, Uri, header};
use axum::middleware::{Next, from_fn_with_state};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use hurnix_core::findings::health::Health;
use tower_http::compression::CompressionLayer;
use tower_http::compression::predicate::{DefaultPredicate, NotForContentType, Predicate};
use tower_http::set_header::SetResponseHeaderLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

use crate::state::App;
use crate::{own_metrics, pages};
use base::client::over_tls;
use base::document::{Document, complete};
use base::problem::Problem;
pub use base::window::moment;

/// Largest body that a request may have.
const MOST_BODY_BYTES: usize = 64 * 1024;

/// Likewise with a list of instances.
const MOST_LIST_BYTES: usize = 4 * 1024 * 1024;

/// Likewise with two plans.
const MOST_PLAN_BYTES: usize = 16 * 1024 * 1024;

fn v1() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(session::sign_in, session::current_session, session::sign_out))
        .routes(routes!(session::set_preferences))
        .routes(routes!(search::search))
        .routes(routes!(account::change_password))
        .routes(routes!(account::list_sessions))
        .routes(routes!(account::end_session))
        .routes(routes!(account::list_tokens, account::make_token))
        .routes(routes!(account::end_token))
        .routes(routes!(accounts::list_accounts, accounts::add_account))
        .routes(routes!(accounts::change_account, accounts::remove_account))
        .routes(routes!(accounts::reset_password))
        .routes(routes!(accounts::account_sessions))
        .routes(routes!(accounts::end_account_session))
        .routes(routes!(maintenance_windows::list_windows, maintenance_windows::add_window))
        .routes(routes!(maintenance_windows::change_window, maintenance_windows::remove_window))
        .routes(routes!(thresholds::list_followed_figures))
        .routes(routes!(thresholds::list_thresholds, thresholds::add_threshold))
        .routes(routes!(thresholds::change_threshold, thresholds::remove_threshold))
        .routes(routes!(wait_lengths::load_lengths))
        .routes(routes!(hold_ups::list_hold_ups))
        .routes(routes!(deadlocks::list_deadlocks))
        .routes(routes!(held_locks::list_held_locks))
        .routes(routes!(operations::list_operations))
        .routes(routes!(processes::list_processes))
        .routes(routes!(replication::show_replication))
        .routes(routes!(replication::instance_part))
        .routes(routes!(alarm_course::alarm_course))
        .routes(routes!(threshold_trial::try_threshold))
        .routes(routes!(usual_ranges::list_usual_ranges))
        .routes(routes!(instance_settings::instance_settings))
        .routes(routes!(actions::list_actions))
        .routes(routes!(actions::act_on_server))
        .routes(routes!(actions::preview_action))
        .routes(routes!(actions::approve_action))
        .routes(routes!(actions::one_action, actions::refuse_action))
        .routes(routes!(actions::stop_action))
        .routes(routes!(actions::house_rules, actions::set_house_rules))
        .routes(routes!(sessions::sessions_on_server))
        .routes(routes!(audit::list_audit))
        .routes(routes!(audit::export_audit))
        .routes(routes!(roster::list_instances, instances::add_instance))
        .routes(routes!(instances::try_connection))
        .routes(routes!(roster::one_instance, instances::change_instance, instances::remove_instance))
        .routes(routes!(instances::try_changed_connection))
        .routes(routes!(account_script::write_account_script))
        .routes(routes!(credentials::list_credentials, credentials::add_credential))
        .routes(routes!(credentials::change_credential, credentials::remove_credential))
        .routes(routes!(discovery::find_servers))
        .routes(routes!(discovery::find_databases))
        .merge(lists())
        .routes(routes!(instances::set_group))
        .routes(routes!(instances::instance_history))
        .routes(routes!(collection::instance_collection))
        .routes(routes!(collection::set_pace))
        .routes(routes!(availability::list_figures))
        .routes(routes!(availability::ask_for_snapshot))
        .routes(routes!(named_snapshots::list_snapshots, named_snapshots::take_snapshot))
        .routes(routes!(named_snapshots::remove_snapshot))
        .routes(routes!(scrape::make_scrape_token, scrape::end_scrape_token))
        .routes(routes!(markers::note_marker))
        .routes(routes!(markers::take_back_marker))
        .routes(routes!(metrics::list_metrics))
        .routes(routes!(metrics::one_metric))
        .routes(routes!(courses::list_courses))
        .routes(routes!(moved::what_moved))
        .routes(routes!(first_look::take_first_look))
        .routes(routes!(databases::list_databases))
        .routes(routes!(databases::one_database))
        .routes(routes!(load::load_strips))
        .routes(routes!(load::load_breakdown))
        .routes(routes!(log::list_log))
        .merge(long_plans())
        .routes(routes!(statements::list_statements))
        .routes(routes!(executions::list_executions))
        .routes(routes!(literal_floods::list_literal_floods))
        .routes(routes!(nested_statements::list_nested_statements))
        .routes(routes!(family::one_family))
        .routes(routes!(family::family_elsewhere))
        .routes(routes!(statements::list_changes))
        .routes(routes!(then_and_now::then_and_now))
        .routes(routes!(then_and_now::periods_around))
        .routes(routes!(reports::one_report))
        .routes(routes!(reports::kinds_of_reports))
        .routes(routes!(kept_reports::report_on_many))
        .routes(routes!(kept_reports::list_reports, kept_reports::keep_report))
        .routes(routes!(kept_reports::kept_report, kept_reports::remove_report))
        .routes(routes!(kept_reports::write_words))
        .routes(routes!(report_schedules::list_schedules, report_schedules::add_schedule))
        .routes(routes!(report_schedules::change_schedule, report_schedules::remove_schedule))
        .routes(routes!(change_answers::answer_change, change_answers::take_back_answer))
        .routes(routes!(advice::list_advice))
        .routes(routes!(advice::one_advice))
        .routes(routes!(advice::mark_applied))
        .routes(routes!(advice::set_aside))
        .routes(routes!(advice::reopen))
        .routes(routes!(index_review::review_indexes))
        .routes(routes!(not_understood::list_statements_not_understood))
        .routes(routes!(cost_model::check_cost_model))
        .routes(routes!(one_table::one_table))
        .routes(routes!(alarms::list_alarms))
        .routes(routes!(alarms::one_alarm))
        .routes(routes!(alarms::acknowledge_alarm))
        .routes(routes!(alarms::assign_alarm))
        .routes(routes!(alarms::comment_alarm))
        .routes(routes!(alarms::snooze_alarm))
        .routes(routes!(roster::roster))
        .routes(routes!(live::events))
        .routes(routes!(live::health))
}

/// Lists of instances are longer than what is sent otherwise.
fn lists() -> OpenApiRouter<App> {
    OpenApiRouter::new()
        .routes(routes!(instance_import::preview_list))
        .routes(routes!(instance_import::bring_list_in))
        .routes(routes!(instance_import::take_list_back))
        .routes(routes!(instance_import::write_list))
        .layer(DefaultBodyLimit::max(MOST_LIST_BYTES))
}

/// Plans of hundreds of partitions are long texts.
fn long_plans() -> OpenApiRouter<App> {
    OpenApiRouter::new().routes(routes!(plans::read_plans)).layer(DefaultBodyLimit::max(MOST_PLAN_BYTES))
}

/// The OpenAPI document of the API.
pub fn document() -> utoipa::openapi::OpenApi {
    complete(OpenApiRouter::with_openapi(Document::openapi()).nest("/api/v1", v1()).into_openapi())
}

/// API and pages.
pub fn router(app: App) -> Router {
    let (api, document) = OpenApiRouter::with_openapi(Document::openapi()).nest("/api/v1", v1()).split_for_parts();
    let document = complete(document);
    let recorder = (app.clone(), recorder::actions(&document));
    let set = |name, value| SetResponseHeaderLayer::if_not_present(name, HeaderValue::from_static(value));
    api.route("/api/openapi.json", get(|| async move { Json(document) }))
        .route("/metrics", get(own_metrics))
        .route("/metrics/instances/{instance_id}", get(scrape::instance_metrics))
        .fallback(elsewhere)
        .method_not_allowed_fallback(async |method: Method| Problem::method_not_allowed(&method))
        .layer(from_fn_with_state(recorder, recorder::record))
        .layer(DefaultBodyLimit::max(MOST_BODY_BYTES))
        // Live events must not wait for a compressor to fill up.
        .layer(CompressionLayer::new().compress_when(DefaultPredicate::new().and(NotForContentType::const_new("text/event-stream"))))
        .layer(set(
            header::CONTENT_SECURITY_POLICY,
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
        ))
        .layer(set(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(set(header::X_FRAME_OPTIONS, "DENY"))
        .layer(set(header::REFERRER_POLICY, "same-origin"))
        .layer(from_fn_with_state(app.clone(), stay_with_tls))
        .with_state(app)
}

/// Who came over TLS once never comes in clear again (RFC 6797): for a year.
async fn stay_with_tls(State(app): State<App>, request: Request, next: Next) -> Response {
    let over_tls = over_tls(request.extensions(), request.headers(), &app.trusted_proxies);
    let mut response = next.run(request).await;
    if over_tls {
        let year = HeaderValue::from_static("max-age=31536000");
        response.headers_mut().insert(header::STRICT_TRANSPORT_SECURITY, year);
    }
    response
}

/// What Hurnix tells of itself: nothing of any one instance, so that anybody may ask.
async fn own_metrics(State(app): State<App>) -> Response {
    let by_state = app.store.instances_by_state().await.ok();
    let held = app.store.held_by(&app.collector_id).await.ok().map(|held| held.len() as i64);
    app.own_metrics.note_instances(by_state.as_deref(), held);
    if let Ok(instances) = app.store.instances().await
        && let Ok(lines) = roster::lines(&app, instances).await
    {
        let healths: Vec<Health> = lines.iter().map(|(urgency, _)| urgency.health).collect();
        app.own_metrics.note_healths(&healths);
    }
    ([(header::CONTENT_TYPE, own_metrics::CONTENT_TYPE)], app.own_metrics.text()).into_response()
}

async fn elsewhere(uri: Uri) -> Response {
    if uri.path().starts_with("/api/") {
        return Problem::no_such_address(uri.path()).into_response();
    }
    pages::page(uri).await
}
