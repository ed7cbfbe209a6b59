//! Problems in files: grouped by file, each on at most four lines with its place marked.
//!
//! ```text
//! pipelines/weighings.toml
//! ✗ line 12: there is no column `gros_kg`  name.unknown
//!     when = "gros_kg > 500"
//!             ▔▔▔▔▔▔▔ binds to nothing
//!     → did you mean `gross_kg`?
//! ```

use sluice_core::printable;
use sluice_core::problem::{Place, Problem, Severity};
use sluice_core::units::show_many;
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

use super::{note, style};

/// How far what belongs to a problem is indented.
const INDENT: &str = "    ";

/// Problems as text of at most `width` columns. They come sorted by file and place.
pub(crate) fn render(problems: &[Problem], width: usize) -> String {
    let mut out = String::new();
    let mut file: Option<&str> = None;
    for problem in problems {
        let name = problem.place.as_ref().map(|p| p.source.name.as_str());
        if name.is_some() && name != file {
            if file.is_some() {
                out.push('\n');
            }
            out.push_str(&format!("{}\n", style::bold(&printable::line(name.unwrap_or_default()))));
        }
        file = name.or(file);
        one(problem, width, &mut out);
    }
    out
}

fn one(problem: &Problem, width: usize, out: &mut String) {
    let (mark, place) = (
        if problem.severity == Severity::Error { style::bad("✗") } else { style::warn("!") },
        // A place at the very start of a file stands for the file as a whole.
        problem.place.as_ref().filter(|p| !p.span.is_empty()),
    );
    let message = match place {
        Some(place) => format!("line {}: {}", place.source.line_column(place.span.start).0, problem.message),
        None => problem.message.clone(),
    };
    let lines = wrap(&message, width.saturating_sub(2), 2);
    let last = lines.last().map_or(0, |line| line.width()) + 2;
    out.push_str(&format!("{mark} {}", lines.join("\n  ")));
    let fits = last + 2 + problem.code.width() <= width;
    out.push_str(&format!("{}{}\n", if fits { "  " } else { "\n    " }, style::dim(problem.code)));
    if let Some(place) = place {
        excerpt(place, &printable::line(&problem.label), problem.severity, width, out);
    }
    if let Some(help) = &problem.help {
        let lines = wrap(help, width.saturating_sub(6), 0);
        out.push_str(&format!("{INDENT}{} {}\n", style::dim("→"), lines.join("\n      ")));
    }
}

/// A text in lines of at most `width` columns; each but the first has `less` columns fewer.
pub(crate) fn wrap(text: &str, width: usize, less: usize) -> Vec<String> {
    let mut lines: Vec<String> = vec![String::new()];
    for word in text.split_whitespace() {
        let word = printable::line(word);
        let room = width.saturating_sub(if lines.len() > 1 { less } else { 0 });
        match lines.last_mut() {
            Some(line) if line.is_empty() => line.push_str(&word),
            Some(line) if line.width() + 1 + word.width() <= room => {
                line.push(' ');
                line.push_str(&word);
            }
            _ => lines.push(word.into_owned()),
        }
    }
    lines
}

/// The line in which a place begins, as far as it fits, and marks under it.
fn excerpt(place: &Place, label: &str, severity: Severity, width: usize, out: &mut String) {
    let text = &place.source.text;
    let start = text[..place.span.start].rfind('\n').map_or(0, |i| i + 1);
    let end = text[start..].find('\n').map_or(text.len(), |i| start + i);
    let line = text[start..end].trim_end();
    let blank = line.len() - line.trim_start().len();
    let from = (place.span.start - start).min(line.len());
    let to = (place.span.end.min(end) - start).clamp(from, line.len().max(from));
    // What stands before the line's first character is left out, unless the place is there.
    let blank = blank.min(from);
    let Cut { shown, before, marked } =
        cut(&line[blank..], from - blank, to - blank, width.saturating_sub(INDENT.len()));
    let paint = |text: &str| if severity == Severity::Error { style::bad(text) } else { style::warn(text) };
    out.push_str(&format!("{INDENT}{shown}\n"));
    let marks = paint(&"▔".repeat(marked.max(1)));
    let pad = " ".repeat(before);
    match label {
        "" => out.push_str(&format!("{INDENT}{pad}{marks}\n")),
        _ if INDENT.len() + before + marked + 1 + label.width() <= width => {
            out.push_str(&format!("{INDENT}{pad}{marks} {}\n", paint(label)));
        }
        _ => out.push_str(&format!("{INDENT}{pad}{marks}\n{INDENT}{}\n", paint(label))),
    }
}

/// A line within a width, and where its marked part stands, in columns.
struct Cut {
    shown: String,
    before: usize,
    marked: usize,
}

/// Cuts a line so that the marked part, `from` to `to` in bytes, is seen; what is left out shows as `…`.
fn cut(line: &str, from: usize, to: usize, width: usize) -> Cut {
    let columns = |text: &str| printable::line(text).width();
    let (mut head, mut marked) = (line[..from].to_string(), line[from..to].to_string());
    let mut tail = line[to..].to_string();
    let room = |head: &str, marked: &str| columns(head) + columns(marked);
    if room(&head, &marked) + columns(&tail) > width {
        // A third of the width shows what stands before.
        let keep = if columns(&head) + columns(&marked) < width { columns(&head) } else { width / 3 };
        if keep < columns(&head) {
            while columns(&head) + 1 > keep.max(1) {
                head.remove(0);
            }
            head.insert(0, '…');
        }
        let left = width.saturating_sub(columns(&head));
        if columns(&marked) > left {
            marked = shortened(&marked, left);
            tail.clear();
        } else {
            tail = shortened(&tail, left - columns(&marked));
        }
    }
    let shown = [&head, &marked, &tail].map(|part| printable::line(part).into_owned()).concat();
    Cut { shown, before: columns(&head), marked: columns(&marked) }
}

/// The beginning of a text within a width, ended by `…` where something is left out.
fn shortened(text: &str, width: usize) -> String {
    let mut used = 0;
    let mut out = String::new();
    for c in printable::line(text).chars() {
        let wide = c.width().unwrap_or(0);
        if used + wide > width {
            while used + 1 > width && used > 0 {
                used -= out.pop().and_then(|c| c.width()).unwrap_or(1);
            }
            if width > 0 {
                out.push('…');
            }
            return out;
        }
        used += wide;
        out.push(c);
    }
    out
}

/// Shows problems on standard error; the last line counts them.
pub(crate) fn show(problems: &[Problem]) {
    let width = super::table::screen_width().min(120);
    note(&render(problems, width));
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
        note(&format!("\n{}\n", parts.join(", ")));
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

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use sluice_core::problem::SourceText;

    use super::super::gate;
    use super::*;

    fn shown(text: &str, marked: &str, width: usize) -> String {
        let source = SourceText::new("pipelines/p.toml", text);
        let start = text.find(marked).unwrap();
        let place = Place::new(&source, start..start + marked.len());
        let problem = Problem::error("name.unknown", "there is no column `gros_kg`", place)
            .with_label("binds to nothing")
            .with_help("did you mean `gross_kg`?");
        anstream::adapter::strip_str(&gate::open(&render(&[problem], width))).to_string()
    }

    #[test]
    fn a_problem_takes_four_lines() {
        let expected = "pipelines/p.toml\n✗ line 2: there is no column `gros_kg`  name.unknown\n    when = \"gros_kg > 5\"\n            \
                        ▔▔▔▔▔▔▔ binds to nothing\n    → did you mean `gross_kg`?\n";
        assert_eq!(shown("a = 1\n  when = \"gros_kg > 5\"\nb = 2", "gros_kg", 80), expected);
    }

    #[test]
    fn problems_of_one_file_share_its_name() {
        let source = SourceText::new("p.toml", "a = 1\nb = 2\n");
        let other = SourceText::new("q.toml", "c");
        let at = |source, span| Problem::warning("name.form", "odd", Place::new(source, span));
        let text = render(&[at(&source, 0..1), at(&source, 6..7), at(&other, 0..0)], 80);
        let plain = anstream::adapter::strip_str(&gate::open(&text)).to_string();
        let one = "    a = 1\n    ▔\n! line 2: odd  name.form\n    b = 2\n    ▔\n";
        assert_eq!(plain, format!("p.toml\n! line 1: odd  name.form\n{one}\nq.toml\n! odd  name.form\n"));
    }

    #[rstest]
    #[case(40)]
    #[case(60)]
    #[case(80)]
    fn no_line_is_wider_than_the_screen(#[case] width: usize) {
        let long = format!("columns = \"{}, 閘門閘門 gros_kg, {}\"", "first, ".repeat(30), "last, ".repeat(30));
        for marked in ["gros_kg", "columns", "first, first, first, first, first, first, first, first", "閘門閘門 g"]
        {
            let text = shown(&long, marked, width);
            assert!(text.lines().all(|line| line.width() <= width), "{text}");
            let lines: Vec<&str> = text.lines().collect();
            let marks = lines.iter().position(|line| line.contains('▔')).unwrap();
            // The marks stand under what they mark.
            let before = lines[marks].chars().take_while(|c| *c == ' ').count();
            let (mut seen, mut at) = (String::new(), 0);
            for c in lines[marks - 1].chars() {
                if at >= before {
                    seen.push(c);
                }
                at += c.width().unwrap_or(0);
            }
            let first: String = marked.chars().take(6).collect();
            assert!(seen.starts_with(&first), "{text}");
        }
    }

    #[test]
    fn a_place_at_the_end_of_a_line_or_a_file_is_marked() {
        for (text, from, to) in
            [("a = 1\nb", 5, 6), ("a = 1", 5, 5), ("a", 0, 1), ("\t\"x\u{1b}", 1, 4), ("a\r\nb", 0, 4)]
        {
            let source = SourceText::new("p.toml", text);
            let text = render(&[Problem::error("name.form", "odd", Place::new(&source, from..to))], 80);
            assert!(
                gate::open(&text).chars().all(|c| c == '\n' || c == '\u{1b}' || printable::is_harmless(c)),
                "{text:?}"
            );
        }
    }
}
