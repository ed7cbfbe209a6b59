//! Landing kind `sqlite`: tables in a file of SQLite, exactly once. Needs no server, so that what has landed can be
//! queried at once.

mod dialect;
mod session;

use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{ConnectionKind, Registry, Settings};
use sluice_core::table::{SqlDialect, TableColumn};
use sluice_core::types::SqlType;

use super::tables::session::Session;
use super::tables::shape::TableName;
use super::tables::{Store, TableKind};
use crate::databases::StoreResult;
use crate::intakes::list::query::QueryKind;

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
    let about = "the rows of a query of SQLite, read whole again and again, to be looked up by a reference";
    registry.add_intake(QueryKind::<Sqlite>::new("sqlite query", about));
}

impl Store for Sqlite {
    const NAME: &'static str = "sqlite";
    const SCHEME: &'static str = "sqlite";
    const ABOUT: &'static str = "rows in a table of an SQLite file; a batch appears as a whole";
    const GUARANTEE: &'static str =
        "exactly once: rows, rejects and the identity of a batch are written in one transaction";

    fn is_there(settings: &Settings) -> Outcome<()> {
        let file = session::path(settings);
        if file.is_file() {
            return Ok(());
        }
        Err(Failure::unreachable(format!("there is no file {}", file.display()))
            .with_help(format!("correct [connection.{}] in sluice.toml", settings.connection.name)))
    }

    fn connect(settings: &Settings) -> StoreResult<Box<dyn Session>> {
        Ok(Box::new(session::SqliteSession::begin(settings)?))
    }

    fn dialect(table: &TableName, _: &Settings) -> Box<dyn SqlDialect> {
        Box::new(dialect::SqliteDialect { table: table.clone() })
    }

    const COLUMNS: &'static [&'static str] = &[
        "text",
        "varchar(40)",
        "boolean",
        "integer",
        "bigint",
        "real",
        "decimal(8,2)",
        "date",
        "timestamp",
        "json",
        "blob",
    ];

    fn remark(ty: SqlType) -> &'static str {
        match ty {
            SqlType::Text => "any length up to 1 GB; zero bytes as they are",
            SqlType::Boolean => "1 and 0",
            SqlType::Decimal { .. } => "up to 15 digits as a number, more as text, so that none is lost",
            SqlType::Double => "64 bits; NaN is refused",
            SqlType::Date => "text as 2026-07-01; the years 1 to 9999, others are refused",
            SqlType::Timestamptz => {
                "text as 2026-07-01 05:06:07.000008Z, in UTC; the years 1 to 9999, others are refused"
            }
            SqlType::Json => "text, as it was spelled",
            _ => "every value",
        }
    }

    fn shown_as(column: &TableColumn) -> SqlType {
        dialect::shown_as(&column.base)
    }

    fn as_text(quoted: &str, column: &TableColumn) -> String {
        dialect::as_text(quoted, &column.base)
    }
}
