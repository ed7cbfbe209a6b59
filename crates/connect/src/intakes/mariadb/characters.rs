//! Character sets of the log: it has texts as the columns keep them.

use std::fmt::Write as _;

/// A character set.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) enum Characters {
    /// UTF-8, or none that is known: the bytes are taken as they are.
    #[default]
    Utf8,
    /// None: bytes, spelled as hexadecimal digits.
    Bytes,
    Latin1,
    /// UTF-16 and its older form, with the higher byte first, and with the lower.
    Utf16,
    Utf16Le,
    Utf32,
    /// Another one, of which only ASCII is read.
    Other(String),
}

/// What `latin1` has for the bytes 0x80 to 0x9f, as Windows-1252.
const WINDOWS: [char; 32] = [
    '€', '\u{81}', '‚', 'ƒ', '„', '…', '†', '‡', 'ˆ', '‰', 'Š', '‹', 'Œ', '\u{8d}', 'Ž', '\u{8f}', '\u{90}', '‘', '’',
    '“', '”', '•', '–', '—', '˜', '™', 'š', '›', 'œ', '\u{9d}', 'ž', 'Ÿ',
];

impl Characters {
    /// That of a name of the server's.
    pub(super) fn of(name: &str) -> Self {
        match name {
            "utf8" | "utf8mb3" | "utf8mb4" | "ascii" | "" => Self::Utf8,
            "binary" => Self::Bytes,
            "latin1" => Self::Latin1,
            "ucs2" | "utf16" => Self::Utf16,
            "utf16le" => Self::Utf16Le,
            "utf32" => Self::Utf32,
            other => Self::Other(other.into()),
        }
    }

    /// Whether all of its characters are read.
    pub(super) fn is_read(&self) -> bool {
        !matches!(self, Self::Other(_))
    }

    /// Writes a text in UTF-8.
    ///
    /// # Errors
    /// Where it has characters that are not read.
    pub(super) fn write(&self, bytes: &[u8], out: &mut Vec<u8>) -> Result<(), String> {
        let mut text = String::new();
        match self {
            Self::Utf8 => out.extend_from_slice(bytes),
            Self::Bytes => {
                out.extend_from_slice(b"\\x");
                for b in bytes {
                    let _ = write!(text, "{b:02x}");
                }
            }
            Self::Latin1 => text.extend(bytes.iter().map(|byte| match byte {
                0x80..=0x9f => WINDOWS[usize::from(byte - 0x80)],
                other => char::from(*other),
            })),
            Self::Utf16 | Self::Utf16Le => {
                let unit = |pair: &[u8]| match self {
                    Self::Utf16 => u16::from_be_bytes([pair[0], pair[1]]),
                    _ => u16::from_le_bytes([pair[0], pair[1]]),
                };
                let units = bytes.chunks_exact(2).map(unit);
                text.extend(char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)));
            }
            Self::Utf32 => {
                let number = |four: &[u8]| u32::from_be_bytes([four[0], four[1], four[2], four[3]]);
                let character = |four| char::from_u32(number(four)).unwrap_or(char::REPLACEMENT_CHARACTER);
                text.extend(bytes.chunks_exact(4).map(character));
            }
            Self::Other(_) if bytes.is_ascii() => out.extend_from_slice(bytes),
            Self::Other(name) => {
                return Err(format!(
                    "a text in the character set {name} has characters beyond ASCII; Sluice reads only ASCII of it"
                ));
            }
        }
        out.extend_from_slice(text.as_bytes());
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("utf8mb4", "ä€".as_bytes(), "ä€")]
    #[case("binary", b"\x00\xff", "\\x00ff")]
    #[case("latin1", b"a\xe4\x80", "aä€")]
    #[case("ucs2", b"\x00a\x20\xac", "a€")]
    #[case("utf16", b"\xd8\x3d\xde\xa2", "🚢")]
    #[case("utf16le", b"a\x00\xac\x20", "a€")]
    #[case("utf32", b"\x00\x00\x00a\x00\x01\xf6\xa2", "a🚢")]
    #[case("koi8r", b"abc", "abc")]
    fn texts_are_written_in_utf8(#[case] name: &str, #[case] bytes: &[u8], #[case] expected: &str) {
        let mut out = Vec::new();
        Characters::of(name).write(bytes, &mut out).unwrap();
        assert_eq!(String::from_utf8(out).unwrap(), expected);
    }

    #[test]
    fn what_is_not_read_is_an_error() {
        assert!(Characters::of("koi8r").write(b"\xc1", &mut Vec::new()).unwrap_err().contains("koi8r"));
    }
}
