//! Casts to narrower types.

use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Float64Type, Int32Type};
use arrow_array::{Array as _, ArrayRef, Float64Array, StringArray};
use arrow_buffer::NullBuffer;

use super::column::Column;
use crate::limit::Limit;

/// Narrows a column. A text that is too long is cut, a number is rounded; what does not fit is an error of its row, or null where
/// `lenient`.
pub(super) fn compute(column: &Column, limit: Limit, lenient: bool) -> Column {
    let mut errors = column.errors.clone();
    let count = column.array.len();
    let mut fails = vec![false; count];
    let array: ArrayRef = match limit {
        Limit::Smallint => {
            let values = column.array.as_primitive::<Int32Type>();
            for (row, value) in values.iter().enumerate() {
                fails[row] = value.is_some_and(|v| !limit.takes_whole(v));
            }
            Arc::clone(&column.array)
        }
        Limit::Real => {
            let values = column.array.as_primitive::<Float64Type>().iter().enumerate().map(|(row, value)| {
                let kept = value.and_then(|v| limit.double(v));
                fails[row] = value.is_some() && kept.is_none();
                kept
            });
            Arc::new(values.collect::<Float64Array>())
        }
        Limit::Varchar(_) | Limit::Char(_) | Limit::Uuid | Limit::Bytea | Limit::Time | Limit::List(_) => {
            let texts = column.array.as_string::<i32>();
            let values = texts.iter().enumerate().map(|(row, text)| {
                let kept = text.and_then(|t| limit.cast_text(t));
                fails[row] = text.is_some() && kept.is_none();
                kept
            });
            Arc::new(values.collect::<StringArray>())
        }
    };
    if !fails.contains(&true) {
        return Column { array, scalar: column.scalar, errors };
    }
    if !lenient {
        for row in (0..count).filter(|row| fails[*row]) {
            let mut text = String::new();
            crate::values::json::write_text(&mut text, column.array.as_ref(), row);
            let shown: String = text.chars().take(40).collect();
            errors.add(
                row,
                match limit.reads_constants() {
                    true => format!("`{shown}` is no {limit}"),
                    false => format!("{shown} does not fit {limit}"),
                },
            );
        }
    }
    let kept: NullBuffer = (0..count).map(|row| !fails[row] && array.is_valid(row)).collect::<Vec<_>>().into();
    let data = array.to_data().into_builder().nulls(Some(kept)).build();
    let array = data.map_or(array, arrow_array::make_array);
    Column { array, scalar: column.scalar, errors }
}
