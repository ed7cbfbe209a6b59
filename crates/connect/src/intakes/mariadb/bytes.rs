//! Goes over bytes of the row log, whose numbers are little-endian unless said otherwise.

/// What is left of some bytes.
#[derive(Clone, Copy)]
pub(super) struct Bytes<'b>(pub &'b [u8]);

impl<'b> Bytes<'b> {
    pub(super) fn byte(&mut self) -> Option<u8> {
        let (first, rest) = self.0.split_first()?;
        self.0 = rest;
        Some(*first)
    }

    pub(super) fn take(&mut self, count: u64) -> Option<&'b [u8]> {
        let (taken, rest) = self.0.split_at_checked(usize::try_from(count).ok()?)?;
        self.0 = rest;
        Some(taken)
    }

    /// A whole number of up to eight bytes.
    pub(super) fn le(&mut self, count: u64) -> Option<u64> {
        Some(self.take(count)?.iter().rev().fold(0, |sum, b| sum << 8 | u64::from(*b)))
    }

    /// The same, the highest byte first.
    pub(super) fn be(&mut self, count: u64) -> Option<u64> {
        Some(self.take(count)?.iter().fold(0, |sum, b| sum << 8 | u64::from(*b)))
    }

    /// A signed number of up to eight bytes.
    pub(super) fn signed(&mut self, count: u32) -> Option<i64> {
        let shift = 64 - 8 * count;
        Some((self.le(count.into())? << shift).cast_signed() >> shift)
    }

    /// A number that takes as many bytes as it needs.
    pub(super) fn packed(&mut self) -> Option<u64> {
        match self.byte()? {
            252 => self.le(2),
            253 => self.le(3),
            254 => self.le(8),
            255 => None,
            small => Some(small.into()),
        }
    }

    /// Bytes after their length.
    pub(super) fn bytes(&mut self) -> Option<Vec<u8>> {
        let length = self.packed()?;
        Some(self.take(length)?.to_vec())
    }

    /// A text after its length.
    pub(super) fn text(&mut self) -> Option<String> {
        let length = self.packed()?;
        String::from_utf8(self.take(length)?.to_vec()).ok()
    }

    /// A text after its length of one byte, with a zero byte after it.
    pub(super) fn short_text(&mut self) -> Option<String> {
        let length = self.byte()?;
        let text = String::from_utf8(self.take(length.into())?.to_vec()).ok()?;
        self.byte()?;
        Some(text)
    }
}
