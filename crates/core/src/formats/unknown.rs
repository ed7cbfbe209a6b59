//! Fields of records that their contract does not name: how often they come, where first, and an example.

use crate::event::{Chunk, Position};

/// So many names are told apart in one chunk; what comes after them is not counted.
const MOST: usize = 100;

/// Longer names are not noted.
const LONGEST: usize = 500;

/// So many bytes of an example are kept.
const EXAMPLE: usize = 80;

/// One field that a contract does not name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnknownField {
    /// Its path.
    pub name: String,
    /// The records that have it, bad ones counted.
    pub records: u64,
    /// The first of them.
    pub first: Position,
    /// The beginning of its value there, as it was spelled.
    pub example: String,
}

struct Noted {
    place: usize,
    key: Box<[u8]>,
    records: u64,
    start: u32,
    example: String,
}

/// The fields of a chunk so far. Records of one source have the same fields in the same order, so the one after the last is looked
/// at first.
#[derive(Default)]
pub(super) struct UnknownFields {
    noted: Vec<Noted>,
    next: usize,
    /// Where the present record begins in its chunk.
    pub start: u32,
}

impl UnknownFields {
    /// Notes the field of the present record that has a key in an object, by the object's place, with its value.
    #[inline]
    pub(super) fn note(&mut self, place: usize, key: &[u8], value: &[u8]) {
        let is_it = |noted: &Noted| noted.place == place && *noted.key == *key;
        let at = match self.noted.get(self.next) {
            Some(noted) if is_it(noted) => Some(self.next),
            _ => self.noted.iter().position(is_it),
        };
        let Some(at) = at else { return self.add(place, key, value) };
        let noted = &mut self.noted[at];
        if noted.records == 0 {
            (noted.start, noted.example) = (self.start, example(value));
        }
        noted.records += 1;
        self.next = at + 1;
        if self.next == self.noted.len() {
            self.next = 0;
        }
    }

    #[cold]
    fn add(&mut self, place: usize, key: &[u8], value: &[u8]) {
        if self.noted.len() < MOST && key.len() <= LONGEST {
            self.noted.push(Noted { place, key: key.into(), records: 1, start: self.start, example: example(value) });
        }
    }

    /// What a chunk had; counting starts again.
    pub(super) fn finish(&mut self, chunk: &Chunk, name: impl Fn(usize, &[u8]) -> String) -> Vec<UnknownField> {
        let one = |noted: &mut Noted| UnknownField {
            name: name(noted.place, &noted.key),
            records: std::mem::take(&mut noted.records),
            first: chunk.position_at(noted.start),
            example: std::mem::take(&mut noted.example),
        };
        let found = self.noted.iter_mut().filter(|noted| noted.records > 0).map(one).collect();
        if self.noted.len() >= MOST {
            // Names without end would leave no room for those that come later.
            self.noted.clear();
        }
        self.next = 0;
        found
    }
}

#[cold]
fn example(value: &[u8]) -> String {
    let text = String::from_utf8_lossy(&value[..value.len().min(EXAMPLE)]);
    text.trim_end_matches(char::REPLACEMENT_CHARACTER).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(place: usize, key: &[u8]) -> String {
        format!("{place}:{}", String::from_utf8_lossy(key))
    }

    #[test]
    fn fields_are_counted_in_any_order_and_from_chunk_to_chunk() {
        let (mut fields, chunk) = (UnknownFields::default(), Chunk::default());
        for (start, keys) in [(0, ["a", "b"]), (10, ["b", "a"]), (20, ["a", "c"])] {
            fields.start = start;
            keys.iter().for_each(|key| fields.note(0, key.as_bytes(), b"1"));
        }
        fields.note(1, b"a", &b"x".repeat(200));
        let found = fields.finish(&chunk, name);
        let shown: Vec<(&str, u64, u64)> = found.iter().map(|f| (f.name.as_str(), f.records, f.first.major)).collect();
        assert_eq!(shown, [("0:a", 3, 0), ("0:b", 2, 0), ("0:c", 1, 20), ("1:a", 1, 20)]);
        assert_eq!(found[3].example.len(), EXAMPLE);
        fields.start = 5;
        fields.note(0, b"c", b"2");
        let found = fields.finish(&chunk, name);
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].records, found[0].first.major, found[0].example.as_str()), (1, 5, "2"));
    }

    #[test]
    fn names_without_end_take_no_room_without_end() {
        let (mut fields, chunk) = (UnknownFields::default(), Chunk::default());
        for n in 0..10_000_u32 {
            fields.note(0, &n.to_be_bytes(), b"");
        }
        assert_eq!(fields.finish(&chunk, name).len(), MOST);
        fields.note(0, b"later", b"");
        fields.note(0, &[b'x'; 1_000_000], b"");
        let found = fields.finish(&chunk, name);
        assert_eq!(found.iter().map(|f| f.name.as_str()).collect::<Vec<_>>(), ["0:later"]);
    }
}
