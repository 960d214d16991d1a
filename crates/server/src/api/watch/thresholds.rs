use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use hurnix_core::Named;
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::health::Health;
use hurnix_core::findings::normal_range::Side;
use hurnix_core::findings::threshold::{NoThreshold, Scope, SetThreshold, Threshold};
use hurnix_store::{Caller, Instance};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Administrator, Body, Path, SignedIn};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::word::{HealthWord, SideWord, UnitWord, Word};
use crate::state::App;

/// Seconds of a minute.
const MINUTE: f64 = 60.0;

/// A figure of servers that is followed over time.
#[derive(Serialize, ToSchema)]
pub struct FollowedFigure {
    /// Its name.
    figure: String,
    /// What it is called.
    title: String,
    /// What it means.
    meaning: &'static str,
    /// What it is measured in.
    unit: UnitWord,
}

/// A threshold.
#[derive(Serialize, ToSchema)]
pub struct ThresholdFigures {
    /// Number.
    threshold_id: i32,
    /// What it is.
    #[serde(flatten)]
    threshold: ThresholdSet,
    /// What its figure is called.
    title: String,
    /// What that is measured in.
    unit: UnitWord,
}

/// What a threshold is set to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ThresholdSet {
    /// Label of the instance that it is for; left out when it is for a group, or for all.
    instance: Option<String>,
    /// Group of instances that it is for; left out when it is for one instance, or for all.
    group: Option<String>,
    /// Name of the figure.
    figure: String,
    /// Object of the figure, such as a volume; each of them when left out.
    object: Option<String>,
    /// Which side of the value is trouble.
    #[param(inline)]
    side: SideWord,
    /// In the unit of the figure.
    value: f64,
    /// From where on it is over, on the quiet side of the value; the value itself when left out.
    clears_at: Option<f64>,
    /// For how many minutes the figure has to be beyond the value, a week at most; 0 for the first mean beyond.
    #[schema(minimum = 0, maximum = 10080)]
    #[param(minimum = 0, maximum = 10080)]
    lasts_minutes: f64,
    /// How urgent it is: `act` or `look`.
    #[param(inline)]
    verdict: HealthWord,
    /// What to do about it; may be empty.
    #[serde(default)]
    step: String,
    /// Whether it raises alarms. One that does not takes that of a wider scope out of force.
    #[serde(default = "yes")]
    is_on: bool,
}

fn yes() -> bool {
    true
}

impl ThresholdSet {
    fn of(set: &SetThreshold, instances: &[Instance]) -> ThresholdSet {
        let threshold = &set.threshold;
        let label = |id: i32| instances.iter().find(|one| one.instance_id == id).map(|one| one.label.clone());
        let (instance, group) = match &set.scope {
            Scope::All => (None, None),
            Scope::Group(group) => (None, Some(group.clone())),
            Scope::Instance(id) => (label(*id), None),
        };
        ThresholdSet {
            instance,
            group,
            figure: threshold.figure.name(),
            object: threshold.object.clone(),
            side: Word(threshold.side),
            value: threshold.value,
            clears_at: Some(threshold.clears_at),
            lasts_minutes: threshold.lasts_seconds / MINUTE,
            verdict: Word(threshold.verdict),
            step: threshold.step.clone(),
            is_on: set.is_on,
        }
    }

    /// The threshold that is meant, with all faults of what was given.
    pub fn check(self, instances: &[Instance]) -> Result<SetThreshold, Problem> {
        let mut errors = Vec::new();
        let given = |text: Option<String>| text.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
        let scope = match (given(self.instance), given(self.group)) {
            (None, None) => Scope::All,
            (None, Some(group)) => Scope::Group(group),
            (Some(label), None) => match instances.iter().find(|one| one.label == label) {
                Some(instance) => Scope::Instance(instance.instance_id),
                None => {
                    errors.push(FieldProblem::new("instance", &label, "There is no instance of this label."));
                    Scope::All
                }
            },
            (Some(label), Some(_)) => {
                errors.push(FieldProblem::new("instance", &label, "Give an instance or a group, or neither for all."));
                Scope::All
            }
        };
        let figure = ServerFigure::named(self.figure.trim());
        if figure.is_none() {
            errors.push(FieldProblem::new("figure", &self.figure, "Give one of those that GET /figures lists."));
        }
        let object = given(self.object);
        let threshold = Threshold {
            figure: figure.unwrap_or(ServerFigure::Load),
            object,
            side: self.side.0,
            value: self.value,
            clears_at: self.clears_at.unwrap_or(self.value),
            lasts_seconds: self.lasts_minutes * MINUTE,
            verdict: self.verdict.0,
            step: self.step.trim().to_owned(),
        };
        if let Err(fault) = threshold.check() {
            let (field, value) = match fault {
                NoThreshold::Value => ("value", self.value.to_string()),
                NoThreshold::ClearsAt => ("clears_at", threshold.clears_at.to_string()),
                NoThreshold::Lasts => ("lasts_minutes", self.lasts_minutes.to_string()),
                NoThreshold::Verdict => ("verdict", threshold.verdict.name().to_owned()),
            };
            errors.push(FieldProblem::new(field, value, format!("It is no threshold: {fault}.")));
        }
        if errors.is_empty() {
            Ok(SetThreshold { threshold_id: 0, scope, is_on: self.is_on, threshold })
        } else {
            Err(Problem::invalid(errors))
        }
    }
}

impl ThresholdFigures {
    fn new(set: &SetThreshold, instances: &[Instance]) -> Self {
        ThresholdFigures {
            threshold_id: set.threshold_id,
            threshold: ThresholdSet::of(set, instances),
            title: set.threshold.figure.title(),
            unit: Word(set.threshold.figure.unit()),
        }
    }
}

/// Figures of servers that are followed over time, and can have thresholds.
#[utoipa::path(get, path = "/figures", tag = "thresholds", responses((status = 200, body = Vec<FollowedFigure>)))]
pub async fn list_followed_figures(_: SignedIn) -> Answer<Vec<FollowedFigure>> {
    let followed = |figure: ServerFigure| FollowedFigure {
        figure: figure.name(),
        title: figure.title(),
        meaning: figure.meaning(),
        unit: Word(figure.unit()),
    };
    Ok(Json(ServerFigure::all().into_iter().map(followed).collect()))
}

/// Thresholds of the instances that one sees, in the order in which they were set.
#[utoipa::path(get, path = "/thresholds", tag = "thresholds", responses((status = 200, body = Vec<ThresholdFigures>)))]
pub async fn list_thresholds(State(app): State<App>, SignedIn(caller): SignedIn) -> Answer<Vec<ThresholdFigures>> {
    let instances = app.store.instances().await?;
    let seen = |set: &&SetThreshold| sees(&caller, &set.scope, &instances);
    let all = app.store.thresholds().await?;
    Ok(Json(all.iter().filter(seen).map(|set| ThresholdFigures::new(set, &instances)).collect()))
}

fn sees(caller: &Caller, scope: &Scope, instances: &[Instance]) -> bool {
    match scope {
        Scope::All => true,
        Scope::Group(group) => caller.sees(Some(group)),
        Scope::Instance(id) => {
            let of = instances.iter().find(|one| one.instance_id == *id);
            of.is_some_and(|instance| caller.sees(instance.group.as_deref()))
        }
    }
}

/// Set a threshold for an instance, a group, or all. The closest of those that are alike is in force on an instance:
/// of one figure, object, side and urgency.
#[utoipa::path(post, path = "/thresholds", tag = "thresholds", request_body = ThresholdSet,
    responses((status = 201, body = ThresholdFigures), (status = 409, body = Problem)))]
pub async fn add_threshold(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Body(set): Body<ThresholdSet>,
) -> Result<(StatusCode, Json<ThresholdFigures>), Problem> {
    Ok((StatusCode::CREATED, Json(write(&app, &note, None, set).await?)))
}

/// Change a threshold.
#[utoipa::path(put, path = "/thresholds/{threshold_id}", tag = "thresholds", params(("threshold_id" = i32, Path)),
    request_body = ThresholdSet,
    responses((status = 200, body = ThresholdFigures), (status = 409, body = Problem)))]
pub async fn change_threshold(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(threshold_id): Path<i32>,
    Body(set): Body<ThresholdSet>,
) -> Answer<ThresholdFigures> {
    Ok(Json(write(&app, &note, Some(threshold_id), set).await?))
}

async fn write(
    app: &App,
    note: &AuditNote,
    threshold_id: Option<i32>,
    set: ThresholdSet,
) -> Result<ThresholdFigures, Problem> {
    let instances = app.store.instances().await?;
    let mut set = set.check(&instances)?;
    note.detail(told(&set.threshold));
    let Some(number) = app.store.write_threshold(threshold_id, &set).await? else {
        return Err(not_found(threshold_id.unwrap_or_default()));
    };
    set.threshold_id = number;
    Ok(ThresholdFigures::new(&set, &instances))
}

fn not_found(threshold_id: i32) -> Problem {
    Problem::not_found("threshold_id", "threshold", threshold_id)
}

/// A threshold in words.
fn told(threshold: &Threshold) -> String {
    let Threshold { figure, object, side, value, verdict, .. } = threshold;
    let side = if *side == Side::High { "above" } else { "below" };
    let urgency = if *verdict == Health::Act { "act" } else { "look" };
    format!("{}: {urgency} {side} {}", figure.of_object(object.as_deref().unwrap_or_default()), figure.told(*value))
}

/// Delete a threshold. Its alarms close as those of a trouble that is gone.
#[utoipa::path(delete, path = "/thresholds/{threshold_id}", tag = "thresholds", params(("threshold_id" = i32, Path)),
    responses((status = 204)))]
pub async fn remove_threshold(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(threshold_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    let known = app.store.thresholds().await?.into_iter().find(|set| set.threshold_id == threshold_id);
    note.detail(known.map(|set| told(&set.threshold)).unwrap_or_default());
    if app.store.remove_threshold(threshold_id).await? {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(not_found(threshold_id))
    }
}
