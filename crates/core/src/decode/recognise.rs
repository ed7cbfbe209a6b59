//! Recognises how events are written from the first bytes of what holds them.

use super::csv::{Csv, Dialect};
use super::{BYTE_ORDER_MARK, Format, JsonLines, json};
use crate::values::{number, time};

/// What the bytes are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Recognised {
    /// One JSON object a line.
    JsonLines,
    /// CSV.
    Csv(Dialect),
    /// A Parquet file.
    Parquet,
    /// One JSON value over several lines: a document or a list, not lines.
    JsonDocument,
    /// Nothing at all.
    Empty,
    /// Text in UTF-16.
    Utf16,
    /// Lines that end in a carriage return alone.
    CarriageReturns,
    /// Records of which most have more values than the first.
    Uneven,
    /// None of these.
    Unknown,
}

impl Recognised {
    /// Its name for people.
    pub fn describe(&self) -> String {
        match self {
            Self::JsonLines => "JSON Lines".into(),
            Self::Csv(dialect) => {
                let delimiter = match dialect.delimiter {
                    b'\t' => "tab".to_string(),
                    other => format!("`{}`", char::from(other)),
                };
                format!(
                    "CSV, delimiter {delimiter}, {}",
                    if dialect.head { "with a header row" } else { "without a header row" }
                )
            }
            Self::Parquet => "Parquet".into(),
            Self::JsonDocument => "a JSON document, not JSON Lines".into(),
            Self::Empty => "empty".into(),
            Self::Utf16 => "text in UTF-16".into(),
            Self::CarriageReturns => "lines that end in a carriage return alone".into(),
            Self::Uneven => "the first line has fewer values than those after it".into(),
            Self::Unknown => "not recognised".into(),
        }
    }

    /// What to do about it, where it holds no events.
    pub fn remedy(&self) -> &'static str {
        match self {
            Self::JsonDocument => "write each object on a line of its own: jq -c '.[]' for a list, jq -c . for others",
            Self::Utf16 => "save it as UTF-8: iconv -f UTF-16 -t UTF-8",
            Self::CarriageReturns => "end its lines with line feeds: tr '\\r' '\\n'",
            Self::Uneven => "remove the lines before the header row: tail -n +2",
            Self::Empty => "there is nothing in it",
            _ => "JSON Lines, CSV and Parquet are known, also packed by gzip or zstd",
        }
    }

    /// The format that decodes it.
    pub fn format(&self) -> Option<Box<dyn Format>> {
        match self {
            Self::JsonLines => Some(Box::new(JsonLines)),
            Self::Csv(dialect) => Some(Box::new(Csv::new(dialect.clone()))),
            _ => None,
        }
    }
}

/// Looks at the first bytes, already unpacked. `whole` says that these are all; `name` that of the file, whose ending
/// decides where the bytes leave a doubt.
pub fn recognise(start: &[u8], whole: bool, name: &str) -> Recognised {
    if start.starts_with(b"PAR1") {
        return Recognised::Parquet;
    }
    if start.starts_with(&[0xff, 0xfe]) || start.starts_with(&[0xfe, 0xff]) {
        return Recognised::Utf16;
    }
    let text = start.strip_prefix(BYTE_ORDER_MARK).unwrap_or(start);
    let trimmed = text.trim_ascii();
    if trimmed.is_empty() {
        return Recognised::Empty;
    }
    if text.contains(&0) {
        return Recognised::Unknown;
    }
    if !trimmed.contains(&b'\n') && trimmed.contains(&b'\r') {
        return Recognised::CarriageReturns;
    }
    match trimmed[0] {
        b'{' => json_object(trimmed),
        b'[' if json_list(trimmed) => Recognised::JsonDocument,
        _ => match csv(text, whole, name) {
            Some(_) if is_uneven(text, whole) => Recognised::Uneven,
            Some(dialect) => Recognised::Csv(dialect),
            None => Recognised::Unknown,
        },
    }
}

/// Lines, or one object that is spread over several.
fn json_object(text: &[u8]) -> Recognised {
    let end = memchr::memchr(b'\n', text);
    let first = text[..end.unwrap_or(text.len())].trim_ascii_end();
    let opens_only = first == b"{" || first.ends_with(b",") || first.ends_with(b":") || first.ends_with(b"{");
    match end {
        Some(_) if opens_only && !json::is_value(first) => Recognised::JsonDocument,
        _ => Recognised::JsonLines,
    }
}

fn json_list(text: &[u8]) -> bool {
    matches!(text[1..].trim_ascii_start().first(), Some(b'{' | b'[' | b'"' | b'0'..=b'9' | b']'))
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
fn csv(text: &[u8], whole: bool, name: &str) -> Option<Dialect> {
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

/// Whether the first record names columns: texts that are filled, different, and no values themselves.
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn dialect(delimiter: u8, head: bool) -> Recognised {
        Recognised::Csv(Dialect { delimiter, head, ..Dialect::default() })
    }

    #[rstest]
    #[case("{\"a\":1}\n{\"a\":2}\n", "x", Recognised::JsonLines)]
    #[case("\u{feff}{\"a\":1}", "x.csv", Recognised::JsonLines)]
    #[case("{\n  \"a\": 1\n}\n", "x.json", Recognised::JsonDocument)]
    #[case("[{\"a\":1}]", "x.json", Recognised::JsonDocument)]
    #[case("PAR1....", "x", Recognised::Parquet)]
    #[case("  \n", "x", Recognised::Empty)]
    #[case("\u{1}\u{0}x", "x.csv", Recognised::Unknown)]
    #[case("id,x\r1,2\r", "x.csv", Recognised::CarriageReturns)]
    #[case("# exported\nid,name\n1,x\n2,y\n", "x.csv", Recognised::Uneven)]
    #[case("one line of words", "x.txt", Recognised::Unknown)]
    #[case("id,name\n1,x\n2,y\n", "x", dialect(b',', true))]
    #[case("id;name;note\n1;x;a,b\n2;y;\"c;d\"\n", "x", dialect(b';', true))]
    #[case("id\tname\n1\tx, y\n", "x", dialect(b'\t', true))]
    #[case("1,x\n2,y\n", "x", dialect(b',', false))]
    #[case("2026-04-01|7\n2026-04-02|8\n", "x", dialect(b'|', false))]
    #[case("lock,depot\nupper,arlen\nlower,corve\n", "x", dialect(b',', true))]
    #[case("upper,arlen\nupper,corve\n", "x", dialect(b',', false))]
    #[case("name\nx\n", "x.csv", dialect(b',', true))]
    #[case("id,note\n1,\"two\nlines, and more\"\n2,x", "x", dialect(b',', true))]
    fn by_their_first_bytes(#[case] text: &str, #[case] name: &str, #[case] expected: Recognised) {
        assert_eq!(recognise(text.as_bytes(), true, name), expected);
    }

    #[test]
    fn single_quotes() {
        let Recognised::Csv(dialect) = recognise(b"id;name\n1;'a;b'\n2;'c'\n3;'d'\n", true, "x") else { panic!() };
        assert_eq!((dialect.delimiter, dialect.quote, dialect.head), (b';', b'\'', true));
        let Recognised::Csv(dialect) = recognise(b"id|name\n1|'a|b'\n2|'c|d'\n", true, "x") else { panic!() };
        assert_eq!((dialect.delimiter, dialect.quote), (b'|', b'\''));
    }
}
