//! Walks over JSON text without building anything. Grammar after RFC 8259; control characters inside strings are
//! let through, since they leave no doubt about what was meant; they are escaped where JSON is passed on as it came.

use std::borrow::Cow;
use std::io::Write as _;

use crate::values::number;

/// Where and why JSON text is broken.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct JsonFault {
    /// The byte of the record.
    pub at: usize,
    /// What would have had to stand there.
    pub wanted: &'static str,
}

/// Objects and lists inside each other: deeper records are refused rather than risk the stack.
const MAX_DEPTH: usize = 128;

/// A string between its quotes.
#[derive(Clone, Copy, Debug)]
pub(crate) struct RawString<'a> {
    pub bytes: &'a [u8],
    pub escaped: bool,
}

/// A JSON value with the control characters inside its strings escaped, so that every reader takes it.
pub(crate) fn escape_controls(value: &[u8]) -> Cow<'_, [u8]> {
    if !value.iter().any(|b| *b < 0x20) {
        return Cow::Borrowed(value);
    }
    let mut out = Vec::with_capacity(value.len() + 16);
    let (mut within, mut after_backslash) = (false, false);
    for byte in value {
        match byte {
            0..0x20 if within => {
                // Writing into memory does not fail.
                let _ = write!(out, "\\u{byte:04x}");
            }
            _ => out.push(*byte),
        }
        within ^= *byte == b'"' && !after_backslash;
        after_backslash = within && *byte == b'\\' && !after_backslash;
    }
    Cow::Owned(out)
}

/// A place in a record.
pub(crate) struct Scanner<'a> {
    pub bytes: &'a [u8],
    pub at: usize,
}

impl<'a> Scanner<'a> {
    pub(crate) fn new(bytes: &'a [u8]) -> Self {
        Self { bytes, at: 0 }
    }

    #[inline]
    pub(crate) fn peek(&self) -> u8 {
        // Zero stands for the end; as a byte it is valid nowhere in JSON.
        self.bytes.get(self.at).copied().unwrap_or(0)
    }

    #[inline]
    pub(crate) fn skip_blanks(&mut self) {
        while matches!(self.peek(), b' ' | b'\t' | b'\r' | b'\n') {
            self.at += 1;
        }
    }

    /// What is wrong at this place.
    pub(crate) fn fault(&self, wanted: &'static str) -> JsonFault {
        JsonFault { at: self.at, wanted }
    }

    fn broken<T>(&self, wanted: &'static str) -> Result<T, JsonFault> {
        Err(self.fault(wanted))
    }

    #[inline]
    pub(crate) fn expect(&mut self, byte: u8, wanted: &'static str) -> Result<(), JsonFault> {
        if self.peek() != byte || self.at >= self.bytes.len() {
            return self.broken(wanted);
        }
        self.at += 1;
        Ok(())
    }

    /// Reads a string whose opening quote is next.
    #[inline]
    pub(crate) fn string(&mut self) -> Result<RawString<'a>, JsonFault> {
        self.expect(b'"', "a string")?;
        let start = self.at;
        let mut escaped = false;
        loop {
            self.at = next_special(self.bytes, self.at);
            match self.bytes.get(self.at) {
                Some(b'"') => {
                    let bytes = &self.bytes[start..self.at];
                    self.at += 1;
                    return Ok(RawString { bytes, escaped });
                }
                Some(_) => {
                    escaped = true;
                    self.skip_escape()?;
                }
                None => return self.broken("the end of the string"),
            }
        }
    }

    fn skip_escape(&mut self) -> Result<(), JsonFault> {
        match self.bytes.get(self.at + 1) {
            Some(b'"' | b'\\' | b'/' | b'b' | b'f' | b'n' | b'r' | b't') => self.at += 2,
            Some(b'u')
                if self.bytes.get(self.at + 2..self.at + 6).is_some_and(|h| h.iter().all(u8::is_ascii_hexdigit)) =>
            {
                self.at += 6;
            }
            _ => return self.broken("a valid escape after \\"),
        }
        Ok(())
    }

    /// Reads a number, or one of the words true, false and null.
    #[inline]
    pub(crate) fn token(&mut self) -> &'a [u8] {
        let start = self.at;
        while matches!(self.peek(), b'0'..=b'9' | b'-' | b'+' | b'.' | b'a'..=b'z' | b'A'..=b'Z' | b'_') {
            self.at += 1;
        }
        &self.bytes[start..self.at]
    }

    /// Skips one value whose first byte is next; returns the place after it.
    pub(crate) fn skip_value(&mut self, depth: usize) -> Result<usize, JsonFault> {
        match self.peek() {
            b'"' => {
                self.string()?;
            }
            b'{' | b'[' if depth >= MAX_DEPTH => return self.broken("less nesting"),
            b'{' => {
                self.at += 1;
                self.members(b'}', |scanner| {
                    scanner.string()?;
                    scanner.skip_blanks();
                    scanner.expect(b':', "`:`")?;
                    scanner.skip_blanks();
                    scanner.skip_value(depth + 1).map(|_| ())
                })?;
            }
            b'[' => {
                self.at += 1;
                self.members(b']', |scanner| scanner.skip_value(depth + 1).map(|_| ()))?;
            }
            _ => {
                let start = self.at;
                let token = self.token();
                if !matches!(token, b"true" | b"false" | b"null") && !number::is_number(token) {
                    self.at = start;
                    return self.broken("a value");
                }
            }
        }
        Ok(self.at)
    }

    /// Walks over the members of an object or list whose opening bracket was read.
    #[inline]
    pub(crate) fn members(
        &mut self,
        close: u8,
        mut member: impl FnMut(&mut Self) -> Result<(), JsonFault>,
    ) -> Result<(), JsonFault> {
        self.skip_blanks();
        if self.peek() == close {
            self.at += 1;
            return Ok(());
        }
        loop {
            member(self)?;
            self.skip_blanks();
            match self.peek() {
                b',' => {
                    self.at += 1;
                    self.skip_blanks();
                }
                c if c == close => {
                    self.at += 1;
                    return Ok(());
                }
                _ => return self.broken(if close == b'}' { "`,` or `}`" } else { "`,` or `]`" }),
            }
        }
    }
}

/// The keys of a whole object, as they are spelled.
pub(crate) fn keys(record: &[u8]) -> Vec<String> {
    let mut found = Vec::new();
    let mut scanner = Scanner::new(record);
    scanner.skip_blanks();
    if scanner.expect(b'{', "an object").is_ok() {
        // The record was walked over before, so it is whole.
        let _ = scanner.members(b'}', |scanner| {
            let key = scanner.string()?;
            found.push(String::from_utf8_lossy(key.bytes).into_owned());
            scanner.skip_blanks();
            scanner.expect(b':', "`:`")?;
            scanner.skip_blanks();
            scanner.skip_value(0).map(|_| ())
        });
    }
    found
}

/// The place of the next quote or backslash, eight bytes at a time.
#[inline]
fn next_special(bytes: &[u8], mut at: usize) -> usize {
    const ONES: u64 = 0x0101_0101_0101_0101;
    const HIGH: u64 = 0x8080_8080_8080_8080;
    // The lowest set bit is exact: borrows only reach bytes above the first zero byte.
    let zero_byte = |x: u64| x.wrapping_sub(ONES) & !x & HIGH;
    while let Some(word) = bytes.get(at..at + 8) {
        let word = u64::from_le_bytes(word.try_into().expect("eight bytes"));
        let found = zero_byte(word ^ (ONES * 0x22)) | zero_byte(word ^ (ONES * 0x5c));
        if found != 0 {
            return at + usize::try_from(found.trailing_zeros() / 8).unwrap_or(0);
        }
        at += 8;
    }
    while at < bytes.len() && !matches!(bytes[at], b'"' | b'\\') {
        at += 1;
    }
    at
}

/// Writes a string's text, its escapes resolved, or as it is spelled where an escape is half of a surrogate pair: such a name is
/// that of no other field.
pub(crate) fn unescape_or_spelled(raw: &[u8], out: &mut Vec<u8>) {
    if !unescape(raw, out) {
        out.extend_from_slice(raw);
    }
}

/// Writes a string's text, its escapes resolved. False, and nothing is written, where an escape is half of a surrogate pair.
#[must_use]
pub(crate) fn unescape(raw: &[u8], out: &mut Vec<u8>) -> bool {
    let start = out.len();
    let mut rest = raw;
    while let Some(at) = memchr::memchr(b'\\', rest) {
        out.extend_from_slice(&rest[..at]);
        let (c, length) = match rest[at + 1] {
            b'b' => ('\u{8}', 2),
            b'f' => ('\u{c}', 2),
            b'n' => ('\n', 2),
            b'r' => ('\r', 2),
            b't' => ('\t', 2),
            b'u' => match unicode(&rest[at..]) {
                Some(found) => found,
                None => {
                    out.truncate(start);
                    return false;
                }
            },
            other => (char::from(other), 2),
        };
        out.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
        rest = &rest[at + length..];
    }
    out.extend_from_slice(rest);
    true
}

/// The character of a `\u` escape, or of a pair of them, and its length.
fn unicode(text: &[u8]) -> Option<(char, usize)> {
    let unit = |at: usize| {
        let digits = std::str::from_utf8(text.get(at..at + 4)?).ok()?;
        u32::from_str_radix(digits, 16).ok()
    };
    let first = unit(2)?;
    if !(0xd800..0xdc00).contains(&first) {
        return char::from_u32(first).map(|c| (c, 6));
    }
    if text.get(6..8) != Some(b"\\u") {
        return None;
    }
    let second = unit(8).filter(|u| (0xdc00..0xe000).contains(u))?;
    char::from_u32(0x1_0000 + ((first - 0xd800) << 10) + (second - 0xdc00)).map(|c| (c, 12))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("{\"a\": \"b\"}", "{\"a\": \"b\"}")]
    #[case("[\"a\tb\",\t\"c\\\\\",\n1]", "[\"a\\u0009b\",\t\"c\\\\\",\n1]")]
    #[case("\"q\\\"\u{1}\"", "\"q\\\"\\u0001\"")]
    #[case("\"\r\n\"", "\"\\u000d\\u000a\"")]
    fn control_characters_within_strings_are_escaped(#[case] value: &str, #[case] expected: &str) {
        let escaped = escape_controls(value.as_bytes());
        assert_eq!(std::str::from_utf8(&escaped).unwrap(), expected);
        assert!(serde_json::from_slice::<serde_json::Value>(&escaped).is_ok());
    }
}
