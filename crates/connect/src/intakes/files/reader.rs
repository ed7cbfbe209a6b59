//! Reads the files of one lane, one after the other, in whole records.

use std::collections::{HashMap, VecDeque};
use std::fs::File;
use std::io::{Read as _, Seek as _, SeekFrom};
use std::sync::Arc;
use std::time::{Duration, Instant};

use sluice_core::decode::Format;
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, PartitionPosition, Read, ReadLimit};
use sluice_core::units::{show_count, show_size};

use super::fingerprint;
use super::scan::{Scan, lane_of};

/// How long a look at the folder serves.
const FRESH: Duration = Duration::from_millis(200);

/// Bytes of a record that is too long which are kept with its reject.
const KEPT: usize = 64 << 10;

/// How far a file has been read.
struct Progress {
    position: u64,
    identity: String,
}

/// The file that is being read.
struct OpenFile {
    name: Arc<str>,
    file: File,
    /// The first bytes, as far as they were read and the fingerprint covers them.
    start: Vec<u8>,
    /// Bytes that were read from the disk and not yet handed on; they begin at `position`.
    buffer: Vec<u8>,
    position: u64,
    at_end: bool,
    /// Bytes of a record without an end that were passed over; they are not in the buffer.
    passed_over: u64,
}

pub(super) struct FilesReader {
    scan: Scan,
    format: Box<dyn Format>,
    max_record: u64,
    lane: (u32, u32),
    progress: HashMap<Arc<str>, Progress>,
    queue: VecDeque<String>,
    open: Option<OpenFile>,
    looked: Option<Instant>,
    /// Files that end in a record without an end: name to the bytes left.
    unfinished: HashMap<Arc<str>, u64>,
}

impl FilesReader {
    pub(super) fn new(
        scan: Scan,
        format: Box<dyn Format>,
        max_record: u64,
        lane: (u32, u32),
        positions: Vec<PartitionPosition>,
    ) -> Outcome<Self> {
        let mut progress = HashMap::new();
        for known in positions {
            check_identity(&scan, &known)?;
            progress.insert(known.partition, Progress { position: known.position.major, identity: known.identity });
        }
        Ok(Self {
            scan,
            format,
            max_record,
            lane,
            progress,
            queue: VecDeque::new(),
            open: None,
            looked: None,
            unfinished: HashMap::new(),
        })
    }

    /// Looks which files have something unread. False where there are none.
    fn look(&mut self) -> Outcome<bool> {
        if self.looked.is_some_and(|at| at.elapsed() < FRESH) {
            return Ok(false);
        }
        self.looked = Some(Instant::now());
        for (name, path) in self.scan.files()? {
            if lane_of(&name, self.lane.1) != self.lane.0 {
                continue;
            }
            let length = super::file_length(&path)?;
            let known = self.progress.get(&*name);
            let read = known.map_or(0, |p| p.position);
            if length < read {
                return Err(cut(&self.scan, &name, length, read));
            }
            let left = self.unfinished.get(&*name).copied().unwrap_or(0);
            if length > read + left {
                self.queue.push_back(name);
            }
        }
        Ok(!self.queue.is_empty())
    }

    /// Opens the next file of the queue.
    fn open_next(&mut self) -> Outcome<bool> {
        let Some(name) = self.queue.pop_front() else { return Ok(false) };
        let path = self.scan.path(&name);
        let mut file = match File::open(&path) {
            Ok(file) => file,
            // Taken away since the folder was looked at: what is gone before it was read was never there.
            Err(error) if error.kind() == std::io::ErrorKind::NotFound && !self.progress.contains_key(&*name) => {
                return Ok(true);
            }
            Err(error) => return Err(Failure::io("read", &path, &error)),
        };
        let io = |e: std::io::Error| Failure::io("read", &path, &e);
        let mut position = 0;
        let mut start = Vec::new();
        if let Some(known) = self.progress.get(&*name) {
            if !fingerprint::matches(&mut file, &known.identity).map_err(io)? {
                return Err(replaced(&self.scan, &name));
            }
            position = known.position;
            file.seek(SeekFrom::Start(0)).map_err(io)?;
            (&mut file).take(position.min(fingerprint::COVERED)).read_to_end(&mut start).map_err(io)?;
        }
        file.seek(SeekFrom::Start(position)).map_err(io)?;
        self.open = Some(OpenFile {
            name: name.into(),
            file,
            start,
            buffer: Vec::new(),
            position,
            at_end: false,
            passed_over: 0,
        });
        Ok(true)
    }

    /// Reads on in the open file; None where it has no further whole record now.
    fn read_open(&mut self, limit: ReadLimit) -> Outcome<Option<Chunk>> {
        let Some(open) = &mut self.open else { return Ok(None) };
        let mut target = limit.bytes;
        loop {
            fill(open, &self.scan, target)?;
            let visible = usize::try_from(limit.bytes).unwrap_or(usize::MAX).min(open.buffer.len());
            let mut cut = self.format.cut(&open.buffer[..visible], limit.records);
            if cut.bytes == 0 && visible < open.buffer.len() {
                // One record larger than was asked for.
                cut = self.format.cut(&open.buffer, 1);
            }
            if cut.bytes == 0 && open.at_end && self.format.is_whole(&open.buffer) {
                cut.bytes = open.buffer.len();
                cut.records = 1;
            }
            if cut.bytes > 0 {
                if cut.records == 1 && cut.bytes as u64 > self.max_record {
                    return Ok(Some(too_long(open, cut.bytes as u64)));
                }
                return Ok(Some(take(open, cut.bytes, cut.records)));
            }
            if open.at_end {
                return Ok(None);
            }
            if open.buffer.len() as u64 > self.max_record {
                return skip_long(open, &self.scan);
            }
            target = (open.buffer.len() as u64).saturating_mul(2).max(limit.bytes);
        }
    }
}

impl LaneReader for FilesReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        loop {
            if let Some(chunk) = self.read_open(limit)? {
                let progress = Progress { position: chunk.to.major, identity: chunk.identity.clone() };
                self.progress.insert(Arc::clone(&chunk.partition), progress);
                self.unfinished.remove(&chunk.partition);
                return Ok(Read::Chunk(chunk));
            }
            if let Some(done) = self.open.take()
                && !done.buffer.is_empty()
            {
                let left = done.passed_over.max(done.buffer.len() as u64);
                self.unfinished.insert(done.name, left);
            }
            if !self.open_next()? && !self.look()? {
                return Ok(Read::CaughtUp);
            }
        }
    }

    fn remarks(&self) -> Vec<String> {
        let mut files: Vec<_> = self.unfinished.iter().collect();
        files.sort();
        let mut remarks: Vec<String> = files
            .iter()
            .take(5)
            .map(|(name, bytes)| {
                let at = self.progress.get(*name).map_or(0, |p| p.position);
                format!(
                    "{name} ends in an unfinished record: {} from byte {at} wait for their line end",
                    show_size(**bytes)
                )
            })
            .collect();
        if files.len() > 5 {
            remarks.push(format!("{} more files end in an unfinished record", show_count(files.len() as u64 - 5)));
        }
        remarks
    }
}

/// Reads from the disk until the buffer holds `target` bytes or the file ends.
fn fill(open: &mut OpenFile, scan: &Scan, target: u64) -> Outcome<()> {
    let wanted = target.saturating_sub(open.buffer.len() as u64);
    if wanted == 0 {
        return Ok(());
    }
    open.buffer.reserve(usize::try_from(wanted).unwrap_or(0));
    let read = (&mut open.file)
        .take(wanted)
        .read_to_end(&mut open.buffer)
        .map_err(|e| Failure::io("read", &scan.path(&open.name), &e))?;
    open.at_end = (read as u64) < wanted;
    Ok(())
}

/// Hands on the first bytes of the buffer.
fn take(open: &mut OpenFile, bytes: usize, records: u64) -> Chunk {
    let rest = open.buffer.split_off(bytes);
    let bytes = std::mem::replace(&mut open.buffer, rest);
    let from = open.position;
    advance(open, &bytes, bytes.len() as u64);
    chunk(open, from, bytes, records, None)
}

fn advance(open: &mut OpenFile, bytes: &[u8], length: u64) {
    let covered = usize::try_from(fingerprint::COVERED).unwrap_or(usize::MAX);
    let room = covered.saturating_sub(open.start.len());
    open.start.extend_from_slice(&bytes[..bytes.len().min(room)]);
    open.position += length;
}

fn chunk(open: &OpenFile, from: u64, bytes: Vec<u8>, records: u64, too_long: Option<u64>) -> Chunk {
    Chunk {
        partition: Arc::clone(&open.name),
        from: Position::at(from),
        to: Position::at(open.position),
        identity: fingerprint::of(&open.start),
        bytes,
        records,
        too_long,
    }
}

/// A whole record that is longer than allowed.
fn too_long(open: &mut OpenFile, length: u64) -> Chunk {
    let from = open.position;
    let rest = open.buffer.split_off(usize::try_from(length).unwrap_or(usize::MAX).min(open.buffer.len()));
    let mut bytes = std::mem::replace(&mut open.buffer, rest);
    advance(open, &bytes, length);
    bytes.truncate(KEPT);
    chunk(open, from, bytes, 1, Some(length))
}

/// A record that is longer than allowed and whose end is not in sight: reads on to its end without keeping it.
fn skip_long(open: &mut OpenFile, scan: &Scan) -> Outcome<Option<Chunk>> {
    let from = open.position;
    let mut kept = std::mem::take(&mut open.buffer);
    let mut length = kept.len() as u64;
    kept.truncate(KEPT);
    let mut piece = Vec::new();
    loop {
        piece.clear();
        let read = (&mut open.file)
            .take(1 << 20)
            .read_to_end(&mut piece)
            .map_err(|e| Failure::io("read", &scan.path(&open.name), &e))?;
        match memchr::memchr(b'\n', &piece) {
            Some(end) => {
                length += end as u64 + 1;
                open.buffer = piece.split_off(end + 1);
                break;
            }
            // It has no end yet: it stays unread, and its place is remembered by reading from there again.
            None if read < 1 << 20 => {
                open.at_end = true;
                open.passed_over = length + read as u64;
                open.buffer = kept;
                return Ok(None);
            }
            None => length += read as u64,
        }
    }
    let bytes_at_start = kept.clone();
    advance(open, &bytes_at_start, length);
    Ok(Some(chunk(open, from, kept, 1, Some(length))))
}

fn check_identity(scan: &Scan, known: &PartitionPosition) -> Outcome<()> {
    let path = scan.path(&known.partition);
    let mut file = match File::open(&path) {
        Ok(file) => file,
        // A file that was read and then taken away is nothing unusual.
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(()),
        Err(error) => return Err(Failure::io("read", &path, &error)),
    };
    let length = super::file_length(&path)?;
    if length < known.position.major {
        return Err(cut(scan, &known.partition, length, known.position.major));
    }
    match fingerprint::matches(&mut file, &known.identity).map_err(|e| Failure::io("read", &path, &e))? {
        true => Ok(()),
        false => Err(replaced(scan, &known.partition)),
    }
}

fn cut(scan: &Scan, name: &str, length: u64, read: u64) -> Failure {
    Failure::findings(format!(
        "{} was read to byte {read} and now ends at byte {length}: it was cut or replaced",
        scan.path(name).display()
    ))
    .with_help("put the old file back, or give the new one another name; positions are never reset by themselves")
}

fn replaced(scan: &Scan, name: &str) -> Failure {
    Failure::findings(format!(
        "{} does not begin as it did when it was read: another file under its name",
        scan.path(name).display()
    ))
    .with_help(
        "give the new file another name; a file's name is its identity, and positions are never reset by themselves",
    )
}

#[cfg(test)]
mod tests;
