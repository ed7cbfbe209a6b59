//! Recognises lines of text: logs of web servers, of the system log, and pairs.

use super::layout::{Layout, Pattern};
use super::{Text, is_blank};
use crate::formats::recognise::{Recognised, Start};
use std::sync::Arc;

/// Well-known logs, the more special ones first.
const KNOWN: &[&str] = &[
    // A web server's, with and without referrer and agent.
    r#"(?P<client>\S+) (?P<ident>\S+) (?P<user>\S+) \[(?P<at>[^\]]+)\] "(?P<method>[A-Z]+) (?P<path>\S+)(?: (?P<protocol>[^"]*))?" (?P<status>\d{3}) (?P<bytes>\d+|-)(?: "(?P<referrer>(?:[^"\\]|\\.)*)" "(?P<agent>(?:[^"\\]|\\.)*)")?"#,
    // RFC 5424.
    r"<(?P<priority>\d{1,3})>1 (?P<at>\S+) (?P<host>\S+) (?P<app>\S+) (?P<process>\S+) (?P<id>\S+) (?P<data>-|(?:\[.*?\])+) ?(?P<message>.*)",
    // RFC 3164.
    r"(?:<(?P<priority>\d{1,3})>)?(?P<at>[A-Z][a-z]{2} [ \d]\d \d{2}:\d{2}:\d{2}) (?P<host>\S+) (?P<app>[^\s:\[]+)(?:\[(?P<process>\d+)\])?: (?P<message>.*)",
];

/// Lines that are looked at.
const LINES: usize = 200;

pub(super) fn recognise(start: &Start<'_>) -> Option<Recognised> {
    let text = std::str::from_utf8(start.text).ok().or_else(|| {
        // The last character may be cut off.
        let end = memchr::memrchr(b'\n', start.text)?;
        std::str::from_utf8(&start.text[..end]).ok()
    })?;
    let whole = if start.whole { text } else { &text[..text.rfind('\n')? + 1] };
    let lines: Vec<&str> = whole.lines().filter(|line| !is_blank(line.as_bytes())).take(LINES).collect();
    let most = |fits: &dyn Fn(&str) -> bool| {
        let count = lines.iter().filter(|line| fits(line)).count();
        !lines.is_empty() && count * 10 >= lines.len() * 9
    };
    for known in KNOWN {
        let Ok(pattern) = Pattern::read(known) else { continue };
        if most(&|line| pattern.matches(line)) {
            return Some(Recognised::Events(Arc::new(Text::of(Layout::Pattern(pattern), &["", "-"]))));
        }
    }
    let is_pairs = |line: &str| {
        let mut valued = 0;
        let cut = Layout::Pairs.cut(line, &mut None, &mut |_, value| valued += usize::from(value.is_some()));
        cut.is_ok() && valued >= 2
    };
    most(&is_pairs).then(|| Recognised::Events(Arc::new(Text::of(Layout::Pairs, &[""]))))
}
