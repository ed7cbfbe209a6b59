//! Messages of Avro: each is a value of a schema that is known beforehand. They are spelled as JSON first, and then decoded as such
//! under the contract, so that values become what they become in every format.

use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_avro::schema::{AvroSchema, Fingerprint, FingerprintAlgorithm};

use super::{Avro, Datums, Framing};
use crate::event::{Chunk, Message, MessageSchemas, Messages as Reported, RecordSpan};
use crate::formats::rows::offset;
use crate::formats::{Decoded, Decoder};
use crate::reject::{CONTRACT, Reason, Reject};
use crate::values::rows::{keys, write_row};

/// What begins a message in the single-object encoding.
pub(super) const MARK: [u8; 2] = [0xc3, 0x01];

/// Decodes messages as JSON.
pub(super) struct Messages {
    framing: Framing,
    datums: Vec<Datums>,
    /// Schemas by their fingerprints.
    by_fingerprint: HashMap<u64, usize>,
    /// Schemas by their numbers at a registry, or why one cannot be read.
    by_number: HashMap<u32, Result<usize, String>>,
}

/// A message that is to be decoded: its place in the chunk, its schema, its value.
struct Taken<'c> {
    message: &'c Message,
    schema: usize,
    value: &'c [u8],
}

impl Messages {
    pub(super) fn new(format: &Avro) -> Self {
        // What is wrong with a schema was reported when the pipeline was read.
        let read = |(_, text): &(String, String)| Datums::new(text).ok();
        let datums: Vec<Datums> = format.schemas.iter().filter_map(read).collect();
        let fingerprint = |(index, datums): (usize, &Datums)| {
            let schema = AvroSchema::new(datums.text().into());
            match crate::guard::guarded(|| schema.fingerprint(FingerprintAlgorithm::Rabin)) {
                Ok(Ok(Fingerprint::Rabin(digest))) => Some((digest, index)),
                _ => None,
            }
        };
        let by_fingerprint = datums.iter().enumerate().filter_map(fingerprint).collect();
        Self { framing: format.framing, datums, by_fingerprint, by_number: HashMap::new() }
    }

    /// The messages of a chunk as objects of JSON, and those that are none.
    pub(super) fn as_json(&mut self, chunk: &Chunk) -> (Chunk, Vec<Reject>) {
        let mut text = String::new();
        let mut rejects = Vec::new();
        let mut each = Vec::new();
        let reported = chunk.messages.as_deref();
        let mut run: Vec<Taken<'_>> = Vec::new();
        for message in reported.map_or(&[][..], |r| &r.each) {
            match self.value(message.span.of(&chunk.bytes), chunk.schemas.as_deref()) {
                Ok((schema, value)) => {
                    if run.last().is_some_and(|last| last.schema != schema) {
                        self.decode(chunk, &std::mem::take(&mut run), &mut text, &mut each, &mut rejects);
                    }
                    run.push(Taken { message, schema, value });
                }
                Err(why) => rejects.push(reject(chunk, message, why)),
            }
        }
        self.decode(chunk, &run, &mut text, &mut each, &mut rejects);
        let messages = reported.map(|r| {
            let (topic, side) = (Arc::clone(&r.topic), Vec::new());
            Arc::new(Reported { topic, partition: r.partition, each, side, left_out: 0 })
        });
        let (from, to, partition) = (chunk.from, chunk.to, Arc::clone(&chunk.partition));
        let records = messages.as_ref().map_or(0, |m| m.each.len() as u64);
        (Chunk { partition, from, to, records, bytes: text.into_bytes(), messages, ..Chunk::default() }, rejects)
    }

    /// The schema of a message, and its value without the frame.
    fn value<'m>(&mut self, message: &'m [u8], schemas: Option<&MessageSchemas>) -> Result<(usize, &'m [u8]), String> {
        match self.framing {
            Framing::Bare => return Ok((0, message)),
            Framing::Registry => {
                let number = super::schema_number(message);
                let number = number.ok_or("the message does not begin with a zero byte and the number of a schema")?;
                return Ok((self.numbered(number, schemas)?, &message[5..]));
            }
            Framing::SingleObject => {}
        }
        let frame = message.split_first_chunk::<10>().filter(|(frame, _)| frame.starts_with(&MARK));
        let (frame, value) = frame.ok_or("the message does not begin with the bytes C3 01 and a fingerprint")?;
        let digest = frame.last_chunk::<8>().map_or(0, |bytes| u64::from_le_bytes(*bytes));
        let schema = self.by_fingerprint.get(&digest);
        let schema = schema.ok_or_else(|| format!("no schema of `avro.schema` has the fingerprint {digest:016x}"))?;
        Ok((*schema, value))
    }

    /// The schema of a number.
    fn numbered(&mut self, number: u32, schemas: Option<&MessageSchemas>) -> Result<usize, String> {
        if let Some(known) = self.by_number.get(&number) {
            return known.clone();
        }
        let text = schemas.and_then(|schemas| schemas.get(&number));
        // A registry may learn of it yet: only what it has told is remembered.
        let text = text.ok_or_else(|| format!("schema {number} was not asked for"))?.clone()?;
        let read = Datums::new(&text).map_err(|why| format!("schema {number} cannot be read: {why}"));
        let known = read.map(|datums| {
            self.datums.push(datums);
            self.datums.len() - 1
        });
        self.by_number.insert(number, known.clone());
        known
    }

    /// Decodes messages of one schema that follow each other.
    fn decode(
        &mut self,
        chunk: &Chunk,
        run: &[Taken<'_>],
        text: &mut String,
        each: &mut Vec<Message>,
        rejects: &mut Vec<Reject>,
    ) {
        let Some(datums) = run.first().and_then(|first| self.datums.get_mut(first.schema)) else {
            rejects.extend(run.iter().map(|taken| reject(chunk, taken.message, "its schema cannot be read".into())));
            return;
        };
        let values: Vec<&[u8]> = run.iter().map(|taken| taken.value).collect();
        let mut at = 0;
        while at < values.len() {
            let (batch, bad) = datums.decode_each(&values[at..]);
            let rows = batch.as_ref().map_or(0, RecordBatch::num_rows);
            if let Some(batch) = &batch {
                let keys = keys(batch);
                for (row, taken) in run[at..at + rows].iter().enumerate() {
                    let start = text.len();
                    write_row(text, batch, &keys, row);
                    let span = RecordSpan { start: offset(start), end: offset(text.len() - 1) };
                    each.push(Message { span, key: None, headers: None, ..*taken.message });
                }
            }
            at += rows;
            if let Some(why) = bad {
                rejects.push(reject(chunk, run[at].message, why));
                at += 1;
            }
        }
    }
}

fn reject(chunk: &Chunk, message: &Message, why: String) -> Reject {
    let bytes = message.span.of(&chunk.bytes);
    Reject {
        partition: Arc::clone(&chunk.partition),
        position: chunk.position_at(message.span.start),
        length: bytes.len() as u64,
        station: CONTRACT.into(),
        field: None,
        reason: Reason::NOT_AVRO,
        message: why,
        bytes: bytes.to_vec(),
    }
}

/// Decodes what holds Avro: messages, or rows of files that were spelled as JSON already.
pub(super) struct AvroDecoder {
    messages: Messages,
    inner: Box<dyn Decoder>,
}

impl AvroDecoder {
    pub(super) fn new(format: &Avro, inner: Box<dyn Decoder>) -> Self {
        Self { messages: Messages::new(format), inner }
    }
}

impl Decoder for AvroDecoder {
    fn decode_table(&mut self, chunk: &Chunk, table: Option<u32>) -> Decoded {
        let Some(reported) = chunk.messages.as_deref().filter(|_| chunk.too_long.is_none()) else {
            return self.inner.decode_table(chunk, table);
        };
        let (rows, rejects) = self.messages.as_json(chunk);
        let mut decoded = self.inner.decode_table(&rows, table);
        let messages = rows.messages.as_deref().map_or(&[][..], |m| &m.each);
        // Back to the message itself, which is what a reject keeps and a later station goes by.
        let mut places = messages.iter();
        for span in &mut decoded.rows.spans {
            let row = places.find(|m| m.span.start == span.start);
            *span = row.and_then(|m| find(&reported.each, m.offset)).map_or(*span, |m| m.span);
        }
        for reject in &mut decoded.rejects {
            if let Some(message) = find(&reported.each, reject.position.major) {
                reject.bytes = message.span.of(&chunk.bytes).to_vec();
                reject.length = reject.bytes.len() as u64;
            }
        }
        decoded.rejects.extend(rejects);
        decoded.rejects.sort_by_key(|reject| reject.position);
        decoded
    }
}

/// The message of an offset: they stand in the order of their offsets.
fn find(messages: &[Message], offset: u64) -> Option<&Message> {
    messages.binary_search_by_key(&offset, |m| m.offset).ok().map(|i| &messages[i])
}
