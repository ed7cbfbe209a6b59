//! Kinds of intakes.

pub mod files;
