//! The `hurnix` program: it wires sources, repository, rules, API and pages together.
//!
//! A handler reads its inputs, asks the store and the core, and shapes the answer. No rule lives here.

mod account_command;
mod actions;
mod address;
mod alarms;
mod analyst;
mod api;
mod availability;
mod bundle;
mod causes;
mod check;
mod collector;
mod csv;
mod demo;
mod endpoint_secrets;
mod events;
mod first_look;
mod gate;
mod identity;
mod index_use;
mod instance_import;
mod instance_metrics;
mod keep;
mod key_command;
mod listen;
mod log_lines;
mod maintenance;
mod newest;
mod options;
mod options_file;
mod own_metrics;
mod own_pace;
mod paces;
mod pages;
mod passwords;
mod secrets;
mod serve;
mod served_tls;
mod sources;
mod state;
mod upkeep;
mod usual_loads;
mod zone;

pub use account_command::{ResetOptions, reset as reset_account};
pub use api::document as api_document;
pub use bundle::{ExportOptions, ImportOptions, Imported, export, export_file, import, import_file};
pub use collector::backfill;
pub use demo::{DemoHome, DemoOptions, play, up as demo_up};
pub use key_command::{RotateOptions, renew as renew_key, rotate as rotate_key};
pub use log_lines::begin_log;
pub use options::{Intervals, LOG, LogFormat, OptionFault, ServeOptions};
pub use options_file::{named as options_file, with_file as with_options_file};
pub use passwords::hash as password_hash;
pub use secrets::Sealer;
pub use serve::serve;
