//! Arrow columns written as JSON text.

use std::fmt::Write as _;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{
    Date32Type, Decimal128Type, Float64Type, Int32Type, Int64Type, IntervalMonthDayNanoType, TimestampMicrosecondType,
};
use arrow_array::{Array, RecordBatch};
use arrow_schema::{DataType, IntervalUnit};

use super::{interval, number, time};
use crate::columns::OutputColumn;
use crate::types::SqlType;

/// Writes a JSON string with its quotes.
pub fn write_string(out: &mut String, text: &str) {
    out.push('"');
    let mut plain = 0;
    for (i, byte) in text.bytes().enumerate() {
        let escape = match byte {
            b'"' => "\\\"",
            b'\\' => "\\\\",
            b'\n' => "\\n",
            b'\r' => "\\r",
            b'\t' => "\\t",
            0..0x20 => "",
            _ => continue,
        };
        out.push_str(&text[plain..i]);
        plain = i + 1;
        match escape {
            "" => {
                let _ = write!(out, "\\u{byte:04x}");
            }
            escape => out.push_str(escape),
        }
    }
    out.push_str(&text[plain..]);
    out.push('"');
}

/// Writes one value of a column as JSON. Decimals keep their digits, moments are RFC 3339 text.
pub fn write_value(out: &mut String, column: &dyn Array, row: usize, is_json: bool) {
    if column.is_null(row) {
        out.push_str("null");
        return;
    }
    match column.data_type() {
        DataType::Utf8 if is_json => {
            let text = column.as_string::<i32>().value(row);
            // A line end within JSON stands between its parts: one line stays one line.
            match text.contains(['\n', '\r']) {
                true => out.extend(text.chars().map(|c| if matches!(c, '\n' | '\r') { ' ' } else { c })),
                false => out.push_str(text),
            }
        }
        DataType::Utf8 => write_string(out, column.as_string::<i32>().value(row)),
        _ => write_plain(out, column, row, true),
    }
}

/// Writes one value of a column as plain text, as for a person or a path. Null is nothing.
pub fn write_text(out: &mut String, column: &dyn Array, row: usize) {
    if column.is_null(row) {
        return;
    }
    match column.data_type() {
        DataType::Utf8 => out.push_str(column.as_string::<i32>().value(row)),
        _ => write_plain(out, column, row, false),
    }
}

fn write_plain(out: &mut String, column: &dyn Array, row: usize, quoted: bool) {
    let quote = |out: &mut String, text: String| {
        if quoted {
            write_string(out, &text);
        } else {
            out.push_str(&text);
        }
    };
    match column.data_type() {
        DataType::Boolean => {
            let _ = write!(out, "{}", column.as_boolean().value(row));
        }
        DataType::Int32 => {
            let _ = write!(out, "{}", column.as_primitive::<Int32Type>().value(row));
        }
        DataType::Int64 => {
            let _ = write!(out, "{}", column.as_primitive::<Int64Type>().value(row));
        }
        DataType::Float64 => match column.as_primitive::<Float64Type>().value(row) {
            // JSON has no word for these.
            v if v.is_infinite() => quote(out, if v > 0.0 { "Infinity".into() } else { "-Infinity".into() }),
            v if v.is_nan() => quote(out, "NaN".into()),
            v => {
                let _ = write!(out, "{v}");
            }
        },
        DataType::Decimal128(_, scale) => {
            let scale = u8::try_from(*scale).unwrap_or(0);
            number::write_decimal(out, column.as_primitive::<Decimal128Type>().value(row), scale);
        }
        DataType::Date32 => quote(out, time::show_date(column.as_primitive::<Date32Type>().value(row))),
        DataType::Timestamp(_, None) => {
            let moment = time::show_timestamp(column.as_primitive::<TimestampMicrosecondType>().value(row));
            quote(out, moment.trim_end_matches('Z').to_string());
        }
        DataType::Interval(IntervalUnit::MonthDayNano) => {
            quote(out, interval::show_interval(column.as_primitive::<IntervalMonthDayNanoType>().value(row)));
        }
        DataType::Timestamp(..) => {
            quote(out, time::show_timestamp(column.as_primitive::<TimestampMicrosecondType>().value(row)));
        }
        other => quote(out, format!("<{other}>")),
    }
}

/// Writes rows as JSON Lines.
pub fn write_lines(out: &mut String, batch: &RecordBatch, columns: &[OutputColumn]) {
    let mut keys: Vec<String> = Vec::with_capacity(columns.len());
    for (i, column) in columns.iter().enumerate() {
        let mut key = String::from(if i == 0 { "{" } else { "," });
        write_string(&mut key, &column.name);
        key.push(':');
        keys.push(key);
    }
    for row in 0..batch.num_rows() {
        for ((key, column), array) in keys.iter().zip(columns).zip(batch.columns()) {
            out.push_str(key);
            write_value(out, array.as_ref(), row, column.ty == SqlType::Json);
        }
        out.push_str("}\n");
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("plain", r#""plain""#)]
    #[case("a\"b\\c\nd", r#""a\"b\\c\nd""#)]
    #[case("\u{1}", r#""\u0001""#)]
    #[case("閘門", r#""閘門""#)]
    fn strings(#[case] text: &str, #[case] json: &str) {
        let mut out = String::new();
        write_string(&mut out, text);
        assert_eq!(out, json);
        assert_eq!(serde_json::from_str::<String>(&out).unwrap(), text);
    }

    proptest::proptest! {
        #[test]
        fn any_string_is_valid_json(text: String) {
            let mut out = String::new();
            write_string(&mut out, &text);
            proptest::prop_assert_eq!(serde_json::from_str::<String>(&out).unwrap(), text);
        }
    }
}
