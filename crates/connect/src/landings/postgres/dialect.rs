//! How PostgreSQL spells our types, and how they fit its own.

use sluice_core::limit::{Limit, UUID_LENGTH};
use sluice_core::table::{SqlDialect, TableColumn, TypeFit, wider_decimal};
use sluice_core::types::SqlType;

use super::copy::item_of;
use crate::databases::postgres::quote;
use crate::landings::tables::shape::TableName;

pub(crate) struct PostgresDialect {
    table: TableName,
    user: Option<String>,
}

impl PostgresDialect {
    pub(super) fn new(table: TableName, user: Option<String>) -> Self {
        Self { table, user }
    }
}

/// A type with its numbers: `numeric(6,2)` is ("numeric", [6, 2]).
pub(super) fn parts(ty: &str) -> (&str, Vec<u32>) {
    let Some((name, rest)) = ty.split_once('(') else { return (ty, Vec::new()) };
    let inner = rest.split(')').next().unwrap_or_default();
    let after = rest.split_once(')').map_or("", |(_, after)| after);
    // timestamp(3) with time zone
    let name = match (name.trim(), after.trim()) {
        ("timestamp", "with time zone") => "timestamp with time zone",
        ("timestamp", "without time zone") => "timestamp without time zone",
        ("time", "with time zone") => "time with time zone",
        ("time", "without time zone") => "time without time zone",
        (name, _) => name,
    };
    (name, inner.split(',').filter_map(|n| n.trim().parse().ok()).collect())
}

fn numeric(digits: u32, scale: u32, has: &[u32]) -> TypeFit {
    let [precision, there, ..] = has else { return TypeFit::Whole };
    if *there < scale {
        return TypeFit::Loses(format!("digits after the point are rounded from {scale} to {there}"));
    }
    if precision - there < digits - scale {
        return TypeFit::Loses(format!(
            "numbers of more than {} digits before the point are refused",
            precision - there
        ));
    }
    TypeFit::Whole
}

impl SqlDialect for PostgresDialect {
    fn quote(&self, name: &str) -> String {
        quote(name)
    }

    fn table(&self) -> String {
        self.table.quoted(&quote)
    }

    fn create_schema(&self) -> String {
        format!("create schema {}", quote(self.table.schema.as_deref().unwrap_or("public")))
    }

    fn create(&self, columns: &[String], key: &[String]) -> Vec<String> {
        if key.is_empty() {
            return vec![format!("create table {} (\n  {}\n)", self.table(), columns.join(",\n  "))];
        }
        let key: Vec<String> = key.iter().map(|k| quote(k)).collect();
        let inner = format!("{},\n  primary key ({})", columns.join(",\n  "), key.join(", "));
        // A row that changes finds room beside its old one, so that no index has to be written.
        vec![format!("create table {} (\n  {inner}\n) with (fillfactor = 90)", self.table())]
    }

    fn spell(&self, ty: SqlType, _: bool) -> String {
        match ty {
            SqlType::Decimal { precision, scale } => format!("numeric({precision},{scale})"),
            SqlType::Json => "jsonb".into(),
            SqlType::Timestamp | SqlType::Interval | SqlType::Null => "text".into(),
            other => other.to_string(),
        }
    }

    fn spell_limited(&self, limit: Limit, _: bool) -> Option<String> {
        Some(limit.to_string())
    }

    fn fit_limited(&self, limit: Limit, column: &TableColumn) -> Option<TypeFit> {
        let (base, numbers) = parts(&column.base);
        let length = numbers.first().copied();
        match (limit, base) {
            (Limit::Smallint, "smallint") | (Limit::Real, "real") | (Limit::Uuid, "uuid") => Some(TypeFit::Whole),
            (Limit::List(item), _) => {
                let base = column.base.strip_suffix("[]")?;
                let is_same = match (item, item_of(base)?.0) {
                    (SqlType::Decimal { .. }, SqlType::Decimal { .. }) => true,
                    (a, b) => a == b,
                };
                let of = TableColumn { base: base.into(), ..column.clone() };
                is_same.then(|| self.fit(item, &of))
            }
            (Limit::Bytea, "bytea") => Some(TypeFit::Whole),
            (Limit::Bytea | Limit::Time, "uuid" | "enum" | "json" | "jsonb") => Some(TypeFit::Unfit),
            (Limit::Time, "time without time zone") => Some(match length {
                Some(n) if n < 6 => TypeFit::Loses(format!("microseconds are rounded to {n} digits")),
                _ => TypeFit::Whole,
            }),
            (Limit::Smallint, "numeric") => Some(numeric(5, 0, &numbers)),
            (Limit::Varchar(n) | Limit::Char(n), "character varying") if length.is_none_or(|has| has >= n) => {
                Some(TypeFit::Whole)
            }
            (Limit::Char(n), "character") if length.unwrap_or(1) >= n => Some(TypeFit::Whole),
            (Limit::Uuid, "character varying") if length.is_none_or(|has| has >= UUID_LENGTH) => Some(TypeFit::Whole),
            _ => None,
        }
    }

    fn fit(&self, ty: SqlType, column: &TableColumn) -> TypeFit {
        let (base, numbers) = parts(&column.base);
        let longer = || numbers.first().map(|n| TypeFit::MayRefuse(format!("texts longer than {n} are refused")));
        match (ty, base) {
            (SqlType::Null, _) => TypeFit::Whole,
            (SqlType::Text | SqlType::Json, "text" | "citext") => TypeFit::Whole,
            (SqlType::Text, "character varying") => longer().unwrap_or(TypeFit::Whole),
            (SqlType::Text, "character") => TypeFit::MayRefuse(format!(
                "shorter texts are padded to {}, longer ones refused",
                numbers.first().unwrap_or(&1)
            )),
            (SqlType::Text, "enum") => TypeFit::MayRefuse("words that the type does not list are refused".into()),
            (SqlType::Text, "uuid") => TypeFit::MayRefuse("texts that are no UUID are refused".into()),
            (SqlType::Text, "json" | "jsonb") => TypeFit::MayRefuse("texts that are not JSON are refused".into()),
            (SqlType::Json, "jsonb" | "json") => TypeFit::Whole,
            (SqlType::Boolean, "boolean") => TypeFit::Whole,
            (SqlType::Integer, "integer" | "bigint" | "double precision") => TypeFit::Whole,
            (SqlType::Bigint, "bigint") => TypeFit::Whole,
            (SqlType::Integer, "smallint") => TypeFit::Loses("16 bits hold -32768 to 32767".into()),
            (SqlType::Bigint, "integer" | "smallint") => TypeFit::Loses("64 bits do not fit into fewer".into()),
            (SqlType::Integer, "real") | (SqlType::Bigint, "real" | "double precision") => {
                TypeFit::Loses("large whole numbers are rounded".into())
            }
            (SqlType::Integer, "numeric") => numeric(10, 0, &numbers),
            (SqlType::Bigint, "numeric") => numeric(19, 0, &numbers),
            (SqlType::Decimal { precision, scale }, "numeric") => numeric(precision.into(), scale.into(), &numbers),
            (SqlType::Decimal { .. }, "double precision" | "real") => {
                TypeFit::Loses("exact numbers become approximate ones".into())
            }
            (SqlType::Decimal { .. }, "integer" | "bigint" | "smallint") => {
                TypeFit::Loses("digits after the point are rounded away".into())
            }
            (SqlType::Double, "double precision") => TypeFit::Whole,
            (SqlType::Double, "real") => TypeFit::Loses("15 digits become 6".into()),
            (SqlType::Double, "numeric") => TypeFit::Loses("it would pretend to be exact".into()),
            (SqlType::Date, "date") => TypeFit::Whole,
            (SqlType::Timestamptz, "timestamp with time zone" | "timestamp without time zone" | "timestamp") => {
                match numbers.first() {
                    Some(n) if *n < 6 => TypeFit::Loses(format!("microseconds are rounded to {n} digits")),
                    _ if base == "timestamp with time zone" => TypeFit::Whole,
                    _ => TypeFit::MayRefuse("it lands in UTC; the column has no time zone".into()),
                }
            }
            (SqlType::Timestamptz, "date") => TypeFit::Loses("the time of day is cut off".into()),
            _ => TypeFit::Unfit,
        }
    }

    fn by_hand(&self, ty: SqlType, column: &TableColumn) -> Option<String> {
        let (ty, name) = (self.spell(ty, false), self.quote(&column.name));
        let statement = self.retype(column, &ty)?;
        Some(format!("{statement} using {name}::text::{ty}"))
    }

    fn wider(&self, ty: SqlType, column: &TableColumn) -> Option<String> {
        let (base, numbers) = parts(&column.base);
        let whole = |base: &str| match base {
            "smallint" => Some((5, 0)),
            "integer" => Some((10, 0)),
            "bigint" => Some((19, 0)),
            _ => None,
        };
        let there = match (base, numbers.as_slice()) {
            ("numeric", [digits, scale, ..]) => Some((*digits, *scale)),
            _ => whole(base),
        };
        match (ty, base) {
            (SqlType::Integer | SqlType::Bigint, "smallint" | "integer") => Some(self.spell(ty, false)),
            (SqlType::Double, "real") => Some("double precision".into()),
            // Every value has a text, by which the server itself writes it.
            (
                SqlType::Text,
                "boolean"
                | "smallint"
                | "integer"
                | "bigint"
                | "numeric"
                | "real"
                | "double precision"
                | "date"
                | "interval"
                | "timestamp with time zone"
                | "timestamp without time zone",
            ) => Some("text".into()),
            (SqlType::Timestamptz, "timestamp with time zone" | "date") => Some("timestamptz".into()),
            (SqlType::Timestamptz, "timestamp without time zone" | "timestamp") => Some("timestamp".into()),
            _ => {
                let (digits, scale) = ty.as_decimal()?;
                let (digits, scale) = wider_decimal(there?, (digits.into(), scale.into()));
                Some(format!("numeric({digits},{scale})"))
            }
        }
    }

    fn grant(&self, right: &str) -> Option<String> {
        let user = self.user.as_ref()?;
        Some(format!("grant {right} on {} to {}", self.table(), quote(user)))
    }
}

/// The type of ours that shows values of a column best.
pub(super) fn shown_as(base: &str) -> SqlType {
    // A list, and not one of its items.
    if base.ends_with("[]") {
        return SqlType::Text;
    }
    match parts(base) {
        ("boolean", _) => SqlType::Boolean,
        ("smallint" | "integer", _) => SqlType::Integer,
        ("bigint", _) => SqlType::Bigint,
        ("double precision" | "real", _) => SqlType::Double,
        ("json" | "jsonb", _) => SqlType::Json,
        ("numeric", numbers) if numbers.first().is_some_and(|p| *p <= 38) => SqlType::Decimal {
            precision: numbers.first().and_then(|n| u8::try_from(*n).ok()).unwrap_or(38),
            scale: numbers.get(1).and_then(|n| u8::try_from(*n).ok()).unwrap_or(0),
        },
        ("date", _) => SqlType::Date,
        ("timestamp with time zone", _) => SqlType::Timestamptz,
        // Exact numbers without bounds have values that no type of ours has.
        _ => SqlType::Text,
    }
}

/// A column as text that our types read.
pub(super) fn as_text(quoted: &str, base: &str) -> String {
    match parts(base) {
        ("timestamp with time zone", _) => format!(
            "case when isfinite({quoted}) then to_char({quoted} at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US\"Z\"') \
             else {quoted}::text end"
        ),
        _ => format!("{quoted}::text"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn dialect() -> PostgresDialect {
        PostgresDialect::new(TableName { schema: Some("toll".into()), name: "a\"b".into() }, Some("clerk".into()))
    }

    #[test]
    fn what_can_only_be_done_by_hand_is_shown() {
        let column = TableColumn { name: "toll".into(), ..column("text") };
        let statement = dialect().by_hand(SqlType::Integer, &column).unwrap();
        assert!(statement.ends_with("alter column \"toll\" type integer using \"toll\"::text::integer"), "{statement}");
    }

    #[rstest]
    #[case(D62, "numeric(10,1)", Some("numeric(11,2)"))]
    #[case(D62, "integer", Some("numeric(12,2)"))]
    #[case(D62, "double precision", None)]
    #[case(SqlType::Bigint, "double precision", None)]
    #[case(SqlType::Bigint, "integer", Some("bigint"))]
    #[case(SqlType::Timestamptz, "timestamp(3) with time zone", Some("timestamptz"))]
    #[case(SqlType::Double, "real", Some("double precision"))]
    #[case(SqlType::Text, "boolean", Some("text"))]
    #[case(SqlType::Text, "bytea", None)]
    fn a_column_is_only_ever_widened(#[case] ty: SqlType, #[case] base: &str, #[case] expected: Option<&str>) {
        assert_eq!(dialect().wider(ty, &column(base)).as_deref(), expected);
    }

    fn column(base: &str) -> TableColumn {
        TableColumn {
            name: "c".into(),
            ty: base.into(),
            base: base.into(),
            nullable: true,
            filled: false,
            computed: false,
            collation: None,
        }
    }

    #[test]
    fn names_and_texts_are_quoted() {
        assert_eq!(dialect().table(), "\"toll\".\"a\"\"b\"");
        assert_eq!(crate::databases::postgres::literal("it's \\"), "'it''s \\'");
        assert_eq!(dialect().grant("insert").unwrap(), "grant insert on \"toll\".\"a\"\"b\" to \"clerk\"");
    }

    const D62: SqlType = SqlType::Decimal { precision: 6, scale: 2 };

    #[rstest]
    #[case(Limit::Smallint, "smallint", Some(TypeFit::Whole))]
    #[case(Limit::Smallint, "numeric(5,0)", Some(TypeFit::Whole))]
    #[case(Limit::Smallint, "integer", None)]
    #[case(Limit::Real, "real", Some(TypeFit::Whole))]
    #[case(Limit::Varchar(8), "character varying(8)", Some(TypeFit::Whole))]
    #[case(Limit::Varchar(9), "character varying(8)", None)]
    #[case(Limit::Char(8), "character(8)", Some(TypeFit::Whole))]
    #[case(Limit::Char(2), "character", None)]
    #[case(Limit::Varchar(8), "character(8)", None)]
    #[case(Limit::Uuid, "uuid", Some(TypeFit::Whole))]
    #[case(Limit::Bytea, "bytea", Some(TypeFit::Whole))]
    #[case(Limit::Bytea, "text", None)]
    #[case(Limit::List(SqlType::Text), "text[]", Some(TypeFit::Whole))]
    #[case(Limit::List(SqlType::Integer), "bigint[]", None)]
    #[case(Limit::List(D62), "numeric(6,2)[]", Some(TypeFit::Whole))]
    #[case(Limit::List(SqlType::Text), "jsonb", None)]
    #[case(Limit::Time, "time without time zone", Some(TypeFit::Whole))]
    #[case(Limit::Time, "time with time zone", None)]
    #[case(Limit::Uuid, "character varying(35)", None)]
    fn narrower_types_fit_more(#[case] limit: Limit, #[case] base: &str, #[case] expected: Option<TypeFit>) {
        assert_eq!(dialect().fit_limited(limit, &column(base)), expected);
    }

    #[rstest]
    #[case(SqlType::Text, "text", "whole")]
    #[case(SqlType::Text, "character varying", "whole")]
    #[case(SqlType::Text, "character varying(8)", "refuse")]
    #[case(SqlType::Text, "uuid", "refuse")]
    #[case(SqlType::Text, "bytea", "unfit")]
    #[case(SqlType::Text, "integer", "unfit")]
    #[case(SqlType::Integer, "bigint", "whole")]
    #[case(SqlType::Bigint, "integer", "loses")]
    #[case(SqlType::Bigint, "numeric(18,0)", "loses")]
    #[case(SqlType::Bigint, "numeric(19,0)", "whole")]
    #[case(D62, "numeric", "whole")]
    #[case(D62, "numeric(6,2)", "whole")]
    #[case(D62, "numeric(6,1)", "loses")]
    #[case(D62, "numeric(5,2)", "loses")]
    #[case(D62, "double precision", "loses")]
    #[case(SqlType::Double, "real", "loses")]
    #[case(SqlType::Timestamptz, "timestamp with time zone", "whole")]
    #[case(SqlType::Timestamptz, "timestamp(3) with time zone", "loses")]
    #[case(SqlType::Timestamptz, "timestamp without time zone", "refuse")]
    #[case(SqlType::Timestamptz, "date", "loses")]
    #[case(SqlType::Json, "jsonb", "whole")]
    #[case(SqlType::Date, "timestamp with time zone", "unfit")]
    fn types_fit_or_not(#[case] ty: SqlType, #[case] base: &str, #[case] expected: &str) {
        let word = match dialect().fit(ty, &column(base)) {
            TypeFit::Whole => "whole",
            TypeFit::MayRefuse(_) => "refuse",
            TypeFit::Loses(_) => "loses",
            TypeFit::Unfit => "unfit",
        };
        assert_eq!(word, expected);
    }
}
