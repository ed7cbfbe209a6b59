//! The tables of a server in the words of contracts.

use sluice_core::failure::Outcome;
use sluice_core::kinds::{ColumnShape, Settings, TableName, TableShape};

use super::catalog::{Catalog, SourceColumn, SourceTable, split};

/// The schema that names without one stand in.
const OWN: &str = "public";

pub(super) fn tables(settings: &Settings) -> Outcome<Vec<TableName>> {
    let named = |full: String| {
        let (schema, name) = split(&full);
        TableName { schema, name, own: OWN.into() }
    };
    Ok(Catalog::open(settings)?.tables()?.into_iter().map(named).collect())
}

pub(super) fn shapes(settings: &Settings, names: &[TableName]) -> Outcome<Vec<TableShape>> {
    let catalog = Catalog::open(settings)?;
    let mut found = Vec::with_capacity(names.len());
    for name in names {
        let table = catalog.table(&format!("{}.{}", name.schema, name.name))?;
        found.extend(table.as_ref().map(shape));
    }
    Ok(found)
}

/// A table; what the server computes is not in its log.
fn shape(table: &SourceTable) -> TableShape {
    TableShape {
        schema: table.schema.clone(),
        name: table.name.clone(),
        columns: table.columns.iter().filter(|c| !c.is_computed).map(column).collect(),
        key: table.key.clone(),
    }
}

fn column(column: &SourceColumn) -> ColumnShape {
    let (ty, format) = natural(&column.ty);
    ColumnShape { name: column.name.clone(), ty, format }
}

/// The type of contracts that takes every value of a type, and how the log spells them.
pub(super) fn natural(ty: &str) -> (String, Option<&'static str>) {
    let (base, rest) = ty.split_once('(').unwrap_or((ty, ""));
    let plain = |ty: &str| (ty.to_string(), None);
    match base {
        "boolean" => plain("boolean"),
        // A length that is kept would stop a mirror when the source gives it up: `character varying` is a text.
        "smallint" | "integer" | "uuid" | "bytea" => plain(base),
        "bigint" | "oid" => plain("bigint"),
        "real" | "double precision" => plain("double precision"),
        "numeric" if fits_decimal(rest) => plain(&format!("decimal({rest}")),
        "date" => plain("date"),
        "json" | "jsonb" => plain("json"),
        _ if ty.starts_with("timestamp") && ty.ends_with("with time zone") => plain("timestamptz"),
        // Without a zone it is taken to be in UTC.
        _ if ty.starts_with("timestamp") && ty.ends_with("without time zone") => {
            ("timestamptz".into(), Some("%Y-%m-%d %H:%M:%S%.f"))
        }
        _ => plain("text"),
    }
}

/// Whether `p,s)` are digits that a decimal of contracts can have.
fn fits_decimal(rest: &str) -> bool {
    let mut parts = rest.trim_end_matches(')').split(',').map(str::parse::<i32>);
    matches!((parts.next(), parts.next()), (Some(Ok(1..=38)), Some(Ok(0..=38))))
}

#[cfg(test)]
mod tests {
    use super::natural;
    use rstest::rstest;

    #[rstest]
    #[case("integer", "integer")]
    #[case("smallint", "smallint")]
    #[case("uuid", "uuid")]
    #[case("bytea", "bytea")]
    #[case("uuid[]", "text")]
    #[case("oid", "bigint")]
    #[case("real", "double precision")]
    #[case("numeric(12,3)", "decimal(12,3)")]
    #[case("numeric", "text")]
    #[case("numeric(100,2)", "text")]
    #[case("numeric(3,-2)", "text")]
    #[case("timestamp with time zone", "timestamptz")]
    #[case("timestamp(3) with time zone", "timestamptz")]
    #[case("character varying(20)", "text")]
    #[case("integer[]", "text")]
    #[case("numeric(4,1)[]", "text")]
    #[case("jsonb", "json")]
    #[case("time with time zone", "text")]
    fn every_type_has_one_that_takes_its_values(#[case] ty: &str, #[case] expected: &str) {
        assert_eq!(natural(ty), (expected.to_string(), None));
    }

    #[test]
    fn moments_without_a_zone_are_spelled_without_one() {
        let spelled = ("timestamptz".to_string(), Some("%Y-%m-%d %H:%M:%S%.f"));
        assert_eq!(natural("timestamp without time zone"), spelled);
        assert_eq!(natural("timestamp(0) without time zone"), spelled);
    }
}
