//! `format`: a pattern into which arguments are put, after PostgreSQL's function of that name.

use super::{Arguments, filled};
use crate::expr::column::{Column, map_text};

/// Characters to which one argument may be filled.
const MAX_WIDTH: usize = 100_000;

/// The pattern with its specifiers replaced.
pub(super) fn format(a: &Arguments<'_>) -> Column {
    let mut presence: Vec<Column> = a.columns.iter().skip(1).map(filled).collect();
    presence.push(a.columns[0].clone());
    let all: Vec<&Column> = presence.iter().collect();
    map_text(&all, a.rows, |row, out| {
        let mut next = 1;
        let mut rest = a.text(0, row);
        while let Some(at) = rest.find('%') {
            out.extend_from_slice(&rest.as_bytes()[..at]);
            rest = &rest[at + 1..];
            if let Some(after) = rest.strip_prefix('%') {
                out.push(b'%');
                rest = after;
                continue;
            }
            let specifier = Specifier::read(&mut rest)?;
            let place = specifier.place.unwrap_or(next);
            next = place + 1;
            let argument = a.columns.get(place).ok_or_else(|| format!("format: there is no argument {place}"))?;
            let value = (!argument.is_null(row)).then(|| argument.text_at(row));
            specifier.write(value, out)?;
        }
        out.extend_from_slice(rest.as_bytes());
        Ok(())
    })
}

/// What stands after a percent sign: `[place$][-][width]kind`.
struct Specifier {
    place: Option<usize>,
    at_left: bool,
    width: usize,
    kind: char,
}

impl Specifier {
    fn read(rest: &mut &str) -> Result<Self, String> {
        let number = |rest: &mut &str| -> Result<Option<usize>, String> {
            let length = rest.bytes().take_while(u8::is_ascii_digit).count();
            let digits = &rest[..length];
            *rest = &rest[length..];
            if digits.is_empty() {
                return Ok(None);
            }
            digits.parse().map(Some).map_err(|_| format!("format: the number {digits} is too large"))
        };
        let mut place = None;
        let mut ahead = *rest;
        if let Some(found) = number(&mut ahead)?
            && let Some(after) = ahead.strip_prefix('$')
        {
            if found == 0 {
                return Err("format: arguments are counted from 1".into());
            }
            place = Some(found);
            *rest = after;
        }
        let mut at_left = false;
        while let Some(after) = rest.strip_prefix('-') {
            at_left = true;
            *rest = after;
        }
        let width = number(rest)?.unwrap_or(0);
        if width > MAX_WIDTH {
            return Err(format!("format: {width} characters are too many to fill"));
        }
        let kind = rest.chars().next().ok_or("format: the pattern ends after %")?;
        *rest = &rest[kind.len_utf8()..];
        Ok(Self { place, at_left, width, kind })
    }

    fn write(&self, value: Option<&str>, out: &mut Vec<u8>) -> Result<(), String> {
        let text = match (self.kind, value) {
            ('s', value) => value.unwrap_or_default().to_string(),
            ('I', None) => return Err("format: a null is not a name".into()),
            ('I', Some(name)) => quoted_name(name),
            ('L', None) => "NULL".into(),
            ('L', Some(value)) => quoted(value),
            (other, _) => return Err(format!("format: there is no %{other}; known are %s, %I, %L and %%")),
        };
        let missing = self.width.saturating_sub(text.chars().count());
        if !self.at_left {
            out.extend(std::iter::repeat_n(b' ', missing));
        }
        out.extend_from_slice(text.as_bytes());
        if self.at_left {
            out.extend(std::iter::repeat_n(b' ', missing));
        }
        Ok(())
    }
}

/// A name as SQL takes it: quoted unless it is plain. Reserved words are not looked up, so they stay as they are.
fn quoted_name(name: &str) -> String {
    let mut bytes = name.bytes();
    let is_plain = bytes.next().is_some_and(|b| b.is_ascii_lowercase() || b == b'_')
        && bytes.all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_');
    if is_plain { name.to_string() } else { format!("\"{}\"", name.replace('"', "\"\"")) }
}

/// A text as a SQL constant.
fn quoted(text: &str) -> String {
    let doubled = text.replace('\'', "''");
    if doubled.contains('\\') { format!("E'{}'", doubled.replace('\\', "\\\\")) } else { format!("'{doubled}'") }
}
