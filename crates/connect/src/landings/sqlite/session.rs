//! One session with a file of SQLite.

use std::path::PathBuf;
use std::time::Duration;

use arrow_array::RecordBatch;
use arrow_schema::Field;
use rusqlite::types::{Null, ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, ErrorCode};
use sluice_core::columns::kind_of;
use sluice_core::failure::Failure;
use sluice_core::kinds::Settings;
use sluice_core::limit::Limit;
use sluice_core::table::{Found, StoredTable, TableColumn};
use sluice_core::values::bytes;
use sluice_core::values::number::write_decimal;

use super::dialect::{Affinity, affinity, is_binary};
use crate::databases::postgres::{literal, quote};
use crate::databases::{StoreError, StoreResult};
use crate::landings::tables::book::hex;
use crate::landings::tables::cells::{Cell, Cells, write_day, write_moment};
use crate::landings::tables::keyed::{INCOMING, KeyedStatements, fill, has_deletes};
use crate::landings::tables::session::{AnswerRow, BATCHES, LANES, Objection, REFUSED, Session, Spelling, Target};
use crate::landings::tables::shape::{DELETED, Mode, TableName};

pub(super) struct SqliteSession {
    connection: Connection,
    shown: String,
    /// For each column of the target whether decimals go there as numbers.
    numbers: Vec<bool>,
    /// The columns that hold bytes. Those of the key are not among them: they are compared with texts.
    binary: Vec<String>,
}

/// The file of a connection.
pub(super) fn path(settings: &Settings) -> PathBuf {
    settings.root.join(settings.connection.target.trim_start_matches("//"))
}

impl SqliteSession {
    pub(super) fn begin(settings: &Settings) -> StoreResult<Self> {
        let path = path(settings);
        let shown = format!("{} ({})", settings.connection.name, path.display());
        let folder = path.parent().unwrap_or(&settings.root);
        std::fs::create_dir_all(folder).map_err(|e| StoreError::Failed(Failure::io("make", folder, &e)))?;
        let connection = Connection::open(&path).map_err(|e| judge(&shown, &e))?;
        let session = Self { connection, shown, numbers: Vec::new(), binary: Vec::new() };
        // What is committed is on the disk before the ledger says so.
        let set = "pragma journal_mode = wal; pragma synchronous = full; pragma foreign_keys = on";
        session.connection.busy_timeout(Duration::from_secs(30)).map_err(|e| judge(&session.shown, &e))?;
        session.connection.execute_batch(set).map_err(|e| judge(&session.shown, &e))?;
        Ok(session)
    }

    fn insert(&self, into: &str, rows: &[RecordBatch], numbers: &[bool]) -> StoreResult<u64> {
        if rows.iter().all(|r| r.num_rows() == 0) {
            return Ok(0);
        }
        let width = rows.first().map_or(0, RecordBatch::num_columns);
        let places: Vec<String> = (1..=width).map(|i| format!("?{i}")).collect();
        let sql = format!("insert into {into} values ({})", places.join(", "));
        let mut statement = self.connection.prepare_cached(&sql).map_err(|e| judge(&self.shown, &e))?;
        let mut done = 0;
        let mut text = String::new();
        for batch in rows {
            let cells = Cells::all(batch);
            let of_bytes = |field: &Field| kind_of(field) == Some(Limit::Bytea) && self.binary.contains(field.name());
            let bytes: Vec<bool> = batch.schema().fields().iter().map(|field| of_bytes(field)).collect();
            for row in 0..batch.num_rows() {
                for (i, column) in cells.iter().enumerate() {
                    let as_number = numbers.get(i).copied().unwrap_or(false);
                    let bound = match column.at(row) {
                        Cell::Text(digits) if bytes[i] => blob(digits),
                        cell => bind(cell, as_number, &mut text),
                    };
                    statement.raw_bind_parameter(i + 1, bound).map_err(|e| judge(&self.shown, &e))?;
                }
                statement.raw_execute().map_err(|e| match judge(&self.shown, &e) {
                    StoreError::Refused { column, message, .. } => {
                        StoreError::Refused { row: Some(done), column, message }
                    }
                    other => other,
                })?;
                done += 1;
            }
        }
        Ok(done as u64)
    }

    fn load_keyed(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<u64> {
        let keyed = KeyedStatements { spelling: self.spelling(), target };
        self.execute(&format!("delete from temp.{}", quote(INCOMING)))?;
        let sent = self.insert(&format!("temp.{}", quote(INCOMING)), rows, &self.numbers)?;
        let mut refuse_unplaced = |error| match error {
            StoreError::Refused { column, message, .. } => StoreError::Refused { row: None, column, message },
            other => other,
        };
        if target.mode != Mode::Mirror {
            let written = self.execute(&keyed.upsert("true")).map_err(&mut refuse_unplaced)?;
            return Ok(sent.saturating_sub(written));
        }
        fill(self, target, rows)?;
        self.execute(&keyed.drop_outdated())?;
        let mut gone = 0;
        if has_deletes(rows) {
            self.execute(&keyed.delete()).map_err(&mut refuse_unplaced)?;
            self.execute(&keyed.drop_outlived())?;
            gone = self.execute(&keyed.note_gone())?;
        }
        let only = format!("not s.{}", quote(DELETED));
        let written = self.execute(&keyed.upsert(&only)).map_err(&mut refuse_unplaced)?;
        self.execute(&keyed.forget_gone())?;
        Ok(sent.saturating_sub(gone + written))
    }
}

/// The bytes that digits spell.
fn blob(digits: &str) -> ToSqlOutput<'static> {
    let mut out = Vec::new();
    let _ = bytes::read(digits, &mut out);
    ToSqlOutput::Owned(Value::Blob(out))
}

/// A value for a statement. `text` is room for those that are written as text.
fn bind<'a>(cell: Cell<'a>, as_number: bool, text: &'a mut String) -> ToSqlOutput<'a> {
    let kept = |text: &'a mut String| ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes()));
    text.clear();
    match cell {
        Cell::Null => ToSqlOutput::from(Null),
        Cell::Text(value) => ToSqlOutput::Borrowed(ValueRef::Text(value.as_bytes())),
        Cell::Bool(value) => ToSqlOutput::Owned(Value::Integer(value.into())),
        Cell::Int(value) => ToSqlOutput::Owned(Value::Integer(value)),
        Cell::Double(value) => ToSqlOutput::Owned(Value::Real(value)),
        Cell::Decimal(value, scale) => {
            write_decimal(text, value, u8::try_from(scale).unwrap_or(0));
            match text.parse() {
                Ok(number) if as_number => ToSqlOutput::Owned(Value::Real(number)),
                _ => kept(text),
            }
        }
        Cell::Day(days) => {
            write_day(text, days);
            kept(text)
        }
        Cell::Moment(micros) => {
            if write_moment(text, micros) {
                text.push('Z');
            }
            kept(text)
        }
    }
}

impl Session for SqliteSession {
    fn spelling(&self) -> Spelling {
        Spelling {
            quote,
            literal,
            bytes: |bytes| format!("x'{}'", hex(bytes)),
            insert_new: |into, values| format!("insert into {into} values {values} on conflict do nothing"),
            landed_micros: "cast(round((julianday(b.landed_at) - 2440587.5) * 86400000) as integer) * 1000",
            by_bytes: str::to_string,
        }
    }

    fn book(&self, _: &TableName) -> Vec<String> {
        vec![
            format!(
                "create table if not exists {LANES} (id integer primary key, landing text not null, lane text not null, \
                 unique (landing, lane))"
            ),
            format!(
                "create table if not exists {REFUSED} (batch integer not null, place integer not null, source text not \
                 null, position integer not null, within integer not null, column_name text, message text not null, \
                 event blob not null, primary key (batch, place))"
            ),
            format!(
                "create table if not exists {BATCHES} (id integer primary key, lane integer not null, number integer not \
                 null, ledger text not null, ranges text not null, landed integer not null, refused integer not null, \
                 older integer not null, landed_at text not null default (strftime('%Y-%m-%d %H:%M:%f', 'now')), \
                 unique (lane, number))"
            ),
        ]
    }

    fn execute(&mut self, sql: &str) -> StoreResult<u64> {
        // The lock is taken at once: a later one could not be waited for.
        let sql = if sql == "begin" { "begin immediate" } else { sql };
        let mut statement = self.connection.prepare_cached(sql).map_err(|e| judge(&self.shown, &e))?;
        if statement.column_count() > 0 {
            return Ok(0);
        }
        let done = statement.execute([]).map_err(|e| judge(&self.shown, &e))?;
        Ok(done as u64)
    }

    fn query(&mut self, sql: &str) -> StoreResult<Vec<AnswerRow>> {
        let mut all = Vec::new();
        self.stream(sql, &mut |rows| {
            all.extend(rows);
            true
        })?;
        Ok(all)
    }

    fn describe(&mut self, table: &TableName, _: &[&str]) -> StoreResult<Found> {
        if table.schema.is_some() {
            return Ok(Found::NoSchema);
        }
        let name = literal(&table.name);
        let kind =
            self.query(&format!("select type from sqlite_schema where name = {name} and type in ('table', 'view')"))?;
        let Some(kind) = kind.into_iter().flatten().flatten().next() else { return Ok(Found::NoTable) };
        let mut stored = StoredTable::default();
        if kind == "view" {
            stored.not_a_table = Some("a view".into());
        }
        let sql = format!(
            "select name, type, \"notnull\", dflt_value is not null, hidden in (2, 3), pk from pragma_table_xinfo({name}) \
             where hidden <> 1"
        );
        let mut primary: Vec<(u32, String)> = Vec::new();
        for row in self.query(&sql)? {
            let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
            let flag = |i: usize| text(i) == "1";
            let place = text(5).parse().unwrap_or(0);
            if place > 0 {
                primary.push((place, text(0)));
            }
            stored.columns.push(TableColumn {
                name: text(0),
                ty: text(1).to_ascii_lowercase(),
                base: text(1),
                nullable: !flag(2),
                filled: flag(3),
                computed: flag(4),
                collation: None,
            });
        }
        primary.sort();
        // A single whole primary key numbers rows by itself.
        if let [(_, only)] = primary.as_slice()
            && let Some(column) = stored.columns.iter_mut().find(|c| c.name == *only && c.ty == "integer")
        {
            column.filled = true;
        }
        if !primary.is_empty() {
            stored.keys.push(primary.into_iter().map(|(_, name)| name).collect());
        }
        let sql = format!("select name from pragma_index_list({name}) where \"unique\" = 1 and partial = 0");
        for index in self.query(&sql)?.into_iter().flatten().flatten() {
            let sql = format!("select name from pragma_index_info({}) order by seqno", literal(&index));
            let columns: Vec<Option<String>> = self.query(&sql)?.into_iter().flatten().collect();
            // An expression has no name.
            if let Some(columns) = columns.into_iter().collect() {
                stored.keys.push(columns);
            }
        }
        Ok(Found::Table(stored))
    }

    fn tables(&mut self, _: &TableName) -> StoreResult<Vec<String>> {
        Ok(self.query("select name from sqlite_schema where type = 'table'")?.into_iter().flatten().flatten().collect())
    }

    fn objections(&self, _: &Target, rows: &RecordBatch) -> Vec<Objection> {
        let mut found = Vec::new();
        let schema = rows.schema();
        let mut text = String::new();
        for (i, column) in Cells::all(rows).iter().enumerate() {
            if !matches!(column, Cells::Double(_) | Cells::Day(_) | Cells::Moment(_)) {
                continue;
            }
            for row in 0..rows.num_rows() {
                let message = match column.at(row) {
                    Cell::Double(value) if value.is_nan() => "SQLite has no number for NaN",
                    Cell::Day(days) if !write_day(&mut text, days) => "the year is not within 1 to 9999",
                    Cell::Moment(micros) if !write_moment(&mut text, micros) => "the year is not within 1 to 9999",
                    _ => continue,
                };
                found.push(Objection { row, column: schema.field(i).name().clone(), message: message.into() });
            }
        }
        found
    }

    fn prepare(&mut self, target: &Target) -> StoreResult<()> {
        let Found::Table(table) = self.describe(&target.table, &[])? else { return Ok(()) };
        let number = |(name, _): &(String, _)| {
            let column = table.columns.iter().find(|c| c.name == *name);
            column.is_some_and(|c| !matches!(affinity(&c.base), Affinity::Text | Affinity::Blob))
        };
        let binary = |(name, _): &&(String, _)| {
            let column = table.columns.iter().find(|c| c.name == *name && !target.key.contains(name));
            column.is_some_and(|c| is_binary(&c.base))
        };
        self.binary = target.columns.iter().filter(binary).map(|(name, _)| name.clone()).collect();
        self.numbers = target.columns.iter().map(number).collect();
        if !target.mode.is_keyed() {
            return Ok(());
        }
        let keyed = KeyedStatements { spelling: self.spelling(), target };
        let of = target.table.quoted(&quote);
        if target.mode == Mode::Mirror && !matches!(self.describe(&target.gone(), &[])?, Found::Table(_)) {
            let columns: Vec<String> = keyed.gone_columns().into_iter().map(quote).collect();
            let key: Vec<String> = target.key.iter().map(|k| quote(k)).collect();
            let gone = target.gone().quoted(&quote);
            // The columns keep their types, and with them how values compare.
            let typed = |name: &str| {
                let column = table.columns.iter().find(|c| c.name == name);
                format!("{} {}", quote(name), column.map_or("", |c| c.base.as_str()))
            };
            let typed: Vec<String> = keyed.gone_columns().into_iter().map(typed).collect();
            debug_assert_eq!(typed.len(), columns.len());
            self.execute(&format!(
                "create table if not exists {gone} ({}, primary key ({}))",
                typed.join(", "),
                key.join(", ")
            ))?;
        }
        let deleted = if target.mode == Mode::Mirror { format!(", 0 as {}", quote(DELETED)) } else { String::new() };
        self.execute(&format!(
            "create temporary table if not exists {} as select {}{deleted}{} from {of} limit 0",
            quote(INCOMING),
            keyed.columns(""),
            keyed.no_hidden("null")
        ))?;
        Ok(())
    }

    fn load(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<u64> {
        if target.mode.is_keyed() {
            return self.load_keyed(target, rows);
        }
        let columns = KeyedStatements { spelling: self.spelling(), target }.columns("");
        let into = format!("{} ({columns})", target.table.quoted(&quote));
        self.insert(&into, rows, &self.numbers)?;
        Ok(0)
    }

    fn stream(&mut self, sql: &str, take: &mut dyn FnMut(Vec<AnswerRow>) -> bool) -> StoreResult<()> {
        const AT_ONCE: usize = 4_000;
        let failed = |e: rusqlite::Error| judge(&self.shown, &e);
        let mut statement = self.connection.prepare(sql).map_err(failed)?;
        let width = statement.column_count();
        let mut rows = statement.query([]).map_err(failed)?;
        let mut part = Vec::new();
        while let Some(row) = rows.next().map_err(failed)? {
            let mut texts = AnswerRow::with_capacity(width);
            for i in 0..width {
                texts.push(text_of(row.get_ref(i).map_err(failed)?));
            }
            part.push(texts);
            if part.len() == AT_ONCE && !take(std::mem::take(&mut part)) {
                return Ok(());
            }
        }
        if !part.is_empty() {
            take(part);
        }
        Ok(())
    }
}

fn text_of(value: ValueRef<'_>) -> Option<String> {
    match value {
        ValueRef::Null => None,
        ValueRef::Integer(number) => Some(number.to_string()),
        ValueRef::Real(number) => Some(number.to_string()),
        ValueRef::Text(text) => Some(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Some(hex(bytes)),
    }
}

/// What an error means.
fn judge(shown: &str, error: &rusqlite::Error) -> StoreError {
    let rusqlite::Error::SqliteFailure(code, message) = error else {
        return StoreError::Failed(Failure::unreachable(format!("{shown}: {error}")));
    };
    let message = message.clone().unwrap_or_else(|| code.to_string());
    match code.code {
        // A trigger's raise() ends as a constraint as well.
        ErrorCode::ConstraintViolation | ErrorCode::TypeMismatch | ErrorCode::TooBig => {
            let column = message.split_once(": ").and_then(|(_, rest)| rest.rsplit('.').next()).map(str::to_string);
            let column = column.filter(|_| message.starts_with("NOT NULL") || message.starts_with("UNIQUE"));
            StoreError::Refused { row: None, column, message }
        }
        ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked => {
            StoreError::Away(format!("{shown} is locked by another process: {message}"))
        }
        ErrorCode::DiskFull => StoreError::Away(format!("{shown}: {message}")),
        ErrorCode::Unknown if message.contains("no such") || message.contains("has no column") => {
            StoreError::Changed(message)
        }
        ErrorCode::SchemaChanged => StoreError::Changed(message),
        _ => StoreError::Failed(Failure::unreachable(format!("{shown}: {message}"))),
    }
}
