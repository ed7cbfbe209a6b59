//! The background process of a project: it runs pipelines when no terminal is open, and answers to commands.
//!
//! There is one for each project, and it holds a lock as long as it lives. Commands speak to it over a socket below
//! `.sluice`, which its owner alone can reach: one line of JSON asks, one line answers.

mod keeper;
mod place;
mod talk;

pub(crate) use keeper::{Serving, keep};
pub(crate) use place::{Place, Process};
pub(crate) use talk::{Answer, Request, ask, find};
