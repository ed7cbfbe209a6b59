//! Bytes as text: `\x` and two hexadecimal digits for each, as PostgreSQL spells them. Texts so spelled are in the order of their bytes.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

/// How a source spells bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum BytesSpelling {
    /// In hexadecimal digits after `\x`.
    #[default]
    Marked,
    /// In hexadecimal digits alone.
    Hex,
    /// In base64.
    Base64,
    /// As the text whose bytes they are.
    Text,
}

/// The words for the spellings of bytes.
pub const SPELLINGS: &[(&str, BytesSpelling)] =
    &[("hex", BytesSpelling::Hex), ("base64", BytesSpelling::Base64), ("text", BytesSpelling::Text)];

/// What stands before the digits.
const MARK: &str = "\\x";

impl BytesSpelling {
    /// The spelling of a word.
    pub fn named(word: &str) -> Option<Self> {
        SPELLINGS.iter().find(|(name, _)| *name == word).map(|(_, spelling)| *spelling)
    }

    /// A text in this spelling as it is kept; None where it is no such text.
    pub fn kept(self, text: &str) -> Option<String> {
        let mut bytes = Vec::new();
        match self {
            Self::Marked => {
                read(text, &mut bytes)?;
            }
            Self::Hex => {
                bytes.extend(from_digits(text)?);
            }
            Self::Base64 => bytes = STANDARD.decode(text).ok()?,
            Self::Text => return Some(shown(text.as_bytes())),
        }
        Some(shown(&bytes))
    }
}

/// Appends bytes as they are kept.
pub fn write(bytes: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(MARK.as_bytes());
    write_digits(bytes, out);
}

/// Appends two digits for each byte.
pub fn write_digits(bytes: &[u8], out: &mut Vec<u8>) {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    for byte in bytes {
        out.push(DIGITS[usize::from(byte >> 4)]);
        out.push(DIGITS[usize::from(byte & 15)]);
    }
}

/// Bytes as they are kept.
pub fn shown(bytes: &[u8]) -> String {
    let mut out = Vec::with_capacity(2 + 2 * bytes.len());
    write(bytes, &mut out);
    String::from_utf8(out).unwrap_or_default()
}

/// Appends the bytes that a kept text stands for; nothing where it is none.
pub fn read(text: &str, out: &mut Vec<u8>) -> Option<()> {
    let start = out.len();
    let digits = text.strip_prefix(MARK).filter(|digits| digits.len().is_multiple_of(2))?;
    for pair in digits.as_bytes().chunks_exact(2) {
        match (digit(pair[0]), digit(pair[1])) {
            (Some(high), Some(low)) => out.push(high << 4 | low),
            _ => {
                out.truncate(start);
                return None;
            }
        }
    }
    Some(())
}

/// The bytes of digits alone. White space between two pairs is passed over.
pub fn from_digits(digits: &str) -> Option<Vec<u8>> {
    let mut bytes = Vec::with_capacity(digits.len() / 2);
    let mut rest = digits.bytes();
    while let Some(first) = rest.next() {
        if first.is_ascii_whitespace() {
            continue;
        }
        bytes.push(digit(first)? << 4 | digit(rest.next()?)?);
    }
    Some(bytes)
}

/// The bytes that a text means in SQL: digits after `\x`, or the bytes of its characters, with `\\` for a backslash and `\123` for a
/// byte in octal digits. After the chapter on binary types in PostgreSQL's manual.
pub fn from_sql(text: &str) -> Option<Vec<u8>> {
    if let Some(digits) = text.strip_prefix(MARK) {
        return from_digits(digits);
    }
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        rest = match (first, after) {
            (b'\\', [b'\\', after @ ..]) => {
                bytes.push(b'\\');
                after
            }
            (b'\\', [a @ b'0'..=b'3', b @ b'0'..=b'7', c @ b'0'..=b'7', after @ ..]) => {
                bytes.push((a - b'0') << 6 | (b - b'0') << 3 | (c - b'0'));
                after
            }
            (b'\\', _) => return None,
            _ => {
                bytes.push(*first);
                after
            }
        };
    }
    Some(bytes)
}

fn digit(byte: u8) -> Option<u8> {
    match byte {
        b'0'..=b'9' => Some(byte - b'0'),
        b'a'..=b'f' => Some(byte - b'a' + 10),
        b'A'..=b'F' => Some(byte - b'A' + 10),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(BytesSpelling::Marked, "\\x00FF", Some("\\x00ff"))]
    #[case(BytesSpelling::Marked, "\\x", Some("\\x"))]
    #[case(BytesSpelling::Marked, "00ff", None)]
    #[case(BytesSpelling::Marked, "\\x0", None)]
    #[case(BytesSpelling::Marked, "\\x0g", None)]
    #[case(BytesSpelling::Marked, "", None)]
    #[case(BytesSpelling::Hex, "00FF", Some("\\x00ff"))]
    #[case(BytesSpelling::Hex, "\\x00", None)]
    #[case(BytesSpelling::Hex, "0", None)]
    #[case(BytesSpelling::Base64, "/wA=", Some("\\xff00"))]
    #[case(BytesSpelling::Base64, "/wA", None)]
    #[case(BytesSpelling::Base64, "", Some("\\x"))]
    #[case(BytesSpelling::Text, "Ö\\x", Some("\\xc3965c78"))]
    fn spellings(#[case] spelling: BytesSpelling, #[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(spelling.kept(text).as_deref(), expected);
    }

    #[rstest]
    #[case("\\x 41 42", Some(&b"AB"[..]))]
    #[case("AB", Some(&b"AB"[..]))]
    #[case("\\101\\\\", Some(&b"A\\"[..]))]
    #[case("\\400", None)]
    #[case("a\\", None)]
    #[case("ä", Some(&[0xc3, 0xa4][..]))]
    fn what_sql_means(#[case] text: &str, #[case] expected: Option<&[u8]>) {
        assert_eq!(from_sql(text).as_deref(), expected);
    }

    proptest::proptest! {
        #[test]
        fn kept_texts_are_read_back_and_in_order(a: Vec<u8>, b: Vec<u8>) {
            let (x, y) = (shown(&a), shown(&b));
            let mut back = Vec::new();
            proptest::prop_assert_eq!(read(&x, &mut back), Some(()));
            proptest::prop_assert_eq!(&back, &a);
            proptest::prop_assert_eq!(x.cmp(&y), a.cmp(&b));
        }
    }
}
