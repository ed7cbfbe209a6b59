//! Rows in the binary form of COPY, as the chapter on COPY in PostgreSQL's manual describes it.

use arrow_array::RecordBatch;
use sluice_core::types::SqlType;
use sluice_core::values::clock::parse_clock;
use sluice_core::values::number::{parse_decimal, parse_double, parse_whole};
use sluice_core::values::time::{parse_date, parse_timestamp};
use sluice_core::values::{bytes, list};
use uuid::Uuid;

use super::dialect::parts;
use super::numeric;
use crate::landings::tables::cells::{Cell, Cells};
use crate::landings::tables::session::Objection;

/// What stands before the first row: a signature, flags, the length of an extension.
pub(super) const HEAD: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

/// What stands after the last.
pub(super) const END: &[u8] = &[0xff, 0xff];

/// Microseconds and days from 1970, where we count from, to 2000, where PostgreSQL does.
const MICROS: i64 = 946_684_800_000_000;
const DAYS: i32 = 10_957;

/// How a column is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum CopyForm {
    /// As it is.
    Plain,
    /// A version before JSON text.
    Jsonb,
    /// A whole number with 32 bits.
    Short,
    /// A whole number with 16 bits.
    Small,
    /// A floating-point number with 32 bits.
    Single,
    /// A whole number with a floating point.
    Float,
    /// Exact, with digits to the base 10,000.
    Numeric,
    /// 16 bytes.
    Uuid,
    /// The bytes that the text spells.
    Bytes,
    /// Microseconds since midnight.
    Clock,
    /// A list of items of a type, which has a number on the server.
    List(SqlType, u32),
}

/// How values of a type are written into a column.
pub(super) fn form(ty: SqlType, base: &str) -> CopyForm {
    if let (SqlType::Json, Some((item, number))) = (ty, base.strip_suffix("[]").and_then(item_of)) {
        return CopyForm::List(item, number);
    }
    match (ty, parts(base).0) {
        (_, "jsonb") => CopyForm::Jsonb,
        (SqlType::Text, "uuid") => CopyForm::Uuid,
        (SqlType::Text, "bytea") => CopyForm::Bytes,
        (SqlType::Text, "time without time zone") => CopyForm::Clock,
        (SqlType::Integer, "double precision") => CopyForm::Float,
        (SqlType::Integer | SqlType::Bigint, "numeric") => CopyForm::Numeric,
        (SqlType::Integer, "integer") => CopyForm::Short,
        // Values of these were checked to be no larger.
        (SqlType::Integer, "smallint") => CopyForm::Small,
        (SqlType::Double, "real") => CopyForm::Single,
        _ => CopyForm::Plain,
    }
}

/// The type of ours that items of a list have, and the number of theirs, which stands in the server's `pg_type.dat`.
pub(super) fn item_of(base: &str) -> Option<(SqlType, u32)> {
    let (name, numbers) = parts(base);
    let number = |i: usize, otherwise| numbers.get(i).and_then(|n| u8::try_from(*n).ok()).unwrap_or(otherwise);
    Some(match name {
        "text" => (SqlType::Text, 25),
        "character varying" => (SqlType::Text, 1043),
        "boolean" => (SqlType::Boolean, 16),
        "integer" => (SqlType::Integer, 23),
        "bigint" => (SqlType::Bigint, 20),
        "double precision" => (SqlType::Double, 701),
        "numeric" => (SqlType::Decimal { precision: number(0, 38), scale: number(1, 0) }, 1700),
        "date" => (SqlType::Date, 1082),
        "timestamp with time zone" => (SqlType::Timestamptz, 1184),
        _ => return None,
    })
}

/// A list: one dimension whose places are counted from 1, or none where it is empty.
fn write_list(out: &mut Vec<u8>, text: &str, item: SqlType, number: u32) {
    let start = out.len();
    let (mut count, mut has_null) = (0_u32, false);
    let put = |out: &mut Vec<u8>, value: u32| out.extend_from_slice(&value.to_be_bytes());
    for value in [1, 0, number, 0, 1] {
        put(out, value);
    }
    list::each(text, |value| {
        count += 1;
        has_null |= value.is_none();
        match value {
            Some(value) => sized(out, |out| write_item(out, value, item)),
            None => put(out, u32::MAX),
        }
    });
    if count == 0 {
        out.truncate(start);
        for value in [0, 0, number] {
            put(out, value);
        }
        return;
    }
    out[start + 4..start + 8].copy_from_slice(&u32::from(has_null).to_be_bytes());
    out[start + 12..start + 16].copy_from_slice(&count.to_be_bytes());
}

/// An item in the binary form of its type. Items were checked where their list was made.
fn write_item(out: &mut Vec<u8>, text: &str, ty: SqlType) {
    let bytes = text.as_bytes();
    match ty {
        SqlType::Boolean => out.push(u8::from(text == "true")),
        SqlType::Integer => {
            let value = parse_whole(bytes).and_then(|value| i32::try_from(value).ok());
            out.extend_from_slice(&value.unwrap_or(0).to_be_bytes());
        }
        SqlType::Bigint => out.extend_from_slice(&parse_whole(bytes).unwrap_or(0).to_be_bytes()),
        SqlType::Double => out.extend_from_slice(&parse_double(bytes).unwrap_or(0.0).to_be_bytes()),
        SqlType::Decimal { .. } => {
            let scale = text.split_once('.').map_or(0, |(_, fraction)| u8::try_from(fraction.len()).unwrap_or(0));
            numeric::write(out, parse_decimal(bytes, scale).unwrap_or(0), scale);
        }
        SqlType::Date => out.extend_from_slice(&parse_date(bytes).unwrap_or(0).saturating_sub(DAYS).to_be_bytes()),
        SqlType::Timestamptz => {
            out.extend_from_slice(&parse_timestamp(bytes).unwrap_or(0).saturating_sub(MICROS).to_be_bytes());
        }
        _ => out.extend_from_slice(bytes),
    }
}

/// Writes rows from one on until `out` holds `full` bytes; gives the next row.
pub(super) fn write(
    out: &mut Vec<u8>,
    cells: &[Cells<'_>],
    forms: &[CopyForm],
    from: usize,
    to: usize,
    full: usize,
) -> usize {
    let count = i16::try_from(cells.len()).unwrap_or(i16::MAX).to_be_bytes();
    let mut row = from;
    while row < to && out.len() < full {
        out.extend_from_slice(&count);
        for (column, form) in cells.iter().zip(forms) {
            write_cell(out, column.at(row), *form);
        }
        row += 1;
    }
    row
}

#[inline]
fn put<const N: usize>(out: &mut Vec<u8>, bytes: [u8; N]) {
    out.extend_from_slice(&u32::try_from(N).unwrap_or(0).to_be_bytes());
    out.extend_from_slice(&bytes);
}

#[inline]
fn write_cell(out: &mut Vec<u8>, cell: Cell<'_>, form: CopyForm) {
    match (cell, form) {
        (Cell::Null, _) => out.extend_from_slice(&(-1_i32).to_be_bytes()),
        (Cell::Text(text), CopyForm::Jsonb) => {
            out.extend_from_slice(&u32::try_from(text.len() + 1).unwrap_or(u32::MAX).to_be_bytes());
            out.push(1);
            out.extend_from_slice(text.as_bytes());
        }
        (Cell::Text(text), CopyForm::Uuid) => match Uuid::parse_str(text) {
            Ok(uuid) => put(out, *uuid.as_bytes()),
            // Such rows were taken out before.
            Err(_) => out.extend_from_slice(&(-1_i32).to_be_bytes()),
        },
        (Cell::Text(text), CopyForm::Bytes) => sized(out, |out| {
            // Values of these were checked where they arrived.
            let _ = bytes::read(text, out);
        }),
        (Cell::Text(text), CopyForm::List(item, number)) => sized(out, |out| write_list(out, text, item, number)),
        (Cell::Text(text), CopyForm::Clock) => put(out, parse_clock(text).unwrap_or(0).to_be_bytes()),
        (Cell::Text(text), _) => {
            out.extend_from_slice(&u32::try_from(text.len()).unwrap_or(u32::MAX).to_be_bytes());
            out.extend_from_slice(text.as_bytes());
        }
        (Cell::Bool(value), _) => put(out, [u8::from(value)]),
        (Cell::Int(value), CopyForm::Float) => put(out, (value as f64).to_be_bytes()),
        (Cell::Int(value), CopyForm::Numeric) => sized(out, |out| numeric::write(out, value.into(), 0)),
        (Cell::Int(value), CopyForm::Short) => put(out, i32::try_from(value).unwrap_or(0).to_be_bytes()),
        (Cell::Int(value), CopyForm::Small) => put(out, i16::try_from(value).unwrap_or(0).to_be_bytes()),
        (Cell::Int(value), _) => put(out, value.to_be_bytes()),
        #[expect(clippy::cast_possible_truncation, reason = "it was rounded to 32 bits before")]
        (Cell::Double(value), CopyForm::Single) => put(out, (value as f32).to_be_bytes()),
        (Cell::Double(value), _) => put(out, value.to_be_bytes()),
        (Cell::Decimal(value, scale), _) => {
            sized(out, |out| numeric::write(out, value, u8::try_from(scale).unwrap_or(0)));
        }
        (Cell::Day(days), _) => put(out, days.saturating_sub(DAYS).to_be_bytes()),
        (Cell::Moment(micros), _) => put(out, micros.saturating_sub(MICROS).to_be_bytes()),
    }
}

/// Writes something with its length before it.
fn sized(out: &mut Vec<u8>, write: impl FnOnce(&mut Vec<u8>)) {
    let at = out.len();
    out.extend_from_slice(&[0; 4]);
    write(out);
    let length = u32::try_from(out.len() - at - 4).unwrap_or(0);
    out[at..at + 4].copy_from_slice(&length.to_be_bytes());
}

/// Rows that the server would refuse for what they are: found here, they cost no splitting.
pub(super) fn objections(rows: &RecordBatch, forms: &[CopyForm]) -> Vec<Objection> {
    let mut found = Vec::new();
    let schema = rows.schema();
    for (i, cells) in Cells::all(rows).iter().enumerate() {
        let name = schema.field(i).name();
        match cells {
            // Beyond the first day and moment stand the infinities; nothing may become one unseen.
            Cells::Day(days) if days.values().iter().any(|d| d.checked_sub(DAYS).is_none_or(|d| d == i32::MIN)) => {
                let is_bad = |row: &usize| matches!(cells.at(*row), Cell::Day(d) if d.checked_sub(DAYS).is_none_or(|d| d == i32::MIN));
                found.extend((0..rows.num_rows()).filter(is_bad).map(|row| Objection {
                    row,
                    column: name.clone(),
                    message: "this is not a day of PostgreSQL's calendar".into(),
                }));
                continue;
            }
            Cells::Moment(moments)
                if moments.values().iter().any(|m| m.checked_sub(MICROS).is_none_or(|m| m == i64::MIN)) =>
            {
                let is_bad = |row: &usize| matches!(cells.at(*row), Cell::Moment(m) if m.checked_sub(MICROS).is_none_or(|m| m == i64::MIN));
                found.extend((0..rows.num_rows()).filter(is_bad).map(|row| Objection {
                    row,
                    column: name.clone(),
                    message: "this is not a moment of PostgreSQL's calendar".into(),
                }));
                continue;
            }
            _ => {}
        }
        let Cells::Text(texts) = cells else { continue };
        let is_uuid = forms.get(i) == Some(&CopyForm::Uuid);
        let is_list = matches!(forms.get(i), Some(CopyForm::List(..)));
        let has_zero = memchr::memchr(0, texts.values()).is_some() || is_list;
        if !is_uuid && !has_zero {
            continue;
        }
        for row in 0..rows.num_rows() {
            let Cell::Text(text) = cells.at(row) else { continue };
            let message = if text.contains('\0') || (is_list && text.contains("\\u0000")) {
                "PostgreSQL's texts cannot hold a zero byte"
            } else if is_uuid && Uuid::parse_str(text).is_err() {
                "this is no UUID"
            } else {
                continue;
            };
            found.push(Objection { row, column: schema.field(i).name().clone(), message: message.into() });
        }
    }
    found
}
