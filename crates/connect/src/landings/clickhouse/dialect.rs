//! How ClickHouse spells our types, and how they fit its own.

use sluice_core::table::{SqlDialect, TableColumn, TypeFit, wider_decimal};
use sluice_core::types::SqlType;

use crate::landings::tables::shape::TableName;

/// A name in backquotes.
pub(super) fn quote(name: &str) -> String {
    format!("`{}`", name.replace('\\', "\\\\").replace('`', "\\`"))
}

/// A text in single quotes.
pub(super) fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"))
}

pub(super) struct ClickhouseDialect {
    pub(super) table: TableName,
}

/// A type without `Nullable`, and whether it had it.
pub(super) fn bare(ty: &str) -> (&str, bool) {
    match ty.strip_prefix("Nullable(").and_then(|t| t.strip_suffix(')')) {
        Some(inner) => (inner, true),
        None => (ty, false),
    }
}

/// Digits and digits after the point of `Decimal(8, 2)`.
pub(super) fn decimal(ty: &str) -> Option<(u32, u32)> {
    let inner = ty.strip_prefix("Decimal(")?.strip_suffix(')')?;
    let (precision, scale) = inner.split_once(',')?;
    Some((precision.trim().parse().ok()?, scale.trim().parse().ok()?))
}

impl SqlDialect for ClickhouseDialect {
    fn quote(&self, name: &str) -> String {
        quote(name)
    }

    fn table(&self) -> String {
        self.table.quoted(&quote)
    }

    fn create_schema(&self) -> String {
        format!("create database {}", quote(self.table.schema.as_deref().unwrap_or_default()))
    }

    fn spell(&self, ty: SqlType, _: bool) -> String {
        match ty {
            SqlType::Text | SqlType::Json | SqlType::Timestamp | SqlType::Interval | SqlType::Null => "String".into(),
            SqlType::Boolean => "UInt8".into(),
            SqlType::Integer => "Int32".into(),
            // Its DateTime keeps whole seconds; this keeps microseconds since 1970.
            SqlType::Bigint | SqlType::Timestamptz => "Int64".into(),
            SqlType::Double => "Float64".into(),
            SqlType::Decimal { precision, scale } => format!("Decimal({precision}, {scale})"),
            SqlType::Date => "Date".into(),
        }
    }

    fn typed(&self, spelled: &str, nullable: bool) -> String {
        if nullable { format!("Nullable({spelled})") } else { spelled.to_string() }
    }

    fn create(&self, columns: &[String], _: &[String]) -> Vec<String> {
        vec![format!(
            "create table {} (\n  {}\n) engine = MergeTree order by tuple()",
            self.table(),
            columns.join(",\n  ")
        )]
    }

    fn fit(&self, ty: SqlType, column: &TableColumn) -> TypeFit {
        let (base, _) = bare(&column.base);
        let days = || TypeFit::MayRefuse("days outside of 1970 to 2105 are refused".into());
        match (ty, base) {
            (SqlType::Null, _) => TypeFit::Whole,
            (SqlType::Text | SqlType::Json, "String") => TypeFit::Whole,
            (SqlType::Boolean, "UInt8") => TypeFit::Whole,
            (SqlType::Integer, "Int32" | "Int64") | (SqlType::Bigint, "Int64") => TypeFit::Whole,
            (
                SqlType::Integer | SqlType::Bigint,
                "Int8" | "Int16" | "Int32" | "UInt8" | "UInt16" | "UInt32" | "UInt64",
            ) => TypeFit::Loses("it does not hold every whole number that can land".into()),
            (SqlType::Double, "Float64") => TypeFit::Whole,
            (SqlType::Double, "Float32") => TypeFit::Loses("15 digits become 6".into()),
            (SqlType::Date, "Date") => days(),
            (SqlType::Timestamptz, "Int64") => TypeFit::Whole,
            (SqlType::Timestamptz, "DateTime") => TypeFit::MayRefuse(
                "moments with a part of a second, or outside of 1970 to 2105, are refused; \
                 date_trunc('second', …) cuts it, Int64 keeps microseconds since 1970"
                    .into(),
            ),
            (SqlType::Decimal { precision, scale }, other) => match decimal(other) {
                Some((_, after)) if after < scale.into() => {
                    TypeFit::Loses(format!("digits after the point would be cut from {scale} to {after}"))
                }
                Some((digits, after)) if digits - after < u32::from(precision - scale) => TypeFit::Loses(format!(
                    "numbers of more than {} digits before the point do not fit",
                    digits - after
                )),
                Some(_) => TypeFit::Whole,
                None if matches!(other, "Float32" | "Float64") => {
                    TypeFit::Loses("exact numbers become approximate ones".into())
                }
                None => TypeFit::Unfit,
            },
            _ => TypeFit::Unfit,
        }
    }

    fn wider(&self, ty: SqlType, column: &TableColumn) -> Option<String> {
        let (base, nullable) = bare(&column.base);
        let wider = match (ty, base) {
            (SqlType::Integer, "Int8" | "Int16" | "UInt8" | "UInt16") => "Int32".into(),
            (SqlType::Integer, "UInt32")
            | (SqlType::Bigint, "Int8" | "Int16" | "Int32" | "UInt8" | "UInt16" | "UInt32") => "Int64".into(),
            (SqlType::Double, "Float32") => "Float64".into(),
            _ => {
                let (digits, scale) = ty.as_decimal()?;
                let (digits, scale) = wider_decimal(decimal(base)?, (digits.into(), scale.into()));
                format!("Decimal({digits}, {scale})")
            }
        };
        Some(self.typed(&wider, nullable))
    }

    fn retype(&self, column: &TableColumn, ty: &str) -> Option<String> {
        Some(format!("alter table {} modify column {} {ty}", self.table(), quote(&column.name)))
    }

    fn index(&self, _: &[String]) -> Option<String> {
        None
    }

    fn allow_null(&self, _: &str, _: &str) -> Option<String> {
        None
    }
}

/// The type of ours that shows values of a column best.
pub(super) fn shown_as(base: &str) -> SqlType {
    let (base, _) = bare(base);
    match base {
        "Int8" | "Int16" | "Int32" | "UInt8" | "UInt16" => SqlType::Integer,
        "Int64" | "UInt32" => SqlType::Bigint,
        "Float32" | "Float64" => SqlType::Double,
        "Date" => SqlType::Date,
        other => match decimal(other) {
            Some((p, s)) => SqlType::Decimal {
                precision: u8::try_from(p).unwrap_or(38).min(38),
                scale: u8::try_from(s).unwrap_or(0),
            },
            None => SqlType::Text,
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(SqlType::Text, "Nullable(String)", "whole")]
    #[case(SqlType::Text, "FixedString(3)", "unfit")]
    #[case(SqlType::Bigint, "Int32", "loses")]
    #[case(SqlType::Timestamptz, "Int64", "whole")]
    #[case(SqlType::Timestamptz, "DateTime", "refuse")]
    #[case(SqlType::Decimal { precision: 8, scale: 2 }, "Decimal(8, 2)", "whole")]
    #[case(SqlType::Decimal { precision: 8, scale: 2 }, "Nullable(Decimal(9, 1))", "loses")]
    #[case(SqlType::Decimal { precision: 8, scale: 2 }, "Float64", "loses")]
    fn types_fit_or_not(#[case] ty: SqlType, #[case] base: &str, #[case] expected: &str) {
        let dialect = ClickhouseDialect { table: TableName { schema: None, name: "t".into() } };
        let column = TableColumn {
            name: "c".into(),
            ty: base.into(),
            base: base.into(),
            nullable: true,
            filled: false,
            computed: false,
            collation: None,
        };
        let word = match dialect.fit(ty, &column) {
            TypeFit::Whole => "whole",
            TypeFit::MayRefuse(_) => "refuse",
            TypeFit::Loses(_) => "loses",
            TypeFit::Unfit => "unfit",
        };
        assert_eq!(word, expected);
    }
}
