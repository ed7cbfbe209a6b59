//! The tables of a server in the words of contracts.

use sluice_core::failure::Outcome;
use sluice_core::kinds::{ColumnShape, Settings, TableName, TableShape};

use super::catalog::{MariadbCatalog, MariadbColumn, MariadbTable};
use crate::intakes::feed::schema::CurrentColumn;

pub(super) fn tables(settings: &Settings) -> Outcome<Vec<TableName>> {
    let mut catalog = MariadbCatalog::open(settings)?;
    let own = catalog.database.clone();
    let named = |(schema, name)| TableName { schema, name, own: own.clone() };
    Ok(catalog.all_tables()?.into_iter().map(named).collect())
}

pub(super) fn shapes(settings: &Settings, names: &[TableName]) -> Outcome<Vec<TableShape>> {
    let mut catalog = MariadbCatalog::open(settings)?;
    let mut found = Vec::with_capacity(names.len());
    for name in names {
        let table = catalog.table(&format!("{}.{}", name.schema, name.name))?;
        found.extend(table.as_ref().map(shape));
    }
    Ok(found)
}

fn shape(table: &MariadbTable) -> TableShape {
    TableShape {
        schema: table.database.clone(),
        name: table.name.clone(),
        columns: table.columns.iter().map(column).collect(),
        key: table.key.clone(),
    }
}

/// The columns that a table has now.
pub(super) fn there(table: &MariadbTable) -> Vec<CurrentColumn> {
    table
        .columns
        .iter()
        .map(|c| CurrentColumn { name: c.name.clone(), ty: natural(c).0, is_filled: c.is_filled })
        .collect()
}

fn column(column: &MariadbColumn) -> ColumnShape {
    let (ty, format) = natural(column);
    ColumnShape { name: column.name.clone(), ty, format }
}

/// The type of contracts that takes every value of a type, and how the log spells them.
pub(super) fn natural(column: &MariadbColumn) -> (String, Option<&'static str>) {
    let plain = |ty: &str| (ty.to_string(), None);
    let is_unsigned = column.ty.contains("unsigned");
    let digits = column.ty.split_once('(').map_or("", |(_, rest)| rest.split(')').next().unwrap_or_default());
    match column.base.as_str() {
        _ if column.is_json => plain("json"),
        "bigint" if is_unsigned => plain("decimal(20,0)"),
        "int" if is_unsigned => plain("bigint"),
        "tinyint" => plain("smallint"),
        "smallint" if !is_unsigned => plain("smallint"),
        "smallint" | "mediumint" | "int" | "year" => plain("integer"),
        "uuid" => plain("uuid"),
        "binary" | "varbinary" | "tinyblob" | "blob" | "mediumblob" | "longblob" => plain("bytea"),
        "bigint" => plain("bigint"),
        "bit" if digits.parse().is_ok_and(|bits: u8| bits < 64) => plain("bigint"),
        "bit" => plain("decimal(20,0)"),
        "float" | "double" => plain("double precision"),
        "decimal" if digits.split(',').next().is_some_and(|d| d.parse().is_ok_and(|n: u8| n <= 38)) => {
            plain(&format!("decimal({digits})"))
        }
        "date" => plain("date"),
        "timestamp" => plain("timestamptz"),
        // Without a zone it is taken to be in UTC.
        "datetime" => ("timestamptz".into(), Some("%Y-%m-%d %H:%M:%S%.f")),
        _ => plain("text"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("int(11)", "integer")]
    #[case("tinyint(3) unsigned", "smallint")]
    #[case("smallint(6)", "smallint")]
    #[case("smallint(5) unsigned", "integer")]
    #[case("uuid", "uuid")]
    #[case("varbinary(16)", "bytea")]
    #[case("point", "text")]
    #[case("int(10) unsigned", "bigint")]
    #[case("bigint(20)", "bigint")]
    #[case("bigint(20) unsigned", "decimal(20,0)")]
    #[case("decimal(12,3)", "decimal(12,3)")]
    #[case("decimal(65,3)", "text")]
    #[case("bit(8)", "bigint")]
    #[case("bit(64)", "decimal(20,0)")]
    #[case("enum('a','b')", "text")]
    #[case("timestamp", "timestamptz")]
    #[case("year(4)", "integer")]
    #[case("time(6)", "text")]
    fn every_type_has_one_that_takes_its_values(#[case] ty: &str, #[case] expected: &str) {
        let base = ty.split(['(', ' ']).next().unwrap_or_default();
        let column = MariadbColumn { name: "c".into(), base: base.into(), ty: ty.into(), ..MariadbColumn::default() };
        assert_eq!(natural(&column), (expected.to_string(), None));
        assert_eq!(natural(&MariadbColumn { is_json: true, ..column }), ("json".to_string(), None));
    }
}
