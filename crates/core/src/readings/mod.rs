//! What is read from a server: its kinds, what they consist of, and how two readings are held against each other.
//!
//! Not here: how long it is kept, and what is concluded from it.

/// What a sampled session is doing, and the sample.
pub mod activity;
/// Rule 5, first part: who waits behind whom.
pub mod blocking;
/// Tables, columns and indexes as the server's catalog describes them.
pub mod catalog;
/// The cumulative figures a server keeps, by kind of object.
pub mod counters;
/// Readings of counters, kind by kind.
pub mod counters_read;
/// Rule 1: differences of cumulative counters.
pub mod difference;
/// Rule 6: statement families.
pub mod family;
/// Kinds of figures that are read from a server.
pub mod figures;
/// Locks that are held, or waited for.
pub mod held_lock;

/// Processes of a host, as its kernel counts their processor time.
pub mod host_process;
/// What a server holds besides tables and indexes.
pub mod inventory;
/// Rule 2: load by wait kind.
pub mod load;
/// How fast single figures are counted up.
pub mod measure_rates;
/// Single figures that are followed over time.
pub mod metric;
pub mod named_reading;
/// Long work of a server, and what its own vacuum takes next.
pub mod operation;
/// Rule 10, first part: the identity of plans.
pub mod plan;
/// How a server stands among those that it follows, and those that follow it.
pub mod replication;
/// Where names without a schema are looked for.
pub mod search_path;
/// What a server writes to its log.
pub mod server_log;
/// Processes of a server, and what sessions still need of old row versions.
pub mod server_process;
/// What a server tells statements apart by.
pub mod statement;
/// Need F1: what sort of statement a text is.
pub mod statement_kind;
/// What statements cost over several periods.
pub mod statement_sum;
/// Rule 5: who holds up a session that the server was not asked about.
pub mod unasked;
/// What a busy session spends its time on.
pub mod wait_kind;
