//! Kinds of intakes.

pub(crate) mod feed;
pub mod files;
pub mod mariadb;
pub mod postgres;
pub mod topics;
