//! Turns events of the row log into changes with positions.
//!
//! The position of a change is where its transaction begins in the log, the file's number before the place in the file, and
//! its place among the rows of the transaction that are of tables which are read.

use std::collections::{HashMap, HashSet};

use sluice_core::change::ChangeKind;
use sluice_core::event::Position;

use super::gtid::{self, Gtids};
use super::rows::{self, Image, Kind, Rows};
use super::statement;
use super::stream::LogEvent;
use super::table_map::{self, TableMap};
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::gather::{Gather, Told};
use crate::intakes::feed::json::{Object, Spelling, member_name};
use crate::intakes::feed::rows::add_key;

const QUERY: u8 = 2;
const ROTATE: u8 = 4;
const XID: u8 = 16;
const TABLE_MAP: u8 = 19;
const HEARTBEAT: u8 = 27;
const GTID: u8 = 162;

/// In how many bits the place within a file stands.
const PLACE: u32 = 40;

/// A place in the log as one number: the file's, then the place therein.
pub(super) fn place(file: &str, at: u64) -> u64 {
    file_place(file_number(file), at)
}

/// The same by the number of the file.
pub(super) fn file_place(file: u64, at: u64) -> u64 {
    file << PLACE | at
}

/// The number in the name of a file of the log.
pub(super) fn file_number(file: &str) -> u64 {
    file.rsplit('.').next().and_then(|n| n.parse().ok()).unwrap_or(0)
}

/// The name in an event that tells of the next file. One that stands in no file itself may come with its checksum behind
/// the name, which ends after the first point and six digits.
fn file_name(bytes: &[u8]) -> String {
    let mut dots = bytes.iter().enumerate().filter(|(_, b)| **b == b'.').map(|(i, _)| i);
    let ends = |dot: &usize| bytes.get(dot + 1..dot + 7).is_some_and(|d| d.iter().all(u8::is_ascii_digit));
    let end = dots.find(ends).map_or(bytes.len(), |dot| dot + 7);
    String::from_utf8_lossy(&bytes[..end]).into_owned()
}

/// File number and place within the file.
pub(super) fn parts(at: u64) -> (u64, u64) {
    (at >> PLACE, at & ((1 << PLACE) - 1))
}

/// What is known of a table's columns beside what the log tells.
#[derive(Clone, Debug, Default)]
pub(super) struct Known {
    /// The names in their order, for a log that does not tell them.
    pub names: Vec<String>,
    /// How each is spelled, by name.
    pub spelling: HashMap<String, Spelling>,
}

struct Bound {
    map: TableMap,
    table: Option<u32>,
    /// Each column's name as a member, how it is spelled, and whether it is read.
    members: Vec<(Vec<u8>, Spelling, bool)>,
    /// Members that the contract reads and the table does not have at this place of the log.
    missing: Vec<Vec<u8>>,
    key: Vec<usize>,
}

struct Open {
    start: u64,
    time: i64,
    next: u64,
    /// Domain, server and number of the transaction, where it has them.
    gtid: Option<(u32, u32, u64)>,
}

/// What an event brought beside changes.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Applied {
    Nothing,
    /// A table that is read is told, with its columns and their types.
    Table(u32, Vec<String>),
    /// A statement took the names of tables that are read away, by their numbers: the text.
    Statement(String, Vec<u32>),
}

/// A change while a table is loaded: where its transaction ended, and the key; None for all keys.
pub(super) type Recent = (u64, Option<Vec<u8>>);

pub(super) struct Applier {
    tables: Vec<FeedTable>,
    known: Vec<Known>,
    maps: HashMap<u64, Bound>,
    pub gather: Gather,
    open: Option<Open>,
    from: Position,
    pub at: Position,
    /// The number of the file that is being read.
    file: u64,
    /// To where the log has been seen.
    pub seen: u64,
    pub time: Option<i64>,
    /// The transactions that were read whole.
    pub gtids: Gtids,
    pub recent: HashMap<u32, Vec<Recent>>,
    /// Tables whose changes of form are followed.
    pub follows: HashSet<u32>,
    /// By table without a key, the place in the log at which it was read: changes before it are in its rows.
    pub read_at: HashMap<u32, u64>,
    /// Changes of the open transaction, whose end is not known yet.
    unended: Vec<(u32, Option<Vec<u8>>)>,
}

impl Applier {
    pub(super) fn new(tables: Vec<FeedTable>, known: Vec<Known>, from: Position, read: u64) -> Self {
        Self {
            gather: Gather::new(tables.iter().map(|t| std::sync::Arc::clone(&t.name)).collect()),
            tables,
            known,
            maps: HashMap::new(),
            open: None,
            from,
            at: from,
            file: parts(read).0,
            seen: read,
            time: None,
            gtids: Gtids::default(),
            recent: HashMap::new(),
            follows: HashSet::new(),
            read_at: HashMap::new(),
            unended: Vec::new(),
        }
    }

    pub(super) fn is_within(&self) -> bool {
        self.open.is_some()
    }

    /// After the connection was lost: what is read comes again from where we are.
    pub(super) fn restart(&mut self) {
        self.open = None;
        self.unended.clear();
        self.maps.clear();
        self.from = self.at;
    }

    /// Forgets a transaction whose rest the server lost when it crashed: it was never committed. Reading goes on at
    /// `next`; false where a part of it has been handed on, up to `handed`.
    pub(super) fn forget_open(&mut self, handed: Position, next: u64) -> bool {
        if let Some(open) = self.open.take() {
            if handed.major == open.start && handed.minor > 0 {
                return false;
            }
            self.gather.forget_from(open.start);
            if self.at.major == open.start {
                let last = self.gather.last().map(|p| Position { minor: p.minor + 1, ..p });
                self.at = last.unwrap_or(handed);
            }
        }
        self.restart();
        self.seen = next;
        true
    }

    fn here(&self, at: u64) -> u64 {
        self.file << PLACE | at
    }

    /// Applies an event.
    pub(super) fn apply(&mut self, event: &LogEvent) -> Result<Applied, String> {
        let broken = || "an event of the log is broken off".to_string();
        match event.kind {
            ROTATE => {
                let name = event.body.get(8..).map(file_name).ok_or_else(broken)?;
                let at = event.body.first_chunk::<8>().map(|b| u64::from_le_bytes(*b)).ok_or_else(broken)?;
                self.file = file_number(&name);
                self.see(self.here(at));
            }
            GTID => self.begin(event),
            QUERY => return self.query(event).ok_or_else(broken),
            XID => self.commit(event.end),
            TABLE_MAP => {
                let map = table_map::read(&event.body).ok_or_else(broken)?;
                return self.bind(map);
            }
            HEARTBEAT => self.see(self.here(event.end)),
            165..=171 => return Err("compressed events are not read: set global log_bin_compress = off".into()),
            39 => return Err("parts of JSON are not read: set global binlog_row_value_options = ''".into()),
            other => {
                if let Some((kind, second)) = rows::kind(other) {
                    self.rows(kind, second, &event.body)?;
                }
            }
        }
        Ok(Applied::Nothing)
    }

    fn see(&mut self, at: u64) {
        if self.open.is_none() {
            self.seen = self.seen.max(at);
        }
    }

    fn begin(&mut self, event: &LogEvent) {
        if self.open.is_none() {
            let time = i64::from(event.time) * 1_000_000;
            let gtid = if event.kind == GTID { gtid::read(&event.body) } else { None };
            let gtid = gtid.map(|(domain, number)| (domain, event.server, number));
            self.open = Some(Open { start: self.here(event.start), time, next: 0, gtid });
        }
    }

    fn commit(&mut self, end: u64) {
        let end = self.here(end);
        if let Some(open) = self.open.take() {
            self.time = Some(open.time);
            if let Some((domain, server, number)) = open.gtid {
                self.gtids.note(domain, server, number);
            }
        }
        for (table, key) in self.unended.drain(..) {
            if let Some(recent) = self.recent.get_mut(&table) {
                recent.push((end, key));
            }
        }
        self.maps.clear();
        self.seen = self.seen.max(end);
    }

    /// A statement: the beginning or end of a transaction, or one that changes tables.
    fn query(&mut self, event: &LogEvent) -> Option<Applied> {
        let body = &event.body;
        let schema = usize::from(*body.get(8)?);
        let vars = usize::from(u16::from_le_bytes([*body.get(11)?, *body.get(12)?]));
        let database = String::from_utf8_lossy(body.get(13 + vars..13 + vars + schema)?).into_owned();
        let text = String::from_utf8_lossy(body.get(13 + vars + schema + 1..)?).into_owned();
        match text.to_ascii_uppercase().as_str() {
            "BEGIN" => self.begin(event),
            "COMMIT" | "ROLLBACK" => self.commit(event.end),
            word if word.starts_with("SAVEPOINT") => {}
            _ => {
                self.begin(event);
                let said = statement::read(&text, &database);
                let number = |name: &String| {
                    let place = self.tables.iter().position(|t| *t.name == **name);
                    place.and_then(|n| u32::try_from(n).ok())
                };
                let (emptied, lost): (Vec<u32>, Vec<u32>) =
                    (said.emptied.iter().filter_map(number).collect(), said.lost.iter().filter_map(number).collect());
                // A table that is dropped and followed is empty until it is made anew.
                let dropped: Vec<u32> =
                    said.dropped.iter().filter_map(number).filter(|n| self.follows.contains(n)).collect();
                emptied.into_iter().chain(dropped).for_each(|table| self.truncate(table));
                self.commit(event.end);
                return Some(Applied::Statement(text, lost));
            }
        }
        Some(Applied::Nothing)
    }

    fn bind(&mut self, mut map: TableMap) -> Result<Applied, String> {
        let name = format!("{}.{}", map.database, map.table);
        let Some(number) = self.tables.iter().position(|t| *t.name == *name) else {
            self.maps
                .insert(map.id, Bound { map, table: None, members: Vec::new(), missing: Vec::new(), key: Vec::new() });
            return Ok(Applied::Nothing);
        };
        let (feed, known) = (&self.tables[number], &self.known[number]);
        if map.columns.iter().any(|c| c.name.is_empty()) {
            if known.names.len() != map.columns.len() {
                return Err(format!(
                    "the log does not name the columns of {name}, and it had others: set global binlog_row_metadata = full"
                ));
            }
            map.columns.iter_mut().zip(&known.names).for_each(|(c, name)| c.name.clone_from(name));
        }
        let member = |c: &table_map::Column| {
            let numeric = matches!(c.ty, 1 | 2 | 3 | 4 | 5 | 8 | 9 | 13 | 16 | table_map::DECIMAL);
            let own = if numeric { Spelling::Number } else { Spelling::Text };
            let spelling = known.spelling.get(&c.name).copied().filter(|s| *s == Spelling::Json).unwrap_or(own);
            (member_name(&c.name), spelling, feed.takes(&c.name))
        };
        let members = map.columns.iter().map(member).collect();
        let key = feed.key.iter().filter_map(|k| map.columns.iter().position(|c| c.name == *k)).collect();
        let table = u32::try_from(number).unwrap_or(u32::MAX);
        let columns = map.columns.iter().map(signature).collect();
        let missing = feed.missing(map.columns.iter().map(|c| c.name.as_str()));
        self.maps.insert(map.id, Bound { map, table: Some(table), members, missing, key });
        Ok(Applied::Table(table, columns))
    }

    fn next(&mut self) -> Option<(Position, i64)> {
        let open = self.open.as_mut()?;
        let position = Position { major: open.start, minor: open.next };
        open.next += 1;
        (position >= self.from).then(|| {
            self.at = Position { minor: open.next, ..position };
            (position, open.time)
        })
    }

    /// Whether the open transaction is in the rows of a table that was read whole.
    fn is_contained(&self, table: u32) -> bool {
        let start = self.open.as_ref().map_or(0, |o| o.start);
        self.read_at.get(&table).is_some_and(|at| start < *at)
    }

    /// Leaves out a change of such a table, at its place.
    fn skip(&mut self) {
        if let Some(open) = &mut self.open {
            open.next += 1;
        }
    }

    fn rows(&mut self, kind: Kind, second: bool, body: &[u8]) -> Result<(), String> {
        let mut rows = Rows::read(kind, second, body).ok_or("an event of rows is broken off")?;
        let bound = self.maps.get(&rows.table).ok_or("rows came of a table that was never told")?;
        let Some(table) = bound.table else { return Ok(()) };
        let is_contained = self.is_contained(table);
        if !rows.is_whole() {
            return Err(format!(
                "the log does not tell whole rows of {}: set global binlog_row_image = full",
                bound.map.table
            ));
        }
        while let Some(row) = rows.next(&self.maps[&rows.table].map) {
            let (old, new) = row?;
            if is_contained {
                self.skip();
            } else {
                self.row(table, rows.table, old.as_ref(), new.as_ref());
            }
        }
        Ok(())
    }

    fn row(&mut self, table: u32, map: u64, old: Option<&Image>, new: Option<&Image>) {
        let bound = &self.maps[&map];
        let keys = [old, new].map(|image| image.map(|i| bound.key_bytes(i)));
        let moved = !bound.key.is_empty() && keys[0].is_some() && keys[1].is_some() && keys[0] != keys[1];
        if self.recent.contains_key(&table) {
            let changed = keys.into_iter().flatten();
            self.unended.extend(changed.map(|key| (table, Some(key))));
        }
        if moved && let Some((position, time)) = self.next() {
            self.add(table, map, ChangeKind::Deleted, position, time, old, None);
        }
        let kind = match (old, new) {
            (None, _) => ChangeKind::Inserted,
            (_, None) => ChangeKind::Deleted,
            _ if moved => ChangeKind::Moved,
            _ => ChangeKind::Updated,
        };
        if let Some((position, time)) = self.next() {
            self.add(table, map, kind, position, time, old, new);
        }
    }

    #[expect(clippy::too_many_arguments, reason = "one change with all that is told of it")]
    fn add(
        &mut self,
        table: u32,
        map: u64,
        kind: ChangeKind,
        position: Position,
        time: i64,
        old: Option<&Image>,
        new: Option<&Image>,
    ) {
        let bound = &self.maps[&map];
        let transaction = self.open.as_ref().and_then(|o| o.gtid).map(|(.., number)| number);
        let told = Told { table, kind, position, transaction, time: Some(time) };
        let Some(image) = new.or(old) else { return };
        // A row that is new, or not loaded yet, has nothing in columns that are not there.
        let is_new = new.is_some() && (kind == ChangeKind::Inserted || self.recent.contains_key(&table));
        let write = |out: &mut Vec<u8>, image: &Image, wanted: &dyn Fn(usize) -> bool, missing: &[Vec<u8>]| {
            let mut object = Object::begin(out);
            for (i, ((name, spelling, _), cell)) in bound.members.iter().zip(image).enumerate() {
                if wanted(i) {
                    object.member(name, *spelling, cell.as_deref());
                }
            }
            missing.iter().for_each(|name| object.member(name, Spelling::Text, None));
            object.end();
        };
        let key = |out: &mut Vec<u8>| {
            if !bound.key.is_empty() {
                write(out, image, &|i| bound.key.contains(&i), &[]);
            }
        };
        let before = |out: &mut Vec<u8>| {
            if let Some(old) = old {
                write(out, old, &|_| true, &[]);
            }
        };
        let missing = if is_new { bound.missing.as_slice() } else { &[] };
        self.gather.add(told, |out| write(out, image, &|i| bound.members[i].2, missing), key, before);
    }

    fn truncate(&mut self, table: u32) {
        if self.is_contained(table) {
            return self.skip();
        }
        if self.recent.contains_key(&table) {
            self.unended.push((table, None));
        }
        if let Some((position, time)) = self.next() {
            let transaction = self.open.as_ref().and_then(|o| o.gtid).map(|(.., number)| number);
            let told = Told { table, kind: ChangeKind::Truncated, position, transaction, time: Some(time) };
            self.gather.add(told, |out| out.extend_from_slice(b"{}"), |_| {}, |_| {});
        }
    }
}

impl Bound {
    fn key_bytes(&self, image: &Image) -> Vec<u8> {
        let mut bytes = Vec::new();
        for place in &self.key {
            add_key(&mut bytes, image.get(*place).and_then(Option::as_deref).unwrap_or_default());
        }
        bytes
    }
}

/// Name and type of a column as the log tells them.
fn signature(column: &table_map::Column) -> String {
    let words = if column.words.is_empty() { String::new() } else { format!("[{}]", column.words.join("|")) };
    let sign = if column.unsigned { "u" } else { "" };
    format!("{} {}{sign}{} {}.{}", column.name, column.ty, words.replace(' ', "_"), column.meta[0], column.meta[1])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_grow_from_file_to_file() {
        let at = place("mariadb-bin.000012", 77);
        assert_eq!(parts(at), (12, 77));
        assert_eq!(file_name(b"log.a.000001\x37.\xff1"), "log.a.000001");
        assert_eq!(file_name(b"odd"), "odd");
        assert!(place("mariadb-bin.000013", 4) > at);
    }

    fn query(text: &str) -> LogEvent {
        let mut body = vec![0; 8];
        body.extend([6, 0, 0, 0, 0]);
        body.extend(b"office\0");
        body.extend(text.as_bytes());
        LogEvent::of(QUERY, 100, 200, body)
    }

    #[test]
    fn a_statement_is_a_transaction_by_itself() {
        let table = FeedTable { name: "office.permit".into(), key: Vec::new(), contract: None };
        let from = Position::at(place("b.000001", 100));
        let mut applier = Applier::new(vec![table], vec![Known::default()], from, from.major);
        let applied = applier.apply(&query("truncate table permit")).unwrap();
        assert_eq!(applied, Applied::Statement("truncate table permit".into(), Vec::new()));
        assert_eq!((applier.at.minor, applier.seen), (1, place("b.000001", 200)));
        let chunk = applier.gather.chunk(from, applier.at, String::new(), false);
        assert_eq!(chunk.changes.unwrap().each[0].kind, ChangeKind::Truncated);
        applier.apply(&query("BEGIN")).unwrap();
        assert!(applier.is_within());
        applier.apply(&LogEvent::of(XID, 300, 331, vec![0; 8])).unwrap();
        assert!(!applier.is_within());
    }
}
