//! Records of JSON that is not in lines.

use std::fs::File;
use std::io::{self, Read as _};
use std::path::{Path, PathBuf};

use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::whole::{Documents, Found};

use super::{Piece, Rows, unreadable};
use crate::packed::Unpacked;

/// Bytes that are read at a time.
const PIECE: usize = 256 << 10;

/// Bytes after a place that is broken which are kept.
const KEPT: usize = 64 << 10;

pub(super) struct DocumentRows {
    path: PathBuf,
    file: Unpacked,
    documents: Documents,
    buffer: Vec<u8>,
    /// Bytes of the buffer that were taken.
    at: usize,
    line: Vec<u8>,
    /// What comes after the lines that were read before it.
    next: Option<Piece>,
    is_over: bool,
    skip: u64,
}

impl DocumentRows {
    pub(super) fn open(path: &Path, file: File, from: u64, max_record: u64) -> Outcome<Self> {
        if from == 0 {
            // Of a file that is still being written, not a row is taken: it will be another one once it is whole.
            let mut look =
                Self::at_start(path, file.try_clone().map_err(|e| Failure::io("read", path, &e))?, 0, max_record)?;
            while let Some(Found::Record | Found::TooLong(_)) = look.find()? {
                look.line.clear();
            }
        }
        Self::at_start(path, file, from, max_record)
    }

    fn at_start(path: &Path, file: File, from: u64, max_record: u64) -> Outcome<Self> {
        let file = Unpacked::new(file, false).map_err(|e| Failure::io("read", path, &e))?;
        Ok(Self {
            path: path.into(),
            file,
            documents: Documents::new(max_record),
            buffer: Vec::new(),
            at: 0,
            line: Vec::new(),
            next: None,
            is_over: false,
            skip: from,
        })
    }

    /// Reads on; false at the end of the file.
    fn fill(&mut self) -> Outcome<bool> {
        self.buffer.resize(PIECE, 0);
        self.at = 0;
        loop {
            match self.file.read(&mut self.buffer) {
                Ok(read) => {
                    self.buffer.truncate(read);
                    return Ok(read > 0);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(Failure::io("read", &self.path, &error)),
            }
        }
    }

    /// One record more at the end of the lines, or what ends them.
    fn find(&mut self) -> Outcome<Option<Found>> {
        loop {
            let mut rest = &self.buffer[self.at..];
            let found = self.documents.next(&mut rest, &mut self.line);
            self.at = self.buffer.len() - rest.len();
            if found != Found::More {
                return Ok(Some(found));
            }
            if !self.fill()? {
                return match self.documents.finish(&mut self.line) {
                    Some(found) => Ok(Some(found)),
                    None if self.documents.is_whole() => Ok(None),
                    None => Err(unreadable(&self.path, "JSON", &"it ends within a record or a list")),
                };
            }
        }
    }

    /// What is left where nothing can be told apart any more.
    fn broken(&mut self, at: u64, wanted: &str) -> Piece {
        self.is_over = true;
        let rest = &self.buffer[self.at..];
        let bytes = rest[..rest.len().min(KEPT)].to_vec();
        let message = format!("expected {wanted} at byte {at} of the file; nothing after it was read");
        Piece::Broken(bytes, 1, message)
    }
}

impl Rows for DocumentRows {
    fn next(&mut self) -> Outcome<Piece> {
        let mut starts = Vec::new();
        self.line.clear();
        if let Some(next) = self.next.take() {
            return Ok(next);
        }
        while !self.is_over && self.line.len() < PIECE {
            let start = self.line.len();
            let piece = match self.find()? {
                Some(Found::Record) => {
                    match self.skip {
                        0 => starts.push(u32::try_from(start).unwrap_or(u32::MAX)),
                        _ => {
                            self.skip -= 1;
                            self.line.truncate(start);
                        }
                    }
                    continue;
                }
                Some(Found::TooLong(length)) => Piece::TooLong(self.line.split_off(start), length),
                Some(Found::Broken { at, wanted }) => self.broken(at, wanted),
                Some(Found::More) => continue,
                None => {
                    self.is_over = true;
                    continue;
                }
            };
            if self.skip > 0 {
                self.skip -= 1;
                continue;
            }
            if starts.is_empty() {
                return Ok(piece);
            }
            self.next = Some(piece);
            break;
        }
        match starts.is_empty() {
            true => Ok(Piece::End),
            false => Ok(Piece::Lines(std::mem::take(&mut self.line), starts)),
        }
    }
}
