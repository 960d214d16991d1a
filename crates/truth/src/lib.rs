//! Made-up series of which the truth is known: noise as real servers have it, and changes that were put in.
//!
//! The rules are judged by it, by tests and benches. They must not be tuned to it: other seeds are other series.

/// Indexes tried for real.
mod index_trial;
mod judged;
mod metric;
mod noise;
mod ranged;
mod series;
mod server;

pub use index_trial::{Advised, Tried, index_trial};
pub use judged::Judged;
pub use metric::{MetricSeries, Scene as MetricScene, metric_series};
pub use noise::NoiseFamily;
pub use ranged::Ranged;
pub use series::{Kind, Series, TrueChange, series};
pub use server::{ChangedServer, Scene, changed_server};
