//! Whatever is put in force, on a watched server or for Hurnix itself, goes through here: noted with who, when,
//! why and the exact statement before anything happens, and with what came of it afterwards.

use hurnix_core::action::Action;
use hurnix_source::postgres::{Outcome, PostgresSource, cancel_statement, end_session};
use hurnix_store::{ActionRow, Instance, NewAction, Result};

use crate::address::address;
use crate::state::App;

/// Exactly what an action sends to a watched server; nothing for what concerns Hurnix itself.
pub fn statement(action: &Action) -> Option<String> {
    match action {
        Action::CancelStatement(session) => Some(cancel_statement(session)),
        Action::EndSession(session) => Some(end_session(session)),
        Action::LiftSecondPerson => None,
    }
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

/// Carries out what was approved, and notes what came of it.
pub async fn carry_out(app: &App, action: ActionRow) -> Result<ActionRow> {
    let (state, outcome) = match &action.action {
        Action::LiftSecondPerson => {
            app.store.set_second_person(false).await?;
            ("done", "The rule is lifted.".to_owned())
        }
        Action::CancelStatement(_) | Action::EndSession(_) => match on_server(app, &action).await? {
            Ok(()) => ("done", "The server did it.".to_owned()),
            Err(why) => ("failed", why),
        },
    };
    app.store.end_action(action.action_id, state, &outcome).await?;
    Ok(ActionRow { state: state.into(), outcome: Some(outcome), ..action })
}

/// Sends the statement of an action to its server; an error says why nothing happened, and what would help.
async fn on_server(app: &App, action: &ActionRow) -> Result<std::result::Result<(), String>> {
    let instance = match action.instance_id {
        Some(id) => app.store.instance(id).await?,
        None => None,
    };
    let (Some(instance), Some(statement)) = (instance, &action.statement) else {
        return Ok(Err("The instance is not under care any more.".into()));
    };
    let connected = match address(app, &instance) {
        Ok(address) => PostgresSource::connect(&address).await,
        Err(problem) => Err(problem),
    };
    let mut source = match connected {
        Ok(source) => source,
        Err(problem) => return Ok(Err(format!("{} {}", problem.message, problem.remedy))),
    };
    let sent = source.act(statement, &instance.account_name).await;
    source.close().await;
    Ok(match sent {
        Ok(Outcome::Done) => Ok(()),
        Ok(Outcome::Gone) => Err("The session is not there any more: nothing was done.".into()),
        Ok(Outcome::Refused(reason, remedy)) => {
            Err(format!("The server refused: {reason}. To let Hurnix do it: {remedy}"))
        }
        Err(problem) => Err(format!("It is not known whether the server did it: {problem}.")),
    })
}
