use axum::Json;
use hurnix_core::instance::instance_settings::SETTINGS;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::SignedIn;
use crate::api::base::word::{SettingFormWord, Word};

/// A setting of instances, as forms need it.
#[derive(Serialize, ToSchema)]
pub struct SettingFigures {
    /// Its name.
    name: &'static str,
    /// What a form calls it.
    label: &'static str,
    /// What it does, or what happens without it.
    hint: &'static str,
    /// How its value is given.
    form: SettingFormWord,
}

/// The settings that an instance can have, in the order of forms.
#[utoipa::path(get, path = "/instance-settings", tag = "instances", responses((status = 200, body = [SettingFigures])))]
pub async fn instance_settings(_: SignedIn) -> Json<Vec<SettingFigures>> {
    let figures = SETTINGS.iter().map(|setting| SettingFigures {
        name: setting.name,
        label: setting.label,
        hint: setting.hint,
        form: Word(setting.form),
    });
    Json(figures.collect())
}
