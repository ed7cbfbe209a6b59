//! Parquet files.

use std::fs::File;

use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use sluice_core::failure::{Failure, Outcome};

use super::StoredFile;
use super::typed::TypedFile;

pub(super) fn open(file: &StoredFile) -> Outcome<TypedFile> {
    let open = File::open(&file.path).map_err(|e| Failure::io("read", &file.path, &e))?;
    let builder = ParquetRecordBatchReaderBuilder::try_new(open).map_err(|e| unreadable(file, &e))?;
    let rows = u64::try_from(builder.metadata().file_metadata().num_rows()).ok();
    let schema = builder.schema().clone();
    let reader = builder.with_batch_size(8192).build().map_err(|e| unreadable(file, &e))?;
    let of = file.clone();
    let batches = reader.map(move |batch| batch.map_err(|e| unreadable(&of, &e)));
    Ok(TypedFile { schema, rows, batches: Box::new(batches) })
}

fn unreadable(file: &StoredFile, error: &dyn std::fmt::Display) -> Failure {
    Failure::unreachable(format!("{} is not a complete Parquet file: {error}", file.path.display()))
        .with_help("it may be cut off or still be written; files of our own appear only once they are whole")
}
