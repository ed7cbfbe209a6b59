//! Rows events: the images of rows before and after, value by value. Source: "Rows Event" in the documentation of the
//! binary log; the forms of decimals and of times with fractions as its chapter on storage describes them.

use std::fmt::Write as _;
use std::net::{Ipv4Addr, Ipv6Addr};

use super::bytes::Bytes;
use super::characters::Characters;
use super::table_map::{Column, ColumnForm, DECIMAL, ENUM, GEOMETRY, SET, STRING, TableMap};

/// What happened to rows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum RowsKind {
    Insert,
    Update,
    Delete,
}

/// A rows event before its rows are read.
pub(super) struct RowsEvent<'b> {
    pub kind: RowsKind,
    pub table: u64,
    before: Vec<bool>,
    after: Vec<bool>,
    rest: Bytes<'b>,
}

/// A row as texts; None is null.
pub(super) type Image = Vec<Option<Vec<u8>>>;

/// What a rows event is, by its number, and whether it is of the second form; None for another event.
pub(super) fn kind(event: u8) -> Option<(RowsKind, bool)> {
    match event {
        23 => Some((RowsKind::Insert, false)),
        24 => Some((RowsKind::Update, false)),
        25 => Some((RowsKind::Delete, false)),
        30 => Some((RowsKind::Insert, true)),
        31 => Some((RowsKind::Update, true)),
        32 => Some((RowsKind::Delete, true)),
        _ => None,
    }
}

impl<'b> RowsEvent<'b> {
    pub(super) fn read(kind: RowsKind, second: bool, body: &'b [u8]) -> Option<Self> {
        let mut bytes = Bytes(body);
        let table = bytes.le(6)?;
        bytes.take(2)?;
        if second {
            let extra = bytes.le(2)?;
            bytes.take(extra.checked_sub(2)?)?;
        }
        let count = usize::try_from(bytes.packed()?).ok()?;
        let before = bits(&mut bytes, count)?;
        let after = if kind == RowsKind::Update { bits(&mut bytes, count)? } else { before.clone() };
        Some(Self { kind, table, before, after, rest: bytes })
    }

    /// Whether all columns of rows are reported.
    pub(super) fn is_whole(&self) -> bool {
        self.before.iter().chain(&self.after).all(|reported| *reported)
    }

    /// The next row: before and after. An error where it cannot be read.
    #[expect(clippy::type_complexity, reason = "a row before and after")]
    pub(super) fn next(&mut self, map: &TableMap) -> Option<Result<(Option<Image>, Option<Image>), String>> {
        if self.rest.0.is_empty() {
            return None;
        }
        let broken = || format!("a row of {}.{} in the log is incomplete", map.database, map.table);
        let mut image = |reported: &[bool]| image(&mut self.rest, reported, map).unwrap_or_else(|| Err(broken()));
        Some(match self.kind {
            RowsKind::Insert => image(&self.after).map(|new| (None, Some(new))),
            RowsKind::Delete => image(&self.before).map(|old| (Some(old), None)),
            RowsKind::Update => {
                image(&self.before).and_then(|old| image(&self.after).map(|new| (Some(old), Some(new))))
            }
        })
    }
}

fn bits(bytes: &mut Bytes<'_>, count: usize) -> Option<Vec<bool>> {
    let taken = bytes.take(count.div_ceil(8) as u64)?;
    Some((0..count).map(|i| taken[i / 8] & (1 << (i % 8)) != 0).collect())
}

fn image(bytes: &mut Bytes<'_>, reported: &[bool], map: &TableMap) -> Option<Result<Image, String>> {
    let nulls = bits(bytes, reported.iter().filter(|t| **t).count())?;
    let mut nulls = nulls.into_iter();
    let mut image = Vec::with_capacity(reported.len());
    for (column, reported) in map.columns.iter().zip(reported) {
        if !reported || nulls.next()? {
            image.push(None);
            continue;
        }
        let mut text = Vec::new();
        match value(bytes, column, &mut text)? {
            Ok(is_there) => image.push(is_there.then_some(text)),
            Err(_) if column.is_idle => image.push(None),
            Err(what) => return Some(Err(format!("{}.{}.{}: {what}", map.database, map.table, column.name))),
        }
    }
    Some(Ok(image))
}

/// Writes a value as text; false for one that is none, an error for one that is not read.
fn value(bytes: &mut Bytes<'_>, column: &Column, out: &mut Vec<u8>) -> Option<Result<bool, String>> {
    let mut text = String::new();
    match column.ty {
        1 | 2 | 3 | 8 | 9 => {
            let width = match column.ty {
                1 => 1,
                2 => 2,
                9 => 3,
                3 => 4,
                _ => 8,
            };
            let _ = match column.unsigned {
                true => write!(text, "{}", bytes.le(width.into())?),
                false => write!(text, "{}", bytes.signed(width)?),
            };
        }
        // Every float is a double, which tells it exactly.
        4 => drop(write!(text, "{}", f64::from(f32::from_bits(u32::try_from(bytes.le(4)?).ok()?)))),
        5 => drop(write!(text, "{}", f64::from_bits(bytes.le(8)?))),
        13 => {
            let year = bytes.byte()?;
            let _ = write!(text, "{}", if year == 0 { 0 } else { 1900 + u32::from(year) });
        }
        10 | 14 => {
            let day = bytes.le(3)?;
            if day == 0 {
                return Some(Ok(false));
            }
            let _ = write!(text, "{:04}-{:02}-{:02}", day >> 9, day >> 5 & 15, day & 31);
        }
        17 => {
            let seconds = i64::try_from(bytes.be(4)?).ok()?;
            moment(&mut text, seconds)?;
            let is_zero = fraction(&mut text, bytes, column.meta[0])? == 0 && seconds == 0;
            text.push_str("+00:00");
            if is_zero {
                return Some(Ok(false));
            }
        }
        7 => {
            let seconds = i64::try_from(bytes.le(4)?).ok()?;
            if seconds == 0 {
                return Some(Ok(false));
            }
            moment(&mut text, seconds)?;
            text.push_str("+00:00");
        }
        18 => {
            let packed = bytes.be(5)? & 0x7f_ffff_ffff;
            let (months, day) = (packed >> 22, packed >> 17 & 31);
            let _ = write!(text, "{:04}-{:02}-{day:02} ", months / 13, months % 13);
            let _ = write!(text, "{:02}:{:02}:{:02}", packed >> 12 & 31, packed >> 6 & 63, packed & 63);
            if fraction(&mut text, bytes, column.meta[0])? == 0 && packed == 0 {
                return Some(Ok(false));
            }
        }
        19 => time(&mut text, bytes, column.meta[0])?,
        DECIMAL => decimal(&mut text, bytes, column.meta[0], column.meta[1])?,
        ENUM => {
            let place = usize::try_from(bytes.le(column.meta[1].into())?).ok()?;
            // Zero is the word for what was none.
            if let Some(word) = place.checked_sub(1).and_then(|i| column.words.get(i)) {
                return Some(column.characters.write(word, out).map(|()| true));
            }
        }
        SET => {
            let set = bytes.le(column.meta[1].into())?;
            for (i, word) in column.words.iter().take(64).enumerate().filter(|(i, _)| set >> i & 1 == 1) {
                if set & ((1 << i) - 1) != 0 {
                    out.push(b',');
                }
                if let Err(what) = column.characters.write(word, out) {
                    return Some(Err(what));
                }
            }
        }
        16 => {
            let count = u64::from(column.meta[1]) + u64::from(column.meta[0] > 0);
            let _ = write!(text, "{}", bytes.be(count)?);
        }
        15 | 253 | STRING | 249..=252 | GEOMETRY => {
            let length = bytes.le(width(column))?;
            let taken = bytes.take(length)?;
            return Some(characters(column, taken, out).map(|()| true));
        }
        other => return Some(Err(format!("columns of the type {other} are not read"))),
    }
    out.extend_from_slice(text.as_bytes());
    Some(Ok(true))
}

/// Writes a text, bytes, or what bytes stand for.
fn characters(column: &Column, taken: &[u8], out: &mut Vec<u8>) -> Result<(), String> {
    // The log leaves zero bytes at the end of a fixed length out.
    let whole = |length: usize| {
        let mut bytes = taken.to_vec();
        bytes.resize(length.max(taken.len()), 0);
        bytes
    };
    let text = match (column.form, column.characters == Characters::Bytes) {
        (ColumnForm::Uuid, _) => whole(16).first_chunk().map(|b| uuid::Uuid::from_bytes(*b).to_string()),
        (ColumnForm::Inet4, _) => whole(4).first_chunk().map(|b: &[u8; 4]| Ipv4Addr::from(*b).to_string()),
        (ColumnForm::Inet6, _) => whole(16).first_chunk().map(|b: &[u8; 16]| Ipv6Addr::from(*b).to_string()),
        (ColumnForm::Plain, true) if column.ty == STRING => {
            return Characters::Bytes.write(&whole(fixed(column)), out);
        }
        (ColumnForm::Plain, _) => return column.characters.write(taken, out),
    };
    out.extend_from_slice(text.unwrap_or_default().as_bytes());
    Ok(())
}

/// The length of a column of a fixed length, in bytes: its two high bits are hidden, turned over, in the type.
fn fixed(column: &Column) -> usize {
    let [low, high] = column.meta;
    usize::from(high) | ((usize::from(low) & 0x30) ^ 0x30) << 4
}

/// In how many bytes the length of a text stands.
fn width(column: &Column) -> u64 {
    let [low, high] = column.meta;
    match column.ty {
        249..=252 | GEOMETRY => low.into(),
        STRING if fixed(column) < 256 => 1,
        STRING => 2,
        _ => {
            if u16::from_le_bytes([low, high]) < 256 {
                1
            } else {
                2
            }
        }
    }
}

fn moment(text: &mut String, seconds: i64) -> Option<()> {
    let moment = chrono::DateTime::from_timestamp(seconds, 0)?;
    let _ = write!(text, "{}", moment.format("%Y-%m-%d %H:%M:%S"));
    Some(())
}

/// The digits after the point, two in a byte; gives them as a number.
fn fraction(text: &mut String, bytes: &mut Bytes<'_>, digits: u8) -> Option<u64> {
    let width = digits.div_ceil(2);
    if width == 0 {
        return Some(0);
    }
    let mut value = bytes.be(width.into())?;
    if digits % 2 == 1 {
        value /= 10;
    }
    let _ = write!(text, ".{value:0width$}", width = usize::from(digits));
    Some(value)
}

/// A time of day, or a span of time.
fn time(text: &mut String, bytes: &mut Bytes<'_>, digits: u8) -> Option<()> {
    let width = digits.div_ceil(2);
    // Whole and fraction are one number that is shifted so that negative ones sort before.
    let packed = bytes.be(3 + u64::from(width))?;
    let bits = 8 * u32::from(width);
    let shifted = i64::try_from(packed).ok()? - (0x80_0000_i64 << bits);
    let (sign, absolute) = if shifted < 0 { ("-", shifted.unsigned_abs()) } else { ("", shifted.unsigned_abs()) };
    let whole = absolute >> bits;
    let _ = write!(text, "{sign}{:02}:{:02}:{:02}", whole >> 12 & 0x3ff, whole >> 6 & 63, whole & 63);
    if width > 0 {
        let mut value = absolute & ((1 << bits) - 1);
        if digits % 2 == 1 {
            value /= 10;
        }
        let _ = write!(text, ".{value:0width$}", width = usize::from(digits));
    }
    Some(())
}

/// An exact number: groups of nine digits in four bytes, what is left over in as many as it needs; of a negative one all
/// bits are turned over.
fn decimal(text: &mut String, bytes: &mut Bytes<'_>, precision: u8, scale: u8) -> Option<()> {
    const WIDTH: [u64; 10] = [0, 1, 1, 2, 2, 3, 3, 4, 4, 4];
    let whole = usize::from(precision.checked_sub(scale)?);
    let scale = usize::from(scale);
    let length = WIDTH[whole % 9] + 4 * (whole / 9 + scale / 9) as u64 + WIDTH[scale % 9];
    let mut raw = bytes.take(length)?.to_vec();
    let first = raw.first_mut()?;
    let negative = *first & 0x80 == 0;
    *first ^= 0x80;
    if negative {
        raw.iter_mut().for_each(|b| *b = !*b);
        text.push('-');
    }
    let mut raw = Bytes(&raw);
    let mut digits = String::new();
    if whole % 9 > 0 {
        let _ = write!(digits, "{}", raw.be(WIDTH[whole % 9])?);
    }
    for _ in 0..whole / 9 {
        let _ = write!(digits, "{:09}", raw.be(4)?);
    }
    let trimmed = digits.trim_start_matches('0');
    text.push_str(if trimmed.is_empty() { "0" } else { trimmed });
    if scale > 0 {
        text.push('.');
        for _ in 0..scale / 9 {
            let _ = write!(text, "{:09}", raw.be(4)?);
        }
        if scale % 9 > 0 {
            let _ = write!(text, "{:0width$}", raw.be(WIDTH[scale % 9])?, width = scale % 9);
        }
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn column(ty: u8, meta: [u8; 2]) -> Column {
        Column { ty, meta, ..Column::default() }
    }

    #[rstest]
    #[case(column(1, [0, 0]), b"\xff", "-1")]
    #[case(Column { unsigned: true, ..column(1, [0, 0]) }, b"\xff", "255")]
    #[case(column(9, [0, 0]), b"\xff\xff\x7f", "8388607")]
    #[case(Column { unsigned: true, ..column(8, [0, 0]) }, b"\xff\xff\xff\xff\xff\xff\xff\xff", "18446744073709551615")]
    #[case(column(4, [4, 0]), b"\xcd\xcc\xcc\x3d", "0.10000000149011612")]
    #[case(column(13, [0, 0]), b"\x7e", "2026")]
    #[case(column(10, [0, 0]), &[0x77, 0xd5, 0x0f], "2026-11-23")]
    #[case(column(17, [3, 0]), &[0x69, 0x00, 0x00, 0x00, 0x04, 0xce], "2025-10-27 23:28:00.123+00:00")]
    #[case(column(18, [0, 0]), &[0x99, 0xb9, 0x6e, 0x81, 0x05], "2026-03-23 08:04:05")]
    #[case(column(19, [0, 0]), &[0x80, 0x10, 0x83], "01:02:03")]
    #[case(column(19, [0, 0]), &[0x7f, 0xef, 0x7d], "-01:02:03")]
    #[case(column(15, [20, 0]), b"\x03abc", "abc")]
    #[case(Column { characters: Characters::Bytes, ..column(15, [20, 0]) }, b"\x02\x00\xff", "\\x00ff")]
    #[case(Column { characters: Characters::Bytes, ..column(STRING, [254, 4]) }, b"\x02\x07\xff", "\\x07ff0000")]
    #[case(Column { form: ColumnForm::Uuid, ..column(STRING, [254, 16]) }, b"\x01\x12", "12000000-0000-0000-0000-000000000000")]
    #[case(Column { form: ColumnForm::Inet4, ..column(STRING, [254, 4]) }, b"\x03\x0a\x00\x01", "10.0.1.0")]
    #[case(Column { form: ColumnForm::Inet6, ..column(STRING, [254, 16]) }, b"\x02\x20\x01", "2001::")]
    #[case(Column { characters: Characters::Latin1, ..column(15, [20, 0]) }, b"\x03a\xe4\x80", "aä€")]
    #[case(column(13, [0, 0]), b"\x00", "0")]
    #[case(column(252, [2, 0]), b"\x03\x00abc", "abc")]
    #[case(Column { words: vec![b"a".to_vec(), b"b".to_vec()], ..column(ENUM, [ENUM, 1]) }, b"\x02", "b")]
    #[case(Column { words: vec![b"a".to_vec(), b"b".to_vec(), b"c".to_vec()], ..column(SET, [SET, 1]) }, b"\x05", "a,c")]
    #[case(column(16, [1, 1]), b"\x01\x02", "258")]
    fn values_are_spelled_as_text(#[case] column: Column, #[case] bytes: &[u8], #[case] expected: &str) {
        let mut out = Vec::new();
        let mut rest = Bytes(bytes);
        value(&mut rest, &column, &mut out).unwrap().unwrap();
        assert_eq!(String::from_utf8(out).unwrap(), expected);
        assert!(rest.0.is_empty());
    }

    #[rstest]
    #[case(column(10, [0, 0]), &[0, 0, 0])]
    #[case(column(7, [0, 0]), &[0, 0, 0, 0])]
    #[case(column(17, [3, 0]), &[0, 0, 0, 0, 0, 0])]
    #[case(column(18, [0, 0]), &[0x80, 0, 0, 0, 0])]
    fn a_moment_of_zeros_is_none(#[case] column: Column, #[case] bytes: &[u8]) {
        assert_eq!(value(&mut Bytes(bytes), &column, &mut Vec::new()), Some(Ok(false)));
    }

    #[test]
    fn a_decimal_of_several_groups_keeps_every_digit() {
        // 1234567890.1234 with 14 digits, 4 of them after the point: 0x81 0x0DFB38D2 0x04D2.
        let bytes = [0x81, 0x0d, 0xfb, 0x38, 0xd2, 0x04, 0xd2];
        let mut text = String::new();
        decimal(&mut text, &mut Bytes(&bytes), 14, 4).unwrap();
        assert_eq!(text, "1234567890.1234");
        let negative: Vec<u8> = bytes.iter().map(|b| !b).collect();
        text.clear();
        decimal(&mut text, &mut Bytes(&negative), 14, 4).unwrap();
        assert_eq!(text, "-1234567890.1234");
    }

    #[test]
    fn what_is_broken_off_is_no_row() {
        let map = TableMap { id: 7, database: "d".into(), table: "t".into(), columns: vec![column(3, [0, 0])] };
        let mut body = vec![7, 0, 0, 0, 0, 0, 0, 0, 1, 1, 0];
        body.extend(5_i32.to_le_bytes());
        let mut rows = RowsEvent::read(RowsKind::Insert, false, &body).unwrap();
        assert!(rows.is_whole());
        assert_eq!(rows.next(&map), Some(Ok((None, Some(vec![Some(b"5".to_vec())])))));
        assert_eq!(rows.next(&map), None);
        let mut rows = RowsEvent::read(RowsKind::Insert, false, &body[..13]).unwrap();
        assert!(matches!(rows.next(&map), Some(Err(_))));
    }
}
