//! What should be changed on a server, who must agree to it, and when it may be done.
//!
//! Not here: how a server is told, which its source knows.

/// What is put in force, and who must agree to it.
pub mod action;
/// What somebody should change, what that is predicted to bring, and what came of it.
pub mod advice;
/// When a server may be worked on.
pub mod maintenance_window;
/// What to run against something that was found.
pub mod remedy;
