//! Spools the text of one batch.

use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::PathBuf;

use arrow_array::RecordBatch;
use sluice_core::durable::Disk;
use sluice_core::event::LandingRows;
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Stage, StagedWork};
use sluice_core::printable;
use sluice_core::values::json::{write_lines, write_text};
use unicode_width::UnicodeWidthStr as _;

pub(super) struct ScreenStage {
    path: PathBuf,
    file: BufWriter<File>,
    as_table: bool,
    cut: Option<usize>,
    disk: Disk,
    rows: u64,
    widths: Vec<usize>,
}

impl ScreenStage {
    pub(super) fn create(path: PathBuf, as_table: bool, cut: Option<usize>, disk: Disk) -> Outcome<Box<dyn Stage>> {
        if let Some(folder) = path.parent() {
            disk.make_folders(folder)?;
        }
        let file = disk.create(&path)?;
        let file = BufWriter::new(file);
        Ok(Box::new(Self { path, file, as_table, cut, disk, rows: 0, widths: Vec::new() }))
    }

    /// Rows as aligned columns. The header comes again only where a later row needs more room.
    fn table(&mut self, batch: &RecordBatch) -> String {
        let schema = batch.schema();
        let cells: Vec<Vec<String>> = batch
            .columns()
            .iter()
            .map(|column| (0..batch.num_rows()).map(|row| cell(column.as_ref(), row, self.cut)).collect())
            .collect();
        let needed = |i: usize| {
            let longest = cells[i].iter().map(|c| c.width()).max().unwrap_or(0);
            longest.max(schema.field(i).name().width())
        };
        let grown: Vec<usize> =
            (0..cells.len()).map(|i| needed(i).max(self.widths.get(i).copied().unwrap_or(0))).collect();
        let mut out = String::new();
        if grown != self.widths {
            self.widths = grown;
            let names: Vec<_> = schema.fields().iter().map(|f| printable::line(f.name())).collect();
            line(&mut out, &names, &self.widths);
            let rules: Vec<String> = self.widths.iter().map(|w| "─".repeat(*w)).collect();
            line(&mut out, &rules, &self.widths);
        }
        for row in 0..batch.num_rows() {
            let texts: Vec<&str> = cells.iter().map(|c| c[row].as_str()).collect();
            line(&mut out, &texts, &self.widths);
        }
        out
    }
}

fn cell(column: &dyn arrow_array::Array, row: usize, cut: Option<usize>) -> String {
    let mut text = String::new();
    if column.is_null(row) {
        text.push('∅');
    }
    write_text(&mut text, column, row);
    // A line end inside a value would break the table apart, and a terminal obeys control characters.
    let text = printable::line(&text).into_owned();
    match cut {
        Some(limit) if text.chars().count() > limit => text.chars().take(limit.max(2) - 1).chain(['…']).collect(),
        _ => text,
    }
}

fn line(out: &mut String, cells: &[impl AsRef<str>], widths: &[usize]) {
    let start = out.len();
    for (text, width) in cells.iter().zip(widths) {
        let text = text.as_ref();
        out.push_str(text);
        out.extend(std::iter::repeat_n(' ', width.saturating_sub(text.width()) + 2));
    }
    let end = out[start..].trim_end().len() + start;
    out.truncate(end);
    out.push('\n');
}

impl Stage for ScreenStage {
    fn write(&mut self, rows: LandingRows) -> Outcome<()> {
        let text = match self.as_table {
            true => self.table(&rows.batch),
            false => {
                let mut text = String::new();
                write_lines(&mut text, &rows.batch, &crate::landings::columns_of(&rows.batch.schema()));
                // The same JSON, without characters that a terminal would obey.
                printable::json(&text).into_owned()
            }
        };
        self.rows += rows.batch.num_rows() as u64;
        self.file.write_all(text.as_bytes()).map_err(|e| Failure::io("write", &self.path, &e))
    }

    fn finish(self: Box<Self>) -> Outcome<StagedWork> {
        let path = self.path;
        let file = self.file.into_inner().map_err(|e| Failure::io("write", &path, &e.into_error()))?;
        reach("stage.closed");
        self.disk.sync_file(&file, &path)?;
        if let Some(folder) = path.parent() {
            self.disk.sync_folder(folder)?;
        }
        reach("stage.synced");
        let bytes = file.metadata().map_err(|e| Failure::io("look at", &path, &e))?.len();
        Ok(StagedWork { rows: self.rows, merged: 0, bytes, detail: serde_json::Value::Null })
    }
}
