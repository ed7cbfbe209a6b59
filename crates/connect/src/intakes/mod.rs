//! Kinds of intakes.

pub(crate) mod feed;
pub mod files;
pub mod postgres;
pub mod topics;
