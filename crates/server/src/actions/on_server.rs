use std::pin::pin;
use std::time::Duration;

use hurnix_core::changes::action::{ActionState, SIGN_OF_LIFE_SECONDS};
use hurnix_source::postgres::{Address, Order, Outcome, PostgresSource, Progress};
use hurnix_source::{ConnectProblem, ReadProblem};
use hurnix_store::{ActionRow, Instance, Result};
use tokio::time::MissedTickBehavior;

use crate::address::address;
use crate::state::App;

/// How often an action that runs is asked how far it is; well within the time for a sign of life.
const BEAT: Duration = Duration::from_secs(1);
const _: () = assert!(BEAT.as_secs_f64() < SIGN_OF_LIFE_SECONDS);
/// Who stops what runs when this process is told to end.
const OWN_END: &str = "the end of Hurnix's own process";

/// Sends the order of an action to its server; answers what came of it, in words.
pub async fn run(app: &App, action: &ActionRow, order: &Order) -> Result<(ActionState, String)> {
    let instance = match action.instance_id {
        Some(id) => app.store.instance(id).await?,
        None => None,
    };
    let Some(instance) = instance else {
        return Ok((ActionState::Failed, "The instance has been deleted from Hurnix.".into()));
    };
    let sent = match meant(app, &instance, order) {
        Ok(address) => send(app, action, order, &address).await,
        Err(problem) => Err(problem),
    };
    Ok(match sent {
        Err(problem) => (ActionState::Failed, format!("{} {}", problem.message, problem.remedy)),
        Ok((outcome, stopped_by)) => told(outcome, stopped_by.as_deref()),
    })
}

fn meant(app: &App, instance: &Instance, order: &Order) -> std::result::Result<Address, ConnectProblem> {
    let address = address(app, instance)?;
    let database = order.database.clone().unwrap_or_else(|| address.database.clone());
    Ok(Address { database, ..address })
}

fn told(outcome: std::result::Result<Outcome, ReadProblem>, stopped_by: Option<&str>) -> (ActionState, String) {
    match outcome {
        Ok(Outcome::Done(told)) => (ActionState::Done, told),
        Ok(Outcome::Gone) => (ActionState::Failed, "It is not there any more: nothing was done.".into()),
        Ok(Outcome::Refused(reason, remedy)) => {
            (ActionState::Failed, format!("The server refused: {reason}. To let Hurnix do it: {remedy}"))
        }
        Ok(Outcome::Stopped) => {
            let by = stopped_by.unwrap_or("somebody on the server, or its time limit");
            (ActionState::Stopped, format!("It was stopped by {by} before it was done; nothing of it is left."))
        }
        Err(problem) => (ActionState::Failed, format!("It is not known whether the server did it: {problem}.")),
    }
}

type Sent = (std::result::Result<Outcome, ReadProblem>, Option<String>);

/// Sends it over a connection of its own, and watches it over a second one as long as it takes.
async fn send(
    app: &App,
    action: &ActionRow,
    order: &Order,
    address: &Address,
) -> std::result::Result<Sent, ConnectProblem> {
    let mut acting = PostgresSource::connect_to_act(address).await?;
    let process = match acting.process().await {
        Ok(process) => process,
        Err(problem) => return Ok((Err(problem), None)),
    };
    let mut watch = Watch { app, action, order, address, process, reading: None, stopped_by: None };
    let outcome = {
        let mut work = pin!(acting.act(order, &address.account));
        let mut beats = tokio::time::interval_at(tokio::time::Instant::now() + BEAT, BEAT);
        beats.set_missed_tick_behavior(MissedTickBehavior::Delay);
        loop {
            tokio::select! {
                outcome = &mut work => break outcome,
                () = app.stopping.cancelled(), if watch.stopped_by.is_none() => watch.stopped_by = Some(OWN_END.into()),
                _ = beats.tick() => {}
            }
            // The work goes on meanwhile: a server that answers slowly must not hold up its end.
            tokio::select! {
                outcome = &mut work => break outcome,
                () = watch.beat() => {}
            }
        }
    };
    acting.close().await;
    if let Some(reading) = watch.reading {
        reading.close().await;
    }
    Ok((outcome, watch.stopped_by))
}

/// Looks after an action while it runs.
struct Watch<'a> {
    app: &'a App,
    action: &'a ActionRow,
    order: &'a Order,
    address: &'a Address,
    /// Number of the server's process that does the work.
    process: i32,
    /// The connection that looks how far it is; made when first needed, and again where it was lost.
    reading: Option<PostgresSource>,
    stopped_by: Option<String>,
}

impl Watch<'_> {
    /// Notes how far it is, and stops it when somebody wants that. Whatever goes wrong here is tried again with the
    /// next beat: the work itself is not touched by it.
    async fn beat(&mut self) {
        if self.reading.is_none() {
            self.reading = PostgresSource::connect(self.address).await.ok();
        }
        let progress = self.look().await;
        let known = progress.as_ref().map(|progress| (progress.share, progress.phase.as_str()));
        match self.app.store.note_progress(self.action.action_id, known).await {
            Ok(asked_by) => self.stopped_by = self.stopped_by.take().or(asked_by),
            Err(error) => tracing::warn!(action = self.action.action_id, %error, "its progress could not be noted"),
        }
        if self.stopped_by.is_some()
            && let Some(reading) = &mut self.reading
            && reading.stop(self.process).await.is_err()
        {
            self.reading = None;
        }
    }

    async fn look(&mut self) -> Option<Progress> {
        match self.reading.as_mut()?.progress(self.order, self.process).await {
            Ok(progress) => progress,
            Err(_) => {
                self.reading = None;
                None
            }
        }
    }
}
