//! What to run on a server against something that was found. Rules name it; how a server is told so, its source knows.

use crate::changes::action::Action;

/// A thing with its schema.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Qualified {
    /// Its schema; empty where it is not known.
    pub schema: String,
    /// Its name.
    pub name: String,
}

impl Qualified {
    /// With both.
    pub fn new(schema: &str, name: &str) -> Qualified {
        Qualified { schema: schema.to_owned(), name: name.to_owned() }
    }

    /// From `schema.name`, as figures of tables and sequences name them.
    pub fn of(object: &str) -> Qualified {
        let (schema, name) = object.split_once('.').unwrap_or(("", object));
        Qualified::new(schema, name)
    }
}

/// What to run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Remedy {
    /// What Hurnix can put in force itself.
    Act(Action),
    /// Drop an index, without holding up writes.
    DropIndex(Qualified),
    /// Vacuum a table, and collect its statistics anew.
    Vacuum(Qualified),
    /// Vacuum every table of the database and freeze its rows.
    FreezeDatabase,
    /// Drop a replication slot.
    DropSlot(String),
    /// Let a sequence count further.
    WidenSequence(Qualified),
    /// See prepared transactions, to end one by its name.
    ListPrepared,
    /// Set a setting for the whole server.
    Set {
        /// Its name.
        name: &'static str,
        /// Its value.
        value: &'static str,
    },
    /// What the server's source has named already.
    Run(String),
}
