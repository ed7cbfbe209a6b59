//! Table map events: the form of a table as the rows after it have it. Source: "Rows Event" and "Table Map Event" in the
//! documentation of the binary log, with the optional metadata of `binlog_row_metadata = FULL`.

use super::bytes::Bytes;
use super::characters::Characters;

/// A table at a place in the log.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct TableMap {
    pub id: u64,
    pub database: String,
    pub table: String,
    pub columns: Vec<Column>,
}

/// One column.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Column {
    /// Its name; empty where the server does not tell names.
    pub name: String,
    /// The number of its type, of those that are written by another one the inner.
    pub ty: u8,
    pub meta: [u8; 2],
    pub unsigned: bool,
    /// The number of its character set; 0 where the server does not tell.
    pub set: u64,
    /// Of an enumeration or set, its words in its character set.
    pub words: Vec<Vec<u8>>,
    /// What the bytes of a fixed length stand for; the log does not tell.
    pub form: ColumnForm,
    /// The character set of its texts or words.
    pub characters: Characters,
    /// Whether nobody reads it, so that it may hold what cannot be read.
    pub is_idle: bool,
}

/// What the bytes of a column stand for.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum ColumnForm {
    /// Bytes or a text.
    #[default]
    Plain,
    Uuid,
    Inet4,
    Inet6,
}

impl ColumnForm {
    /// That of a type of the server.
    pub(super) fn of(base: &str) -> Self {
        match base {
            "uuid" => Self::Uuid,
            "inet4" => Self::Inet4,
            "inet6" => Self::Inet6,
            _ => Self::Plain,
        }
    }
}

pub(super) const DECIMAL: u8 = 246;
pub(super) const ENUM: u8 = 247;
pub(super) const SET: u8 = 248;
pub(super) const STRING: u8 = 254;
pub(super) const GEOMETRY: u8 = 255;

impl Column {
    /// Whether the signedness of the optional metadata counts it.
    fn is_numeric(&self) -> bool {
        matches!(self.ty, 1 | 2 | 3 | 4 | 5 | 8 | 9 | 13 | DECIMAL)
    }

    fn has_words(&self) -> bool {
        matches!(self.ty, ENUM | SET)
    }

    fn is_character(&self) -> bool {
        matches!(self.ty, 15 | 253 | STRING | 249..=252)
    }
}

/// Reads a table map event; None where it is broken off.
pub(super) fn read(body: &[u8]) -> Option<TableMap> {
    let mut bytes = Bytes(body);
    let id = bytes.le(6)?;
    bytes.take(2)?;
    let database = bytes.short_text()?;
    let table = bytes.short_text()?;
    let count = bytes.packed()?;
    let types = bytes.take(count)?.to_vec();
    let mut columns: Vec<Column> = types.iter().map(|ty| Column { ty: *ty, ..Column::default() }).collect();
    let length = bytes.packed()?;
    let mut meta = Bytes(bytes.take(length)?);
    for column in &mut columns {
        column_meta(column, &mut meta)?;
    }
    bytes.take(usize::try_from(count).ok()?.div_ceil(8) as u64)?;
    while let Some(kind) = bytes.byte() {
        let length = bytes.packed()?;
        optional(&mut columns, kind, Bytes(bytes.take(length)?))?;
    }
    Some(TableMap { id, database, table, columns })
}

fn column_meta(column: &mut Column, meta: &mut Bytes<'_>) -> Option<()> {
    match column.ty {
        15 | 16 | 253 | DECIMAL => column.meta = [meta.byte()?, meta.byte()?],
        ENUM | SET | STRING => {
            column.meta = [meta.byte()?, meta.byte()?];
            // The real type stands in the first byte, together with high bits of a long length.
            if matches!(column.meta[0], ENUM | SET) {
                column.ty = column.meta[0];
            }
        }
        4 | 5 | 17 | 18 | 19 | 245 | 249..=252 | 255 => column.meta[0] = meta.byte()?,
        _ => {}
    }
    is_possible(column).then_some(())
}

/// Whether a type can have these numbers: widths in bytes and digits that no server writes would overflow where values
/// are read.
fn is_possible(column: &Column) -> bool {
    let [first, second] = column.meta;
    match column.ty {
        // Digits of the fraction of a second.
        17..=19 => first <= 6,
        DECIMAL => first <= 65 && second <= first,
        ENUM => matches!(second, 1 | 2),
        SET => (1..=8).contains(&second),
        // Bits beside whole bytes, and whole bytes.
        16 => first < 8 && second <= 8 && (first == 0 || second < 8),
        // In how many bytes the length of a value stands.
        249..=252 | GEOMETRY => (1..=4).contains(&first),
        _ => true,
    }
}

fn optional(columns: &mut [Column], kind: u8, mut bytes: Bytes<'_>) -> Option<()> {
    match kind {
        1 => {
            let numeric = columns.iter_mut().filter(|c| c.is_numeric());
            for (i, column) in numeric.enumerate() {
                column.unsigned = bytes.0.get(i / 8)? & (0x80 >> (i % 8)) != 0;
            }
        }
        2 => {
            let default = bytes.packed()?;
            columns.iter_mut().filter(|c| c.is_character()).for_each(|c| c.set = default);
            while !bytes.0.is_empty() {
                let (place, set) = (bytes.packed()?, bytes.packed()?);
                let mut characters = columns.iter_mut().filter(|c| c.is_character());
                characters.nth(usize::try_from(place).ok()?)?.set = set;
            }
        }
        3 => {
            for column in columns.iter_mut().filter(|c| c.is_character()) {
                column.set = bytes.packed()?;
            }
        }
        4 => {
            for column in columns.iter_mut() {
                column.name = bytes.text()?;
            }
        }
        // The character sets of enumerations and sets, as 2 and 3 have those of texts.
        10 => {
            let default = bytes.packed()?;
            columns.iter_mut().filter(|c| c.has_words()).for_each(|c| c.set = default);
            while !bytes.0.is_empty() {
                let (place, set) = (bytes.packed()?, bytes.packed()?);
                columns.iter_mut().filter(|c| c.has_words()).nth(usize::try_from(place).ok()?)?.set = set;
            }
        }
        11 => {
            for column in columns.iter_mut().filter(|c| c.has_words()) {
                column.set = bytes.packed()?;
            }
        }
        5 | 6 => {
            let wanted = if kind == 5 { SET } else { ENUM };
            for column in columns.iter_mut().filter(|c| c.ty == wanted) {
                let count = bytes.packed()?;
                column.words = (0..count).map(|_| bytes.bytes()).collect::<Option<_>>()?;
            }
        }
        _ => {}
    }
    Some(())
}
