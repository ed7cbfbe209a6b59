//! Rows as a table that fits the screen. Cells are cut with `…`; columns that do not fit are named below.

use arrow_array::RecordBatch;
use sluice_core::columns::OutputColumn;
use sluice_core::printable;
use sluice_core::types::SqlType;
use sluice_core::units::show_many;
use sluice_core::values::json::write_text;
use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

use super::style;

/// Characters of a cell at most.
const WIDEST: usize = 36;

/// One cell.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Cell {
    /// Its text; None is null.
    pub text: Option<String>,
    /// Whether it is to be marked as changed.
    pub marked: bool,
}

/// Cells under headings.
#[derive(Clone, Debug, Default)]
pub(crate) struct Rows {
    /// The columns: name, and whether its values stand to the right.
    pub columns: Vec<(String, bool)>,
    /// The rows.
    pub rows: Vec<Vec<Cell>>,
    /// Characters of a cell at most; 0 for what is usual.
    pub widest: usize,
}

/// A value as text.
pub(crate) fn value_text(batch: &RecordBatch, column: usize, row: usize) -> Option<String> {
    let array = batch.column(column);
    (!array.is_null(row)).then(|| {
        let mut text = String::new();
        write_text(&mut text, array.as_ref(), row);
        text
    })
}

impl Rows {
    /// The first rows of a batch.
    pub(crate) fn of(batch: &RecordBatch, columns: &[OutputColumn], count: usize) -> Self {
        let rows = (0..batch.num_rows().min(count))
            .map(|row| (0..columns.len()).map(|c| Cell { text: value_text(batch, c, row), marked: false }).collect())
            .collect();
        Self { columns: columns.iter().map(heading).collect(), rows, widest: 0 }
    }

    /// Whether all columns fit a screen, the widest cut as far as they may be.
    pub(crate) fn fits(&self, width: usize, indent: usize) -> bool {
        taken(&self.widths(width, indent), indent) <= width
    }

    /// How wide each column is shown: as its cells are, and the widest less while they do not all fit.
    fn widths(&self, width: usize, indent: usize) -> Vec<usize> {
        /// A column is not cut below this to make room.
        const SHORTEST: usize = 12;
        let mut widths: Vec<usize> = (0..self.columns.len()).map(|c| self.width_of(c)).collect();
        while taken(&widths, indent) > width {
            match widths.iter_mut().max() {
                Some(widest) if *widest > SHORTEST => *widest -= 1,
                _ => break,
            }
        }
        widths
    }

    /// The table with at most `width` columns of the screen, and what was left out.
    pub(crate) fn render(&self, width: usize, indent: usize) -> String {
        let widths = self.widths(width, indent);
        let mut fitting = widths.len();
        while fitting > 1 && taken(&widths[..fitting], indent) > width {
            fitting -= 1;
        }
        let mut out = String::new();
        let pad = " ".repeat(indent);
        let head = |(i, (name, _)): (usize, &(String, bool))| {
            let name = cut(name, widths[i]);
            (style::dim(&name), name.width())
        };
        let heads: Vec<(String, usize)> = self.columns[..fitting].iter().enumerate().map(head).collect();
        out.push_str(&self.line(&pad, &heads, &widths));
        for row in &self.rows {
            let cells: Vec<(String, usize)> = row[..fitting].iter().zip(&widths).map(|(c, w)| show(c, *w)).collect();
            out.push_str(&self.line(&pad, &cells, &widths));
        }
        if fitting < self.columns.len() {
            let names: Vec<&str> = self.columns[fitting..].iter().map(|(name, _)| name.as_str()).collect();
            let text = format!("… {}: {}", show_many(names.len() as u64, "more column"), names.join(", "));
            out.push_str(&format!("{pad}{}\n", style::dim(&cut(&text, width.saturating_sub(indent)))));
        }
        out
    }

    fn width_of(&self, column: usize) -> usize {
        let widest = if self.widest > 0 { self.widest } else { WIDEST };
        let cells = self.rows.iter().map(|row| show(&row[column], widest).1);
        cells.max().unwrap_or(0).max(cut(&self.columns[column].0, widest).width())
    }

    fn line(&self, pad: &str, cells: &[(String, usize)], widths: &[usize]) -> String {
        let mut out = String::from(pad);
        for (i, (text, seen)) in cells.iter().enumerate() {
            let space = " ".repeat(widths[i].saturating_sub(*seen));
            let last = i + 1 == cells.len();
            match self.columns[i].1 {
                true => out.push_str(&format!("{space}{text}")),
                false if last => out.push_str(text),
                false => out.push_str(&format!("{text}{space}")),
            }
            if !last {
                out.push_str("  ");
            }
        }
        out.truncate(out.trim_end().len());
        out.push('\n');
        out
    }
}

/// The columns of the screen that these take, with two blanks between them.
fn taken(widths: &[usize], indent: usize) -> usize {
    indent + widths.iter().map(|w| w + 2).sum::<usize>().saturating_sub(2)
}

/// A cell's text within a width, and the columns of the screen that it takes.
fn show(cell: &Cell, width: usize) -> (String, usize) {
    let (text, seen) = match &cell.text {
        None => (style::dim("∅"), 1),
        Some(text) => {
            let text = cut(text, width);
            let seen = text.width();
            (text, seen)
        }
    };
    if cell.marked { (style::marked(&text), seen) } else { (text, seen) }
}

/// A column's heading, and whether its values stand to the right.
pub(crate) fn heading(column: &OutputColumn) -> (String, bool) {
    (column.name.clone(), column.ty.is_numeric() || column.ty == SqlType::Null)
}

/// A text of at most `limit` columns of the screen on one line; line ends show as ⏎.
pub(crate) fn cut(text: &str, limit: usize) -> String {
    let mut out = String::new();
    let mut used = 0;
    for c in text.chars() {
        let c = match c {
            '\n' => '⏎',
            '\t' => '⇥',
            c => printable::shown(c),
        };
        let width = c.width().unwrap_or(0);
        if used + width > limit {
            while used + 1 > limit {
                used -= out.pop().and_then(|c| c.width()).unwrap_or(1).max(1);
            }
            out.push('…');
            return out;
        }
        used += width;
        out.push(c);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn rows(columns: &[&str], rows: &[&[&str]]) -> Rows {
        let cell = |t: &&str| Cell { text: (*t != "∅").then(|| (*t).to_string()), marked: false };
        Rows {
            columns: columns.iter().map(|c| ((*c).to_string(), *c == "n")).collect(),
            rows: rows.iter().map(|r| r.iter().map(cell).collect()).collect(),
            widest: 0,
        }
    }

    fn plain(rows: &Rows, width: usize) -> String {
        anstream::adapter::strip_str(&rows.render(width, 1)).to_string()
    }

    #[test]
    fn columns_align_by_what_is_seen() {
        let text = plain(&rows(&["lock", "n"], &[&["閘門", "7"], &["x", "1000"], &["∅", "∅"]]), 80);
        assert_eq!(text, " lock     n\n 閘門     7\n x     1000\n ∅        ∅\n");
    }

    #[test]
    fn columns_that_do_not_fit_are_named() {
        let text = plain(&rows(&["aaaaaaaaaa", "bbbbbbbbbb", "cc"], &[&["x", "y", "z"]]), 20);
        assert_eq!(text, " aaaaaaaaaa\n x\n … 2 more columns: …\n");
    }

    #[test]
    fn the_widest_columns_are_cut_first() {
        let long = "x".repeat(30);
        let text = plain(&rows(&["short", "long"], &[&["abcde", &long]]), 25);
        assert_eq!(text, format!(" short  long\n abcde  {}…\n", "x".repeat(16)));
    }

    #[rstest]
    #[case("abc", 3, "abc")]
    #[case("abcd", 3, "ab…")]
    #[case("閘門閘門", 5, "閘門…")]
    #[case("a\nb", 9, "a⏎b")]
    fn cutting(#[case] text: &str, #[case] limit: usize, #[case] expected: &str) {
        assert_eq!(cut(text, limit), expected);
    }
}
