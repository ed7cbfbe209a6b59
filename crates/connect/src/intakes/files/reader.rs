//! Reads the files of one lane, one after the other, in whole records.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use sluice_core::event::Chunk;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::{Format, Tail};
use sluice_core::kinds::{LaneReader, PartitionPosition, Read, ReadLimit};
use sluice_core::units::{show_count, show_many, show_size};

use super::fingerprint::{self, Fingerprint};
use super::open::{OpenFile, Opened, is_as};
use super::scan::{Scan, lane_of};
use super::whole::{self, WholeRows};

/// How long a look at the folder serves.
const FRESH: Duration = Duration::from_millis(200);

/// How long a file that could not be read is left alone.
const REST: Duration = Duration::from_secs(1);

/// How far a file has been read.
#[derive(Clone)]
struct Progress {
    position: u64,
    fingerprint: Fingerprint,
}

/// What all lanes of an arrival know of its files: a file under a new name is known by whichever lane read it.
#[derive(Default)]
struct AllFiles {
    progress: HashMap<Arc<str>, Progress>,
    /// Files that go on, under new names, in the lane that read them under their old ones.
    lanes: HashMap<Arc<str>, u32>,
}

/// The same, shared by the readers of the lanes.
#[derive(Clone, Default)]
pub(super) struct AllProgress(Arc<Mutex<AllFiles>>);

impl AllProgress {
    fn with<T>(&self, work: impl FnOnce(&mut AllFiles) -> T) -> T {
        work(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn get(&self, name: &str) -> Option<Progress> {
        self.with(|all| all.progress.get(name).cloned())
    }
}

/// What is left at the end of a file that has been read as far as can be.
struct FileRest {
    bytes: u64,
    /// Whether it is a part of a record, and not only blank lines or the header row.
    is_record: bool,
    /// The file's length on the disk.
    length: u64,
}

/// A file that cannot be read, while all others are.
struct UnreadableFile {
    failure: Failure,
    since: Instant,
}

/// The file that is being read.
enum Current {
    /// By its bytes.
    Bytes(Box<OpenFile>),
    /// As a whole, by its rows.
    Whole(Box<WholeRows>),
}

impl Current {
    fn name(&self) -> &Arc<str> {
        match self {
            Self::Bytes(file) => &file.name,
            Self::Whole(file) => &file.name,
        }
    }
}

pub(super) struct FilesReader {
    scan: Scan,
    format: Arc<dyn Format>,
    max_record: u64,
    lane: (u32, u32),
    progress: AllProgress,
    queue: VecDeque<String>,
    open: Option<Current>,
    /// Chunks without records that note files under their new names.
    notes: VecDeque<Chunk>,
    looked: Option<Instant>,
    /// Files that end in something that is not read.
    left: HashMap<Arc<str>, FileRest>,
    troubles: BTreeMap<String, UnreadableFile>,
    /// Links that were passed over, as the last look found them.
    links: Vec<String>,
    /// The files in which something was left to read when that was asked last.
    unread: Arc<[Arc<str>]>,
}

impl FilesReader {
    pub(super) fn new(
        scan: Scan,
        format: Arc<dyn Format>,
        max_record: u64,
        lane: (u32, u32),
        positions: Vec<PartitionPosition>,
        progress: AllProgress,
    ) -> Self {
        progress.with(|all| {
            for known in positions {
                let fingerprint = Fingerprint::read(&known.identity);
                all.progress.entry(known.partition).or_insert(Progress { position: known.position.major, fingerprint });
            }
        });
        Self {
            scan,
            format,
            max_record,
            lane,
            progress,
            queue: VecDeque::new(),
            open: None,
            notes: VecDeque::new(),
            looked: None,
            left: HashMap::new(),
            troubles: BTreeMap::new(),
            links: Vec::new(),
            unread: Arc::from([]),
        }
    }

    fn is_own(&self, name: &str) -> bool {
        let lane = self.progress.with(|all| all.lanes.get(name).copied());
        lane.unwrap_or_else(|| lane_of(name, self.lane.1)) == self.lane.0
    }

    /// Looks which files have something unread. False where there are none.
    fn look(&mut self) -> Outcome<bool> {
        if self.looked.is_some_and(|at| at.elapsed() < FRESH) {
            return Ok(false);
        }
        let is_first = self.looked.is_none();
        self.looked = Some(Instant::now());
        self.troubles.retain(|_, trouble| trouble.since.elapsed() < REST || !trouble.failure.passing);
        let found = self.scan.look()?;
        self.links = found.links;
        for (name, error) in found.closed {
            let folder = self.scan.path(&name);
            self.trouble(&name, Failure { passing: true, ..Failure::io("list the folder", &folder, &error) });
        }
        let files: Vec<(String, PathBuf)> = found.files;
        let of_others = self.follow_moves(&files, is_first)?;
        for (name, path) in files {
            if !self.is_own(&name) || of_others.contains(&name) || self.troubles.contains_key(&name) {
                continue;
            }
            match std::fs::metadata(&path) {
                Ok(data) => self.judge(&name, data.len(), is_first),
                // Taken away since the folder was looked at.
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
                Err(error) => {
                    self.trouble(&name, Failure { passing: true, ..Failure::io("look at", &path, &error) });
                }
            }
        }
        Ok(!self.queue.is_empty() || !self.notes.is_empty())
    }

    /// Queues a file that has something unread. At the first look every known file is compared with what was read.
    fn judge(&mut self, name: &str, length: u64, is_first: bool) {
        if self.left.get(name).is_some_and(|left| left.length == length) || self.queue.iter().any(|n| n == name) {
            return;
        }
        let Some(known) = self.progress.get(name) else {
            if length > 0 {
                self.queue.push_back(name.into());
            }
            return;
        };
        if known.fingerprint.is_packed() {
            if known.fingerprint.packed_length() != Some(length) {
                self.queue.push_back(name.into());
            }
        } else if length < known.position {
            self.trouble(name, cut(&self.scan, name, length, known.position));
        } else if length > known.position {
            self.queue.push_back(name.into());
            return;
        }
        if is_first {
            match is_as(&self.scan.path(name), &known.fingerprint, known.position, &*self.format) {
                Ok(true) | Err(_) => {}
                Ok(false) => {
                    self.queue.retain(|n| n != name);
                    self.trouble(name, replaced(&self.scan, name));
                }
            }
        }
    }

    /// Files that are not known under their names may be known ones under new names: renamed, or rotated, so that
    /// another file has the old name now. They keep their positions. Only a file that the file system reports as the
    /// same one is taken for it. Gives those that other lanes go on with.
    fn follow_moves(&mut self, files: &[(String, PathBuf)], is_first: bool) -> Outcome<HashSet<String>> {
        let id = |path: &Path| std::fs::metadata(path).ok().and_then(|data| fingerprint::id_of(&data));
        let known = self.known_by_id(&id);
        let mut of_others = HashSet::new();
        if known.is_empty() {
            return Ok(of_others);
        }
        let is_known = |name: &str| self.progress.with(|all| all.progress.contains_key(name));
        let mut candidates: Vec<(String, PathBuf)> =
            files.iter().filter(|(name, _)| !is_known(name)).cloned().collect();
        // A file whose name another one has now may be under a name that does not match. Where it was not found once it
        // is in trouble, and is not looked for again.
        let is_gone = |(file, (name, _)): (&String, &(Arc<str>, Progress))| match id(&self.scan.path(name)) {
            Some(now) => now != *file && !self.troubles.contains_key(&**name),
            None => is_first && self.scan.matches(name),
        };
        if known.iter().any(is_gone) {
            let all = self.scan.everything()?.into_iter();
            candidates.extend(all.filter(|(other, _)| !is_known(other) && !self.scan.matches(other)));
        }
        candidates.sort();
        candidates.dedup();
        for (name, path) in candidates {
            let Some(file) = id(&path) else { continue };
            let Some((old, progress)) = known.get(&file) else { continue };
            // A second name of a file that still has its first one is a file of its own.
            let has_moved = id(&self.scan.path(old)).is_none_or(|now| now != file);
            let is_it = || is_as(&path, &progress.fingerprint, progress.position, &*self.format);
            if !has_moved || !matches!(is_it(), Ok(true)) {
                continue;
            }
            match self.is_own(old) {
                true => self.moved(old, &name),
                false => {
                    of_others.insert(name);
                }
            }
        }
        Ok(of_others)
    }

    /// Known files by what the file system calls them. Of a file that is known under several names, since it was
    /// renamed, the others are forgotten: another file may have them now.
    fn known_by_id(&self, id: &impl Fn(&Path) -> Option<String>) -> HashMap<String, (Arc<str>, Progress)> {
        self.progress.with(|all| {
            let mut known: HashMap<String, (Arc<str>, Progress)> = HashMap::new();
            let mut forgotten = Vec::new();
            for (name, progress) in &all.progress {
                let Some(file) = progress.fingerprint.id() else { continue };
                let Some((other, before)) = known.get(file) else {
                    known.insert(file.into(), (Arc::clone(name), progress.clone()));
                    continue;
                };
                let is_there = |name: &str| id(&self.scan.path(name)).as_deref() == Some(file);
                match (is_there(name), is_there(other)) {
                    // Two names for one file at once.
                    (true, true) => {}
                    (false, false) if before.position >= progress.position => forgotten.push(Arc::clone(name)),
                    (false, true) => forgotten.push(Arc::clone(name)),
                    (true, false) | (false, false) => {
                        forgotten.push(Arc::clone(other));
                        known.insert(file.into(), (Arc::clone(name), progress.clone()));
                    }
                }
            }
            forgotten.iter().for_each(|name| {
                all.progress.remove(name);
            });
            known
        })
    }

    /// Goes on with a file under its new name.
    fn moved(&mut self, old: &Arc<str>, name: &str) {
        let Some(progress) = self.progress.with(|all| {
            let progress = all.progress.remove(old)?;
            all.progress.insert(name.into(), progress.clone());
            all.lanes.insert(name.into(), self.lane.0);
            Some(progress)
        }) else {
            return;
        };
        self.troubles.remove(&**old);
        self.left.remove(old);
        // Noted at once, so that the next run knows the new name even where nothing more is read of it.
        if let Some(note) = self.note(name, &progress) {
            self.notes.push_back(note);
            self.queue.push_back(name.into());
        }
    }

    /// A chunk without records that notes how far a file is read, under the name that it has now.
    fn note(&self, name: &str, progress: &Progress) -> Option<Chunk> {
        let (path, position, known) = (self.scan.path(name), progress.position, Some(&progress.fingerprint));
        if let Some(kind) = self.format.whole() {
            return match WholeRows::open(name, &path, kind, position, known, self.max_record) {
                Ok(whole::Opened::File(mut file)) => Some(file.note(progress.fingerprint.packed_length())),
                _ => None,
            };
        }
        match OpenFile::open(name, path, position, known, self.format.as_ref()) {
            Ok(Opened::File(file)) => Some(file.note()),
            _ => None,
        }
    }

    /// Notes that a file cannot be read; the others are.
    fn trouble(&mut self, name: &str, failure: Failure) {
        self.troubles.entry(name.into()).or_insert(UnreadableFile { failure, since: Instant::now() });
    }

    /// Opens the next file of the queue.
    fn open_next(&mut self) -> bool {
        let Some(name) = self.queue.pop_front() else { return false };
        let path = self.scan.path(&name);
        let known = self.progress.get(&name);
        let (position, fingerprint) = known.as_ref().map_or((0, None), |p| (p.position, Some(&p.fingerprint)));
        if let Some(kind) = self.format.whole() {
            match WholeRows::open(&name, &path, kind, position, fingerprint, self.max_record) {
                Ok(whole::Opened::File(file)) => self.open = Some(Current::Whole(file)),
                Ok(whole::Opened::Missing) => {}
                Ok(whole::Opened::Replaced) => self.trouble(&name, replaced(&self.scan, &name)),
                Err(failure) => self.trouble(&name, Failure { passing: true, ..failure }),
            }
            return true;
        }
        match OpenFile::open(&name, path, position, fingerprint, self.format.as_ref()) {
            Ok(Opened::File(file)) => self.open = Some(Current::Bytes(file)),
            // Taken away since the folder was looked at; if it has another name now, the next look finds it.
            Ok(Opened::Missing) => {}
            Ok(Opened::Replaced) => self.trouble(&name, replaced(&self.scan, &name)),
            Err(failure) => self.trouble(&name, Failure { passing: true, ..failure }),
        }
        true
    }

    /// Reads on in the open file; None where it has no further whole record now.
    fn read_open(&mut self, limit: ReadLimit) -> Outcome<Option<Chunk>> {
        let open = match &mut self.open {
            Some(Current::Bytes(open)) => open,
            Some(Current::Whole(open)) => return open.read(limit),
            None => return Ok(None),
        };
        let mut target = limit.bytes;
        while open.grown {
            open.fill(target)?;
            if let Some(chunk) = open.take_growth() {
                return Ok(Some(chunk));
            }
            if open.at_end {
                return Ok(None);
            }
            if open.buffer.len() as u64 > self.max_record {
                open.grown = false;
            }
            target = (open.buffer.len() as u64).saturating_mul(2).max(limit.bytes);
        }
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
                    Tail::Perhaps if open.is_quiet(&self.scan) => true,
                    Tail::Perhaps if self.scan.is_stopping() => false,
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

    /// What cannot be read, once everything else has been.
    fn stuck(&self) -> Option<Failure> {
        // What no waiting helps comes first.
        let worst = self.troubles.values().min_by_key(|t| (t.failure.passing, t.since))?;
        let mut failure = worst.failure.clone();
        if self.troubles.len() > 1 {
            let more = show_many(self.troubles.len() as u64 - 1, "more file");
            failure.message.push_str(&format!("; {more} cannot be read"));
        }
        Some(failure)
    }

    /// Notes what is left at the end of the open file, and lets go of it.
    fn close(&mut self) {
        // A file that was read as a whole leaves nothing.
        let Some(Current::Bytes(done)) = self.open.take() else { return };
        let rest = &done.buffer[done.head_in_buffer()..];
        let left = FileRest {
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
            if let Some(note) = self.notes.pop_front() {
                return Ok(Read::Chunk(note));
            }
            match self.read_open(limit) {
                Ok(Some(chunk)) => {
                    let fingerprint = Fingerprint::read(&chunk.identity);
                    let progress = Progress { position: chunk.to.major, fingerprint };
                    self.progress.with(|all| all.progress.insert(Arc::clone(&chunk.partition), progress));
                    self.left.remove(&chunk.partition);
                    return Ok(Read::Chunk(chunk));
                }
                Ok(None) => self.close(),
                Err(failure) => {
                    let name = self.open.take().map_or(String::new(), |open| open.name().to_string());
                    self.trouble(&name, Failure { passing: true, ..failure });
                }
            }
            if self.scan.is_stopping() {
                return Ok(Read::Pending);
            }
            if self.open_next() {
                continue;
            }
            match self.look() {
                Ok(true) => {}
                Ok(false) => {
                    return Ok(match self.stuck() {
                        Some(failure) => Read::Stuck(failure),
                        None => Read::CaughtUp,
                    });
                }
                Err(failure) if failure.kind == FailureKind::Interrupted => return Ok(Read::Pending),
                Err(failure) => return Err(failure),
            }
        }
    }

    fn unread(&mut self) -> Arc<[Arc<str>]> {
        let left = self.queue.len() + usize::from(self.open.is_some());
        // The list may still name files that have been read; it is rebuilt when they are many.
        if left == 0 || left > self.unread.len() || self.unread.len() - left > left / 16 {
            let open = self.open.iter().map(|open| Arc::clone(open.name()));
            self.unread = open.chain(self.queue.iter().map(|name| Arc::from(name.as_str()))).collect();
        }
        Arc::clone(&self.unread)
    }

    fn remarks(&self) -> Vec<String> {
        let mut files: Vec<_> = self.left.iter().filter(|(_, left)| left.is_record).collect();
        files.sort_by_key(|(name, _)| Arc::clone(name));
        let cause = if self.format.has_head() { ", or for a quote to be closed" } else { "" };
        let mut remarks: Vec<String> = files
            .iter()
            .take(5)
            .map(|(name, left)| {
                let at = self.progress.get(name).map_or(0, |p| p.position);
                format!(
                    "{name} ends in an unfinished record: {} from byte {at} wait for their line end{cause}",
                    show_size(left.bytes)
                )
            })
            .collect();
        if files.len() > 5 {
            remarks.push(format!("{} more files end in an unfinished record", show_count(files.len() as u64 - 5)));
        }
        if let Some(first) = self.links.first() {
            remarks.push(format!(
                "{} passed over, the first is {first}: symbolic links are read with follow_links = true",
                show_many(self.links.len() as u64, "symbolic link"),
            ));
        }
        remarks
    }
}

fn cut(scan: &Scan, name: &str, length: u64, read: u64) -> Failure {
    Failure::findings(format!(
        "{} was read to byte {read} and now ends at byte {length}: it was cut or replaced",
        scan.path(name).display()
    ))
    .with_help(
        "everything else was read. Put the old file back, or rename the new one: positions are never reset \
         automatically",
    )
}

fn replaced(scan: &Scan, name: &str) -> Failure {
    Failure::findings(format!(
        "{} is not the file that was read under this name: its bytes up to where it was read are others",
        scan.path(name).display()
    ))
    .with_help(
        "everything else was read. Rename the new file, or put the old one back: positions are never reset \
         automatically",
    )
}

#[cfg(test)]
mod tests;
