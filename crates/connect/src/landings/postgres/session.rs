//! One session with a PostgreSQL server.

use std::collections::HashMap;
use std::time::Duration;

use arrow_array::RecordBatch;
use bytes::Bytes;
use futures_util::{SinkExt as _, TryStreamExt as _};
use sluice_core::failure::Failure;
use sluice_core::kinds::Settings;
use sluice_core::table::Found;
use sluice_core::types::SqlType;
use tokio_postgres::{Client, Error, SimpleQueryMessage};

use super::copy::{self, CopyForm, END, HEAD};
use super::describe;
use crate::databases::postgres::{self, connect, judge};
use crate::databases::{Server, StoreError, StoreResult, in_time, wait};
use crate::landings::tables::book::hex;
use crate::landings::tables::cells::Cells;
use crate::landings::tables::keyed::{INCOMING, KeyedStatements, fill, has_deletes};
use crate::landings::tables::session::{
    AnswerRow, BATCHES, LANES, Objection, REFUSED, Session, Spelling, Target, number,
};
use crate::landings::tables::shape::{DELETED, Mode, TableName, WAS};

/// Bytes of rows that are sent at a time.
const CHUNK: usize = 256 << 10;

/// What a session is set to: a server that has lost us gives up what we hold within a minute, and what we write is read
/// as we mean it. A batch of a keyed mode fits into the memory for temporary tables.
const SETTINGS: &str = "set application_name = 'sluice'; set datestyle = iso; set timezone = 'UTC'; \
    set standard_conforming_strings = on; set client_min_messages = warning; set synchronous_commit = on; \
    set tcp_keepalives_idle = 15; set tcp_keepalives_interval = 5; set tcp_keepalives_count = 3; \
    set idle_in_transaction_session_timeout = '60s'; set lock_timeout = '60s'; set temp_buffers = '64MB'";

pub(super) struct PostgresSession {
    client: Client,
    shown: String,
    answer_within: Duration,
    /// How each column of the target is written.
    forms: Vec<CopyForm>,
    /// The sizes of the incoming table's columns are known to the session.
    has_incoming: bool,
}

impl PostgresSession {
    pub(super) fn begin(settings: &Settings) -> StoreResult<Self> {
        let server = Server::new(settings, 5432).map_err(StoreError::Failed)?;
        let (client, shown) = (connect(&server)?, server.shown());
        let answer_within = server.answer_within;
        let mut session = Self { client, shown, answer_within, forms: Vec::new(), has_incoming: false };
        session.execute(SETTINGS)?;
        Ok(session)
    }

    /// Sends rows by COPY.
    fn copy(&mut self, into: &str, columns: &str, rows: &[RecordBatch]) -> StoreResult<u64> {
        let sql = format!("copy {into} ({columns}) from stdin (format binary)");
        let (client, forms, shown) = (&self.client, &self.forms, &self.shown);
        let said = |e: Error| judge(shown, &e);
        let late = |why: String| StoreError::Away(format!("{shown} {why}"));
        wait(async {
            let sink = in_time(self.answer_within, client.copy_in::<_, Bytes>(&sql), said, late).await?;
            let mut sink = std::pin::pin!(sink);
            let mut out = Vec::with_capacity(CHUNK + (CHUNK >> 2));
            out.extend_from_slice(HEAD);
            for batch in rows {
                let cells = Cells::all(batch);
                let mut row = 0;
                while row < batch.num_rows() {
                    row = copy::write(&mut out, &cells, forms, row, batch.num_rows(), CHUNK);
                    if out.len() >= CHUNK {
                        let next = Vec::with_capacity(CHUNK + (CHUNK >> 2));
                        let part = Bytes::from(std::mem::replace(&mut out, next));
                        in_time(self.answer_within, sink.send(part), said, late).await?;
                    }
                }
            }
            out.extend_from_slice(END);
            in_time(self.answer_within, sink.send(Bytes::from(out)), said, late).await?;
            in_time(self.answer_within, sink.finish(), said, late).await
        })
    }

    /// The server's answer to statements.
    fn ask(&self, sql: &str) -> StoreResult<Vec<SimpleQueryMessage>> {
        let late = |why: String| StoreError::Away(format!("{} {why}", self.shown));
        wait(in_time(self.answer_within, self.client.simple_query(sql), |e| judge(&self.shown, &e), late))
    }

    /// Whether a table has any row.
    fn has_rows(&mut self, table: &TableName) -> StoreResult<bool> {
        let table = self.spelling().table(table);
        Ok(number(&self.query(&format!("select count(*) from (select 1 from {table} limit 1) g"))?) != Some(0))
    }

    /// The table into which rows of a keyed mode come first. It takes every value that lands, so that only the real
    /// table refuses.
    fn make_incoming(&mut self, target: &Target) -> StoreResult<()> {
        if self.has_incoming {
            return Ok(());
        }
        let table = self.spelling().table(&target.table);
        let columns = KeyedStatements { spelling: self.spelling(), target }.columns("");
        let deleted = if target.mode == Mode::Mirror {
            format!(", false as {}", postgres::quote(DELETED))
        } else {
            String::new()
        };
        let hidden = KeyedStatements { spelling: self.spelling(), target }.no_hidden("null::text");
        self.execute(&format!(
            "create temporary table {INCOMING} on commit delete rows as select {columns}{deleted}{hidden} from {table} \
             limit 0"
        ))?;
        self.has_incoming = true;
        Ok(())
    }

    fn load_keyed(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<u64> {
        let spelling = self.spelling();
        let keyed = KeyedStatements { spelling, target };
        let is_mirror = target.mode == Mode::Mirror;
        let deleted = if is_mirror { format!(", {}", postgres::quote(DELETED)) } else { String::new() };
        self.execute(&format!("delete from {INCOMING}"))?;
        let sent = self.copy(INCOMING, &format!("{}{deleted}{}", keyed.columns(""), keyed.hidden()), rows)?;
        if !is_mirror {
            return Ok(sent - self.execute(&keyed.upsert("true"))?);
        }
        fill(self, target, rows)?;
        // Each of these looks at the whole batch, some at the whole table: none without need.
        let was_gone = self.has_rows(&target.gone())?;
        if was_gone {
            self.execute(&keyed.drop_outdated())?;
        }
        let mut gone = 0;
        if has_deletes(rows) {
            // The server takes half of an unknown table to be deletes, and would read the mirror from end to end.
            self.execute(&format!("analyze {INCOMING}"))?;
            self.execute(&keyed.delete())?;
            self.execute(&keyed.drop_outlived())?;
            gone = self.execute(&keyed.note_gone())?;
        }
        let written = self.execute(&keyed.upsert(&format!("not s.{}", postgres::quote(DELETED))))?;
        if was_gone {
            self.execute(&keyed.forget_gone())?;
        }
        Ok(sent.saturating_sub(gone + written))
    }
}

impl Session for PostgresSession {
    fn spelling(&self) -> Spelling {
        Spelling {
            quote: postgres::quote,
            literal: postgres::literal,
            bytes: |bytes| format!("'\\x{}'::bytea", hex(bytes)),
            insert_new: |into, values| format!("insert into {into} values {values} on conflict do nothing"),
            landed_micros: "(extract(epoch from b.landed_at) * 1000000)::bigint",
            by_bytes: |text| format!("{text} collate \"C\""),
        }
    }

    fn hex(&self, column: &str) -> String {
        format!("encode({column}, 'hex')")
    }

    fn book(&self, beside: &TableName) -> Vec<String> {
        let table = |name: &str| beside.beside(name).quoted(&postgres::quote);
        vec![
            format!(
                "create table if not exists {} (id integer generated always as identity primary key, \
                 landing text not null, lane text not null, unique (landing, lane))",
                table(LANES)
            ),
            format!(
                "create table if not exists {} (batch bigint not null, place integer not null, source text not null, \
                 position bigint not null, within bigint not null, column_name text, message text not null, \
                 event bytea not null, primary key (batch, place))",
                table(REFUSED)
            ),
            format!(
                "create table if not exists {} (id bigint primary key, lane integer not null, number bigint not null, \
                 ledger text not null, ranges text not null, landed bigint not null, refused bigint not null, \
                 older bigint not null, landed_at timestamptz not null default now(), unique (lane, number))",
                table(BATCHES)
            ),
        ]
    }

    fn execute(&mut self, sql: &str) -> StoreResult<u64> {
        let answer = self.ask(sql)?;
        let counted = |m: &SimpleQueryMessage| match m {
            SimpleQueryMessage::CommandComplete(rows) => Some(*rows),
            _ => None,
        };
        Ok(answer.iter().rev().find_map(counted).unwrap_or(0))
    }

    fn query(&mut self, sql: &str) -> StoreResult<Vec<AnswerRow>> {
        let answer = self.ask(sql)?;
        let row = |m: SimpleQueryMessage| match m {
            SimpleQueryMessage::Row(row) => Some((0..row.len()).map(|i| row.get(i).map(str::to_string)).collect()),
            _ => None,
        };
        Ok(answer.into_iter().filter_map(row).collect())
    }

    fn describe(&mut self, table: &TableName, rights: &[&str]) -> StoreResult<Found> {
        describe::describe(self, table, rights)
    }

    fn tables(&mut self, beside: &TableName) -> StoreResult<Vec<String>> {
        describe::tables(self, beside)
    }

    fn objections(&self, _: &Target, rows: &RecordBatch) -> Vec<Objection> {
        copy::objections(rows, &self.forms)
    }

    fn prepare(&mut self, target: &Target) -> StoreResult<()> {
        if let Found::Table(table) = self.describe(&target.table, &[])? {
            let bases: HashMap<String, String> = table.columns.into_iter().map(|c| (c.name, c.base)).collect();
            let form = |(name, ty): &(String, _)| copy::form(*ty, bases.get(name).map_or("", String::as_str));
            self.forms = target.columns.iter().map(form).collect();
        }
        if target.mode == Mode::Mirror {
            self.forms.push(CopyForm::Plain);
            let base = |name: &String| name.strip_prefix(WAS).unwrap_or_default().to_string();
            let of_key = |(name, _): &(String, SqlType)| {
                let place = target.columns.iter().position(|(n, _)| *n == base(name));
                place.map_or(CopyForm::Plain, |i| self.forms[i])
            };
            let hidden: Vec<CopyForm> = target.hidden.iter().map(of_key).collect();
            self.forms.extend(hidden);
            let keyed = KeyedStatements { spelling: self.spelling(), target };
            let (gone, key) = (self.spelling().table(&target.gone()), keyed.gone_columns());
            if !matches!(self.describe(&target.gone(), &[])?, Found::Table(_)) {
                let columns: Vec<String> = key.iter().map(|n| postgres::quote(n)).collect();
                let table = self.spelling().table(&target.table);
                let unique: Vec<String> = target.key.iter().map(|n| postgres::quote(n)).collect();
                self.execute(&format!(
                    "begin; create table if not exists {gone} as select {} from {table} limit 0; \
                     create unique index on {gone} ({}); commit",
                    columns.join(", "),
                    unique.join(", ")
                ))?;
            }
        }
        if target.mode.is_keyed() {
            self.make_incoming(target)?;
        }
        Ok(())
    }

    fn load(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<u64> {
        if target.mode.is_keyed() {
            return self.load_keyed(target, rows);
        }
        let columns = KeyedStatements { spelling: self.spelling(), target }.columns("");
        let table = self.spelling().table(&target.table);
        self.copy(&table, &columns, rows)?;
        Ok(0)
    }

    fn load_new(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<bool> {
        if self.has_rows(&target.gone())? {
            return Ok(false);
        }
        let columns: Vec<usize> = (0..target.columns.len()).collect();
        let rows: Result<Vec<RecordBatch>, _> = rows.iter().map(|part| part.project(&columns)).collect();
        let rows = rows.map_err(|e| StoreError::Failed(Failure::internal(e.to_string())))?;
        let keyed = KeyedStatements { spelling: self.spelling(), target };
        let (table, names) = (self.spelling().table(&target.table), keyed.columns(""));
        self.execute("savepoint sluice_new")?;
        match self.copy(&table, &names, &rows) {
            Ok(_) => self.execute("release savepoint sluice_new").map(|_| true),
            // A key is there, or the table refuses a row: the slow way finds which.
            Err(StoreError::Refused { .. }) => self.execute("rollback to savepoint sluice_new").map(|_| false),
            Err(other) => Err(other),
        }
    }

    fn stream(&mut self, sql: &str, take: &mut dyn FnMut(Vec<AnswerRow>) -> bool) -> StoreResult<()> {
        const AT_ONCE: usize = 4_000;
        let said = |e: Error| judge(&self.shown, &e);
        let late = |why: String| StoreError::Away(format!("{} {why}", self.shown));
        wait(async {
            let rows = in_time(self.answer_within, self.client.simple_query_raw(sql), said, late).await?;
            let mut rows = std::pin::pin!(rows);
            let mut part = Vec::with_capacity(AT_ONCE);
            while let Some(message) = in_time(self.answer_within, rows.try_next(), said, late).await? {
                if let SimpleQueryMessage::Row(row) = message {
                    part.push((0..row.len()).map(|i| row.get(i).map(str::to_string)).collect());
                    if part.len() == AT_ONCE && !take(std::mem::take(&mut part)) {
                        return Ok(());
                    }
                }
            }
            if !part.is_empty() {
                take(part);
            }
            Ok(())
        })
    }
}
