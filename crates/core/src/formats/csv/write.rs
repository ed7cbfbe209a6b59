//! Writes rows as CSV after RFC 4180, with `\n` as line end.

use std::sync::Arc;

use arrow_array::RecordBatch;

use super::{Csv, Dialect};
use crate::columns::OutputColumn;
use crate::formats::{Format, RowWriter};
use crate::values::json::write_text;

/// Writes CSV of a dialect.
#[derive(Debug)]
pub(super) struct CsvWriter(pub Dialect);

impl RowWriter for CsvWriter {
    fn extension(&self) -> &'static str {
        "csv"
    }

    fn format(&self) -> Arc<dyn Format> {
        Csv::shared(self.0.clone())
    }

    fn write_head(&self, out: &mut String, columns: &[OutputColumn]) {
        if self.0.head {
            write_head(out, columns, &self.0);
        }
    }

    fn write_rows(&self, out: &mut String, rows: &RecordBatch, _: &[OutputColumn]) {
        write_rows(out, rows, &self.0);
    }

    fn write_messages(&self, out: &mut String, rows: &RecordBatch, _: &[OutputColumn]) -> Vec<usize> {
        // A value may hold line ends.
        let row = |row| {
            write_rows(out, &rows.slice(row, 1), &self.0);
            out.len() - 1
        };
        (0..rows.num_rows()).map(row).collect()
    }
}

/// Writes the names of the columns.
pub(super) fn write_head(out: &mut String, columns: &[OutputColumn], dialect: &Dialect) {
    for (i, column) in columns.iter().enumerate() {
        if i > 0 {
            out.push(char::from(dialect.delimiter));
        }
        write_value(out, &column.name, dialect);
    }
    out.push('\n');
}

/// Writes rows. Null is written as the dialect's first spelling of it; a text that is spelled alike stands in quotes,
/// so that both can be distinguished.
pub fn write_rows(out: &mut String, batch: &RecordBatch, dialect: &Dialect) {
    let null = dialect.nulls.first().map_or("", String::as_str);
    let mut text = String::new();
    for row in 0..batch.num_rows() {
        for (i, column) in batch.columns().iter().enumerate() {
            if i > 0 {
                out.push(char::from(dialect.delimiter));
            }
            if column.is_null(row) {
                out.push_str(null);
                continue;
            }
            text.clear();
            write_text(&mut text, column.as_ref(), row);
            write_value(out, &text, dialect);
        }
        out.push('\n');
    }
}

fn write_value(out: &mut String, text: &str, dialect: &Dialect) {
    let special = |b: u8| b == dialect.delimiter || b == dialect.quote || matches!(b, b'\n' | b'\r');
    if !text.bytes().any(special) && !dialect.nulls.iter().any(|n| n == text) {
        return out.push_str(text);
    }
    let quote = char::from(dialect.quote);
    out.push(quote);
    for c in text.chars() {
        if c == quote {
            out.push(quote);
        }
        out.push(c);
    }
    out.push(quote);
}
