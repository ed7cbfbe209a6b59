//! Landing kind `mariadb`: tables of MariaDB and MySQL, exactly once.
//!
//! Rows go by INSERT statements of many rows. LOAD DATA LOCAL is left alone: it ignores rows that break a constraint and
//! cuts values that are too long, with a warning in place of an error, and many servers forbid it.

mod dialect;
mod session;

use sluice_core::kinds::{ConnectionKind, Registry, Settings};
use sluice_core::table::{SqlDialect, TableColumn};
use sluice_core::types::SqlType;

use super::tables::session::Session;
use super::tables::shape::TableName;
use super::tables::{Store, TableKind};
use crate::databases;
use crate::databases::StoreResult;
use crate::intakes::list::query::QueryKind;

const KIND: ConnectionKind = ConnectionKind {
    scheme: "mariadb",
    about: "a MariaDB or MySQL server: mariadb://HOST:PORT/DATABASE",
    options: databases::OPTIONS,
};

/// The kind of store.
pub(crate) struct Mariadb;

/// Adds connection and landing.
pub fn register(registry: &mut Registry) {
    registry.add_connection(KIND);
    registry.add_landing(TableKind::<Mariadb>::new());
    let about = "the rows of a query of MariaDB, read whole again and again, to be looked up by a reference";
    registry.add_intake(QueryKind::<Mariadb>::new("mariadb query", about));
}

impl Store for Mariadb {
    const NAME: &'static str = "mariadb";
    const SCHEME: &'static str = "mariadb";
    const ABOUT: &'static str = "rows in a table of MariaDB or MySQL; a batch appears as a whole";
    const GUARANTEE: &'static str =
        "exactly once: rows, rejects and the identity of a batch are written in one transaction";

    fn connect(settings: &Settings) -> StoreResult<Box<dyn Session>> {
        Ok(Box::new(session::MariadbSession::begin(settings)?))
    }

    fn dialect(table: &TableName, _: &Settings) -> Box<dyn SqlDialect> {
        Box::new(dialect::MariadbDialect { table: table.clone() })
    }

    const COLUMNS: &'static [&'static str] = &[
        "longtext",
        "text",
        "varchar(40)",
        "char(8)",
        "enum('a')",
        "tinyint(1)",
        "smallint(6)",
        "int(11)",
        "int(10) unsigned",
        "bigint(20)",
        "float",
        "double",
        "decimal(8,2)",
        "decimal(12,4)",
        "decimal(6,1)",
        "date",
        "datetime",
        "datetime(6)",
        "timestamp(6)",
        "json",
        "varbinary(40)",
        "longblob",
        "time",
        "time(6)",
    ];

    fn remark(ty: SqlType) -> &'static str {
        match ty {
            SqlType::Text => "any length up to 4 GiB; varchar(255) in a key; zero bytes as they are",
            SqlType::Boolean => "tinyint(1): 1 and 0",
            SqlType::Decimal { .. } => "every digit; precision up to 38",
            SqlType::Double => "64 bits; NaN and the infinities are refused",
            SqlType::Date => "the years 1 to 9999; others are refused",
            SqlType::Timestamptz => "microseconds, in UTC without saying so, the years 1 to 9999; others are refused",
            SqlType::Json => "MariaDB keeps the spelling as text, MySQL its own form",
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
