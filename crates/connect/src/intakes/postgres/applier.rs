//! Turns the plugin's messages into changes with positions.
//!
//! The position of a change is where its transaction was committed, and its place among the row messages of that
//! transaction, whichever tables they are of: so it does not depend on which tables are read.

use std::collections::HashMap;

use sluice_core::change::ChangeKind;
use sluice_core::event::Position;

use super::catalog::spelling;
use super::pgoutput::{LogMessage, OldValues, Relation, Tuple, WireValue};
use crate::intakes::feed::FeedTable;
use crate::intakes::feed::gather::{ChangeDetails, ChunkBuilder};
use crate::intakes::feed::json::{Object, Spelling, member_name};
use crate::intakes::feed::order::Order;
use crate::intakes::feed::rows::add_key;

/// A table as it is at a place in the log, or one that nobody reads.
struct Bound {
    table: Option<u32>,
    columns: Vec<BoundColumn>,
    /// The places of the primary key's columns.
    key: Vec<usize>,
    /// Members that the contract reads and the table does not have at this place of the log.
    missing: Vec<Vec<u8>>,
}

struct BoundColumn {
    /// As a member of JSON.
    name: Vec<u8>,
    spelling: Spelling,
    is_taken: bool,
    is_identity: bool,
}

/// A transaction that is being read.
struct Open {
    time: i64,
    xid: u32,
}

/// What a message brought beside changes.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Applied {
    /// Nothing.
    Nothing,
    /// A transaction ended, with its number.
    Committed(u32),
    /// The description of a table came again.
    Relation(Relation),
}

/// A change of a key while its table is loaded.
pub(super) struct Recent {
    pub xid: u32,
    /// None for a truncate: all keys.
    pub key: Option<Vec<u8>>,
}

pub(super) struct Applier {
    tables: Vec<FeedTable>,
    relations: HashMap<u32, Bound>,
    open: Option<Open>,
    /// By table, what changed lately, for those that are being loaded.
    pub recent: HashMap<u32, Vec<Recent>>,
    /// Of tables that are being loaded, the keys of rows that changed without all of their values: they are read again.
    pub again: Vec<(u32, Vec<String>)>,
}

impl Applier {
    pub(super) fn new(tables: Vec<FeedTable>) -> Self {
        Self { tables, relations: HashMap::new(), open: None, recent: HashMap::new(), again: Vec::new() }
    }

    /// The transaction that is being read.
    pub(super) fn transaction(&self) -> Option<u32> {
        self.open.as_ref().map(|o| o.xid)
    }

    /// After the connection was lost: what was read comes again.
    pub(super) fn restart(&mut self) {
        self.open = None;
        self.relations.clear();
    }

    /// Applies a message of a committed transaction. None for one that cannot be.
    pub(super) fn apply(&mut self, order: &mut Order, message: &LogMessage) -> Option<Applied> {
        match message {
            LogMessage::Begin { commit, time, xid } => self.begin(order, *commit, *time, *xid),
            LogMessage::Commit { end, .. } => return Some(self.commit(order, *end)),
            LogMessage::Relation(relation) => {
                self.bind(relation);
                return Some(Applied::Relation(relation.clone()));
            }
            LogMessage::Insert { relation, new } => {
                self.row(order, *relation, ChangeKind::Inserted, None, Some(new))?
            }
            LogMessage::Update { relation, old, new } => {
                self.row(order, *relation, ChangeKind::Updated, old.as_ref(), Some(new))?
            }
            LogMessage::Delete { relation, old } => self.row(order, *relation, ChangeKind::Deleted, Some(old), None)?,
            LogMessage::Truncate { relations } => relations.iter().try_for_each(|r| self.truncate(order, *r))?,
            LogMessage::Other => {}
            LogMessage::StreamStart { .. }
            | LogMessage::StreamStop
            | LogMessage::StreamCommit { .. }
            | LogMessage::StreamAbort { .. } => {
                return None;
            }
        }
        Some(Applied::Nothing)
    }

    /// Begins a transaction.
    pub(super) fn begin(&mut self, order: &mut Order, commit: u64, time: i64, xid: u32) {
        order.begin(commit);
        self.open = Some(Open { time, xid });
    }

    /// Ends it.
    pub(super) fn commit(&mut self, order: &mut Order, end: u64) -> Applied {
        let Some(open) = self.open.take() else { return Applied::Nothing };
        order.end();
        order.see(end);
        order.time = Some(open.time);
        Applied::Committed(open.xid)
    }

    fn bind(&mut self, relation: &Relation) {
        let name = format!("{}.{}", relation.schema, relation.name);
        let table = self.tables.iter().position(|t| *t.name == *name);
        self.bind_to(relation, table.and_then(|t| u32::try_from(t).ok()));
    }

    /// Reads a relation as one of the tables, whatever it is called.
    pub(super) fn bind_to(&mut self, relation: &Relation, table: Option<u32>) {
        let feed = table.and_then(|t| self.tables.get(usize::try_from(t).ok()?));
        let column = |c: &super::pgoutput::RelationColumn| BoundColumn {
            name: member_name(&c.name),
            spelling: spelling(c.ty),
            is_taken: feed.is_some_and(|f| f.takes(&c.name)),
            is_identity: c.is_key,
        };
        let columns: Vec<BoundColumn> = relation.columns.iter().map(column).collect();
        let place = |key: &String| relation.columns.iter().position(|c| c.name == *key);
        let key: Vec<usize> = feed.map_or_else(Vec::new, |f| f.key.iter().filter_map(place).collect());
        let names = || relation.columns.iter().map(|c| c.name.as_str());
        let missing = feed.map_or_else(Vec::new, |feed| feed.missing(names()));
        self.relations.insert(relation.id, Bound { table, columns, key, missing });
    }

    fn details(&self, table: u32, kind: ChangeKind, position: Position) -> ChangeDetails {
        let open = self.open.as_ref();
        let transaction = open.map(|o| u64::from(o.xid));
        ChangeDetails { table, kind, position, transaction, time: open.map(|o| o.time) }
    }

    /// Adds the change of a row; None for an unknown relation.
    fn row(
        &mut self,
        order: &mut Order,
        relation: u32,
        kind: ChangeKind,
        old: Option<&OldValues>,
        new: Option<&Tuple>,
    ) -> Option<()> {
        let bound = self.relations.get(&relation)?;
        let moved = match (old, new) {
            (Some(old), Some(new)) => !bound.key.is_empty() && bound.key_differs(&old.tuple, new),
            _ => false,
        };
        let first = order.position();
        let second = if moved { order.position() } else { None };
        let bound = self.relations.get(&relation)?;
        let Some(table) = bound.table.filter(|t| !order.is_contained(*t)) else { return Some(()) };
        if let Some(recent) = self.recent.get_mut(&table) {
            let xid = self.open.as_ref().map_or(0, |o| o.xid);
            let tuples = [old.filter(|_| new.is_none() || moved).map(|o| &o.tuple), new];
            let keys = tuples.into_iter().flatten().map(|tuple| bound.key_bytes(tuple));
            recent.extend(keys.map(|key| Recent { xid, key: Some(key) }));
        }
        let last = if moved { second } else { first };
        if let (true, Some(position), Some(old)) = (moved, first, old) {
            let reported = self.details(table, ChangeKind::Deleted, position);
            bound_add(&mut order.gather, &self.relations[&relation], reported, Some(old), None, false);
        }
        let Some(position) = last else { return Some(()) };
        let kind = match (moved, kind) {
            (true, _) if self.recent.contains_key(&table) => ChangeKind::MovedEarly,
            (true, _) => ChangeKind::Moved,
            (false, ChangeKind::Updated) if self.recent.contains_key(&table) => ChangeKind::Early,
            (false, kind) => kind,
        };
        let bound = &self.relations[&relation];
        if let Some(new) = new.filter(|new| self.recent.contains_key(&table) && bound.lacks(new, old)) {
            self.again.push((table, bound.key_parts(new)));
        }
        let reported = self.details(table, kind, position);
        // A row that is new, or not loaded yet, has nothing in columns that are not there.
        let is_new = kind == ChangeKind::Inserted || self.recent.contains_key(&table);
        bound_add(&mut order.gather, &self.relations[&relation], reported, old, new, is_new);
        Some(())
    }

    fn truncate(&mut self, order: &mut Order, relation: u32) -> Option<()> {
        let table = self.relations.get(&relation)?.table;
        let position = order.position();
        let Some(table) = table.filter(|t| !order.is_contained(*t)) else { return Some(()) };
        if let Some(recent) = self.recent.get_mut(&table) {
            recent.push(Recent { xid: self.open.as_ref().map_or(0, |o| o.xid), key: None });
        }
        if let Some(position) = position {
            let reported = self.details(table, ChangeKind::Truncated, position);
            order.gather.add(reported, |out| out.extend_from_slice(b"{}"), |_| {}, |_| {});
        }
        Some(())
    }
}

impl Bound {
    fn key_differs(&self, old: &Tuple, new: &Tuple) -> bool {
        let (old, new): (Vec<WireValue<'_>>, Vec<WireValue<'_>>) = (old.cells().collect(), new.cells().collect());
        // A key that is kept apart and was not sent has not changed.
        self.key.iter().any(|k| new.get(*k) != Some(&WireValue::Absent) && old.get(*k) != new.get(*k))
    }

    /// Whether a value that is read was not sent.
    fn lacks(&self, new: &Tuple, old: Option<&OldValues>) -> bool {
        let is_whole = old.is_some_and(|o| o.whole);
        !is_whole
            && self.columns.iter().zip(new.cells()).any(|(column, cell)| column.is_taken && cell == WireValue::Absent)
    }

    fn key_parts(&self, tuple: &Tuple) -> Vec<String> {
        let cells: Vec<WireValue<'_>> = tuple.cells().collect();
        let text = |place: &usize| match cells.get(*place) {
            Some(WireValue::Text(text)) => String::from_utf8_lossy(text).into_owned(),
            _ => String::new(),
        };
        self.key.iter().map(text).collect()
    }

    /// The key so that different keys have different bytes.
    fn key_bytes(&self, tuple: &Tuple) -> Vec<u8> {
        let cells: Vec<WireValue<'_>> = tuple.cells().collect();
        let mut bytes = Vec::new();
        for place in &self.key {
            if let Some(WireValue::Text(text)) = cells.get(*place) {
                add_key(&mut bytes, text);
            }
        }
        bytes
    }
}

fn bound_add(
    gather: &mut ChunkBuilder,
    bound: &Bound,
    reported: ChangeDetails,
    old: Option<&OldValues>,
    new: Option<&Tuple>,
    is_new: bool,
) {
    let only_key = old.is_some_and(|o| !o.whole);
    let tuple = new.or(old.map(|o| &o.tuple));
    let row = |out: &mut Vec<u8>| {
        let mut object = Object::begin(out);
        let mut before = old.filter(|o| o.whole && new.is_some()).map(|o| o.tuple.cells());
        for (column, cell) in bound.columns.iter().zip(tuple.iter().flat_map(|t| t.cells())) {
            let was = before.as_mut().and_then(Iterator::next);
            // What is not sent since it did not change stands among the old values, where those are whole.
            let cell = if cell == WireValue::Absent { was.unwrap_or(cell) } else { cell };
            let is_sent = new.is_some() || !only_key || column.is_identity;
            if column.is_taken && is_sent {
                member(&mut object, column, cell);
            }
        }
        for name in bound.missing.iter().filter(|_| is_new && new.is_some()) {
            object.member(name, Spelling::Text, None);
        }
        object.end();
    };
    let key = |out: &mut Vec<u8>| {
        if bound.key.is_empty() {
            return;
        }
        let mut object = Object::begin(out);
        let cells: Vec<WireValue<'_>> = tuple.iter().flat_map(|t| t.cells()).collect();
        bound.key.iter().for_each(|k| member(&mut object, &bound.columns[*k], cells[*k]));
        object.end();
    };
    let before = |out: &mut Vec<u8>| {
        let Some(old) = old else { return };
        let mut object = Object::begin(out);
        for (column, cell) in bound.columns.iter().zip(old.tuple.cells()) {
            if old.whole || column.is_identity {
                member(&mut object, column, cell);
            }
        }
        object.end();
    };
    gather.add(reported, row, key, before);
}

fn member(object: &mut Object<'_>, column: &BoundColumn, cell: WireValue<'_>) {
    match cell {
        WireValue::Absent => {}
        WireValue::Null => object.member(&column.name, column.spelling, None),
        WireValue::Text(text) => object.member(&column.name, column.spelling, Some(text)),
    }
}

#[cfg(test)]
#[path = "applier_tests.rs"]
mod tests;
