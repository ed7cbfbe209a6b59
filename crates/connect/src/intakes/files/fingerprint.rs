//! Recognises the file that was read before: a digest of its beginning, as far as it was read, and one of
//! the bytes just before its position. Of a packed file it is what was packed; its length on the disk is noted once all
//! of it has been read. Beside that stands which file of the file system it is, so that it is known again under a new
//! name.
//!
//! Of a file that is read as a whole, both digests are of the file on the disk, its beginning and its end, whatever the position,
//! and its length stands beside them.
//!
//! Its text is `COUNT:DIGEST[ end COUNT:DIGEST][ file ID][ packed[ LENGTH]][ whole LENGTH]`.

use std::fs::Metadata;
use std::io::{self, Read};

use sha2::{Digest as _, Sha256};

/// Bytes that a digest covers at most.
pub(super) const COVERED: usize = 4096;

const END: &str = "end";
const FILE: &str = "file";
const PACKED: &str = "packed";
const WHOLE: &str = "whole";

/// A digest of so many bytes; empty for none.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Digested {
    count: usize,
    text: String,
}

/// What is known of a file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Fingerprint {
    start: Digested,
    end: Digested,
    /// Which file of the file system it is.
    id: Option<String>,
    packed: bool,
    /// The length on the disk of a packed file that was read to its end.
    packed_length: Option<u64>,
    /// The length of a file that is read as a whole.
    whole: Option<u64>,
}

impl Digested {
    fn of(bytes: &[u8]) -> Self {
        let digest = Sha256::digest(bytes);
        let hex: String = digest[..16].iter().map(|b| format!("{b:02x}")).collect();
        Self { count: bytes.len(), text: format!("{}:{hex}", bytes.len()) }
    }

    fn read(text: &str) -> Self {
        let count = text.split_once(':').and_then(|(count, _)| count.parse().ok()).unwrap_or(0);
        Self { count, text: text.into() }
    }

    fn is_of(&self, bytes: &[u8]) -> bool {
        self.text.is_empty() || Self::of(bytes).text == self.text
    }
}

impl Fingerprint {
    /// Of a file whose first bytes, and those just before its position, are these.
    pub(super) fn of(start: &[u8], end: &[u8], id: Option<&str>) -> Self {
        // Of a short file both are the same.
        let end = if end.is_empty() || start == end { Digested::default() } else { Digested::of(end) };
        Self {
            start: Digested::of(start),
            end,
            id: id.map(str::to_string),
            packed: false,
            packed_length: None,
            whole: None,
        }
    }

    /// The same of a packed file; `length` is that on the disk, where all of it has been read.
    pub(super) fn packed(self, length: Option<u64>) -> Self {
        Self { packed: true, packed_length: length, ..self }
    }

    /// The same of a file that is read as a whole.
    pub(super) fn whole(self, length: u64) -> Self {
        Self { whole: Some(length), ..self }
    }

    /// Whether it is that of a file which is read as a whole.
    pub(super) fn is_whole(&self) -> bool {
        self.whole.is_some()
    }

    /// Whether this is what a file looks like, which is read as a whole, that `known` is of.
    pub(super) fn is_same_whole(&self, known: &Self) -> bool {
        (&self.start, &self.end, self.whole) == (&known.start, &known.end, known.whole)
    }

    /// Reads what the ledger keeps.
    pub(super) fn read(text: &str) -> Self {
        let mut words = text.split(' ').peekable();
        let mut found = Self { start: Digested::read(words.next().unwrap_or_default()), ..Self::default() };
        while let Some(word) = words.next() {
            match word {
                END => found.end = Digested::read(words.next().unwrap_or_default()),
                FILE => found.id = words.next().map(str::to_string),
                PACKED => {
                    found.packed = true;
                    found.packed_length = words.next_if(|w| *w != WHOLE).and_then(|n| n.parse().ok());
                }
                WHOLE => found.whole = words.next().and_then(|n| n.parse().ok()),
                _ => {}
            }
        }
        found
    }

    /// What the ledger keeps.
    pub(super) fn text(&self) -> String {
        let mut out = self.start.text.clone();
        let mut add = |word: &str, value: &str| {
            out.push(' ');
            out.push_str(word);
            if !value.is_empty() {
                out.push(' ');
                out.push_str(value);
            }
        };
        if !self.end.text.is_empty() {
            add(END, &self.end.text);
        }
        if let Some(id) = &self.id {
            add(FILE, id);
        }
        if self.packed {
            add(PACKED, &self.packed_length.map_or(String::new(), |n| n.to_string()));
        }
        if let Some(length) = self.whole {
            add(WHOLE, &length.to_string());
        }
        out
    }

    /// The same without what is only so at its position. Of a file that is read as a whole, all of it is so at any position.
    pub(super) fn start_only(&self) -> Self {
        if self.is_whole() {
            return Self { packed_length: None, ..self.clone() };
        }
        Self { end: Digested::default(), packed_length: None, ..self.clone() }
    }

    /// Which file of the file system it is.
    pub(super) fn id(&self) -> Option<&str> {
        self.id.as_deref()
    }

    /// Whether it is that of a packed file.
    pub(super) fn is_packed(&self) -> bool {
        self.packed
    }

    /// The length on the disk of a packed file that was read to its end.
    pub(super) fn packed_length(&self) -> Option<u64> {
        self.packed_length
    }

    /// Bytes before the position that it covers.
    pub(super) fn covers_end(&self) -> usize {
        self.end.count
    }

    /// Whether these bytes, or the last of them, are those before the position.
    pub(super) fn ends_as(&self, before: &[u8]) -> bool {
        let covered = before.len().checked_sub(self.end.count);
        self.end.text.is_empty() || covered.is_some_and(|from| self.end.is_of(&before[from..]))
    }

    /// Reads the beginning that it covers; None where it is another.
    pub(super) fn matching(&self, file: &mut impl Read) -> io::Result<Option<Vec<u8>>> {
        let mut start = Vec::new();
        file.take(self.start.count as u64).read_to_end(&mut start)?;
        Ok(self.start.is_of(&start).then_some(start))
    }
}

/// Which file of the file system it is: the same under every name, and never that of another file, not even one that got
/// the place of a file that was removed. None where the file system does not tell when a file was made.
pub(super) fn id_of(data: &Metadata) -> Option<String> {
    use std::os::unix::fs::MetadataExt as _;
    let made = data.created().ok()?.duration_since(std::time::UNIX_EPOCH).ok()?;
    Some(format!("{}-{}-{}", data.dev(), data.ino(), made.as_nanos()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Fingerprint::default(), "")]
    #[case(Fingerprint::of(b"abc", b"abc", None), "3:ba7816bf8f01cfea414140de5dae2223")]
    #[case(
        Fingerprint::of(b"abc", b"bc", Some("1-2-3")),
        "3:ba7816bf8f01cfea414140de5dae2223 end 2:5e0ceaa2bf1ef2ce0c1fbb7e0ce5a3d5 file 1-2-3"
    )]
    #[case(Fingerprint::of(b"abc", b"", None).packed(Some(99)), "3:ba7816bf8f01cfea414140de5dae2223 packed 99")]
    #[case(
        Fingerprint::of(b"abc", b"bc", Some("1-2-3")).whole(3).packed(None),
        "3:ba7816bf8f01cfea414140de5dae2223 end 2:5e0ceaa2bf1ef2ce0c1fbb7e0ce5a3d5 file 1-2-3 packed whole 3"
    )]
    #[case(Fingerprint::of(b"abc", b"", None).whole(3).packed(Some(3)), "3:ba7816bf8f01cfea414140de5dae2223 packed 3 whole 3")]
    fn what_the_ledger_keeps_is_read_again(#[case] fingerprint: Fingerprint, #[case] text: &str) {
        let kept = fingerprint.text();
        assert_eq!(kept.split(" end").next(), text.split(" end").next());
        assert_eq!(Fingerprint::read(&kept), fingerprint);
    }

    #[rstest]
    #[case("3:ba7816bf8f01cfea414140de5dae2223", false, None)]
    #[case("3:ba7816bf8f01cfea414140de5dae2223 packed", true, None)]
    #[case("3:ba7816bf8f01cfea414140de5dae2223 packed 42", true, Some(42))]
    fn older_ledgers_are_understood(#[case] text: &str, #[case] packed: bool, #[case] length: Option<u64>) {
        let found = Fingerprint::read(text);
        assert_eq!((found.is_packed(), found.packed_length()), (packed, length));
        assert!(found.matching(&mut &b"abcd"[..]).unwrap().is_some() && found.ends_as(b"anything"));
    }

    #[rstest]
    #[case(b"xyzbc", true)]
    #[case(b"bc", true)]
    #[case(b"bd", false)]
    #[case(b"c", false)]
    fn the_bytes_before_the_position_count(#[case] before: &[u8], #[case] same: bool) {
        assert_eq!(Fingerprint::of(b"abc", b"bc", None).ends_as(before), same);
    }
}
