//! Functions of text.

use std::sync::Arc;

use arrow_array::types::{Int32Type, Int64Type};
use arrow_array::{Array, Int32Array};

use crate::expr::column::{Column, map_text, merged, nulls, shape, text_array};

/// Lower case. Where all is ASCII the whole buffer is changed at once.
pub(super) fn lower(columns: &[Column], rows: usize) -> Column {
    change_case(&columns[0], rows, <[u8]>::make_ascii_lowercase, str::to_lowercase)
}

/// Upper case.
pub(super) fn upper(columns: &[Column], rows: usize) -> Column {
    change_case(&columns[0], rows, <[u8]>::make_ascii_uppercase, str::to_uppercase)
}

fn change_case(column: &Column, rows: usize, ascii: fn(&mut [u8]), unicode: fn(&str) -> String) -> Column {
    let text = column.text();
    let (start, end) = (text.value_offsets()[0], text.value_offsets()[text.len()]);
    let range = usize::try_from(start).unwrap_or(0)..usize::try_from(end).unwrap_or(0);
    let bytes = &text.value_data()[range];
    if bytes.is_ascii() {
        let mut changed = bytes.to_vec();
        ascii(&mut changed);
        let offsets = text.value_offsets().iter().map(|o| o - start).collect();
        let array = text_array(offsets, changed, text.nulls().cloned());
        return Column::computed(array, column.scalar, column.errors.clone());
    }
    map_text(&[column], rows, |row, out| {
        let value = text.value(column.index(row));
        let at = out.len();
        if value.is_ascii() {
            out.extend_from_slice(value.as_bytes());
            ascii(&mut out[at..]);
        } else {
            out.extend_from_slice(unicode(value).as_bytes());
        }
        Ok(())
    })
}

/// All arguments one after the other, nulls passed over.
pub(super) fn concat(columns: &[Column], rows: usize) -> Column {
    let all: Vec<&Column> = columns.iter().collect();
    let (scalar, len) = shape(&all, rows);
    let mut bytes = Vec::new();
    let mut offsets = Vec::with_capacity(len + 1);
    offsets.push(0_i32);
    for row in 0..len {
        for column in columns.iter().filter(|c| !c.is_null(row)) {
            bytes.extend_from_slice(column.text().value(column.index(row)).as_bytes());
        }
        offsets.push(i32::try_from(bytes.len()).unwrap_or(i32::MAX));
    }
    Column::computed(text_array(offsets, bytes, None), scalar, merged(&all, rows))
}

/// Two texts one after the other, null if either is: the operator `||`.
pub(in crate::expr) fn join(columns: &[Column], rows: usize) -> Column {
    let (a, b) = (&columns[0], &columns[1]);
    map_text(&[a, b], rows, |row, out| {
        out.extend_from_slice(a.text().value(a.index(row)).as_bytes());
        out.extend_from_slice(b.text().value(b.index(row)).as_bytes());
        Ok(())
    })
}

/// The number of characters.
pub(super) fn length(columns: &[Column], rows: usize) -> Column {
    let column = &columns[0];
    let (scalar, len) = shape(&[column], rows);
    let text = column.text();
    let values: Vec<i32> =
        (0..len).map(|row| i32::try_from(text.value(row).chars().count()).unwrap_or(i32::MAX)).collect();
    let array = Int32Array::new(values.into(), nulls(&[column], len));
    Column::computed(Arc::new(array), scalar, merged(&[column], rows))
}

/// Every `from` replaced by `to`.
pub(super) fn replace(columns: &[Column], rows: usize) -> Column {
    let all: Vec<&Column> = columns.iter().collect();
    let value = |i: usize, row: usize| columns[i].text().value(columns[i].index(row)).to_string();
    map_text(&all, rows, |row, out| {
        let (text, from, to) = (value(0, row), value(1, row), value(2, row));
        let replaced = if from.is_empty() { text } else { text.replace(&from, &to) };
        out.extend_from_slice(replaced.as_bytes());
        Ok(())
    })
}

/// White space taken from both ends.
pub(super) fn trim(columns: &[Column], rows: usize) -> Column {
    let column = &columns[0];
    map_text(&[column], rows, |row, out| {
        out.extend_from_slice(column.text().value(column.index(row)).trim().as_bytes());
        Ok(())
    })
}

/// Characters from a place on, by the rules of SQL: places before the first count, but hold nothing.
pub(super) fn substring(columns: &[Column], rows: usize) -> Column {
    let all: Vec<&Column> = columns.iter().collect();
    let text = &columns[0];
    map_text(&all, rows, |row, out| {
        let start = whole(&columns[1], row);
        let end = match columns.get(2).map(|c| whole(c, row)) {
            Some(count) if count < 0 => return Err("substring: a count cannot be negative".into()),
            Some(count) => start.saturating_add(count),
            None => i64::MAX,
        };
        let skip = usize::try_from(start.max(1) - 1).unwrap_or(usize::MAX);
        let take = usize::try_from(end.saturating_sub(start.max(1)).max(0)).unwrap_or(usize::MAX);
        let value = text.text().value(text.index(row));
        let mut buffer = [0_u8; 4];
        for c in value.chars().skip(skip).take(take) {
            out.extend_from_slice(c.encode_utf8(&mut buffer).as_bytes());
        }
        Ok(())
    })
}

fn whole(column: &Column, row: usize) -> i64 {
    let i = column.index(row);
    match column.array.data_type() {
        arrow_schema::DataType::Int32 => column.primitive::<Int32Type>().value(i).into(),
        _ => column.primitive::<Int64Type>().value(i),
    }
}
