//! Drives the demo in a real browser: for the tests of the main journeys and for the pictures in
//! `docs/screenshots/`.

mod browser;
mod demo;

use std::time::Duration;

pub use browser::Browser;
pub use demo::Demo;

/// How long a test waits for what a page shows at once. The tests share two processors with six browsers and twice as
/// many servers, and a machine that others use too.
pub const SOON: Duration = Duration::from_secs(90);
/// Likewise for what takes readings of a watched server first.
pub const BEFORE_LONG: Duration = Duration::from_secs(180);
/// Likewise for three weeks of a few simulated servers, written and looked through.
pub const HISTORY: Duration = Duration::from_secs(600);
/// Likewise for what the product promises within three minutes on a machine of its own.
pub const PROMISED: Duration = Duration::from_secs(360);
