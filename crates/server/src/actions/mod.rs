//! Whatever is put in force, on a watched server or for Hurnix itself, goes through here: noted with who, when,
//! why and the exact statement before anything happens, and with what came of it afterwards.

mod on_server;

use hurnix_core::changes::action::{Action, ActionState};
use hurnix_source::postgres::order;
use hurnix_store::{ActionRow, Instance, NewAction, Result};

use crate::state::App;

/// Exactly what an action sends to a watched server; nothing for what concerns Hurnix itself.
pub fn statement(action: &Action) -> Option<String> {
    order(action).map(|order| order.statement)
}

/// Puts something in force, or proposes it where a second person must approve.
pub async fn put_in_force(
    app: &App,
    instance: Option<&Instance>,
    action: Action,
    reason: &str,
    proposed_by: &str,
) -> Result<ActionRow> {
    let new = NewAction {
        instance: instance.map(|instance| (instance.instance_id, instance.label.clone())),
        statement: statement(&action),
        action,
        reason: reason.to_owned(),
        proposed_by: proposed_by.to_owned(),
        waits: app.store.second_person().await?,
    };
    let action = app.store.add_action(&new).await?;
    if new.waits { Ok(action) } else { carry_out(app, action).await }
}

/// Carries out what was approved, and notes what came of it. What may take long goes on after this has answered.
pub async fn carry_out(app: &App, action: ActionRow) -> Result<ActionRow> {
    let Some(begun) = app.store.begin_action(action.action_id).await? else { return Ok(action) };
    if !begun.action.kind().may_take_long() {
        return ended(app, &begun).await;
    }
    let (app_there, there) = (app.clone(), begun.clone());
    app.long_work.spawn(async move {
        if let Err(error) = ended(&app_there, &there).await {
            tracing::error!(action = there.action_id, %error, "what came of an action could not be noted");
        }
    });
    Ok(begun)
}

async fn ended(app: &App, action: &ActionRow) -> Result<ActionRow> {
    let (state, outcome) = match (&action.action, order(&action.action)) {
        (_, Some(order)) => on_server::run(app, action, &order).await?,
        (Action::LiftSecondPerson, None) => {
            app.store.set_second_person(false).await?;
            (ActionState::Done, "The rule is lifted.".to_owned())
        }
        (_, None) => (ActionState::Failed, "No server knows how to do this.".to_owned()),
    };
    app.store.end_action(action.action_id, state, &outcome).await
}
