//! Files that are only looked at: which they are, what they hold, their rows.

mod arrays;
mod parquet;
mod text;
pub(crate) mod texts;
mod typed;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::RecordBatch;
use sluice_core::columns::OutputColumn;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::Format;
use sluice_core::formats::recognise::{Recognised, recognise};
use sluice_core::formats::whole::WholeFile;
use sluice_core::kinds::{Stored, StoredSummary};
use sluice_core::profile::DeclaredField;

use crate::packed::{Packing, Unpacked, plain_name};

pub use text::BytesReader;

/// Bytes that are enough to recognise a format.
const START: u64 = 256 << 10;

/// What a file is.
#[derive(Clone, Debug)]
pub struct Look {
    /// How it is packed.
    pub packing: Packing,
    /// How what it holds is written.
    pub recognised: Recognised,
    /// Its size on the disk.
    pub bytes: u64,
    /// The header row, where its format has one.
    pub head: Option<Vec<u8>>,
}

/// Looks at the beginning of a file.
///
/// # Errors
/// Where it cannot be read.
pub fn look(path: &Path) -> Outcome<Look> {
    use std::io::Read as _;
    let io = |e: std::io::Error| Failure::io("read", path, &e);
    let file = std::fs::File::open(path).map_err(io)?;
    let data = file.metadata().map_err(io)?;
    if data.is_dir() {
        return Err(Failure::unreachable(format!("{} is a folder", path.display()))
            .with_help("name a file in it, or the files of a connection: CONNECTION:PATTERN"));
    }
    let mut unpacked = Unpacked::new(file, false).map_err(io)?;
    let packing = unpacked.packing();
    let mut start = Vec::new();
    (&mut unpacked).take(START).read_to_end(&mut start).map_err(io)?;
    let name = plain_name(&path.to_string_lossy());
    let recognised = recognise(&start, (start.len() as u64) < START, &name);
    let head = header_row(&recognised, &start);
    Ok(Look { packing, recognised, bytes: data.len(), head })
}

/// The fields that a file itself declares, with their types; empty where it does not.
///
/// # Errors
/// Where it cannot be read.
pub fn declared(path: &Path, format: &dyn Format) -> Outcome<Vec<DeclaredField>> {
    let Some(kind) = format.whole() else { return Ok(Vec::new()) };
    let schema = crate::intakes::files::whole::schema(path, kind)?;
    Ok(schema.map_or_else(Vec::new, |schema| DeclaredField::all(&schema)))
}

/// The header row at the start of what was recognised, where its format has one.
pub fn header_row(recognised: &Recognised, start: &[u8]) -> Option<Vec<u8>> {
    let format = recognised.format().filter(|format| format.has_head())?;
    let cut = format.cut(start, 1);
    Some(if cut.records == 1 { start[..cut.bytes].to_vec() } else { start.to_vec() })
}

/// How stored rows are written.
pub enum Form {
    /// Parquet.
    Parquet,
    /// Arrow IPC.
    Arrow,
    /// Avro.
    Avro,
    /// Text.
    Text(Arc<dyn Format>),
}

impl Form {
    /// The form of what was recognised, where it holds rows.
    pub fn recognised(recognised: &Recognised) -> Option<Self> {
        match recognised {
            Recognised::Events(format) => match format.whole() {
                None => Some(Self::Text(Arc::clone(format))),
                Some(WholeFile::Parquet) => Some(Self::Parquet),
                Some(WholeFile::Arrow) => Some(Self::Arrow),
                Some(WholeFile::Avro) => Some(Self::Avro),
                Some(WholeFile::Document) => None,
            },
            _ => None,
        }
    }

    fn name(&self) -> &'static str {
        match self {
            Self::Parquet => "Parquet",
            Self::Arrow => WholeFile::Arrow.format().kind().title(),
            Self::Avro => WholeFile::Avro.format().kind().title(),
            Self::Text(format) => format.kind().title(),
        }
    }
}

/// One file with its size.
#[derive(Clone, Debug)]
pub struct StoredFile {
    /// Its path.
    pub path: PathBuf,
    /// Its size.
    pub bytes: u64,
}

/// The visible files below a folder with an ending, by name. None where the folder is not there.
///
/// # Errors
/// Where a folder cannot be listed.
pub fn files_below(folder: &Path, extension: &str) -> Outcome<Vec<StoredFile>> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_path_buf()];
    while let Some(folder) = folders.pop() {
        let entries = match std::fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => continue,
            Err(error) => return Err(Failure::io("list the folder", &folder, &error)),
        };
        for entry in entries.flatten() {
            let path = entry.path();
            if entry.file_name().to_string_lossy().starts_with('.') {
                continue;
            }
            match std::fs::metadata(&path) {
                Ok(data) if data.is_dir() => folders.push(path),
                Ok(data) if path.extension().is_some_and(|e| e == extension) => {
                    found.push(StoredFile { path, bytes: data.len() });
                }
                _ => {}
            }
        }
    }
    found.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(found)
}

/// One file.
///
/// # Errors
/// Where it is not there.
pub fn one_file(path: &Path) -> Outcome<StoredFile> {
    let bytes = std::fs::metadata(path).map_err(|e| Failure::io("look at", path, &e))?.len();
    Ok(StoredFile { path: path.into(), bytes })
}

/// Opens stored rows. `columns` are those that a plan lands; without them JSON Lines and CSV are looked at first.
///
/// # Errors
/// Where a file cannot be read.
pub fn open(files: Vec<StoredFile>, form: &Form, columns: Option<&[OutputColumn]>) -> Outcome<Box<dyn Stored>> {
    let summary = StoredSummary {
        what: form.name().into(),
        parts: files.len() as u64,
        bytes: files.iter().map(|f| f.bytes).sum(),
        columns: columns.unwrap_or_default().to_vec(),
        ..StoredSummary::default()
    };
    match form {
        Form::Parquet => typed::open(files, summary, parquet::open),
        Form::Arrow => typed::open(files, summary, |file| whole(file, WholeFile::Arrow)),
        Form::Avro => typed::open(files, summary, |file| whole(file, WholeFile::Avro)),
        Form::Text(format) => text::open(files, format, summary, columns.is_none()),
    }
}

/// Opens a file whose rows are read in their order.
fn whole(file: &StoredFile, kind: WholeFile) -> Outcome<typed::TypedFile> {
    let (schema, batches) = crate::intakes::files::whole::batches(&file.path, kind)?;
    Ok(typed::TypedFile { schema, rows: None, batches: Box::new(batches) })
}

/// Opens one file.
type OpenFile<R> = Box<dyn FnMut(&StoredFile) -> Outcome<R> + Send>;

/// Rows of files, one file after the other.
struct StoredRows<R> {
    summary: StoredSummary,
    files: std::vec::IntoIter<StoredFile>,
    open: Option<R>,
    broken: u64,
    start: OpenFile<R>,
}

/// Rows of one file.
trait FileRows: Send {
    /// The next rows; None after the last. Adds to `broken` what could not be read.
    fn next(&mut self, broken: &mut u64) -> Outcome<Option<RecordBatch>>;
}

impl<R: FileRows> Stored for StoredRows<R> {
    fn summary(&self) -> &StoredSummary {
        &self.summary
    }

    fn next(&mut self) -> Outcome<Option<RecordBatch>> {
        loop {
            if let Some(open) = &mut self.open {
                match open.next(&mut self.broken)? {
                    Some(rows) => return Ok(Some(rows)),
                    None => self.open = None,
                }
            }
            let Some(file) = self.files.next() else { return Ok(None) };
            self.open = Some((self.start)(&file)?);
        }
    }

    fn broken(&self) -> u64 {
        self.broken
    }
}

#[cfg(test)]
mod tests;
