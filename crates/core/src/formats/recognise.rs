//! Recognises how events are written from the first bytes of what holds them.

use std::sync::Arc;

use super::whole::WholeFile;
use super::{BYTE_ORDER_MARK, Format, KINDS};

/// What the bytes are.
#[derive(Clone, Debug)]
pub enum Recognised {
    /// Events of a format.
    Events(Arc<dyn Format>),
    /// Nothing at all.
    Empty,
    /// Text in UTF-16.
    Utf16,
    /// Lines that end in a carriage return alone.
    CarriageReturns,
    /// Records, most of which have more values than the first.
    Uneven,
    /// None of these.
    Unknown,
}

impl Recognised {
    /// Its name for people.
    pub fn describe(&self) -> String {
        match self {
            Self::Events(format) => format.describe(),
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
            Self::Utf16 => "save it as UTF-8: iconv -f UTF-16 -t UTF-8",
            Self::CarriageReturns => "end its lines with line feeds: tr '\\r' '\\n'",
            Self::Uneven => "remove the lines before the header row: tail -n +2",
            Self::Empty => "there is nothing in it",
            _ => {
                "JSON, CSV and lines of text are known, also packed by gzip, zstd, bzip2, xz, lz4 or snappy; Parquet, Arrow IPC and \
                 Avro files"
            }
        }
    }

    /// The format that decodes it.
    pub fn format(&self) -> Option<&Arc<dyn Format>> {
        match self {
            Self::Events(format) => Some(format),
            _ => None,
        }
    }
}

/// The first bytes of text.
pub struct Start<'a> {
    /// The bytes, without a byte order mark.
    pub text: &'a [u8],
    /// Whether these are all.
    pub whole: bool,
    /// The name of the file, or nothing.
    pub name: &'a str,
}

/// Looks at the first bytes, already unpacked. `whole` says that these are all; `name` that of the file, whose ending
/// decides where the bytes leave a doubt.
pub fn recognise(start: &[u8], whole: bool, name: &str) -> Recognised {
    if let Some(whole) = WholeFile::of(start) {
        return Recognised::Events(whole.format());
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
    let start = Start { text, whole, name };
    KINDS.iter().find_map(|kind| kind.recognise(&start)).unwrap_or(Recognised::Unknown)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("{\"a\":1}\n{\"a\":2}\n", "x", "JSON Lines")]
    #[case("\u{feff}{\"a\":1}", "x.csv", "JSON Lines")]
    #[case("{\n  \"a\": 1\n}\n", "x.json", "a JSON document")]
    #[case("[{\"a\":1}]", "x.json", "a JSON document")]
    #[case("PAR1....", "x", "Parquet")]
    #[case("ARROW1\u{0}\u{0}", "x", "Arrow IPC")]
    #[case("Obj\u{1}\u{2}", "x", "Avro")]
    #[case("  \n", "x", "empty")]
    #[case("\u{1}\u{0}x", "x.csv", "not recognised")]
    #[case("id,x\r1,2\r", "x.csv", "lines that end in a carriage return alone")]
    #[case("# exported\nid,name\n1,x\n2,y\n", "x.csv", "the first line has fewer values than those after it")]
    #[case("one line of words", "x.txt", "not recognised")]
    #[case("id,name\n1,x\n2,y\n", "x", "CSV, delimiter `,`, with a header row")]
    #[case("id;name;note\n1;x;a,b\n2;y;\"c;d\"\n", "x", "CSV, delimiter `;`, with a header row")]
    #[case("id\tname\n1\tx, y\n", "x", "CSV, delimiter tab, with a header row")]
    #[case("1,x\n2,y\n", "x", "CSV, delimiter `,`, without a header row")]
    #[case("2026-04-01|7\n2026-04-02|8\n", "x", "CSV, delimiter `|`, without a header row")]
    #[case("lock,depot\nupper,arlen\nlower,corve\n", "x", "CSV, delimiter `,`, with a header row")]
    #[case("upper,arlen\nupper,corve\n", "x", "CSV, delimiter `,`, without a header row")]
    #[case("name\nx\n", "x.csv", "CSV, delimiter `,`, with a header row")]
    #[case("id,note\n1,\"two\nlines, and more\"\n2,x", "x", "CSV, delimiter `,`, with a header row")]
    #[case("id;name\n1;'a;b'\n2;'c'\n3;'d'\n", "x", "CSV, delimiter `;`, quote `'`, with a header row")]
    #[case("id|name\n1|'a|b'\n2|'c|d'\n", "x", "CSV, delimiter `|`, quote `'`, with a header row")]
    fn by_their_first_bytes(#[case] text: &str, #[case] name: &str, #[case] expected: &str) {
        assert_eq!(recognise(text.as_bytes(), true, name).describe(), expected);
    }
}
