//! Inserts, updates and deletes in a table, for trying things: each slice of them is one transaction.

use std::collections::HashSet;

use serde_json::{Map, Value};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Settings;
use sluice_core::names;
use sluice_core::table::{Found, StoredTable};

use super::Store;
use super::session::{Session, Spelling};
use super::shape::TableName;
use crate::databases::StoreError;

/// What is done with a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Change {
    /// It is new, or takes the place of the one with its key.
    Write,
    /// It takes the place of one that was written before, chosen by a number.
    Update(u64),
    /// One that was written before goes, chosen by a number.
    Delete(u64),
}

/// An opened table.
pub struct Workload {
    session: Box<dyn Session>,
    table: String,
    columns: Vec<String>,
    key: String,
    /// Keys that are there, as far as this workload wrote them.
    there: Vec<Value>,
    known: HashSet<String>,
}

impl Workload {
    /// Opens a table of a connection. `fields` are those of the events, `key` the one that names a row; without it, the
    /// first that has a unique index of its own.
    ///
    /// # Errors
    /// Where the connection is not a database, the table is not there, or no field has a column of its name.
    pub fn open(settings: &Settings, table: &str, fields: &[String], key: Option<&str>) -> Outcome<Self> {
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
        let is_unique = |c: &&String| stored.keys.iter().any(|k| k.len() == 1 && k[0] == **c);
        let Some(key) = key.map(str::to_string).or_else(|| columns.iter().find(is_unique).cloned()) else {
            let message = format!("no field of the events has a unique index of its own in {table}");
            return Err(Failure::new(FailureKind::Configuration, message)
                .with_help(format!("name the key with --key FIELD; fields of both are {}", columns.join(", "))));
        };
        if !columns.contains(&key) {
            let message = format!("{table} has no column `{key}`, which would name a row");
            return Err(Failure::new(FailureKind::Configuration, message)
                .with_help(format!("--key FIELD names it; in common are {}", columns.join(", "))));
        }
        let shown = session.spelling().table(&name);
        Ok(Self { session, table: shown, columns, key, there: Vec::new(), known: HashSet::new() })
    }

    /// Makes all changes in one transaction; gives how many rows were inserted, updated and deleted.
    ///
    /// # Errors
    /// Where the store refuses.
    pub fn change(&mut self, changes: Vec<(Change, Map<String, Value>)>) -> Outcome<[u64; 3]> {
        let mut done = [0; 3];
        self.run("begin")?;
        for (change, mut row) in changes {
            let chosen = |number: u64| usize::try_from(number).unwrap_or(0).checked_rem(self.there.len());
            let (delete, chosen) = match change {
                Change::Write => (false, None),
                Change::Update(number) => (false, chosen(number)),
                Change::Delete(number) => (true, chosen(number)),
            };
            if let Some(chosen) = chosen {
                row.insert(self.key.clone(), self.there[chosen].clone());
            }
            let value = row.get(&self.key).cloned().unwrap_or(Value::Null);
            let spelling = self.session.spelling();
            let key = literal(spelling, &value);
            let same = format!("{} = {key}", (spelling.quote)(&self.key));
            match (delete, chosen) {
                (true, Some(chosen)) => {
                    done[2] += self.run(&format!("delete from {} where {same}", self.table))?;
                    self.there.swap_remove(chosen);
                    self.known.remove(&key);
                }
                // There is nothing yet that could go.
                (true, None) => {}
                (false, _) => {
                    // Another run may have written it.
                    let updated = self.update(&row, &same)?;
                    done[1] += updated;
                    if updated == 0 {
                        done[0] += self.insert(&row)?;
                    }
                    if self.known.insert(key) {
                        self.there.push(value);
                    }
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
