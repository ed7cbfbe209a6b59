//! Rows of Parquet files.

use std::fs::File;
use std::path::{Path, PathBuf};

use arrow_array::RecordBatchReader as _;
use arrow_schema::SchemaRef;
use parquet::arrow::arrow_reader::{ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder};
use sluice_core::failure::Outcome;

use super::{Piece, ROWS, Rows, unreadable};

pub(super) struct ParquetRows {
    path: PathBuf,
    rows: ParquetRecordBatchReader,
}

impl ParquetRows {
    pub(super) fn open(path: &Path, file: File, from: u64) -> Outcome<Self> {
        let bad = |e: parquet::errors::ParquetError| unreadable(path, "Parquet", &e);
        let builder = ParquetRecordBatchReaderBuilder::try_new(file).map_err(bad)?;
        let from = usize::try_from(from).unwrap_or(usize::MAX);
        let rows = builder.with_batch_size(ROWS).with_offset(from).build().map_err(bad)?;
        Ok(Self { path: path.into(), rows })
    }
}

impl Rows for ParquetRows {
    fn next(&mut self) -> Outcome<Piece> {
        match self.rows.next() {
            Some(Ok(batch)) => Ok(Piece::Rows(batch)),
            Some(Err(error)) => Err(unreadable(&self.path, "Parquet", &error)),
            None => Ok(Piece::End),
        }
    }

    fn schema(&self) -> Option<SchemaRef> {
        Some(self.rows.schema())
    }
}
