//! Problems with their place underlined.

use std::fmt;
use std::io::IsTerminal as _;

use miette::{Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, NamedSource, SourceCode};
use sluice_core::problem::{Problem, Severity};

use super::{note, style};
use sluice_core::units::show_many;

/// A problem as the renderer wants it.
struct Shown<'a> {
    problem: &'a Problem,
    source: Option<NamedSource<String>>,
}

impl fmt::Debug for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.problem.message)
    }
}

impl std::error::Error for Shown<'_> {}

impl Diagnostic for Shown<'_> {
    fn code<'a>(&'a self) -> Option<Box<dyn fmt::Display + 'a>> {
        Some(Box::new(self.problem.code))
    }

    fn severity(&self) -> Option<miette::Severity> {
        Some(match self.problem.severity {
            Severity::Error => miette::Severity::Error,
            Severity::Warning => miette::Severity::Warning,
        })
    }

    fn help<'a>(&'a self) -> Option<Box<dyn fmt::Display + 'a>> {
        self.problem.help.as_ref().map(|h| Box::new(h) as Box<dyn fmt::Display>)
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        self.source.as_ref().map(|s| s as &dyn SourceCode)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        let place = self.problem.place.as_ref().filter(|_| self.source.is_some())?;
        let label = (!self.problem.label.is_empty()).then(|| self.problem.label.clone());
        let length = place.span.end - place.span.start;
        Some(Box::new(std::iter::once(LabeledSpan::new(label, place.span.start, length))))
    }
}

/// One problem as text of at most `width` columns.
pub(crate) fn render(problem: &Problem, width: usize, colours: bool) -> String {
    let theme = if colours { GraphicalTheme::unicode() } else { GraphicalTheme::unicode_nocolor() };
    let source = problem
        .place
        .as_ref()
        // A place at the very start of a file stands for the file as a whole: its name is enough.
        .filter(|p| p.span.end > p.span.start)
        .map(|p| NamedSource::new(&p.source.name, p.source.text.clone()));
    let mut message = problem.clone();
    if let (None, Some(place)) = (&source, &problem.place) {
        message.message = format!("{}: {}", place.source.name, problem.message);
    }
    let shown = Shown { problem: &message, source };
    let mut out = String::new();
    let handler = GraphicalReportHandler::new_themed(theme).with_width(width).with_context_lines(1).with_links(false);
    // Writing to a string does not fail; where rendering does, the plain form serves.
    if handler.render_report(&mut out, &shown).is_err() {
        out = format!("{problem}\n");
    }
    out
}

/// Shows problems on standard error; the last line counts them.
pub(crate) fn show(problems: &[Problem]) {
    let colours = std::io::stderr().is_terminal() && std::env::var_os("NO_COLOR").is_none();
    let width = super::table::screen_width().min(120);
    for problem in problems {
        note(&format!("{}\n", render(problem, width, colours)));
    }
    let count = |severity| problems.iter().filter(|p| p.severity == severity).count() as u64;
    let (errors, warnings) = (count(Severity::Error), count(Severity::Warning));
    let mut parts = Vec::new();
    if errors > 0 {
        parts.push(style::bad(&show_many(errors, "error")));
    }
    if warnings > 0 {
        parts.push(style::warn(&show_many(warnings, "warning")));
    }
    if !parts.is_empty() {
        note(&format!("{}\n", parts.join(", ")));
    }
}

/// A problem as JSON.
pub(crate) fn json(problem: &Problem) -> serde_json::Value {
    let place = problem.place.as_ref().map(|p| {
        let ((line, column), (end_line, end_column)) =
            (p.source.line_column(p.span.start), p.source.line_column(p.span.end));
        serde_json::json!({
            "file": p.source.name, "line": line, "column": column, "end_line": end_line, "end_column": end_column,
        })
    });
    serde_json::json!({
        "severity": if problem.severity == Severity::Error { "error" } else { "warning" },
        "code": problem.code,
        "message": problem.message,
        "label": problem.label,
        "help": problem.help,
        "place": place,
    })
}
