//! What a MariaDB server has: its settings, the tables, the files of its log.

use std::collections::HashMap;
use std::time::Duration;

use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Value};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::Settings;

use super::applier::KnownColumn;
use super::characters::Characters;
use super::table_map::ColumnForm;
use crate::databases::StoreError;
use crate::databases::mariadb::{connect, literal, quote};
use crate::databases::{Server, in_time, wait};
use crate::intakes::feed::json::Spelling;

/// How often a table is looked at that seems to lack something, and how long to wait between.
const LOOKS: usize = 20;
const PAUSE: Duration = Duration::from_millis(10);

/// A session for queries.
pub(super) struct MariadbCatalog {
    pub connection: Conn,
    pub database: String,
    pub shown: String,
    pub answer_within: Duration,
}

/// One table of the source.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct MariadbTable {
    pub database: String,
    pub name: String,
    pub columns: Vec<MariadbColumn>,
    /// The columns of its primary key, in the key's order; empty without one.
    pub key: Vec<String>,
    /// About how many rows it has.
    pub about: u64,
    /// Whether its rows can be rolled back.
    pub is_transactional: bool,
}

/// One column.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct MariadbColumn {
    pub name: String,
    /// The type as the server spells it.
    pub ty: String,
    /// Whether rows from before it was added have a value of it.
    pub is_filled: bool,
    /// The type without its length.
    pub base: String,
    /// Whether it holds JSON, which is a check on text.
    pub is_json: bool,
    /// The character set; none for what is not text.
    pub characters: Option<String>,
    /// The order of its texts.
    pub order: Option<String>,
}

impl MariadbColumn {
    /// How its values are spelled in JSON.
    pub(super) fn spelling(&self) -> Spelling {
        match self.base.as_str() {
            _ if self.is_json => Spelling::Json,
            "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "decimal" | "float" | "double" | "bit"
            | "year" => Spelling::Number,
            _ => Spelling::Text,
        }
    }

    /// The expression that spells its values as the log's are spelled here.
    pub(super) fn expression(&self) -> String {
        let name = quote(&self.name);
        match self.base.as_str() {
            "timestamp" => format!("if({name} = 0, null, concat({name}, '+00:00'))"),
            "date" | "datetime" => format!("if({name} = 0, null, {name})"),
            "float" => format!("cast({name} as double)"),
            "bit" | "year" => format!("{name} + 0"),
            _ if self.ty.contains("zerofill") => format!("{name} + 0"),
            _ if self.is_bytes() => format!("concat('\\x', lower(hex({name})))"),
            _ => name,
        }
    }

    /// What is to be known of it where the log has values of it.
    pub(super) fn known(&self) -> KnownColumn {
        let characters = match self.is_bytes() {
            true => Characters::Bytes,
            false => self.characters.as_deref().map_or(Characters::Utf8, Characters::of),
        };
        KnownColumn { spelling: self.spelling(), form: ColumnForm::of(&self.base), characters }
    }

    /// Whether its values are bytes, spelled as hexadecimal digits.
    pub(super) fn is_bytes(&self) -> bool {
        let shapes = ["geometry", "point", "linestring", "polygon"];
        ["binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob"].contains(&self.base.as_str())
            || shapes.iter().any(|shape| self.base.ends_with(shape))
            || self.base == "geometrycollection"
    }

    /// Brings a value as the server spells it into the one form that the log's have here.
    pub(super) fn settle(&self, value: Vec<u8>) -> Vec<u8> {
        let text = std::str::from_utf8(&value).ok();
        let settled = match self.base.as_str() {
            "float" | "double" => text.and_then(|t| t.parse::<f64>().ok()).map(|n| n.to_string()),
            "inet6" => text.and_then(|t| t.parse::<std::net::Ipv6Addr>().ok()).map(|a| a.to_string()),
            _ => None,
        };
        settled.map_or(value, String::into_bytes)
    }
}

impl MariadbTable {
    pub(super) fn full(&self) -> String {
        format!("{}.{}", self.database, self.name)
    }

    pub(super) fn quoted(&self) -> String {
        format!("{}.{}", quote(&self.database), quote(&self.name))
    }

    pub(super) fn column(&self, name: &str) -> Option<&MariadbColumn> {
        self.columns.iter().find(|c| c.name == name)
    }
}

impl MariadbCatalog {
    pub(super) fn open(settings: &Settings) -> Outcome<Self> {
        let server = Server::new(settings, 3306)?;
        let connection = connect(&server).map_err(StoreError::into_failure)?;
        let shown = server.shown();
        let Server { database, answer_within, .. } = server;
        let mut catalog = Self { connection, database, shown, answer_within };
        // Whatever the server is set to: a backslash means itself, double quotes are texts, zero dates are let through.
        catalog.rows("set session sql_mode = 'NO_BACKSLASH_ESCAPES'")?;
        catalog.rows("set names utf8mb4")?;
        catalog.rows("set session time_zone = '+00:00'")?;
        Ok(catalog)
    }

    /// Asks; gives the rows as text.
    pub(super) fn rows(&mut self, sql: &str) -> Outcome<Vec<Vec<Option<String>>>> {
        let Self { connection, shown, answer_within, .. } = self;
        let rows: Vec<mysql_async::Row> =
            wait(in_time(*answer_within, connection.query(sql), |e| failed(shown, &e), |why| late(shown, &why)))?;
        let text = |value: Value| match value {
            Value::NULL => None,
            Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
            other => Some(other.as_sql(true)),
        };
        Ok(rows.into_iter().map(|row| row.unwrap().into_iter().map(text).collect()).collect())
    }

    fn one(&mut self, sql: &str) -> Outcome<Option<String>> {
        Ok(self.rows(sql)?.into_iter().next().and_then(|row| row.into_iter().next().flatten()))
    }

    /// The character sets by the numbers of their orders, as the log names them.
    pub(super) fn character_sets(&mut self) -> Outcome<HashMap<u64, String>> {
        let all = "select id, character_set_name from information_schema.collation_character_set_applicability";
        let rows = match self.rows(all) {
            Ok(rows) => rows,
            // Older servers have no numbers there.
            Err(_) => self.rows("select id, character_set_name from information_schema.collations")?,
        };
        let pair = |row: Vec<Option<String>>| {
            let mut cells = row.into_iter();
            Some((cells.next()??.parse().ok()?, cells.next()??))
        };
        Ok(rows.into_iter().filter_map(pair).collect())
    }

    /// One setting, empty where there is none.
    pub(super) fn setting(&mut self, name: &str) -> Outcome<String> {
        let rows = self.rows(&format!("show variables like {}", literal(name)))?;
        Ok(rows.into_iter().next().and_then(|row| row.into_iter().nth(1).flatten()).unwrap_or_default())
    }

    /// What no other server says of itself.
    pub(super) fn identity(&mut self) -> Outcome<String> {
        Ok(self.one("select concat(@@server_id, ' ', @@hostname)")?.unwrap_or_default())
    }

    /// The end of the log: its file and the place therein.
    pub(super) fn log_end(&mut self) -> Outcome<(String, u64)> {
        let rows = self.rows("show master status")?;
        let row = rows.into_iter().next().ok_or_else(|| {
            Failure::unreachable(format!("{} does not log rows", self.shown))
                .with_help("`sluice check` lists the required server settings")
        })?;
        let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
        Ok((text(0), text(1).parse().unwrap_or(4)))
    }

    /// The files of the log with their sizes, the oldest first.
    pub(super) fn log_files(&mut self) -> Outcome<Vec<(String, u64)>> {
        let rows = self.rows("show binary logs")?;
        let file = |row: Vec<Option<String>>| {
            let mut cells = row.into_iter();
            Some((cells.next()??, cells.next()??.parse().ok()?))
        };
        Ok(rows.into_iter().filter_map(file).collect())
    }

    /// Up to which global transactions the log goes at a place; None where the server has none.
    pub(super) fn gtid_at(&mut self, file: &str, at: u64) -> Outcome<Option<String>> {
        let found = self.one(&format!("select binlog_gtid_pos({}, {at})", literal(file)));
        // Servers of another family have no such function.
        Ok(found.ok().flatten().filter(|gtid| !gtid.is_empty()))
    }

    /// Database and name of a table as the pipeline file has it.
    pub(super) fn split(&self, table: &str) -> (String, String) {
        match table.split_once('.') {
            Some((database, name)) => (database.to_string(), name.to_string()),
            None => (self.database.clone(), table.to_string()),
        }
    }

    /// A table; None where there is none.
    pub(super) fn table(&mut self, name: &str) -> Outcome<Option<MariadbTable>> {
        let mut before = None;
        for _ in 0..LOOKS {
            let found = self.look_at(name)?;
            // A table that is renamed between two queries seems to lack its columns or its key.
            let is_odd = found.as_ref().is_some_and(|t| t.columns.is_empty() || t.key.is_empty());
            if !is_odd || before.as_ref() == Some(&found) {
                return Ok(found.filter(|t| !t.columns.is_empty()));
            }
            before = Some(found);
            std::thread::sleep(PAUSE);
        }
        Ok(before.flatten().filter(|t| !t.columns.is_empty()))
    }

    fn look_at(&mut self, name: &str) -> Outcome<Option<MariadbTable>> {
        let (database, name) = self.split(name);
        let of = format!("table_schema = {} and table_name = {}", literal(&database), literal(&name));
        let about = self.rows(&format!(
            "select table_rows, coalesce((select transactions = 'YES' from information_schema.engines e where e.engine = \
             t.engine), 0) from information_schema.tables t where {of}"
        ))?;
        let Some(about) = about.into_iter().next() else { return Ok(None) };
        let json = self.rows(&format!(
            "select check_clause from information_schema.check_constraints where constraint_schema = {} and table_name = {}",
            literal(&database),
            literal(&name)
        ))?;
        let json: Vec<String> = json.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect();
        let columns = self.rows(&format!(
            "select column_name, data_type, character_set_name, column_type, is_nullable = 'NO' or coalesce(column_default, \
             'NULL') <> 'NULL' or coalesce(generation_expression, '') <> '', collation_name from information_schema.columns where {of} order by ordinal_position"
        ))?;
        let column = |row: Vec<Option<String>>| {
            let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
            let is_json = json.iter().any(|clause| *clause == format!("json_valid({})", quote(&text(0))));
            MariadbColumn {
                name: text(0),
                base: text(1),
                is_json,
                characters: row.get(2).cloned().flatten(),
                ty: text(3),
                is_filled: text(4) != "0",
                order: row.get(5).cloned().flatten(),
            }
        };
        let key = self.rows(&format!(
            "select column_name from information_schema.statistics where {of} and index_name = 'PRIMARY' order by \
             seq_in_index"
        ))?;
        Ok(Some(MariadbTable {
            database,
            name,
            columns: columns.into_iter().map(column).collect(),
            key: key.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect(),
            about: about.first().cloned().flatten().and_then(|t| t.parse().ok()).unwrap_or(0),
            is_transactional: about.get(1).cloned().flatten().as_deref() == Some("1"),
        }))
    }

    /// The foreign keys by which the server changes rows of a table without a word in its log: the name of each, what it
    /// does, and the table whose changes do it.
    pub(super) fn cascades(&mut self, database: &str, table: &str) -> Outcome<Vec<(String, String, String)>> {
        let rows = self.rows(&format!(
            "select constraint_name, concat_ws(', ', if(delete_rule in ('CASCADE', 'SET NULL', 'SET DEFAULT'), concat('on \
             delete ', lower(delete_rule)), null), if(update_rule in ('CASCADE', 'SET NULL', 'SET DEFAULT'), concat('on \
             update ', lower(update_rule)), null)), referenced_table_name from \
             information_schema.referential_constraints where constraint_schema = {} and table_name = {} and (delete_rule in \
             ('CASCADE', 'SET NULL', 'SET DEFAULT') or update_rule in ('CASCADE', 'SET NULL', 'SET DEFAULT')) order by 1",
            literal(database),
            literal(table)
        ))?;
        let three = |row: Vec<Option<String>>| {
            let mut cells = row.into_iter();
            Some((cells.next()??, cells.next()??, cells.next()??))
        };
        Ok(rows.into_iter().filter_map(three).collect())
    }

    /// How many rows a table has, as the session sees it.
    pub(super) fn count(&mut self, table: &MariadbTable) -> Outcome<Option<u64>> {
        let count = self.one(&format!("select count(*) from {}", table.quoted()))?;
        Ok(count.and_then(|count| count.parse().ok()))
    }

    /// Schemas and names of all tables, those of ours and of the server left out.
    pub(super) fn all_tables(&mut self) -> Outcome<Vec<(String, String)>> {
        let rows = self.rows(
            "select table_schema, table_name from information_schema.tables where table_type = 'BASE TABLE' and \
             table_schema not in ('mysql', 'sys', 'performance_schema', 'information_schema') and left(table_name, 7) <> \
             'sluice_' order by 1, 2",
        )?;
        let pair = |row: Vec<Option<String>>| {
            let mut cells = row.into_iter();
            Some((cells.next()??, cells.next()??))
        };
        Ok(rows.into_iter().filter_map(pair).collect())
    }

    /// The names of the tables of the connection's database, those of ours left out.
    pub(super) fn tables(&mut self) -> Outcome<Vec<String>> {
        let database = literal(&self.database);
        let rows = self.rows(&format!(
            "select table_name from information_schema.tables where table_schema = {database} and table_type = \
             'BASE TABLE' and left(table_name, 7) <> 'sluice_' order by 1"
        ))?;
        Ok(rows.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect())
    }
}

/// What it means that the server did not answer in time.
pub(super) fn late(shown: &str, why: &str) -> Failure {
    Failure::away(format!("{shown} {why}"))
}

/// What an error means.
pub(super) fn failed(shown: &str, error: &mysql_async::Error) -> Failure {
    match error {
        // Locks, shutting down, a table that changed under a snapshot, a connection that was ended.
        mysql_async::Error::Server(said) if matches!(said.code, 1053 | 1205 | 1213 | 1412 | 1927) => {
            Failure::away(format!("{shown}: {}", said.message))
        }
        mysql_async::Error::Server(said) => Failure::unreachable(format!("{shown}: {}", said.message)),
        other => Failure::away(format!("{shown} does not answer: {other}")),
    }
}
