//! Writes JSON Lines, and lines that are ready.

use std::fs::File;
use std::io::{self, BufWriter, Write as _};

use arrow_array::RecordBatch;
use arrow_array::cast::AsArray as _;
use sluice_core::plan::OutputColumn;
use sluice_core::values::json::write_lines;

/// One file of lines being written.
pub(super) struct LinesFile {
    file: BufWriter<File>,
    buffer: String,
    columns: Option<Vec<OutputColumn>>,
}

impl LinesFile {
    /// A file of JSON objects of these columns, or without columns of lines as they come.
    pub(super) fn new(file: File, columns: Option<Vec<OutputColumn>>) -> Self {
        Self { file: BufWriter::with_capacity(1 << 16, file), buffer: String::new(), columns }
    }

    pub(super) fn write(&mut self, rows: &RecordBatch) -> io::Result<()> {
        self.buffer.clear();
        match &self.columns {
            Some(columns) => write_lines(&mut self.buffer, rows, columns),
            None => {
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
