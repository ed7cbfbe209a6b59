//! Writes Arrow IPC files and object container files of Avro: rows by batches of columns, which readers take with their types.

use std::fs::File;
use std::io::BufWriter;

use arrow_array::RecordBatch;
use arrow_avro::compression::CompressionCodec;
use arrow_avro::writer::{AvroWriter, WriterBuilder};
use arrow_ipc::CompressionType;
use arrow_ipc::writer::{FileWriter, IpcWriteOptions};
use arrow_schema::SchemaRef;
use arrow_select::concat::concat_batches;
use sluice_core::batch::BatchIdentity;

use super::AvroCompression;
use super::typed::avro_schema;

/// Rows that are written together: readers take them so, and a block is packed by itself.
const ROWS: usize = 64 << 10;

/// Bytes of such rows at most.
const BYTES: usize = 8 << 20;

/// One file being written.
pub(super) struct ColumnarFile {
    writer: Writer,
    schema: SchemaRef,
    /// Rows that wait until there are enough of them.
    waiting: Vec<RecordBatch>,
    rows: usize,
    bytes: usize,
}

enum Writer {
    Arrow(Box<FileWriter<BufWriter<File>>>),
    Avro(Box<AvroWriter<BufWriter<File>>>),
}

impl ColumnarFile {
    /// A file of Arrow IPC.
    pub(super) fn arrow(
        file: File,
        schema: SchemaRef,
        batch: &BatchIdentity,
        compressed: bool,
    ) -> Result<Self, String> {
        let options = IpcWriteOptions::default()
            .try_with_compression(compressed.then_some(CompressionType::ZSTD))
            .map_err(|e| e.to_string())?;
        let writer = FileWriter::try_new_with_options(BufWriter::new(file), &schema, options);
        let mut writer = writer.map_err(|e| e.to_string())?;
        writer.write_metadata("sluice.ledger", &batch.ledger);
        writer.write_metadata("sluice.pipeline", &batch.pipeline);
        writer.write_metadata("sluice.lane", batch.lane.to_string());
        writer.write_metadata("sluice.batch", batch.number.to_string());
        Ok(Self::new(Writer::Arrow(Box::new(writer)), schema))
    }

    /// A file of Avro. Its writer has no place for what else is known of the batch.
    pub(super) fn avro(file: File, schema: SchemaRef, compression: AvroCompression) -> Result<Self, String> {
        // The writer encodes by the schema, and makes the one in the file's head of the columns and the name.
        let typed = avro_schema(&schema);
        let writer = WriterBuilder::new(typed)
            .with_compression(match compression {
                AvroCompression::None => None,
                AvroCompression::Deflate => Some(CompressionCodec::Deflate),
                AvroCompression::Zstd => Some(CompressionCodec::ZStandard),
            })
            .build(BufWriter::new(file))
            .map_err(|e| e.to_string())?;
        Ok(Self::new(Writer::Avro(Box::new(writer)), schema))
    }

    fn new(writer: Writer, schema: SchemaRef) -> Self {
        Self { writer, schema, waiting: Vec::new(), rows: 0, bytes: 0 }
    }

    pub(super) fn write(&mut self, rows: &RecordBatch) -> Result<(), String> {
        self.rows += rows.num_rows();
        self.bytes += rows.get_array_memory_size();
        self.waiting.push(rows.clone());
        if self.rows >= ROWS || self.bytes >= BYTES { self.flush() } else { Ok(()) }
    }

    /// Bytes that wait in memory.
    pub(super) fn waiting(&self) -> usize {
        self.bytes
    }

    /// Writes out what waits.
    pub(super) fn flush(&mut self) -> Result<(), String> {
        let waiting = std::mem::take(&mut self.waiting);
        (self.rows, self.bytes) = (0, 0);
        if waiting.is_empty() {
            return Ok(());
        }
        let rows = concat_batches(&self.schema, &waiting).map_err(|e| e.to_string())?;
        match &mut self.writer {
            Writer::Arrow(writer) => writer.write(&rows).map_err(|e| e.to_string()),
            Writer::Avro(writer) => writer.write(&rows).map_err(|e| e.to_string()),
        }
    }

    /// Ends the file.
    pub(super) fn close(mut self) -> Result<File, String> {
        self.flush()?;
        let buffer = match self.writer {
            Writer::Arrow(mut writer) => {
                writer.finish().map_err(|e| e.to_string())?;
                writer.into_inner().map_err(|e| e.to_string())?
            }
            Writer::Avro(mut writer) => {
                writer.finish().map_err(|e| e.to_string())?;
                writer.into_inner()
            }
        };
        buffer.into_inner().map_err(|e| e.into_error().to_string())
    }
}
