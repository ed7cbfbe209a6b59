//! Arrays of any Arrow type as arrays of our types. What we have no type for is shown as text, nested values as JSON.

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
use sluice_core::types::SqlType;
use sluice_core::values::rows;
use sluice_core::values::time::DAY;

/// The type under which a field is shown.
pub(super) fn sql_type(field: &Field) -> SqlType {
    SqlType::of_arrow(field).0
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
    let field = Field::new("", array.data_type().clone(), true);
    let text = |row: usize| {
        (!array.is_null(row)).then(|| {
            let mut out = String::new();
            rows::write_any(&mut out, &field, array, row);
            // A text stands as it is, anything else as JSON.
            serde_json::from_str::<String>(&out).unwrap_or(out)
        })
    };
    Arc::new((0..array.len()).map(text).collect::<StringArray>())
}
