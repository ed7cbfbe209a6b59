//! What a PostgreSQL server has: its settings, the tables, the slot and the publication.

use std::collections::HashMap;
use std::time::Duration;

use sluice_core::contract::{Contract, ContractField};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::Settings;
use tokio_postgres::{Client, SimpleQueryMessage};

use crate::databases::StoreError;
use crate::databases::postgres::{connect, literal, quote};
use crate::databases::{Server, in_time, wait};
use crate::intakes::feed::json::Spelling;

/// A session for queries.
pub(super) struct Catalog {
    client: Client,
    pub shown: String,
    answer_within: Duration,
}

/// One table of the source.
#[derive(Clone, Debug)]
pub(super) struct SourceTable {
    /// Its number, which it keeps when it is renamed.
    pub oid: u32,
    pub schema: String,
    pub name: String,
    pub columns: Vec<SourceColumn>,
    /// The columns of its primary key, in the key's order; empty without one.
    pub key: Vec<String>,
    /// `d` its primary key, `n` nothing, `f` all columns, `i` an index.
    pub identity: char,
    /// About how many rows it has.
    pub about: u64,
}

/// One column of a table of the source.
#[derive(Clone, Debug)]
pub(super) struct SourceColumn {
    pub name: String,
    /// Its type as the server spells it.
    pub ty: String,
    /// Name and type as the log reports them.
    pub signature: String,
    /// Whether large values are kept apart, and not sent where they do not change.
    pub may_be_apart: bool,
    /// Whether it is computed, and so never sent.
    pub is_computed: bool,
    /// Whether rows from before it was added have a value of it.
    pub is_filled: bool,
}

impl SourceTable {
    /// Schema and name.
    pub(super) fn full(&self) -> String {
        format!("{}.{}", self.schema, self.name)
    }

    pub(super) fn quoted(&self) -> String {
        format!("{}.{}", quote(&self.schema), quote(&self.name))
    }

    /// Names and types of the columns as the log reports them.
    pub(super) fn sent(&self) -> Vec<String> {
        self.columns.iter().filter(|c| !c.is_computed).map(|c| c.signature.clone()).collect()
    }

    pub(super) fn column(&self, name: &str) -> Option<&SourceColumn> {
        self.columns.iter().find(|c| c.name == name)
    }
}

/// A slot as the server has it.
#[derive(Clone, Debug)]
pub(super) struct Slot {
    pub plugin: String,
    pub active: bool,
    /// What has been confirmed.
    pub confirmed: u64,
    /// From where on the log is kept for it.
    pub restart: u64,
    /// Whether its log is gone.
    pub lost: bool,
}

impl Catalog {
    pub(super) fn open(settings: &Settings) -> Outcome<Self> {
        let server = Server::new(settings, 5432)?;
        let client = connect(&server).map_err(StoreError::into_failure)?;
        let catalog = Self { client, shown: server.shown(), answer_within: server.answer_within };
        catalog.rows(
            "set application_name = 'sluice'; set datestyle = iso; set intervalstyle = postgres; set timezone = 'UTC'; \
                      set extra_float_digits = 3; set bytea_output = hex; set statement_timeout = 0",
        )?;
        Ok(catalog)
    }

    pub(super) fn client(&self) -> &Client {
        &self.client
    }

    /// Asks; gives the rows of all answers as text.
    pub(super) fn rows(&self, sql: &str) -> Outcome<Vec<Vec<Option<String>>>> {
        let answer = wait(self.in_time(self.client.simple_query(sql), |e| self.failed(&e)))?;
        let row = |m: SimpleQueryMessage| match m {
            SimpleQueryMessage::Row(row) => Some((0..row.len()).map(|i| row.get(i).map(str::to_string)).collect()),
            _ => None,
        };
        Ok(answer.into_iter().filter_map(row).collect())
    }

    /// What the server answers, if it does so in time.
    pub(super) async fn in_time<T, E, F: From<Failure>>(
        &self,
        step: impl Future<Output = Result<T, E>>,
        said: impl FnOnce(E) -> F,
    ) -> Result<T, F> {
        in_time(self.answer_within, step, said, |why| Failure::away(format!("{} {why}", self.shown)).into()).await
    }

    pub(super) fn failed(&self, error: &tokio_postgres::Error) -> Failure {
        match error.as_db_error() {
            Some(said) if !said.code().code().starts_with("57") => {
                Failure::unreachable(format!("{}: {}", self.shown, said.message()))
            }
            Some(said) => Failure::away(format!("{}: {}", self.shown, said.message())),
            None => Failure::away(format!("{} does not answer: {error}", self.shown)),
        }
    }

    fn one(&self, sql: &str) -> Outcome<Option<String>> {
        Ok(self.rows(sql)?.into_iter().next().and_then(|row| row.into_iter().next().flatten()))
    }

    /// One setting.
    pub(super) fn setting(&self, name: &str) -> Outcome<String> {
        Ok(self.one(&format!("select current_setting({})", literal(name)))?.unwrap_or_default())
    }

    /// Whether the user may read the log.
    pub(super) fn may_replicate(&self) -> Outcome<bool> {
        let sql = "select rolreplication or rolsuper from pg_roles where rolname = current_user";
        Ok(self.one(sql)?.as_deref() == Some("t"))
    }

    /// The end of the log that is safe on disk.
    pub(super) fn log_end(&self) -> Outcome<u64> {
        let end = self.one("select pg_current_wal_flush_lsn()")?;
        end.and_then(|text| parse_lsn(&text))
            .ok_or_else(|| Failure::internal("the server does not report the end of its log"))
    }

    /// A table; None where there is none.
    pub(super) fn table(&self, name: &str) -> Outcome<Option<SourceTable>> {
        let (schema, name) = split(name);
        let wanted = format!(
            "from pg_class c join pg_namespace n on n.oid = c.relnamespace where c.relkind in ('r', 'p') and c.relname \
             = {} and n.nspname = {}",
            literal(&name),
            literal(&schema)
        );
        let head = self.rows(&format!("select c.oid, c.relreplident, greatest(c.reltuples, 0)::bigint {wanted}"))?;
        let Some(head) = head.into_iter().next() else { return Ok(None) };
        let text = |i: usize| head.get(i).cloned().flatten().unwrap_or_default();
        let oid = text(0);
        let columns = self.rows(&format!(
            "select attname, format_type(atttypid, atttypmod), attnotnull, attstorage in ('x', 'e'), attgenerated <> '', \
             attname || ' ' || atttypid || ' ' || atttypmod, atthasdef or atthasmissing or attidentity <> '' from pg_attribute where attrelid = {oid} and attnum > 0 and not attisdropped order by attnum"
        ))?;
        let column = |row: Vec<Option<String>>| {
            let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
            SourceColumn {
                name: text(0),
                ty: text(1),
                may_be_apart: text(3) == "t",
                is_computed: text(4) == "t",
                signature: text(5),
                is_filled: text(6) == "t",
            }
        };
        let key = self.rows(&format!(
            "select a.attname from pg_index i cross join unnest(i.indkey) with ordinality k(num, place) join pg_attribute \
             a on a.attrelid = i.indrelid and a.attnum = k.num where i.indrelid = {oid} and i.indisprimary order by \
             k.place"
        ))?;
        Ok(Some(SourceTable {
            oid: oid.parse().unwrap_or(0),
            schema,
            name,
            columns: columns.into_iter().map(column).collect(),
            key: key.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect(),
            identity: text(1).chars().next().unwrap_or('d'),
            about: text(2).parse().unwrap_or(0),
        }))
    }

    /// The names of all tables, those of ours left out.
    pub(super) fn tables(&self) -> Outcome<Vec<String>> {
        let rows = self.rows(
            "select n.nspname || '.' || c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace where \
             c.relkind in ('r', 'p') and not c.relispartition and n.nspname not in ('pg_catalog', \
             'information_schema') and n.nspname !~ '^pg_' and c.relname !~ '^sluice_' order by 1",
        )?;
        Ok(rows.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect())
    }

    /// The numbers of all tables, by schema and name.
    pub(super) fn numbers(&self) -> Outcome<HashMap<String, u32>> {
        let rows = self.rows(
            "select n.nspname || '.' || c.relname, c.oid from pg_class c join pg_namespace n on n.oid = c.relnamespace \
             where c.relkind in ('r', 'p') and n.nspname !~ '^pg_'",
        )?;
        let pair = |row: Vec<Option<String>>| {
            let mut cells = row.into_iter();
            Some((cells.next()??, cells.next()??.parse().ok()?))
        };
        Ok(rows.into_iter().filter_map(pair).collect())
    }

    /// The tables of a publication; None where there is none of that name.
    pub(super) fn published(&self, publication: &str) -> Outcome<Option<Vec<String>>> {
        let name = literal(publication);
        if self.one(&format!("select 1 from pg_publication where pubname = {name}"))?.is_none() {
            return Ok(None);
        }
        let rows = self.rows(&format!(
            "select schemaname || '.' || tablename from pg_publication_tables where pubname = {name}"
        ))?;
        Ok(Some(rows.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect()))
    }

    /// A slot; None where there is none of that name.
    pub(super) fn slot(&self, name: &str) -> Outcome<Option<Slot>> {
        let rows = self.rows(&format!(
            "select plugin, active, confirmed_flush_lsn, restart_lsn, coalesce(wal_status = 'lost', false) from \
             pg_replication_slots where slot_name = {} and (database = current_database() or database is null)",
            literal(name)
        ))?;
        Ok(rows.into_iter().next().map(|row| {
            let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
            let lsn = |i: usize| parse_lsn(&text(i)).unwrap_or(0);
            Slot { plugin: text(0), active: text(1) == "t", confirmed: lsn(2), restart: lsn(3), lost: text(4) == "t" }
        }))
    }

    /// Runs a statement.
    pub(super) fn run(&self, sql: &str) -> Outcome<()> {
        self.rows(sql).map(|_| ())
    }
}

/// Schema and name of a table as the pipeline file has it.
pub(super) fn split(table: &str) -> (String, String) {
    match table.split_once('.') {
        Some((schema, name)) => (schema.to_string(), name.to_string()),
        None => ("public".to_string(), table.to_string()),
    }
}

/// A place in the log as the server spells it: two hexadecimal numbers.
pub(super) fn parse_lsn(text: &str) -> Option<u64> {
    let (high, low) = text.split_once('/')?;
    Some(u64::from_str_radix(high, 16).ok()? << 32 | u64::from_str_radix(low, 16).ok()?)
}

/// The same for people and for the server.
pub(super) fn show_lsn(lsn: u64) -> String {
    format!("{:X}/{:X}", lsn >> 32, lsn & 0xffff_ffff)
}

/// How values of a type are spelled in JSON, by its number in the catalog, which never changes for built-in types.
pub(super) fn spelling(oid: u32) -> Spelling {
    match oid {
        16 => Spelling::Truth,
        20 | 21 | 23 | 26 | 700 | 701 | 1700 => Spelling::Number,
        114 | 3802 => Spelling::Json,
        _ => Spelling::Text,
    }
}

/// The same by the name of the type.
pub(super) fn spelling_of(ty: &str) -> Spelling {
    match ty.split('(').next().unwrap_or_default() {
        "boolean" => Spelling::Truth,
        "smallint" | "integer" | "bigint" | "oid" | "real" | "double precision" | "numeric" => Spelling::Number,
        "json" | "jsonb" => Spelling::Json,
        _ => Spelling::Text,
    }
}

/// The columns of a table that a contract reads.
pub(super) fn wanted<'t>(table: &'t SourceTable, contract: Option<&Contract>) -> Vec<&'t SourceColumn> {
    let names = |f: &ContractField| f.path.first().cloned().unwrap_or_default();
    let takes = |column: &&SourceColumn| match contract {
        Some(contract) if contract.extra == sluice_core::config::ExtraFields::Ignore => {
            contract.fields.iter().any(|f| names(f) == column.name) || table.key.contains(&column.name)
        }
        _ => true,
    };
    table.columns.iter().filter(|c| !c.is_computed).filter(takes).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_in_the_log_are_spelled_as_the_server_does() {
        assert_eq!(parse_lsn("16/B374D848"), Some(0x16_B374_D848));
        assert_eq!(show_lsn(0x16_B374_D848), "16/B374D848");
        assert_eq!(parse_lsn("x"), None);
    }

    #[test]
    fn a_table_without_a_schema_is_public() {
        assert_eq!(split("permit"), ("public".into(), "permit".into()));
        assert_eq!(split("office.permit"), ("office".into(), "permit".into()));
    }
}
