//! How a line is cut into fields.

use std::borrow::Cow;

use regex::{CaptureLocations, Regex, RegexBuilder};

use super::LINE;
use crate::config::{OptionValue, Options};
use crate::expr::regex_fault;

/// How a line is cut into fields.
#[derive(Debug)]
pub(super) enum Layout {
    /// The line is the only field.
    Line,
    /// The named groups of a regular expression of the whole line.
    Pattern(Pattern),
    /// `key=value`.
    Pairs,
    /// Columns of fixed widths, in characters; what has no name is skipped.
    Widths(Vec<(Option<String>, usize)>),
}

/// A regular expression of whole lines.
#[derive(Debug)]
pub(super) struct Pattern {
    text: String,
    regex: Regex,
    /// The names of the groups with their numbers.
    groups: Vec<(String, usize)>,
}

/// The key of an option that is wrong, what is wrong, and the remedy.
type Wrong = (&'static str, String, &'static str);

impl Pattern {
    /// Compiles a pattern with named groups.
    pub(super) fn read(text: &str) -> Result<Self, String> {
        // By itself first, so that a mistake is that of the text.
        let compile = |text: &str| RegexBuilder::new(text).build().map_err(|error| regex_fault(&error));
        compile(text)?;
        // A comment at its end would swallow what closes the group.
        let regex = compile(&format!("^(?:{text})$")).map_err(|_| {
            "the regular expression cannot be one of a whole line: it ends within a comment".to_string()
        })?;
        let groups: Vec<(String, usize)> =
            regex.capture_names().enumerate().filter_map(|(number, name)| Some((name?.to_string(), number))).collect();
        if groups.is_empty() {
            return Err("the regular expression has no named group".into());
        }
        Ok(Self { text: text.into(), regex, groups })
    }

    /// Places for what is found.
    pub(super) fn places(&self) -> CaptureLocations {
        self.regex.capture_locations()
    }

    /// Whether the pattern means a line.
    pub(super) fn matches(&self, line: &str) -> bool {
        self.regex.is_match(line)
    }
}

impl Layout {
    /// What the options of an arrival say.
    pub(super) fn read(options: &Options) -> Result<Self, Wrong> {
        let (pattern, widths) = (options.text("pattern"), options.text("widths"));
        let chosen = [("pattern", pattern.is_some()), ("pairs", options.flag("pairs")), ("widths", widths.is_some())];
        let mut chosen = chosen.into_iter().filter(|(_, is_set)| *is_set).map(|(key, _)| key);
        match (chosen.next(), chosen.next()) {
            (None, _) => Ok(Self::Line),
            (Some(_), Some(key)) => {
                Err((key, "a line is cut in one way".into(), "take one of `pattern`, `pairs` and `widths`"))
            }
            (Some("pattern"), None) => Pattern::read(&pattern.unwrap_or_default())
                .map(Self::Pattern)
                .map_err(|message| ("pattern", message, "name what is to be a field: '(?P<path>\\S+)'")),
            (Some("pairs"), None) => Ok(Self::Pairs),
            (Some(_), None) => Self::of_widths(&widths.unwrap_or_default())
                .map_err(|message| ("widths", message, "write names and widths: \"gauge 8, level_cm 6\"")),
        }
    }

    fn of_widths(text: &str) -> Result<Self, String> {
        let mut columns: Vec<(Option<String>, usize)> = Vec::new();
        for part in text.split(',') {
            let words: Vec<&str> = part.split_whitespace().collect();
            let [name, width] = words[..] else { return Err(format!("`{}` is not a name and a width", part.trim())) };
            let width = width.parse().ok().filter(|width| (1..=100_000).contains(width));
            let width = width.ok_or_else(|| format!("the width of `{name}` is not a number of characters"))?;
            let name = (name != "_").then(|| name.to_string());
            if name.is_some() && columns.iter().any(|(known, _)| *known == name) {
                return Err(format!("two columns are named `{}`", name.unwrap_or_default()));
            }
            columns.push((name, width));
        }
        Ok(Self::Widths(columns))
    }

    /// The layout for people.
    pub(super) fn describe(&self) -> String {
        match self {
            Self::Line => "lines of text".into(),
            Self::Pattern(pattern) => format!("lines of text with {} fields by a pattern", pattern.groups.len()),
            Self::Pairs => "lines of key=value pairs".into(),
            Self::Widths(columns) => format!("lines of text with {} columns of fixed widths", columns.len()),
        }
    }

    /// The options that spell it.
    pub(super) fn spelling(&self) -> Vec<(&'static str, OptionValue)> {
        match self {
            Self::Line => Vec::new(),
            Self::Pattern(pattern) => vec![("pattern", OptionValue::Text(pattern.text.clone()))],
            Self::Pairs => vec![("pairs", OptionValue::Flag(true))],
            Self::Widths(columns) => {
                let one =
                    |(name, width): &(Option<String>, usize)| format!("{} {width}", name.as_deref().unwrap_or("_"));
                let text = columns.iter().map(one).collect::<Vec<_>>().join(", ");
                vec![("widths", OptionValue::Text(text))]
            }
        }
    }

    /// The names of the fields; None where each line brings its own.
    pub(super) fn names(&self) -> Option<Vec<String>> {
        let mut names: Vec<String> = match self {
            Self::Pairs => return None,
            Self::Line => Vec::new(),
            Self::Pattern(pattern) => pattern.groups.iter().map(|(name, _)| name.clone()).collect(),
            Self::Widths(columns) => columns.iter().filter_map(|(name, _)| name.clone()).collect(),
        };
        if !names.iter().any(|name| name == LINE) {
            names.push(LINE.into());
        }
        Some(names)
    }

    /// Cuts a line: gives the name and the value of each field, None for one that is not there.
    pub(super) fn cut(
        &self,
        line: &str,
        places: &mut Option<CaptureLocations>,
        each: &mut dyn FnMut(&str, Option<&str>),
    ) -> Result<(), String> {
        match self {
            Self::Line => {}
            Self::Pattern(pattern) => {
                let places = places.get_or_insert_with(|| pattern.places());
                if pattern.regex.captures_read(places, line).is_none() {
                    return Err("the line does not match the pattern".into());
                }
                for (name, group) in &pattern.groups {
                    each(name, places.get(*group).map(|(start, end)| &line[start..end]));
                }
            }
            Self::Pairs => pairs(line, each)?,
            Self::Widths(columns) => {
                let mut rest = line;
                for (name, width) in columns {
                    let end = rest.char_indices().nth(*width).map_or(rest.len(), |(at, _)| at);
                    let (value, after) = rest.split_at(end);
                    if let Some(name) = name {
                        each(name, (!value.is_empty()).then(|| value.trim()));
                    }
                    rest = after;
                }
                if !rest.trim().is_empty() {
                    return Err("the line is longer than its columns".into());
                }
            }
        }
        Ok(())
    }
}

/// Pairs with blanks between them. A key without a value is null; in double quotes a backslash takes the meaning of the next
/// character away, and `\n` and `\t` are line end and tab.
fn pairs(line: &str, each: &mut dyn FnMut(&str, Option<&str>)) -> Result<(), String> {
    let mut rest = line.trim_start();
    while !rest.is_empty() {
        let end = rest.find(|c: char| c == '=' || c.is_whitespace()).unwrap_or(rest.len());
        let key = &rest[..end];
        if key.is_empty() {
            return Err("expected a key before `=`".into());
        }
        let Some(after) = rest[end..].strip_prefix('=') else {
            each(key, None);
            rest = rest[end..].trim_start();
            continue;
        };
        let (value, after) = match after.strip_prefix('"') {
            Some(inner) => quoted(inner).ok_or_else(|| format!("the quote of `{key}` is not closed"))?,
            None => {
                let end = after.find(char::is_whitespace).unwrap_or(after.len());
                (Cow::Borrowed(&after[..end]), &after[end..])
            }
        };
        if !after.is_empty() && !after.starts_with(char::is_whitespace) {
            return Err(format!("expected a blank after the value of `{key}`"));
        }
        each(key, Some(&value));
        rest = after.trim_start();
    }
    Ok(())
}

/// A text in quotes whose first one was read, and what follows it.
fn quoted(inner: &str) -> Option<(Cow<'_, str>, &str)> {
    let end = inner.find(['"', '\\'])?;
    if inner[end..].starts_with('"') {
        return Some((Cow::Borrowed(&inner[..end]), &inner[end + 1..]));
    }
    let mut text = String::from(&inner[..end]);
    let mut chars = inner[end..].chars();
    loop {
        match chars.next()? {
            '"' => return Some((Cow::Owned(text), chars.as_str())),
            '\\' => text.push(match chars.next()? {
                'n' => '\n',
                't' => '\t',
                'r' => '\r',
                other => other,
            }),
            c => text.push(c),
        }
    }
}
