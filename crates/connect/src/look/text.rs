//! Rows of text files.

use std::sync::Arc;

use arrow_array::RecordBatch;
use sluice_core::columns::OutputColumn;
use sluice_core::config::ExtraFields;
use sluice_core::contract::{Contract, ContractField};
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::Outcome;
use sluice_core::formats::{Decoder, Format};
use sluice_core::kinds::{LaneReader, Read, ReadLimit, Stored, StoredSummary};
use sluice_core::problem::{Place, SourceText};
use sluice_core::profile::Profile;
use sluice_core::values::bytes::BytesSpelling;

use super::{FileRows, StoredFile, StoredRows};
use crate::intakes::files::read_file;

/// A record longer than this is not a row.
const MAX_RECORD: u64 = 64 << 20;

/// Events that the types of a file without a plan rest on.
const SAMPLE: u64 = 10_000;

const LIMIT: ReadLimit = ReadLimit { records: u64::MAX, bytes: 1 << 20, ends: false };

pub(super) fn open(
    files: Vec<StoredFile>,
    format: &Arc<dyn Format>,
    mut summary: StoredSummary,
    infer: bool,
) -> Outcome<Box<dyn Stored>> {
    let mut format = Arc::clone(format);
    let contract = match infer {
        true => {
            let found = profile(&files, &format)?;
            format = format.fitted(&found);
            found.contract()
        }
        false => contract_of(&summary.columns, format.as_ref()),
    };
    summary.columns = contract.columns();
    let start = move |file: &StoredFile| {
        let reader = read_file(&file.path, Arc::clone(&format), MAX_RECORD)?;
        Ok(TextRows { reader, decoder: format.decoder(&contract) })
    };
    Ok(Box::new(StoredRows { summary, files: files.into_iter(), open: None, broken: 0, start: Box::new(start) }))
}

/// What the first events look like.
fn profile(files: &[StoredFile], format: &Arc<dyn Format>) -> Outcome<Profile> {
    let mut profile = Profile::default();
    for file in files {
        let mut reader = read_file(&file.path, Arc::clone(format), MAX_RECORD)?;
        while profile.events < SAMPLE
            && let Read::Chunk(chunk) = reader.read(ReadLimit { records: SAMPLE - profile.events, ..LIMIT })?
        {
            profile.add_chunk(&chunk, format.as_ref());
        }
    }
    Ok(profile)
}

/// The contract under which what a landing wrote is read again. Whatever is missing is null: columns may have come later.
fn contract_of(columns: &[OutputColumn], format: &dyn Format) -> Contract {
    let place = Place::new(&SourceText::new("", ""), 0..0);
    let field = |(i, c): (usize, &OutputColumn)| ContractField {
        name: c.name.clone(),
        ty: c.ty,
        limit: c.limit.filter(|limit| limit.is_own()),
        spelling: BytesSpelling::default(),
        not_null: false,
        path: format.path(i, &c.name),
        format: None,
        place: place.clone(),
    };
    Contract { fields: columns.iter().enumerate().map(field).collect(), extra: ExtraFields::Ignore, may_lack: false }
}

struct TextRows {
    reader: Box<dyn LaneReader>,
    decoder: Box<dyn Decoder>,
}

impl FileRows for TextRows {
    fn next(&mut self, broken: &mut u64) -> Outcome<Option<RecordBatch>> {
        match self.reader.read(LIMIT)? {
            Read::Halt(failure) | Read::Stuck(failure) => Err(failure),
            Read::CaughtUp | Read::Pending | Read::Away(_) => Ok(None),
            Read::Chunk(chunk) => {
                let decoded = self.decoder.decode(&chunk);
                *broken += decoded.rejects.len() as u64;
                Ok(Some(decoded.rows.batch))
            }
        }
    }
}

/// Bytes in memory, read as one partition: what came by standard input.
pub struct BytesReader {
    name: Arc<str>,
    bytes: Vec<u8>,
    at: usize,
    head: Option<Arc<[u8]>>,
    format: Arc<dyn Format>,
}

impl BytesReader {
    /// A reader of these bytes, under a name.
    pub fn new(name: &str, bytes: Vec<u8>, format: Arc<dyn Format>) -> Self {
        let head = format.has_head().then(|| {
            let cut = format.cut(&bytes, 1);
            let end = if cut.records == 1 { cut.bytes } else { bytes.len() };
            Arc::from(&bytes[..end])
        });
        Self { name: name.into(), bytes, at: 0, head, format }
    }
}

impl LaneReader for BytesReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let head = if self.at == 0 { self.head.as_ref().map_or(0, |h| h.len()) } else { 0 };
        let rest = &self.bytes[(self.at + head).min(self.bytes.len())..];
        let visible = usize::try_from(limit.bytes).unwrap_or(usize::MAX).min(rest.len());
        let mut cut = self.format.cut(&rest[..visible], limit.records);
        if cut.records == 0 {
            cut = self.format.cut(rest, 1);
        }
        if cut.records == 0 && !rest.trim_ascii().is_empty() {
            (cut.bytes, cut.records) = (rest.len(), 1);
        }
        if cut.records == 0 {
            return Ok(Read::CaughtUp);
        }
        let end = self.at + head + cut.bytes;
        let chunk = Chunk {
            partition: Arc::clone(&self.name),
            from: Position::at(self.at as u64),
            to: Position::at(end as u64),
            bytes: self.bytes[self.at..end].to_vec(),
            head: self.head.clone(),
            records: cut.records,
            ..Chunk::default()
        };
        self.at = end;
        Ok(Read::Chunk(chunk))
    }
}
