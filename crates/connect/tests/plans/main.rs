//! Whole plans: read from damaged files, rehearsed, and run against a model.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

#[cfg(feature = "failpoints")]
mod edges;
mod hostile_files;
mod rehearse;
