//! What PostgreSQL changes without a word in its log: tables that cannot be followed for that, and rows that are others now
//! because a partition was truncated, attached or detached, or a table was rewritten by `alter table`.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Settings;
use sluice_core::names;

use super::catalog::{Catalog, SourceTable};
use crate::databases::postgres::{literal, quote};

/// How a table is stored: what shows that its rows were exchanged.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct TableStorage {
    /// By the number of a column, the transaction that last changed its definition.
    columns: BTreeMap<String, String>,
    /// By the number of the table, or of each of its partitions, where its rows are stored.
    parts: BTreeMap<String, Part>,
}

#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
struct Part {
    file: String,
    /// The transaction that made it a partition.
    #[serde(default)]
    since: String,
    /// It was made as a partition, and so without rows; else it may have brought some.
    is_born: bool,
}

impl TableStorage {
    /// Whether there is no such table.
    pub(super) fn is_empty(&self) -> bool {
        self.parts.is_empty()
    }

    /// Whether rows are others than in an earlier form, and the log does not tell it.
    pub(super) fn differs(&self, before: &Self) -> bool {
        let is_parted = self.parts.len() > 1 || before.parts.len() > 1;
        let redefined =
            self.columns.iter().any(|(column, xid)| before.columns.get(column).is_some_and(|was| was != xid));
        let rewritten =
            self.parts.iter().any(|(part, now)| before.parts.get(part).is_some_and(|was| was.file != now.file));
        // Detached and attached again, and changed in between.
        let returned =
            self.parts.iter().any(|(part, now)| before.parts.get(part).is_some_and(|was| was.since != now.since));
        let went = before.parts.keys().any(|part| !self.parts.contains_key(part));
        let came = self.parts.iter().any(|(part, now)| !now.is_born && !before.parts.contains_key(part));
        (rewritten && (redefined || is_parted)) || returned || went || came
    }
}

/// How tables are stored now, by their numbers. One that is gone has an empty form.
///
/// # Errors
/// Where the server does not answer.
pub(super) fn forms(catalog: &Catalog, tables: &[u32]) -> Outcome<HashMap<u32, TableStorage>> {
    let mut found: HashMap<u32, TableStorage> = tables.iter().map(|table| (*table, TableStorage::default())).collect();
    let list = tables.iter().map(u32::to_string).collect::<Vec<_>>().join(",");
    let columns = catalog.rows(&format!(
        "select attrelid, attnum, xmin from pg_attribute where attrelid = any ('{{{list}}}') and attnum > 0 and not attisdropped"
    ))?;
    let parts = catalog.rows(&format!(
        "select o, c.oid, c.relfilenode, i.xmin = a.xmin, i.xmin from unnest('{{{list}}}'::oid[]) o cross join lateral (select relid from \
         pg_partition_tree(o) union select o) t join pg_class c on c.oid = t.relid join pg_attribute a on a.attrelid = \
         c.oid and a.attnum = -1 left join pg_inherits i on i.inhrelid = c.oid"
    ))?;
    for mut cells in columns.into_iter().map(Vec::into_iter) {
        let mut next = || cells.next().flatten();
        if let (Some(table), Some(column), Some(xid)) = (next().and_then(|t| t.parse().ok()), next(), next())
            && let Some(form) = found.get_mut(&table)
        {
            form.columns.insert(column, xid);
        }
    }
    for mut cells in parts.into_iter().map(Vec::into_iter) {
        let mut next = || cells.next().flatten();
        if let (Some(table), Some(part), Some(file)) = (next().and_then(|t| t.parse().ok()), next(), next())
            && let Some(form) = found.get_mut(&table)
        {
            let is_born = next().as_deref() == Some("t");
            form.parts.insert(part, Part { file, is_born, since: next().unwrap_or_default() });
        }
    }
    Ok(found)
}

/// Why a table cannot be followed: its rows change, or are read, otherwise than the log reports.
///
/// # Errors
/// Where the server does not answer.
pub(super) fn unlogged(
    catalog: &Catalog,
    table: &SourceTable,
    settings: &Settings,
    publication: &str,
) -> Outcome<Option<Failure>> {
    let (oid, full) = (table.oid, names::shown(&table.full()));
    let leave_out = format!("or leave the table out: except = \"{full}\"");
    let refuse = |why: String, remedy: String| {
        let message = format!("{full} cannot be followed: {why}");
        Ok(Some(Failure::new(FailureKind::Configuration, message).with_help(remedy)))
    };
    let head = catalog.rows(&format!(
        "select c.relpersistence, row_security_active(c.oid), c.relkind, exists (select 1 from pg_inherits where inhparent = c.oid), \
         (select string_agg(a.attname, ',') from pg_index i join pg_attribute a on a.attrelid = i.indrelid and a.attnum = \
         any (i.indkey) where i.indrelid = c.oid and i.indisreplident) from pg_class c where c.oid = {oid}"
    ))?;
    let Some(head) = head.into_iter().next() else { return Ok(None) };
    let text = |i: usize| head.get(i).cloned().flatten().unwrap_or_default();
    if text(0) == "u" {
        return refuse("it is unlogged".into(), format!("alter table {} set logged; {leave_out}", table.quoted()));
    }
    if text(1) == "t" {
        let remedy = format!("alter role NAME bypassrls; {leave_out}");
        return refuse("row security hides rows of it from this user".into(), remedy);
    }
    if text(2) == "r" && text(3) == "t" {
        let remedy = format!("read the tables below it by themselves, {leave_out}");
        return refuse("other tables inherit from it, and their rows are counted with its own".into(), remedy);
    }
    let identity = text(4);
    let has = |key: &String| identity.split(',').any(|column| column == key);
    if table.identity == 'i' && !table.key.iter().all(has) {
        let remedy = format!("alter table {} replica identity default; {leave_out}", table.quoted());
        return refuse("its replica identity is an index that lacks columns of the primary key".into(), remedy);
    }
    let said = catalog.rows(&format!(
        "select p.pubinsert and p.pubupdate and p.pubdelete and p.pubtruncate, p.pubviaroot, to_jsonb(r) ->> 'prqual', to_jsonb(r) \
         ->> 'prattrs' from pg_publication p left join pg_publication_rel r on r.prpubid = p.oid and r.prrelid = {oid} where \
         p.pubname = {}",
        literal(publication)
    ))?;
    let Some(said) = said.into_iter().next() else { return Ok(None) };
    let text = |i: usize| said.get(i).cloned().flatten().unwrap_or_default();
    let (name, table_of) = (quote(publication), table.quoted());
    let whole =
        format!("alter publication {name} drop table {table_of}; alter publication {name} add table {table_of};");
    if text(0) != "t" {
        let remedy = format!("alter publication {name} set (publish = 'insert, update, delete, truncate');");
        return refuse(format!("the publication {publication} leaves kinds of changes out"), remedy);
    }
    if head[2].as_deref() == Some("p") && text(1) != "t" {
        let remedy = format!("alter publication {name} set (publish_via_partition_root = true);");
        return refuse(format!("the publication {publication} publishes its partitions instead of the table"), remedy);
    }
    if !text(2).is_empty() {
        return refuse(format!("the publication {publication} leaves rows of it out (where)"), whole);
    }
    if !text(3).is_empty() && settings.contract.is_some() {
        return refuse(format!("the publication {publication} leaves columns of it out"), whole);
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Columns as `NUMBER:TRANSACTION`, parts as `NUMBER:FILE`, with a `+` where they were made as partitions, and a `-` and
    /// the transaction where they were attached.
    fn form(columns: &str, parts: &str) -> TableStorage {
        let pair = |text: &str| text.split_once(':').map(|(a, b)| (a.to_string(), b.to_string())).unwrap();
        let part = |text: &str| {
            let (place, since) = text.split_once('-').unwrap_or((text, ""));
            let (number, file) = pair(place.trim_end_matches('+'));
            (number, Part { file, is_born: place.ends_with('+'), since: since.into() })
        };
        TableStorage { columns: columns.split(' ').map(pair).collect(), parts: parts.split(' ').map(part).collect() }
    }

    #[rstest]
    #[case::same("1:7 2:7", "9:9", "1:7 2:7", "9:9", false)]
    #[case::vacuumed_full_or_truncated("1:7", "9:9", "1:7", "9:12", false)]
    #[case::written_anew("1:7", "9:9", "1:8", "9:12", true)]
    #[case::a_default("1:7", "9:9", "1:8", "9:9", false)]
    #[case::a_column_more("1:7", "9:9", "1:7 2:8", "9:12", false)]
    #[case::partition_truncated("1:7", "9:0 10:10+", "1:7", "9:0 10:11+", true)]
    #[case::partition_made("1:7", "9:0 10:10+", "1:7", "9:0 10:10+ 11:11+", false)]
    #[case::partition_attached("1:7", "9:0 10:10+", "1:7", "9:0 10:10+ 11:11", true)]
    #[case::partition_detached_and_attached("1:7", "9:0 10:10+", "1:7", "9:0 10:10-8", true)]
    #[case::and_once_more("1:7", "9:0 10:10-8", "1:7", "9:0 10:10-9", true)]
    #[case::partition_went("1:7", "9:0 10:10+", "1:7", "9:0", true)]
    fn what_the_log_does_not_report_is_noticed(
        #[case] columns: &str,
        #[case] parts: &str,
        #[case] columns_now: &str,
        #[case] parts_now: &str,
        #[case] differs: bool,
    ) {
        assert_eq!(form(columns_now, parts_now).differs(&form(columns, parts)), differs);
    }
}
