//! Functions of time.

use std::sync::Arc;

use arrow_array::TimestampMicrosecondArray;
use arrow_array::types::TimestampMicrosecondType;

use crate::expr::column::{Column, merged, nulls, shape};
use crate::values::time::truncate;

/// The start of a unit of time. Bind makes sure that the unit is one of the known words.
pub(super) fn date_trunc(columns: &[Column], rows: usize) -> Column {
    let (unit, column) = (&columns[0], &columns[1]);
    let word = unit.constant_text().unwrap_or_default().to_lowercase();
    let (scalar, len) = shape(&[column], rows);
    let nulls = nulls(&[column], len);
    let mut errors = merged(&[column], rows);
    let values = column.primitive::<TimestampMicrosecondType>();
    let mut out = Vec::with_capacity(len);
    for row in 0..len {
        let moment = values.value(row);
        let cut = truncate(&word, moment);
        if cut.is_none() && nulls.as_ref().is_none_or(|n| n.is_valid(row)) {
            errors.add(row, "the moment lies outside the calendar");
        }
        out.push(cut.unwrap_or_default());
    }
    let array = TimestampMicrosecondArray::new(out.into(), nulls).with_timezone("UTC");
    Column::computed(Arc::new(array), scalar, errors)
}
