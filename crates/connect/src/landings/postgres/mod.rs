//! Landing kind `postgres`: tables of PostgreSQL, exactly once. A batch is one transaction: its identity first, then
//! its rows by COPY in binary, then what was refused.

mod copy;
mod describe;
mod dialect;
mod numeric;
mod session;

use sluice_core::config::OptionSpec;
use sluice_core::kinds::{ConnectionKind, Registry, Settings};
use sluice_core::table::{SqlDialect, TableColumn};
use sluice_core::types::SqlType;

use super::tables::session::Session;
use super::tables::shape::TableName;
use super::tables::{Store, TableKind};
use crate::databases;
use crate::databases::StoreResult;
use crate::intakes::list::query::QueryKind;

/// The scheme of connections.
const KIND: ConnectionKind = ConnectionKind {
    scheme: "postgres",
    about: "a PostgreSQL server: postgres://HOST:PORT/DATABASE",
    options: OPTIONS,
};

const OPTIONS: &[OptionSpec] = databases::OPTIONS;

/// The kind of store.
pub(crate) struct Postgres;

/// Adds connection and landing.
pub fn register(registry: &mut Registry) {
    registry.add_connection(KIND);
    registry.add_landing(TableKind::<Postgres>::new());
    let about = "the rows of a query of PostgreSQL, read whole again and again, to be looked up by a reference";
    registry.add_intake(QueryKind::<Postgres>::new("postgres query", about));
}

impl Store for Postgres {
    const NAME: &'static str = "postgres";
    const SCHEME: &'static str = "postgres";
    const ABOUT: &'static str = "rows in a table of PostgreSQL, loaded by COPY; a batch appears as a whole";
    const GUARANTEE: &'static str =
        "exactly once: rows, rejects and the identity of a batch are written in one transaction";

    fn connect(settings: &Settings) -> StoreResult<Box<dyn Session>> {
        Ok(Box::new(session::PostgresSession::begin(settings)?))
    }

    fn dialect(table: &TableName, settings: &Settings) -> Box<dyn SqlDialect> {
        Box::new(dialect::PostgresDialect::new(table.clone(), settings.connection.options.text("user")))
    }

    const COLUMNS: &'static [&'static str] = &[
        "text",
        "character varying",
        "character varying(40)",
        "character(8)",
        "enum",
        "uuid",
        "boolean",
        "smallint",
        "integer",
        "bigint",
        "real",
        "double precision",
        "numeric",
        "numeric(8,2)",
        "numeric(12,4)",
        "numeric(6,1)",
        "date",
        "timestamp with time zone",
        "timestamp(3) with time zone",
        "timestamp without time zone",
        "json",
        "jsonb",
        "bytea",
        "time without time zone",
        "text[]",
    ];

    fn remark(ty: SqlType) -> &'static str {
        match ty {
            SqlType::Text => "any length up to 1 GiB; a zero byte is refused",
            SqlType::Decimal { .. } => "every digit; precision up to 38",
            SqlType::Double => "64 bits; NaN and the infinities as they are",
            SqlType::Date => "4713 BC to 5874897 AD",
            SqlType::Timestamptz => "microseconds, in UTC, 4713 BC to 294276 AD; never an infinity",
            SqlType::Json => {
                "jsonb reorders keys and drops repeated ones; json keeps the spelling; \\u0000 is refused by jsonb"
            }
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
