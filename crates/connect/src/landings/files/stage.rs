//! Stages one batch: a hidden file for each folder of its rows.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_schema::SchemaRef;
use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};
use sluice_core::batch::BatchIdentity;
use sluice_core::durable::Disk;
use sluice_core::event::LandingRows;
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::RowWriter;
use sluice_core::kinds::{Stage, StagedWork};

use super::columnar::ColumnarFile;
use super::lines::LinesFile;
use super::parquet::ParquetFile;
use super::shape::{self, FileShape};
use super::typed::{file_rows, file_schema};
use super::{FileFormat, FilesLanding};

/// Files that are written to at a time. One more folder ends the file that was used least lately.
const OPEN_FILES: usize = 128;

/// Bytes of row groups that wait in memory over all files.
const WAITING: usize = 96 << 20;

/// A file that is staged.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct StagedFile {
    /// Its place while staged, below the landing's folder.
    pub staged: String,
    /// Its final place, below the landing's folder.
    pub path: String,
    /// Rows in it.
    pub rows: u64,
    /// Its size.
    pub bytes: u64,
}

/// What the ledger keeps for publishing.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct StagedFiles {
    pub files: Vec<StagedFile>,
    /// Files of an older batch that this one takes away, below the landing's folder.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub removes: Vec<String>,
}

impl StagedFiles {
    /// Reads the ledger's note.
    pub(super) fn read(work: &StagedWork) -> Outcome<Self> {
        if work.detail.is_null() {
            return Ok(Self::default());
        }
        serde_json::from_value(work.detail.clone())
            .map_err(|e| Failure::internal(format!("the ledger's list of staged files cannot be read: {e}")))
    }

    fn note(&self) -> Outcome<serde_json::Value> {
        serde_json::to_value(self).map_err(|e| Failure::internal(format!("staged files cannot be noted: {e}")))
    }
}

/// Gives staged files the names of those that earlier readings have in the same folders, so that each is replaced by one
/// rename. What those have beyond that is taken away.
pub(super) fn take_place(earlier: &[StagedWork], mut work: StagedWork) -> Outcome<StagedWork> {
    let mut left: Vec<String> = Vec::new();
    for old in earlier {
        for file in StagedFiles::read(old)?.files {
            // A reading that replaced another one has its names.
            if !left.contains(&file.path) {
                left.push(file.path);
            }
        }
    }
    let mut new = StagedFiles::read(&work)?;
    let place = |path: &str| {
        let path = Path::new(path);
        (path.parent().map(Path::to_path_buf), path.extension().map(ToOwned::to_owned))
    };
    for file in &mut new.files {
        if let Some(i) = left.iter().position(|path| place(path) == place(&file.path)) {
            file.path = left.remove(i);
        }
    }
    new.removes = left;
    work.detail = new.note()?;
    Ok(work)
}

/// The lines of the files that a batch landed, where they are still there.
pub(super) fn lines(root: &Path, work: &StagedWork) -> Outcome<Vec<String>> {
    let mut lines = Vec::new();
    for file in StagedFiles::read(work)?.files {
        let path = root.join(&file.path);
        match std::fs::read_to_string(&path) {
            Ok(text) => lines.extend(text.lines().map(str::to_string)),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(Failure::io("read", &path, &error)),
        }
    }
    Ok(lines)
}

/// Adds the files of refused rows of a batch, which are named after it, to those that it landed.
pub(super) fn with_refused(root: &Path, batch: &BatchIdentity, mut work: StagedWork) -> Outcome<StagedWork> {
    let mut staged = StagedFiles::read(&work)?;
    let prefix = format!("{}-", batch.file_stem());
    let Ok(entries) = std::fs::read_dir(root) else { return Ok(work) };
    for path in entries.flatten().filter_map(|e| e.file_name().into_string().ok()) {
        if path.starts_with(&prefix) && !staged.files.iter().any(|f| f.path == path) {
            staged.files.push(StagedFile { staged: String::new(), path, rows: 0, bytes: 0 });
        }
    }
    work.detail = staged.note()?;
    Ok(work)
}

enum Writer {
    Parquet(Box<ParquetFile>),
    Columnar(Box<ColumnarFile>),
    Lines(LinesFile),
}

struct StagingFile {
    writer: Writer,
    staged: String,
    path: String,
    rows: u64,
    used: u64,
}

pub(super) struct FilesStage {
    root: PathBuf,
    folder: PathBuf,
    format: FileFormat,
    disk: Disk,
    /// Where rows of a folder land, since types have changed.
    typed: Option<(FileShape, String)>,
    batch: BatchIdentity,
    open: HashMap<Arc<str>, StagingFile>,
    parts: HashMap<Arc<str>, u32>,
    done: Vec<StagedFile>,
    files: u32,
    uses: u64,
}

impl FilesStage {
    pub(super) fn new(landing: &FilesLanding, batch: &BatchIdentity, folder: PathBuf) -> Self {
        Self {
            root: landing.root.clone(),
            folder,
            format: landing.format.clone(),
            disk: landing.disk.clone(),
            typed: landing.typed.clone(),
            batch: batch.clone(),
            open: HashMap::new(),
            parts: HashMap::new(),
            done: Vec::new(),
            files: 0,
            uses: 0,
        }
    }

    fn file(&mut self, rows: &LandingRows) -> Outcome<&mut StagingFile> {
        if !self.open.contains_key(&rows.folder) {
            if self.open.len() >= OPEN_FILES {
                let oldest = self.open.iter().min_by_key(|(_, f)| f.used).map(|(name, _)| Arc::clone(name));
                if let Some(file) = oldest.and_then(|name| self.open.remove(&name)) {
                    self.close(file)?;
                }
            }
            let file = self.create(&rows.folder, &rows.batch.schema())?;
            self.open.insert(Arc::clone(&rows.folder), file);
        }
        self.uses += 1;
        let uses = self.uses;
        let file = self.open.get_mut(&rows.folder).ok_or_else(|| Failure::internal("the file was just opened"))?;
        file.used = uses;
        Ok(file)
    }

    fn create(&mut self, folder: &Arc<str>, schema: &SchemaRef) -> Outcome<StagingFile> {
        let staging = self.root.join(&self.folder);
        if self.files == 0 {
            self.disk.make_folders(&staging)?;
        }
        let staged = self.folder.join(format!("{}.part", self.files));
        self.files += 1;
        let full = self.root.join(&staged);
        let file = self.disk.create(&full)?;
        let place = match &self.typed {
            Some((shape, fixed)) => shape::moved(folder, fixed, shape.folder()),
            None => folder.to_string(),
        };
        let part = self.parts.entry(Arc::clone(folder)).or_default();
        let suffix = if *part == 0 { String::new() } else { format!("-{part}") };
        *part += 1;
        let stem = self.batch.file_stem();
        let name = format!("{stem}{}{suffix}.{}", apart(folder), self.format.extension());
        // What cannot be made is said now, before the batch is sealed.
        self.disk.make_folders(&self.root.join(&place))?;
        let columns = crate::landings::columns_of(schema);
        let lines = |file, writer: Option<&Arc<dyn RowWriter>>| {
            let lines = LinesFile::new(file, writer.map(Arc::clone), columns.clone())
                .map_err(|e| Failure::io("write", &full, &e))?;
            Ok::<Writer, Failure>(Writer::Lines(lines))
        };
        let schema = &file_schema(schema);
        let writer = match &self.format {
            FileFormat::Parquet { row_group, compressed } => {
                let file = ParquetFile::new(file, Arc::clone(schema), &self.batch, *row_group, *compressed);
                Writer::Parquet(Box::new(file.map_err(|e| failure("write", &full, &e))?))
            }
            FileFormat::Arrow { compressed } => {
                let file = ColumnarFile::arrow(file, Arc::clone(schema), &self.batch, *compressed);
                Writer::Columnar(Box::new(file.map_err(|e| failure("write", &full, &e))?))
            }
            FileFormat::Avro { compression } => {
                let file = ColumnarFile::avro(file, Arc::clone(schema), *compression);
                Writer::Columnar(Box::new(file.map_err(|e| failure("write", &full, &e))?))
            }
            FileFormat::Text(writer) => lines(file, Some(writer))?,
            FileFormat::Lines => lines(file, None)?,
        };
        let path = Path::new(&place).join(name);
        Ok(StagingFile { writer, staged: text(&staged), path: text(&path), rows: 0, used: 0 })
    }

    fn close(&mut self, open: StagingFile) -> Outcome<()> {
        let full = self.root.join(&open.staged);
        let file = match open.writer {
            Writer::Parquet(writer) => writer.close().map_err(|e| failure("end", &full, &e))?,
            Writer::Columnar(writer) => writer.close().map_err(|e| failure("end", &full, &e))?,
            Writer::Lines(writer) => writer.close().map_err(|e| Failure::io("end", &full, &e))?,
        };
        reach("stage.closed");
        self.disk.sync_file(&file, &full)?;
        let bytes = file.metadata().map_err(|e| Failure::io("look at", &full, &e))?.len();
        self.done.push(StagedFile { staged: open.staged, path: open.path, rows: open.rows, bytes });
        Ok(())
    }

    /// Writes out row groups while too much waits in memory, the largest first.
    fn relieve(&mut self) -> Outcome<()> {
        let waiting = |f: &StagingFile| match &f.writer {
            Writer::Parquet(writer) => writer.waiting(),
            Writer::Columnar(writer) => writer.waiting(),
            Writer::Lines(_) => 0,
        };
        while self.open.values().map(waiting).sum::<usize>() > WAITING {
            let Some(file) = self.open.values_mut().max_by_key(|f| waiting(f)) else { return Ok(()) };
            let full = self.root.join(&file.staged);
            match &mut file.writer {
                Writer::Parquet(writer) => writer.flush().map_err(|e| failure("write", &full, &e))?,
                Writer::Columnar(writer) => writer.flush().map_err(|e| failure("write", &full, &e))?,
                Writer::Lines(_) => {}
            }
        }
        Ok(())
    }
}

impl Stage for FilesStage {
    fn write(&mut self, rows: LandingRows) -> Outcome<()> {
        let root = self.root.clone();
        let file = self.file(&rows)?;
        let full = root.join(&file.staged);
        match &mut file.writer {
            Writer::Parquet(writer) => {
                let typed = file_rows(&rows.batch).map_err(|e| failure("write", &full, &e))?;
                writer.write(&typed).map_err(|e| failure("write", &full, &e))?;
            }
            Writer::Columnar(writer) => {
                let typed = file_rows(&rows.batch).map_err(|e| failure("write", &full, &e))?;
                writer.write(&typed).map_err(|e| failure("write", &full, &e))?;
            }
            Writer::Lines(writer) => writer.write(&rows.batch).map_err(|e| Failure::io("write", &full, &e))?,
        }
        file.rows += rows.batch.num_rows() as u64;
        self.relieve()
    }

    fn finish(mut self: Box<Self>) -> Outcome<StagedWork> {
        let mut open: Vec<StagingFile> = self.open.drain().map(|(_, f)| f).collect();
        open.sort_by(|a, b| a.staged.cmp(&b.staged));
        for file in open {
            self.close(file)?;
        }
        if self.files > 0 {
            self.disk.sync_folder(&self.root.join(&self.folder))?;
        }
        reach("stage.synced");
        let (rows, bytes) = (self.done.iter().map(|f| f.rows).sum(), self.done.iter().map(|f| f.bytes).sum());
        let detail = StagedFiles { files: self.done, removes: Vec::new() }.note()?;
        Ok(StagedWork { rows, merged: 0, bytes, detail })
    }
}

/// Keeps files of two folders apart whose names a file system takes for one, since it folds case or writes letters in
/// its own way.
fn apart(folder: &str) -> String {
    let is_plain = |c: char| c.is_ascii() && !c.is_ascii_uppercase();
    if folder.chars().all(is_plain) {
        return String::new();
    }
    let digest = Sha256::digest(folder.as_bytes());
    digest[..4].iter().fold(String::from("-"), |text, byte| format!("{text}{byte:02x}"))
}

fn failure(doing: &str, path: &Path, error: &dyn std::fmt::Display) -> Failure {
    Failure::unreachable(format!("cannot {doing} {}: {error}", path.display()))
}

fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}
