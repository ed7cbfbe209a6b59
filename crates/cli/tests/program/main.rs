//! The built program, driven as its users drive it: on files in temporary folders, on a broker in memory, and on the servers
//! that `scripts/services` starts. One test program for all, so that it is linked once and no core waits between parts.
//!
//! A part alone: `scripts/test -p sluice --test program topics::`.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod background;
mod commands;
mod common;
mod edges;
mod feeds;
mod files;
mod tables;
mod topics;
mod windows;
