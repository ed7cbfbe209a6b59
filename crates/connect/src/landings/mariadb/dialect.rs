//! How MariaDB and MySQL spell our types, and how they fit theirs.

use sluice_core::limit::{Limit, UUID_LENGTH};
use sluice_core::table::{Merges, SqlDialect, TableColumn, TypeFit, wider_decimal};
use sluice_core::types::SqlType;

use crate::databases::mariadb::quote;
use crate::landings::tables::shape::TableName;

/// The order of texts that distinguishes all of them.
/// Characters of a text that an index holds, of four bytes each.
const MOST_IN_KEY: u32 = 255;

/// Characters of a text of bounded length in a row, which holds 65,535 bytes of all such texts together.
const MOST_IN_ROW: u32 = 500;

/// Bytes of a character, at most.
const BYTES: u32 = 4;

const NO_PADDING: &str = "character set utf8mb4 collate utf8mb4_nopad_bin";

pub(super) struct MariadbDialect {
    pub(super) table: TableName,
}

/// A type as `decimal(8,2)`: its name and numbers.
pub(super) fn parts(ty: &str) -> (&str, Vec<u32>) {
    let (name, rest) = ty.split_once('(').unwrap_or((ty, ""));
    let inner = rest.split(')').next().unwrap_or_default();
    (name.trim(), inner.split(',').filter_map(|n| n.trim().parse().ok()).collect())
}

impl SqlDialect for MariadbDialect {
    fn quote(&self, name: &str) -> String {
        quote(name)
    }

    fn table(&self) -> String {
        self.table.quoted(&quote)
    }

    fn create_schema(&self) -> String {
        format!("create database {}", quote(self.table.schema.as_deref().unwrap_or_default()))
    }

    fn spell(&self, ty: SqlType, in_key: bool) -> String {
        match ty {
            // An index wants texts of a bounded length.
            SqlType::Text | SqlType::Null if in_key => format!("varchar(255) {NO_PADDING}"),
            SqlType::Text | SqlType::Timestamp | SqlType::Interval | SqlType::Null => {
                "longtext character set utf8mb4".into()
            }
            SqlType::Boolean => "boolean".into(),
            SqlType::Double => "double".into(),
            SqlType::Decimal { precision, scale } => format!("decimal({precision},{scale})"),
            SqlType::Timestamptz => "datetime(6)".into(),
            SqlType::Json => "json".into(),
            other => other.to_string(),
        }
    }

    fn spell_limited(&self, limit: Limit, in_key: bool) -> Option<String> {
        let most = if in_key { MOST_IN_KEY } else { MOST_IN_ROW };
        match limit {
            Limit::Smallint => Some("smallint".into()),
            Limit::Varchar(n) | Limit::Char(n) if n <= most => Some(format!("varchar({n}) {NO_PADDING}")),
            Limit::Uuid => Some(format!("varchar({UUID_LENGTH}) {NO_PADDING}")),
            Limit::Bytea if in_key => None,
            Limit::Bytea => Some("longblob".into()),
            Limit::Time => Some("time(6)".into()),
            // Its own `float` is given back with six digits.
            Limit::Real | Limit::Varchar(_) | Limit::Char(_) | Limit::List(_) => None,
        }
    }

    fn fit_limited(&self, limit: Limit, column: &TableColumn) -> Option<TypeFit> {
        let (base, numbers) = parts(&column.base);
        let length = match base {
            "varchar" | "char" => numbers.first().copied(),
            "tinytext" => Some(255 / BYTES),
            "text" => Some(65_535 / BYTES),
            "mediumtext" => Some(16_777_215 / BYTES),
            _ => None,
        };
        let is_enough = match limit {
            Limit::Smallint => {
                matches!(base, "smallint" | "mediumint" | "int" | "integer") && !column.base.contains("unsigned")
            }
            Limit::Varchar(n) | Limit::Char(n) => length.is_some_and(|has| has >= n),
            Limit::Bytea => base == "longblob",
            Limit::Time => base == "time" && numbers.first().is_some_and(|digits| *digits >= 6),
            Limit::Uuid => base == "uuid" || length.is_some_and(|has| has >= UUID_LENGTH),
            Limit::Real | Limit::List(_) => false,
        };
        if !is_enough && limit == Limit::Bytea && is_binary(base) {
            return Some(TypeFit::MayRefuse(format!("more bytes than {} holds are refused", column.base)));
        }
        if !is_enough && limit == Limit::Time && base == "time" {
            return Some(TypeFit::Loses(format!("microseconds are cut to {} digits", numbers.first().unwrap_or(&0))));
        }
        is_enough.then_some(TypeFit::Whole)
    }

    fn create(&self, columns: &[String], key: &[String]) -> Vec<String> {
        let mut inner = columns.to_vec();
        if !key.is_empty() {
            let key: Vec<String> = key.iter().map(|k| quote(k)).collect();
            inner.push(format!("primary key ({})", key.join(", ")));
        }
        vec![format!("create table {} (\n  {}\n) engine = InnoDB", self.table(), inner.join(",\n  "))]
    }

    fn fit(&self, ty: SqlType, column: &TableColumn) -> TypeFit {
        let (base, numbers) = parts(&column.base);
        let unsigned = column.base.contains("unsigned");
        let first = || numbers.first().copied().unwrap_or(0);
        match (ty, base) {
            (SqlType::Null, _) => TypeFit::Whole,
            (SqlType::Text | SqlType::Json, "longtext") => TypeFit::Whole,
            (SqlType::Text, "text" | "mediumtext" | "tinytext") => {
                TypeFit::MayRefuse(format!("texts longer than a {base} holds are refused"))
            }
            (SqlType::Text, "varchar" | "char") => {
                TypeFit::MayRefuse(format!("texts longer than {} are refused", first()))
            }
            (SqlType::Text, "enum") => TypeFit::MayRefuse("words that the type does not list are refused".into()),
            (SqlType::Text, "uuid" | "inet6") => TypeFit::MayRefuse("texts of another form are refused".into()),
            (SqlType::Json, "json") => TypeFit::Whole,
            (SqlType::Boolean, "tinyint" | "boolean" | "bit") => TypeFit::Whole,
            (SqlType::Integer | SqlType::Bigint, "bigint") if !unsigned => TypeFit::Whole,
            (SqlType::Integer, "int" | "integer") if !unsigned => TypeFit::Whole,
            (SqlType::Integer | SqlType::Bigint, "int" | "bigint" | "smallint" | "mediumint" | "tinyint") => {
                TypeFit::Loses("it does not hold every whole number that can land".into())
            }
            (SqlType::Integer, "double") => TypeFit::Whole,
            (SqlType::Bigint, "double" | "float") | (SqlType::Integer, "float") => {
                TypeFit::Loses("large whole numbers are rounded".into())
            }
            (SqlType::Integer | SqlType::Bigint | SqlType::Decimal { .. }, "decimal") => {
                let (digits, scale) = ty.as_decimal().unwrap_or((0, 0));
                let (digits, scale) = (u32::from(digits), u32::from(scale));
                let (has, after) = (first(), numbers.get(1).copied().unwrap_or(0));
                if after < scale {
                    TypeFit::Loses(format!("digits after the point are rounded from {scale} to {after}"))
                } else if has - after < digits - scale {
                    TypeFit::Loses(format!("numbers of more than {} digits before the point are refused", has - after))
                } else {
                    TypeFit::Whole
                }
            }
            (SqlType::Decimal { .. }, "double" | "float") => {
                TypeFit::Loses("exact numbers become approximate ones".into())
            }
            (SqlType::Double, "double") => TypeFit::Whole,
            (SqlType::Double, "float") => TypeFit::Loses("15 digits become 6".into()),
            (SqlType::Date, "date") => TypeFit::Whole,
            (SqlType::Timestamptz, "datetime") if first() < 6 => {
                TypeFit::Loses(format!("microseconds are cut to {} digits", first()))
            }
            (SqlType::Timestamptz, "datetime") => TypeFit::Whole,
            (SqlType::Timestamptz, "timestamp") if first() < 6 => {
                TypeFit::Loses(format!("microseconds are cut to {} digits", first()))
            }
            (SqlType::Timestamptz, "timestamp") => {
                TypeFit::MayRefuse("moments outside of 1970 to 2038 are refused".into())
            }
            _ => TypeFit::Unfit,
        }
    }

    fn by_hand(&self, ty: SqlType, column: &TableColumn) -> Option<String> {
        self.retype(column, &self.spell(ty, false))
    }

    fn merges(&self, column: &TableColumn) -> Option<Merges> {
        let order = column.collation.as_deref()?;
        let (is_exact, pads) = (order.ends_with("_bin"), !order.contains("nopad"));
        let texts = match (is_exact, pads) {
            (true, false) => return None,
            (true, true) => "blanks at their end",
            (false, _) => "case, accents or blanks at their end",
        };
        Some(Merges { texts, is_rare: is_exact, remedy: format!("{} {NO_PADDING}", column.base) })
    }

    fn wider(&self, ty: SqlType, column: &TableColumn) -> Option<String> {
        let (base, numbers) = parts(&column.base);
        if column.base.contains("unsigned") {
            return None;
        }
        let there = match (base, numbers.as_slice()) {
            ("decimal", [digits, scale, ..]) => Some((*digits, *scale)),
            ("tinyint" | "smallint" | "mediumint" | "int", _) => Some((10, 0)),
            ("bigint", _) => Some((19, 0)),
            _ => None,
        };
        match (ty, base) {
            (SqlType::Integer, "tinyint" | "smallint" | "mediumint") => Some("integer".into()),
            (SqlType::Bigint, "tinyint" | "smallint" | "mediumint" | "int") => Some("bigint".into()),
            (SqlType::Double, "float") => Some("double".into()),
            (SqlType::Timestamptz, "datetime" | "timestamp") => Some(format!("{base}(6)")),
            _ => {
                let (digits, scale) = ty.as_decimal()?;
                let (digits, scale) = wider_decimal(there?, (digits.into(), scale.into()));
                Some(format!("decimal({digits},{scale})"))
            }
        }
    }

    /// `modify column` says everything of a column again; a default would be lost.
    fn retype(&self, column: &TableColumn, ty: &str) -> Option<String> {
        let null = if column.nullable { "null" } else { "not null" };
        let statement = format!("alter table {} modify column {} {ty} {null}", self.table(), quote(&column.name));
        (!column.filled).then_some(statement)
    }

    fn allow_null(&self, name: &str, ty: &str) -> Option<String> {
        Some(format!("alter table {} modify column {} {ty} null", self.table(), quote(name)))
    }

    fn index(&self, key: &[String]) -> Option<String> {
        let columns: Vec<String> = key.iter().map(|k| quote(k)).collect();
        Some(format!("alter table {} add unique key ({})", self.table(), columns.join(", ")))
    }
}

/// Whether a column holds bytes.
pub(super) fn is_binary(base: &str) -> bool {
    matches!(base, "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob")
}

/// The type of ours that shows values of a column best.
pub(super) fn shown_as(base: &str) -> SqlType {
    match parts(base) {
        ("tinyint", numbers) if numbers == [1] => SqlType::Boolean,
        ("tinyint" | "smallint" | "mediumint" | "int", _) if !base.contains("unsigned") => SqlType::Integer,
        ("bigint" | "int" | "mediumint" | "smallint" | "tinyint", _) if base != "bigint(20) unsigned" => {
            SqlType::Bigint
        }
        ("double" | "float", _) => SqlType::Double,
        ("decimal", numbers) if numbers.first().is_some_and(|p| *p <= 38) => SqlType::Decimal {
            precision: numbers.first().and_then(|n| u8::try_from(*n).ok()).unwrap_or(38),
            scale: numbers.get(1).and_then(|n| u8::try_from(*n).ok()).unwrap_or(0),
        },
        ("json", _) => SqlType::Json,
        ("date", _) => SqlType::Date,
        _ => SqlType::Text,
    }
}

/// A column as text that our types read.
pub(super) fn as_text(quoted: &str, base: &str) -> String {
    match parts(base).0 {
        "bit" => format!("cast({quoted} + 0 as char)"),
        base if is_binary(base) => format!("concat('\\x', lower(hex({quoted})))"),
        "time" => format!(
            "if(cast({quoted} as char) like '%.%', trim(trailing '.' from trim(trailing '0' from cast({quoted} as char))), \
             cast({quoted} as char))"
        ),
        _ => format!("cast({quoted} as char)"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn dialect() -> MariadbDialect {
        MariadbDialect { table: TableName { schema: None, name: "t".into() } }
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

    const D82: SqlType = SqlType::Decimal { precision: 8, scale: 2 };

    #[rstest]
    #[case(Limit::Smallint, "smallint(6)", Some(TypeFit::Whole))]
    #[case(Limit::Smallint, "smallint(5) unsigned", None)]
    #[case(Limit::Smallint, "tinyint(4)", None)]
    #[case(Limit::Real, "float", None)]
    #[case(Limit::Varchar(8), "varchar(8)", Some(TypeFit::Whole))]
    #[case(Limit::Varchar(9), "varchar(8)", None)]
    #[case(Limit::Varchar(63), "tinytext", Some(TypeFit::Whole))]
    #[case(Limit::Varchar(64), "tinytext", None)]
    #[case(Limit::Char(16383), "text", Some(TypeFit::Whole))]
    #[case(Limit::Uuid, "uuid", Some(TypeFit::Whole))]
    #[case(Limit::Bytea, "longblob", Some(TypeFit::Whole))]
    #[case(Limit::Bytea, "longtext", None)]
    #[case(Limit::Time, "time(6)", Some(TypeFit::Whole))]
    #[case(Limit::Time, "time", Some(TypeFit::Loses("microseconds are cut to 0 digits".into())))]
    #[case(Limit::Uuid, "char(35)", None)]
    fn narrower_types_fit_more(#[case] limit: Limit, #[case] base: &str, #[case] expected: Option<TypeFit>) {
        assert_eq!(dialect().fit_limited(limit, &column(base)), expected);
    }

    #[rstest]
    #[case(SqlType::Text, "longtext", "whole")]
    #[case(SqlType::Text, "varchar(9)", "refuse")]
    #[case(SqlType::Text, "int(11)", "unfit")]
    #[case(SqlType::Integer, "int(11)", "whole")]
    #[case(SqlType::Integer, "int(10) unsigned", "loses")]
    #[case(SqlType::Bigint, "bigint(20)", "whole")]
    #[case(SqlType::Bigint, "int(11)", "loses")]
    #[case(D82, "decimal(8,2)", "whole")]
    #[case(D82, "decimal(10,1)", "loses")]
    #[case(D82, "decimal(6,2)", "loses")]
    #[case(SqlType::Timestamptz, "datetime(6)", "whole")]
    #[case(SqlType::Timestamptz, "datetime", "loses")]
    #[case(SqlType::Timestamptz, "timestamp(6)", "refuse")]
    #[case(SqlType::Boolean, "tinyint(1)", "whole")]
    #[case(SqlType::Double, "float", "loses")]
    fn types_fit_or_not(#[case] ty: SqlType, #[case] base: &str, #[case] expected: &str) {
        let word = match dialect().fit(ty, &column(base)) {
            TypeFit::Whole => "whole",
            TypeFit::MayRefuse(_) => "refuse",
            TypeFit::Loses(_) => "loses",
            TypeFit::Unfit => "unfit",
        };
        assert_eq!(word, expected);
    }

    #[rstest]
    #[case("utf8mb4_nopad_bin", None)]
    #[case("utf8mb4_bin", Some(true))]
    #[case("utf8mb4_general_ci", Some(false))]
    #[case("utf8mb4_general_nopad_ci", Some(false))]
    fn orders_that_merge_texts_are_reported(#[case] order: &str, #[case] is_rare: Option<bool>) {
        let text = TableColumn { collation: Some(order.into()), ..column("varchar(20)") };
        let found = dialect().merges(&text);
        assert_eq!(found.as_ref().map(|m| m.is_rare), is_rare);
        let remedy = "varchar(20) character set utf8mb4 collate utf8mb4_nopad_bin";
        assert!(found.is_none_or(|m| m.remedy == remedy));
    }
}
