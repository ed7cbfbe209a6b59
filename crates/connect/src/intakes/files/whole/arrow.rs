//! Rows of Arrow IPC, as a file or as a stream. A file is a stream between its first eight bytes and its footer. Each message is
//! looked at before it is decoded: what it says of its own lengths must fit the bytes that are there.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{self, BufReader, Read, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};

use arrow_array::RecordBatch;
use arrow_buffer::Buffer;
use arrow_ipc::reader::StreamDecoder;
use arrow_schema::SchemaRef;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::guard::guarded;

use super::{Piece, Rows, unreadable};

/// What begins and ends a file, and not a stream.
const MAGIC: &[u8] = b"ARROW1";

/// Bytes before the first message of a file, at least; then zeros up to a boundary that each writer chooses.
const BEFORE: u64 = 8;

/// Bytes of one message, packed or not, at most.
const MOST: u64 = 2 << 30;

pub(super) struct ArrowRows {
    path: PathBuf,
    file: BufReader<File>,
    /// Bytes that may still hold messages.
    left: u64,
    decoder: StreamDecoder,
    schema: SchemaRef,
    /// Rows that were decoded and not handed on.
    ready: VecDeque<RecordBatch>,
    is_over: bool,
    /// Rows to pass over.
    skip: u64,
}

impl ArrowRows {
    pub(super) fn open(path: &Path, file: File, from: u64) -> Outcome<Self> {
        let bad = |why: String| unreadable(path, "Arrow IPC", &why);
        let io = |e: io::Error| Failure::io("read", path, &e);
        let length = file.metadata().map_err(io)?.len();
        let mut file = BufReader::with_capacity(256 << 10, file);
        let mut left = length;
        if starts_with_magic(&mut file).map_err(io)? {
            let mut end = Vec::new();
            file.seek(SeekFrom::Start(length.saturating_sub(MAGIC.len() as u64))).map_err(io)?;
            file.read_to_end(&mut end).map_err(io)?;
            if end != MAGIC || length < 2 * BEFORE {
                return Err(bad("it has no end".into()));
            }
            let start = first_message(&mut file).map_err(io)?;
            left = length.saturating_sub(start);
        }
        let mut decoder = StreamDecoder::new();
        let mut ready = VecDeque::new();
        let (schema, is_over) = loop {
            let message = next_message(&mut file, &mut left).map_err(bad)?;
            let is_over = message.is_none();
            decode(&mut decoder, message.unwrap_or_else(end), &mut ready).map_err(bad)?;
            match decoder.schema() {
                Some(schema) => break (schema, is_over),
                None if is_over => return Err(bad("it has no schema".into())),
                None => {}
            }
        };
        Ok(Self { path: path.into(), file, left, decoder, schema, ready, is_over, skip: from })
    }

    fn batch(&mut self) -> Result<Option<RecordBatch>, String> {
        while self.ready.is_empty() && !self.is_over {
            let message = next_message(&mut self.file, &mut self.left)?;
            self.is_over = message.is_none();
            decode(&mut self.decoder, message.unwrap_or_else(end), &mut self.ready)?;
        }
        Ok(self.ready.pop_front())
    }
}

fn starts_with_magic(file: &mut BufReader<File>) -> io::Result<bool> {
    let mut start = Vec::new();
    file.take(MAGIC.len() as u64).read_to_end(&mut start)?;
    file.rewind()?;
    Ok(start == MAGIC)
}

/// Goes to the first message of a file.
fn first_message(file: &mut BufReader<File>) -> io::Result<u64> {
    let mut at = BEFORE;
    file.seek(SeekFrom::Start(at))?;
    let mut word = [0; 4];
    while file.read_exact(&mut word).is_ok() && word == [0; 4] {
        at += 4;
    }
    file.seek(SeekFrom::Start(at))?;
    Ok(at)
}

/// A message with its lengths; None at the end.
fn next_message(file: &mut impl Read, left: &mut u64) -> Result<Option<Buffer>, String> {
    let mut bytes = Vec::new();
    let mut add = |bytes: &mut Vec<u8>, count: u64| {
        *left = left.checked_sub(count).ok_or("a message is longer than the file")?;
        let read = file.take(count).read_to_end(bytes).map_err(|e| e.to_string())?;
        if (read as u64) < count { Err("it is cut off within a message".to_string()) } else { Ok(()) }
    };
    let word = |bytes: &[u8]| bytes.last_chunk::<4>().map_or(0, |b| u32::from_le_bytes(*b));
    if add(&mut bytes, 4).is_err() {
        // A stream may end without saying so.
        return if bytes.is_empty() { Ok(None) } else { Err("it is cut off within a message".into()) };
    }
    // Older writers leave the first of the two words out.
    if word(&bytes) == u32::MAX {
        add(&mut bytes, 4)?;
    }
    let size = word(&bytes);
    if size == 0 {
        return Ok(None);
    }
    let start = bytes.len();
    add(&mut bytes, size.into())?;
    let body = bytes.len();
    let message = arrow_ipc::root_as_message(&bytes[start..]).map_err(|e| e.to_string())?;
    let length = u64::try_from(message.bodyLength()).map_err(|_| "a message has a negative length")?;
    add(&mut bytes, length)?;
    // Read again, since the bytes may have moved.
    let message = arrow_ipc::root_as_message(&bytes[start..body]).map_err(|e| e.to_string())?;
    let rows = message.header_as_record_batch();
    let rows = rows.or_else(|| message.header_as_dictionary_batch().and_then(|d| d.data()));
    if let Some(rows) = rows {
        check_buffers(&rows, &bytes[body..])?;
    }
    Ok(Some(Buffer::from_vec(bytes)))
}

/// Whether the buffers of rows lie within the body, and do not claim more than may be once they are unpacked.
fn check_buffers(rows: &arrow_ipc::RecordBatch<'_>, body: &[u8]) -> Result<(), String> {
    let is_packed = rows.compression().is_some();
    let mut all = 0_u64;
    for buffer in rows.buffers().iter().flatten() {
        let range = usize::try_from(buffer.offset()).ok().zip(usize::try_from(buffer.length()).ok());
        let bytes = range.and_then(|(start, length)| body.get(start..start.checked_add(length)?));
        let bytes = bytes.ok_or("a column lies outside of its message")?;
        let unpacked = match bytes.first_chunk::<8>() {
            Some(length) if is_packed => i64::from_le_bytes(*length),
            _ => -1,
        };
        // -1 stands for bytes that are not packed.
        all += match unpacked {
            -1 => bytes.len() as u64,
            length => u64::try_from(length).map_err(|_| "a column has a negative length")?.min(MOST + 1),
        };
        if all > MOST {
            return Err("a message holds more than 2 GiB".into());
        }
    }
    Ok(())
}

/// What ends a stream. The decoder takes a message without a body only once something follows it.
fn end() -> Buffer {
    Buffer::from_vec(vec![0xff, 0xff, 0xff, 0xff, 0, 0, 0, 0])
}

fn decode(decoder: &mut StreamDecoder, mut message: Buffer, ready: &mut VecDeque<RecordBatch>) -> Result<(), String> {
    guarded(|| {
        while !message.is_empty() {
            ready.extend(decoder.decode(&mut message).map_err(|e| e.to_string())?);
        }
        Ok(())
    })?
}

impl Rows for ArrowRows {
    fn next(&mut self) -> Outcome<Piece> {
        loop {
            let batch = self.batch().map_err(|why| unreadable(&self.path, "Arrow IPC", &why))?;
            let Some(batch) = batch else { return Ok(Piece::End) };
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
