//! Writes Parquet.

use std::fs::File;
use std::io::BufWriter;

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;
use parquet::arrow::ArrowWriter;
use parquet::basic::{Compression, ZstdLevel};
use parquet::errors::ParquetError;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use sluice_core::batch::BatchIdentity;

/// One Parquet file being written.
pub(super) struct ParquetFile {
    writer: ArrowWriter<BufWriter<File>>,
}

impl ParquetFile {
    pub(super) fn new(
        file: File,
        schema: SchemaRef,
        batch: &BatchIdentity,
        row_group: usize,
        compressed: bool,
    ) -> Result<Self, ParquetError> {
        let pair = |key: &str, value: String| KeyValue::new(key.to_string(), value);
        let properties = WriterProperties::builder()
            .set_compression(match compressed {
                true => Compression::ZSTD(ZstdLevel::try_new(1)?),
                false => Compression::UNCOMPRESSED,
            })
            .set_max_row_group_row_count(Some(row_group))
            .set_statistics_enabled(EnabledStatistics::Page)
            .set_created_by(format!("sluice {}", env!("CARGO_PKG_VERSION")))
            .set_key_value_metadata(Some(vec![
                pair("sluice.ledger", batch.ledger.clone()),
                pair("sluice.pipeline", batch.pipeline.clone()),
                pair("sluice.lane", batch.lane.to_string()),
                pair("sluice.batch", batch.number.to_string()),
            ]))
            .build();
        Ok(Self { writer: ArrowWriter::try_new(BufWriter::new(file), schema, Some(properties))? })
    }

    pub(super) fn write(&mut self, rows: &RecordBatch) -> Result<(), ParquetError> {
        self.writer.write(rows)
    }

    /// Bytes that wait in memory.
    pub(super) fn waiting(&self) -> usize {
        self.writer.memory_size()
    }

    /// Writes out what waits, as a row group.
    pub(super) fn flush(&mut self) -> Result<(), ParquetError> {
        self.writer.flush()
    }

    /// Ends the file.
    pub(super) fn close(self) -> Result<File, ParquetError> {
        let buffer = self.writer.into_inner()?;
        buffer.into_inner().map_err(|e| ParquetError::External(Box::new(e.into_error())))
    }
}
