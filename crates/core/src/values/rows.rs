//! Rows of any Arrow type as JSON Lines. Nothing is rounded: numbers keep their digits, moments their nanoseconds.

use std::fmt::Write as _;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{
    ArrowDictionaryKeyType, ArrowPrimitiveType, ArrowTimestampType, DurationMicrosecondType, DurationMillisecondType,
    DurationNanosecondType, DurationSecondType, Float16Type, Float32Type, Float64Type, Int8Type, Int16Type, Int32Type,
    Int64Type, IntervalDayTimeType, IntervalMonthDayNanoType, IntervalYearMonthType, Time32MillisecondType,
    Time32SecondType, Time64MicrosecondType, Time64NanosecondType, TimestampMicrosecondType, TimestampMillisecondType,
    TimestampNanosecondType, TimestampSecondType, UInt8Type, UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{Array, ArrayRef, RecordBatch};
use arrow_buffer::IntervalMonthDayNano;
use arrow_schema::{DataType, Field, IntervalUnit, TimeUnit};

use super::json::{write_string, write_value};
use super::{interval, time};
use crate::types::SqlType;

/// The names of a batch's columns as JSON keys, each with what stands before its value.
pub fn keys(batch: &RecordBatch) -> Vec<String> {
    let schema = batch.schema();
    let key = |(i, field): (usize, &std::sync::Arc<Field>)| {
        let mut key = String::from(if i == 0 { "{" } else { "," });
        write_string(&mut key, field.name());
        key.push(':');
        key
    };
    schema.fields().iter().enumerate().map(key).collect()
}

/// Writes one row as an object and a line end.
pub fn write_row(out: &mut String, batch: &RecordBatch, keys: &[String], row: usize) {
    let schema = batch.schema_ref();
    for ((key, field), column) in keys.iter().zip(schema.fields()).zip(batch.columns()) {
        out.push_str(key);
        write_any(out, field, column, row);
    }
    out.push_str(if keys.is_empty() { "{}\n" } else { "}\n" });
}

/// Writes one value of a field.
pub fn write_any(out: &mut String, field: &Field, array: &ArrayRef, row: usize) {
    if array.is_null(row) {
        return out.push_str("null");
    }
    match array.data_type() {
        DataType::Null => out.push_str("null"),
        DataType::Utf8 => write_value(out, array, row, field.metadata().contains_key(SqlType::JSON_KEY)),
        DataType::LargeUtf8 => write_string(out, array.as_string::<i64>().value(row)),
        DataType::Utf8View => write_string(out, array.as_string_view().value(row)),
        DataType::Binary => hex(out, array.as_binary::<i32>().value(row)),
        DataType::LargeBinary => hex(out, array.as_binary::<i64>().value(row)),
        DataType::BinaryView => hex(out, array.as_binary_view().value(row)),
        DataType::FixedSizeBinary(_) => fixed(out, field, array.as_fixed_size_binary().value(row)),
        DataType::List(inner) => list(out, inner, &array.as_list::<i32>().value(row)),
        DataType::LargeList(inner) => list(out, inner, &array.as_list::<i64>().value(row)),
        DataType::FixedSizeList(inner, _) => list(out, inner, &array.as_fixed_size_list().value(row)),
        DataType::ListView(inner) => list(out, inner, &array.as_list_view::<i32>().value(row)),
        DataType::LargeListView(inner) => list(out, inner, &array.as_list_view::<i64>().value(row)),
        DataType::Struct(fields) => {
            let columns = array.as_struct();
            out.push('{');
            for (i, inner) in fields.iter().enumerate() {
                key(out, i, inner.name());
                write_any(out, inner, columns.column(i), row);
            }
            out.push('}');
        }
        DataType::Map(entries, _) => map(out, entries, array, row),
        DataType::Dictionary(_, _) => dictionary(out, field, array, row),
        DataType::Union(fields, _) => {
            let union = array.as_union();
            let id = union.type_id(row);
            match fields.iter().find(|(own, _)| *own == id) {
                Some((_, inner)) => write_any(out, inner, union.child(id), union.value_offset(row)),
                None => out.push_str("null"),
            }
        }
        _ => write_single(out, array, row),
    }
}

fn key(out: &mut String, place: usize, name: &str) {
    if place > 0 {
        out.push(',');
    }
    write_string(out, name);
    out.push(':');
}

fn list(out: &mut String, field: &Field, values: &ArrayRef) {
    out.push('[');
    for i in 0..values.len() {
        if i > 0 {
            out.push(',');
        }
        write_any(out, field, values, i);
    }
    out.push(']');
}

/// An object where keys are texts, a list of pairs where not.
fn map(out: &mut String, entries: &Field, array: &ArrayRef, row: usize) {
    let pairs = array.as_map().value(row);
    let DataType::Struct(fields) = entries.data_type() else { return out.push_str("null") };
    let (keys, values) = (pairs.column(0), pairs.column(1));
    if *keys.data_type() != DataType::Utf8 {
        let whole: ArrayRef = std::sync::Arc::new(pairs.clone());
        return list(out, entries, &whole);
    }
    out.push('{');
    for i in 0..pairs.len() {
        key(out, i, keys.as_string::<i32>().value(i));
        write_any(out, &fields[1], values, i);
    }
    out.push('}');
}

fn dictionary(out: &mut String, field: &Field, array: &ArrayRef, row: usize) {
    fn index<K: ArrowDictionaryKeyType>(array: &ArrayRef, row: usize) -> Option<usize> {
        array.as_dictionary::<K>().key(row)
    }
    let DataType::Dictionary(keys, _) = array.data_type() else { return };
    let index = match keys.as_ref() {
        DataType::Int8 => index::<Int8Type>(array, row),
        DataType::Int16 => index::<Int16Type>(array, row),
        DataType::Int32 => index::<Int32Type>(array, row),
        DataType::Int64 => index::<Int64Type>(array, row),
        DataType::UInt8 => index::<UInt8Type>(array, row),
        DataType::UInt16 => index::<UInt16Type>(array, row),
        DataType::UInt32 => index::<UInt32Type>(array, row),
        DataType::UInt64 => index::<UInt64Type>(array, row),
        _ => None,
    };
    match index {
        Some(index) => write_any(out, field, array.as_any_dictionary().values(), index),
        None => out.push_str("null"),
    }
}

/// Writes a value that holds no others.
fn write_single(out: &mut String, array: &ArrayRef, row: usize) {
    fn show<T: ArrowPrimitiveType>(out: &mut String, array: &ArrayRef, row: usize)
    where
        T::Native: std::fmt::Display,
    {
        let _ = write!(out, "{}", array.as_primitive::<T>().value(row));
    }
    let at = |nanos: i64| clock(nanos.rem_euclid(86_400_000_000_000));
    let length = |months, days, nanos| interval::show_interval(IntervalMonthDayNano::new(months, days, nanos));
    match array.data_type() {
        DataType::Int8 => show::<Int8Type>(out, array, row),
        DataType::Int16 => show::<Int16Type>(out, array, row),
        DataType::Int32 => show::<Int32Type>(out, array, row),
        DataType::Int64 => show::<Int64Type>(out, array, row),
        DataType::UInt8 => show::<UInt8Type>(out, array, row),
        DataType::UInt16 => show::<UInt16Type>(out, array, row),
        DataType::UInt32 => show::<UInt32Type>(out, array, row),
        DataType::UInt64 => show::<UInt64Type>(out, array, row),
        DataType::Float16 => {
            float(out, f64::from(array.as_primitive::<Float16Type>().value(row).to_f32()), |v| v.to_string())
        }
        // The shortest digits that lead back to the same number of 32 bits.
        DataType::Float32 => {
            let value = array.as_primitive::<Float32Type>().value(row);
            float(out, f64::from(value), |_| value.to_string());
        }
        DataType::Float64 => float(out, array.as_primitive::<Float64Type>().value(row), |v| v.to_string()),
        DataType::Decimal32(..) => {
            out.push_str(&array.as_primitive::<arrow_array::types::Decimal32Type>().value_as_string(row))
        }
        DataType::Decimal64(..) => {
            out.push_str(&array.as_primitive::<arrow_array::types::Decimal64Type>().value_as_string(row))
        }
        DataType::Decimal128(..) => {
            out.push_str(&array.as_primitive::<arrow_array::types::Decimal128Type>().value_as_string(row));
        }
        DataType::Decimal256(..) => {
            out.push_str(&array.as_primitive::<arrow_array::types::Decimal256Type>().value_as_string(row));
        }
        DataType::Date64 => {
            let days = array.as_primitive::<arrow_array::types::Date64Type>().value(row).div_euclid(86_400_000);
            let text = i32::try_from(days).map_or_else(|_| format!("day {days}"), time::show_date);
            write_string(out, &text);
        }
        DataType::Timestamp(unit, zone) => write_string(out, &moment(array, row, *unit, zone.is_some())),
        DataType::Time32(TimeUnit::Second) => {
            write_string(out, &at(i64::from(array.as_primitive::<Time32SecondType>().value(row)) * 1_000_000_000));
        }
        DataType::Time32(_) => {
            write_string(out, &at(i64::from(array.as_primitive::<Time32MillisecondType>().value(row)) * 1_000_000));
        }
        DataType::Time64(TimeUnit::Nanosecond) => {
            write_string(out, &at(array.as_primitive::<Time64NanosecondType>().value(row)));
        }
        DataType::Time64(_) => {
            write_string(out, &at(array.as_primitive::<Time64MicrosecondType>().value(row).saturating_mul(1_000)));
        }
        DataType::Duration(unit) => write_string(out, &length(0, 0, duration(array, row, *unit))),
        DataType::Interval(IntervalUnit::YearMonth) => {
            write_string(out, &length(array.as_primitive::<IntervalYearMonthType>().value(row), 0, 0));
        }
        DataType::Interval(IntervalUnit::DayTime) => {
            let value = array.as_primitive::<IntervalDayTimeType>().value(row);
            write_string(out, &length(0, value.days, i64::from(value.milliseconds) * 1_000_000));
        }
        DataType::Interval(IntervalUnit::MonthDayNano) => {
            let value = array.as_primitive::<IntervalMonthDayNanoType>().value(row);
            write_string(out, &length(value.months, value.days, value.nanoseconds));
        }
        _ => write_value(out, array, row, false),
    }
}

/// JSON has no word for numbers that are none.
pub(crate) fn float(out: &mut String, value: f64, digits: impl Fn(f64) -> String) {
    match value {
        v if v.is_nan() => out.push_str("\"NaN\""),
        v if v.is_infinite() => out.push_str(if v > 0.0 { "\"Infinity\"" } else { "\"-Infinity\"" }),
        v => out.push_str(&digits(v)),
    }
}

pub(crate) fn hex(out: &mut String, bytes: &[u8]) {
    out.push_str("\"\\\\x");
    for byte in bytes {
        let _ = write!(out, "{byte:02x}");
    }
    out.push('"');
}

/// Bytes of a fixed length: a UUID where the field says that it is one.
fn fixed(out: &mut String, field: &Field, bytes: &[u8]) {
    let logical = field.metadata().get("logicalType").map(String::as_str);
    let is_uuid = field.extension_type_name() == Some("arrow.uuid") || logical == Some("uuid");
    match uuid::Uuid::from_slice(bytes) {
        Ok(id) if is_uuid => {
            let _ = write!(out, "\"{id}\"");
        }
        _ => hex(out, bytes),
    }
}

/// A time of day, from nanoseconds since midnight.
fn clock(nanos: i64) -> String {
    let (seconds, rest) = (nanos.div_euclid(1_000_000_000), nanos.rem_euclid(1_000_000_000));
    let mut text = format!("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    if rest > 0 {
        text.push_str(format!(".{rest:09}").trim_end_matches('0'));
    }
    text
}

fn duration(array: &ArrayRef, row: usize, unit: TimeUnit) -> i64 {
    match unit {
        TimeUnit::Second => array.as_primitive::<DurationSecondType>().value(row).saturating_mul(1_000_000_000),
        TimeUnit::Millisecond => array.as_primitive::<DurationMillisecondType>().value(row).saturating_mul(1_000_000),
        TimeUnit::Microsecond => array.as_primitive::<DurationMicrosecondType>().value(row).saturating_mul(1_000),
        TimeUnit::Nanosecond => array.as_primitive::<DurationNanosecondType>().value(row),
    }
}

/// A moment as RFC 3339: without a zone where its type has none, with the nanoseconds that it has.
fn moment(array: &ArrayRef, row: usize, unit: TimeUnit, has_zone: bool) -> String {
    fn value<T: ArrowTimestampType>(array: &ArrayRef, row: usize) -> i64 {
        array.as_primitive::<T>().value(row)
    }
    let (micros, nanos) = match unit {
        TimeUnit::Second => (value::<TimestampSecondType>(array, row).checked_mul(1_000_000), 0),
        TimeUnit::Millisecond => (value::<TimestampMillisecondType>(array, row).checked_mul(1_000), 0),
        TimeUnit::Microsecond => (Some(value::<TimestampMicrosecondType>(array, row)), 0),
        TimeUnit::Nanosecond => {
            let all = value::<TimestampNanosecondType>(array, row);
            (Some(all.div_euclid(1_000)), all.rem_euclid(1_000))
        }
    };
    // No calendar has it; the record is rejected where it lands.
    let Some(micros) = micros else { return "out of range".into() };
    let mut text = time::show_timestamp(micros);
    if nanos > 0 && text.ends_with('Z') {
        let seconds = text.find('.').unwrap_or(text.len() - 1);
        text.truncate(seconds);
        let _ = write!(text, ".{:06}{nanos:03}Z", micros.rem_euclid(1_000_000));
    }
    if !has_zone && text.ends_with('Z') {
        text.pop();
    }
    text
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use arrow_array::builder::{Int32Builder, MapBuilder, StringBuilder, StringDictionaryBuilder};
    use arrow_array::*;
    use arrow_schema::Schema;
    use rstest::rstest;

    use super::*;

    fn shown(array: &ArrayRef) -> String {
        let field = Field::new("v", array.data_type().clone(), true);
        let mut out = String::new();
        write_any(&mut out, &field, array, 0);
        let read: serde_json::Value = serde_json::from_str(&out).unwrap();
        assert!(read.is_null() == (array.is_null(0)), "{out}");
        out
    }

    #[rstest]
    #[case(Arc::new(UInt64Array::from(vec![u64::MAX])), "18446744073709551615")]
    #[case(Arc::new(Int8Array::from(vec![-128])), "-128")]
    #[case(Arc::new(Float32Array::from(vec![0.1])), "0.1")]
    #[case(Arc::new(Float64Array::from(vec![1e300])), &format!("1{}", "0".repeat(300)))]
    #[case(Arc::new(Float64Array::from(vec![f64::NAN])), "\"NaN\"")]
    #[case(Arc::new(Float32Array::from(vec![f32::NEG_INFINITY])), "\"-Infinity\"")]
    #[case(Arc::new(Decimal128Array::from(vec![-105]).with_precision_and_scale(5, 2).unwrap()), "-1.05")]
    #[case(Arc::new(LargeStringArray::from(vec!["a\"b"])), "\"a\\\"b\"")]
    #[case(Arc::new(StringViewArray::from(vec!["閘門 is a gate"])), "\"閘門 is a gate\"")]
    #[case(Arc::new(BinaryArray::from(vec![&b"\x00\xffA"[..]])), "\"\\\\x00ff41\"")]
    #[case(Arc::new(BooleanArray::from(vec![None, Some(true)])), "null")]
    #[case(Arc::new(Date64Array::from(vec![-86_400_000])), "\"1969-12-31\"")]
    #[case(Arc::new(Time64NanosecondArray::from(vec![3_661_000_000_120])), "\"01:01:01.00000012\"")]
    #[case(Arc::new(Time32SecondArray::from(vec![86_399])), "\"23:59:59\"")]
    #[case(Arc::new(TimestampSecondArray::from(vec![0]).with_timezone("UTC")), "\"1970-01-01T00:00:00Z\"")]
    #[case(Arc::new(TimestampMillisecondArray::from(vec![1_500])), "\"1970-01-01T00:00:01.500\"")]
    #[case(Arc::new(TimestampNanosecondArray::from(vec![1_000_000_007]).with_timezone("UTC")), "\"1970-01-01T00:00:01.000000007Z\"")]
    #[case(Arc::new(TimestampNanosecondArray::from(vec![-1])), "\"1969-12-31T23:59:59.999999999\"")]
    #[case(Arc::new(TimestampSecondArray::from(vec![i64::MAX])), "\"out of range\"")]
    fn values(#[case] array: ArrayRef, #[case] expected: &str) {
        assert_eq!(shown(&array), expected);
    }

    #[test]
    fn values_within_values() {
        let mut enums = StringDictionaryBuilder::<types::Int32Type>::new();
        enums.append_value("upper");
        assert_eq!(shown(&(Arc::new(enums.finish()) as ArrayRef)), "\"upper\"");

        let mut map = MapBuilder::new(None, StringBuilder::new(), Int32Builder::new());
        map.keys().append_value("a");
        map.values().append_null();
        map.keys().append_value("b");
        map.values().append_value(2);
        map.append(true).unwrap();
        assert_eq!(shown(&(Arc::new(map.finish()) as ArrayRef)), "{\"a\":null,\"b\":2}");

        let lists = ListArray::from_iter_primitive::<types::Int32Type, _, _>([Some([Some(1), None])]);
        let inner: ArrayRef = Arc::new(lists);
        let outer = StructArray::from(vec![(Arc::new(Field::new("n\"", inner.data_type().clone(), true)), inner)]);
        assert_eq!(shown(&(Arc::new(outer) as ArrayRef)), "{\"n\\\"\":[1,null]}");
    }

    #[test]
    fn rows_are_lines() {
        let schema = Schema::new(vec![Field::new("a", DataType::Int32, true), Field::new("b", DataType::Utf8, true)]);
        let columns: Vec<ArrayRef> =
            vec![Arc::new(Int32Array::from(vec![1, 2])), Arc::new(StringArray::from(vec![Some("x\ny"), None]))];
        let batch = RecordBatch::try_new(Arc::new(schema), columns).unwrap();
        let mut out = String::new();
        (0..2).for_each(|row| write_row(&mut out, &batch, &keys(&batch), row));
        assert_eq!(out, "{\"a\":1,\"b\":\"x\\ny\"}\n{\"a\":2,\"b\":null}\n");
    }
}
