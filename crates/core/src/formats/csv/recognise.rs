//! Recognises CSV and its dialect.

use super::{Csv, Dialect};
use crate::formats::Format as _;
use crate::formats::recognise::{Recognised, Start};
use crate::values::{number, time};

pub(super) fn recognise(start: &Start<'_>) -> Option<Recognised> {
    let dialect = dialect_of(start.text, start.whole, start.name)?;
    if is_uneven(start.text, start.whole) {
        return Some(Recognised::Uneven);
    }
    Some(Recognised::Events(Csv::shared(dialect)))
}

const DELIMITERS: &[u8] = b",;\t|";

/// Whether the first record is one value and most of the others are several: a title before the names, say.
fn is_uneven(text: &[u8], whole: bool) -> bool {
    DELIMITERS.iter().any(|delimiter| {
        let dialect = Dialect { delimiter: *delimiter, ..Dialect::default() };
        let counts: Vec<usize> = records(text, whole, &dialect).iter().map(Vec::len).collect();
        let several = counts.iter().skip(1).filter(|n| **n > 1).count();
        counts.first() == Some(&1) && several > 0 && several * 2 >= counts.len() - 1
    }) && DELIMITERS.iter().all(|delimiter| {
        let dialect = Dialect { delimiter: *delimiter, ..Dialect::default() };
        records(text, whole, &dialect).first().is_none_or(|r| r.len() == 1)
    })
}

/// Records that are looked at.
const RECORDS: u64 = 200;

/// The dialect by which most records have one and the same number of values, more than one.
fn dialect_of(text: &[u8], whole: bool, name: &str) -> Option<Dialect> {
    let mut best: Option<(u64, usize, Dialect)> = None;
    // Single quotes stand around values only where double ones do not.
    let quotes: &[u8] = if memchr::memchr(b'"', text).is_none() { b"\"'" } else { b"\"" };
    for (delimiter, quote) in DELIMITERS.iter().flat_map(|d| quotes.iter().map(move |q| (*d, *q))) {
        let dialect = Dialect { delimiter, quote, ..Dialect::default() };
        let counts: Vec<usize> = records(text, whole, &dialect).iter().map(Vec::len).collect();
        let Some(first) = counts.first().copied().filter(|n| *n > 1) else { continue };
        let alike = counts.iter().filter(|n| **n == first).count();
        // In 1000: as good as equal shares are decided by the number of values.
        let share = alike as u64 * 1000 / counts.len() as u64;
        let better = best.as_ref().is_none_or(|(s, n, _)| (share / 50, first) > (s / 50, *n));
        if share >= 500 && better {
            best = Some((share, first, dialect));
        }
    }
    let mut dialect = match best {
        Some((_, _, dialect)) => dialect,
        None if name.ends_with(".csv") || name.ends_with(".tsv") => Dialect::default(),
        None => return None,
    };
    if dialect.quote == b'"' && quotes.len() > 1 && has_single_quotes(&records(text, whole, &dialect)) {
        dialect.quote = b'\'';
    }
    dialect.head = has_head(&records(text, whole, &dialect));
    Some(dialect)
}

fn records(text: &[u8], whole: bool, dialect: &Dialect) -> Vec<Vec<String>> {
    let format = Csv::new(Dialect { head: false, ..dialect.clone() });
    let mut found = Vec::new();
    let mut at = 0;
    while (found.len() as u64) < RECORDS {
        let cut = format.cut(&text[at..], 1);
        let end = match cut.records {
            1 => at + cut.bytes,
            // The last record may be cut off where these are not all bytes.
            _ if whole && !text[at..].trim_ascii().is_empty() => text.len(),
            _ => break,
        };
        let record = text[at..end].trim_ascii_start();
        if !record.is_empty() {
            found.push(dialect.values(record));
        }
        at = end;
    }
    found
}

fn has_single_quotes(records: &[Vec<String>]) -> bool {
    let quoted = |v: &String| v.len() >= 2 && v.starts_with('\'') && v.ends_with('\'');
    records.iter().flatten().filter(|v| quoted(v)).count() >= 2
}

/// Whether the first record names columns: texts that are filled, distinct, and not values themselves.
fn has_head(records: &[Vec<String>]) -> bool {
    let Some(first) = records.first() else { return true };
    let is_value = |v: &String| {
        let v = v.trim().as_bytes();
        number::is_number(v) || time::parse_timestamp(v).is_some() || time::parse_date(v).is_some()
    };
    let is_name =
        |(i, v): (usize, &String)| !v.trim().is_empty() && v.len() <= 100 && !is_value(v) && !first[..i].contains(v);
    if !first.iter().enumerate().all(is_name) {
        return false;
    }
    // Where every record is of texts alone, names are those that do not come again as values.
    let body = &records[1..];
    body.is_empty()
        || body.iter().flatten().any(is_value)
        || first.iter().enumerate().all(|(i, v)| !body.iter().any(|r| r.get(i) == Some(v)))
}
