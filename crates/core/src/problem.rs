//! Mistakes in project and pipeline files, with their place, reason and remedy.

use std::fmt;
use std::ops::Range;
use std::sync::Arc;

/// A configuration file as it was read: its name for messages and its whole text.
#[derive(Debug, PartialEq, Eq)]
pub struct SourceText {
    /// The path to show, relative to the project where possible.
    pub name: String,
    /// The text, as UTF-8.
    pub text: String,
    /// Where it was written out from another text.
    origin: Option<Origin>,
}

/// What a text was written out from.
#[derive(Debug, PartialEq, Eq)]
struct Origin {
    source: Arc<SourceText>,
    moved: Vec<Moved>,
}

/// A place of a text that was written out.
#[derive(Debug, PartialEq, Eq)]
pub struct Moved {
    /// The place.
    pub to: Range<usize>,
    /// Where it comes from.
    pub from: Range<usize>,
    /// What it was written out for: a table, say.
    pub of: Arc<str>,
}

impl SourceText {
    /// Wraps a text under a name.
    pub fn new(name: impl Into<String>, text: impl Into<String>) -> Arc<Self> {
        Arc::new(Self { name: name.into(), text: text.into(), origin: None })
    }

    /// A text that begins with all of another one and goes on with what was written out from parts of it. `moved` leads
    /// from places behind to the places of the other.
    pub fn written_out(source: Arc<Self>, text: String, moved: Vec<Moved>) -> Arc<Self> {
        Arc::new(Self { name: source.name.clone(), text, origin: Some(Origin { source, moved }) })
    }

    /// The 1-based line and column (in characters) of a byte offset.
    pub fn line_column(&self, offset: usize) -> (usize, usize) {
        let offset = self.text.floor_char_boundary(offset.min(self.text.len()));
        let before = &self.text[..offset];
        let line = before.bytes().filter(|b| *b == b'\n').count() + 1;
        let start = before.rfind('\n').map_or(0, |i| i + 1);
        (line, before[start..].chars().count() + 1)
    }
}

/// A byte range of one [`SourceText`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The file.
    pub source: Arc<SourceText>,
    /// The bytes to underline.
    pub span: Range<usize>,
}

impl Place {
    /// A place in a file. Its ends are moved outwards to whole characters, and into the file.
    pub fn new(source: &Arc<SourceText>, span: Range<usize>) -> Self {
        let text = &source.text;
        let start = text.floor_char_boundary(span.start);
        let end = text.ceil_char_boundary(span.end).max(start);
        Self { source: Arc::clone(source), span: start..end }
    }

    /// The place as its reader knows it: in a text that was written out, where it was written first.
    #[must_use]
    pub fn shown(&self) -> Self {
        let Some(origin) = &self.source.origin else { return self.clone() };
        let first = |span| Self::new(&origin.source, span);
        if self.span.end <= origin.source.text.len() {
            return first(self.span.clone());
        }
        self.moved().map_or_else(|| first(0..0), |moved| first(moved.from.clone()))
    }

    fn moved(&self) -> Option<&Moved> {
        let origin = self.source.origin.as_ref()?;
        origin.moved.iter().find(|m| m.to.contains(&self.span.start))
    }
}

/// How much a [`Problem`] matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// Nothing runs until it is fixed.
    Error,
    /// It runs, but it is probably not what was meant.
    Warning,
}

/// One mistake: what is wrong, where, and what to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Problem {
    /// Error or warning.
    pub severity: Severity,
    /// A stable name of the kind of mistake, one of [`CODES`].
    pub code: &'static str,
    /// What is wrong, in one sentence.
    pub message: String,
    /// Where, if it has one place.
    pub place: Option<Place>,
    /// A few words beside the underlined text.
    pub label: String,
    /// What to do about it.
    pub help: Option<String>,
}

/// Every code that a problem can carry, with its explanation.
pub const CODES: &[(&str, &str)] = &[
    ("syntax.toml", "The file is not valid TOML."),
    ("syntax.sql", "A text inside the file is not valid SQL."),
    ("key.unknown", "An unknown key. It would have no effect, so it is refused."),
    ("key.missing", "A required key is missing."),
    ("value.type", "A value has the wrong type or spelling for its key."),
    ("value.range", "A value is outside what its key allows."),
    ("name.unknown", "A name that binds to nothing: a connection, event, column, function or type."),
    ("name.taken", "A name is used twice where it must be unique."),
    ("name.form", "A name must start with a letter and hold letters, digits, - and _."),
    ("type.mismatch", "An expression has types that do not go together."),
    ("cast.lossy", "A cast can lose part of a value."),
    ("event.unused", "An event that lands nowhere and feeds no other event."),
    ("event.source", "An event needs exactly one origin: it arrives, or it is made of another."),
    ("arrival.overlap", "Two arrivals of an event read the same topic, or two events the same table."),
    ("landing.overlap", "Two landings write to one place, or a landing writes where its event is read."),
    ("secret.plain", "A secret stands in the file in plain text."),
    ("secret.unencrypted", "A password is sent to another host without encryption."),
    ("connection.kind", "The kind of a connection cannot serve here."),
    ("place.missing", "A required folder or file does not exist."),
    ("place.retention", "A source retains events for a shorter time than an event made of them remembers them."),
    ("state.changed", "What an event remembers in the ledger was gathered otherwise than the file says now."),
    ("files.names", "The format of the landing cannot name a column so."),
    ("files.types", "A column would land with another type than in the files that are there."),
    ("table.differs", "The table does not fit the rows that will land; nothing would run."),
    ("feed.server", "A server is not set up for its log to be read."),
    ("place.rights", "A folder may not be written to."),
    ("feed.identity", "The log of a server does not hold enough of a table's rows."),
    ("feed.log", "A server keeps too much of its log, or has deleted unread log."),
    ("table.refuses", "The table of a database may refuse some of the rows, each of which becomes a reject."),
    ("sample.rejects", "Some of the real events looked at would be rejected."),
    ("sample.null", "A field had no value in any of the real events looked at: probably its name binds to nothing."),
    ("sample.key", "The key is not unique among the sampled events."),
    ("sample.time", "The event time of real events lies in the future: probably its unit, format or zone is wrong."),
    ("sample.folders", "The path makes a folder for few events each; thousands of small files are slow to read."),
    ("unsupported", "Something that the syntax knows and Sluice does not."),
];

impl Problem {
    /// An error at a place.
    pub fn error(code: &'static str, message: impl Into<String>, place: Place) -> Self {
        debug_assert!(CODES.iter().any(|(c, _)| *c == code), "undeclared problem code {code}");
        Self {
            severity: Severity::Error,
            code,
            message: message.into(),
            place: Some(place),
            label: String::new(),
            help: None,
        }
    }

    /// A warning at a place.
    pub fn warning(code: &'static str, message: impl Into<String>, place: Place) -> Self {
        Self { severity: Severity::Warning, ..Self::error(code, message, place) }
    }

    /// Adds the words beside the underlined text.
    #[must_use]
    pub fn with_label(mut self, label: impl Into<String>) -> Self {
        self.label = label.into();
        self
    }

    /// Adds the remedy.
    #[must_use]
    pub fn with_help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }

    /// Adds the nearest of `known` names as remedy, or lists them where none is near.
    #[must_use]
    pub fn with_nearest<'a>(self, wrong: &str, what: &str, known: impl IntoIterator<Item = &'a str>) -> Self {
        let help = crate::names::remedy(wrong, what, known);
        match help {
            Some(help) => self.with_help(help),
            None => self,
        }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(place) = &self.place {
            let place = place.shown();
            let (line, column) = place.source.line_column(place.span.start);
            write!(f, "{}:{line}:{column}: ", place.source.name)?;
        }
        f.write_str(&self.message)?;
        if let Some(help) = &self.help {
            write!(f, " ({help})")?;
        }
        Ok(())
    }
}

/// All problems found in one go, in the order of the files.
#[derive(Clone, Debug, Default)]
pub struct Problems {
    list: Vec<Problem>,
}

impl Problems {
    /// Nothing found yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Adds one.
    pub fn add(&mut self, problem: Problem) {
        self.list.push(problem);
    }

    /// Adds all of another list.
    pub fn extend(&mut self, other: Problems) {
        self.list.extend(other.list);
    }

    /// Whether any is an error.
    pub fn has_errors(&self) -> bool {
        self.list.iter().any(|p| p.severity == Severity::Error)
    }

    /// Whether there is nothing at all.
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// The problems sorted by file and place, without repeats, and without what only follows from broken TOML on the
    /// same line.
    pub fn into_sorted(mut self) -> Vec<Problem> {
        self.show_places();
        let line =
            |p: &Problem| p.place.as_ref().map(|at| (at.source.name.clone(), at.source.line_column(at.span.start).0));
        let is_syntax = |p: &Problem| p.code == "syntax.toml";
        let broken: Vec<_> = self.list.iter().filter(|p| is_syntax(p)).map(line).collect();
        if !broken.is_empty() {
            let mut said = Vec::new();
            self.list.retain(|p| match is_syntax(p) {
                true => {
                    let is_first = !said.contains(&line(p));
                    said.push(line(p));
                    is_first
                }
                // A value that could not be read has no place of its own.
                false => !broken.contains(&line(p)) && p.place.as_ref().is_none_or(|at| !at.span.is_empty()),
            });
        }
        let key =
            |p: &Problem| p.place.as_ref().map(|place| (place.source.name.clone(), place.span.start, place.span.end));
        self.list.sort_by_key(key);
        self.list.dedup();
        self.list
    }

    /// Leads from what was written out back to where it was written first: one problem there, for all that share it.
    fn show_places(&mut self) {
        let mut shown: Vec<(Problem, Vec<Arc<str>>)> = Vec::new();
        for mut problem in std::mem::take(&mut self.list) {
            let of = problem.place.as_ref().and_then(|p| Some(Arc::clone(&p.moved()?.of)));
            problem.place = problem.place.as_ref().map(Place::shown);
            match shown.iter_mut().find(|(known, all)| of.is_some() && !all.is_empty() && *known == problem) {
                Some((_, all)) => all.extend(of.filter(|of| !all.contains(of))),
                None => shown.push((problem, of.into_iter().collect())),
            }
        }
        let name = |(mut problem, all): (Problem, Vec<Arc<str>>)| {
            if let Some(first) = all.first() {
                let more = if all.len() > 1 { format!(" and {} more", all.len() - 1) } else { String::new() };
                let before = if problem.label.is_empty() { String::new() } else { format!("{}: ", problem.label) };
                problem.label = format!("{before}for {first}{more}");
            }
            problem
        };
        self.list = shown.into_iter().map(name).collect();
    }

    /// The problems as they were found.
    pub fn iter(&self) -> impl Iterator<Item = &Problem> {
        self.list.iter()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, (1, 1))]
    #[case(3, (2, 1))]
    #[case(5, (2, 2))]
    #[case(7, (2, 3))]
    #[case(99, (3, 1))]
    fn line_and_column_count_characters(#[case] offset: usize, #[case] expected: (usize, usize)) {
        let source = SourceText::new("x.toml", "ab\néüc\n");
        assert_eq!(source.line_column(offset.min(source.text.len())), expected);
    }

    #[test]
    fn problems_sort_by_place_and_lose_repeats() {
        let source = SourceText::new("x.toml", "abcdef");
        let mut problems = Problems::new();
        problems.add(Problem::error("syntax.sql", "b", Place::new(&source, 3..4)));
        problems.add(Problem::error("syntax.sql", "a", Place::new(&source, 1..2)));
        problems.add(Problem::error("syntax.sql", "a", Place::new(&source, 1..2)));
        let sorted: Vec<_> = problems.into_sorted().into_iter().map(|p| p.message).collect();
        assert_eq!(sorted, ["a", "b"]);
    }
}
