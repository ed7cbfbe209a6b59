//! How SQLite spells our types. A column there takes any value and changes some by its affinity, so that the name of a
//! column's type decides what is kept as it is.

use sluice_core::limit::Limit;
use sluice_core::table::{SqlDialect, TableColumn, TypeFit};
use sluice_core::types::SqlType;

use crate::databases::postgres::quote;
use crate::landings::tables::shape::TableName;

pub(super) struct SqliteDialect {
    pub(super) table: TableName,
}

/// The affinity of a column, by the rules of "Datatypes in SQLite", section 3.1.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Affinity {
    Integer,
    Text,
    Blob,
    Real,
    Numeric,
}

pub(super) fn affinity(ty: &str) -> Affinity {
    let ty = ty.to_ascii_uppercase();
    let has = |parts: &[&str]| parts.iter().any(|p| ty.contains(p));
    if has(&["INT"]) {
        Affinity::Integer
    } else if has(&["CHAR", "CLOB", "TEXT"]) {
        Affinity::Text
    } else if ty.is_empty() || has(&["BLOB"]) {
        Affinity::Blob
    } else if has(&["REAL", "FLOA", "DOUB"]) {
        Affinity::Real
    } else {
        Affinity::Numeric
    }
}

/// So many digits survive in a floating point.
const DIGITS: u8 = 15;

impl SqlDialect for SqliteDialect {
    fn quote(&self, name: &str) -> String {
        quote(name)
    }

    fn table(&self) -> String {
        self.table.quoted(&quote)
    }

    fn spell(&self, ty: SqlType, _: bool) -> String {
        match ty {
            SqlType::Text | SqlType::Json | SqlType::Timestamp | SqlType::Interval | SqlType::Null => "text".into(),
            SqlType::Decimal { precision, scale } if precision <= DIGITS => format!("decimal({precision},{scale})"),
            SqlType::Decimal { .. } => "text".into(),
            SqlType::Double => "real".into(),
            SqlType::Timestamptz => "timestamp".into(),
            other => other.to_string(),
        }
    }

    fn spell_limited(&self, limit: Limit, in_key: bool) -> Option<String> {
        match limit {
            Limit::Bytea if !in_key => Some("blob".into()),
            _ => None,
        }
    }

    fn fit(&self, ty: SqlType, column: &TableColumn) -> TypeFit {
        let affinity = affinity(&column.base);
        match (ty, affinity) {
            // A column without a type keeps what it gets.
            (SqlType::Null, _) | (_, Affinity::Blob) => TypeFit::Whole,
            (SqlType::Text | SqlType::Json | SqlType::Date | SqlType::Timestamptz, Affinity::Text) => TypeFit::Whole,
            (SqlType::Date | SqlType::Timestamptz, Affinity::Numeric) => TypeFit::Whole,
            (SqlType::Text | SqlType::Json, Affinity::Numeric) => {
                TypeFit::Loses("texts that look like numbers become numbers: 007 becomes 7".into())
            }
            (SqlType::Boolean | SqlType::Integer | SqlType::Bigint, Affinity::Integer | Affinity::Numeric) => {
                TypeFit::Whole
            }
            (SqlType::Integer | SqlType::Double, Affinity::Real) => TypeFit::Whole,
            (SqlType::Bigint, Affinity::Real) => TypeFit::Loses("large whole numbers are rounded".into()),
            (SqlType::Double, Affinity::Numeric) => TypeFit::Whole,
            (SqlType::Decimal { precision, .. }, Affinity::Numeric | Affinity::Real) if precision <= DIGITS => {
                TypeFit::Whole
            }
            (SqlType::Decimal { .. }, Affinity::Text) => TypeFit::Whole,
            (SqlType::Decimal { .. }, Affinity::Numeric | Affinity::Real) => {
                TypeFit::Loses(format!("only {DIGITS} digits survive; text keeps all"))
            }
            _ => TypeFit::Unfit,
        }
    }

    fn retype(&self, _: &TableColumn, _: &str) -> Option<String> {
        None
    }

    fn allow_null(&self, _: &str, _: &str) -> Option<String> {
        None
    }

    fn index(&self, key: &[String]) -> Option<String> {
        let columns: Vec<String> = key.iter().map(|k| quote(k)).collect();
        let name = quote(&format!("{}_{}", self.table.name, key.join("_")));
        Some(format!("create unique index {name} on {} ({})", self.table(), columns.join(", ")))
    }
}

/// Whether a column is made for bytes: one without a type takes texts as well.
pub(super) fn is_binary(ty: &str) -> bool {
    ty.to_ascii_uppercase().contains("BLOB")
}

/// The type of ours that shows values of a column best.
pub(super) fn shown_as(base: &str) -> SqlType {
    match (base.to_ascii_lowercase().as_str(), affinity(base)) {
        ("boolean", _) => SqlType::Boolean,
        (_, Affinity::Integer) => SqlType::Bigint,
        (_, Affinity::Real) => SqlType::Double,
        _ => SqlType::Text,
    }
}

/// A column as text that our types read.
pub(super) fn as_text(quoted: &str, _: &str) -> String {
    format!("case typeof({quoted}) when 'blob' then '\\x' || lower(hex({quoted})) else cast({quoted} as text) end")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("BIGINT", Affinity::Integer)]
    #[case("varchar(10)", Affinity::Text)]
    #[case("", Affinity::Blob)]
    #[case("double precision", Affinity::Real)]
    #[case("decimal(6,2)", Affinity::Numeric)]
    #[case("timestamp", Affinity::Numeric)]
    #[case("json", Affinity::Numeric)]
    fn names_of_types_decide(#[case] ty: &str, #[case] expected: Affinity) {
        assert_eq!(affinity(ty), expected);
    }

    #[rstest]
    #[case(SqlType::Text)]
    #[case(SqlType::Json)]
    #[case(SqlType::Boolean)]
    #[case(SqlType::Integer)]
    #[case(SqlType::Bigint)]
    #[case(SqlType::Double)]
    #[case(SqlType::Date)]
    #[case(SqlType::Timestamptz)]
    #[case(SqlType::Decimal { precision: 8, scale: 2 })]
    #[case(SqlType::Decimal { precision: 38, scale: 10 })]
    fn what_we_spell_fits(#[case] ty: SqlType) {
        let dialect = SqliteDialect { table: TableName { schema: None, name: "t".into() } };
        let spelled = dialect.spell(ty, false);
        let column = TableColumn {
            name: "c".into(),
            ty: spelled.clone(),
            base: spelled,
            nullable: true,
            filled: false,
            computed: false,
            collation: None,
        };
        assert_eq!(dialect.fit(ty, &column), TypeFit::Whole);
    }
}
