//! Rows of Parquet files.

use std::fs::File;
use std::path::{Path, PathBuf};

use arrow_array::RecordBatchReader as _;
use arrow_schema::SchemaRef;
use parquet::arrow::arrow_reader::{ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder};
use sluice_core::failure::Outcome;
use sluice_core::guard::guarded;

use super::{Piece, ROWS, Rows, unreadable};

pub(super) struct ParquetRows {
    path: PathBuf,
    rows: ParquetRecordBatchReader,
}

impl ParquetRows {
    pub(super) fn open(path: &Path, file: File, from: u64) -> Outcome<Self> {
        let bad = |e: parquet::errors::ParquetError| unreadable(path, "Parquet", &e);
        let from = usize::try_from(from).unwrap_or(usize::MAX);
        let build = || {
            let builder = ParquetRecordBatchReaderBuilder::try_new(file)?;
            builder.with_batch_size(ROWS).with_offset(from).build()
        };
        let rows = guarded(build).map_err(|why| unreadable(path, "Parquet", &why))?.map_err(bad)?;
        Ok(Self { path: path.into(), rows })
    }
}

impl Rows for ParquetRows {
    fn next(&mut self) -> Outcome<Piece> {
        let bad = |why: &dyn std::fmt::Display| unreadable(&self.path, "Parquet", why);
        match guarded(|| self.rows.next()).map_err(|why| bad(&why))? {
            Some(Ok(batch)) => Ok(Piece::Rows(batch)),
            Some(Err(error)) => Err(bad(&error)),
            None => Ok(Piece::End),
        }
    }

    fn schema(&self) -> Option<SchemaRef> {
        Some(self.rows.schema())
    }
}
