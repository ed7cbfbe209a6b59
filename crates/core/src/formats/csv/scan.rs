//! Walks over the values of a CSV record. Grammar after RFC 4180; a quote counts only at the beginning of a value.

use super::Dialect;

/// What ends a value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ending {
    /// A delimiter: another value follows.
    Delimiter,
    /// The end of the line: the record is whole.
    Line,
    /// The bytes end, outside quotes.
    Bytes,
    /// The bytes end within quotes.
    OpenQuote,
}

/// One value of a record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Value<'a> {
    /// Its bytes without the quotes around it; quotes within it are still doubled.
    pub bytes: &'a [u8],
    /// Whether it stood in quotes.
    pub quoted: bool,
    /// Whether quotes within it are doubled.
    pub doubled: bool,
    /// Whether something stood between the closing quote and the end of the value.
    pub trailing: bool,
    /// What ended it.
    pub ending: Ending,
}

impl Value<'_> {
    /// Why it is not a value; None where it is.
    #[inline]
    pub fn fault(&self) -> Option<&'static str> {
        if self.ending == Ending::OpenQuote {
            return Some("a quote is opened here and never closed");
        }
        self.trailing.then_some("there are characters between the closing quote and the end of the value")
    }

    /// Appends the value as it is meant, doubled quotes made single.
    pub fn write(&self, quote: u8, out: &mut Vec<u8>) {
        if !self.doubled {
            return out.extend_from_slice(self.bytes);
        }
        let mut rest = self.bytes;
        while let Some(at) = memchr::memchr(quote, rest) {
            out.extend_from_slice(&rest[..=at]);
            rest = rest.get(at + 2..).unwrap_or_default();
        }
        out.extend_from_slice(rest);
    }
}

/// Walks over the values of one record after the other.
pub struct Walk<'a> {
    bytes: &'a [u8],
    /// The next byte to look at.
    pub at: usize,
    delimiter: u8,
    quote: u8,
    done: bool,
}

impl<'a> Walk<'a> {
    /// A walk from the first byte.
    pub fn new(bytes: &'a [u8], dialect: &Dialect) -> Self {
        Self { bytes, at: 0, delimiter: dialect.delimiter, quote: dialect.quote, done: false }
    }

    /// Whether nothing but blank lines follow.
    pub fn rest_is_blank(&self) -> bool {
        self.bytes.get(self.at..).is_none_or(|rest| rest.iter().all(|b| matches!(b, b'\r' | b'\n')))
    }

    /// The next value; None after the one that the bytes end.
    #[expect(clippy::should_implement_trait, reason = "a plain call is all that is wanted in the hot loop")]
    #[inline]
    pub fn next(&mut self) -> Option<Value<'a>> {
        if self.done {
            return None;
        }
        let value = match self.bytes.get(self.at) {
            Some(byte) if *byte == self.quote => self.quoted(),
            _ => self.plain(self.at),
        };
        self.done = matches!(value.ending, Ending::Bytes | Ending::OpenQuote);
        Some(value)
    }

    #[inline]
    fn plain(&mut self, start: usize) -> Value<'a> {
        let rest = &self.bytes[start..];
        let (length, ending) = match memchr::memchr2(self.delimiter, b'\n', rest) {
            Some(at) if rest[at] == b'\n' => (at, Ending::Line),
            Some(at) => (at, Ending::Delimiter),
            None => (rest.len(), Ending::Bytes),
        };
        self.at = start + length + usize::from(ending != Ending::Bytes);
        let mut bytes = &rest[..length];
        if ending != Ending::Delimiter {
            bytes = bytes.strip_suffix(b"\r").unwrap_or(bytes);
        }
        Value { bytes, quoted: false, doubled: false, trailing: false, ending }
    }

    fn quoted(&mut self) -> Value<'a> {
        let start = self.at + 1;
        let mut at = start;
        let mut doubled = false;
        loop {
            let Some(close) = memchr::memchr(self.quote, &self.bytes[at..]).map(|i| at + i) else {
                self.at = self.bytes.len();
                let bytes = &self.bytes[start..];
                return Value { bytes, quoted: true, doubled, trailing: false, ending: Ending::OpenQuote };
            };
            if self.bytes.get(close + 1) == Some(&self.quote) {
                doubled = true;
                at = close + 2;
                continue;
            }
            let after = self.plain(close + 1);
            let bytes = &self.bytes[start..close];
            return Value { bytes, quoted: true, doubled, trailing: !after.bytes.is_empty(), ending: after.ending };
        }
    }
}

/// The place after the record that begins at `start`; None where its end is not in sight.
pub(super) fn record_end(bytes: &[u8], start: usize, dialect: &Dialect) -> Option<usize> {
    let rest = &bytes[start..];
    let line = memchr::memchr(b'\n', rest)?;
    // Most records hold no quote at all, so that their line is all of them.
    if memchr::memchr(dialect.quote, &rest[..line]).is_none() {
        return Some(start + line + 1);
    }
    let mut walk = Walk::new(rest, dialect);
    loop {
        match walk.next()?.ending {
            Ending::Delimiter => {}
            Ending::Line => return Some(start + walk.at),
            Ending::Bytes | Ending::OpenQuote => return None,
        }
    }
}

/// Whether a line holds nothing.
pub(super) fn is_blank(line: &[u8]) -> bool {
    matches!(line, [] | [b'\n'] | [b'\r', b'\n'] | [b'\r'])
}
