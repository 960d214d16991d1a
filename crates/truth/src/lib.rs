//! Made-up series of which the truth is known: noise as real servers have it, and changes that were put in.
//!
//! The rules are judged by it, by tests and benches. They must not be tuned to it: other seeds are other series.

mod judged;
mod noise;
mod series;
mod server;

pub use judged::Judged;
pub use noise::NoiseFamily;
pub use series::{Kind, Series, TrueChange, series};
pub use server::{ChangedServer, Scene, changed_server};
