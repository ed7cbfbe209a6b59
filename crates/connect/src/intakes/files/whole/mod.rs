//! Files that are read as a whole: Parquet, Arrow IPC, Avro, JSON documents. A position counts rows, from 0; each row is handed
//! on as a line of JSON. Such a file does not grow: it must be whole when it gets its name, and one that changes afterwards is
//! another file.

mod arrow;
mod avro;
mod document;
mod parquet;

use std::fs::File;
use std::io::{self, Read as _, Seek as _, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::whole::WholeFile;
use sluice_core::kinds::ReadLimit;
use sluice_core::values::rows as json_rows;

use super::fingerprint::{self, COVERED, Fingerprint};
use super::open::KEPT;

/// Rows that are decoded at a time.
const ROWS: usize = 8192;

/// What comes next in a file.
enum Piece {
    /// Rows of the file's schema.
    Rows(RecordBatch),
    /// Rows that are lines of JSON, each with the byte where it begins.
    Lines(Vec<u8>, Vec<u32>),
    /// A row that is longer than allowed: its beginning and its length in bytes.
    TooLong(Vec<u8>, u64),
    /// Bytes that hold so many rows which cannot be told apart, and why.
    Broken(Vec<u8>, u64, String),
    /// Nothing.
    End,
}

/// The rows of a file in their order.
trait Rows: Send {
    /// What comes next. Of a file that is not whole, an error.
    fn next(&mut self) -> Outcome<Piece>;

    /// The schema, where the file has one.
    fn schema(&self) -> Option<SchemaRef> {
        None
    }
}

/// A file that is being read.
pub(super) struct WholeRows {
    pub name: Arc<str>,
    rows: Box<dyn Rows>,
    fingerprint: Fingerprint,
    length: u64,
    position: u64,
    max_record: u64,
    /// What was read and not handed on, and how many rows of it were.
    piece: Option<(Piece, usize)>,
    keys: Vec<String>,
    text: String,
    at_end: bool,
}

/// What opening gave.
pub(super) enum Opened {
    File(Box<WholeRows>),
    /// It is not there.
    Missing,
    /// It is not as its fingerprint says.
    Replaced,
}

/// What a whole file looks like: its beginning, its end, its length.
fn fingerprint_of(file: &mut File) -> io::Result<(Fingerprint, u64)> {
    let data = file.metadata()?;
    let (mut start, mut end) = (Vec::new(), Vec::new());
    file.seek(SeekFrom::Start(0))?;
    file.take(COVERED as u64).read_to_end(&mut start)?;
    file.seek(SeekFrom::Start(data.len().saturating_sub(COVERED as u64)))?;
    file.take(COVERED as u64).read_to_end(&mut end)?;
    file.seek(SeekFrom::Start(0))?;
    let id = fingerprint::id_of(&data);
    Ok((Fingerprint::of(&start, &end, id.as_deref()).whole(data.len()), data.len()))
}

/// Whether a file is the one that a fingerprint is of.
pub(super) fn is_as(file: &mut File, known: &Fingerprint) -> io::Result<bool> {
    Ok(fingerprint_of(file)?.0.is_same_whole(known))
}

/// The schema of a file that has one.
///
/// # Errors
/// Where the file cannot be read.
pub(crate) fn schema(path: &Path, kind: WholeFile) -> Outcome<Option<SchemaRef>> {
    let file = File::open(path).map_err(|e| Failure::io("read", path, &e))?;
    Ok(open(path, file, kind, 0, u64::MAX)?.schema())
}

/// The schema of a file that has one, and its rows.
///
/// # Errors
/// Where the file cannot be read.
pub(crate) fn batches(
    path: &Path,
    kind: WholeFile,
) -> Outcome<(SchemaRef, impl Iterator<Item = Outcome<RecordBatch>> + Send + use<>)> {
    let file = File::open(path).map_err(|e| Failure::io("read", path, &e))?;
    let mut rows = open(path, file, kind, 0, u64::MAX)?;
    let schema = rows.schema().ok_or_else(|| Failure::internal("a file without a schema"))?;
    let path = path.to_path_buf();
    let next = move || match rows.next() {
        Ok(Piece::Rows(batch)) => Some(Ok(batch)),
        Ok(Piece::Broken(_, _, why)) => Some(Err(unreadable(&path, "readable", &why))),
        Ok(_) => None,
        Err(failure) => Some(Err(failure)),
    };
    Ok((schema, std::iter::from_fn(next)))
}

fn open(path: &Path, file: File, kind: WholeFile, from: u64, max_record: u64) -> Outcome<Box<dyn Rows>> {
    Ok(match kind {
        WholeFile::Parquet => Box::new(parquet::ParquetRows::open(path, file, from)?),
        WholeFile::Arrow => Box::new(arrow::ArrowRows::open(path, file, from)?),
        WholeFile::Avro => Box::new(avro::AvroRows::open(path, file, from)?),
        WholeFile::Document => Box::new(document::DocumentRows::open(path, file, from, max_record)?),
    })
}

/// The failure of a file that is not what its format says.
fn unreadable(path: &Path, what: &str, error: &dyn std::fmt::Display) -> Failure {
    let error = short_text(&error.to_string());
    Failure::unreachable(format!("{} is not a whole {what} file: {error}", path.display()))
        .with_help("it may be cut off or still be written: write it under another name, and rename it once it is whole")
}

/// What a library says of bytes, without what could do harm on a screen.
fn short_text(text: &str) -> String {
    sluice_core::printable::line(text).chars().take(300).collect()
}

impl WholeRows {
    /// Opens a file to be read from a row on.
    pub(super) fn open(
        name: &str,
        path: &PathBuf,
        kind: WholeFile,
        position: u64,
        known: Option<&Fingerprint>,
        max_record: u64,
    ) -> Outcome<Opened> {
        let io = |e: io::Error| Failure::io("read", path, &e);
        let mut file = match File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Opened::Missing),
            Err(error) => return Err(io(error)),
        };
        let (fingerprint, length) = fingerprint_of(&mut file).map_err(io)?;
        if known.is_some_and(|known| !fingerprint.is_same_whole(known)) {
            return Ok(Opened::Replaced);
        }
        let rows = open(path, file, kind, position, max_record)?;
        Ok(Opened::File(Box::new(Self {
            name: name.into(),
            rows,
            fingerprint,
            length,
            position,
            max_record,
            piece: None,
            keys: Vec::new(),
            text: String::new(),
            at_end: false,
        })))
    }

    /// The next rows; None after the last.
    pub(super) fn read(&mut self, limit: ReadLimit) -> Outcome<Option<Chunk>> {
        loop {
            let Some((piece, at)) = self.piece.take() else {
                match self.rows.next()? {
                    // All of it is noted as read, even where its last rows were handed on before that was known.
                    Piece::End if !self.at_end => {
                        self.at_end = true;
                        return Ok(Some(self.chunk(0, Chunk::default())));
                    }
                    Piece::End => return Ok(None),
                    Piece::Rows(batch) => {
                        self.keys = json_rows::keys(&batch);
                        self.piece = Some((Piece::Rows(batch), 0));
                    }
                    piece => self.piece = Some((piece, 0)),
                }
                continue;
            };
            match piece {
                Piece::Rows(batch) if at < batch.num_rows() => return Ok(Some(self.of_rows(batch, at, limit))),
                Piece::Lines(text, starts) if at < starts.len() => {
                    return Ok(Some(self.of_lines(text, starts, at, limit)));
                }
                Piece::TooLong(mut bytes, length) => {
                    bytes.truncate(KEPT);
                    return Ok(Some(
                        self.chunk(1, Chunk { bytes, records: 1, too_long: Some(length), ..Chunk::default() }),
                    ));
                }
                Piece::Broken(bytes, rows, why) => {
                    let broken = Some(why.as_str().into());
                    return Ok(Some(self.chunk(rows, Chunk { bytes, records: 1, broken, ..Chunk::default() })));
                }
                Piece::Rows(_) | Piece::Lines(..) | Piece::End => {}
            }
        }
    }

    /// A chunk without records that only notes where the file is read to, under the name that it has now.
    pub(super) fn note(&mut self, read: Option<u64>) -> Chunk {
        self.at_end = read.is_some();
        self.chunk(0, Chunk::default())
    }

    /// A chunk that goes on over so many rows.
    fn chunk(&mut self, rows: u64, rest: Chunk) -> Chunk {
        let from = self.position;
        self.position = self.position.saturating_add(rows);
        let read = self.at_end.then_some(self.length);
        Chunk {
            partition: Arc::clone(&self.name),
            from: Position::at(from),
            to: Position::at(self.position),
            identity: self.fingerprint.clone().packed(read).text(),
            numbered: Some(rest.numbered.unwrap_or_else(|| Arc::from([0]))),
            ..rest
        }
    }

    fn of_rows(&mut self, batch: RecordBatch, from: usize, limit: ReadLimit) -> Chunk {
        self.text.clear();
        let (mut at, mut starts) = (from, Vec::new());
        while at < batch.num_rows() && (starts.len() as u64) < limit.records.max(1) {
            let start = self.text.len();
            if at > from && (start as u64 >= limit.bytes || start >= MOST) {
                break;
            }
            json_rows::write_row(&mut self.text, &batch, &self.keys, at);
            let length = (self.text.len() - start) as u64;
            if length > self.max_record {
                if at > from {
                    self.text.truncate(start);
                    break;
                }
                let mut bytes = std::mem::take(&mut self.text).into_bytes();
                bytes.truncate(KEPT);
                self.piece = Some((Piece::Rows(batch), at + 1));
                return self.chunk(1, Chunk { bytes, records: 1, too_long: Some(length), ..Chunk::default() });
            }
            starts.push(u32::try_from(start).unwrap_or(u32::MAX));
            at += 1;
        }
        self.piece = Some((Piece::Rows(batch), at));
        let bytes = self.text.as_bytes().to_vec();
        let rows = starts.len() as u64;
        self.chunk(rows, Chunk { bytes, records: rows, numbered: Some(starts.into()), ..Chunk::default() })
    }

    fn of_lines(&mut self, text: Vec<u8>, starts: Vec<u32>, from: usize, limit: ReadLimit) -> Chunk {
        let byte = |n: usize| starts.get(n).map_or(text.len(), |s| usize::try_from(*s).unwrap_or(usize::MAX));
        let first = byte(from);
        let most = usize::try_from(limit.records.max(1)).unwrap_or(usize::MAX);
        let mut to = from.saturating_add(most).min(starts.len());
        while to > from + 1 && (byte(to) - first) as u64 > limit.bytes {
            to -= 1;
        }
        let bytes = text[first..byte(to)].to_vec();
        let places: Vec<u32> = starts[from..to].iter().map(|s| s - starts[from]).collect();
        let rows = places.len() as u64;
        self.piece = Some((Piece::Lines(text, starts), to));
        self.chunk(rows, Chunk { bytes, records: rows, numbered: Some(places.into()), ..Chunk::default() })
    }
}

/// Bytes of one chunk, at most.
const MOST: usize = 64 << 20;

#[cfg(test)]
mod tests;
