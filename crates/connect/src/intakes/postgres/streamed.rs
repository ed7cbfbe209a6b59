//! Large transactions, which the server sends in parts before they are committed: their messages wait on disk until the
//! commit, less those of inner transactions that were rolled back.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{BufReader, BufWriter, Read as _, Seek as _, SeekFrom, Write as _};
use std::path::{Path, PathBuf};

use bytes::Bytes;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::private;

use super::pgoutput::{self, LogMessage};

const BUFFER: usize = 1 << 18;

/// The transactions that are not committed yet.
pub(super) struct Streamed {
    folder: PathBuf,
    waiting: HashMap<u32, Waiting>,
    /// The one whose part is coming.
    current: Option<u32>,
}

struct Waiting {
    file: BufWriter<File>,
    /// Inner transactions that were rolled back.
    aborted: HashSet<u32>,
}

/// A committed transaction, to be read from the disk.
pub(super) struct Committed {
    file: BufReader<File>,
    aborted: HashSet<u32>,
    /// Where the log goes on after it.
    pub end: u64,
}

impl Streamed {
    /// Keeps files in a folder, which nobody else uses. What an earlier run left there is no use any more.
    pub(super) fn new(folder: &Path) -> Outcome<Self> {
        if folder.exists() {
            std::fs::remove_dir_all(folder).map_err(|e| Failure::io("clear", folder, &e))?;
        }
        private::make_folders(folder)?;
        Ok(Self { folder: folder.to_path_buf(), waiting: HashMap::new(), current: None })
    }

    /// Forgets all: the server sends it again.
    pub(super) fn restart(&mut self) {
        self.waiting.clear();
        self.current = None;
    }

    /// Whether a part is coming.
    pub(super) fn is_within(&self) -> bool {
        self.current.is_some()
    }

    /// Begins a part of a transaction.
    pub(super) fn start(&mut self, xid: u32) -> Outcome<()> {
        if !self.waiting.contains_key(&xid) {
            // The file has no name from here on: it goes with the process.
            let path = self.folder.join(xid.to_string());
            let file = private::options().read(true).write(true).create(true).truncate(true).open(&path);
            let file = file.map_err(|e| Failure::io("make", &path, &e))?;
            std::fs::remove_file(&path).map_err(|e| Failure::io("remove", &path, &e))?;
            let file = BufWriter::with_capacity(BUFFER, file);
            self.waiting.insert(xid, Waiting { file, aborted: HashSet::new() });
        }
        self.current = Some(xid);
        Ok(())
    }

    pub(super) fn stop(&mut self) {
        self.current = None;
    }

    /// Keeps a message of the part that is coming.
    pub(super) fn keep(&mut self, message: &[u8]) -> Outcome<()> {
        let failed = |e: &std::io::Error| Failure::unreachable(format!("a large transaction cannot be kept: {e}"));
        let Some(waiting) = self.current.and_then(|xid| self.waiting.get_mut(&xid)) else {
            return Err(Failure::internal("a part of a transaction arrived without its beginning"));
        };
        let length = u32::try_from(message.len()).unwrap_or(u32::MAX);
        waiting.file.write_all(&length.to_le_bytes()).map_err(|e| failed(&e))?;
        waiting.file.write_all(message).map_err(|e| failed(&e))
    }

    /// Drops a transaction, or an inner one.
    pub(super) fn abort(&mut self, xid: u32, within: u32) {
        if xid == within {
            self.waiting.remove(&xid);
        } else if let Some(waiting) = self.waiting.get_mut(&xid) {
            waiting.aborted.insert(within);
        }
    }

    /// Takes a transaction that is committed.
    pub(super) fn commit(&mut self, xid: u32, end: u64) -> Outcome<Option<Committed>> {
        let Some(waiting) = self.waiting.remove(&xid) else { return Ok(None) };
        let failed = |e: &std::io::Error| Failure::unreachable(format!("a large transaction cannot be read: {e}"));
        let mut file = waiting.file.into_inner().map_err(|e| failed(e.error()))?;
        file.seek(SeekFrom::Start(0)).map_err(|e| failed(&e))?;
        let file = BufReader::with_capacity(BUFFER, file);
        Ok(Some(Committed { file, aborted: waiting.aborted, end }))
    }
}

impl Committed {
    /// The next message; None after the last.
    pub(super) fn next(&mut self) -> Outcome<Option<LogMessage>> {
        let failed = |e: &std::io::Error| Failure::unreachable(format!("a large transaction cannot be read: {e}"));
        loop {
            let mut length = [0; 4];
            match self.file.read_exact(&mut length) {
                Ok(()) => {}
                Err(e) if e.kind() == std::io::ErrorKind::UnexpectedEof => return Ok(None),
                Err(e) => return Err(failed(&e)),
            }
            let mut message = vec![0; usize::try_from(u32::from_le_bytes(length)).unwrap_or(0)];
            self.file.read_exact(&mut message).map_err(|e| failed(&e))?;
            let read = pgoutput::read(Bytes::from(message), true);
            let (xid, message) = read.ok_or_else(|| Failure::internal("a message of pgoutput cannot be decoded"))?;
            if !self.aborted.contains(&xid) {
                return Ok(Some(message));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn insert(xid: u32, relation: u32) -> Vec<u8> {
        [b"I".as_slice(), &xid.to_be_bytes(), &relation.to_be_bytes(), b"N\0\x01n"].concat()
    }

    fn relations(mut committed: Committed) -> Vec<u32> {
        let mut found = Vec::new();
        while let Some(message) = committed.next().unwrap() {
            match message {
                LogMessage::Insert { relation, .. } => found.push(relation),
                other => panic!("{other:?}"),
            }
        }
        found
    }

    #[test]
    fn parts_of_several_transactions_are_kept_apart_and_what_was_rolled_back_is_left_out() {
        let folder = tempfile::tempdir().unwrap();
        let mut streamed = Streamed::new(folder.path()).unwrap();
        for (xid, messages) in [(5, [(5, 1), (6, 2)]), (9, [(9, 3), (9, 4)]), (5, [(5, 5), (7, 6)])] {
            streamed.start(xid).unwrap();
            for (own, relation) in messages {
                streamed.keep(&insert(own, relation)).unwrap();
            }
            streamed.stop();
        }
        streamed.abort(5, 6);
        streamed.abort(9, 9);
        assert!(streamed.commit(9, 1).unwrap().is_none());
        let committed = streamed.commit(5, 77).unwrap().unwrap();
        assert_eq!(committed.end, 77);
        assert_eq!(relations(committed), [1, 5, 6]);
        assert!(streamed.keep(b"x").is_err());
    }
}
