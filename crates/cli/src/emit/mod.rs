//! Invented events: the same for the same seed, on every machine.

mod shape;

use std::fmt::Write as _;

use sluice_core::values::json::write_string;
use sluice_core::values::number::write_decimal;
use sluice_core::values::time::{TimeFormat, moment, show_timestamp};

use crate::random::Random;

pub(crate) use shape::{FIELD_OPTIONS, Field, Maker, SHAPES, Shape};

/// How events are to be.
#[derive(Clone, Copy, Debug)]
pub(crate) struct EmitOptions {
    /// The seed.
    pub seed: u64,
    /// How many distinct keys there are.
    pub keys: u64,
    /// The share of bad events.
    pub bad: f64,
    /// The share of late events.
    pub late: f64,
    /// How late they are at most, in microseconds.
    pub late_by: i64,
}

/// What was emitted so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Emitted {
    pub events: u64,
    pub bad: u64,
    pub late: u64,
    pub bytes: u64,
}

/// Makes events of a shape.
pub(crate) struct Emitter {
    shape: Shape,
    manner: EmitOptions,
    random: Random,
    line: String,
    /// The field whose value is the key of a message.
    key_field: Option<usize>,
    /// The key of the last event.
    pub key: String,
    pub emitted: Emitted,
}

impl Emitter {
    pub(crate) fn new(shape: Shape, manner: EmitOptions) -> Self {
        let random = Random::new(manner.seed);
        let key_field = shape.fields.iter().position(|f| matches!(f.maker, Maker::Key(_)));
        Self { shape, manner, random, line: String::new(), key_field, key: String::new(), emitted: Emitted::default() }
    }

    /// Takes another field's value as the key; false where there is none of that name.
    pub(crate) fn key_by(&mut self, name: &str) -> bool {
        self.key_field = self.shape.fields.iter().position(|f| f.path.join(".") == name);
        self.key_field.is_some()
    }

    /// The names of the fields.
    pub(crate) fn fields(&self) -> Vec<String> {
        self.shape.fields.iter().map(|f| f.path.join(".")).collect()
    }

    /// Adds one event as a line of JSON. `at` is its time, in microseconds since 1970.
    pub(crate) fn json(&mut self, at: i64, out: &mut Vec<u8>) {
        let at = self.at(at);
        let number = self.emitted.events + 1;
        self.line.clear();
        let mut open: Vec<&str> = Vec::new();
        self.line.push('{');
        for i in 0..self.shape.fields.len() {
            let field = &self.shape.fields[i];
            let objects = field.path.split_last().map_or(&[][..], |(_, objects)| objects);
            let shared = open.iter().zip(objects).take_while(|(a, b)| **a == b.as_str()).count();
            for _ in shared..open.len() {
                self.line.push('}');
            }
            open.truncate(shared);
            for object in &objects[shared..] {
                key(&mut self.line, object);
                self.line.push('{');
                open.push(object);
            }
            key(&mut self.line, field.path.last().map_or("", String::as_str));
            let start = self.line.len();
            value(&mut self.line, field, &mut self.random, &self.manner, number, at, true);
            if self.key_field == Some(i) {
                note_key(&mut self.key, &self.line[start..]);
            }
        }
        self.line.push_str(&"}".repeat(open.len() + 1));
        self.push(out);
    }

    /// Adds one event as a record of CSV.
    pub(crate) fn csv(&mut self, at: i64, out: &mut Vec<u8>) {
        let at = self.at(at);
        let number = self.emitted.events + 1;
        self.line.clear();
        let mut text = String::new();
        for (i, field) in self.shape.fields.iter().enumerate() {
            if i > 0 {
                self.line.push(',');
            }
            text.clear();
            value(&mut text, field, &mut self.random, &self.manner, number, at, false);
            let start = self.line.len();
            quoted(&mut self.line, &text);
            if self.key_field == Some(i) {
                note_key(&mut self.key, &self.line[start..]);
            }
        }
        self.push(out);
    }

    /// The names of the columns of CSV.
    pub(crate) fn head(&self) -> String {
        let mut head = String::new();
        for (i, field) in self.shape.fields.iter().enumerate() {
            if i > 0 {
                head.push(',');
            }
            quoted(&mut head, &field.path.join("."));
        }
        head.push('\n');
        head
    }

    /// The event's own time: some are late.
    fn at(&mut self, at: i64) -> i64 {
        if !self.chance(self.manner.late) {
            return at;
        }
        self.emitted.late += 1;
        let by = u64::try_from(self.manner.late_by).unwrap_or(0);
        at - i64::try_from(self.random.below(by.max(1))).unwrap_or(0)
    }

    fn chance(&mut self, share: f64) -> bool {
        chance(&mut self.random, share)
    }

    /// Ends the line, which may be damaged first.
    fn push(&mut self, out: &mut Vec<u8>) {
        let start = out.len();
        if self.chance(self.manner.bad) {
            self.emitted.bad += 1;
            self.spoil(out);
        } else {
            out.extend_from_slice(self.line.as_bytes());
        }
        out.push(b'\n');
        self.emitted.events += 1;
        self.emitted.bytes += (out.len() - start) as u64;
    }

    /// Writes the line damaged in one of the ways in which real events are.
    fn spoil(&mut self, out: &mut Vec<u8>) {
        let line = self.line.as_bytes();
        match self.random.below(4) {
            // Cut off.
            0 => out.extend_from_slice(&line[..line.len() * 2 / 3]),
            // Not UTF-8.
            1 => {
                let middle = line.len() / 2;
                out.extend_from_slice(&line[..middle]);
                out.push(0xdc);
                out.extend_from_slice(&line[middle..]);
            }
            // The last value has another type than promised, and one too many follows.
            2 => {
                out.extend_from_slice(line.strip_suffix(b"}").unwrap_or(line));
                out.extend_from_slice(b",\"much\"");
            }
            // Plain words instead of an event.
            _ => out.extend_from_slice(b"the gate was stuck, no reading"),
        }
    }
}

/// Notes the key, which was just written.
fn note_key(key: &mut String, written: &str) {
    key.clear();
    key.push_str(written.trim_matches('"'));
}

fn chance(random: &mut Random, share: f64) -> bool {
    share > 0.0 && (random.below(1_000_000) as f64) < share * 1e6
}

fn key(line: &mut String, name: &str) {
    if !line.ends_with('{') {
        line.push(',');
    }
    write_string(line, name);
    line.push(':');
}

fn quoted(line: &mut String, text: &str) {
    if text.contains([',', '"', '\n']) {
        line.push('"');
        line.push_str(&text.replace('"', "\"\""));
        line.push('"');
    } else {
        line.push_str(text);
    }
}

/// Writes one value: as JSON, or as plain text for CSV, where null is nothing.
fn value(out: &mut String, field: &Field, random: &mut Random, manner: &EmitOptions, number: u64, at: i64, json: bool) {
    if chance(random, field.null) {
        out.push_str(if json { "null" } else { "" });
        return;
    }
    let text = |out: &mut String, text: &str| if json { write_string(out, text) } else { out.push_str(text) };
    match &field.maker {
        Maker::Number(before) => text(out, &format!("{before}{number:07}")),
        Maker::Key(before) => text(out, &format!("{before}{:04}", random.below(manner.keys))),
        Maker::Pick(texts) => {
            let picked: &String = random.pick(texts);
            text(out, picked);
        }
        Maker::Between { low, high, scale } => {
            let width = u64::try_from(high - low).unwrap_or(0).saturating_add(1);
            let step = i64::try_from(random.below(width)).unwrap_or(0);
            write_decimal(out, i128::from(low + step), *scale);
        }
        Maker::Time(TimeFormat::Rfc3339) => text(out, &show_timestamp(at)),
        Maker::Time(TimeFormat::Epoch(unit)) => {
            let _ = write!(out, "{}", at.div_euclid(*unit));
        }
        Maker::Time(TimeFormat::Pattern(pattern)) => {
            let shown = moment(at).map(|m| m.format(pattern).to_string()).unwrap_or_default();
            text(out, &shown);
        }
    }
}

#[cfg(test)]
mod tests;
