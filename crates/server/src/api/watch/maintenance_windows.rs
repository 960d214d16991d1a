use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::changes::maintenance_window::{DAY_MINUTES, NoWindow, WeeklyWindow};
use hurnix_store::{Caller, MaintenanceWindow, WindowFor};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::clock::{DAYS, minute_of_day, time_of_day};
use crate::api::base::extract::{Administrator, Body, Path, SignedIn};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::maintenance::state;
use crate::state::App;
use crate::zone::is_time_zone;

/// Longest name, in characters.
const LONGEST_NAME: usize = 100;

/// A window in which servers may be worked on.
#[derive(Serialize, ToSchema)]
pub struct WindowFigures {
    /// Number.
    window_id: i32,
    /// What it is.
    #[serde(flatten)]
    window: WindowSet,
    /// Whether it is open just now.
    is_open: bool,
    /// When it closes, or else when it opens next.
    until: Option<DateTime<Utc>>,
}

/// What a window is set to.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct WindowSet {
    /// What it is called.
    name: String,
    /// Label of the instance that it is for; left out when it is for a group.
    instance: Option<String>,
    /// Group of instances that it is for; left out when it is for one instance.
    group: Option<String>,
    /// Days of the week on which it opens, such as `sunday`.
    days: Vec<String>,
    /// When it opens, such as `01:30`.
    start: String,
    /// How long it stays open, in minutes.
    #[schema(minimum = 1, maximum = 1440)]
    minutes: u32,
    /// Place whose clock counts, such as `Europe/Lisbon`, or `UTC`.
    time_zone: String,
}

impl WindowSet {
    fn of(window: &MaintenanceWindow) -> WindowSet {
        let WeeklyWindow { days, start_minute, minutes } = window.weekly;
        let (instance, group) = match &window.of {
            WindowFor::Instance(_, label) => (Some(label.clone()), None),
            WindowFor::Group(group) => (None, Some(group.clone())),
        };
        WindowSet {
            name: window.name.clone(),
            instance,
            group,
            days: DAYS.iter().zip(days).filter(|(_, opens)| *opens).map(|(day, _)| (*day).to_owned()).collect(),
            start: time_of_day(start_minute),
            minutes,
            time_zone: window.time_zone.clone(),
        }
    }

    /// The window that is meant, with all faults of what was given.
    async fn check(self, app: &App) -> Result<MaintenanceWindow, Problem> {
        let mut errors = Vec::new();
        let name = self.name.trim();
        if name.is_empty() || name.chars().count() > LONGEST_NAME {
            errors.push(FieldProblem::new("name", &self.name, format!("Give 1 to {LONGEST_NAME} characters.")));
        }
        let of = match (self.instance.as_deref().map(str::trim), self.group.as_deref().map(str::trim)) {
            (Some(label), None) => {
                let found = app.store.instances().await?.into_iter().find(|instance| instance.label == label);
                if found.is_none() {
                    errors.push(FieldProblem::new("instance", label, "There is no instance of this label."));
                }
                found.map(|instance| WindowFor::Instance(instance.instance_id, instance.label))
            }
            (None, Some(group)) if !group.is_empty() && group.chars().count() <= LONGEST_NAME => {
                Some(WindowFor::Group(group.to_owned()))
            }
            (instance, _) => {
                let remedy = "Say whom it is for: one instance by its label, or a group of instances.";
                errors.push(FieldProblem::new("instance", instance.unwrap_or_default(), remedy));
                None
            }
        };
        let mut days = [false; 7];
        for day in &self.days {
            match DAYS.iter().position(|known| known == day) {
                Some(position) => days[position] = true,
                None => errors.push(FieldProblem::new("days", day, format!("Give some of {}.", DAYS.join(", ")))),
            }
        }
        let weekly = WeeklyWindow {
            days,
            start_minute: minute_of_day(&self.start).unwrap_or(DAY_MINUTES),
            minutes: self.minutes,
        };
        if let Err(fault) = weekly.check() {
            let (field, value) = match fault {
                NoWindow::Days => ("days", self.days.join(", ")),
                NoWindow::Start => ("start", self.start.clone()),
                NoWindow::Length => ("minutes", self.minutes.to_string()),
            };
            errors.push(FieldProblem::new(field, value, format!("It is no window: {fault}.")));
        }
        if !is_time_zone(&self.time_zone) {
            let remedy = "Give a place by its name in the time zone database, such as Europe/Lisbon, or UTC.";
            errors.push(FieldProblem::new("time_zone", &self.time_zone, remedy));
        }
        match of {
            Some(of) if errors.is_empty() => {
                Ok(MaintenanceWindow { window_id: 0, of, name: name.to_owned(), weekly, time_zone: self.time_zone })
            }
            _ => Err(Problem::invalid(errors)),
        }
    }
}

impl WindowFigures {
    fn new(window: &MaintenanceWindow) -> Self {
        let (is_open, until) = state(window, Utc::now());
        WindowFigures { window_id: window.window_id, window: WindowSet::of(window), is_open, until }
    }
}

/// Windows of the instances that one sees, by name.
#[utoipa::path(get, path = "/maintenance-windows", tag = "instances", responses((status = 200, body = Vec<WindowFigures>)))]
pub async fn list_windows(State(app): State<App>, SignedIn(caller): SignedIn) -> Answer<Vec<WindowFigures>> {
    let groups = app.store.groups().await?;
    let seen = |window: &&MaintenanceWindow| sees(&caller, window, &groups);
    Ok(Json(app.store.maintenance_windows().await?.iter().filter(seen).map(WindowFigures::new).collect()))
}

fn sees(caller: &Caller, window: &MaintenanceWindow, groups: &std::collections::HashMap<i32, String>) -> bool {
    match &window.of {
        WindowFor::Instance(id, _) => caller.sees(groups.get(id).map(String::as_str)),
        WindowFor::Group(group) => caller.sees(Some(group)),
    }
}

/// Set a window in which an instance, or a group of them, may be worked on.
#[utoipa::path(post, path = "/maintenance-windows", tag = "instances", request_body = WindowSet,
    responses((status = 201, body = WindowFigures), (status = 409, body = Problem)))]
pub async fn add_window(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Body(set): Body<WindowSet>,
) -> Result<(StatusCode, Json<WindowFigures>), Problem> {
    Ok((StatusCode::CREATED, Json(write(&app, &note, None, set).await?)))
}

/// Change a window.
#[utoipa::path(put, path = "/maintenance-windows/{window_id}", tag = "instances", params(("window_id" = i32, Path)),
    request_body = WindowSet,
    responses((status = 200, body = WindowFigures), (status = 409, body = Problem)))]
pub async fn change_window(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(window_id): Path<i32>,
    Body(set): Body<WindowSet>,
) -> Answer<WindowFigures> {
    Ok(Json(write(&app, &note, Some(window_id), set).await?))
}

async fn write(app: &App, note: &AuditNote, window_id: Option<i32>, set: WindowSet) -> Result<WindowFigures, Problem> {
    let mut window = set.check(app).await?;
    note.detail(window.name.clone());
    let written = app.store.write_maintenance_window(window_id, &window).await?;
    let Some(number) = written else {
        return Err(Problem::not_found("window_id", "maintenance window", window_id.unwrap_or_default()));
    };
    window.window_id = number;
    Ok(WindowFigures::new(&window))
}

/// Forget a window.
#[utoipa::path(delete, path = "/maintenance-windows/{window_id}", tag = "instances", params(("window_id" = i32, Path)),
    responses((status = 204)))]
pub async fn remove_window(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(window_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    let name = app.store.maintenance_windows().await?.into_iter().find(|window| window.window_id == window_id);
    note.detail(name.map(|window| window.name).unwrap_or_default());
    if app.store.remove_maintenance_window(window_id).await? {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::not_found("window_id", "maintenance window", window_id))
    }
}
