//! Schemas of rows, for those who begin with the rows.

use std::fmt::Write as _;

use crate::columns::OutputColumn;
use crate::limit::Limit;
use crate::types::SqlType;

/// A file of the language with a message of these columns, numbered in their order. Numbers stay as they are once messages are
/// written by them.
pub fn message_of(name: &str, columns: &[OutputColumn]) -> String {
    let mut out = String::from("syntax = \"proto3\";\n\n");
    if columns.iter().any(|column| field_type(column) == MOMENT) {
        out.push_str("import \"google/protobuf/timestamp.proto\";\n\n");
    }
    let _ = writeln!(out, "message {name} {{");
    for (place, column) in columns.iter().enumerate() {
        let label = match (column.limit, column.nullable) {
            (Some(Limit::List(_)), _) => "repeated ",
            (_, true) => "optional ",
            (_, false) => "",
        };
        let _ = writeln!(out, "  {label}{} {} = {};", field_type(column), column.name, field_number(place));
    }
    out.push_str("}\n");
    out
}

const MOMENT: &str = "google.protobuf.Timestamp";

/// The number of a field: those from 19,000 to 19,999 belong to the language itself.
fn field_number(place: usize) -> usize {
    if place + 1 < 19_000 { place + 1 } else { place + 1_001 }
}

/// The type of fields that takes every value of a column.
pub fn field_type(column: &OutputColumn) -> &'static str {
    match column.limit {
        Some(Limit::Bytea) => "bytes",
        Some(Limit::Real) => "float",
        Some(Limit::List(item)) => scalar(item),
        _ => scalar(column.ty),
    }
}

fn scalar(ty: SqlType) -> &'static str {
    match ty {
        SqlType::Boolean => "bool",
        SqlType::Integer => "int32",
        SqlType::Bigint => "int64",
        SqlType::Double => "double",
        SqlType::Timestamptz => MOMENT,
        // It has no numbers with decimals.
        SqlType::Decimal { .. }
        | SqlType::Date
        | SqlType::Text
        | SqlType::Json
        | SqlType::Timestamp
        | SqlType::Interval
        | SqlType::Null => "string",
    }
}
