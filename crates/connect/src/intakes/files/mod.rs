//! Intake kind `files`: files of a folder, one partition each. A position is a byte of a file.
//!
//! Files may be packed (`packed`); positions then count the bytes of what was packed. Formats that are read as a whole
//! (Parquet, say) count rows instead; see `whole`.
//!
//! New files are picked up while running; a file that grows is read on from its last whole record. A file is known by its
//! name below the connection's folder, and guarded by digests of its beginning and of the bytes before its position:
//! another file under the same name, or one that was cut, is not read, and stops the run once everything else has been.
//! A file that gets another name keeps its position.

mod fingerprint;
mod list;
mod open;
mod ranges;
mod reader;
mod sample;
mod scan;
pub(crate) mod whole;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use sluice_core::batch::Ranges;
use sluice_core::config::{ConnectionConfig, OptionSpec, Options, ValueKind};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::formats::{self, Format};
use sluice_core::kinds::{
    Behind, Intake, IntakeKind, IntakeView, LaneReader, Mark, PartitionPosition, PartitionState, Settings, only,
    place_of,
};
use sluice_core::problem::Problem;

use crate::intakes::list::{ListIntake, SHORTEST};
use crate::local;
use fingerprint::Fingerprint;
use reader::AllProgress;

/// The key that makes a list of files.
const AGAIN: &str = "again";

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default(
        "match",
        ValueKind::Text,
        "**/*",
        "which files of the folder: ? and * within a name, ** for any folders, [abc] for one of some letters",
    ),
    OptionSpec::with_default(
        "follow_links",
        ValueKind::Flag,
        "false",
        "whether symbolic links to files and folders are followed, each folder once",
    ),
    OptionSpec::optional(
        AGAIN,
        ValueKind::Duration,
        "the files are one list for a `reference`: it is read whole, and again when a file has come, gone or been written, \
         which is looked for so often (at least 1s); rows that it does not have any more are gone",
    ),
];

/// The kind.
pub struct Files;

impl IntakeKind for Files {
    fn name(&self) -> &'static str {
        "files"
    }

    fn scheme(&self) -> &'static str {
        "file"
    }

    fn about(&self) -> &'static str {
        "files of a folder; new ones are picked up, growing ones read on from their last whole record"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn place(&self, connection: &ConnectionConfig, options: &Options) -> (String, String) {
        (place_of(self.scheme(), &connection.target), options.text("match").unwrap_or_default())
    }

    fn identity_within(&self, identity: &str) -> String {
        Fingerprint::read(identity).start_only().text()
    }

    fn formats(&self) -> &'static [&'static str] {
        sluice_core::formats::IN_FILES
    }

    fn check(&self, settings: &Settings) -> Vec<Problem> {
        let folder = local::folder(&settings.root, &settings.connection);
        let place = settings.options.place_of("at");
        if !folder.is_dir() {
            let message = format!("the folder {} does not exist", folder.display());
            return vec![
                Problem::error("place.missing", message, place)
                    .with_help(format!("make it: mkdir -p {}", folder.display())),
            ];
        }
        match scan::Scan::new(settings) {
            Err(reason) => vec![
                Problem::error("value.type", reason, settings.options.place_of("match"))
                    .with_help("such as \"*.jsonl\" or \"depot-?/**/*.jsonl\""),
            ],
            Ok(scan) if scan.files().is_ok_and(|files| files.is_empty()) => {
                let pattern = settings.options.text("match").unwrap_or_default();
                let message = format!("no file in {} matches `{pattern}` yet", folder.display());
                let place = settings.options.place_of("match");
                vec![Problem::warning("place.missing", message, place).with_help("files that come later will be read")]
            }
            Ok(_) => Vec::new(),
        }
    }

    fn is_list(&self, options: &Options) -> bool {
        options.is_set(AGAIN)
    }

    fn open(&self, settings: &[Settings]) -> Outcome<Box<dyn Intake>> {
        let settings = only(settings)?;
        let files = FilesIntake::new(settings)?;
        match self.is_list(&settings.options) {
            true => Ok(Box::new(files.list(settings)?)),
            false => Ok(Box::new(files)),
        }
    }

    fn view(&self, settings: &[Settings]) -> Outcome<Box<dyn IntakeView>> {
        let settings = only(settings)?;
        let files = FilesIntake::new(settings)?;
        match self.is_list(&settings.options) {
            true => Ok(Box::new(files.list(settings)?)),
            false => Ok(Box::new(files)),
        }
    }
}

impl FilesIntake {
    fn new(settings: &Settings) -> Outcome<Self> {
        let folder = local::folder(&settings.root, &settings.connection);
        if !folder.is_dir() {
            return Err(Failure::unreachable(format!("the folder {} does not exist", folder.display()))
                .with_help(format!("make it, or correct [connection.{}] in sluice.toml", settings.connection.name)));
        }
        let scan = scan::Scan::new(settings).map_err(Failure::unreachable)?;
        let options = settings.options.clone();
        let max_record = settings.options.size("max_record").clamp(1, 1 << 30);
        Ok(Self { scan, options, max_record, progress: AllProgress::default() })
    }
}

/// Reads one file from its beginning, for looking.
///
/// # Errors
/// Never; a file that cannot be read says so when it is read.
pub fn read_file(path: &Path, format: Arc<dyn Format>, max_record: u64) -> Outcome<Box<dyn LaneReader>> {
    let scan = scan::Scan::of_file(path);
    Ok(Box::new(reader::FilesReader::new(scan, format, max_record, (0, 1), Vec::new(), AllProgress::default())))
}

/// The files of an arrival, by name, each with its path.
///
/// # Errors
/// Where the folder cannot be read.
pub fn files(settings: &Settings) -> Outcome<Vec<(String, PathBuf)>> {
    scan::Scan::new(settings).map_err(Failure::unreachable)?.files()
}

struct FilesIntake {
    scan: scan::Scan,
    options: Options,
    max_record: u64,
    /// Shared by the readers of all lanes.
    progress: AllProgress,
}

impl FilesIntake {
    /// The files as one list.
    fn list(self, settings: &Settings) -> Outcome<ListIntake> {
        let pattern = settings.options.text("match").unwrap_or_default();
        let list = list::FileList { format: self.format()?, scan: self.scan, max_record: self.max_record, pattern };
        let again = settings.options.duration(AGAIN).max(SHORTEST);
        Ok(ListIntake { source: Arc::new(list), again })
    }

    fn format(&self) -> Outcome<Arc<dyn Format>> {
        formats::format(&self.options).ok_or_else(|| Failure::internal("an arrival without a format"))
    }
}

impl Intake for FilesIntake {
    fn lane(&self, lane: u32, lanes: u32, positions: Vec<PartitionPosition>) -> Outcome<Box<dyn LaneReader>> {
        let (scan, progress) = (self.scan.clone(), self.progress.clone());
        let reader =
            reader::FilesReader::new(scan, self.format()?, self.max_record, (lane, lanes), positions, progress);
        Ok(Box::new(reader))
    }
}

impl IntakeView for FilesIntake {
    fn sample(&self, events: u64) -> Outcome<Box<dyn LaneReader>> {
        sample::reader(&self.scan, events, || self.format(), self.max_record)
    }

    fn states(&self, positions: &[PartitionPosition]) -> Outcome<Vec<PartitionState>> {
        let state = |(name, path): (String, PathBuf)| {
            let length = file_length(&path)?;
            let known = positions.iter().find(|p| *p.partition == *name);
            let (read, packed) = match known {
                // Of a packed file only its length on the disk is known without reading it.
                Some(p) => match Fingerprint::read(&p.identity) {
                    packed if packed.is_packed() => (packed.packed_length().unwrap_or(0), true),
                    _ => (p.position.major, false),
                },
                None => (0, false),
            };
            Ok(PartitionState {
                partition: name.into(),
                earliest: Position::default(),
                // Of a packed file that was read to its end, the position is what the end is.
                latest: known.filter(|_| packed && read == length).map_or(Position::at(length), |p| p.position),
                events: None,
                bytes: Some(length.saturating_sub(read)),
                counts_bytes: !packed,
                oldest_unread: None,
                retention: None,
                arrived_last_hour: None,
                loads: Vec::new(),
                retained: None,
                waiting: None,
            })
        };
        self.scan.files()?.into_iter().map(state).collect()
    }

    fn find(&self, mark: &Mark) -> Outcome<Option<Vec<PartitionPosition>>> {
        if *mark != Mark::Earliest {
            return Ok(None);
        }
        let start = |(name, _): (String, PathBuf)| PartitionPosition {
            partition: name.into(),
            position: Position::default(),
            identity: String::new(),
        };
        Ok(Some(self.scan.files()?.into_iter().map(start).collect()))
    }

    fn ranges(&self, ranges: &Ranges) -> Outcome<Box<dyn LaneReader>> {
        ranges::reader(&self.scan, ranges, || self.format(), self.max_record)
    }

    fn behind(&self, positions: &[PartitionPosition]) -> Outcome<Behind> {
        let mut behind = Behind::default();
        for state in self.states(positions)? {
            let unread = state.bytes.unwrap_or(0);
            behind.partitions += 1;
            behind.bytes += unread;
            behind.unread_partitions += u64::from(unread > 0);
            let position = positions.iter().find(|p| p.partition == state.partition);
            behind.misplaced += u64::from(position.is_some_and(|p| state.misplaced(p).is_some()));
        }
        Ok(behind)
    }
}

fn file_length(path: &PathBuf) -> Outcome<u64> {
    std::fs::metadata(path).map(|m| m.len()).map_err(|e| Failure::io("look at", path, &e))
}
