//! What JSON objects look like.

use super::scan::{JsonFault, Scanner, unescape_or_spelled};
use super::{mark_length, records};
use crate::event::Chunk;
use crate::formats::BYTE_ORDER_MARK;
use crate::profile::{Profile, ProfileNode, Seen};

pub(super) fn add_chunk(profile: &mut Profile, chunk: &Chunk) {
    match &chunk.messages {
        Some(messages) => messages.each.iter().for_each(|m| profile.add_json(m.span.of(&chunk.bytes))),
        None => profile.add_json_lines(&chunk.bytes[mark_length(chunk)..]),
    }
}

impl Profile {
    /// Adds one line of JSON Lines.
    pub fn add_json(&mut self, line: &[u8]) {
        self.typed = true;
        if std::str::from_utf8(line).is_err() {
            return self.add_broken(line, "not UTF-8");
        }
        // Once to see whether it is whole, so that a broken record leaves no trace in the fields.
        let mut scanner = Scanner::new(line);
        scanner.skip_blanks();
        let start = scanner.at;
        let whole = match scanner.peek() {
            b'{' => scanner.skip_value(0),
            _ => Err(scanner.fault("a JSON object")),
        };
        match whole {
            Ok(end) if line[end..].iter().all(|b| matches!(b, b' ' | b'\t' | b'\r' | b'\n')) => {}
            Ok(end) => return self.add_broken(line, format!("expected the end of the record at byte {end}")),
            Err(JsonFault { at, wanted }) => return self.add_broken(line, format!("expected {wanted} at byte {at}")),
        }
        if let Ok(Some(name)) = twice(&mut Scanner { bytes: line, at: start }) {
            return self.add_broken(line, format!("the field `{name}` occurs twice"));
        }
        self.events += 1;
        self.bytes += line.len() as u64;
        let mut scanner = Scanner { bytes: line, at: start };
        let _ = members(&mut scanner, &mut self.root);
    }

    /// Adds all lines of a piece of JSON Lines.
    pub fn add_json_lines(&mut self, bytes: &[u8]) {
        let bytes = bytes.strip_prefix(BYTE_ORDER_MARK).unwrap_or(bytes);
        records(bytes, 0).for_each(|(_, line)| self.add_json(line));
    }
}

/// The name of a member, without its escapes.
fn key(scanner: &mut Scanner<'_>, name: &mut Vec<u8>) -> Result<(), JsonFault> {
    let key = scanner.string()?;
    name.clear();
    unescape_or_spelled(key.bytes, name);
    scanner.skip_blanks();
    scanner.expect(b':', "`:`")?;
    scanner.skip_blanks();
    Ok(())
}

/// A name that an object which is known to be whole, or one inside it, has twice: a contract with this field rejects it.
fn twice(scanner: &mut Scanner<'_>) -> Result<Option<String>, JsonFault> {
    scanner.expect(b'{', "an object")?;
    let (mut names, mut name, mut found) = (Vec::<Vec<u8>>::new(), Vec::new(), None);
    scanner.members(b'}', |scanner| {
        key(scanner, &mut name)?;
        names.push(name.clone());
        match scanner.peek() {
            b'{' => found = twice(scanner)?.or(found.take()),
            _ => scanner.at = scanner.skip_value(0)?,
        }
        Ok(())
    })?;
    names.sort_unstable();
    let doubled = names.windows(2).find(|pair| pair[0] == pair[1]);
    Ok(doubled.map(|pair| String::from_utf8_lossy(&pair[0]).into_owned()).or(found))
}

/// Walks over the members of an object that is known to be whole.
fn members(scanner: &mut Scanner<'_>, node: &mut ProfileNode) -> Result<(), JsonFault> {
    scanner.expect(b'{', "an object")?;
    let mut name = Vec::new();
    scanner.members(b'}', |scanner| {
        key(scanner, &mut name)?;
        match node.child(&String::from_utf8_lossy(&name)) {
            Some(child) => value(scanner, child),
            None => scanner.skip_value(0).map(|_| ()),
        }
    })
}

fn value(scanner: &mut Scanner<'_>, node: &mut ProfileNode) -> Result<(), JsonFault> {
    let start = scanner.at;
    match scanner.peek() {
        b'"' => {
            let string = scanner.string()?;
            if !string.escaped {
                node.profile.add(Seen::Text(string.bytes));
                return Ok(());
            }
            let mut text = Vec::new();
            unescape_or_spelled(string.bytes, &mut text);
            node.profile.add(Seen::Text(&text));
        }
        b'{' => {
            let end = Scanner { bytes: scanner.bytes, at: start }.skip_value(0)?;
            node.profile.add(Seen::Object(&scanner.bytes[start..end]));
            members(scanner, node)?;
        }
        b'[' => {
            scanner.skip_value(0)?;
            node.profile.add(Seen::List(&scanner.bytes[start..scanner.at]));
        }
        _ => match scanner.token() {
            b"null" => node.profile.add(Seen::Null),
            b"true" => node.profile.add(Seen::Boolean(true)),
            b"false" => node.profile.add(Seen::Boolean(false)),
            token => node.profile.add(Seen::Number(token)),
        },
    }
    Ok(())
}
