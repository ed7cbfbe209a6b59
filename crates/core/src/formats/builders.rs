//! Columns that grow value by value and can be cut back to where a bad event began.

use std::borrow::Cow;
use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array, StringArray,
    TimestampMicrosecondArray,
};
use arrow_buffer::{BooleanBufferBuilder, NullBuffer, OffsetBuffer};

use crate::limit::Limit;
use crate::types::SqlType;
use crate::values::bytes::BytesSpelling;

/// The values of one column so far.
pub(crate) struct ColumnBuilder {
    values: Values,
    valid: BooleanBufferBuilder,
    nulls: usize,
    ty: SqlType,
}

pub(crate) enum Values {
    Text { offsets: Vec<i32>, bytes: Vec<u8> },
    Boolean(BooleanBufferBuilder),
    Integer(Vec<i32>),
    Bigint(Vec<i64>),
    Double(Vec<f64>),
    Decimal(Vec<i128>),
    Date(Vec<i32>),
    Timestamptz(Vec<i64>),
}

impl ColumnBuilder {
    pub(crate) fn new(ty: SqlType) -> Self {
        let values = match ty {
            SqlType::Text | SqlType::Json | SqlType::Timestamp | SqlType::Interval | SqlType::Null => {
                Values::Text { offsets: vec![0], bytes: Vec::new() }
            }
            SqlType::Boolean => Values::Boolean(BooleanBufferBuilder::new(0)),
            SqlType::Integer => Values::Integer(Vec::new()),
            SqlType::Bigint => Values::Bigint(Vec::new()),
            SqlType::Double => Values::Double(Vec::new()),
            SqlType::Decimal { .. } => Values::Decimal(Vec::new()),
            SqlType::Date => Values::Date(Vec::new()),
            SqlType::Timestamptz => Values::Timestamptz(Vec::new()),
        };
        Self { values, valid: BooleanBufferBuilder::new(0), nulls: 0, ty }
    }

    pub(super) fn len(&self) -> usize {
        self.valid.len()
    }

    pub(crate) fn push_null(&mut self) {
        match &mut self.values {
            Values::Text { offsets, bytes } => offsets.push(end(bytes)),
            Values::Boolean(values) => values.append(false),
            Values::Integer(values) | Values::Date(values) => values.push(0),
            Values::Bigint(values) | Values::Timestamptz(values) => values.push(0),
            Values::Double(values) => values.push(0.0),
            Values::Decimal(values) => values.push(0),
        }
        self.valid.append(false);
        self.nulls += 1;
    }

    /// Adds a text by writing its bytes.
    pub(crate) fn push_text(&mut self, text: &[u8]) {
        if let Values::Text { offsets, bytes } = &mut self.values {
            bytes.extend_from_slice(text);
            offsets.push(end(bytes));
            self.valid.append(true);
        }
    }

    /// The values, for adding one that is not null; [`Self::pushed`] must follow.
    pub(crate) fn values(&mut self) -> &mut Values {
        &mut self.values
    }

    pub(crate) fn pushed(&mut self) {
        self.valid.append(true);
    }

    /// Narrows the last value; gives it back where it does not fit.
    pub(super) fn narrow_last(&mut self, limit: Limit, spelling: BytesSpelling) -> Result<(), String> {
        if self.len() == 0 || !self.valid.get_bit(self.len() - 1) {
            return Ok(());
        }
        match &mut self.values {
            Values::Text { offsets, bytes } => {
                let Some(start) = offsets.len().checked_sub(2).and_then(|i| usize::try_from(offsets[i]).ok()) else {
                    return Ok(());
                };
                let text = std::str::from_utf8(&bytes[start..]).unwrap_or_default();
                let kept = match limit {
                    Limit::Bytea => spelling.kept(text).map(Cow::Owned),
                    _ => limit.text(text),
                };
                match kept {
                    None => return Err(text.to_string()),
                    Some(Cow::Borrowed(kept)) => bytes.truncate(start + kept.len()),
                    Some(Cow::Owned(kept)) => bytes.splice(start.., kept.bytes()).for_each(drop),
                }
                if let Some(last) = offsets.last_mut() {
                    *last = end(bytes);
                }
            }
            Values::Integer(values) => {
                if let Some(value) = values.last().filter(|v| !limit.takes_whole(**v)) {
                    return Err(value.to_string());
                }
            }
            Values::Double(values) => {
                if let Some(value) = values.last_mut() {
                    *value = limit.double(*value).ok_or_else(|| value.to_string())?;
                }
            }
            _ => {}
        }
        Ok(())
    }

    /// Forgets all values from a row on.
    pub(crate) fn truncate(&mut self, rows: usize) {
        if self.len() <= rows {
            return;
        }
        for row in rows..self.len() {
            self.nulls -= usize::from(!self.valid.get_bit(row));
        }
        self.valid.truncate(rows);
        match &mut self.values {
            Values::Text { offsets, bytes } => {
                offsets.truncate(rows + 1);
                bytes.truncate(usize::try_from(offsets[rows]).unwrap_or(0));
            }
            Values::Boolean(values) => values.truncate(rows),
            Values::Integer(values) | Values::Date(values) => values.truncate(rows),
            Values::Bigint(values) | Values::Timestamptz(values) => values.truncate(rows),
            Values::Double(values) => values.truncate(rows),
            Values::Decimal(values) => values.truncate(rows),
        }
    }

    /// The column as an array; the builder starts again with room for as much again.
    pub(crate) fn finish(&mut self) -> ArrayRef {
        let rows = self.len();
        let valid = self.valid.finish();
        self.valid = BooleanBufferBuilder::new(rows);
        let nulls = (std::mem::take(&mut self.nulls) > 0).then(|| NullBuffer::new(valid));
        fn take<T>(values: &mut Vec<T>) -> Vec<T> {
            let capacity = values.len();
            std::mem::replace(values, Vec::with_capacity(capacity))
        }
        match &mut self.values {
            Values::Text { offsets, bytes } => {
                let (offsets, bytes) = (take_offsets(offsets), take(bytes));
                let offsets = OffsetBuffer::new(offsets.into());
                Arc::new(StringArray::try_new(offsets, bytes.into(), nulls).expect("texts were checked to be UTF-8"))
            }
            Values::Boolean(values) => Arc::new(BooleanArray::new(values.finish(), nulls)),
            Values::Integer(values) => Arc::new(Int32Array::new(take(values).into(), nulls)),
            Values::Bigint(values) => Arc::new(Int64Array::new(take(values).into(), nulls)),
            Values::Double(values) => Arc::new(Float64Array::new(take(values).into(), nulls)),
            Values::Decimal(values) => {
                Arc::new(Decimal128Array::new(take(values).into(), nulls).with_data_type(self.ty.arrow()))
            }
            Values::Date(values) => Arc::new(Date32Array::new(take(values).into(), nulls)),
            Values::Timestamptz(values) => {
                Arc::new(TimestampMicrosecondArray::new(take(values).into(), nulls).with_timezone("UTC"))
            }
        }
    }
}

fn take_offsets(offsets: &mut Vec<i32>) -> Vec<i32> {
    let mut next = Vec::with_capacity(offsets.len());
    next.push(0);
    std::mem::replace(offsets, next)
}

/// Offsets of a column stay below 2 GiB: the decoder starts a new batch of rows long before.
fn end(bytes: &[u8]) -> i32 {
    i32::try_from(bytes.len()).unwrap_or(i32::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::Array as _;
    use rstest::rstest;

    #[rstest]
    #[case(SqlType::Text)]
    #[case(SqlType::Boolean)]
    #[case(SqlType::Integer)]
    #[case(SqlType::Bigint)]
    #[case(SqlType::Double)]
    #[case(SqlType::Decimal { precision: 6, scale: 2 })]
    #[case(SqlType::Date)]
    #[case(SqlType::Timestamptz)]
    #[case(SqlType::Json)]
    fn a_cut_row_leaves_no_trace(#[case] ty: SqlType) {
        let mut column = ColumnBuilder::new(ty);
        column.push_null();
        match column.values() {
            Values::Text { .. } => column.push_text(b"xy"),
            _ => column.push_null(),
        }
        column.push_null();
        column.truncate(1);
        assert_eq!(column.len(), 1);
        let array = column.finish();
        assert_eq!((array.len(), array.null_count()), (1, 1));
        assert_eq!(array.data_type(), &ty.arrow());
        assert_eq!(column.finish().len(), 0);
    }
}
