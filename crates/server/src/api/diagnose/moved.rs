//! What moved in a span of time, on an instance and on those of its group.

use axum::Json;
use axum::extract::State;
use hurnix_core::Window;
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::moved::{self, Moved};
use hurnix_core::findings::normal_range::NormalRange;
use hurnix_store::Instance;
use serde::Serialize;
use utoipa::ToSchema;

use crate::analyst::coarsest;
use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::{Span, WindowQuery};
use crate::api::base::word::{UnitWord, Word};
use crate::state::{App, now};
use crate::zone::{clock_of, zone};

/// Most figures of the instance that are told.
const MOST_OWN: usize = 60;
/// Most other instances of the group that are looked at, and figures of each.
const MOST_OTHERS: usize = 20;
const MOST_OF_OTHERS: usize = 5;

/// What moved in a span of time.
#[derive(Serialize, ToSchema)]
pub struct WhatMoved {
    /// The span, as whole buckets by which usual ranges are learnt.
    span: Span,
    /// Figures of the instance that have a usual range.
    judged: usize,
    /// Of them, those furthest outside of their own usual range first.
    figures: Vec<MovedFigure>,
    /// Other instances of its group on which figures were outside.
    others: Vec<MovedElsewhere>,
    /// Other instances of its group that were looked at.
    others_judged: usize,
}

/// A figure of one object in the span.
#[derive(Serialize, ToSchema)]
pub struct MovedFigure {
    /// Name of the figure.
    figure: String,
    /// Its name for people.
    title: String,
    /// The object; empty for the server as a whole.
    object: String,
    /// What it is measured in.
    unit: UnitWord,
    /// Its mean in the span.
    value: f64,
    /// Lower end of what is usual in those hours.
    low: f64,
    /// The middle of it.
    middle: f64,
    /// The upper end.
    high: f64,
    /// How far from the middle it was: 1 is the upper end of its range, -1 the lower.
    reach: f64,
    /// Whether it was outside.
    is_outside: bool,
}

/// Figures that were outside on another instance.
#[derive(Serialize, ToSchema)]
pub struct MovedElsewhere {
    /// Its label.
    label: String,
    /// How many of its figures were outside.
    outside: usize,
    /// Those furthest outside.
    figures: Vec<MovedFigure>,
}

/// What moved in a span of time: every figure against its own usual range, furthest outside first, and then those of
/// the other instances of its group.
#[utoipa::path(get, path = "/instances/{instance_id}/moved", tag = "metrics",
    params(("instance_id" = i32, Path), WindowQuery), responses((status = 200, body = WhatMoved)))]
pub async fn what_moved(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<WindowQuery>,
) -> Answer<WhatMoved> {
    let window = query.window()?;
    let instance = find(&app, instance_id).await?;
    let bucket_seconds = app.intervals_of(&instance).bucket.as_secs() as i64;
    let span = whole_buckets(window, bucket_seconds);
    let own = moved_on(&app, &instance, span, bucket_seconds).await?;
    let mut others = Vec::new();
    let instances = app.store.instances().await?;
    let beside = instances.iter().filter(|other| {
        instance.group.is_some()
            && other.group == instance.group
            && other.instance_id != instance_id
            && caller.sees(other.group.as_deref())
    });
    let beside: Vec<&Instance> = beside.take(MOST_OTHERS).collect();
    for other in &beside {
        let moved = moved_on(&app, other, span, bucket_seconds).await?;
        let outside: Vec<&Moved> = moved.iter().filter(|one| one.is_outside()).collect();
        if !outside.is_empty() {
            others.push(MovedElsewhere {
                label: other.label.clone(),
                outside: outside.len(),
                figures: outside.into_iter().take(MOST_OF_OTHERS).map(told).collect(),
            });
        }
    }
    others.sort_by_key(|other| std::cmp::Reverse(other.outside));
    Ok(Json(WhatMoved {
        span: span.into(),
        judged: own.len(),
        figures: own.iter().take(MOST_OWN).map(told).collect(),
        others,
        others_judged: beside.len(),
    }))
}

/// The whole buckets that a window touches.
pub fn whole_buckets(window: Window, bucket_seconds: i64) -> Window {
    Window {
        from: window.from.bucket(bucket_seconds),
        to: window.to.plus_seconds(bucket_seconds as f64).plus_seconds(-1e-6).bucket(bucket_seconds),
    }
}

/// Figures of an instance against their usual ranges in a span of whole buckets, furthest outside first.
pub async fn moved_on(
    app: &App,
    instance: &Instance,
    span: Window,
    bucket_seconds: i64,
) -> hurnix_store::Result<Vec<Moved>> {
    let figures = ServerFigure::all();
    let cells = (bucket_seconds, coarsest(bucket_seconds));
    let series = app.store.figure_series(instance.instance_id, &figures, span, cells, now()).await?;
    let ranges = app.store.usual_ranges(instance.instance_id, &figures).await?;
    let there = zone(&instance.settings.day_zone);
    let range = |figure: ServerFigure, object: &str| -> Option<&NormalRange> {
        ranges.iter().find(|(of, on, _)| *of == figure && on == object).map(|(.., range)| range)
    };
    Ok(moved::moved(&series, range, span, |at| clock_of(there, at)))
}

fn told(moved: &Moved) -> MovedFigure {
    MovedFigure {
        figure: moved.figure.name(),
        title: moved.figure.title(),
        object: moved.object.clone(),
        unit: Word(moved.figure.unit()),
        value: moved.value,
        low: moved.usual.low,
        middle: moved.usual.middle,
        high: moved.usual.high,
        reach: moved.reach,
        is_outside: moved.is_outside(),
    }
}
