//! A landing's own record of what it holds: one line of JSON for each batch of a lane.

use std::fs::File;
use std::io::{BufRead as _, BufReader, Read as _, Seek as _, SeekFrom};
use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use sluice_core::batch::{BatchIdentity, Ranges};
use sluice_core::durable::Disk;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::NotedBatch;

use super::stage::StagedFiles;

/// The version of the line's form.
const VERSION: u32 = 1;

/// One batch that has landed.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct LandedLine {
    version: u32,
    #[serde(flatten)]
    noted: NotedBatch,
    files: Vec<LandedFile>,
}

#[derive(Debug, Serialize, Deserialize)]
struct LandedFile {
    path: String,
    rows: u64,
    bytes: u64,
}

impl LandedLine {
    pub(super) fn new(batch: &BatchIdentity, ranges: &Ranges, staged: &StagedFiles) -> Self {
        let file = |f: &super::stage::StagedFile| LandedFile { path: f.path.clone(), rows: f.rows, bytes: f.bytes };
        Self {
            version: VERSION,
            noted: NotedBatch { ledger: batch.ledger.clone(), number: batch.number, ranges: ranges.clone() },
            files: staged.files.iter().map(file).collect(),
        }
    }
}

/// The record of one lane.
pub(super) struct LandedRecord<'a> {
    path: PathBuf,
    disk: &'a Disk,
}

impl<'a> LandedRecord<'a> {
    pub(super) fn new(path: PathBuf, disk: &'a Disk) -> Self {
        Self { path, disk }
    }

    /// The last batch.
    pub(super) fn last(&self) -> Outcome<Option<NotedBatch>> {
        self.last_line()?.map(|(line, _)| self.parse(&line)).transpose()
    }

    /// The files of the last batch.
    pub(super) fn last_files(&self) -> Outcome<Vec<String>> {
        let Some((line, _)) = self.last_line()? else { return Ok(Vec::new()) };
        let parsed: Option<LandedLine> = serde_json::from_slice(&line).ok();
        Ok(parsed.map_or_else(Vec::new, |line| line.files.into_iter().map(|file| file.path).collect()))
    }

    /// Every batch, in the order in which they landed.
    pub(super) fn all(&self) -> Outcome<Vec<NotedBatch>> {
        let Some((_, end)) = self.last_line()? else { return Ok(Vec::new()) };
        let io = |e: std::io::Error| Failure::io("read", &self.path, &e);
        let file = File::open(&self.path).map_err(io)?;
        let lines = BufReader::new(file.take(end)).split(b'\n');
        lines.map(|line| self.parse(&line.map_err(io)?)).collect()
    }

    fn parse(&self, line: &[u8]) -> Outcome<NotedBatch> {
        let parsed: LandedLine = serde_json::from_slice(line).map_err(|e| {
            Failure::findings(format!("the record {} cannot be read: {e}", self.path.display()))
                .with_help("it was written by a newer version, or edited; use that version, or restore the file")
        })?;
        if parsed.version > VERSION {
            return Err(Failure::findings(format!(
                "the record {} was written by a newer version of sluice",
                self.path.display()
            ))
            .with_help("use that version"));
        }
        Ok(parsed.noted)
    }

    /// Adds a batch after the last whole line; what a crash tore is cut off.
    pub(super) fn add(&self, line: &LandedLine) -> Outcome<()> {
        if let Some(folder) = self.path.parent() {
            self.disk.make_folders(folder)?;
        }
        let end = self.last_line()?.map_or(0, |(_, end)| end);
        let mut bytes =
            serde_json::to_vec(line).map_err(|e| Failure::internal(format!("a batch cannot be noted: {e}")))?;
        bytes.push(b'\n');
        self.disk.append(&self.path, end, &bytes)
    }

    /// The last whole line, and where it ends.
    fn last_line(&self) -> Outcome<Option<(Vec<u8>, u64)>> {
        let io = |e: std::io::Error| Failure::io("read", &self.path, &e);
        let mut file = match File::open(&self.path) {
            Ok(file) => file,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(io(error)),
        };
        let length = file.metadata().map_err(io)?.len();
        let mut window = 64 << 10_u64;
        loop {
            let start = length.saturating_sub(window);
            let mut tail = Vec::new();
            file.seek(SeekFrom::Start(start)).map_err(io)?;
            (&mut file).take(length - start).read_to_end(&mut tail).map_err(io)?;
            let Some(end) = memchr::memrchr(b'\n', &tail) else {
                if start == 0 {
                    return Ok(None);
                }
                window *= 4;
                continue;
            };
            match memchr::memrchr(b'\n', &tail[..end]) {
                Some(before) => return Ok(Some((tail[before + 1..end].to_vec(), start + end as u64 + 1))),
                None if start == 0 => return Ok(Some((tail[..end].to_vec(), end as u64 + 1))),
                None => window *= 4,
            }
        }
    }
}
