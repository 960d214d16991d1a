//! What is put in force on a watched server, as an intent: what it is and what is lost by it. How a server is told
//! so, its source knows.
//!
//! Here belong the kinds of actions, who must agree to them, and how far one has come; nothing of how it is sent.

mod approval;
mod state;

use serde::{Deserialize, Serialize};
use strum::{EnumDiscriminants, EnumString, IntoStaticStr, VariantArray};

use crate::time::Timestamp;

pub use approval::{GOOD_FOR_SECONDS, MayNotApprove, Person, may_approve};
pub use state::{ActionState, SIGN_OF_LIFE_SECONDS};

/// What can be put in force.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, EnumDiscriminants)]
#[serde(tag = "kind", rename_all = "snake_case")]
#[strum_discriminants(name(ActionKind), doc = "A kind of action.")]
#[strum_discriminants(derive(IntoStaticStr, EnumString, VariantArray), strum(serialize_all = "snake_case"))]
pub enum Action {
    /// Cancel the statement that a session runs; the session goes on.
    CancelStatement(SessionMeant),
    /// End a session; its open transaction is rolled back.
    EndSession(SessionMeant),
    /// Collect the planner's statistics of a table anew.
    AnalyzeTable(TableMeant),
    /// Lift the rule that a second person must approve.
    LiftSecondPerson,
}

/// What an action is about.
#[derive(Debug, Clone, PartialEq, Eq, EnumDiscriminants)]
#[strum_discriminants(name(About), doc = "What kind of thing an action is about.")]
pub enum Target {
    /// A session of a watched server.
    Session(SessionMeant),
    /// A table on one.
    Table(TableMeant),
    /// Hurnix itself.
    Hurnix,
}

/// A session of a watched server, told from a later one with the same number.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SessionMeant {
    /// Its process number.
    pub process: i32,
    /// When the process began.
    pub started_at: Timestamp,
    /// Account that signed in.
    pub account: String,
    /// What its program calls itself.
    pub program: String,
}

/// A table of a watched server.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableMeant {
    /// Its database.
    pub database: String,
    /// Its schema.
    pub schema: String,
    /// Its name.
    pub table: String,
}

impl ActionKind {
    /// What actions of this kind are about.
    pub fn about(self) -> About {
        match self {
            ActionKind::CancelStatement | ActionKind::EndSession => About::Session,
            ActionKind::AnalyzeTable => About::Table,
            ActionKind::LiftSecondPerson => About::Hurnix,
        }
    }

    /// The action of this kind on a target; nothing where it is about something else.
    pub fn on(self, target: Target) -> Option<Action> {
        match (self, target) {
            (ActionKind::CancelStatement, Target::Session(session)) => Some(Action::CancelStatement(session)),
            (ActionKind::EndSession, Target::Session(session)) => Some(Action::EndSession(session)),
            (ActionKind::AnalyzeTable, Target::Table(table)) => Some(Action::AnalyzeTable(table)),
            (ActionKind::LiftSecondPerson, Target::Hurnix) => Some(Action::LiftSecondPerson),
            _ => None,
        }
    }

    /// What it is called.
    pub fn title(self) -> &'static str {
        match self {
            ActionKind::CancelStatement => "Cancel a statement",
            ActionKind::EndSession => "End a session",
            ActionKind::AnalyzeTable => "Analyze a table",
            ActionKind::LiftSecondPerson => "Lift the rule of the second person",
        }
    }

    /// Whether it may take long: then it tells how far it is, and can be stopped.
    pub fn may_take_long(self) -> bool {
        match self {
            ActionKind::AnalyzeTable => true,
            ActionKind::CancelStatement | ActionKind::EndSession | ActionKind::LiftSecondPerson => false,
        }
    }

    /// How it is undone; nothing where it cannot be.
    pub fn undo(self) -> Option<&'static str> {
        match self {
            ActionKind::CancelStatement | ActionKind::EndSession | ActionKind::AnalyzeTable => None,
            ActionKind::LiftSecondPerson => Some("Require a second person again."),
        }
    }
}

impl Action {
    /// Its kind.
    pub fn kind(&self) -> ActionKind {
        self.into()
    }

    /// What it is about.
    pub fn target(&self) -> Target {
        match self {
            Action::CancelStatement(session) | Action::EndSession(session) => Target::Session(session.clone()),
            Action::AnalyzeTable(table) => Target::Table(table.clone()),
            Action::LiftSecondPerson => Target::Hurnix,
        }
    }

    /// What happens and what is lost by it.
    pub fn told(&self) -> String {
        let who = |of: &SessionMeant| format!("{} ({}, process {})", of.account, of.program, of.process);
        match self {
            Action::CancelStatement(of) => {
                format!("The statement that {} runs just now fails, and its transaction with it.", who(of))
            }
            Action::EndSession(of) => format!(
                "The session of {} ends: its open transaction is rolled back, and its program is cut off.",
                who(of)
            ),
            Action::AnalyzeTable(of) => format!(
                "The server reads a sample of {}.{} in the database {} and replaces the planner's statistics of it. Reads and writes go on; vacuum and changes to the table's definition wait meanwhile.",
                of.schema, of.table, of.database
            ),
            Action::LiftSecondPerson => "From then on one administrator alone puts things in force.".into(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::named::Named;

    fn session() -> SessionMeant {
        SessionMeant {
            process: 7,
            started_at: Timestamp(0),
            account: "skerry_supervisor".into(),
            program: "gate desk".into(),
        }
    }

    #[test]
    fn every_kind_is_made_of_its_target_alone_and_found_by_its_name() {
        let table = TableMeant { database: "passage".into(), schema: "public".into(), table: "passage_leg".into() };
        for kind in ActionKind::all() {
            let targets = [Target::Session(session()), Target::Table(table.clone()), Target::Hurnix];
            for target in targets {
                let about = About::from(&target);
                let made = kind.on(target.clone());
                assert_eq!(made.is_some(), about == kind.about(), "{kind:?} on {about:?}");
                assert!(made.is_none_or(|action| action.kind() == kind && action.target() == target));
            }
            assert_eq!(ActionKind::named(kind.name()), Some(kind));
        }
    }

    #[test]
    fn an_action_says_whom_it_hits_and_what_is_lost() {
        let told = Action::EndSession(session()).told();
        assert!(told.contains("skerry_supervisor (gate desk, process 7)") && told.contains("rolled back"), "{told}");
    }
}
