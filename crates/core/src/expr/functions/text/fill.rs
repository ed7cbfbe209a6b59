//! Texts that become longer, and what hides their characters.

use super::{Arguments, byte_of};
use crate::expr::column::{Column, map_text};

/// Bytes of one text that is made by filling or repeating.
const MAX_FILLED: usize = 16 << 20;

fn too_long(name: &str) -> String {
    format!("{name}: the result is longer than 16 MiB")
}

/// The text so many times.
pub(super) fn repeat(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (text, count) = (a.text(0, row), usize::try_from(a.whole(1, row)).unwrap_or(0));
        if text.len().checked_mul(count).is_none_or(|length| length > MAX_FILLED) {
            return Err(too_long("repeat"));
        }
        // Nothing, however often, is nothing.
        let count = if text.is_empty() { 0 } else { count };
        (0..count).for_each(|_| out.extend_from_slice(text.as_bytes()));
        Ok(())
    })
}

/// The text filled to a length at one side, or cut to it at its end.
pub(super) fn pad(a: &Arguments<'_>, at_start: bool) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (text, length) = (a.text(0, row), usize::try_from(a.whole(1, row)).unwrap_or(0));
        let fill = if a.columns.len() > 2 { a.text(2, row) } else { " " };
        let missing = length.saturating_sub(text.chars().count());
        if missing == 0 || fill.is_empty() {
            out.extend_from_slice(&text.as_bytes()[..byte_of(text, length)]);
            return Ok(());
        }
        if missing > MAX_FILLED {
            return Err(too_long(if at_start { "lpad" } else { "rpad" }));
        }
        let fill_up = |out: &mut Vec<u8>| {
            let mut buffer = [0; 4];
            for c in fill.chars().cycle().take(missing) {
                out.extend_from_slice(c.encode_utf8(&mut buffer).as_bytes());
            }
        };
        if at_start {
            fill_up(out);
            out.extend_from_slice(text.as_bytes());
        } else {
            out.extend_from_slice(text.as_bytes());
            fill_up(out);
        }
        Ok(())
    })
}

/// Every character but the last ones hidden by a sign.
pub(super) fn mask(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (text, kept) = (a.text(0, row), usize::try_from(a.whole(1, row)).unwrap_or(0));
        let sign = if a.columns.len() > 2 { a.text(2, row) } else { "*" };
        let hidden = text.chars().count().saturating_sub(kept);
        if hidden.saturating_mul(sign.len()) > MAX_FILLED {
            return Err(too_long("mask"));
        }
        (0..hidden).for_each(|_| out.extend_from_slice(sign.as_bytes()));
        out.extend_from_slice(&text.as_bytes()[byte_of(text, hidden)..]);
        Ok(())
    })
}
