//! Spools the messages of one batch.

use std::fs::File;
use std::io::{BufWriter, Write as _};
use std::path::PathBuf;

use arrow_array::{Array, ArrayRef, RecordBatch, cast::AsArray as _, types};
use arrow_schema::DataType;
use sluice_core::decode::csv::{Dialect, write_rows};
use sluice_core::durable::Disk;
use sluice_core::event::LandingRows;
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::{Stage, StagedWork};
use sluice_core::values::json::{write_lines, write_text};

use super::message::Message;

pub(super) struct SpoolStage {
    path: PathBuf,
    file: BufWriter<File>,
    csv: Option<Dialect>,
    topic: String,
    partitions: i64,
    disk: Disk,
    rows: u64,
    bytes: u64,
    text: String,
    message: Message,
}

impl SpoolStage {
    pub(super) fn create(
        path: PathBuf,
        csv: Option<Dialect>,
        topic: String,
        partitions: i64,
        disk: Disk,
    ) -> Outcome<Box<dyn Stage>> {
        if let Some(folder) = path.parent() {
            disk.make_folders(folder)?;
        }
        let file = File::create(&path).map_err(|e| Failure::io("make", &path, &e))?;
        let file = BufWriter::with_capacity(1 << 16, file);
        let (text, message) = (String::new(), Message::default());
        Ok(Box::new(Self { path, file, csv, topic, partitions, disk, rows: 0, bytes: 0, text, message }))
    }

    /// The values of all rows, each ended by a line end; gives where each ends.
    fn values(&mut self, rows: &RecordBatch) -> Vec<usize> {
        self.text.clear();
        match &self.csv {
            None => {
                write_lines(&mut self.text, rows, &crate::landings::columns_of(&rows.schema()));
                memchr::memchr_iter(b'\n', self.text.as_bytes()).collect()
            }
            // A value of CSV may hold line ends.
            Some(dialect) => (0..rows.num_rows())
                .map(|row| {
                    write_rows(&mut self.text, &rows.slice(row, 1), dialect);
                    self.text.len() - 1
                })
                .collect(),
        }
    }

    fn partition(&self, column: &ArrayRef, row: usize) -> Outcome<Option<i32>> {
        if column.is_null(row) {
            return Ok(None);
        }
        let number = match column.data_type() {
            DataType::Int32 => i64::from(column.as_primitive::<types::Int32Type>().value(row)),
            _ => column.as_primitive::<types::Int64Type>().value(row),
        };
        if (0..self.partitions).contains(&number) {
            return Ok(i32::try_from(number).ok());
        }
        let message =
            format!("`partition` gives {number}, and {} has the partitions 0 to {}", self.topic, self.partitions - 1);
        Err(Failure::new(FailureKind::Configuration, message).with_help(format!(
            "keep it in bounds, as in lock_no % {}; nothing of this batch has landed",
            self.partitions
        )))
    }
}

/// The columns of a kind beside those that land: `@KEY`, or `@KEY.NAME`.
fn beside<'b>(rows: &'b RecordBatch, key: &str) -> Vec<(String, &'b ArrayRef)> {
    let schema = rows.schema();
    let name = |i: usize| {
        let rest = schema.field(i).name().strip_prefix('@')?.strip_prefix(key)?;
        (rest.is_empty() || rest.starts_with('.')).then(|| rest.trim_start_matches('.').to_string())
    };
    rows.columns().iter().enumerate().filter_map(|(i, c)| Some((name(i)?, c))).collect()
}

impl Stage for SpoolStage {
    fn write(&mut self, rows: LandingRows) -> Outcome<()> {
        let rows = rows.batch;
        let schema = rows.schema();
        let landing: Vec<usize> =
            (0..rows.num_columns()).filter(|i| !schema.field(*i).name().starts_with('@')).collect();
        let values = rows.project(&landing).map_err(|e| Failure::internal(e.to_string()))?;
        let (keys, headers, partitions) = (beside(&rows, "key"), beside(&rows, "headers"), beside(&rows, "partition"));
        let ends = self.values(&values);
        let mut start = 0;
        let mut text = String::new();
        for (row, end) in ends.into_iter().enumerate() {
            let mut message = std::mem::take(&mut self.message);
            message.value.clear();
            message.value.extend_from_slice(&self.text.as_bytes()[start..end]);
            start = end + 1;
            message.key = keys.first().filter(|(_, c)| !c.is_null(row)).map(|(_, column)| {
                text.clear();
                write_text(&mut text, column.as_ref(), row);
                text.as_bytes().to_vec()
            });
            message.headers.clear();
            for (name, column) in headers.iter().filter(|(_, c)| !c.is_null(row)) {
                text.clear();
                write_text(&mut text, column.as_ref(), row);
                message.headers.push((name.clone(), text.as_bytes().to_vec()));
            }
            message.partition = match partitions.first() {
                Some((_, column)) => self.partition(column, row)?,
                None => None,
            };
            message.write(&mut self.file).map_err(|e| Failure::io("write", &self.path, &e))?;
            self.bytes += message.value.len() as u64;
            self.message = message;
        }
        self.rows += rows.num_rows() as u64;
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Outcome<StagedWork> {
        let path = self.path;
        self.file.flush().map_err(|e| Failure::io("write", &path, &e))?;
        let file = self.file.into_inner().map_err(|e| Failure::io("write", &path, &e.into_error()))?;
        reach("stage.closed");
        self.disk.sync_file(&file, &path)?;
        if let Some(folder) = path.parent() {
            self.disk.sync_folder(folder)?;
        }
        reach("stage.synced");
        Ok(StagedWork {
            rows: self.rows,
            merged: 0,
            bytes: self.bytes,
            detail: serde_json::json!({ "topic": self.topic }),
        })
    }
}
