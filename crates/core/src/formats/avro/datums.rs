//! Decodes values of one Avro schema into columns.

use std::fmt;

use arrow_array::RecordBatch;
use arrow_avro::reader::{Decoder, DecoderMode, ReaderBuilder};
use arrow_avro::schema::{AvroSchema, Fingerprint, FingerprintAlgorithm, SchemaStore};
use arrow_schema::SchemaRef;

/// Rows that a decoder holds.
const ROWS: usize = 8192;

/// Decodes values of one schema.
pub struct Datums {
    schema: String,
    decoder: Decoder,
}

impl fmt::Debug for Datums {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Datums").field("schema", &self.schema).finish_non_exhaustive()
    }
}

/// What decoding gave.
#[derive(Debug, Default)]
pub struct Found {
    /// The rows, where there are any.
    pub batch: Option<RecordBatch>,
    /// The bytes that they take.
    pub bytes: usize,
    /// Why the row after them can't be read.
    pub error: Option<String>,
}

impl Datums {
    /// A decoder of a schema, as JSON.
    ///
    /// # Errors
    /// Says in words what is wrong with the schema.
    pub fn new(schema: &str) -> Result<Self, String> {
        Ok(Self { decoder: decoder(schema)?, schema: schema.into() })
    }

    /// The schema of its rows.
    pub fn schema(&self) -> SchemaRef {
        self.decoder.schema()
    }

    /// Decodes up to so many values from the front of bytes.
    pub fn decode(&mut self, bytes: &[u8], most: usize) -> Found {
        let most = most.min(ROWS);
        let (at, rows, error) = self.push(bytes, most);
        if error.is_none() {
            return self.flush(at, None);
        }
        // What the bad row has left in the columns goes with the decoder; the rows before it are decoded again.
        if let Ok(fresh) = decoder(&self.schema) {
            self.decoder = fresh;
        }
        let (at, _, _) = self.push(&bytes[..at], rows);
        self.flush(at, error)
    }

    /// Gives the bytes and rows that were taken, and why no more were.
    fn push(&mut self, bytes: &[u8], most: usize) -> (usize, usize, Option<String>) {
        let mut at = 0;
        for row in 0..most {
            match self.decoder.decode(&bytes[at..]) {
                Ok(read) => at += read,
                Err(error) => return (at, row, Some(error.to_string())),
            }
        }
        (at, most, None)
    }

    fn flush(&mut self, bytes: usize, error: Option<String>) -> Found {
        match self.decoder.flush() {
            Ok(batch) => Found { batch: batch.filter(|b| b.num_rows() > 0), bytes, error },
            Err(failed) => Found { batch: None, bytes: 0, error: Some(failed.to_string()) },
        }
    }
}

fn decoder(schema: &str) -> Result<Decoder, String> {
    const ID: Fingerprint = Fingerprint::Id(1);
    let mut store = SchemaStore::new_with_type(FingerprintAlgorithm::Id);
    store.set(ID, AvroSchema::new(schema.into())).map_err(|e| e.to_string())?;
    ReaderBuilder::new()
        .with_batch_size(ROWS)
        .with_writer_schema_store(store)
        .with_active_fingerprint(ID)
        .with_decoder_mode(DecoderMode::UnframedDatum)
        .build_decoder()
        .map_err(|e| e.to_string())
}
