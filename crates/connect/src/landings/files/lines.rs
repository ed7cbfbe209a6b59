//! Writes JSON Lines, CSV, and lines that are ready.

use std::fs::File;
use std::io::{self, BufWriter, Write as _};

use arrow_array::RecordBatch;
use arrow_array::cast::AsArray as _;
use sluice_core::decode::csv::{Dialect, write_head, write_rows};
use sluice_core::plan::OutputColumn;
use sluice_core::values::json::write_lines;

/// One file of lines being written.
pub(super) struct LinesFile {
    file: BufWriter<File>,
    buffer: String,
    form: Lines,
}

/// What the lines are.
pub(super) enum Lines {
    /// JSON objects of these columns.
    Json(Vec<OutputColumn>),
    /// CSV.
    Csv(Dialect),
    /// One column of lines that are ready.
    Ready,
}

impl LinesFile {
    /// A file of lines; one of CSV begins with the names of the columns, where the dialect says so.
    pub(super) fn new(file: File, form: Lines, columns: &[OutputColumn]) -> io::Result<Self> {
        let mut lines = Self { file: BufWriter::with_capacity(1 << 16, file), buffer: String::new(), form };
        if let Lines::Csv(dialect) = &lines.form
            && dialect.head
        {
            write_head(&mut lines.buffer, columns, dialect);
            lines.file.write_all(lines.buffer.as_bytes())?;
        }
        Ok(lines)
    }

    pub(super) fn write(&mut self, rows: &RecordBatch) -> io::Result<()> {
        self.buffer.clear();
        match &self.form {
            Lines::Json(columns) => write_lines(&mut self.buffer, rows, columns),
            Lines::Csv(dialect) => write_rows(&mut self.buffer, rows, dialect),
            Lines::Ready => {
                for line in rows.column(0).as_string::<i32>().iter().flatten() {
                    self.buffer.push_str(line);
                    self.buffer.push('\n');
                }
            }
        }
        self.file.write_all(self.buffer.as_bytes())
    }

    /// Ends the file.
    pub(super) fn close(self) -> io::Result<File> {
        self.file.into_inner().map_err(io::IntoInnerError::into_error)
    }
}
