//! Parts of a text by their places, and what is taken from its ends.

use super::{Arguments, byte_of};
use crate::expr::column::{Column, map_text};

/// The first or the last characters; all but so many at the other side where the count is negative.
pub(super) fn side(a: &Arguments<'_>, left: bool) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (text, count) = (a.text(0, row), a.whole(1, row));
        let places = usize::try_from(count.unsigned_abs()).unwrap_or(usize::MAX);
        // A place from the end is one from the beginning, once the characters are counted.
        let from_end = || byte_of(text, text.chars().count().saturating_sub(places));
        let part = match (left, count >= 0) {
            (true, true) => &text[..byte_of(text, places)],
            (true, false) => &text[..from_end()],
            (false, true) => &text[from_end()..],
            (false, false) => &text[byte_of(text, places)..],
        };
        out.extend_from_slice(part.as_bytes());
        Ok(())
    })
}

/// Characters from a place on, by the rules of SQL: places before the first count, but hold nothing.
pub(super) fn substring(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (start, end) = a.span(row)?;
        let skip = usize::try_from(start.max(1) - 1).unwrap_or(usize::MAX);
        let take = usize::try_from(end.saturating_sub(start.max(1)).max(0)).unwrap_or(usize::MAX);
        let rest = &a.text(0, row)[byte_of(a.text(0, row), skip)..];
        out.extend_from_slice(&rest.as_bytes()[..byte_of(rest, take)]);
        Ok(())
    })
}

/// White space taken from both ends.
pub(super) fn trim_blanks(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        out.extend_from_slice(a.text(0, row).trim().as_bytes());
        Ok(())
    })
}

/// Characters of a set taken from the ends, spaces where none are given.
pub(super) fn trim(a: &Arguments<'_>, start: bool, end: bool) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let set = if a.columns.len() > 1 { a.text(1, row) } else { " " };
        let mut text = a.text(0, row);
        if start {
            text = text.trim_start_matches(|c| set.contains(c));
        }
        if end {
            text = text.trim_end_matches(|c| set.contains(c));
        }
        out.extend_from_slice(text.as_bytes());
        Ok(())
    })
}

/// Another text in the place of some characters.
pub(super) fn overlay(a: &Arguments<'_>) -> Column {
    map_text(&a.all(), a.rows, |row, out| {
        let (text, new, start) = (a.text(0, row), a.text(1, row), a.whole(2, row));
        let places = |place: i64| usize::try_from(place).unwrap_or(usize::MAX);
        if start < 1 {
            return Err("overlay: places are counted from 1".into());
        }
        let count = match a.columns.len() {
            3 => i64::try_from(new.chars().count()).unwrap_or(i64::MAX),
            _ => a.whole(3, row),
        };
        // A count below zero repeats what stands before.
        let rest = start.saturating_add(count).max(1);
        out.extend_from_slice(&text.as_bytes()[..byte_of(text, places(start - 1))]);
        out.extend_from_slice(new.as_bytes());
        out.extend_from_slice(&text.as_bytes()[byte_of(text, places(rest - 1))..]);
        Ok(())
    })
}
