//! Arrays of any Arrow type as arrays of our types. What we have no type for is shown as text, nested values as JSON.

use std::fmt::Write as _;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{
    ArrowPrimitiveType, Date64Type, Float32Type, Int8Type, Int16Type, TimestampMillisecondType,
    TimestampNanosecondType, TimestampSecondType, UInt8Type, UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{
    Array, ArrayRef, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array, PrimitiveArray, StringArray,
    TimestampMicrosecondArray,
};
use arrow_schema::{DataType, Field, TimeUnit};
use sluice_core::expr::{Column, cast_column};
use sluice_core::types::{MAX_PRECISION, SqlType};
use sluice_core::values::json::{write_string, write_text, write_value};
use sluice_core::values::time::DAY;

/// The type under which a field is shown.
pub(super) fn sql_type(field: &Field) -> SqlType {
    of_type(field.data_type(), field.metadata().contains_key(SqlType::JSON_KEY))
}

fn of_type(ty: &DataType, is_json: bool) -> SqlType {
    match ty {
        DataType::Boolean => SqlType::Boolean,
        DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::UInt8 | DataType::UInt16 => SqlType::Integer,
        DataType::Int64 | DataType::UInt32 => SqlType::Bigint,
        DataType::UInt64 => SqlType::Decimal { precision: 20, scale: 0 },
        DataType::Float32 | DataType::Float64 => SqlType::Double,
        DataType::Decimal128(precision, scale) => match u8::try_from(*scale) {
            Ok(scale) if *precision <= MAX_PRECISION => SqlType::Decimal { precision: *precision, scale },
            _ => SqlType::Text,
        },
        DataType::Date32 | DataType::Date64 => SqlType::Date,
        DataType::Timestamp(..) => SqlType::Timestamptz,
        DataType::List(_) | DataType::LargeList(_) | DataType::Struct(_) | DataType::Map(..) => SqlType::Json,
        DataType::Dictionary(_, values) => of_type(values, is_json),
        _ if is_json => SqlType::Json,
        _ => SqlType::Text,
    }
}

/// An array as one of a type; `own` is the type under which it is shown by itself. What does not fit is null.
pub(super) fn cast(array: &ArrayRef, own: SqlType, wanted: SqlType) -> ArrayRef {
    let array = plain(array, own);
    if own == wanted {
        return array;
    }
    let rows = array.len();
    cast_column(Column::of(array), own, wanted, rows).array
}

/// The array in the Arrow form of its type.
fn plain(array: &ArrayRef, own: SqlType) -> ArrayRef {
    if let DataType::Dictionary(..) = array.data_type() {
        let dictionary = array.as_any_dictionary();
        let keys: Vec<Option<u64>> = dictionary
            .normalized_keys()
            .into_iter()
            .enumerate()
            .map(|(i, k)| (!dictionary.keys().is_null(i)).then_some(k as u64))
            .collect();
        let taken = arrow_select::take::take(dictionary.values(), &arrow_array::UInt64Array::from(keys), None);
        return taken.map_or_else(|_| texts(array), |values| plain(&values, own));
    }
    if *array.data_type() == own.arrow() {
        return array.clone();
    }
    match array.data_type() {
        DataType::Int8 => Arc::new(map::<Int8Type, Int32Array, _>(array, i32::from)),
        DataType::Int16 => Arc::new(map::<Int16Type, Int32Array, _>(array, i32::from)),
        DataType::UInt8 => Arc::new(map::<UInt8Type, Int32Array, _>(array, i32::from)),
        DataType::UInt16 => Arc::new(map::<UInt16Type, Int32Array, _>(array, i32::from)),
        DataType::UInt32 => Arc::new(map::<UInt32Type, Int64Array, _>(array, i64::from)),
        DataType::UInt64 => {
            Arc::new(map::<UInt64Type, Decimal128Array, _>(array, i128::from).with_data_type(own.arrow()))
        }
        DataType::Float32 => Arc::new(map::<Float32Type, Float64Array, _>(array, f64::from)),
        DataType::Date64 => {
            let day = |ms: i64| i32::try_from(ms.div_euclid(DAY / 1000)).unwrap_or(i32::MAX);
            Arc::new(map::<Date64Type, Date32Array, _>(array, day))
        }
        DataType::Timestamp(unit, _) => Arc::new(micros(array, *unit).with_timezone("UTC")),
        _ => texts(array),
    }
}

fn map<A: ArrowPrimitiveType, O, N>(array: &ArrayRef, convert: impl Fn(A::Native) -> N) -> O
where
    O: FromIterator<Option<N>>,
{
    array.as_primitive::<A>().iter().map(|v| v.map(&convert)).collect()
}

fn micros(array: &ArrayRef, unit: TimeUnit) -> TimestampMicrosecondArray {
    fn of<A: ArrowPrimitiveType<Native = i64>>(
        array: &ArrayRef,
        convert: impl Fn(i64) -> i64,
    ) -> TimestampMicrosecondArray {
        let values: &PrimitiveArray<A> = array.as_primitive::<A>();
        values.iter().map(|v| v.map(&convert)).collect()
    }
    match unit {
        TimeUnit::Second => of::<TimestampSecondType>(array, |v| v.saturating_mul(1_000_000)),
        TimeUnit::Millisecond => of::<TimestampMillisecondType>(array, |v| v.saturating_mul(1_000)),
        TimeUnit::Nanosecond => of::<TimestampNanosecondType>(array, |v| v.div_euclid(1_000)),
        TimeUnit::Microsecond => of::<arrow_array::types::TimestampMicrosecondType>(array, |v| v),
    }
}

fn texts(array: &ArrayRef) -> ArrayRef {
    let text = |row: usize| {
        (!array.is_null(row)).then(|| {
            let mut out = String::new();
            write(&mut out, array.as_ref(), row, false);
            out
        })
    };
    Arc::new((0..array.len()).map(text).collect::<StringArray>())
}

/// Writes one value: text as it is, unless it stands within another value; nested values as JSON.
fn write(out: &mut String, array: &dyn Array, row: usize, nested: bool) {
    if array.is_null(row) {
        return out.push_str("null");
    }
    let string = |out: &mut String, text: &str| if nested { write_string(out, text) } else { out.push_str(text) };
    match array.data_type() {
        DataType::LargeUtf8 => string(out, array.as_string::<i64>().value(row)),
        DataType::Utf8View => string(out, array.as_string_view().value(row)),
        DataType::Binary => string(out, &hex(array.as_binary::<i32>().value(row))),
        DataType::LargeBinary => string(out, &hex(array.as_binary::<i64>().value(row))),
        DataType::BinaryView => string(out, &hex(array.as_binary_view().value(row))),
        DataType::FixedSizeBinary(_) => string(out, &hex(array.as_fixed_size_binary().value(row))),
        DataType::List(_) => list(out, array.as_list::<i32>().value(row).as_ref()),
        DataType::LargeList(_) => list(out, array.as_list::<i64>().value(row).as_ref()),
        DataType::Map(..) => list(out, &array.as_map().value(row)),
        DataType::Struct(fields) => {
            let columns = array.as_struct();
            for (i, field) in fields.iter().enumerate() {
                out.push(if i == 0 { '{' } else { ',' });
                write_string(out, field.name());
                out.push(':');
                write(out, columns.column(i).as_ref(), row, true);
            }
            out.push_str(if fields.is_empty() { "{}" } else { "}" });
        }
        _ if nested => write_value(out, array, row, false),
        _ => write_text(out, array, row),
    }
}

fn list(out: &mut String, values: &dyn Array) {
    out.push('[');
    for i in 0..values.len() {
        if i > 0 {
            out.push(',');
        }
        write(out, values, i, true);
    }
    out.push(']');
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::from("\\x"), |mut out, b| {
        let _ = write!(out, "{b:02x}");
        out
    })
}
