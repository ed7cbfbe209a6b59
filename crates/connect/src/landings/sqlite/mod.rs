//! Landing kind `sqlite`: tables in a file of SQLite, exactly once. Needs no server, so that what has landed can be
//! queried at once.

mod dialect;
mod session;

use sluice_core::kinds::{ConnectionKind, Registry, Settings};
use sluice_core::table::{Dialect, TableColumn};
use sluice_core::types::SqlType;

use super::tables::session::{Session, StoreResult};
use super::tables::shape::TableName;
use super::tables::{Store, TableKind};

const KIND: ConnectionKind = ConnectionKind {
    scheme: "sqlite",
    about: "a file of SQLite, relative to the project: sqlite:FILE; it is made if it is not there",
    options: &[],
};

/// The kind of store.
pub(crate) struct Sqlite;

/// Adds connection and landing.
pub fn register(registry: &mut Registry) {
    registry.add_connection(KIND);
    registry.add_landing(TableKind::<Sqlite>::new());
}

impl Store for Sqlite {
    const NAME: &'static str = "sqlite";
    const SCHEME: &'static str = "sqlite";
    const ABOUT: &'static str = "rows in a table of an SQLite file; a batch appears as a whole";
    const GUARANTEE: &'static str =
        "exactly once: the batch's identity, its rows and what was refused are one transaction";

    fn connect(settings: &Settings) -> StoreResult<Box<dyn Session>> {
        Ok(Box::new(session::SqliteSession::begin(settings)?))
    }

    fn dialect(table: &TableName, _: &Settings) -> Box<dyn Dialect> {
        Box::new(dialect::SqliteDialect { table: table.clone() })
    }

    fn shown_as(column: &TableColumn) -> SqlType {
        dialect::shown_as(&column.base)
    }

    fn as_text(quoted: &str, column: &TableColumn) -> String {
        dialect::as_text(quoted, &column.base)
    }
}
