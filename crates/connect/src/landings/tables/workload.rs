//! Inserts, updates and deletes in a table, for trying things: each slice of them is one transaction.

use std::collections::HashMap;

use serde_json::{Map, Value};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Settings;
use sluice_core::names;
use sluice_core::table::{Found, StoredTable};

use super::Store;
use super::session::{Session, Spelling, StoreError};
use super::shape::TableName;

/// What is done with a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// It is new, or takes the place of the one with its key.
    Write,
    /// The one with its key goes.
    Delete,
}

/// An opened table.
pub struct Workload {
    session: Box<dyn Session>,
    table: String,
    columns: Vec<String>,
    key: String,
    /// Keys that are there, as far as this workload wrote them.
    there: HashMap<String, ()>,
}

impl Workload {
    /// Opens a table of a connection. `fields` are those of the events, `key` the one that names a row.
    ///
    /// # Errors
    /// Where the connection is none of a database, the table is not there, or no field has a column of its name.
    pub fn open(settings: &Settings, table: &str, fields: &[String], key: &str) -> Outcome<Self> {
        use crate::landings::{mariadb::Mariadb, postgres::Postgres, sqlite::Sqlite};
        let session = match settings.connection.scheme.as_str() {
            Postgres::SCHEME => Postgres::connect(settings),
            Mariadb::SCHEME => Mariadb::connect(settings),
            Sqlite::SCHEME => Sqlite::connect(settings),
            other => {
                let message = format!("a `{other}:` connection has no tables in which single rows can change");
                return Err(Failure::new(FailureKind::Configuration, message)
                    .with_help("name a connection of postgres, mariadb or sqlite"));
            }
        };
        let mut session = session.map_err(StoreError::into_failure)?;
        let name = match table.split_once('.') {
            Some((schema, name)) => TableName { schema: Some(schema.into()), name: name.into() },
            None => TableName { schema: None, name: table.into() },
        };
        let found = session.describe(&name, &[]).map_err(StoreError::into_failure)?;
        let Found::Table(stored) = found else {
            let there = session.tables(&name).map_err(StoreError::into_failure)?;
            let help = names::remedy(&name.name, "tables", there.iter().map(String::as_str));
            let failure = Failure::unreachable(format!("there is no table {table} in {}", settings.connection.name));
            return Err(failure.with_help(help.unwrap_or_else(|| "make it first".into())));
        };
        let columns = shared(&stored, fields);
        if !columns.iter().any(|c| c == key) {
            let message = format!("{table} has no column `{key}`, which would name a row");
            return Err(Failure::new(FailureKind::Configuration, message)
                .with_help(format!("--key FIELD names it; in common are {}", columns.join(", "))));
        }
        let shown = session.spelling().table(&name);
        Ok(Self { session, table: shown, columns, key: key.into(), there: HashMap::new() })
    }

    /// Makes all changes in one transaction; gives how many rows were inserted, updated and deleted.
    ///
    /// # Errors
    /// Where the store refuses.
    pub fn change(&mut self, changes: &[(Change, Map<String, Value>)]) -> Outcome<[u64; 3]> {
        let mut done = [0; 3];
        self.run("begin")?;
        for (change, row) in changes {
            let spelling = self.session.spelling();
            let key = literal(spelling, row.get(&self.key).unwrap_or(&Value::Null));
            let same = format!("{} = {key}", (spelling.quote)(&self.key));
            match change {
                Change::Delete => {
                    done[2] += self.run(&format!("delete from {} where {same}", self.table))?;
                    self.there.remove(&key);
                }
                Change::Write if self.there.contains_key(&key) => done[1] += self.update(row, &same)?,
                Change::Write => {
                    // Another run may have written it.
                    let updated = self.update(row, &same)?;
                    done[1] += updated;
                    if updated == 0 {
                        done[0] += self.insert(row)?;
                    }
                    self.there.insert(key, ());
                }
            }
        }
        self.run("commit")?;
        Ok(done)
    }

    fn run(&mut self, sql: &str) -> Outcome<u64> {
        self.session.execute(sql).map_err(StoreError::into_failure)
    }

    fn insert(&mut self, row: &Map<String, Value>) -> Outcome<u64> {
        let spelling = self.session.spelling();
        let names: Vec<String> = self.columns.iter().map(|c| (spelling.quote)(c)).collect();
        let values: Vec<String> =
            self.columns.iter().map(|c| literal(spelling, row.get(c).unwrap_or(&Value::Null))).collect();
        self.run(&format!("insert into {} ({}) values ({})", self.table, names.join(", "), values.join(", ")))
    }

    fn update(&mut self, row: &Map<String, Value>, same: &str) -> Outcome<u64> {
        let spelling = self.session.spelling();
        let value =
            |c: &String| format!("{} = {}", (spelling.quote)(c), literal(spelling, row.get(c).unwrap_or(&Value::Null)));
        let set: Vec<String> = self.columns.iter().map(value).collect();
        self.run(&format!("update {} set {} where {same}", self.table, set.join(", ")))
    }
}

/// The fields that have a column of their name.
fn shared(table: &StoredTable, fields: &[String]) -> Vec<String> {
    let has = |field: &&String| table.columns.iter().any(|c| c.name == **field && !c.computed);
    fields.iter().filter(has).cloned().collect()
}

fn literal(spelling: Spelling, value: &Value) -> String {
    match value {
        Value::Null => "null".into(),
        Value::Bool(true) => "true".into(),
        Value::Bool(false) => "false".into(),
        Value::Number(number) => number.to_string(),
        Value::String(text) => (spelling.literal)(text),
        other => (spelling.literal)(&other.to_string()),
    }
}
