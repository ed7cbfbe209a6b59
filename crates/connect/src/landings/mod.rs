//! Kinds of landings.

pub mod clickhouse;
pub mod files;
pub mod mariadb;
pub mod postgres;
pub mod screen;
mod spool;
pub mod sqlite;
#[cfg(test)]
mod suite;
pub(crate) mod tables;
pub mod topics;

pub use tables::{reference, workload};

use std::sync::Arc;

use arrow_schema::{Field, SchemaRef};
use sluice_core::columns::OutputColumn;
use sluice_core::types::SqlType;

/// The columns of a schema as far as JSON writers care: which of them hold JSON already.
pub(crate) fn columns_of(schema: &SchemaRef) -> Vec<OutputColumn> {
    let column = |f: &Arc<Field>| OutputColumn {
        name: f.name().clone(),
        ty: if f.metadata().contains_key(SqlType::JSON_KEY) { SqlType::Json } else { SqlType::Text },
        nullable: f.is_nullable(),
        limit: None,
    };
    schema.fields().iter().map(column).collect()
}
