//! Regular expressions: compiled once, searched in time that grows with the text.

use arrow_array::types::Int32Type;
use regex::{Regex, RegexBuilder};

use super::translate::translate;
use super::{Arguments, Prepared};
use crate::expr::Expr;
use crate::expr::column::{Column, map_primitive, map_text, map_text_or_null};
use crate::expr::functions::list::written;
use crate::types::SqlType;
use crate::values::list::ListWriter;

/// A compiled pattern.
#[derive(Debug)]
pub(crate) struct Pattern {
    regex: Regex,
    /// Whether each find counts, not only the first.
    is_global: bool,
    /// The group that is wanted; 0 is the whole find.
    group: usize,
}

impl Pattern {
    /// Compiles PostgreSQL's spelling.
    ///
    /// # Errors
    /// Says what is wrong with the pattern or a flag.
    pub(in crate::expr::functions) fn read(pattern: &str, flags: &str) -> Result<Self, String> {
        match flags.contains('q') {
            true => Self::of_crate(&regex::escape(pattern), flags),
            false => Self::of_crate(&translate(pattern), flags),
        }
    }

    /// Compiles the spelling of the crate.
    pub(super) fn of_crate(pattern: &str, flags: &str) -> Result<Self, String> {
        let mut builder = RegexBuilder::new(pattern);
        builder.dot_matches_new_line(true);
        let mut is_global = false;
        for flag in flags.chars() {
            match flag {
                'i' => builder.case_insensitive(true),
                'c' => builder.case_insensitive(false),
                'x' => builder.ignore_whitespace(true),
                'n' | 'm' => builder.multi_line(true).dot_matches_new_line(false),
                's' | 'q' => &mut builder,
                'g' => {
                    is_global = true;
                    &mut builder
                }
                other => return Err(format!("there is no flag `{other}`; known are i, c, g, n, q, s and x")),
            };
        }
        let regex = builder.build().map_err(|error| reason(&error))?;
        Ok(Self { regex, is_global, group: 0 })
    }

    /// Whether the pattern is found in a text.
    pub(crate) fn matches(&self, text: &str) -> bool {
        self.regex.is_match(text)
    }

    /// The places of a group in the n-th find, counted from 1, from the byte `from` on.
    fn find(&self, text: &str, from: usize, n: usize, group: usize) -> Option<std::ops::Range<usize>> {
        if n == 0 {
            return None;
        }
        let mut at = from;
        for _ in 1..n {
            let found = self.regex.find_at(text, at)?;
            at = after(text, &found)?;
        }
        match group {
            0 => self.regex.find_at(text, at).map(|found| found.range()),
            group => self.regex.captures_at(text, at)?.get(group).map(|found| found.range()),
        }
    }

    /// How often the pattern is found from the byte `from` on.
    fn count(&self, text: &str, from: usize) -> usize {
        let (mut count, mut at) = (0, Some(from));
        while let Some(found) = at.and_then(|at| self.regex.find_at(text, at)) {
            count += 1;
            at = after(text, &found);
        }
        count
    }
}

/// Where the search for the next find begins; after an empty one, a character further. None at the end of the text.
fn after(text: &str, found: &regex::Match<'_>) -> Option<usize> {
    match found.is_empty() {
        true => text[found.end()..].chars().next().map(|c| found.end() + c.len_utf8()),
        false => Some(found.end()),
    }
}

/// The crate's message without the drawing of the pattern.
pub(crate) fn reason(error: &regex::Error) -> String {
    let text = error.to_string();
    let last = text.lines().last().unwrap_or_default();
    let last = last.strip_prefix("error: ").unwrap_or(last);
    format!("the regular expression is not valid: {last}")
}

/// The pattern of a call.
pub(super) fn of<'a>(a: &Arguments<'a>) -> &'a Pattern {
    match a.prepared {
        Prepared::Pattern(pattern) => pattern,
        other => unreachable!("bind prepares patterns, not {other:?}"),
    }
}

fn constant(arguments: &[Expr], place: usize) -> Result<Option<String>, String> {
    match arguments.get(place) {
        None => Ok(None),
        Some(argument) => argument.as_text().map(Some).ok_or_else(|| "this must be a constant text".into()),
    }
}

/// Compiles the constant at a place, with the flags of another.
pub(super) fn prepare(
    arguments: &[Expr],
    place: usize,
    flags: Option<usize>,
    always: &str,
) -> Result<Prepared, String> {
    read(arguments, place, flags, always).map(|pattern| Prepared::Pattern(pattern.into()))
}

fn read(arguments: &[Expr], place: usize, flags: Option<usize>, always: &str) -> Result<Pattern, String> {
    let pattern = constant(arguments, place)?.unwrap_or_default();
    let given = flags.map_or(Ok(None), |place| constant(arguments, place))?.unwrap_or_default();
    Pattern::read(&pattern, &format!("{always}{given}"))
}

/// The same for `regexp_match`, which finds once.
pub(super) fn prepare_for_one(arguments: &[Expr]) -> Result<Prepared, String> {
    let pattern = read(arguments, 1, Some(2), "")?;
    match pattern.is_global {
        true => Err("regexp_match finds once: leave out the flag g".into()),
        false => Ok(Prepared::Pattern(pattern.into())),
    }
}

/// The same for `regexp_substr`, whose last argument is a group.
pub(super) fn prepare_with_group(arguments: &[Expr]) -> Result<Prepared, String> {
    let mut pattern = read(arguments, 1, Some(4), "")?;
    if let Some(group) = constant(arguments, 5)? {
        let by_name = || pattern.regex.capture_names().position(|name| name == Some(group.as_str()));
        let by_number = group.parse().ok().filter(|n| *n < pattern.regex.captures_len());
        let names: Vec<&str> = pattern.regex.capture_names().flatten().collect();
        let known = match names.as_slice() {
            [] => format!("it has {} groups", pattern.regex.captures_len() - 1),
            names => format!("its groups are {}", names.join(", ")),
        };
        pattern.group =
            by_number.or_else(by_name).ok_or_else(|| format!("the pattern has no group `{group}`; {known}"))?;
    }
    Ok(Prepared::Pattern(pattern.into()))
}

/// The byte of a place that an argument gives, counted in characters from 1. None where the text is shorter.
fn start(a: &Arguments<'_>, argument: usize, row: usize, text: &str) -> Result<Option<usize>, String> {
    if a.columns.len() <= argument {
        return Ok(Some(0));
    }
    let place = a.whole(argument, row);
    let place = usize::try_from(place).ok().filter(|p| *p > 0).ok_or("places are counted from 1")?;
    Ok(text.char_indices().map(|(at, _)| at).chain([text.len()]).nth(place - 1))
}

fn nth(a: &Arguments<'_>, argument: usize, row: usize) -> Result<usize, String> {
    if a.columns.len() <= argument {
        return Ok(1);
    }
    usize::try_from(a.whole(argument, row)).ok().filter(|n| *n > 0).ok_or_else(|| "finds are counted from 1".into())
}

/// How often the pattern is found.
pub(super) fn count(a: &Arguments<'_>) -> Column {
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        let text = a.text(0, row);
        let count = start(a, 2, row, text)?.map_or(0, |from| of(a).count(text, from));
        Ok(Some(i32::try_from(count).unwrap_or(i32::MAX)))
    })
}

/// The place of a find, or the one after it.
pub(super) fn place(a: &Arguments<'_>) -> Column {
    map_primitive::<Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        let text = a.text(0, row);
        let n = nth(a, 3, row)?;
        let found = match start(a, 2, row, text)? {
            Some(from) => {
                let group = if a.columns.len() > 6 { a.whole(6, row) } else { 0 };
                let group = usize::try_from(group).map_err(|_| "a group is a number from 0 on")?;
                of(a).find(text, from, n, group)
            }
            None => None,
        };
        let at_end = a.columns.len() > 4
            && match a.whole(4, row) {
                0 => false,
                1 => true,
                other => return Err(format!("regexp_instr: `end` is 0 or 1, not {other}")),
            };
        let place = found.map_or(0, |found| text[..if at_end { found.end } else { found.start }].chars().count() + 1);
        Ok(Some(i32::try_from(place).unwrap_or(i32::MAX)))
    })
}

/// A find, or a group of it.
pub(super) fn found(a: &Arguments<'_>) -> Column {
    map_text_or_null(&a.all(), a.rows, |row, out| {
        let text = a.text(0, row);
        let n = nth(a, 3, row)?;
        let found = start(a, 2, row, text)?.and_then(|from| of(a).find(text, from, n, of(a).group));
        out.extend_from_slice(found.clone().map_or("", |range| &text[range]).as_bytes());
        Ok(found.is_some())
    })
}

/// The groups of the first find, as a list.
pub(super) fn groups(a: &Arguments<'_>) -> Column {
    written(a, |row, _| {
        if a.columns.iter().any(|column| column.is_null(row)) {
            return Ok(None);
        }
        let Some(found) = of(a).regex.captures(a.text(0, row)) else { return Ok(None) };
        let mut list = ListWriter::default();
        // The whole find comes first; it counts where there is nothing else.
        let first = usize::from(found.len() > 1);
        let added = found.iter().skip(first).try_for_each(|group| list.add(group.map(|g| g.as_str()), SqlType::Text));
        added.ok_or("these groups cannot be items of a list")?;
        Ok(Some(list.finish()))
    })
}

/// Finds replaced.
pub(super) fn replace(a: &Arguments<'_>) -> Column {
    let pattern = of(a);
    map_text(&a.all(), a.rows, |row, out| {
        let (text, to) = (a.text(0, row), a.text(2, row));
        let mut rest = 0;
        let mut at = Some(0);
        let is_plain = !to.contains('\\');
        while let Some(from) = at {
            let whole = match is_plain {
                true => pattern.regex.find_at(text, from).map(|found| (found, None)),
                false => pattern.regex.captures_at(text, from).and_then(|c| c.get(0).map(|found| (found, Some(c)))),
            };
            let Some((found, groups)) = whole else { break };
            out.extend_from_slice(&text.as_bytes()[rest..found.start()]);
            match groups {
                None => out.extend_from_slice(to.as_bytes()),
                Some(groups) => put(to, &groups, out),
            }
            rest = found.end();
            at = if pattern.is_global { after(text, &found) } else { None };
        }
        out.extend_from_slice(&text.as_bytes()[rest..]);
        Ok(())
    })
}

/// Writes a replacement: `\1` to `\9` are groups, `\&` is the whole find; before anything else a backslash is itself.
fn put(to: &str, groups: &regex::Captures<'_>, out: &mut Vec<u8>) {
    let mut chars = to.chars();
    let mut buffer = [0; 4];
    while let Some(c) = chars.next() {
        if c != '\\' {
            out.extend_from_slice(c.encode_utf8(&mut buffer).as_bytes());
            continue;
        }
        let mut group = |n: usize| {
            out.extend_from_slice(groups.get(n).map_or("", |found| found.as_str()).as_bytes());
        };
        match chars.next() {
            Some('&') => group(0),
            Some(digit @ '1'..='9') => group(digit.to_digit(10).map_or(0, |d| d as usize)),
            Some('\\') | None => out.push(b'\\'),
            Some(other) => {
                out.push(b'\\');
                out.extend_from_slice(other.encode_utf8(&mut buffer).as_bytes());
            }
        }
    }
}
