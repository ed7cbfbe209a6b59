//! Parts of a text that are found, replaced, split and put together.

use arrow_array::types::Int32Type;

use super::{Arguments, filled};
use crate::expr::column::{Column, map_primitive, map_text};
use crate::types::SqlType;

/// The arguments after the first, with the first between them; nulls passed over.
pub(super) fn concat_ws(a: &Arguments<'_>) -> Column {
    let mut presence: Vec<Column> = a.columns.iter().skip(1).map(filled).collect();
    presence.push(a.columns[0].clone());
    let all: Vec<&Column> = presence.iter().collect();
    map_text(&all, a.rows, |row, out| {
        let mut is_first = true;
        for column in a.columns[1..].iter().filter(|c| !c.is_null(row)) {
            if !is_first {
                out.extend_from_slice(a.text(0, row).as_bytes());
            }
            is_first = false;
            out.extend_from_slice(column.text_at(row).as_bytes());
        }
        Ok(())
    })
}

/// Every `from` replaced by `to`.
pub(super) fn replace(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (text, from, to) = (a.text(0, row), a.text(1, row), a.text(2, row));
        let mut rest = 0;
        if !from.is_empty() {
            for at in memchr::memmem::find_iter(text.as_bytes(), from.as_bytes()) {
                out.extend_from_slice(&text.as_bytes()[rest..at]);
                out.extend_from_slice(to.as_bytes());
                rest = at + from.len();
            }
        }
        out.extend_from_slice(&text.as_bytes()[rest..]);
        Ok(())
    })
}

/// The part between two separators.
pub(super) fn split_part(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (text, separator, n) = (a.text(0, row), a.text(1, row), a.whole(2, row));
        if n == 0 {
            return Err("split_part: parts are counted from 1, or from -1 at the end".into());
        }
        let place = usize::try_from(n.unsigned_abs() - 1).unwrap_or(usize::MAX);
        let part = match (separator.is_empty(), n > 0) {
            // Nothing separates nothing: the text is its only part.
            (true, _) => (place == 0).then_some(text),
            (false, true) => text.split(separator).nth(place),
            (false, false) => {
                // Separators are found from the left, also where they overlap.
                let count = text.split(separator).count();
                count.checked_sub(place + 1).and_then(|place| text.split(separator).nth(place))
            }
        };
        out.extend_from_slice(part.unwrap_or_default().as_bytes());
        Ok(())
    })
}

/// The place of a part, 0 where it is not there.
pub(super) fn strpos(a: &Arguments<'_>) -> Column {
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        let (text, part) = (a.text(0, row), a.text(1, row));
        let place = text.find(part).map_or(0, |at| text[..at].chars().count() + 1);
        Ok(Some(i32::try_from(place).unwrap_or(i32::MAX)))
    })
}

/// Characters replaced one by one, or left out.
pub(super) fn translate(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (from, to) = (a.text(1, row), a.text(2, row));
        let mut buffer = [0; 4];
        for c in a.text(0, row).chars() {
            let changed = match from.chars().position(|other| other == c) {
                Some(place) => to.chars().nth(place),
                None => Some(c),
            };
            if let Some(c) = changed {
                out.extend_from_slice(c.encode_utf8(&mut buffer).as_bytes());
            }
        }
        Ok(())
    })
}
