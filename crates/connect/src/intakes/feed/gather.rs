//! Gathers changes until a chunk is full.

use std::sync::Arc;

use sluice_core::change::{Change, ChangeKind, Changes};
use sluice_core::event::{Chunk, Position, RecordSpan};
use sluice_core::kinds::ReadLimit;

use super::PARTITION;
use super::state::State;

/// Changes that wait to be handed on.
pub(crate) struct ChunkBuilder {
    tables: Vec<Arc<str>>,
    bytes: Vec<u8>,
    each: Vec<Change>,
    side: Vec<u8>,
}

/// What is reported for a change beside its row.
#[derive(Clone, Copy, Debug)]
pub(crate) struct ChangeDetails {
    pub table: u32,
    pub kind: ChangeKind,
    pub position: Position,
    pub transaction: Option<u64>,
    pub time: Option<i64>,
}

impl ChunkBuilder {
    /// Gathers changes of these tables.
    pub(crate) fn new(tables: Vec<Arc<str>>) -> Self {
        Self { tables, bytes: Vec::new(), each: Vec::new(), side: Vec::new() }
    }

    /// Adds a change. `row` writes the row's object, `key` and `old` theirs, nothing where there is none.
    pub(crate) fn add(
        &mut self,
        reported: ChangeDetails,
        row: impl FnOnce(&mut Vec<u8>),
        key: impl FnOnce(&mut Vec<u8>),
        old: impl FnOnce(&mut Vec<u8>),
    ) {
        let span = written(&mut self.bytes, row).unwrap_or(RecordSpan { start: 0, end: 0 });
        self.bytes.push(b'\n');
        let (key, old) = (written(&mut self.side, key), written(&mut self.side, old));
        let ChangeDetails { table, kind, position, transaction, time } = reported;
        self.each.push(Change { span, table, kind, position, transaction, time, key, old });
    }

    /// Reports as empty each table that is loaded in the place of what landed before and has no row yet. Of
    /// those without a key that is reported with their rows.
    pub(crate) fn emit_truncates(
        &mut self,
        names: impl Iterator<Item = Arc<str>>,
        state: &mut State,
        at: &mut Position,
    ) {
        for (table, name) in (0..).zip(names) {
            let load =
                state.tables.get_mut(&*name).and_then(|t| t.load.as_mut()).filter(|l| l.replaces && l.whole.is_none());
            if let Some(load) = load {
                load.replaces = false;
                let kind = ChangeKind::Truncated;
                let reported = ChangeDetails { table, kind, position: *at, transaction: None, time: None };
                self.add(reported, |out| out.extend_from_slice(b"{}"), |_| {}, |_| {});
                at.minor += 1;
            }
        }
    }

    /// The position of the last change.
    pub(crate) fn last(&self) -> Option<Position> {
        self.each.last().map(|c| c.position)
    }

    /// Forgets the changes from a position on that were rolled back, but for those of tables that cannot be.
    pub(crate) fn forget(&mut self, from: Position, stays: impl Fn(u32) -> bool) {
        let kept = self.each.iter().take_while(|c| c.position < from).count();
        let later = self.each.split_off(kept);
        let bytes = std::mem::take(&mut self.bytes);
        let end = later.first().map_or(bytes.len(), |c| usize::try_from(c.span.start).unwrap_or(usize::MAX));
        self.bytes.extend_from_slice(bytes.get(..end).unwrap_or(&bytes));
        for change in later.into_iter().filter(|c| stays(c.table)) {
            let span = written(&mut self.bytes, |out| out.extend_from_slice(change.span.of(&bytes)));
            self.bytes.push(b'\n');
            self.each.push(Change { span: span.unwrap_or(change.span), ..change });
        }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.each.is_empty()
    }

    /// Whether as much is gathered as may be handed on at once.
    pub(crate) fn is_full(&self, limit: ReadLimit) -> bool {
        self.each.len() as u64 >= limit.records || self.bytes.len() as u64 >= limit.bytes
    }

    /// What was gathered, as a chunk.
    pub(crate) fn chunk(&mut self, from: Position, to: Position, identity: String, within: bool) -> Chunk {
        let each = std::mem::take(&mut self.each);
        let capacity = (self.bytes.len(), self.side.len());
        Chunk {
            partition: PARTITION.into(),
            from,
            to,
            identity,
            bytes: std::mem::replace(&mut self.bytes, Vec::with_capacity(capacity.0)),
            records: each.len() as u64,
            changes: Some(Arc::new(Changes {
                tables: self.tables.clone(),
                each,
                side: std::mem::replace(&mut self.side, Vec::with_capacity(capacity.1)),
                within,
            })),
            ..Chunk::default()
        }
    }
}

/// What was written, None for nothing.
fn written(out: &mut Vec<u8>, write: impl FnOnce(&mut Vec<u8>)) -> Option<RecordSpan> {
    let place = |out: &Vec<u8>| u32::try_from(out.len()).unwrap_or(u32::MAX);
    let start = place(out);
    write(out);
    let end = place(out);
    (end > start).then_some(RecordSpan { start, end })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_rolled_back_is_forgotten_but_for_tables_that_cannot_be() {
        let mut gather = ChunkBuilder::new(vec!["a.t".into(), "a.m".into()]);
        for (minor, table) in [(0, 0), (1, 0), (2, 1), (3, 0)] {
            let position = Position { major: 9, minor };
            let reported = ChangeDetails { table, kind: ChangeKind::Inserted, position, transaction: None, time: None };
            gather.add(reported, |out| out.extend(format!("{{\"n\":{minor}}}").bytes()), |_| {}, |_| {});
        }
        gather.forget(Position { major: 9, minor: 1 }, |table| table == 1);
        assert_eq!(gather.last(), Some(Position { major: 9, minor: 2 }));
        let chunk = gather.chunk(Position::at(5), Position { major: 9, minor: 4 }, String::new(), false);
        let rows: Vec<&[u8]> = chunk.changes.as_ref().unwrap().each.iter().map(|c| c.span.of(&chunk.bytes)).collect();
        assert_eq!(rows, [b"{\"n\":0}", b"{\"n\":2}"]);
        assert_eq!(chunk.bytes, b"{\"n\":0}\n{\"n\":2}\n");
    }

    #[test]
    fn changes_become_a_chunk_with_their_places() {
        let mut gather = ChunkBuilder::new(vec!["public.permit".into()]);
        for (minor, kind) in [(0, ChangeKind::Inserted), (1, ChangeKind::Deleted)] {
            let reported = ChangeDetails {
                table: 0,
                kind,
                position: Position { major: 9, minor },
                transaction: Some(4),
                time: None,
            };
            let old = |out: &mut Vec<u8>| {
                if minor == 1 {
                    out.extend(b"{\"old\":1}")
                }
            };
            gather.add(reported, |out| out.extend(b"{\"id\":1}"), |out| out.extend(b"{}"), old);
        }
        assert!(gather.is_full(ReadLimit { records: 2, bytes: 1 << 20, ends: false }));
        let chunk = gather.chunk(Position::at(5), Position { major: 9, minor: 2 }, "state".into(), true);
        assert!(gather.is_empty() && chunk.is_within());
        let changes = chunk.changes.as_ref().unwrap();
        assert_eq!((chunk.records, changes.each.len()), (2, 2));
        let last = changes.each[1];
        assert_eq!(last.span.of(&chunk.bytes), b"{\"id\":1}");
        assert_eq!(last.old.unwrap().of(&changes.side), b"{\"old\":1}");
        assert_eq!(changes.each[0].old, None);
        assert_eq!(chunk.position_at(last.span.start), Position { major: 9, minor: 1 });
    }
}
