//! Casts between types. A value that does not fit is an error of its row, or null for `try_cast`.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Decimal128Type, Float64Type, Int32Type, Int64Type, IntervalMonthDayNanoType,
    TimestampMicrosecondType,
};
use arrow_array::{Array, BooleanArray, PrimitiveArray, new_null_array};
use arrow_buffer::{BooleanBufferBuilder, NullBuffer};

use super::column::{Column, RowErrors, map_text};
use crate::types::SqlType;
use crate::values::{interval, json, number, time};

/// Whether a cast exists at all.
pub(super) fn exists(from: SqlType, to: SqlType) -> bool {
    use SqlType::{Boolean, Date, Interval, Json, Null, Text, Timestamp, Timestamptz};
    match (from, to) {
        (a, b) if a == b => true,
        (Null, _) | (_, Text) | (Text, _) => to != Null,
        (a, b) if a.is_numeric() && b.is_numeric() => true,
        (Boolean, b) => b.is_whole(),
        (a, Boolean) => a.is_whole(),
        (a, b) if a.is_moment() && b.is_moment() => true,
        (Timestamp | Timestamptz | Date | Interval, Json) => false,
        (_, Json) => true,
        _ => false,
    }
}

/// Whether a cast can round or cut a value without an error.
pub(super) fn rounds(from: SqlType, to: SqlType) -> bool {
    match (from, to) {
        (SqlType::Double, SqlType::Integer | SqlType::Bigint | SqlType::Decimal { .. }) => true,
        (SqlType::Decimal { scale, .. }, SqlType::Integer | SqlType::Bigint) => scale > 0,
        (SqlType::Decimal { scale: from, .. }, SqlType::Decimal { scale: to, .. }) => to < from,
        (SqlType::Timestamptz, SqlType::Date) => false,
        _ => false,
    }
}

/// Casts a column that was read from somewhere; a value that does not fit is null.
pub fn cast_column(column: Column, from: SqlType, to: SqlType, rows: usize) -> Column {
    compute(column, from, to, true, rows)
}

/// Casts a column.
pub(super) fn compute(column: Column, from: SqlType, to: SqlType, lenient: bool, rows: usize) -> Column {
    use SqlType::{
        Bigint, Boolean, Date, Decimal, Double, Integer, Interval, Json, Null, Text, Timestamp, Timestamptz,
    };
    if from == to {
        return column;
    }
    let cast = Cast { column: &column, to, lenient, rows };
    match (from, to) {
        (Null, _) => Column::computed(new_null_array(&to.arrow(), column.array.len()), column.scalar, column.errors),
        (Json, Text) | (Text, Json) if from == Json => column,
        (Text, Json) => cast.check_json(),
        (Double, Json) => cast.finite_json(),
        (_, Text | Json) => map_text(&[&column], rows, |row, out| {
            let mut text = String::new();
            json::write_text(&mut text, column.array.as_ref(), column.index(row));
            out.extend_from_slice(text.as_bytes());
            Ok(())
        }),
        (Text, Boolean) => cast.to_boolean(),
        (Text, Integer) => {
            cast.parse::<Int32Type>(|t| number::parse_whole(t.as_bytes()).and_then(|v| i32::try_from(v).ok()))
        }
        (Text, Bigint) => cast.parse::<Int64Type>(|t| number::parse_whole(t.as_bytes())),
        (Text, Double) => cast.parse::<Float64Type>(|t| number::parse_double(t.as_bytes())),
        (Text, Decimal { precision, scale }) => cast.parse::<Decimal128Type>(|t| {
            number::parse_decimal_rounded(t.as_bytes(), scale).filter(|v| number::fits_precision(*v, precision))
        }),
        (Text, Date) => cast.parse::<Date32Type>(|t| time::parse_date(t.as_bytes())),
        (Text, Timestamptz) => cast.parse::<TimestampMicrosecondType>(|t| {
            time::parse_timestamp(t.as_bytes())
                .or_else(|| time::parse_date(t.as_bytes()).map(|d| i64::from(d) * time::DAY))
        }),
        (Text, Timestamp) => cast.parse::<TimestampMicrosecondType>(|t| time::parse_local(t.as_bytes())),
        (Text, Interval) => cast.parse::<IntervalMonthDayNanoType>(interval::parse_interval),
        // Without a zone, UTC is meant.
        (Timestamp, Timestamptz) | (Timestamptz, Timestamp) => {
            cast.map::<TimestampMicrosecondType, TimestampMicrosecondType>(Some)
        }
        (Boolean, Integer) => cast.boolean_to_whole::<Int32Type>(),
        (Boolean, Bigint) => cast.boolean_to_whole::<Int64Type>(),
        (Integer, Boolean) => cast.whole_to_boolean::<Int32Type>(),
        (Bigint, Boolean) => cast.whole_to_boolean::<Int64Type>(),
        (Date, Timestamp | Timestamptz) => {
            cast.map::<Date32Type, TimestampMicrosecondType>(|d| Some(i64::from(d) * time::DAY))
        }
        (Timestamp | Timestamptz, Date) => {
            cast.map::<TimestampMicrosecondType, Date32Type>(|m| i32::try_from(m.div_euclid(time::DAY)).ok())
        }
        _ => numbers(&cast, from),
    }
}

fn numbers(cast: &Cast<'_>, from: SqlType) -> Column {
    use SqlType::{Bigint, Decimal, Double, Integer};
    match (from, cast.to) {
        (Integer, Bigint) => cast.map::<Int32Type, Int64Type>(|v| Some(i64::from(v))),
        (Integer, Double) => cast.map::<Int32Type, Float64Type>(|v| Some(f64::from(v))),
        (Bigint, Integer) => cast.map::<Int64Type, Int32Type>(|v| i32::try_from(v).ok()),
        (Bigint, Double) => cast.map::<Int64Type, Float64Type>(|v| Some(v as f64)),
        (Integer, Decimal { precision, scale }) => {
            cast.map::<Int32Type, Decimal128Type>(move |v| exact(i128::from(v), 0, precision, scale))
        }
        (Bigint, Decimal { precision, scale }) => {
            cast.map::<Int64Type, Decimal128Type>(move |v| exact(i128::from(v), 0, precision, scale))
        }
        (Decimal { scale: s, .. }, Decimal { precision, scale }) => {
            cast.map::<Decimal128Type, Decimal128Type>(move |v| exact(v, s, precision, scale))
        }
        (Decimal { scale: s, .. }, Integer) => {
            cast.map::<Decimal128Type, Int32Type>(move |v| number::rescale(v, s, 0).and_then(|v| i32::try_from(v).ok()))
        }
        (Decimal { scale: s, .. }, Bigint) => {
            cast.map::<Decimal128Type, Int64Type>(move |v| number::rescale(v, s, 0).and_then(|v| i64::try_from(v).ok()))
        }
        (Decimal { scale: s, .. }, Double) => {
            cast.map::<Decimal128Type, Float64Type>(move |v| Some(number::decimal_to_double(v, s)))
        }
        (Double, Integer) => cast.map::<Float64Type, Int32Type>(|v| whole(v).and_then(|v| i32::try_from(v).ok())),
        (Double, Bigint) => cast.map::<Float64Type, Int64Type>(|v| whole(v).and_then(|v| i64::try_from(v).ok())),
        (Double, Decimal { precision, scale }) => cast.map::<Float64Type, Decimal128Type>(move |v| {
            number::double_to_decimal(v, scale).filter(|v| number::fits_precision(*v, precision))
        }),
        (from, to) => unreachable!("bind refuses a cast from {from} to {to}"),
    }
}

fn exact(value: i128, from: u8, precision: u8, scale: u8) -> Option<i128> {
    number::rescale(value, from, scale).filter(|v| number::fits_precision(*v, precision))
}

#[expect(clippy::cast_possible_truncation, reason = "bounds are checked just before")]
fn whole(value: f64) -> Option<i128> {
    let rounded = value.round();
    if rounded.is_finite() && rounded.abs() < 1e37 { Some(rounded as i128) } else { None }
}

struct Cast<'a> {
    column: &'a Column,
    to: SqlType,
    lenient: bool,
    rows: usize,
}

impl Cast<'_> {
    fn len(&self) -> usize {
        if self.column.scalar { 1 } else { self.rows }
    }

    /// Gathers values, some of which fail.
    fn collect<T: ArrowPrimitiveType>(
        &self,
        value: impl Fn(usize) -> Option<T::Native>,
        shown: impl Fn(usize) -> String,
    ) -> Column {
        let len = self.len();
        let mut values = Vec::with_capacity(len);
        let mut valid = BooleanBufferBuilder::new(len);
        let mut errors = self.column.errors.clone();
        for row in 0..len {
            let found = if self.column.array.is_null(row) { None } else { value(row) };
            if found.is_none() && self.column.array.is_valid(row) && !self.lenient {
                self.fail(&mut errors, row, &shown(row));
            }
            valid.append(found.is_some());
            values.push(found.unwrap_or_default());
        }
        let nulls = NullBuffer::new(valid.finish());
        let array = PrimitiveArray::<T>::new(values.into(), Some(nulls)).with_data_type(self.to.arrow());
        Column::computed(Arc::new(array), self.column.scalar, errors)
    }

    fn fail(&self, errors: &mut RowErrors, row: usize, shown: &str) {
        let cut: String = shown.chars().take(80).collect();
        errors.add(row, format!("`{cut}` is no {}", self.to));
    }

    fn parse<T: ArrowPrimitiveType>(&self, parse: impl Fn(&str) -> Option<T::Native>) -> Column {
        let text = self.column.text();
        self.collect::<T>(|row| parse(text.value(row).trim()), |row| text.value(row).to_string())
    }

    fn map<A: ArrowPrimitiveType, B: ArrowPrimitiveType>(
        &self,
        convert: impl Fn(A::Native) -> Option<B::Native>,
    ) -> Column {
        let values = self.column.primitive::<A>();
        self.collect::<B>(|row| convert(values.value(row)), |row| self.shown(row))
    }

    fn shown(&self, row: usize) -> String {
        let mut text = String::new();
        json::write_text(&mut text, self.column.array.as_ref(), row);
        text
    }

    fn boolean_to_whole<T: ArrowPrimitiveType>(&self) -> Column
    where
        T::Native: From<bool>,
    {
        let values = self.column.array.as_boolean();
        self.collect::<T>(|row| Some(values.value(row).into()), |_| String::new())
    }

    fn whole_to_boolean<T: ArrowPrimitiveType>(&self) -> Column {
        let values = self.column.primitive::<T>();
        let array: BooleanArray = values.iter().map(|v| v.map(|v| v != T::Native::default())).collect();
        Column::computed(Arc::new(array), self.column.scalar, self.column.errors.clone())
    }

    fn to_boolean(&self) -> Column {
        let text = self.column.text();
        let mut errors = self.column.errors.clone();
        let mut values = Vec::with_capacity(self.len());
        for row in 0..self.len() {
            let value = match text.is_valid(row).then(|| text.value(row)) {
                Some(word) => {
                    let value = super::literal::boolean_word(word);
                    if value.is_none() && !self.lenient {
                        self.fail(&mut errors, row, word);
                    }
                    value
                }
                None => None,
            };
            values.push(value);
        }
        Column::computed(Arc::new(BooleanArray::from(values)), self.column.scalar, errors)
    }

    /// JSON has no spelling for infinities and what is not a number.
    fn finite_json(&self) -> Column {
        let values = self.column.primitive::<Float64Type>();
        let mut found = map_text(&[self.column], self.rows, |row, out| {
            let i = self.column.index(row);
            match values.value(i).is_finite() {
                true => out.extend_from_slice(self.shown(i).as_bytes()),
                false if self.lenient => {}
                false => return Err(format!("`{}` is not a value of json", self.shown(i))),
            }
            Ok(())
        });
        if self.lenient {
            let len = found.array.len();
            let valid = |row: usize| values.is_valid(row) && values.value(row).is_finite();
            let nulls = NullBuffer::from_iter((0..len).map(valid));
            let (offsets, bytes, _) = found.text().clone().into_parts();
            found.array = Arc::new(arrow_array::StringArray::new(offsets, bytes, Some(nulls)));
        }
        found
    }

    fn check_json(&self) -> Column {
        let text = self.column.text();
        let is_json = |row: usize| serde_json::from_str::<&serde_json::value::RawValue>(text.value(row)).is_ok();
        let mut errors = self.column.errors.clone();
        let mut valid = BooleanBufferBuilder::new(text.len());
        for row in 0..text.len() {
            let good = text.is_valid(row) && is_json(row);
            if !good && text.is_valid(row) && !self.lenient {
                self.fail(&mut errors, row, text.value(row));
            }
            valid.append(good);
        }
        let (offsets, values, _) = text.clone().into_parts();
        let array = arrow_array::StringArray::new(offsets, values, Some(NullBuffer::new(valid.finish())));
        Column::computed(Arc::new(array), self.column.scalar, errors)
    }
}
