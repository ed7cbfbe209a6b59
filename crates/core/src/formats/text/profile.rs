//! What lines of text look like.

use super::layout::Layout;
use super::{LINE, Text, lines, without_end};
use crate::event::Chunk;
use crate::profile::{Profile, Seen};

pub(super) fn add_chunk(profile: &mut Profile, chunk: &Chunk, format: &Text) {
    match &chunk.messages {
        Some(messages) => messages.each.iter().for_each(|m| add(profile, without_end(m.span.of(&chunk.bytes)), format)),
        None => lines(chunk).for_each(|(_, line)| add(profile, line, format)),
    }
}

fn add(profile: &mut Profile, bytes: &[u8], format: &Text) {
    let Ok(line) = std::str::from_utf8(bytes) else { return profile.add_broken(bytes, "not UTF-8") };
    let mut values: Vec<(String, Option<String>)> = Vec::new();
    let cut = format.layout.cut(line, &mut None, &mut |name, value| {
        values.push((name.into(), value.filter(|value| !format.is_null(value)).map(str::to_string)));
    });
    if let Err(message) = cut {
        return profile.add_broken(bytes, message);
    }
    let mut names: Vec<&str> = values.iter().map(|(name, _)| name.as_str()).collect();
    names.sort_unstable();
    if let Some(pair) = names.windows(2).find(|pair| pair[0] == pair[1]) {
        let message = format!("the key `{}` occurs twice", pair[0]);
        return profile.add_broken(bytes, message);
    }
    profile.events += 1;
    profile.bytes += bytes.len() as u64;
    if matches!(*format.layout, Layout::Line) {
        values.push((LINE.into(), Some(line.into())));
    }
    for (name, value) in &values {
        let Some(node) = profile.root.child(name) else { continue };
        match value {
            Some(value) => node.profile.add(Seen::Text(value.as_bytes())),
            None => node.profile.add(Seen::Null),
        }
    }
}
