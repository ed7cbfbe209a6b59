//! One session with a ClickHouse server: requests over HTTP.

use std::time::Duration;

use arrow_array::RecordBatch;
use reqwest::{Client, Response, StatusCode};
use sluice_core::failure::{Failure, FailureKind};
use sluice_core::kinds::Settings;
use sluice_core::table::{Found, StoredTable, TableColumn};
use sluice_core::units::show_size;

use super::binary::{self, BinaryForm};
use super::dialect::{literal, quote};
use crate::databases::{Server, StoreError, StoreResult, http_client, in_time, wait};
use crate::landings::tables::book::hex;
use crate::landings::tables::keyed::KeyedStatements;
use crate::landings::tables::session::{
    AnswerRow, BATCHES, LANES, Objection, REFUSED, Session, Spelling, Target, number,
};
use crate::landings::tables::shape::{BATCH, TableName};

/// A batch is one block, so that it becomes one part of each partition.
const BLOCK: &str = "1000000000";

pub(super) struct ClickhouseSession {
    client: Client,
    server: Server,
    url: String,
    forms: Vec<(BinaryForm, bool)>,
}

/// Bytes of an error's text that are read.
const LONGEST_ERROR: usize = 64 << 10;

/// Bytes of one row of an answer.
const LONGEST_LINE: usize = 256 << 20;

impl ClickhouseSession {
    pub(super) fn begin(settings: &Settings) -> StoreResult<Self> {
        let server = Server::new(settings, 8123).map_err(StoreError::Failed)?;
        let client = http_client(&server).map_err(StoreError::Failed)?;
        let scheme = if server.tls { "https" } else { "http" };
        let host = if server.host.contains(':') { format!("[{}]", server.host) } else { server.host.clone() };
        let url = format!("{scheme}://{host}:{}/", server.port);
        let mut session = Self { client, url, server, forms: Vec::new() };
        session.query("select 1")?;
        Ok(session)
    }

    fn ask(&self, sql: &str, id: Option<&str>, body: Option<Vec<u8>>) -> StoreResult<Response> {
        let shown = self.server.shown();
        let mut query = vec![("database", self.server.database.as_str())];
        if body.is_some() {
            query.extend([("query", sql), ("max_insert_block_size", BLOCK)]);
        }
        if let Some(id) = id {
            query.push(("query_id", id));
        }
        let pairs: Vec<String> = query.iter().map(|(k, v)| format!("{k}={}", percent(v))).collect();
        let mut request = self.client.post(format!("{}?{}", self.url, pairs.join("&")));
        if let Some(user) = &self.server.user {
            request = request.header("X-ClickHouse-User", user);
        }
        if let Some(password) = &self.server.password {
            request = request.header("X-ClickHouse-Key", password);
        }
        let request = request.body(body.unwrap_or_else(|| sql.as_bytes().to_vec()));
        let within = self.server.answer_within;
        let late = |why: String| StoreError::Away(format!("{shown} {why}"));
        wait(async {
            let mut answer = in_time(within, request.send(), |e| away(&shown, &e), late).await?;
            if answer.status() == StatusCode::OK {
                return Ok(answer);
            }
            if answer.status().is_redirection() {
                let to = answer
                    .headers()
                    .get("location")
                    .map_or("another place".into(), |l| String::from_utf8_lossy(l.as_bytes()).into_owned());
                let failure = Failure::new(FailureKind::Unreachable, format!("{shown} redirects to {to}"));
                let help = "redirects are not followed; write the server's own address in [connection]";
                return Err(StoreError::Failed(failure.with_help(help)));
            }
            let mut said = Vec::new();
            while said.len() < LONGEST_ERROR
                && let Some(part) = in_time(within, answer.chunk(), |e| away(&shown, &e), late).await?
            {
                said.extend_from_slice(&part);
            }
            said.truncate(LONGEST_ERROR);
            Err(judge(&shown, &String::from_utf8_lossy(&said)))
        })
    }

    /// Waits until no insert of an earlier try is at work any more.
    fn end_earlier(&mut self, id: &str) -> StoreResult<()> {
        for _ in 0..300 {
            let sql = format!("select count() from system.processes where query_id = {}", literal(id));
            if number(&self.query(&sql)?) == Some(0) {
                return Ok(());
            }
            let _ = self.execute(&format!("kill query where query_id = {}", literal(id)));
            std::thread::sleep(Duration::from_millis(100));
        }
        Err(StoreError::Away(format!("{} still works on an earlier try", self.server.shown())))
    }

    fn schema<'t>(&'t self, table: &'t TableName) -> &'t str {
        table.schema.as_deref().unwrap_or(&self.server.database)
    }
}

/// The name of a batch's insert.
fn insert_id(target: &Target, batch: i64) -> String {
    format!("sluice-{}-{batch}", target.table.name)
}

/// A value within a URL.
fn percent(text: &str) -> String {
    use std::fmt::Write as _;
    let mut out = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' | b'~' => out.push(char::from(byte)),
            _ => {
                let _ = write!(out, "%{byte:02X}");
            }
        }
    }
    out
}

impl Session for ClickhouseSession {
    fn spelling(&self) -> Spelling {
        Spelling {
            quote,
            literal,
            bytes: |bytes| format!("unhex('{}')", hex(bytes)),
            insert_new: |into, values| format!("insert into {into} values {values}"),
            landed_micros: "toInt64(landed_at) * 1000000",
            by_bytes: str::to_string,
        }
    }

    fn book(&self, beside: &TableName) -> Vec<String> {
        let table = |name: &str| beside.beside(name).quoted(&quote);
        vec![
            format!(
                "create table if not exists {} (id Int64, landing String, lane String) engine = MergeTree order by id",
                table(LANES)
            ),
            format!(
                "create table if not exists {} (batch Int64, place Int32, source String, position UInt64, within UInt64, \
                 column_name Nullable(String), message String, event String) engine = MergeTree order by (batch, place)",
                table(REFUSED)
            ),
            format!(
                "create table if not exists {} (id Int64, lane Int64, number Int64, ledger String, ranges String, \
                 landed Int64, refused Int64, older Int64, landed_at DateTime default now()) engine = MergeTree order by id",
                table(BATCHES)
            ),
        ]
    }

    fn lane(&mut self, beside: &TableName, landing: &str, lane: &str) -> StoreResult<i64> {
        // There is nothing that counts; a digest of the name is the same for ever.
        use sha2::{Digest as _, Sha256};
        let digest = Sha256::digest(format!("{landing}\n{lane}"));
        let id = i64::from(u32::from_be_bytes([0, digest[0], digest[1], digest[2]]) >> 2);
        let table = beside.beside(LANES).quoted(&quote);
        let known = self.query(&format!("select landing, lane from {table} where id = {id} limit 1"))?;
        match known.first() {
            None => {
                let values = format!("({id}, {}, {})", literal(landing), literal(lane));
                self.execute(&format!("insert into {table} (id, landing, lane) values {values}"))?;
            }
            Some(row) if row.iter().flatten().map(String::as_str).eq([landing, lane]) => {}
            Some(_) => {
                return Err(StoreError::Failed(
                    Failure::findings(format!(
                        "the landing {landing} has by accident the number of another one in {}",
                        self.server.shown()
                    ))
                    .with_help("give the landing or its event another name"),
                ));
            }
        }
        Ok(id)
    }

    fn hex(&self, column: &str) -> String {
        format!("lower(hex({column}))")
    }

    fn execute(&mut self, sql: &str) -> StoreResult<u64> {
        match sql {
            "begin" | "commit" | "rollback" => Ok(0),
            sql => self.ask(sql, None, None).map(|_| 1),
        }
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
        let (database, name) = (literal(self.schema(table)), literal(&table.name));
        if self.query(&format!("select 1 from system.databases where name = {database}"))?.is_empty() {
            return Ok(Found::NoSchema);
        }
        let engine =
            self.query(&format!("select engine from system.tables where database = {database} and name = {name}"))?;
        let Some(engine) = engine.into_iter().flatten().flatten().next() else { return Ok(Found::NoTable) };
        let mut stored = StoredTable::default();
        if engine.ends_with("View") {
            stored.not_a_table = Some("a view".into());
        }
        let sql = format!(
            "select name, type, default_kind from system.columns where database = {database} and table = {name}"
        );
        for row in self.query(&sql)? {
            let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
            stored.columns.push(TableColumn {
                nullable: text(1).starts_with("Nullable("),
                name: text(0),
                ty: text(1),
                base: text(1),
                // A column without a default gets the zero of its type.
                filled: true,
                computed: matches!(text(2).as_str(), "MATERIALIZED" | "ALIAS"),
                collation: None,
            });
        }
        Ok(Found::Table(stored))
    }

    fn tables(&mut self, beside: &TableName) -> StoreResult<Vec<String>> {
        let sql = format!("select name from system.tables where database = {}", literal(self.schema(beside)));
        Ok(self.query(&sql)?.into_iter().flatten().flatten().collect())
    }

    fn objections(&self, _: &Target, rows: &RecordBatch) -> Vec<Objection> {
        binary::objections(rows, &self.forms)
    }

    fn prepare(&mut self, target: &Target) -> StoreResult<()> {
        if let Found::Table(table) = self.describe(&target.table, &[])? {
            let form = |(name, _): &(String, _)| {
                let column = table.columns.iter().find(|c| c.name == *name);
                binary::form(column.map_or("", |c| c.base.as_str()))
            };
            self.forms = target.columns.iter().map(form).collect();
        }
        Ok(())
    }

    fn load(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<u64> {
        if rows.iter().all(|r| r.num_rows() == 0) {
            return Ok(0);
        }
        let mut body = Vec::new();
        rows.iter().for_each(|part| binary::write(&mut body, part, &self.forms));
        let columns = KeyedStatements { spelling: self.spelling(), target }.columns("");
        let sql = format!("insert into {} ({columns}) format RowBinary", target.table.quoted(&quote));
        let batch = rows.first().and_then(|r| {
            use arrow_array::cast::AsArray as _;
            let column = r.column_by_name(BATCH)?.as_primitive_opt::<arrow_array::types::Int64Type>()?;
            Some(insert_id(target, column.value(0)))
        });
        self.ask(&sql, batch.as_deref(), Some(body))?;
        Ok(0)
    }

    fn has_transactions(&self) -> bool {
        false
    }

    fn remove_batch(&mut self, target: &Target, batch: i64) -> StoreResult<()> {
        let (table, column) = (target.table.quoted(&quote), quote(BATCH));
        self.end_earlier(&insert_id(target, batch))?;
        let count = format!("select count() from {table} where {column} = {batch}");
        if number(&self.query(&count)?) == Some(0) {
            return Ok(());
        }
        self.execute(&format!("alter table {table} delete where {column} = {batch}"))?;
        // A deletion is worked off later.
        for _ in 0..600 {
            if number(&self.query(&count)?) == Some(0) {
                return Ok(());
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        Err(StoreError::Away(format!("{} has not yet removed rows of an earlier try", self.server.shown())))
    }

    fn stream(&mut self, sql: &str, take: &mut dyn FnMut(Vec<AnswerRow>) -> bool) -> StoreResult<()> {
        let shown = self.server.shown();
        let mut answer = self.ask(&format!("{sql} format TabSeparated"), None, None)?;
        let mut rest: Vec<u8> = Vec::new();
        let late = |why: String| StoreError::Away(format!("{shown} {why}"));
        let within = self.server.answer_within;
        while let Some(part) = wait(in_time(within, answer.chunk(), |e| away(&shown, &e), late))? {
            rest.extend_from_slice(&part);
            if rest.len() > LONGEST_LINE {
                let message = format!("{shown} sends a row of more than {}", show_size(LONGEST_LINE as u64));
                return Err(StoreError::Failed(Failure::unreachable(message)));
            }
            let Some(end) = memchr::memrchr(b'\n', &rest) else { continue };
            let rows: Vec<AnswerRow> = rest[..end].split(|b| *b == b'\n').map(row).collect();
            rest.drain(..=end);
            if !take(rows) {
                return Ok(());
            }
        }
        Ok(())
    }
}

/// One line of tab-separated values; `\N` is null.
fn row(line: &[u8]) -> AnswerRow {
    let value = |text: &[u8]| {
        if text == b"\\N" {
            return None;
        }
        let mut out = Vec::with_capacity(text.len());
        let mut bytes = text.iter();
        while let Some(byte) = bytes.next() {
            match byte {
                b'\\' => out.push(match bytes.next() {
                    Some(b'n') => b'\n',
                    Some(b't') => b'\t',
                    Some(b'r') => b'\r',
                    Some(b'0') => 0,
                    Some(b'b') => 8,
                    Some(b'f') => 12,
                    Some(other) => *other,
                    None => b'\\',
                }),
                other => out.push(*other),
            }
        }
        Some(String::from_utf8_lossy(&out).into_owned())
    };
    line.split(|b| *b == b'\t').map(value).collect()
}

fn away(shown: &str, error: &reqwest::Error) -> StoreError {
    let mut message = error.to_string();
    let mut cause = std::error::Error::source(error);
    while let Some(inner) = cause {
        message = inner.to_string();
        cause = inner.source();
    }
    StoreError::Away(format!("{shown} does not answer: {message}"))
}

/// What an error means, by the number that stands in its text.
fn judge(shown: &str, said: &str) -> StoreError {
    let code: u32 = said
        .strip_prefix("Code: ")
        .and_then(|rest| rest.split(|c: char| !c.is_ascii_digit()).next())
        .and_then(|n| n.parse().ok())
        .unwrap_or(0);
    let message = said.split("DB::Exception: ").nth(1).unwrap_or(said);
    let message = message.split(", e.what()").next().unwrap_or(message).trim().to_string();
    match code {
        // Unknown column, table or database; a type that is not as it was.
        10 | 16 | 47 | 53 | 60 | 81 => StoreError::Changed(message),
        192 | 193 | 194 | 497 => StoreError::Failed(
            Failure::new(FailureKind::Unreachable, format!("{shown} rejected the login: {message}"))
                .with_help("look at user and password of the [connection] in sluice.toml"),
        ),
        // Too many parts, queries or bytes; a query that was ended.
        159 | 202 | 209 | 210 | 241 | 252 | 394 => StoreError::Away(format!("{shown} does not take it now: {message}")),
        469 | 321 | 349 => StoreError::Refused { row: None, column: None, message },
        _ => StoreError::Failed(Failure::unreachable(format!("{shown}: {message} ({code})"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_taken_apart() {
        assert_eq!(row(b"a\\tb\t\\N\t\\\\\t"), [Some("a\tb".into()), None, Some("\\".into()), Some(String::new())]);
    }

    #[test]
    fn errors_have_numbers() {
        let said = "Code: 60, e.displayText() = DB::Exception: Table tarrow.x doesn't exist., e.what() = DB::Exception";
        assert!(matches!(judge("s", said), StoreError::Changed(m) if m == "Table tarrow.x doesn't exist."));
    }
}
