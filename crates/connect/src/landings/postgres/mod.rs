//! Landing kind `postgres`: tables of PostgreSQL, exactly once. A batch is one transaction: its identity first, then
//! its rows by COPY in binary, then what was refused.

mod copy;
mod describe;
mod dialect;
mod numeric;
mod session;

use sluice_core::config::OptionSpec;
use sluice_core::kinds::{ConnectionKind, Registry, Settings};
use sluice_core::table::{Dialect, TableColumn};
use sluice_core::types::SqlType;

use super::tables::session::{Session, StoreResult};
use super::tables::shape::TableName;
use super::tables::{Store, TableKind};
use crate::databases;

/// The scheme of connections.
const KIND: ConnectionKind = ConnectionKind {
    scheme: "postgres",
    about: "a PostgreSQL server: postgres://HOST:PORT/DATABASE",
    options: OPTIONS,
};

const OPTIONS: &[OptionSpec] = databases::OPTIONS;

/// The kind of store.
pub(crate) struct Postgres;

pub(crate) use dialect::{literal, quote};

/// Adds connection and landing.
pub fn register(registry: &mut Registry) {
    registry.add_connection(KIND);
    registry.add_landing(TableKind::<Postgres>::new());
}

impl Store for Postgres {
    const NAME: &'static str = "postgres";
    const SCHEME: &'static str = "postgres";
    const ABOUT: &'static str = "rows in a table of PostgreSQL, loaded by COPY; a batch appears as a whole";
    const GUARANTEE: &'static str =
        "exactly once: the batch's identity, its rows and what was refused are one transaction";

    fn connect(settings: &Settings) -> StoreResult<Box<dyn Session>> {
        Ok(Box::new(session::PostgresSession::begin(settings)?))
    }

    fn dialect(table: &TableName, settings: &Settings) -> Box<dyn Dialect> {
        Box::new(dialect::PostgresDialect::new(table.clone(), settings.connection.options.text("user")))
    }

    fn shown_as(column: &TableColumn) -> SqlType {
        dialect::shown_as(&column.base)
    }

    fn as_text(quoted: &str, column: &TableColumn) -> String {
        dialect::as_text(quoted, &column.base)
    }
}
