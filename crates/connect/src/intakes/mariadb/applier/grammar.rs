//! The grammar of the log: groups of events, what begins and ends them, and what each kind of event means within one. What
//! is not known and could change rows stops the run.

use std::collections::HashSet;

use sluice_core::event::Position;

use super::super::query::Query;
use super::super::stream::LogEvent;
use super::super::transaction::{Group, OpenTransaction};
use super::super::{rows, statement, table_map};
use super::{AppliedLog, LogApplier, TouchedTables, file_name, file_number};
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::order::Order;

pub(super) const QUERY: u8 = 2;
const ROTATE: u8 = 4;
pub(super) const XID: u8 = 16;
const TABLE_MAP: u8 = 19;
const INCIDENT: u8 = 26;
const HEARTBEAT: u8 = 27;
const XA_PREPARE: u8 = 38;
const GTID: u8 = 162;

/// Events that say nothing of rows: the ends of files, their formats, values and lists for servers, annotations, heartbeats
/// of another form.
const SILENT: &[u8] = &[3, 5, 13, 14, 15, 28, 29, 35, 41, 160, 161, 163, 164];

/// Events that load a file by a statement.
const FILES: &[u8] = &[6, 7, 8, 9, 10, 11, 12, 17, 18];

/// Why a run stops at a transaction that was rolled back.
const LANDED: &str = "a transaction was rolled back after a part of it was read: it is too large to keep until its end";

impl LogApplier {
    /// Applies an event. Up to `handed` changes have been handed on.
    ///
    /// # Errors
    /// Where it cannot be read, in words.
    pub(in crate::intakes::mariadb) fn apply(
        &mut self,
        order: &mut Order,
        event: &LogEvent,
        handed: Position,
    ) -> Result<AppliedLog, String> {
        let broken = || "an event in the log is incomplete".to_string();
        match event.kind {
            ROTATE => {
                let name = event.body.get(8..).map(file_name).ok_or_else(broken)?;
                let at = event.body.first_chunk::<8>().map(|b| u64::from_le_bytes(*b)).ok_or_else(broken)?;
                self.file = file_number(&name);
                self.see(order, self.here(at));
            }
            HEARTBEAT => self.see(order, self.here(event.end)),
            GTID => {
                let open = OpenTransaction::begin(event, self.here(event.start)).ok_or_else(broken)?;
                self.open(order, open);
            }
            QUERY => return self.query(order, event, handed).ok_or_else(broken),
            XID => self.commit(order, event.end),
            XA_PREPARE => return self.prepared(order, event).ok_or_else(broken),
            // Its rows are read once it is committed.
            _ if self.is_preparing() => {}
            _ => return self.table_map(order, event),
        }
        Ok(AppliedLog::Nothing)
    }

    /// Applies an event of a distributed transaction that is committed; whether it was the last.
    ///
    /// # Errors
    /// Where it cannot be read, in words.
    pub(in crate::intakes::mariadb) fn apply_prepared(
        &mut self,
        order: &mut Order,
        event: &LogEvent,
        handed: Position,
    ) -> Result<(AppliedLog, bool), String> {
        match event.kind {
            XA_PREPARE => return Ok((AppliedLog::Nothing, true)),
            ROTATE | GTID | HEARTBEAT => {}
            QUERY => {
                let said = Query::read(&event.body).ok_or("an event in the log is incomplete")?;
                if let Some(applied) = self.savepoint(order, &said, handed) {
                    return Ok((applied, false));
                }
            }
            _ => return self.table_map(order, event).map(|applied| (applied, false)),
        }
        Ok((AppliedLog::Nothing, false))
    }

    /// An event that tells of rows, or nothing.
    fn table_map(&mut self, order: &mut Order, event: &LogEvent) -> Result<AppliedLog, String> {
        match event.kind {
            TABLE_MAP => {
                let map = table_map::read(&event.body).ok_or("a table event in the log is incomplete")?;
                return self.bind(map);
            }
            INCIDENT => return Ok(AppliedLog::Lost("the server lost events of its log".into())),
            165..=171 => return Err("compressed events are not read: set global log_bin_compress = off".into()),
            39 => return Err("parts of JSON are not read: set global binlog_row_value_options = ''".into()),
            40 => {
                return Err(
                    "compressed transactions are not read: set global binlog_transaction_compression = off".into()
                );
            }
            kind if FILES.contains(&kind) => {
                return Ok(AppliedLog::Lost(
                    "rows were loaded from a file by a statement, and the log does not hold them".into(),
                ));
            }
            kind if SILENT.contains(&kind) || event.is_ignorable => {}
            33 | 34 => {
                let open = OpenTransaction::new(Group::Rows, event, self.here(event.start));
                self.open(order, open);
            }
            other => match rows::kind(other) {
                Some((kind, second)) => self.rows(order, kind, second, &event.body)?,
                None => return Err(format!("the log has an event of an unknown kind: {other}")),
            },
        }
        Ok(AppliedLog::Nothing)
    }

    fn see(&self, order: &mut Order, at: u64) {
        if self.open.is_none() {
            order.see(at);
        }
    }

    fn is_preparing(&self) -> bool {
        self.open.as_ref().is_some_and(|open| matches!(open.group, Group::Prepared(_)))
    }

    /// Ends the open group, at a place of the file.
    pub(in crate::intakes::mariadb) fn commit(&mut self, order: &mut Order, end: u64) {
        let end = self.here(end);
        if let Some(open) = self.open.take() {
            order.time = Some(open.time);
            // What comes once more stands before transactions that have been noted.
            if let Some((domain, server, number)) = open.gtid.filter(|_| !order.is_repeated()) {
                self.gtids.note(domain, server, number);
            }
        }
        for (_, table, key) in self.unended.drain(..) {
            if let Some(recent) = self.recent.get_mut(&table) {
                let changed = self.changed.entry(table).or_default();
                // Of a table that was emptied nothing can be said.
                *changed = changed.saturating_add(if key.is_some() { 1 } else { u64::MAX });
                recent.push((end, key));
            }
        }
        self.maps.clear();
        order.end();
        order.see(end);
    }

    /// A distributed transaction is prepared.
    fn prepared(&mut self, order: &mut Order, event: &LogEvent) -> Option<AppliedLog> {
        let is_whole = *event.body.first()? != 0;
        let Some(open) = &self.open else { return Some(AppliedLog::Nothing) };
        let applied = match &open.group {
            Group::Prepared(name) if !is_whole => AppliedLog::Prepared(name.clone(), open.start),
            _ => AppliedLog::Lost(
                "a distributed transaction was prepared and committed in a form that is not known".into(),
            ),
        };
        if !matches!(applied, AppliedLog::Lost(_)) {
            self.commit(order, event.end);
        }
        Some(applied)
    }

    /// A statement: the end of a transaction, a savepoint, or one that changes tables. None where it is broken off.
    fn query(&mut self, order: &mut Order, event: &LogEvent, handed: Position) -> Option<AppliedLog> {
        let said = Query::read(&event.body)?;
        let word = said.text.trim().to_ascii_uppercase();
        if word == "BEGIN" {
            let open = OpenTransaction::new(Group::Rows, event, self.here(event.start));
            // A server of another family tells its numbers first.
            self.open(order, open);
            return Some(AppliedLog::Nothing);
        }
        if self.is_preparing() {
            return Some(AppliedLog::Nothing);
        }
        if word == "COMMIT" {
            self.commit(order, event.end);
            return Some(AppliedLog::Nothing);
        }
        if word == "ROLLBACK" {
            if !self.roll_back(order, 0, handed, true) {
                return Some(AppliedLog::Lost(LANDED.into()));
            }
            self.commit(order, event.end);
            return Some(AppliedLog::Nothing);
        }
        if let Some(applied) = self.savepoint(order, &said, handed) {
            return Some(applied);
        }
        if word.starts_with("XA ") {
            return Some(self.distributed(order, &word, event.end));
        }
        let open = OpenTransaction::new(Group::Single, event, self.here(event.start));
        let is_single = self.open(order, open).group == Group::Single;
        let applied = self.statement(order, said);
        // A place where the run stops is not passed: the next run stops there again.
        if is_single && !matches!(applied, AppliedLog::Lost(_)) {
            self.commit(order, event.end);
        }
        Some(applied)
    }

    /// A savepoint is set, or gone back to; None for another statement.
    fn savepoint(&mut self, order: &mut Order, said: &Query, handed: Position) -> Option<AppliedLog> {
        let (is_back, name) = statement::savepoint(&said.text, said.modes)?;
        let open = self.open.as_mut()?;
        if !is_back {
            open.set(name, order.next);
            return Some(AppliedLog::Nothing);
        }
        let Some(to) = open.back_to(&name) else {
            return Some(AppliedLog::Lost(format!("a transaction rolled back to an unknown savepoint: {name}")));
        };
        match self.roll_back(order, to, handed, true) {
            true => Some(AppliedLog::Nothing),
            false => Some(AppliedLog::Lost(LANDED.into())),
        }
    }

    /// A distributed transaction is ended.
    fn distributed(&mut self, order: &mut Order, word: &str, end: u64) -> AppliedLog {
        let name = self.open.as_ref().and_then(|open| open.ends.clone());
        match name {
            Some(name) if word.starts_with("XA COMMIT") => AppliedLog::Committed(name, end),
            Some(name) if word.starts_with("XA ROLLBACK") => {
                self.commit(order, end);
                AppliedLog::Forgotten(name)
            }
            _ if word.starts_with("XA END") || word.starts_with("XA START") => AppliedLog::Nothing,
            _ => AppliedLog::Lost(format!("the log has a distributed transaction in an unknown form: {word}")),
        }
    }

    /// A statement that may change tables.
    fn statement(&mut self, order: &mut Order, said: Query) -> AppliedLog {
        let does = statement::read(&said.text, &said.database, said.modes);
        let databases: HashSet<&str> = self.tables.iter().filter_map(|t| t.name.split('.').next()).collect();
        if does.touches.iter().any(|name| databases.contains(name.as_str())) {
            return AppliedLog::Lost(format!(
                "rows were changed by a statement, and the log holds the statement without the rows: {}",
                said.text
            ));
        }
        let gone = |t: &FeedTable| does.databases.iter().any(|d| t.name.split_once('.').is_some_and(|(of, _)| of == d));
        let with_database: Vec<String> = self.tables.iter().filter(|t| gone(t)).map(|t| t.name.to_string()).collect();
        let numbers = |names: &[String]| -> Vec<u32> {
            let number = |name: &String| self.tables.iter().position(|t| *t.name == **name);
            names.iter().filter_map(number).filter_map(|n| u32::try_from(n).ok()).collect()
        };
        let emptied = numbers(&does.emptied);
        let mut lost = numbers(&does.lost);
        lost.extend(numbers(&with_database));
        // A table that is dropped and followed is empty until it is recreated.
        let mut dropped = numbers(&does.dropped);
        dropped.extend(numbers(&with_database));
        dropped.retain(|n| self.follows.contains(n));
        let mut replaced = numbers(&does.replaced);
        replaced.sort_unstable();
        replaced.dedup();
        let keyed = numbers(&does.keyed);
        // Rows that are read again take the place of all that were there.
        let all: Vec<u32> = emptied.into_iter().chain(dropped).chain(replaced.iter().copied()).collect();
        all.into_iter().for_each(|table| self.truncate(order, table));
        AppliedLog::Statement(said.text, TouchedTables { lost, replaced, keyed })
    }
}
