//! Messages of Avro: each is a value of a schema that is known beforehand.

use std::collections::HashMap;

use arrow_array::RecordBatch;
use arrow_avro::schema::{AvroSchema, Fingerprint, FingerprintAlgorithm};

use super::references::inlined;
use super::{Avro, Datums, Framing};
use crate::event::{Chunk, Message, MessageSchemas, SchemaLanguage};
use crate::formats::spelled::{Spell, Spelled};
use crate::reject::{Reason, Reject};
use crate::values::rows::{keys, write_row};

/// What begins a message in the single-object encoding.
pub(super) const MARK: [u8; 2] = [0xc3, 0x01];

/// Spells messages as JSON.
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
        let schema = schemas.and_then(|schemas| schemas.get(&number));
        // A registry may learn of it yet: only what it has told is remembered.
        let schema = schema.ok_or_else(|| format!("schema {number} was not asked for"))?.clone()?;
        let read = schema.of_language(SchemaLanguage::Avro).and_then(|()| inlined(&schema));
        let read =
            read.and_then(|text| Datums::new(&text)).map_err(|why| format!("schema {number} cannot be read: {why}"));
        let known = read.map(|datums| {
            self.datums.push(datums);
            self.datums.len() - 1
        });
        self.by_number.insert(number, known.clone());
        known
    }

    /// Spells messages of one schema that follow each other.
    fn spell(&mut self, run: &[Taken<'_>], spelled: &mut Spelled<'_>) {
        let Some(datums) = run.first().and_then(|first| self.datums.get_mut(first.schema)) else {
            run.iter().for_each(|taken| spelled.reject(taken.message, "its schema cannot be read".into()));
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
                    let start = spelled.text.len();
                    write_row(&mut spelled.text, batch, &keys, row);
                    spelled.add(taken.message, start);
                }
            }
            at += rows;
            if let Some(why) = bad {
                spelled.reject(run[at].message, why);
                at += 1;
            }
        }
    }
}

impl Spell for Messages {
    fn as_json(&mut self, chunk: &Chunk) -> (Chunk, Vec<Reject>) {
        let mut spelled = Spelled::new(chunk, Reason::NOT_AVRO);
        let mut run: Vec<Taken<'_>> = Vec::new();
        for message in spelled.messages() {
            match self.value(message.span.of(&chunk.bytes), chunk.schemas.as_deref()) {
                Ok((schema, value)) => {
                    if run.last().is_some_and(|last| last.schema != schema) {
                        self.spell(&std::mem::take(&mut run), &mut spelled);
                    }
                    run.push(Taken { message, schema, value });
                }
                Err(why) => spelled.reject(message, why),
            }
        }
        self.spell(&run, &mut spelled);
        spelled.finish()
    }
}
