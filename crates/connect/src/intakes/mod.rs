//! Kinds of intakes.

pub mod files;
pub mod topics;
