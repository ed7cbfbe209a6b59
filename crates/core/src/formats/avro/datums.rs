//! Decodes values of one Avro schema into columns.

use std::fmt;

use arrow_array::RecordBatch;
use arrow_avro::reader::{Decoder, DecoderMode, ReaderBuilder};
use arrow_avro::schema::{AvroSchema, Fingerprint, FingerprintAlgorithm, SchemaStore};
use arrow_schema::SchemaRef;

use crate::guard::guarded;

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
    /// The bytes of that row, where its end is known all the same.
    pub bad: Option<usize>,
}

impl Datums {
    /// A decoder of a schema, as JSON.
    ///
    /// # Errors
    /// Says in words what is wrong with the schema.
    pub fn new(schema: &str) -> Result<Self, String> {
        Ok(Self { decoder: decoder(schema)?, schema: schema.into() })
    }

    /// The schema as it is spelled.
    pub(super) fn text(&self) -> &str {
        &self.schema
    }

    /// The schema of its rows.
    pub fn schema(&self) -> SchemaRef {
        self.decoder.schema()
    }

    /// Decodes up to so many values from the front of bytes.
    pub fn decode(&mut self, bytes: &[u8], most: usize) -> Found {
        let mut most = most.min(ROWS);
        loop {
            let (ends, error) = self.push(bytes, most);
            if error.is_some() {
                // What the bad row has left in the columns goes with the decoder; the rows before it are decoded again.
                self.reset();
                self.push(bytes, ends.len());
            }
            let taken = ends.last().copied().unwrap_or(0);
            match guarded(|| self.decoder.flush()).and_then(|batch| batch.map_err(|e| e.to_string())) {
                Ok(batch) => {
                    let batch = batch.filter(|b| b.num_rows() > 0);
                    return Found { batch, bytes: taken, error, bad: None };
                }
                // Some faults show only when columns are built, such as text that is not UTF-8: which row has it is found by
                // halves.
                Err(_) if ends.len() > 1 => {
                    self.reset();
                    most = ends.len() / 2;
                }
                Err(why) => {
                    self.reset();
                    return Found { batch: None, bytes: 0, error: Some(why), bad: ends.first().copied() };
                }
            }
        }
    }

    /// Decodes values that stand apart, each of which must fill its bytes: the rows of the first of them, up to a bad one, and why
    /// that is bad. At least one value is taken, where there is one.
    pub(super) fn decode_each(&mut self, values: &[&[u8]]) -> (Option<RecordBatch>, Option<String>) {
        let mut most = values.len().min(ROWS);
        loop {
            let (rows, mut why) = self.push_each(&values[..most]);
            if why.is_some() {
                self.reset();
                self.push_each(&values[..rows]);
            }
            match guarded(|| self.decoder.flush()).and_then(|batch| batch.map_err(|e| e.to_string())) {
                Ok(batch) => return (batch.filter(|b| b.num_rows() > 0), why),
                Err(_) if rows > 1 => {
                    self.reset();
                    most = rows / 2;
                }
                Err(fault) => {
                    self.reset();
                    why = Some(fault);
                    return (None, why);
                }
            }
        }
    }

    /// Gives how many values were taken, and why no more were.
    fn push_each(&mut self, values: &[&[u8]]) -> (usize, Option<String>) {
        for (row, value) in values.iter().enumerate() {
            match guarded(|| self.decoder.decode(value)) {
                Ok(Ok(read)) if read == value.len() => {}
                Ok(Ok(read)) => {
                    let rest = value.len().saturating_sub(read);
                    return (row, Some(format!("{rest} bytes follow its last field: it has another schema")));
                }
                Ok(Err(error)) => return (row, Some(error.to_string())),
                Err(why) => return (row, Some(why)),
            }
        }
        (values.len(), None)
    }

    fn reset(&mut self) {
        if let Ok(fresh) = decoder(&self.schema) {
            self.decoder = fresh;
        }
    }

    /// Gives where each row that was taken ends, and why no more were.
    fn push(&mut self, bytes: &[u8], most: usize) -> (Vec<usize>, Option<String>) {
        let mut ends = Vec::with_capacity(most);
        let mut at = 0;
        for _ in 0..most {
            match guarded(|| self.decoder.decode(&bytes[at..])) {
                Ok(Ok(read)) => at += read,
                Ok(Err(error)) => return (ends, Some(error.to_string())),
                Err(why) => return (ends, Some(why)),
            }
            ends.push(at);
        }
        (ends, None)
    }
}

fn decoder(schema: &str) -> Result<Decoder, String> {
    const ID: Fingerprint = Fingerprint::Id(1);
    let mut store = SchemaStore::new_with_type(FingerprintAlgorithm::Id);
    store.set(ID, AvroSchema::new(schema.into())).map_err(|e| e.to_string())?;
    let builder = ReaderBuilder::new()
        .with_batch_size(ROWS)
        .with_writer_schema_store(store)
        .with_active_fingerprint(ID)
        .with_decoder_mode(DecoderMode::UnframedDatum);
    guarded(|| builder.build_decoder())?.map_err(|e| e.to_string())
}
