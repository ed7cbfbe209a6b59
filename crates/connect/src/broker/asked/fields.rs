//! The parts of requests and answers: numbers, texts and lists, with plain or packed lengths.

/// The parts of an answer, from front to back. None is given where the answer is shorter than it claims.
pub(super) struct Fields<'b>(pub &'b [u8]);

impl<'b> Fields<'b> {
    fn take(&mut self, length: usize) -> Option<&'b [u8]> {
        let (taken, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(taken)
    }

    pub(super) fn short(&mut self) -> Option<i16> {
        Some(i16::from_be_bytes(self.take(2)?.try_into().ok()?))
    }

    pub(super) fn int(&mut self) -> Option<i32> {
        Some(i32::from_be_bytes(self.take(4)?.try_into().ok()?))
    }

    pub(super) fn long(&mut self) -> Option<i64> {
        Some(i64::from_be_bytes(self.take(8)?.try_into().ok()?))
    }

    /// Bytes behind a length of four bytes; empty where there are none.
    pub(super) fn bytes(&mut self) -> Option<&'b [u8]> {
        let length = self.int()?;
        self.take(usize::try_from(length.max(0)).ok()?)
    }

    /// A text behind a length of two bytes; empty where there is none.
    pub(super) fn text(&mut self) -> Option<String> {
        let length = self.short()?;
        let bytes = self.take(usize::try_from(length.max(0)).ok()?)?;
        Some(String::from_utf8_lossy(bytes).into_owned())
    }

    /// A number of seven bits a byte, the lowest first; at most five bytes.
    fn packed(&mut self) -> Option<u32> {
        let mut number = 0_u64;
        for place in 0..5 {
            let byte = *self.take(1)?.first()?;
            number |= u64::from(byte & 0x7f) << (7 * place);
            if byte & 0x80 == 0 {
                return u32::try_from(number).ok();
            }
        }
        None
    }

    /// A text behind a packed length; empty where there is none.
    pub(super) fn packed_text(&mut self) -> Option<String> {
        let length = self.packed()?.saturating_sub(1);
        let bytes = self.take(usize::try_from(length).ok()?)?;
        Some(String::from_utf8_lossy(bytes).into_owned())
    }

    /// Reads a list whose length is packed, one element after the other.
    pub(super) fn packed_list(&mut self, mut one: impl FnMut(&mut Self) -> Option<()>) -> Option<()> {
        (0..self.packed()?.saturating_sub(1)).try_for_each(|_| one(self))
    }

    /// Parts that later versions add.
    pub(super) fn tags(&mut self) -> Option<()> {
        for _ in 0..self.packed()? {
            self.packed()?;
            let length = self.packed()?;
            self.take(usize::try_from(length).ok()?)?;
        }
        Some(())
    }
}

/// The parts of a request.
#[derive(Default)]
pub(super) struct Body(pub Vec<u8>);

impl Body {
    pub(super) fn bytes(mut self, bytes: &[u8]) -> Self {
        self.0.extend_from_slice(&i32::try_from(bytes.len()).unwrap_or(i32::MAX).to_be_bytes());
        self.0.extend_from_slice(bytes);
        self
    }

    pub(super) fn text(mut self, text: &str) -> Self {
        self.0.extend_from_slice(&i16::try_from(text.len()).unwrap_or(i16::MAX).to_be_bytes());
        self.0.extend_from_slice(text.as_bytes());
        self
    }

    pub(super) fn int(mut self, number: i32) -> Self {
        self.0.extend_from_slice(&number.to_be_bytes());
        self
    }

    pub(super) fn long(mut self, number: i64) -> Self {
        self.0.extend_from_slice(&number.to_be_bytes());
        self
    }

    fn packed(mut self, mut number: u32) -> Self {
        while number >= 0x80 {
            self.0.push((number & 0x7f).to_le_bytes()[0] | 0x80);
            number >>= 7;
        }
        self.0.push(number.to_le_bytes()[0]);
        self
    }

    /// The length of a list, packed: its elements follow.
    pub(super) fn packed_length(self, length: usize) -> Self {
        self.packed(u32::try_from(length).unwrap_or(u32::MAX - 1).saturating_add(1))
    }

    pub(super) fn packed_text(self, text: &str) -> Self {
        let mut with = self.packed_length(text.len());
        with.0.extend_from_slice(text.as_bytes());
        with
    }

    /// No parts of later versions.
    pub(super) fn no_tags(self) -> Self {
        self.packed(0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0)]
    #[case(127)]
    #[case(128)]
    #[case(300)]
    #[case(u32::MAX)]
    fn packed_numbers_there_and_back(#[case] number: u32) {
        let body = Body::default().packed(number);
        let mut fields = Fields(&body.0);
        assert_eq!(fields.packed(), Some(number));
        assert!(fields.0.is_empty());
    }

    #[test]
    fn lengths_that_lie_are_no_reason_to_keep_room() {
        // A list of four billion, a text of as many bytes, a number without end.
        assert_eq!(Fields(&[0xff, 0xff, 0xff, 0xff, 0x0f, 1]).packed_list(|f| f.long().map(drop)), None);
        assert_eq!(Fields(&[0xff, 0xff, 0xff, 0xff, 0x0f, 1]).packed_text(), None);
        assert_eq!(Fields(&[0xff; 6]).packed(), None);
        assert_eq!(Fields(&[0x7f, 0xff, 0xff, 0xff, 1]).bytes(), None);
        assert_eq!(Fields(&[0xff, 0xff]).text().as_deref(), Some(""));
        assert_eq!(Fields(&[3, 0, 1, b'x', 1]).tags(), None);
        assert_eq!(Fields(&[1, 0, 1, b'x']).tags(), Some(()));
    }
}
