//! A file that is being read: its bytes in a buffer, taken away in whole records.

use std::fs::File;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use sluice_core::event::{Chunk, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::Format;

use super::fingerprint::{self, COVERED, Fingerprint};
use super::scan::Scan;
use super::whole;
use crate::packed::{Packing, Unpacked};

/// Bytes of a record that is too long which are kept with its reject.
pub(super) const KEPT: usize = 64 << 10;

/// What to do where a packed file cannot be read.
const DAMAGED: &str =
    "the packed file is damaged or not yet whole; packed files must be whole when they get their name";

/// A packed file that cannot be read.
fn unreadable(path: &Path, error: &io::Error) -> Failure {
    let help = match error.kind() {
        io::ErrorKind::Unsupported => {
            "move it out of the folder, or to a name that does not match; the others are read then"
        }
        _ => DAMAGED,
    };
    Failure::io("read", path, error).with_help(help)
}

/// A last record without a line end is taken once its file has been unchanged for so long.
const QUIET: Duration = Duration::from_secs(1);

/// A file that is being read.
pub(super) struct OpenFile {
    pub name: Arc<str>,
    path: PathBuf,
    file: Unpacked,
    /// The first bytes, as far as they were read and the fingerprint covers them.
    start: Vec<u8>,
    /// The bytes just before the position, as far as the fingerprint covers them.
    before: Vec<u8>,
    /// Which file of the file system it is.
    id: Option<String>,
    /// The header row, where there is one.
    pub head: Option<Arc<[u8]>>,
    /// Bytes that were read and not yet handed on; they begin at `position`.
    pub buffer: Vec<u8>,
    pub position: u64,
    pub at_end: bool,
    /// Bytes of a record without an end that were passed over; they are not in the buffer.
    pub passed_over: u64,
    /// Whether the file goes on within the record that was read last: it had no line end then.
    pub grown: bool,
}

/// How opening went.
pub(super) enum Opened {
    File(Box<OpenFile>),
    /// It is not there.
    Missing,
    /// It is not as its fingerprint says.
    Replaced,
}

impl OpenFile {
    /// Opens a file to be read from a position on.
    pub(super) fn open(
        name: &str,
        path: PathBuf,
        position: u64,
        known: Option<&Fingerprint>,
        format: &dyn Format,
    ) -> Outcome<Opened> {
        let io = |e: io::Error| Failure::io("read", &path, &e);
        let file = match File::open(&path) {
            Ok(file) => file,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Opened::Missing),
            Err(error) => return Err(io(error)),
        };
        let id = file.metadata().ok().and_then(|data| fingerprint::id_of(&data));
        let mut file = Unpacked::new(file, format.has_head()).map_err(|e| unreadable(&path, &e))?;
        let mut start = Vec::new();
        if let Some(known) = known {
            match known.matching(&mut file).map_err(io)? {
                Some(bytes) => start = bytes,
                None => return Ok(Opened::Replaced),
            }
        }
        let mut head = None;
        if format.has_head() && position > 0 {
            head = Some(read_head(&mut file, start.clone(), format).map_err(io)?.into());
        }
        if known.is_some() {
            // From the beginning once more: what was looked at may go beyond the position.
            file = Unpacked::new(File::open(&path).map_err(io)?, format.has_head()).map_err(io)?;
        }
        let mut before = Vec::new();
        if position > 0 {
            let covered = (COVERED as u64).min(position);
            file.skip(0, position - covered).map_err(io)?;
            (&mut file).take(covered).read_to_end(&mut before).map_err(io)?;
            if (before.len() as u64) < covered || known.is_some_and(|known| !known.ends_as(&before)) {
                return Ok(Opened::Replaced);
            }
        }
        let mut buffer = Vec::new();
        (&mut file).take(1).read_to_end(&mut buffer).map_err(io)?;
        let goes_on =
            before.last().is_some_and(|b| *b != b'\n') && !matches!(buffer.first(), None | Some(b'\n' | b'\r'));
        let grown = goes_on && format.may_grow() && file.packing() == Packing::Plain;
        let name = name.into();
        let open =
            Self { name, path, file, start, before, id, head, buffer, position, at_end: false, passed_over: 0, grown };
        Ok(Opened::File(Box::new(open)))
    }

    /// Reads until the buffer holds `target` bytes or the file ends.
    pub(super) fn fill(&mut self, target: u64) -> Outcome<()> {
        let wanted = target.saturating_sub(self.buffer.len() as u64);
        if wanted == 0 {
            return Ok(());
        }
        self.buffer.reserve(usize::try_from(wanted).unwrap_or(0).min(64 << 20));
        let read =
            (&mut self.file).take(wanted).read_to_end(&mut self.buffer).map_err(|e| match self.file.packing() {
                Packing::Plain => Failure::io("read", &self.path, &e)
                    .with_help("all events read so far have landed; the next run continues from there"),
                _ => unreadable(&self.path, &e),
            })?;
        self.at_end = (read as u64) < wanted;
        Ok(())
    }

    /// Whether the file is packed: then it is whole, and what it ends with is its end.
    pub(super) fn is_packed(&self) -> bool {
        self.file.packing() != Packing::Plain
    }

    /// Whether the file has been unchanged for a while. Where it has not, waits until it could have been, or until
    /// somebody asks to leave.
    pub(super) fn is_quiet(&mut self, scan: &Scan) -> bool {
        let changed = std::fs::metadata(&self.path).and_then(|m| m.modified());
        let age = changed.ok().and_then(|at| at.elapsed().ok()).unwrap_or(QUIET);
        if age >= QUIET {
            return true;
        }
        scan.wait((QUIET - age) + Duration::from_millis(10));
        self.at_end = false;
        false
    }

    /// Bytes of the header row that are still in the buffer.
    pub(super) fn head_in_buffer(&self) -> usize {
        if self.position > 0 { 0 } else { self.head.as_ref().map_or(0, |h| h.len()).min(self.buffer.len()) }
    }

    /// Finds the header row at the start of the buffer of a file that is read from its beginning. False where more
    /// must be read first.
    pub(super) fn find_head(&mut self, format: &dyn Format) -> bool {
        if self.head.is_some() || self.position > 0 || !format.has_head() {
            return true;
        }
        let cut = format.cut(&self.buffer, 1);
        match cut.records {
            0 if self.at_end => self.head = Some(self.buffer.as_slice().into()),
            0 => return false,
            _ => self.head = Some(self.buffer[..cut.bytes].into()),
        }
        true
    }

    /// Hands on the first bytes of the buffer.
    pub(super) fn take(&mut self, bytes: usize, records: u64) -> Chunk {
        let rest = self.buffer.split_off(bytes);
        let bytes = std::mem::replace(&mut self.buffer, rest);
        let from = self.position;
        self.advance(&bytes, bytes.len() as u64, &bytes);
        self.chunk(from, bytes, records, None)
    }

    /// Goes on over bytes; `length` is theirs and that of others that were not kept, which end before `last`.
    fn advance(&mut self, bytes: &[u8], length: u64, last: &[u8]) {
        let room = COVERED.saturating_sub(self.start.len());
        self.start.extend_from_slice(&bytes[..bytes.len().min(room)]);
        self.position += length;
        match last.len() >= COVERED || bytes.len() as u64 != length {
            true => self.before.clear(),
            false => {
                let kept = self.before.len().min(COVERED - last.len());
                self.before.drain(..self.before.len() - kept);
            }
        }
        self.before.extend_from_slice(&last[last.len().saturating_sub(COVERED)..]);
    }

    /// What the file looks like up to its position.
    fn fingerprint(&self) -> Fingerprint {
        let fingerprint = Fingerprint::of(&self.start, &self.before, self.id.as_deref());
        match self.is_packed() {
            true if self.at_end && self.buffer.is_empty() => {
                fingerprint.packed(std::fs::metadata(&self.path).ok().map(|m| m.len()))
            }
            true => fingerprint.packed(None),
            false => fingerprint,
        }
    }

    /// The rest of the record that was read before its end, up to its line end; None where that has not come yet.
    pub(super) fn take_growth(&mut self) -> Option<Chunk> {
        let end = memchr::memchr(b'\n', &self.buffer)? + 1;
        self.grown = false;
        let mut chunk = self.take(end, 1);
        chunk.grown = true;
        Some(chunk)
    }

    /// A chunk without records that only notes where the file is read to, under the name that it has now.
    pub(super) fn note(&self) -> Chunk {
        self.chunk(self.position, Vec::new(), 0, None)
    }

    fn chunk(&self, from: u64, bytes: Vec<u8>, records: u64, too_long: Option<u64>) -> Chunk {
        let identity = self.fingerprint().text();
        Chunk {
            partition: Arc::clone(&self.name),
            from: Position::at(from),
            to: Position::at(self.position),
            identity,
            bytes,
            head: self.head.clone(),
            records,
            too_long,
            ..Chunk::default()
        }
    }

    /// A whole record that is longer than allowed.
    pub(super) fn too_long(&mut self, length: u64) -> Chunk {
        let from = self.position;
        let rest = self.buffer.split_off(usize::try_from(length).unwrap_or(usize::MAX).min(self.buffer.len()));
        let mut bytes = std::mem::replace(&mut self.buffer, rest);
        let last = bytes[bytes.len().saturating_sub(COVERED)..].to_vec();
        self.advance(&bytes, length, &last);
        bytes.truncate(KEPT);
        self.chunk(from, bytes, 1, Some(length))
    }

    /// A record that is longer than allowed and whose end is not in sight: reads on to its end without keeping it.
    pub(super) fn skip_long(&mut self) -> Outcome<Option<Chunk>> {
        let from = self.position;
        let mut kept = std::mem::take(&mut self.buffer);
        let mut length = kept.len() as u64;
        kept.truncate(KEPT);
        let mut piece = Vec::new();
        let last;
        loop {
            piece.clear();
            let read = (&mut self.file)
                .take(1 << 20)
                .read_to_end(&mut piece)
                .map_err(|e| Failure::io("read", &self.path, &e))?;
            match memchr::memchr(b'\n', &piece) {
                Some(end) => {
                    length += end as u64 + 1;
                    self.buffer = piece.split_off(end + 1);
                    last = piece;
                    break;
                }
                // It has no end yet: it stays unread, and its place is remembered by reading from there again.
                None if read < 1 << 20 => {
                    self.at_end = true;
                    self.passed_over = length + read as u64;
                    self.buffer = kept;
                    return Ok(None);
                }
                None => length += read as u64,
            }
        }
        let bytes_at_start = kept.clone();
        self.advance(&bytes_at_start, length, &last);
        Ok(Some(self.chunk(from, kept, 1, Some(length))))
    }
}

/// Reads the first record of a file whose first bytes are known.
fn read_head(file: &mut Unpacked, mut bytes: Vec<u8>, format: &dyn Format) -> io::Result<Vec<u8>> {
    loop {
        let cut = format.cut(&bytes, 1);
        if cut.records == 1 {
            bytes.truncate(cut.bytes);
            return Ok(bytes);
        }
        if file.take(4096).read_to_end(&mut bytes)? == 0 {
            return Ok(bytes);
        }
    }
}

/// Whether a file is, as far as it was read, as its fingerprint says. Of a packed file only the beginning is looked at.
pub(super) fn is_as(path: &Path, known: &Fingerprint, position: u64, format: &dyn Format) -> io::Result<bool> {
    if known.is_whole() {
        return whole::is_as(&mut File::open(path)?, known);
    }
    let mut file = Unpacked::new(File::open(path)?, format.has_head())?;
    if known.matching(&mut file)?.is_none() {
        return Ok(false);
    }
    if known.is_packed() || file.packing() != Packing::Plain || known.covers_end() == 0 {
        return Ok(true);
    }
    let covered = known.covers_end() as u64;
    file.skip(0, position.saturating_sub(covered))?;
    let mut before = Vec::new();
    (&mut file).take(covered).read_to_end(&mut before)?;
    Ok(known.ends_as(&before))
}
