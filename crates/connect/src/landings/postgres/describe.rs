//! Asks the server's catalogs what a table looks like.

use sluice_core::table::{Found, StoredTable, TableColumn};

use super::session::PostgresSession;
use crate::databases::StoreResult;
use crate::databases::postgres::literal;
use crate::landings::tables::session::Session as _;
use crate::landings::tables::shape::TableName;

/// The columns. A domain counts as the type below it, any enumeration as `enum`.
const COLUMNS: &str = "
select a.attname, format_type(a.atttypid, a.atttypmod),
       case when t.typtype = 'e' then 'enum'
            when t.typtype = 'd' then format_type(t.typbasetype, t.typtypmod)
            else format_type(a.atttypid, a.atttypmod) end,
       not (a.attnotnull or (t.typtype = 'd' and t.typnotnull)), a.atthasdef or a.attidentity <> '',
       a.attgenerated <> '' or a.attidentity = 'a'
from pg_attribute a join pg_type t on t.oid = a.atttypid
where a.attrelid = ";

/// Unique indexes that ON CONFLICT can use.
const KEYS: &str = "
select i.indexrelid::text, a.attname
from pg_index i join pg_attribute a on a.attrelid = i.indrelid and a.attnum = any (i.indkey[0 : i.indnkeyatts - 1])
where i.indisunique and i.indisvalid and i.indimmediate and i.indpred is null and i.indexprs is null
  and i.indrelid = ";

pub(super) fn describe(session: &mut PostgresSession, table: &TableName, rights: &[&str]) -> StoreResult<Found> {
    let quoted = literal(&table.quoted(&crate::databases::postgres::quote));
    if let Some(schema) = &table.schema {
        let there = session.query(&format!("select 1 from pg_namespace where nspname = {}", literal(schema)))?;
        if there.is_empty() {
            return Ok(Found::NoSchema);
        }
    }
    let found =
        session.query(&format!("select c.oid, c.relkind from pg_class c where c.oid = to_regclass({quoted})"))?;
    let Some(row) = found.into_iter().next() else { return Ok(Found::NoTable) };
    let mut row = row.into_iter().flatten();
    let (oid, kind) = (row.next().unwrap_or_default(), row.next().unwrap_or_default());
    let not_a_table = match kind.as_str() {
        "r" | "p" => None,
        "v" => Some("a view"),
        "m" => Some("a materialized view"),
        "f" => Some("a foreign table"),
        "S" => Some("a sequence"),
        _ => Some("something else"),
    };
    let mut stored = StoredTable { not_a_table: not_a_table.map(Into::into), ..StoredTable::default() };
    let sql = format!("{COLUMNS}{oid} and a.attnum > 0 and not a.attisdropped order by a.attnum");
    for row in session.query(&sql)? {
        let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
        let flag = |i: usize| text(i) == "t";
        stored.columns.push(TableColumn {
            name: text(0),
            ty: text(1),
            base: text(2),
            nullable: flag(3),
            filled: flag(4),
            computed: flag(5),
            collation: None,
        });
    }
    let mut last = String::new();
    for row in session.query(&format!("{KEYS}{oid} order by 1, a.attnum"))? {
        let mut values = row.into_iter().flatten();
        let (index, column) = (values.next().unwrap_or_default(), values.next().unwrap_or_default());
        if index != last {
            stored.keys.push(Vec::new());
        }
        last = index;
        stored.keys.last_mut().into_iter().for_each(|key| key.push(column.clone()));
    }
    for right in rights {
        // A right on every column does as well as one on the table.
        let of = if *right == "delete" { "has_table_privilege" } else { "has_any_column_privilege" };
        let sql = format!("select {of}({oid}::oid, {})", literal(right));
        if session.query(&sql)?.first().and_then(|r| r.first().cloned().flatten()).as_deref() != Some("t") {
            stored.denied.push((*right).to_string());
        }
    }
    Ok(Found::Table(stored))
}

/// The tables beside one.
pub(super) fn tables(session: &mut PostgresSession, beside: &TableName) -> StoreResult<Vec<String>> {
    let schema = beside.schema.as_deref().map_or("current_schema()".into(), literal);
    let sql = format!(
        "select c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace
         where n.nspname = {schema} and c.relkind in ('r', 'p') order by 1"
    );
    Ok(session.query(&sql)?.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect())
}
