//! Drives the demo in a real browser: for the tests of the main journeys and for the pictures in
//! `docs/screenshots/`.

mod browser;
mod demo;

pub use browser::Browser;
pub use demo::Demo;
