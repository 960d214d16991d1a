//! Settings that changed, and those that differ from the server's own.

use hurnix_core::wording::counted;
use hurnix_store::Result;

use crate::report::document::{Cell, Measure, ReportTable, column};

use super::{Gathered, Made};

pub(super) async fn settings(of: &Gathered<'_>) -> Result<Made> {
    let (store, id) = (of.store, of.instance.instance_id);
    let changes = store.setting_changes(id, of.span).await?;
    let sentence = match changes.len() {
        0 => "No setting was changed in this period.".to_owned(),
        count => format!("{} changed in this period.", counted(count, "setting")),
    };
    let unit = |unit: &Option<String>| Cell::from(unit.as_deref());
    let rows = changes.iter().map(|change| -> Vec<Cell> {
        vec![
            change.seen_at.into(),
            change.name.as_str().into(),
            change.old.as_deref().into(),
            change.new.as_deref().into(),
            unit(&change.unit),
        ]
    });
    let columns = vec![
        column("seen at", Measure::Time),
        column("setting", Measure::Text),
        column("old", Measure::Text),
        column("new", Measure::Text),
        column("unit", Measure::Text),
    ];
    let changed = ReportTable::new("settings_changed", "Settings that changed", columns).with(rows);
    let mut own = store.settings(id).await?;
    own.retain(|setting| setting.source != "default" && setting.source != "override");
    let rows = own.iter().map(|setting| -> Vec<Cell> {
        vec![
            setting.name.as_str().into(),
            setting.value.as_deref().into(),
            unit(&setting.unit),
            setting.source.as_str().into(),
            if setting.pending_restart { "waits for a restart".into() } else { Cell::Nothing(()) },
        ]
    });
    let columns = vec![
        column("setting", Measure::Text),
        column("value", Measure::Text),
        column("unit", Measure::Text),
        column("from", Measure::Text),
        column("state", Measure::Text),
    ];
    let own = ReportTable::new("settings", "Settings that are not the server's defaults", columns).with(rows);
    Ok((vec![sentence], vec![changed, own]))
}
