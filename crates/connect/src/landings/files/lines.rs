//! Writes rows as text, or lines that are ready.

use std::fs::File;
use std::io::{self, BufWriter, Write as _};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_array::cast::AsArray as _;
use sluice_core::columns::OutputColumn;
use sluice_core::formats::RowWriter;

/// One file of lines being written.
pub(super) struct LinesFile {
    file: BufWriter<File>,
    buffer: String,
    /// None for one column of lines that are ready.
    writer: Option<Arc<dyn RowWriter>>,
    columns: Vec<OutputColumn>,
}

impl LinesFile {
    /// A file of lines, which begins with what its format has before the first row.
    pub(super) fn new(file: File, writer: Option<Arc<dyn RowWriter>>, columns: Vec<OutputColumn>) -> io::Result<Self> {
        let mut lines = Self { file: BufWriter::with_capacity(1 << 16, file), buffer: String::new(), writer, columns };
        if let Some(writer) = &lines.writer {
            writer.write_head(&mut lines.buffer, &lines.columns);
            lines.file.write_all(lines.buffer.as_bytes())?;
        }
        Ok(lines)
    }

    pub(super) fn write(&mut self, rows: &RecordBatch) -> io::Result<()> {
        self.buffer.clear();
        match &self.writer {
            Some(writer) => writer.write_rows(&mut self.buffer, rows, &self.columns),
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
