//! One session with a MariaDB or MySQL server.

use std::time::Duration;

use arrow_array::RecordBatch;
use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Row, Value};
use sluice_core::failure::{Failure, FailureKind};
use sluice_core::kinds::Settings;
use sluice_core::table::{Found, StoredTable, TableColumn};
use sluice_core::values::number::write_decimal;

use super::dialect::{is_binary, parts};
use crate::databases::mariadb::{connect, judge, literal, quote};
use crate::databases::{Server, StoreError, StoreResult, in_time, wait};
use crate::landings::tables::book::hex;
use crate::landings::tables::cells::{Cell, Cells, write_day, write_moment};
use crate::landings::tables::keyed::{INCOMING, KeyedStatements, fill};
use crate::landings::tables::session::{AnswerRow, BATCHES, LANES, Objection, REFUSED, Session, Spelling, Target};
use crate::landings::tables::shape::{DELETED, Mode, TableName};

/// A statement is about this long. Longer ones gain nothing; servers take 16 MiB by default.
const STATEMENT: usize = 1 << 20;

/// What a session is set to: nothing is cut or guessed without an error, backslashes mean themselves, times are UTC.
const SETTINGS: &[&str] = &[
    "set session sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO,\
     NO_ENGINE_SUBSTITUTION,NO_BACKSLASH_ESCAPES'",
    "set session time_zone = '+00:00'",
    "set names utf8mb4",
    "set session transaction isolation level read committed",
];

pub(super) struct MariadbSession {
    connection: Conn,
    shown: String,
    answer_within: Duration,
    database: String,
    text: String,
    /// Columns of the key in whose collation a text and the same with blanks behind it are one.
    padded: Vec<String>,
    /// For each column of the target whether it holds bytes.
    binary: Vec<bool>,
}

fn late(shown: &str, why: &str) -> StoreError {
    StoreError::Away(format!("{shown} {why}"))
}

impl MariadbSession {
    pub(super) fn begin(settings: &Settings) -> StoreResult<Self> {
        let server = Server::new(settings, 3306).map_err(StoreError::Failed)?;
        let (connection, shown) = (connect(&server)?, server.shown());
        let Server { database, answer_within, .. } = server;
        let (text, padded, binary) = (String::new(), Vec::new(), Vec::new());
        let mut session = Self { connection, shown, answer_within, database, text, padded, binary };
        for setting in SETTINGS {
            session.execute(setting)?;
        }
        Ok(session)
    }

    /// Inserts rows by statements of many rows each.
    fn insert(&mut self, into: &str, rows: &[RecordBatch]) -> StoreResult<u64> {
        let mut text = std::mem::take(&mut self.text);
        let mut done = 0;
        for batch in rows {
            let cells = Cells::all(batch);
            let mut row = 0;
            while row < batch.num_rows() {
                let first = row;
                text.clear();
                text.push_str("insert into ");
                text.push_str(into);
                text.push_str(" values ");
                while row < batch.num_rows() && text.len() < STATEMENT {
                    text.push_str(if row == first { "(" } else { ",(" });
                    for (i, column) in cells.iter().enumerate() {
                        if i > 0 {
                            text.push(',');
                        }
                        match column.at(row) {
                            Cell::Text(bytes) if self.binary.get(i) == Some(&true) => write_bytes(&mut text, bytes),
                            cell => write_cell(&mut text, cell),
                        }
                    }
                    text.push(')');
                    row += 1;
                }
                if let Err(error) = self.execute(&text) {
                    self.text = text;
                    return Err(match error {
                        StoreError::Refused { row: at, column, message } => {
                            StoreError::Refused { row: at.map(|n| done + n), column, message }
                        }
                        other => other,
                    });
                }
                done += row - first;
            }
        }
        self.text = text;
        Ok(done as u64)
    }

    fn load_keyed(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<u64> {
        let keyed = KeyedStatements { spelling: self.spelling(), target };
        let is_mirror = target.mode == Mode::Mirror;
        let (incoming, into) = (quote(INCOMING), target.table.quoted(&quote));
        let gone = target.gone().quoted(&quote);
        let same = |a: &str, b: &str| {
            let each: Vec<String> = target.key.iter().map(|k| format!("{a}.{q} = {b}.{q}", q = quote(k))).collect();
            each.join(" and ")
        };
        let deleted = quote(DELETED);
        let (is_delete, is_live) = match is_mirror {
            true => (format!("s.{deleted}"), format!("not s.{deleted}")),
            false => ("false".into(), "true".into()),
        };
        self.execute(&format!("delete from {incoming}"))?;
        self.insert(&incoming, rows)?;
        fill(self, target, rows)?;
        let mut older = 0;
        if is_mirror {
            older += self.execute(&format!(
                "delete s from {incoming} s join {gone} g on {} where not {}",
                same("g", "s"),
                keyed.may_replace("g", "s")
            ))?;
        }
        // Incoming changes that are older than the row that is there; what stays may be written.
        older += self.execute(&format!(
            "delete s from {incoming} s join {into} t on {} where not {}",
            same("t", "s"),
            keyed.may_replace("t", "s")
        ))?;
        if is_mirror {
            self.execute(&format!("delete t from {into} t join {incoming} s on {} where {is_delete}", same("t", "s")))?;
            let names: Vec<String> = keyed.gone_columns().into_iter().map(quote).collect();
            self.execute(&format!("delete g from {gone} g join {incoming} s on {}", same("g", "s")))?;
            self.execute(&format!(
                "insert into {gone} ({names}) select {of} from {incoming} s where {is_delete}",
                names = names.join(", "),
                of = names.iter().map(|n| format!("s.{n}")).collect::<Vec<_>>().join(", ")
            ))?;
        }
        let set: Vec<String> = target.columns.iter().map(|(n, _)| format!("t.{q} = s.{q}", q = quote(n))).collect();
        let unplaced = |error| match error {
            StoreError::Refused { column, message, .. } => StoreError::Refused { row: None, column, message },
            other => other,
        };
        self.execute(&format!(
            "update {into} t join {incoming} s on {} set {} where {is_live}",
            same("t", "s"),
            set.join(", ")
        ))
        .map_err(unplaced)?;
        let first = quote(target.key.first().map_or("", String::as_str));
        self.execute(&format!(
            "insert into {into} ({names}) select {of} from {incoming} s left join {into} t on {same} \
             where t.{first} is null and {is_live}",
            names = keyed.columns(""),
            of = keyed.columns("s."),
            same = same("t", "s"),
        ))
        .map_err(unplaced)?;
        Ok(older)
    }
}

/// Bytes that come as their digits.
fn write_bytes(out: &mut String, digits: &str) {
    out.push_str("x'");
    out.push_str(digits.strip_prefix("\\x").unwrap_or_default());
    out.push('\'');
}

fn write_cell(out: &mut String, cell: Cell<'_>) {
    use std::fmt::Write as _;
    match cell {
        Cell::Null => out.push_str("null"),
        Cell::Text(text) => {
            out.push('\'');
            match text.contains('\'') {
                true => out.push_str(&text.replace('\'', "''")),
                false => out.push_str(text),
            }
            out.push('\'');
        }
        Cell::Bool(value) => out.push(if value { '1' } else { '0' }),
        Cell::Int(value) => {
            let _ = write!(out, "{value}");
        }
        // The exponent makes it a floating point and not an exact number.
        Cell::Double(value) => {
            let _ = write!(out, "{value:e}");
        }
        Cell::Decimal(value, scale) => write_decimal(out, value, u8::try_from(scale).unwrap_or(0)),
        Cell::Day(days) => {
            out.push('\'');
            write_day(out, days);
            out.push('\'');
        }
        Cell::Moment(micros) => {
            out.push('\'');
            write_moment(out, micros);
            out.push('\'');
        }
    }
}

impl Session for MariadbSession {
    fn spelling(&self) -> Spelling {
        Spelling {
            quote,
            literal,
            bytes: |bytes| format!("x'{}'", hex(bytes)),
            insert_new: |into, values| format!("insert ignore into {into} values {values}"),
            landed_micros: "cast(unix_timestamp(b.landed_at) * 1000000 as signed)",
            by_bytes: |text| format!("cast({text} as binary)"),
        }
    }

    fn book(&self, beside: &TableName) -> Vec<String> {
        let table = |name: &str| beside.beside(name).quoted(&quote);
        let text = "character set utf8mb4 collate utf8mb4_bin";
        vec![
            format!(
                "create table if not exists {} (id integer auto_increment primary key, landing varchar(200) {text} not \
                 null, lane varchar(200) {text} not null, unique key (landing, lane)) engine = InnoDB",
                table(LANES)
            ),
            format!(
                "create table if not exists {} (batch bigint not null, place integer not null, source longtext {text} not \
                 null, position bigint unsigned not null, within bigint unsigned not null, column_name longtext {text}, \
                 message longtext {text} not null, event longblob not null, primary key (batch, place)) engine = InnoDB",
                table(REFUSED)
            ),
            format!(
                "create table if not exists {} (id bigint primary key, lane integer not null, number bigint not null, \
                 ledger varchar(64) {text} not null, ranges longtext {text} not null, landed bigint not null, \
                 refused bigint not null, older bigint not null, landed_at timestamp(6) not null default \
                 current_timestamp(6), unique key (lane, number)) engine = InnoDB",
                table(BATCHES)
            ),
        ]
    }

    fn execute(&mut self, sql: &str) -> StoreResult<u64> {
        let Self { connection, shown, answer_within, .. } = self;
        wait(in_time(*answer_within, connection.query_drop(sql), |e| judge(shown, &e), |why| late(shown, &why)))?;
        Ok(self.connection.affected_rows())
    }

    fn query(&mut self, sql: &str) -> StoreResult<Vec<AnswerRow>> {
        let Self { connection, shown, answer_within, .. } = self;
        let rows: Vec<Row> =
            wait(in_time(*answer_within, connection.query(sql), |e| judge(shown, &e), |why| late(shown, &why)))?;
        Ok(rows.into_iter().map(texts).collect())
    }

    fn describe(&mut self, table: &TableName, rights: &[&str]) -> StoreResult<Found> {
        let schema = literal(table.schema.as_deref().unwrap_or(&self.database));
        let name = literal(&table.name);
        if self.query(&format!("select 1 from information_schema.schemata where schema_name = {schema}"))?.is_empty() {
            return Ok(Found::NoSchema);
        }
        let at = format!("table_schema = {schema} and table_name = {name}");
        let kind = self.query(&format!("select table_type, engine from information_schema.tables where {at}"))?;
        let Some(kind) = kind.into_iter().next() else { return Ok(Found::NoTable) };
        let mut stored = StoredTable::default();
        match (kind.first().cloned().flatten().as_deref(), kind.get(1).cloned().flatten().as_deref()) {
            (Some("VIEW"), _) => stored.not_a_table = Some("a view".into()),
            (_, Some(engine)) if !engine.eq_ignore_ascii_case("InnoDB") => {
                stored.not_a_table = Some(format!("a table of the engine {engine}, which has no transactions"));
            }
            _ => {}
        }
        let sql = format!(
            "select column_name, column_type, is_nullable = 'YES', column_default is not null or extra like \
             '%auto_increment%', extra like '%generated%', collation_name from \
             information_schema.columns where {at} order by ordinal_position"
        );
        for row in self.query(&sql)? {
            let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
            let flag = |i: usize| text(i) == "1";
            stored.columns.push(TableColumn {
                name: text(0),
                ty: text(1),
                base: text(1),
                nullable: flag(2),
                filled: flag(3),
                computed: flag(4),
                collation: row.get(5).cloned().flatten(),
            });
        }
        let sql = format!(
            "select index_name, column_name, sub_part from information_schema.statistics where {at} and non_unique = 0 \
             order by index_name, seq_in_index"
        );
        let mut keys: Vec<(String, Vec<String>, bool)> = Vec::new();
        for row in self.query(&sql)? {
            let text = |i: usize| row.get(i).cloned().flatten();
            let name = text(0).unwrap_or_default();
            if keys.last().is_none_or(|k| k.0 != name) {
                keys.push((name, Vec::new(), true));
            }
            if let Some(key) = keys.last_mut() {
                // An index on the beginning of a column, or on an expression, names no row.
                key.2 &= text(2).is_none() && text(1).is_some();
                key.1.extend(text(1));
            }
        }
        stored.keys = keys.into_iter().filter(|k| k.2).map(|k| k.1).collect();
        stored.denied = self.denied(&schema, &name, rights)?;
        Ok(Found::Table(stored))
    }

    fn tables(&mut self, beside: &TableName) -> StoreResult<Vec<String>> {
        let schema = literal(beside.schema.as_deref().unwrap_or(&self.database));
        let sql = format!("select table_name from information_schema.tables where table_schema = {schema}");
        Ok(self.query(&sql)?.into_iter().flatten().flatten().collect())
    }

    fn objections(&self, _: &Target, rows: &RecordBatch) -> Vec<Objection> {
        let mut found = Vec::new();
        let schema = rows.schema();
        let mut text = String::new();
        for (i, column) in Cells::all(rows).iter().enumerate() {
            let name = schema.field(i).name();
            if matches!(column, Cells::Text(_)) && self.padded.contains(name) {
                let ends_blank = |row: &usize| matches!(column.at(*row), Cell::Text(text) if text.ends_with(' '));
                found.extend((0..rows.num_rows()).filter(ends_blank).map(|row| Objection {
                    row,
                    column: name.clone(),
                    message:
                        "a key that ends in blanks is the same as one without, by the collation of its column".into(),
                }));
            }
            if !matches!(column, Cells::Double(_) | Cells::Day(_) | Cells::Moment(_)) {
                continue;
            }
            for row in 0..rows.num_rows() {
                text.clear();
                let message = match column.at(row) {
                    Cell::Double(value) if !value.is_finite() => "a double of MariaDB is neither infinite nor NaN",
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
        let binary = |name: &str| table.columns.iter().any(|c| c.name == name && is_binary(parts(&c.base).0));
        self.binary = target.columns.iter().map(|(name, _)| binary(name)).collect();
        if !target.mode.is_keyed() {
            return Ok(());
        }
        if let Some(name) = target.key.iter().find(|name| target.mode == Mode::Mirror && binary(name)) {
            let message = format!("`{name}` is part of the key of a mirror, and its column holds bytes");
            let help = "make it a column of text: the key lands in it as \\x and hexadecimal digits";
            return Err(StoreError::Failed(Failure::new(FailureKind::Configuration, message).with_help(help)));
        }
        let pads = |collation: &String| !collation.contains("nopad") && collation != "binary";
        let key = table.columns.iter().filter(|c| target.key.contains(&c.name));
        self.padded = key.filter(|c| c.collation.as_ref().is_some_and(pads)).map(|c| c.name.clone()).collect();
        let keyed = KeyedStatements { spelling: self.spelling(), target };
        let of = target.table.quoted(&quote);
        if target.mode == Mode::Mirror && !matches!(self.describe(&target.gone(), &[])?, Found::Table(_)) {
            let columns: Vec<String> = keyed.gone_columns().into_iter().map(quote).collect();
            let key: Vec<String> = target.key.iter().map(|k| quote(k)).collect();
            let gone = target.gone().quoted(&quote);
            self.execute(&format!(
                "create table if not exists {gone} (primary key ({})) engine = InnoDB as select {} from {of} limit 0",
                key.join(", "),
                columns.join(", ")
            ))?;
        }
        let deleted =
            if target.mode == Mode::Mirror { format!(", false as {}", quote(DELETED)) } else { String::new() };
        let key: Vec<String> = target.key.iter().map(|k| quote(k)).collect();
        self.execute(&format!(
            "create temporary table if not exists {} (key ({})) engine = InnoDB as select {}{deleted}{} from {of} limit 0",
            quote(INCOMING),
            key.join(", "),
            keyed.columns(""),
            keyed.no_hidden("cast('' as char(2000))")
        ))?;
        // Of a delete only the key need be there.
        let sql = format!("show columns from {}", quote(INCOMING));
        for row in self.query(&sql)? {
            let text = |i: usize| row.get(i).cloned().flatten().unwrap_or_default();
            if text(2) == "NO" {
                self.execute(&format!(
                    "alter table {} modify column {} {} null",
                    quote(INCOMING),
                    quote(&text(0)),
                    text(1)
                ))?;
            }
        }
        Ok(())
    }

    fn load(&mut self, target: &Target, rows: &[RecordBatch]) -> StoreResult<u64> {
        if target.mode.is_keyed() {
            return self.load_keyed(target, rows);
        }
        let columns = KeyedStatements { spelling: self.spelling(), target }.columns("");
        self.insert(&format!("{} ({columns})", target.table.quoted(&quote)), rows)?;
        Ok(0)
    }

    fn stream(&mut self, sql: &str, take: &mut dyn FnMut(Vec<AnswerRow>) -> bool) -> StoreResult<()> {
        const AT_ONCE: usize = 4_000;
        let Self { connection, shown, answer_within, .. } = self;
        let said = |e: mysql_async::Error| judge(shown, &e);
        let late = |why: String| late(shown, &why);
        wait(async {
            let mut rows = in_time(*answer_within, connection.query_iter(sql), said, late).await?;
            let mut part = Vec::new();
            while let Some(row) = in_time(*answer_within, rows.next(), said, late).await? {
                part.push(texts(row));
                if part.len() == AT_ONCE && !take(std::mem::take(&mut part)) {
                    return Ok(());
                }
            }
            if !part.is_empty() {
                take(part);
            }
            Ok(())
        })
    }
}

impl MariadbSession {
    /// Which rights on a table we lack. Rights that come by a role are not seen, so that nothing is said then.
    fn denied(&mut self, schema: &str, name: &str, rights: &[&str]) -> StoreResult<Vec<String>> {
        if rights.is_empty() {
            return Ok(Vec::new());
        }
        let user = "concat('''', replace(current_user(), '@', '''@'''), '''')";
        let sql = format!(
            "select privilege_type from information_schema.user_privileges where grantee = {user}
             union select privilege_type from information_schema.schema_privileges where grantee = {user} and {schema} like table_schema
             union select privilege_type from information_schema.table_privileges where grantee = {user} and table_schema = {schema} and table_name = {name}
             union select privilege_type from information_schema.column_privileges where grantee = {user} and table_schema = {schema} and table_name = {name}"
        );
        let granted: Vec<String> = self.query(&sql)?.into_iter().flatten().flatten().collect();
        let by_role = self
            .query("select current_role()")
            .is_ok_and(|r| r.iter().flatten().any(|v| v.as_deref().is_some_and(|role| role != "NONE")));
        if by_role {
            return Ok(Vec::new());
        }
        let lacks = |right: &&&str| !granted.iter().any(|h| h.eq_ignore_ascii_case(right));
        Ok(rights.iter().filter(lacks).map(|r| (*r).to_string()).collect())
    }
}

fn texts(row: Row) -> AnswerRow {
    let text = |value: Value| match value {
        Value::NULL => None,
        Value::Bytes(bytes) => Some(String::from_utf8_lossy(&bytes).into_owned()),
        Value::Int(number) => Some(number.to_string()),
        Value::UInt(number) => Some(number.to_string()),
        Value::Float(number) => Some(number.to_string()),
        Value::Double(number) => Some(number.to_string()),
        other => Some(other.as_sql(true).trim_matches('\'').to_string()),
    };
    row.unwrap().into_iter().map(text).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_spelled_so_that_they_stay_what_they_are() {
        let mut out = String::new();
        for cell in [
            Cell::Text("it's a \\ slash"),
            Cell::Double(0.1),
            Cell::Decimal(-5, 2),
            Cell::Bool(true),
            Cell::Null,
            Cell::Moment(8),
        ] {
            write_cell(&mut out, cell);
            out.push(' ');
        }
        assert_eq!(out, "'it''s a \\ slash' 1e-1 -0.05 1 null '1970-01-01 00:00:00.000008' ");
    }
}
