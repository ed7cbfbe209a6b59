//! Landing kind `clickhouse`: tables of a ClickHouse server, over HTTP, row-binary.
//!
//! The server has no transactions. A batch goes by one insert of one block; one that was broken off may have left some
//! of it. Where rows tell their batch (`lineage = true`) the rest is found by it, taken away, and loaded again, so that
//! in the end each row is there once. Where they do not, a crash at the wrong moment can leave rows twice.

mod binary;
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
    scheme: "clickhouse",
    about: "a ClickHouse server by its HTTP interface: clickhouse://HOST:PORT/DATABASE",
    options: databases::OPTIONS,
};

/// The kind of store.
pub(crate) struct Clickhouse;

/// Adds connection and landing.
pub fn register(registry: &mut Registry) {
    registry.add_connection(KIND);
    registry.add_landing(TableKind::<Clickhouse>::new());
    let about = "the rows of a query of ClickHouse, read whole again and again, to be looked up by a reference";
    registry.add_intake(QueryKind::<Clickhouse>::new("clickhouse query", about));
}

impl Store for Clickhouse {
    const NAME: &'static str = "clickhouse";
    const SCHEME: &'static str = "clickhouse";
    const ABOUT: &'static str = "rows in a table of ClickHouse, loaded over HTTP in its row-binary form";
    const GUARANTEE: &'static str = "with lineage = true each row is there once in the end, though for a moment a part \
                                     of a batch may be; without it at least once";
    const GUARANTEE_UNTRACED: &'static str =
        "at least once: a crash while a batch is loaded can leave some of its rows twice; lineage = true prevents that";
    const MODES: &'static [&'static str] = &["append", "changes"];

    fn connect(settings: &Settings) -> StoreResult<Box<dyn Session>> {
        Ok(Box::new(session::ClickhouseSession::begin(settings)?))
    }

    fn dialect(table: &TableName, _: &Settings) -> Box<dyn SqlDialect> {
        Box::new(dialect::ClickhouseDialect { table: table.clone() })
    }

    const COLUMNS: &'static [&'static str] = &[
        "String",
        "FixedString(8)",
        "UInt8",
        "Int8",
        "Int16",
        "Int32",
        "Int64",
        "UInt64",
        "Float32",
        "Float64",
        "Decimal(8, 2)",
        "Decimal(12, 4)",
        "Decimal(6, 1)",
        "Date",
        "DateTime",
    ];

    fn remark(ty: SqlType) -> &'static str {
        match ty {
            SqlType::Text => "any length; zero bytes as they are",
            SqlType::Boolean => "1 and 0",
            SqlType::Decimal { .. } => "every digit; precision up to 38",
            SqlType::Double => "64 bits; NaN and the infinities as they are",
            SqlType::Date => "1970 to 2105; others are refused",
            SqlType::Timestamptz => {
                "microseconds since 1970 as a whole number; a DateTime takes whole seconds from 1970 to 2105"
            }
            SqlType::Json => "text, as it was spelled",
            _ => "every value",
        }
    }

    fn shown_as(column: &TableColumn) -> SqlType {
        dialect::shown_as(&column.base)
    }

    fn as_text(quoted: &str, _: &TableColumn) -> String {
        quoted.to_string()
    }
}
