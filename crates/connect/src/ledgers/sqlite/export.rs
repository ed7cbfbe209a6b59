//! All batches of a pipeline as a file: CSV, JSON Lines or Parquet.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::sync::Arc;

use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray, TimestampMicrosecondArray};
use arrow_schema::{Schema, SchemaRef};
use parquet::arrow::ArrowWriter;
use sluice_core::columns::OutputColumn;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::csv::Dialect;
use sluice_core::formats::{Csv, JsonLines, RowWriter};
use sluice_core::types::SqlType;

use super::SqliteLedger;
use super::history::BatchLine;

/// Batches that are read and written at a time.
const PART: u64 = 10_000;

/// The endings of files that can be written.
pub const ENDINGS: &[&str] = &["csv", "jsonl", "parquet"];

impl SqliteLedger {
    /// Writes all batches of a pipeline, in the order of opening; gives how many. The ending of the path says how. The file is there
    /// once it is whole.
    ///
    /// # Errors
    /// Where the ending is not known, the file is there already, or cannot be written, or the ledger cannot be read.
    pub fn export(&self, pipeline: &str, path: &Path) -> Outcome<u64> {
        let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
        if !ENDINGS.contains(&ending) {
            let message = format!("`{}` does not end with .{}", path.display(), ENDINGS.join(", ."));
            return Err(Failure::new(FailureKind::Configuration, message)
                .with_help("the ending of the file says how it is written: batches.csv, batches.parquet"));
        }
        if path.exists() {
            let message = format!("{} is there already", path.display());
            return Err(Failure::new(FailureKind::Configuration, message).with_help("name another file, or remove it"));
        }
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        let hidden = folder.join(format!(".{name}.{}.part", std::process::id()));
        let written = self.write_all(pipeline, ending, &hidden).and_then(|count| {
            // Not over one that somebody made meanwhile.
            std::fs::hard_link(&hidden, path).map_err(|e| Failure::io("make", path, &e))?;
            Ok(count)
        });
        let _ = std::fs::remove_file(&hidden);
        written
    }

    fn write_all(&self, pipeline: &str, ending: &str, path: &Path) -> Outcome<u64> {
        let failed = |e: std::io::Error| Failure::io("write", path, &e);
        let file = BufWriter::new(File::create(path).map_err(failed)?);
        let columns = columns();
        let schema = Arc::new(Schema::new(columns.iter().map(OutputColumn::field).collect::<Vec<_>>()));
        let mut out = Out::new(ending, file, &schema, &columns).map_err(failed)?;
        let (mut count, mut after) = (0, 0);
        loop {
            let lines = self.page(pipeline, after, PART)?;
            let Some(last) = lines.last() else { break };
            after = last.opened;
            count += lines.len() as u64;
            let rows = rows(&lines, &schema)?;
            out.write(&rows, &columns).map_err(failed)?;
        }
        out.close().map_err(failed)?;
        Ok(count)
    }
}

enum Out {
    Text(Arc<dyn RowWriter>, BufWriter<File>),
    Parquet(Box<ArrowWriter<BufWriter<File>>>),
}

impl Out {
    fn new(
        ending: &str,
        mut file: BufWriter<File>,
        schema: &SchemaRef,
        columns: &[OutputColumn],
    ) -> std::io::Result<Self> {
        let writer: Arc<dyn RowWriter> = match ending {
            "parquet" => {
                let writer = ArrowWriter::try_new(file, Arc::clone(schema), None).map_err(std::io::Error::other)?;
                return Ok(Self::Parquet(Box::new(writer)));
            }
            "csv" => Csv::writer(Dialect::default()),
            _ => Arc::new(JsonLines),
        };
        let mut head = String::new();
        writer.write_head(&mut head, columns);
        file.write_all(head.as_bytes())?;
        Ok(Self::Text(writer, file))
    }

    fn write(&mut self, rows: &RecordBatch, columns: &[OutputColumn]) -> std::io::Result<()> {
        match self {
            Self::Text(writer, file) => {
                let mut text = String::new();
                writer.write_rows(&mut text, rows, columns);
                file.write_all(text.as_bytes())
            }
            Self::Parquet(writer) => writer.write(rows).map_err(std::io::Error::other),
        }
    }

    fn close(self) -> std::io::Result<()> {
        let mut file = match self {
            Self::Text(_, file) => file,
            Self::Parquet(writer) => writer.into_inner().map_err(std::io::Error::other)?,
        };
        file.flush()?;
        file.get_ref().sync_all()
    }
}

fn columns() -> Vec<OutputColumn> {
    let column = |name: &str, ty, nullable| OutputColumn { name: name.into(), ty, nullable, limit: None };
    vec![
        column("lane", SqlType::Text, false),
        column("number", SqlType::Bigint, false),
        column("state", SqlType::Text, false),
        column("opened_at", SqlType::Timestamptz, false),
        column("sealed_at", SqlType::Timestamptz, true),
        column("settled_at", SqlType::Timestamptz, true),
        column("read", SqlType::Bigint, false),
        column("bytes", SqlType::Bigint, false),
        column("rejected", SqlType::Bigint, false),
        column("landed", SqlType::Bigint, false),
        column("texts", SqlType::Text, true),
    ]
}

fn rows(lines: &[BatchLine], schema: &SchemaRef) -> Outcome<RecordBatch> {
    let texts =
        |of: fn(&BatchLine) -> Option<&str>| -> ArrayRef { Arc::new(lines.iter().map(of).collect::<StringArray>()) };
    // SQLite has no larger numbers.
    let numbers = |of: fn(&BatchLine) -> u64| -> ArrayRef {
        Arc::new(lines.iter().map(|line| i64::try_from(of(line)).ok()).collect::<Int64Array>())
    };
    let times = |of: fn(&BatchLine) -> Option<i64>| -> ArrayRef {
        Arc::new(lines.iter().map(of).collect::<TimestampMicrosecondArray>().with_timezone("UTC"))
    };
    let arrays = vec![
        texts(|line| Some(&line.lane)),
        numbers(|line| line.number),
        texts(|line| Some(&line.state)),
        times(|line| Some(line.opened_at)),
        times(|line| line.sealed_at),
        times(|line| line.settled_at),
        numbers(|line| line.read),
        numbers(|line| line.bytes),
        numbers(|line| line.rejected),
        numbers(|line| line.landed),
        texts(|line| line.texts.as_deref()),
    ];
    RecordBatch::try_new(Arc::clone(schema), arrays).map_err(|e| Failure::internal(format!("batches as rows: {e}")))
}
