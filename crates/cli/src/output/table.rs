//! Aligned columns without lines, as wide as the terminal at most. What does not fit is wrapped, never cut.

use comfy_table::{Cell, CellAlignment, ContentArrangement, Table as Grid, presets};
use sluice_core::printable;

use super::gate;
use super::style;

/// How a column stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Align {
    Left,
    Right,
}

/// Rows of cells under headings.
pub(crate) struct Table {
    grid: Grid,
    aligns: Vec<Align>,
}

impl Table {
    pub(crate) fn new(headings: &[(&'static str, Align)]) -> Self {
        let mut grid = Grid::new();
        grid.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
        let aligns: Vec<Align> = headings.iter().map(|(_, a)| *a).collect();
        let heads: Vec<String> = headings.iter().map(|(h, _)| style::dim(h)).collect();
        let mut table = Self { grid, aligns };
        let cells = table.cells(heads);
        table.grid.set_header(cells);
        table
    }

    fn cells(&self, texts: Vec<String>) -> Vec<Cell> {
        let alignment = |a: &Align| if *a == Align::Right { CellAlignment::Right } else { CellAlignment::Left };
        texts
            .into_iter()
            .zip(&self.aligns)
            .map(|(t, a)| Cell::new(gate::open(&t)).set_alignment(alignment(a)))
            .collect()
    }

    /// Adds a row; cells may carry colours.
    pub(crate) fn row(&mut self, texts: Vec<String>) {
        let cells = self.cells(texts);
        self.grid.add_row(cells);
    }

    /// The table as lines of at most `width` columns.
    pub(crate) fn render(&mut self, width: usize) -> String {
        self.grid.set_width(u16::try_from(width).unwrap_or(u16::MAX));
        let mut out = String::new();
        for line in self.grid.lines() {
            out.push(' ');
            // What comes from outside was replaced in the cells: these colours are ours.
            out.push_str(&gate::own(line.trim_end()));
            out.push('\n');
        }
        out
    }
}

/// A text of at most `limit` characters on one line; a longer one ends with `…`.
pub(crate) fn cut(text: &str, limit: usize) -> String {
    let text = printable::line(text);
    if text.chars().count() <= limit {
        return text.into_owned();
    }
    text.chars().take(limit.saturating_sub(1)).chain(['…']).collect()
}

/// The terminal's width, or a generous one where there is no terminal.
pub(crate) fn screen_width() -> usize {
    terminal_size::terminal_size().map_or(160, |(w, _)| usize::from(w.0).max(40))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_align_by_what_is_seen() {
        let mut table = Table::new(&[("lock", Align::Left), ("events", Align::Right)]);
        table.row(vec!["閘門".into(), style::good("7")]);
        table.row(vec!["x".into(), "1,000".into()]);
        let text = anstream::adapter::strip_str(&table.render(80)).to_string();
        let ends: Vec<_> = text.lines().map(|l| l.replace("閘門", "wide").trim_end().len()).collect();
        assert!(ends.iter().all(|e| *e == ends[0]), "{text}");
    }

    #[test]
    fn what_does_not_fit_is_wrapped() {
        let mut table = Table::new(&[("a", Align::Left)]);
        table.row(vec!["word ".repeat(30)]);
        let text = table.render(40);
        assert_eq!(text.matches("word").count(), 30);
    }

    #[test]
    fn cutting_says_so() {
        assert_eq!(cut("abc\ndef", 10), "abc⏎def");
        assert_eq!(cut("abcdef", 4), "abc…");
    }
}
