//! Kinds of intakes.

pub(crate) mod feed;
pub mod files;
pub(crate) mod list;
pub mod mariadb;
pub mod postgres;
#[cfg(test)]
pub(crate) mod suite;
pub mod topics;
