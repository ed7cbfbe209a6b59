//! Rows in ClickHouse's row-binary form: little-endian values one after the other, a byte before those that can be null.

use arrow_array::RecordBatch;
use sluice_core::values::number::rescale;

use super::dialect::{bare, decimal};
use crate::landings::tables::cells::{Cell, Cells};
use crate::landings::tables::session::Objection;

/// The last day and second that its types hold, from 1970.
const LAST_DAY: i32 = 49_709;
const LAST_SECOND: i64 = 4_294_967_295;

/// How a column is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum BinaryForm {
    Text,
    Byte,
    Short,
    Long,
    Float,
    Day,
    Second,
    /// Bytes, and digits after the point.
    Decimal(usize, u8),
}

/// How values are written into a column of a type, and whether it takes null.
pub(super) fn form(ty: &str) -> (BinaryForm, bool) {
    let (base, nullable) = bare(ty);
    let form = match base {
        "UInt8" | "Int8" => BinaryForm::Byte,
        "Int32" => BinaryForm::Short,
        "Int64" => BinaryForm::Long,
        "Float64" => BinaryForm::Float,
        "Date" => BinaryForm::Day,
        "DateTime" => BinaryForm::Second,
        other => match decimal(other) {
            Some((digits, scale)) => {
                let bytes = if digits <= 9 {
                    4
                } else if digits <= 18 {
                    8
                } else {
                    16
                };
                BinaryForm::Decimal(bytes, u8::try_from(scale).unwrap_or(0))
            }
            None => BinaryForm::Text,
        },
    };
    (form, nullable)
}

/// Writes all rows. Values that do not fit were taken out before.
pub(super) fn write(out: &mut Vec<u8>, rows: &RecordBatch, forms: &[(BinaryForm, bool)]) {
    let cells = Cells::all(rows);
    for row in 0..rows.num_rows() {
        for (column, (form, nullable)) in cells.iter().zip(forms) {
            let cell = column.at(row);
            if *nullable {
                out.push(u8::from(cell == Cell::Null));
                if cell == Cell::Null {
                    continue;
                }
            }
            write_cell(out, cell, form);
        }
    }
}

fn write_cell(out: &mut Vec<u8>, cell: Cell<'_>, form: &BinaryForm) {
    match (cell, form) {
        (Cell::Text(text), _) => {
            let mut length = text.len();
            // Lengths are written seven bits at a time, the lowest first.
            while length >= 0x80 {
                out.push(u8::try_from(length & 0x7f).unwrap_or(0) | 0x80);
                length >>= 7;
            }
            out.push(u8::try_from(length).unwrap_or(0));
            out.extend_from_slice(text.as_bytes());
        }
        (Cell::Bool(value), _) => out.push(u8::from(value)),
        (Cell::Int(value), BinaryForm::Short) => {
            out.extend_from_slice(&i32::try_from(value).unwrap_or(0).to_le_bytes())
        }
        (Cell::Int(value), _) => out.extend_from_slice(&value.to_le_bytes()),
        (Cell::Double(value), _) => out.extend_from_slice(&value.to_le_bytes()),
        (Cell::Decimal(value, scale), BinaryForm::Decimal(bytes, to)) => {
            let value = rescale(value, u8::try_from(scale).unwrap_or(0), *to).unwrap_or(0);
            out.extend_from_slice(&value.to_le_bytes()[..*bytes]);
        }
        (Cell::Day(days), _) => out.extend_from_slice(&u16::try_from(days).unwrap_or(0).to_le_bytes()),
        (Cell::Moment(micros), BinaryForm::Second) => {
            out.extend_from_slice(&u32::try_from(micros / 1_000_000).unwrap_or(0).to_le_bytes());
        }
        (Cell::Moment(micros), _) => out.extend_from_slice(&micros.to_le_bytes()),
        (Cell::Null | Cell::Decimal(..), _) => {}
    }
}

/// Rows with a value that a column cannot hold. The server would keep another value without a word.
pub(super) fn objections(rows: &RecordBatch, forms: &[(BinaryForm, bool)]) -> Vec<Objection> {
    let mut found = Vec::new();
    let schema = rows.schema();
    for (i, (column, (form, nullable))) in Cells::all(rows).iter().zip(forms).enumerate() {
        if *nullable && !matches!(column, Cells::Day(_) | Cells::Moment(_)) {
            continue;
        }
        for row in 0..rows.num_rows() {
            let message = match (column.at(row), form) {
                (Cell::Null, _) if !nullable => "the column takes no null",
                (Cell::Day(days), BinaryForm::Day) if !(0..=LAST_DAY).contains(&days) => {
                    "the day is not within 1970 to 2105"
                }
                (Cell::Moment(micros), BinaryForm::Second) if micros % 1_000_000 != 0 => {
                    "a DateTime has no part of a second"
                }
                (Cell::Moment(micros), BinaryForm::Second) if !(0..=LAST_SECOND).contains(&(micros / 1_000_000)) => {
                    "the moment is not within 1970 to 2105"
                }
                _ => continue,
            };
            found.push(Objection { row, column: schema.field(i).name().clone(), message: message.into() });
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Nullable(Decimal(8, 2))", BinaryForm::Decimal(4, 2), true)]
    #[case("Decimal(18, 0)", BinaryForm::Decimal(8, 0), false)]
    #[case("Decimal(38, 10)", BinaryForm::Decimal(16, 10), false)]
    #[case("Int64", BinaryForm::Long, false)]
    #[case("Nullable(String)", BinaryForm::Text, true)]
    fn types_are_read(#[case] ty: &str, #[case] expected: BinaryForm, #[case] nullable: bool) {
        assert_eq!(form(ty), (expected, nullable));
    }

    #[rstest]
    #[case(Cell::Text("ab"), BinaryForm::Text, &[2, b'a', b'b'])]
    #[case(Cell::Int(-2), BinaryForm::Short, &[0xfe, 0xff, 0xff, 0xff])]
    #[case(Cell::Decimal(-15, 1), BinaryForm::Decimal(4, 2), &[0x6a, 0xff, 0xff, 0xff])]
    #[case(Cell::Day(1), BinaryForm::Day, &[1, 0])]
    #[case(Cell::Moment(3_000_000), BinaryForm::Second, &[3, 0, 0, 0])]
    fn values_are_little_endian(#[case] cell: Cell<'_>, #[case] form: BinaryForm, #[case] expected: &[u8]) {
        let mut out = Vec::new();
        write_cell(&mut out, cell, &form);
        assert_eq!(out, expected);
    }

    #[test]
    fn long_texts_have_long_lengths() {
        let mut out = Vec::new();
        write_cell(&mut out, Cell::Text(&"x".repeat(300)), &BinaryForm::Text);
        assert_eq!(&out[..2], &[0xac, 0x02]);
    }
}
