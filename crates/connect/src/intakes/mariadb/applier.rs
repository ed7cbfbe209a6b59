//! Turns events of the row log into changes with positions.
//!
//! The position of a change is where its transaction begins in the log, the file's number before the place in the file, and
//! its place among the rows of the transaction that are of tables which are read.

mod grammar;

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use sluice_core::change::ChangeKind;
use sluice_core::event::Position;

use super::characters::Characters;
use super::gtid::Gtids;
use super::rows::{Image, RowsEvent, RowsKind};
use super::table_map::{self, ColumnForm, TableMap};
use super::transaction::OpenTransaction;
use crate::intakes::feed::gather::ChangeDetails;
use crate::intakes::feed::json::{Object, Spelling, member_name};
use crate::intakes::feed::order::Order;
use crate::intakes::feed::rows::add_key;
use crate::intakes::feed::{FeedTable, index};

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

/// What is known of a table's columns beside what the log reports.
#[derive(Clone, Debug, Default)]
pub(super) struct CatalogColumns {
    /// The names in their order, for a log that does not tell them.
    pub names: Vec<String>,
    /// Each by its name.
    pub columns: HashMap<String, KnownColumn>,
    /// The character sets of the server, by the numbers of their orders.
    pub sets: Arc<HashMap<u64, String>>,
    /// Whether its rows can be rolled back.
    pub is_transactional: bool,
}

/// What is known of a column.
#[derive(Clone, Debug)]
pub(super) struct KnownColumn {
    pub spelling: Spelling,
    pub form: ColumnForm,
    pub characters: Characters,
}

struct BoundLogTable {
    map: TableMap,
    table: Option<u32>,
    /// Each column's name as a member, how it is spelled, and whether it is read.
    members: Vec<(Vec<u8>, Spelling, bool)>,
    /// Members that the contract reads and the table does not have at this place of the log.
    missing: Vec<Vec<u8>>,
    key: Vec<usize>,
}

/// What an event brought beside changes.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum AppliedLog {
    Nothing,
    /// The description of a table that is read: its columns and types.
    Table(u32, Vec<String>),
    /// A statement changed tables that are read: the text, and their numbers.
    Statement(String, TouchedTables),
    /// A distributed transaction was prepared, and begins there.
    Prepared(String, u64),
    /// One was rolled back.
    Forgotten(String),
    /// One is committed: its rows are to be read from where it was prepared, then it is ended at this place of the file.
    Committed(String, u64),
    /// Why the log does not show what changed.
    Lost(String),
}

/// Tables that a statement changed, by their numbers.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct TouchedTables {
    /// They are not there under their names any more.
    pub lost: Vec<u32>,
    /// They have other rows now, which are to be read again.
    pub replaced: Vec<u32>,
    /// They may have another primary key.
    pub keyed: Vec<u32>,
}

/// A change while a table is loaded: where its transaction ended, and the key; None for all keys.
pub(super) type Recent = (u64, Option<Vec<u8>>);

pub(super) struct LogApplier {
    tables: Vec<FeedTable>,
    known: Vec<CatalogColumns>,
    maps: HashMap<u64, BoundLogTable>,
    open: Option<OpenTransaction>,
    /// The number of the file that is being read.
    file: u64,
    /// The transactions that were read whole.
    pub gtids: Gtids,
    pub recent: HashMap<u32, Vec<Recent>>,
    /// By table that is being loaded, how many rows changed since somebody asked.
    pub changed: HashMap<u32, u64>,
    /// Tables whose changes of form are followed.
    pub follows: HashSet<u32>,
    /// Changes of the open transaction, whose end is not known yet, each with its place.
    unended: Vec<(u64, u32, Option<Vec<u8>>)>,
}

impl LogApplier {
    /// Reads tables from the file of a place on.
    pub(super) fn new(tables: Vec<FeedTable>, known: Vec<CatalogColumns>, read: u64) -> Self {
        Self {
            tables,
            known,
            maps: HashMap::new(),
            open: None,
            file: parts(read).0,
            gtids: Gtids::default(),
            recent: HashMap::new(),
            changed: HashMap::new(),
            follows: HashSet::new(),
            unended: Vec::new(),
        }
    }

    /// Opens a group, unless one is open.
    fn open(&mut self, order: &mut Order, open: OpenTransaction) -> &mut OpenTransaction {
        if self.open.is_none() {
            order.begin(open.start);
        }
        self.open.get_or_insert(open)
    }

    /// After the connection was lost: what was read comes again.
    pub(super) fn restart(&mut self) {
        self.open = None;
        self.unended.clear();
        self.maps.clear();
    }

    /// Forgets a transaction whose rest the server lost when it crashed: it was never committed. Reading goes on at
    /// `next`; false where a part of it has been handed on, up to `handed`.
    pub(super) fn forget_open(&mut self, order: &mut Order, handed: Position, next: u64) -> bool {
        if self.open.is_some() && !self.roll_back(order, 0, handed, false) {
            return false;
        }
        self.restart();
        order.leave(next);
        true
    }

    /// Forgets what of the open transaction has not been handed on.
    pub(super) fn forget_rest(&mut self, order: &mut Order, handed: Position) {
        let Some(open) = &self.open else { return };
        let to = if handed.major == open.start { handed.minor } else { 0 };
        self.roll_back(order, to, handed, false);
    }

    /// Forgets what the open transaction did from a place on; rows of tables that cannot be rolled back stay, unless it
    /// never was. False where some of it has been handed on, up to `handed`.
    fn roll_back(&mut self, order: &mut Order, to: u64, handed: Position, was: bool) -> bool {
        let Some(open) = &self.open else { return true };
        let from = Position { major: open.start, minor: to };
        if handed > from && handed.major == from.major {
            return false;
        }
        let Self { known, unended, .. } = self;
        let stays = |table: u32| was && known.get(index(table)).is_some_and(|k| !k.is_transactional);
        order.gather.forget(from, stays);
        unended.retain(|(place, table, _)| *place < to || stays(*table));
        if order.at.major == open.start {
            order.at = order.gather.last().map_or(handed, |p| Position { minor: p.minor + 1, ..p }).max(handed);
        }
        true
    }

    fn here(&self, at: u64) -> u64 {
        self.file << PLACE | at
    }

    fn bind(&mut self, mut map: TableMap) -> Result<AppliedLog, String> {
        let name = format!("{}.{}", map.database, map.table);
        let Some(number) = self.tables.iter().position(|t| *t.name == *name) else {
            self.maps.insert(
                map.id,
                BoundLogTable { map, table: None, members: Vec::new(), missing: Vec::new(), key: Vec::new() },
            );
            return Ok(AppliedLog::Nothing);
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
        for column in &mut map.columns {
            let there = known.columns.get(&column.name);
            column.form = there.map_or(ColumnForm::Plain, |c| c.form);
            // A log without such metadata has the texts of the table as it is.
            column.characters = match known.sets.get(&column.set) {
                Some(name) => Characters::of(name),
                None => there.map_or(Characters::Utf8, |c| c.characters.clone()),
            };
            column.is_idle = !feed.takes(&column.name);
        }
        let member = |c: &table_map::Column| {
            let numeric = matches!(c.ty, 1 | 2 | 3 | 4 | 5 | 8 | 9 | 13 | 16 | table_map::DECIMAL);
            let own = if numeric { Spelling::Number } else { Spelling::Text };
            let spelling =
                known.columns.get(&c.name).map(|c| c.spelling).filter(|s| *s == Spelling::Json).unwrap_or(own);
            (member_name(&c.name), spelling, feed.takes(&c.name))
        };
        let members = map.columns.iter().map(member).collect();
        let key = feed.key.iter().filter_map(|k| map.columns.iter().position(|c| c.name == *k)).collect();
        let table = u32::try_from(number).unwrap_or(u32::MAX);
        let columns = map.columns.iter().map(signature).collect();
        let missing = feed.missing(map.columns.iter().map(|c| c.name.as_str()));
        self.maps.insert(map.id, BoundLogTable { map, table: Some(table), members, missing, key });
        Ok(AppliedLog::Table(table, columns))
    }

    /// The position and the time of the next change; None where it was read before.
    fn next(&self, order: &mut Order) -> Option<(Position, i64)> {
        let time = self.open.as_ref()?.time;
        Some((order.position()?, time))
    }

    fn rows(&mut self, order: &mut Order, kind: RowsKind, second: bool, body: &[u8]) -> Result<(), String> {
        let mut rows = RowsEvent::read(kind, second, body).ok_or("a row event in the log is incomplete")?;
        let bound = self.maps.get(&rows.table).ok_or("the log has rows of a table that it did not describe")?;
        let Some(table) = bound.table else { return Ok(()) };
        let is_contained = order.is_contained(table);
        if !rows.is_whole() {
            return Err(format!(
                "the log does not hold complete rows of {}: set global binlog_row_image = full",
                bound.map.table
            ));
        }
        while let Some(row) = rows.next(&self.maps[&rows.table].map) {
            let (old, new) = row?;
            if is_contained {
                order.skip();
            } else {
                self.row(order, table, rows.table, old.as_ref(), new.as_ref());
            }
        }
        Ok(())
    }

    fn row(&mut self, order: &mut Order, table: u32, map: u64, old: Option<&Image>, new: Option<&Image>) {
        let bound = &self.maps[&map];
        let keys = [old, new].map(|image| image.map(|i| bound.key_bytes(i)));
        let moved = !bound.key.is_empty() && keys[0].is_some() && keys[1].is_some() && keys[0] != keys[1];
        if self.recent.contains_key(&table) {
            let changed = keys.into_iter().flatten();
            let place = order.next;
            self.unended.extend(changed.map(|key| (place, table, Some(key))));
        }
        if moved && let Some((position, time)) = self.next(order) {
            self.add(order, table, map, ChangeKind::Deleted, position, time, old, None);
        }
        let kind = match (old, new) {
            (None, _) => ChangeKind::Inserted,
            (_, None) => ChangeKind::Deleted,
            _ if moved => ChangeKind::Moved,
            _ => ChangeKind::Updated,
        };
        if let Some((position, time)) = self.next(order) {
            self.add(order, table, map, kind, position, time, old, new);
        }
    }

    #[expect(clippy::too_many_arguments, reason = "one change with all that is told of it")]
    fn add(
        &self,
        order: &mut Order,
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
        let reported = ChangeDetails { table, kind, position, transaction, time: Some(time) };
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
        order.gather.add(reported, |out| write(out, image, &|i| bound.members[i].2, missing), key, before);
    }

    fn truncate(&mut self, order: &mut Order, table: u32) {
        if order.is_contained(table) {
            return order.skip();
        }
        if self.recent.contains_key(&table) {
            let place = order.next;
            self.unended.push((place, table, None));
        }
        if let Some((position, time)) = self.next(order) {
            let transaction = self.open.as_ref().and_then(|o| o.gtid).map(|(.., number)| number);
            let reported =
                ChangeDetails { table, kind: ChangeKind::Truncated, position, transaction, time: Some(time) };
            order.gather.add(reported, |out| out.extend_from_slice(b"{}"), |_| {}, |_| {});
        }
    }
}

impl BoundLogTable {
    fn key_bytes(&self, image: &Image) -> Vec<u8> {
        let mut bytes = Vec::new();
        for place in &self.key {
            add_key(&mut bytes, image.get(*place).and_then(Option::as_deref).unwrap_or_default());
        }
        bytes
    }
}

/// Name and type of a column as the log reports them.
fn signature(column: &table_map::Column) -> String {
    let words: Vec<_> = column.words.iter().map(|word| String::from_utf8_lossy(word)).collect();
    let words = if words.is_empty() { String::new() } else { format!("[{}]", words.join("|")) };
    let sign = if column.unsigned { "u" } else { "" };
    format!("{} {}{sign}{} {}.{}", column.name, column.ty, words.replace(' ', "_"), column.meta[0], column.meta[1])
}

#[cfg(test)]
mod tests {
    use super::super::stream::LogEvent;
    use super::grammar::{QUERY, XID};
    use super::*;
    use crate::intakes::feed::gather::ChunkBuilder;

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
    fn a_statement_that_stops_the_run_is_not_passed() {
        let table = FeedTable { name: "office.permit".into(), key: Vec::new(), contract: None };
        let from = Position::at(place("b.000001", 100));
        let mut order = Order::new(ChunkBuilder::new(vec![table.name.clone()]), from, from.major);
        let mut applier = LogApplier::new(vec![table], vec![CatalogColumns::default()], from.major);
        let applied = applier.apply(&mut order, &query("create table t select * from permit"), from).unwrap();
        assert!(matches!(applied, AppliedLog::Lost(_)));
        assert!(order.is_within());
        assert_eq!(order.seen, from.major);
    }

    #[test]
    fn a_statement_is_a_transaction_by_itself() {
        let table = FeedTable { name: "office.permit".into(), key: Vec::new(), contract: None };
        let from = Position::at(place("b.000001", 100));
        let mut order = Order::new(ChunkBuilder::new(vec![table.name.clone()]), from, from.major);
        let mut applier = LogApplier::new(vec![table], vec![CatalogColumns::default()], from.major);
        let applied = applier.apply(&mut order, &query("truncate table permit"), from).unwrap();
        assert_eq!(applied, AppliedLog::Statement("truncate table permit".into(), TouchedTables::default()));
        assert_eq!((order.at.minor, order.seen), (1, place("b.000001", 200)));
        let chunk = order.gather.chunk(from, order.at, String::new(), false);
        assert_eq!(chunk.changes.unwrap().each[0].kind, ChangeKind::Truncated);
        applier.apply(&mut order, &query("BEGIN"), from).unwrap();
        assert!(order.is_within());
        applier.apply(&mut order, &LogEvent::of(XID, 300, 331, vec![0; 8]), from).unwrap();
        assert!(order.is_between());
    }
}
