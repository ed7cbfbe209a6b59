//! Reads the files of one lane, one after the other, in whole records.

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};

use sluice_core::decode::{Format, Tail};
use sluice_core::event::Chunk;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, PartitionPosition, Read, ReadLimit};
use sluice_core::units::{show_count, show_size};

use super::fingerprint;
use super::open::{OpenFile, Opened, begins_as};
use super::scan::{Scan, lane_of};

/// How long a look at the folder serves.
const FRESH: Duration = Duration::from_millis(200);

/// How far a file has been read.
struct Progress {
    position: u64,
    identity: String,
}

/// What is left at the end of a file that has been read as far as can be.
struct Left {
    bytes: u64,
    /// Whether it is a part of a record, and not just blank lines or the head.
    is_record: bool,
    /// The file's length on the disk.
    length: u64,
}

pub(super) struct FilesReader {
    scan: Scan,
    format: Box<dyn Format>,
    max_record: u64,
    lane: (u32, u32),
    progress: HashMap<Arc<str>, Progress>,
    queue: VecDeque<String>,
    open: Option<Box<OpenFile>>,
    looked: Option<Instant>,
    /// Files that end in something that is not read.
    left: HashMap<Arc<str>, Left>,
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
            left: HashMap::new(),
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
            if self.left.get(&*name).is_some_and(|left| left.length == length) {
                continue;
            }
            if self.has_unread(&name, length)? {
                self.queue.push_back(name);
            }
        }
        Ok(!self.queue.is_empty())
    }

    fn has_unread(&self, name: &str, length: u64) -> Outcome<bool> {
        let Some(known) = self.progress.get(name) else { return Ok(length > 0) };
        if fingerprint::is_packed(&known.identity) {
            return Ok(fingerprint::packed_length(&known.identity) != Some(length));
        }
        match length < known.position {
            true => Err(cut(&self.scan, name, length, known.position)),
            false => Ok(length > known.position),
        }
    }

    /// Opens the next file of the queue.
    fn open_next(&mut self) -> Outcome<bool> {
        let Some(name) = self.queue.pop_front() else { return Ok(false) };
        let path = self.scan.path(&name);
        let known = self.progress.get(&*name);
        let (position, identity) = known.map_or((0, None), |p| (p.position, Some(p.identity.as_str())));
        match OpenFile::open(&name, path.clone(), position, identity, self.format.as_ref())? {
            Opened::File(file) => self.open = Some(file),
            // Taken away since the folder was looked at: what is gone before it was read was never there.
            Opened::Missing if known.is_none() => {}
            Opened::Missing => return Err(Failure::unreachable(format!("{} has gone away", path.display()))),
            Opened::Replaced => return Err(replaced(&self.scan, &name)),
            Opened::Grown => return Err(grown(&self.scan, &name, position)),
        }
        Ok(true)
    }

    /// Reads on in the open file; None where it has no further whole record now.
    fn read_open(&mut self, limit: ReadLimit) -> Outcome<Option<Chunk>> {
        let Some(open) = &mut self.open else { return Ok(None) };
        let mut target = limit.bytes;
        loop {
            open.fill(target)?;
            if !open.find_head(self.format.as_ref()) && open.buffer.len() as u64 <= self.max_record {
                target = (open.buffer.len() as u64).saturating_mul(2).max(limit.bytes);
                continue;
            }
            let head = open.head_in_buffer();
            let visible = usize::try_from(limit.bytes).unwrap_or(usize::MAX).min(open.buffer.len()).max(head);
            let mut cut = self.format.cut(&open.buffer[head..visible], limit.records);
            if cut.bytes == 0 && visible < open.buffer.len() {
                // One record larger than was asked for.
                cut = self.format.cut(&open.buffer[head..], 1);
            }
            if cut.bytes == 0
                && (open.buffer.len() - head) as u64 > self.max_record
                && let Some(end) = self.format.give_up(&open.buffer[head..])
            {
                return Ok(Some(open.take(head + end, 1)));
            }
            if cut.records == 0 && open.at_end {
                let tail = &open.buffer[head + cut.bytes..];
                let whole = match self.format.is_whole(tail, open.head.as_deref()) {
                    _ if tail.trim_ascii().is_empty() => false,
                    Tail::Whole => true,
                    Tail::Perhaps if open.is_packed() => true,
                    Tail::Perhaps if open.is_quiet() => true,
                    Tail::Perhaps => continue,
                    Tail::Part => false,
                };
                if !whole {
                    return Ok(None);
                }
                cut.bytes = open.buffer.len() - head;
                cut.records = 1;
            }
            if cut.bytes > 0 {
                if cut.records == 1 && cut.bytes as u64 > self.max_record {
                    return Ok(Some(open.too_long((head + cut.bytes) as u64)));
                }
                return Ok(Some(open.take(head + cut.bytes, cut.records)));
            }
            if open.at_end {
                return Ok(None);
            }
            if (open.buffer.len() - head) as u64 > self.max_record {
                return open.skip_long();
            }
            target = (open.buffer.len() as u64).saturating_mul(2).max(limit.bytes);
        }
    }

    /// Notes what is left at the end of the open file, and lets go of it.
    fn close(&mut self) {
        let Some(done) = self.open.take() else { return };
        let rest = &done.buffer[done.head_in_buffer()..];
        let left = Left {
            bytes: done.passed_over.max(rest.len() as u64),
            is_record: !rest.trim_ascii().is_empty(),
            length: super::file_length(&self.scan.path(&done.name)).unwrap_or(0),
        };
        if !done.buffer.is_empty() || done.is_packed() {
            self.left.insert(done.name, left);
        }
    }
}

impl LaneReader for FilesReader {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        loop {
            if let Some(chunk) = self.read_open(limit)? {
                let progress = Progress { position: chunk.to.major, identity: chunk.identity.clone() };
                self.progress.insert(Arc::clone(&chunk.partition), progress);
                self.left.remove(&chunk.partition);
                return Ok(Read::Chunk(chunk));
            }
            self.close();
            if !self.open_next()? && !self.look()? {
                return Ok(Read::CaughtUp);
            }
        }
    }

    fn remarks(&self) -> Vec<String> {
        let mut files: Vec<_> = self.left.iter().filter(|(_, left)| left.is_record).collect();
        files.sort_by_key(|(name, _)| Arc::clone(name));
        let cause = if self.format.has_head() { ", or for a quote to be closed" } else { "" };
        let mut remarks: Vec<String> = files
            .iter()
            .take(5)
            .map(|(name, left)| {
                let at = self.progress.get(*name).map_or(0, |p| p.position);
                format!(
                    "{name} ends in an unfinished record: {} from byte {at} wait for their line end{cause}",
                    show_size(left.bytes)
                )
            })
            .collect();
        if files.len() > 5 {
            remarks.push(format!("{} more files end in an unfinished record", show_count(files.len() as u64 - 5)));
        }
        remarks
    }
}

fn check_identity(scan: &Scan, known: &PartitionPosition) -> Outcome<()> {
    let path = scan.path(&known.partition);
    if !fingerprint::is_packed(&known.identity) && path.exists() {
        let length = super::file_length(&path)?;
        if length < known.position.major {
            return Err(cut(scan, &known.partition, length, known.position.major));
        }
    }
    match begins_as(&path, &known.identity)? {
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

fn grown(scan: &Scan, name: &str, position: u64) -> Failure {
    Failure::findings(format!(
        "{} was read to byte {position}, where its last record had no line end; it has grown within that record",
        scan.path(name).display()
    ))
    .with_help("that record has landed as it was then; write whole lines, or give files their name once they are whole")
}

#[cfg(test)]
mod tests;
