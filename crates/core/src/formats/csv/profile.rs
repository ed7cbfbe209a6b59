//! What CSV records look like.

use super::decoder::{first_record, trim_line_end};
use super::{Csv, Dialect, Ending, Value, Walk, scan};
use crate::event::Chunk;
use crate::formats::Format as _;
use crate::profile::{Profile, Seen};

pub(super) fn add_chunk(profile: &mut Profile, chunk: &Chunk, dialect: &Dialect) {
    let head = chunk.head.as_deref().filter(|_| dialect.head && chunk.messages.is_none());
    let names = head.map_or_else(Vec::new, |head| dialect.names(head));
    let columns = CsvColumns { names: &names, twice: doubled(&names), dialect };
    for name in &columns.twice {
        profile.notes.insert(format!("the header row names `{name}` twice: these columns cannot be read"));
    }
    if let Some(messages) = &chunk.messages {
        messages.each.iter().for_each(|m| columns.add(profile, trim_line_end(m.span.of(&chunk.bytes))));
        return;
    }
    let rest = &chunk.bytes[first_record(chunk, dialect.head)..];
    columns.add_all(profile, rest);
}

/// The columns of a partition.
struct CsvColumns<'a> {
    /// As the header row names them; empty where there is none.
    names: &'a [String],
    /// Names of several columns.
    twice: Vec<&'a str>,
    dialect: &'a Dialect,
}

impl CsvColumns<'_> {
    /// Adds records that follow one another.
    fn add_all(&self, profile: &mut Profile, bytes: &[u8]) {
        let format = Csv::new(self.dialect.clone());
        let mut at = 0;
        while at < bytes.len() {
            let cut = format.cut(&bytes[at..], 1);
            let end = if cut.bytes > 0 { at + cut.bytes } else { bytes.len() };
            // Blank lines before a record are cut with it.
            let mut start = at;
            while let Some(line) = scan::record_end(&bytes[..end], start, self.dialect).filter(|line| *line < end) {
                if !scan::is_blank(&bytes[start..line]) {
                    break;
                }
                start = line;
            }
            let record = &bytes[start..end];
            at = end;
            if !scan::is_blank(record) {
                self.add(profile, trim_line_end(record));
            }
        }
    }

    /// The values of a record; otherwise why a decoder would reject it.
    fn values<'b>(&self, record: &'b [u8]) -> Result<Vec<Value<'b>>, String> {
        if std::str::from_utf8(record).is_err() {
            return Err("not UTF-8".into());
        }
        let mut values = Vec::with_capacity(self.names.len());
        let mut walk = Walk::new(record, self.dialect);
        while let Some(value) = walk.next() {
            if let Some(fault) = value.fault() {
                return Err(fault.into());
            }
            values.push(value);
            if value.ending == Ending::Line && !walk.rest_is_blank() {
                return Err("a second line follows, and a message is one event".into());
            }
            if value.ending != Ending::Delimiter {
                break;
            }
        }
        match self.names.len() {
            0 => Ok(values),
            n if n == values.len() => Ok(values),
            n => Err(format!("{} values where the header row names {n}", values.len())),
        }
    }

    fn add(&self, profile: &mut Profile, record: &[u8]) {
        let values = match self.values(record) {
            Ok(values) => values,
            Err(message) => return profile.add_broken(record, message),
        };
        profile.events += 1;
        profile.bytes += record.len() as u64;
        let mut text = Vec::new();
        for (i, value) in values.iter().enumerate() {
            let numbered;
            let name = match self.names.get(i) {
                Some(name) if self.twice.contains(&name.as_str()) => continue,
                Some(name) => name,
                None => {
                    numbered = (i + 1).to_string();
                    &numbered
                }
            };
            let Some(node) = profile.root.child(name) else { continue };
            if !value.quoted && self.dialect.nulls.iter().any(|n| n.as_bytes() == value.bytes) {
                node.profile.add(Seen::Null);
                continue;
            }
            text.clear();
            value.write(self.dialect.quote, &mut text);
            node.profile.add(Seen::Text(&text));
        }
    }
}

fn doubled(names: &[String]) -> Vec<&str> {
    let again = |(i, name): (usize, &String)| names[..i].contains(name);
    names.iter().enumerate().filter(|(i, name)| again((*i, name))).map(|(_, name)| name.as_str()).collect()
}
