//! Rows that were read as a whole: their objects, their keys, and the keys as JSON, each kind in one buffer.

use super::json::{Object, Spelling};

/// Where a row's parts end.
#[derive(Clone, Copy, Debug, Default)]
struct RowsToAPlace {
    object: usize,
    key: usize,
    json: usize,
}

/// Some rows.
#[derive(Debug, Default)]
pub(crate) struct FeedRows {
    objects: Vec<u8>,
    keys: Vec<u8>,
    json: Vec<u8>,
    ends: Vec<RowsToAPlace>,
}

impl FeedRows {
    pub(crate) fn len(&self) -> u64 {
        self.ends.len() as u64
    }

    /// Forgets all of them, and keeps the room that they had.
    pub(crate) fn clear(&mut self) {
        self.objects.clear();
        self.keys.clear();
        self.json.clear();
        self.ends.clear();
    }

    fn start(&self, row: usize) -> RowsToAPlace {
        row.checked_sub(1).map(|before| self.ends[before]).unwrap_or_default()
    }

    /// The object of a row.
    pub(crate) fn object(&self, row: usize) -> &[u8] {
        &self.objects[self.start(row).object..self.ends[row].object]
    }

    /// Its key, so that different keys have different bytes.
    pub(crate) fn key(&self, row: usize) -> &[u8] {
        &self.keys[self.start(row).key..self.ends[row].key]
    }

    /// Its key as an object.
    pub(crate) fn key_json(&self, row: usize) -> &[u8] {
        &self.json[self.start(row).json..self.ends[row].json]
    }

    /// Its key, part by part.
    pub(crate) fn key_parts(&self, row: usize) -> Vec<String> {
        let mut rest = self.key(row);
        let mut parts = Vec::new();
        while let Some((length, after)) = rest.split_first_chunk::<8>() {
            let length = usize::try_from(u64::from_le_bytes(*length)).unwrap_or(usize::MAX);
            let (part, after) = after.split_at(length.min(after.len()));
            parts.push(String::from_utf8_lossy(part).into_owned());
            rest = after;
        }
        parts
    }

    /// Some of the rows.
    pub(crate) fn only(&self, keep: impl Fn(usize) -> bool) -> Self {
        let mut found = Self::default();
        for row in (0..self.ends.len()).filter(|row| keep(*row)) {
            found.objects.extend_from_slice(self.object(row));
            found.keys.extend_from_slice(self.key(row));
            found.json.extend_from_slice(self.key_json(row));
            let (object, key, json) = (found.objects.len(), found.keys.len(), found.json.len());
            found.ends.push(RowsToAPlace { object, key, json });
        }
        found
    }

    /// The key of the last row.
    pub(crate) fn last_key(&self) -> Option<Vec<String>> {
        self.ends.len().checked_sub(1).map(|last| self.key_parts(last))
    }
}

/// Adds a part of a key.
pub(crate) fn add_key(bytes: &mut Vec<u8>, part: &[u8]) {
    bytes.extend_from_slice(&(part.len() as u64).to_le_bytes());
    bytes.extend_from_slice(part);
}

/// Writes rows.
pub(crate) struct RowWriter {
    /// Each column's name as a member, and how its values are spelled.
    columns: Vec<(Vec<u8>, Spelling)>,
    /// Members that every row has as null.
    missing: Vec<Vec<u8>>,
    /// The places of the key's columns.
    key: Vec<usize>,
    /// The values of a row; None for null.
    cells: Vec<Option<Vec<u8>>>,
    pub rows: FeedRows,
}

impl RowWriter {
    pub(crate) fn new(columns: Vec<(Vec<u8>, Spelling)>, key: Vec<usize>) -> Self {
        Self { cells: vec![None; columns.len()], columns, missing: Vec::new(), key, rows: FeedRows::default() }
    }

    /// Also writes members that the table does not have, as null.
    pub(crate) fn with_missing(self, missing: Vec<Vec<u8>>) -> Self {
        Self { missing, ..self }
    }

    /// Adds a row; `fill` is called for each column in its order, with what the row before had.
    pub(crate) fn row(&mut self, mut fill: impl FnMut(&mut Option<Vec<u8>>)) {
        let Self { columns, missing, key, cells, rows } = self;
        cells.iter_mut().for_each(&mut fill);
        let mut object = Object::begin(&mut rows.objects);
        for ((name, spelling), cell) in columns.iter().zip(&*cells) {
            object.member(name, *spelling, cell.as_deref());
        }
        missing.iter().for_each(|name| object.member(name, Spelling::Text, None));
        object.end();
        if !key.is_empty() {
            let mut object = Object::begin(&mut rows.json);
            for place in &*key {
                let (name, spelling) = &columns[*place];
                let text = cells[*place].as_deref().unwrap_or_default();
                add_key(&mut rows.keys, text);
                object.member(name, *spelling, Some(text));
            }
            object.end();
        }
        rows.ends.push(RowsToAPlace { object: rows.objects.len(), key: rows.keys.len(), json: rows.json.len() });
    }
}
