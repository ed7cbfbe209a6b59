//! Landing kind `files`: Parquet, JSON Lines or CSV in a folder, exactly once.
//!
//! A batch is staged under the hidden folder `.sluice/staging`, sealed, and then each file gets its final name by one
//! rename. What has landed is noted in `.sluice/landed`, one line a batch, so that a landing can tell what it holds.

mod lines;
mod parquet;
mod publish;
mod record;
mod stage;

use std::path::{Path, PathBuf};

use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::config::{ConnectionConfig, OptionSpec, Options, ValueKind};
use sluice_core::decode::csv::{self, Dialect};
use sluice_core::durable::Disk;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{
    BatchOrder, HeldBatch, HeldLane, Holdings, Landing, LandingKind, Published, Settings, Stage, StagedWork, Stored,
};
use sluice_core::plan::OutputColumn;
use sluice_core::problem::Problem;

use crate::{local, look};

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional(
        "path",
        ValueKind::Template,
        "the folder of each row below the connection's: text, and columns in braces, timestamps with a pattern",
    )
    .with(&["columns"]),
    OptionSpec::with_default(
        "format",
        ValueKind::Choice(&["parquet", "jsonl", "csv"]),
        "parquet",
        "how rows are written",
    )
    .with(&["csv", "row_group", "compression"]),
    OptionSpec::optional("csv", ValueKind::Table(csv::LANDING_OPTIONS), "how CSV is spelled").with(&["format"]),
    OptionSpec::with_default(
        "row_group",
        ValueKind::Integer { min: 1_000, max: 10_000_000 },
        "250_000",
        "Parquet: a row group holds at most this many rows",
    )
    .with(&["format"]),
    OptionSpec::with_default(
        "compression",
        ValueKind::Choice(&["zstd", "none"]),
        "zstd",
        "Parquet: how pages are compressed",
    )
    .with(&["format"]),
];

/// The kind.
pub struct Files;

impl LandingKind for Files {
    fn name(&self) -> &'static str {
        "files"
    }

    fn scheme(&self) -> &'static str {
        "file"
    }

    fn about(&self) -> &'static str {
        "Parquet, JSON Lines or CSV files in a folder; each file appears at once"
    }

    fn guarantee(&self) -> &'static str {
        "exactly once: files are staged out of sight, sealed, and get their names by a rename"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn can_replace(&self, _: &Options) -> Result<(), String> {
        Ok(())
    }

    fn exclusive_place(&self, connection: &ConnectionConfig, options: &Options) -> Option<String> {
        let path = options.sql("path").map(|p| p.text.clone()).unwrap_or_default();
        Some(format!("file:{}", local::plain(&connection.target).join(local::plain(&path)).display()))
    }

    fn check(&self, settings: &Settings, _columns: &[OutputColumn]) -> Vec<Problem> {
        let folder = local::folder(&settings.root, &settings.connection);
        let existing = folder.ancestors().find(|p| p.exists()).unwrap_or(&folder);
        let problem = |message: String| {
            vec![
                Problem::error("place.missing", message, settings.options.place_of("at"))
                    .with_help(format!("mend the url of [connection.{}] in sluice.toml", settings.connection.name)),
            ]
        };
        match std::fs::metadata(existing) {
            Ok(data) if !data.is_dir() => problem(format!("{} is a file, not a folder", existing.display())),
            Ok(data) if data.permissions().readonly() => problem(format!("{} cannot be written", existing.display())),
            Ok(_) => Vec::new(),
            Err(error) => problem(format!("cannot look at {}: {error}", existing.display())),
        }
    }

    fn look(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Box<dyn Stored>>> {
        let template = settings.options.sql("path").map(|p| p.text.clone()).unwrap_or_default();
        // Folders that all rows share, as far as the template has no column.
        let fixed = template.split('{').next().unwrap_or_default();
        let shared = if fixed.len() == template.len() { fixed } else { fixed.rsplit_once('/').map_or("", |f| f.0) };
        let folder = local::folder(&settings.root, &settings.connection).join(shared);
        let format = FileFormat::read(&settings.options);
        let files = look::files_below(&folder, format.extension())?;
        look::open(files, &look::Form::of(&format), Some(columns)).map(Some)
    }

    fn open(&self, settings: &Settings, label: &str, _: &[OutputColumn]) -> Outcome<Box<dyn Landing>> {
        let format = FileFormat::read(&settings.options);
        let root = local::folder(&settings.root, &settings.connection);
        Ok(Box::new(FilesLanding::new(root, label, format, Disk::default())))
    }
}

/// How rows are written.
#[derive(Clone, Debug)]
pub(crate) enum FileFormat {
    Parquet {
        row_group: usize,
        compressed: bool,
    },
    JsonLines,
    Csv(Dialect),
    /// One column of lines that are written as they are.
    Lines,
}

impl FileFormat {
    /// The format that a landing's keys name.
    pub(crate) fn read(options: &Options) -> Self {
        match options.text("format").as_deref() {
            Some("jsonl") => Self::JsonLines,
            Some("csv") => Self::Csv(Dialect::read_landing(&options.table("csv"))),
            _ => Self::Parquet {
                row_group: usize::try_from(options.integer("row_group")).unwrap_or(250_000),
                compressed: options.text("compression").as_deref() != Some("none"),
            },
        }
    }

    pub(crate) fn extension(&self) -> &'static str {
        match self {
            Self::Csv(_) => "csv",
            Self::Parquet { .. } => "parquet",
            Self::JsonLines | Self::Lines => "jsonl",
        }
    }
}

/// The landing of a pipeline's rejects: `rejects/PIPELINE` below the project.
///
/// # Errors
/// Never; the folder is made when the first reject is staged.
pub fn open_rejects(root: &Path, pipeline: &str) -> Outcome<Box<dyn Landing>> {
    let folder = rejects_folder(root, pipeline);
    Ok(Box::new(FilesLanding::new(folder, &format!("{pipeline}.rejects"), FileFormat::Lines, Disk::default())))
}

/// Where a pipeline's rejects are kept.
pub fn rejects_folder(root: &Path, pipeline: &str) -> PathBuf {
    root.join("rejects").join(pipeline)
}

/// What the names of records end in.
const RECORD: &str = ".jsonl";

pub(crate) struct FilesLanding {
    root: PathBuf,
    label: String,
    format: FileFormat,
    disk: Disk,
}

impl FilesLanding {
    pub(crate) fn new(root: PathBuf, label: &str, format: FileFormat, disk: Disk) -> Self {
        Self { root, label: label.into(), format, disk }
    }

    /// Where a ledger's batches of a lane are staged, below the root.
    fn staging(&self, ledger: &str, lane: &LaneId) -> PathBuf {
        Path::new(".sluice").join("staging").join(ledger).join(&self.label).join(lane.as_str())
    }

    /// Where the records of all lanes are kept.
    fn records(&self) -> PathBuf {
        self.root.join(".sluice").join("landed").join(&self.label)
    }

    /// The record of what landed of a lane.
    fn record(&self, lane: &LaneId) -> record::LandedRecord<'_> {
        record::LandedRecord::new(self.records().join(format!("{lane}{RECORD}")), &self.disk)
    }
}

impl Landing for FilesLanding {
    fn held(&self, lane: &LaneId) -> Outcome<Option<HeldBatch>> {
        self.record(lane).last()
    }

    fn holdings(&self, _: &[LaneId]) -> Outcome<Holdings> {
        let mut lanes = Vec::new();
        for lane in self.lanes()? {
            let batches = self.record(&lane).all()?;
            lanes.push(HeldLane { lane, batches, read_to: None });
        }
        Ok(Holdings { lanes, order: 0 })
    }

    fn lanes(&self) -> Outcome<Vec<LaneId>> {
        let folder = self.records();
        let entries = match std::fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(error) => return Err(Failure::io("list the folder", &folder, &error)),
        };
        let mut lanes = Vec::new();
        for entry in entries {
            let entry = entry.map_err(|e| Failure::io("list the folder", &folder, &e))?;
            lanes.extend(entry.file_name().to_string_lossy().strip_suffix(RECORD).map(LaneId::named));
        }
        lanes.sort();
        Ok(lanes)
    }

    fn stage(&self, batch: &BatchIdentity, _: &BatchOrder) -> Outcome<Box<dyn Stage>> {
        let folder = self.staging(&batch.ledger, &batch.lane).join(batch.number.to_string());
        Ok(Box::new(stage::FilesStage::new(self, batch, folder)))
    }

    fn discard(&self, ledger: &str, lane: &LaneId, keep: &[u64]) -> Outcome<()> {
        let folder = self.root.join(self.staging(ledger, lane));
        let entries = match std::fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(()),
            Err(error) => return Err(Failure::io("list the folder", &folder, &error)),
        };
        for entry in entries {
            let entry = entry.map_err(|e| Failure::io("list the folder", &folder, &e))?;
            let number = entry.file_name().to_str().and_then(|n| n.parse::<u64>().ok());
            if !number.is_some_and(|n| keep.contains(&n)) {
                self.disk.remove_tree(&entry.path())?;
            }
        }
        Ok(())
    }

    fn publish(&self, batch: &BatchIdentity, ranges: &Ranges, work: &StagedWork) -> Outcome<Published> {
        publish::publish(self, batch, ranges, work)?;
        Ok(Published::default())
    }

    fn with_refused(&self, batch: &BatchIdentity, work: StagedWork) -> Outcome<StagedWork> {
        stage::with_refused(&self.root, batch, work)
    }

    fn keep_refused(&self, batch: &BatchIdentity, from: &str, lines: &str) -> Outcome<()> {
        let name = format!("{}-{from}", batch.file_stem());
        let hidden = self.root.join(".sluice").join("staging").join(format!("{name}.part"));
        let place = self.root.join(format!("{name}.{}", self.format.extension()));
        for folder in [hidden.parent(), Some(self.root.as_path())].into_iter().flatten() {
            self.disk.make_folders(folder)?;
        }
        self.disk.write_file(&hidden, lines.as_bytes())?;
        self.disk.rename(&hidden, &place)?;
        self.disk.sync_folder(&self.root)
    }

    fn take_place(&self, earlier: &[StagedWork], work: StagedWork, whole: bool) -> Outcome<StagedWork> {
        if whole { stage::take_place(earlier, work) } else { Ok(work) }
    }
}

#[cfg(test)]
mod tests;
