//! Problems with their place underlined.

use std::io::IsTerminal as _;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Origin, Renderer, Snippet};
use sluice_core::printable;
use sluice_core::problem::{Problem, Severity};
use sluice_core::units::show_many;

use super::{gate, note, style};

/// One problem as text of at most `width` columns.
pub(crate) fn render(problem: &Problem, width: usize, colours: bool) -> String {
    let renderer = if colours { Renderer::styled() } else { Renderer::plain() };
    let renderer = renderer.term_width(width).decor_style(DecorStyle::Unicode);
    let level = match problem.severity {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
    };
    let [message, label] = [&problem.message, &problem.label].map(|text| printable::text(text));
    let mut group = Group::with_title(level.primary_title(message).id(problem.code));
    if let Some(place) = &problem.place {
        group = if place.span.is_empty() {
            // A place at the very start of a file stands for the file as a whole: its name is enough.
            group.element(Origin::path(&place.source.name))
        } else {
            let mut mark = AnnotationKind::Primary.span(place.span.clone());
            if !label.is_empty() {
                mark = mark.label(label);
            }
            // The renderer replaces what a terminal would obey in the lines of the file.
            group.element(Snippet::source(&place.source.text).path(&place.source.name).annotation(mark))
        };
    }
    if let Some(help) = &problem.help {
        group = group.element(Level::HELP.message(printable::text(help)));
    }
    gate::own(&renderer.render(&[group]))
}

/// Shows problems on standard error; the last line counts them.
pub(crate) fn show(problems: &[Problem]) {
    let colours = std::io::stderr().is_terminal() && std::env::var_os("NO_COLOR").is_none();
    let width = super::table::screen_width().min(120);
    for problem in problems {
        note(&format!("{}\n\n", render(problem, width, colours)));
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

/// Shows the errors alone.
pub(crate) fn show_errors(found: sluice_core::problem::Problems) {
    let errors: Vec<Problem> = found.into_sorted().into_iter().filter(|p| p.severity == Severity::Error).collect();
    show(&errors);
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
