//! Upper and lower case, and the order of characters.

use super::{Arguments, text_array};
use crate::expr::column::{Column, map_text};

/// Lower case. Where all is ASCII the whole buffer is changed at once.
pub(super) fn lower(a: &Arguments<'_>) -> Column {
    change_case(a, <[u8]>::make_ascii_lowercase, str::to_lowercase)
}

/// Upper case.
pub(super) fn upper(a: &Arguments<'_>) -> Column {
    change_case(a, <[u8]>::make_ascii_uppercase, str::to_uppercase)
}

fn change_case(a: &Arguments<'_>, ascii: fn(&mut [u8]), unicode: fn(&str) -> String) -> Column {
    use arrow_array::Array as _;
    let column = &a.columns[0];
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
    map_text(&[column], a.rows, |row, out| {
        let value = a.text(0, row);
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

/// Words are letters and digits that stand together.
pub(super) fn initcap(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let mut within = false;
        let mut buffer = [0; 4];
        for c in a.text(0, row).chars() {
            // One character stays one character, as in the databases.
            let changed = if within { single(c.to_lowercase(), c) } else { single(c.to_uppercase(), c) };
            out.extend_from_slice(changed.encode_utf8(&mut buffer).as_bytes());
            within = c.is_alphanumeric();
        }
        Ok(())
    })
}

fn single(mut changed: impl Iterator<Item = char>, original: char) -> char {
    match (changed.next(), changed.next()) {
        (Some(c), None) => c,
        _ => original,
    }
}

/// From the last character to the first.
pub(super) fn reverse(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let mut buffer = [0; 4];
        for c in a.text(0, row).chars().rev() {
            out.extend_from_slice(c.encode_utf8(&mut buffer).as_bytes());
        }
        Ok(())
    })
}
