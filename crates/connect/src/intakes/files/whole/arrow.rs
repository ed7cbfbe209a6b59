//! Rows of Arrow IPC, as a file or as a stream.

use std::fs::File;
use std::io::{self, BufReader, Read as _, Seek as _};
use std::path::{Path, PathBuf};

use arrow_array::RecordBatch;
use arrow_ipc::reader::{FileReader, StreamReader};
use arrow_schema::{ArrowError, SchemaRef};
use sluice_core::failure::{Failure, Outcome};

use super::{Piece, Rows, unreadable};

/// What begins a file, and not a stream.
const MAGIC: &[u8] = b"ARROW1";

enum Batches {
    File(FileReader<BufReader<File>>),
    Stream(StreamReader<BufReader<File>>),
}

pub(super) struct ArrowRows {
    path: PathBuf,
    batches: Batches,
    schema: SchemaRef,
    /// Rows to pass over.
    skip: u64,
}

impl ArrowRows {
    pub(super) fn open(path: &Path, mut file: File, from: u64) -> Outcome<Self> {
        let bad = |e: ArrowError| unreadable(path, "Arrow IPC", &e);
        let io = |e: io::Error| Failure::io("read", path, &e);
        let mut start = Vec::new();
        (&mut file).take(MAGIC.len() as u64).read_to_end(&mut start).map_err(io)?;
        file.rewind().map_err(io)?;
        let file = BufReader::new(file);
        let (batches, schema) = match start == MAGIC {
            true => {
                let reader = FileReader::try_new(file, None).map_err(bad)?;
                let schema = reader.schema();
                (Batches::File(reader), schema)
            }
            false => {
                let reader = StreamReader::try_new(file, None).map_err(bad)?;
                let schema = reader.schema();
                (Batches::Stream(reader), schema)
            }
        };
        Ok(Self { path: path.into(), batches, schema, skip: from })
    }

    fn batch(&mut self) -> Option<Result<RecordBatch, ArrowError>> {
        match &mut self.batches {
            Batches::File(reader) => reader.next(),
            Batches::Stream(reader) => reader.next(),
        }
    }
}

impl Rows for ArrowRows {
    fn next(&mut self) -> Outcome<Piece> {
        loop {
            let batch = match self.batch() {
                Some(Ok(batch)) => batch,
                Some(Err(error)) => return Err(unreadable(&self.path, "Arrow IPC", &error)),
                None => return Ok(Piece::End),
            };
            let rows = batch.num_rows() as u64;
            if self.skip >= rows {
                self.skip -= rows;
                continue;
            }
            let from = usize::try_from(std::mem::take(&mut self.skip)).unwrap_or(usize::MAX);
            return Ok(Piece::Rows(batch.slice(from, batch.num_rows() - from)));
        }
    }

    fn schema(&self) -> Option<SchemaRef> {
        Some(self.schema.clone())
    }
}
