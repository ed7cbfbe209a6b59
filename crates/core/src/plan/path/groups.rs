//! Rows by their folders, and how values are written in the name of a folder.

use std::hash::Hash;
use std::sync::Arc;

use arrow_array::cast::AsArray as _;
use arrow_array::types::{Date32Type, TimestampMicrosecondType};
use arrow_array::{Array, ArrayRef, RecordBatch, UInt32Array};
use arrow_schema::DataType;
use rustc_hash::FxHashMap;

use super::{EMPTY_FOLDER, NULL_FOLDER, VALUE_LIMIT};
use crate::event::LandingRows;
use crate::values::{json, time};

/// Rows in groups that share the text so far.
pub struct Groups {
    pub(super) names: Vec<String>,
    /// The group of each row; empty while there is one group.
    pub(super) rows: Vec<u32>,
    count: usize,
}

impl Groups {
    pub(super) fn one(count: usize) -> Self {
        Self { names: vec![String::new()], rows: Vec::new(), count }
    }

    pub(super) fn append_literal(&mut self, text: &str) {
        for name in &mut self.names {
            name.push_str(text);
        }
    }

    pub(super) fn append_values(&mut self, column: &ArrayRef, pattern: Option<&str>) {
        let text = |row: usize| folder_text(column, row, pattern);
        match column.data_type() {
            DataType::Timestamp(..) => {
                let values = column.as_primitive::<TimestampMicrosecondType>();
                let step = pattern.map_or(1, finest_step);
                self.append(|row| values.is_valid(row).then(|| values.value(row).div_euclid(step)), text);
            }
            DataType::Date32 => {
                let values = column.as_primitive::<Date32Type>();
                self.append(|row| values.is_valid(row).then(|| values.value(row)), text);
            }
            DataType::Utf8 => {
                let values = column.as_string::<i32>();
                self.append(|row| values.is_valid(row).then(|| values.value(row)), text);
            }
            _ => self.append(|row| Some(text(row)), text),
        }
    }

    /// Refines the groups by a key; rows with one key share one text.
    fn append<K: Hash + Eq>(&mut self, key: impl Fn(usize) -> K, text: impl Fn(usize) -> String) {
        let first = key(0);
        if self.rows.is_empty() && (1..self.count).all(|row| key(row) == first) {
            let text = text(0);
            self.append_literal(&text);
            return;
        }
        if self.rows.is_empty() {
            self.rows = vec![0; self.count];
        }
        let mut groups: FxHashMap<(u32, K), u32> = FxHashMap::default();
        let mut names: Vec<String> = Vec::new();
        for row in 0..self.count {
            let before = self.rows[row];
            let group = *groups.entry((before, key(row))).or_insert_with(|| {
                let index = usize::try_from(before).unwrap_or(0);
                names.push(format!("{}{}", self.names[index], text(row)));
                u32::try_from(names.len() - 1).unwrap_or(u32::MAX)
            });
            self.rows[row] = group;
        }
        self.names = names;
    }

    /// Splits rows by their group, in the order in which groups first occur.
    pub(crate) fn split(mut self, batch: RecordBatch) -> Vec<LandingRows> {
        let folder = |name: &str| Arc::from(name.trim_matches('/'));
        if self.names.len() == 1 {
            return vec![LandingRows { origin: None, marks: None, folder: folder(&self.names[0]), batch }];
        }
        let mut rows: Vec<Vec<u32>> = vec![Vec::new(); self.names.len()];
        for (row, group) in self.rows.drain(..).enumerate() {
            rows[usize::try_from(group).unwrap_or(0)].push(u32::try_from(row).unwrap_or(u32::MAX));
        }
        let take = |indices: Vec<u32>| {
            arrow_select::take::take_record_batch(&batch, &UInt32Array::from(indices)).expect("rows of this batch")
        };
        self.names
            .iter()
            .zip(rows)
            .map(|(name, rows)| LandingRows { origin: None, marks: None, folder: folder(name), batch: take(rows) })
            .collect()
    }
}

/// The microseconds below which a pattern does not distinguish moments.
pub(super) fn finest_step(pattern: &str) -> i64 {
    const DAYS: &str = "YCyqmbBhdeaAwuUWGgVjDxFv%";
    const HOURS: &str = "HkIlPp";
    let mut step = time::DAY;
    let mut letters = pattern.chars();
    while let Some(c) = letters.next() {
        if c != '%' {
            continue;
        }
        let letter = letters.find(|c| !matches!(c, '-' | '_' | '0')).unwrap_or('%');
        step = step.min(match letter {
            l if DAYS.contains(l) => time::DAY,
            l if HOURS.contains(l) => 3_600_000_000,
            'M' | 'R' => 60_000_000,
            'S' | 'T' | 'X' | 'r' | 's' | 'c' => 1_000_000,
            _ => 1,
        });
    }
    step
}

fn folder_text(column: &ArrayRef, row: usize, pattern: Option<&str>) -> String {
    if column.is_null(row) {
        return NULL_FOLDER.into();
    }
    let Some(pattern) = pattern else {
        let mut text = String::new();
        json::write_text(&mut text, column.as_ref(), row);
        return escape(&text);
    };
    let shown = match column.data_type() {
        DataType::Date32 => {
            time::day(column.as_primitive::<Date32Type>().value(row)).map(|d| d.format(pattern).to_string())
        }
        _ => time::moment(column.as_primitive::<TimestampMicrosecondType>().value(row))
            .map(|m| m.format(pattern).to_string()),
    };
    shown.unwrap_or_else(|| NULL_FOLDER.into())
}

/// Makes a value fit as one part of a path: what separates folders or cannot stand in a name becomes %XX.
pub(super) fn escape(text: &str) -> String {
    if text.is_empty() {
        return EMPTY_FOLDER.into();
    }
    let mut out = String::with_capacity(text.len());
    for (i, c) in text.chars().enumerate() {
        let hidden = i == 0 && c == '.';
        if hidden || c.is_control() || matches!(c, '/' | '\\' | '%' | ':' | '*' | '?' | '"' | '<' | '>' | '|' | '=') {
            for byte in c.encode_utf8(&mut [0; 4]).bytes() {
                out.push_str(&format!("%{byte:02X}"));
            }
        } else {
            out.push(c);
        }
    }
    // Names of more than 255 bytes cannot be made; the start distinguishes them well enough for people.
    if out.len() > VALUE_LIMIT {
        use sha2::{Digest as _, Sha256};
        let digest = Sha256::digest(text.as_bytes());
        let hex: String = digest[..8].iter().map(|b| format!("{b:02x}")).collect();
        out.truncate(out.floor_char_boundary(180));
        out.push('~');
        out.push_str(&hex);
    }
    out
}
