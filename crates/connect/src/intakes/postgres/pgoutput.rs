//! What the plugin `pgoutput` says. Source: the section "Logical Replication Message Formats" of PostgreSQL's manual,
//! protocol versions 1 and 2.

use bytes::{Buf as _, Bytes};

/// One message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum LogMessage {
    /// A transaction begins, which is known to be committed at `commit`.
    Begin { commit: u64, time: i64, xid: u32 },
    /// It ends; the log goes on at `end`.
    Commit { commit: u64, end: u64, time: i64 },
    /// A table as it is from here on.
    Relation(Relation),
    /// A row was inserted.
    Insert { relation: u32, new: Tuple },
    /// A row was updated.
    Update { relation: u32, old: Option<OldValues>, new: Tuple },
    /// A row was deleted.
    Delete { relation: u32, old: OldValues },
    /// Tables were truncated.
    Truncate { relations: Vec<u32> },
    /// Part of a transaction that is not committed yet begins.
    StreamStart { xid: u32 },
    /// That part ends.
    StreamStop,
    /// A transaction that came in parts is committed.
    StreamCommit { xid: u32, commit: u64, end: u64, time: i64 },
    /// A transaction that came in parts, or one within it, is not.
    StreamAbort { xid: u32, within: u32 },
    /// What is of no use here: types, origins, messages of applications.
    Other,
}

/// Old values of a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct OldValues {
    /// Whether they are all columns rather than the key alone.
    pub whole: bool,
    /// The values; outside the key null where they are not all.
    pub tuple: Tuple,
}

/// A table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Relation {
    pub id: u32,
    pub schema: String,
    pub name: String,
    pub columns: Vec<RelationColumn>,
}

/// A column of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct RelationColumn {
    pub name: String,
    /// The number of its type.
    pub ty: u32,
    pub modifier: i32,
    /// Whether it belongs to the replica identity.
    pub is_key: bool,
}

/// The values of a row, as they came.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Tuple(Bytes);

/// One value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum WireValue<'a> {
    Null,
    /// A large value that did not change and was not sent.
    Absent,
    Text(&'a [u8]),
}

impl Tuple {
    /// The values in the order of the relation's columns.
    pub(super) fn cells(&self) -> WireValues<'_> {
        WireValues { left: self.0.get(2..).unwrap_or_default() }
    }
}

/// Goes over the values of a row.
pub(super) struct WireValues<'a> {
    left: &'a [u8],
}

impl<'a> Iterator for WireValues<'a> {
    type Item = WireValue<'a>;

    fn next(&mut self) -> Option<WireValue<'a>> {
        let (kind, rest) = self.left.split_first()?;
        match kind {
            b'n' | b'u' => {
                self.left = rest;
                Some(if *kind == b'n' { WireValue::Null } else { WireValue::Absent })
            }
            _ => {
                let (length, rest) = rest.split_first_chunk::<4>()?;
                let length = usize::try_from(u32::from_be_bytes(*length)).ok()?;
                let (value, rest) = rest.split_at_checked(length)?;
                self.left = rest;
                Some(WireValue::Text(value))
            }
        }
    }
}

/// Reads a message; `in_stream` says whether it stands in a part of a transaction that is not committed, where messages
/// also name their transaction. Gives that number too, 0 outside.
pub(super) fn read(message: Bytes, in_stream: bool) -> Option<(u32, LogMessage)> {
    let mut reader = WireReader(message);
    let tag = reader.byte()?;
    let of_rows = matches!(tag, b'R' | b'Y' | b'I' | b'U' | b'D' | b'T' | b'M');
    let xid = if in_stream && of_rows { reader.int()? } else { 0 };
    let read = match tag {
        b'B' => LogMessage::Begin { commit: reader.long()?, time: reader.time()?, xid: reader.int()? },
        b'C' => {
            reader.byte()?;
            LogMessage::Commit { commit: reader.long()?, end: reader.long()?, time: reader.time()? }
        }
        b'R' => LogMessage::Relation(reader.relation()?),
        b'I' => {
            let relation = reader.int()?;
            reader.byte()?;
            LogMessage::Insert { relation, new: reader.tuple()? }
        }
        b'U' => {
            let relation = reader.int()?;
            let mut kind = reader.byte()?;
            let mut old = None;
            if kind != b'N' {
                old = Some(OldValues { whole: kind == b'O', tuple: reader.tuple()? });
                kind = reader.byte()?;
            }
            (kind == b'N').then_some(())?;
            LogMessage::Update { relation, old, new: reader.tuple()? }
        }
        b'D' => {
            let relation = reader.int()?;
            let whole = reader.byte()? == b'O';
            LogMessage::Delete { relation, old: OldValues { whole, tuple: reader.tuple()? } }
        }
        b'T' => {
            let count = reader.int()?;
            reader.byte()?;
            LogMessage::Truncate { relations: (0..count).map(|_| reader.int()).collect::<Option<_>>()? }
        }
        b'S' => LogMessage::StreamStart { xid: reader.int()? },
        b'E' => LogMessage::StreamStop,
        b'c' => {
            let xid = reader.int()?;
            reader.byte()?;
            LogMessage::StreamCommit { xid, commit: reader.long()?, end: reader.long()?, time: reader.time()? }
        }
        b'A' => LogMessage::StreamAbort { xid: reader.int()?, within: reader.int()? },
        b'Y' | b'O' | b'M' => LogMessage::Other,
        _ => return None,
    };
    Some((xid, read))
}

struct WireReader(Bytes);

impl WireReader {
    fn byte(&mut self) -> Option<u8> {
        self.0.try_get_u8().ok()
    }

    fn short(&mut self) -> Option<u16> {
        self.0.try_get_u16().ok()
    }

    fn int(&mut self) -> Option<u32> {
        self.0.try_get_u32().ok()
    }

    fn long(&mut self) -> Option<u64> {
        self.0.try_get_u64().ok()
    }

    /// Microseconds since 1970.
    fn time(&mut self) -> Option<i64> {
        self.0.try_get_i64().ok()?.checked_add(super::MICROS)
    }

    fn text(&mut self) -> Option<String> {
        let end = self.0.iter().position(|b| *b == 0)?;
        let text = self.0.split_to(end);
        self.0.advance(1);
        String::from_utf8(text.to_vec()).ok()
    }

    fn relation(&mut self) -> Option<Relation> {
        let (id, mut schema, name) = (self.int()?, self.text()?, self.text()?);
        if schema.is_empty() {
            schema = "pg_catalog".into();
        }
        self.byte()?;
        let count = self.short()?;
        let column = |reader: &mut Self| {
            let is_key = reader.byte()? & 1 == 1;
            let name = reader.text()?;
            Some(RelationColumn { name, is_key, ty: reader.int()?, modifier: reader.0.try_get_i32().ok()? })
        };
        let columns = (0..count).map(|_| column(self)).collect::<Option<_>>()?;
        Some(Relation { id, schema, name, columns })
    }

    fn tuple(&mut self) -> Option<Tuple> {
        let mut ahead = self.0.get(2..)?;
        let start = self.0.len();
        for _ in 0..u16::from_be_bytes([self.0[0], self.0[1]]) {
            let mut cells = WireValues { left: ahead };
            cells.next()?;
            ahead = cells.left;
        }
        Some(Tuple(self.0.split_to(start - ahead.len())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn tuple(cells: &[Option<&str>]) -> Vec<u8> {
        let mut out = u16::try_from(cells.len()).unwrap().to_be_bytes().to_vec();
        for cell in cells {
            match cell {
                None => out.push(b'n'),
                Some("…") => out.push(b'u'),
                Some(text) => {
                    out.push(b't');
                    out.extend(u32::try_from(text.len()).unwrap().to_be_bytes());
                    out.extend(text.as_bytes());
                }
            }
        }
        out
    }

    fn message(parts: &[&[u8]]) -> Bytes {
        parts.concat().into()
    }

    fn shown(tuple: &Tuple) -> Vec<String> {
        let show = |cell| match cell {
            WireValue::Null => "null".to_string(),
            WireValue::Absent => "…".into(),
            WireValue::Text(text) => String::from_utf8_lossy(text).into_owned(),
        };
        tuple.cells().map(show).collect()
    }

    #[test]
    fn an_update_reports_its_old_key_and_what_it_left_out() {
        let (old, new) = (tuple(&[Some("P-1"), None]), tuple(&[Some("P-2"), Some("…")]));
        let (xid, read) = read(message(&[b"U", &7_u32.to_be_bytes(), b"K", &old, b"N", &new]), false).unwrap();
        let LogMessage::Update { relation: 7, old: Some(old), new } = read else { panic!("{read:?}") };
        assert_eq!((xid, old.whole, shown(&old.tuple)), (0, false, vec!["P-1".into(), "null".into()]));
        assert_eq!(shown(&new), ["P-2", "…"]);
    }

    #[test]
    fn within_a_part_of_a_transaction_messages_name_it() {
        let row = tuple(&[Some("x")]);
        let bytes = message(&[b"I", &99_u32.to_be_bytes(), &7_u32.to_be_bytes(), b"N", &row]);
        let (xid, read) = read(bytes, true).unwrap();
        assert_eq!(xid, 99);
        assert!(matches!(read, LogMessage::Insert { relation: 7, .. }));
    }

    #[test]
    fn a_relation_names_its_columns_and_key() {
        let column = |key: u8, name: &str, ty: u32| {
            [&[key], name.as_bytes(), &[0], &ty.to_be_bytes(), &(-1_i32).to_be_bytes()].concat()
        };
        let bytes = message(&[
            b"R",
            &7_u32.to_be_bytes(),
            b"public\0permit\0",
            b"d",
            &2_u16.to_be_bytes(),
            &column(1, "permit_id", 25),
            &column(0, "tons", 23),
        ]);
        let Some((_, LogMessage::Relation(relation))) = read(bytes, false) else { panic!() };
        assert_eq!((relation.schema.as_str(), relation.name.as_str()), ("public", "permit"));
        let columns: Vec<_> = relation.columns.iter().map(|c| (c.name.as_str(), c.ty, c.is_key)).collect();
        assert_eq!(columns, [("permit_id", 25, true), ("tons", 23, false)]);
    }

    #[test]
    fn times_count_from_1970() {
        let bytes = message(&[b"B", &5_u64.to_be_bytes(), &0_i64.to_be_bytes(), &9_u32.to_be_bytes()]);
        let expected = LogMessage::Begin { commit: 5, time: 946_684_800_000_000, xid: 9 };
        assert_eq!(read(bytes, false), Some((0, expected)));
    }

    #[rstest]
    #[case(b"")]
    #[case(b"?")]
    #[case(b"B\0\0")]
    #[case(b"I\0\0\0\x07N\0\x02n")]
    #[case(b"I\0\0\0\x07N\0\x01t\0\0\0\x09abc")]
    #[case(b"U\0\0\0\x07X\0\0")]
    #[case(b"R\0\0\0\x07public")]
    #[case(b"T\xff\xff\xff\xff\0")]
    fn what_is_broken_off_is_no_message(#[case] bytes: &'static [u8]) {
        assert_eq!(read(Bytes::from_static(bytes), false), None);
    }
}
