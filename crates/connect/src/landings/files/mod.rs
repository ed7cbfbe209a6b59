//! Landing kind `files`: Parquet, Arrow, Avro, JSON Lines or CSV in a folder, exactly once.
//!
//! A batch is staged under the hidden folder `.sluice/staging`, sealed, and then each file gets its final name by one
//! rename. What has landed is noted in `.sluice/landed`, one line a batch, so that a landing can tell what it holds.

mod begun;
mod columnar;
mod lines;
mod parquet;
mod publish;
mod record;
mod shape;
mod stage;
pub(crate) mod typed;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::columns::OutputColumn;
use sluice_core::config::{ConnectionConfig, OptionSpec, Options, ValueKind};
use sluice_core::durable::Disk;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::{self, JsonLines, RowWriter, csv};
use sluice_core::kinds::{
    BatchOrder, Holdings, Landing, LandingKind, NotedBatch, NotedLane, Published, Settings, Stage, StagedWork, Stored,
};
use sluice_core::plan::transform::schema_of;
use sluice_core::problem::Problem;

use crate::look::Form;
use crate::{local, look};

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional(
        "path",
        ValueKind::Template,
        "the folder of each row below the connection's: text, and columns in braces, timestamps with a pattern",
    )
    .with(&["columns", "max_folders"]),
    OptionSpec::with_default(
        "max_folders",
        ValueKind::Integer { min: 1, max: 1_000_000 },
        "10_000",
        "how many folders one batch may fill; rows for further ones are rejects",
    )
    .with(&["path"]),
    OptionSpec::with_default("format", ValueKind::Choice(formats::TO_FILES), "parquet", "how rows are written")
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
        ValueKind::Choice(&["zstd", "none", "deflate"]),
        "zstd",
        "Parquet, Arrow and Avro: how rows are compressed; of Avro the default is deflate, which every reader has to know, and only \
         Avro has it",
    )
    .with(&["format"]),
    OptionSpec::with_default(
        "new_types",
        ValueKind::Choice(&["stop", "new_folder"]),
        "stop",
        "Parquet, Arrow and Avro: what happens when a column has another type than in landed files: stop ends the run before anything is \
         read; new_folder lands in a folder of its own, PATH-2",
    )
    .with(&["format", "path"]),
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
        "Parquet, Arrow, Avro, JSON Lines or CSV files in a folder; each file appears at once"
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

    fn check(&self, settings: &Settings, columns: &[OutputColumn]) -> Vec<Problem> {
        let folder = local::folder(&settings.root, &settings.connection).join(fixed_folder(&settings.options));
        let existing = folder.ancestors().find(|p| p.exists()).unwrap_or(&folder);
        let problem = |message: String| {
            vec![
                Problem::error("place.missing", message, settings.options.place_of("at"))
                    .with_help(format!("correct the url of [connection.{}] in sluice.toml", settings.connection.name)),
            ]
        };
        match std::fs::metadata(existing) {
            Ok(data) if !data.is_dir() => problem(format!("{} is a file, not a folder", existing.display())),
            Ok(_) if !may_write(existing) => {
                let at = settings.options.place_of("at");
                let message = format!("no right to write into {}", existing.display());
                let help = format!("give the user of this process that right: ls -ld {}", existing.display());
                vec![Problem::error("place.rights", message, at).with_help(help)]
            }
            Ok(_) => self.check_types(settings, columns),
            Err(error) => problem(format!("cannot look at {}: {error}", existing.display())),
        }
    }

    fn look(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<Option<Box<dyn Stored>>> {
        let shared = fixed_folder(&settings.options);
        let root = local::folder(&settings.root, &settings.connection);
        let number = shape::FileShape::landed(&records_of(&root, &settings.label), None)?.map_or(1, |s| s.folder());
        let folder = root.join(shape::moved(&shared, &shared, number));
        let format = FileFormat::read(&settings.options);
        let files = look::files_below(&folder, format.extension())?;
        look::open(files, &format.form(), Some(columns)).map(Some)
    }

    fn open(&self, settings: &Settings, label: &str, columns: &[OutputColumn]) -> Outcome<Box<dyn Landing>> {
        let format = FileFormat::read(&settings.options);
        let root = local::folder(&settings.root, &settings.connection);
        if let Some((_, _, failure)) = format.fault(&settings.options, columns) {
            return Err(failure);
        }
        let is_typed = format.is_typed();
        let mut landing = FilesLanding::new(root, label, format, Disk::default());
        landing.fixed = fixed_folder(&settings.options);
        if is_typed {
            landing.typed = Some(landing.types(settings, columns)?);
        }
        Ok(Box::new(landing))
    }
}

impl Files {
    /// Columns that land with other types than they have landed.
    fn check_types(&self, settings: &Settings, columns: &[OutputColumn]) -> Vec<Problem> {
        let format = FileFormat::read(&settings.options);
        if let Some((code, key, failure)) = format.fault(&settings.options, columns) {
            let problem = Problem::error(code, failure.message, settings.options.place_of(key));
            return vec![problem.with_help(failure.help.unwrap_or_default())];
        }
        if settings.label.is_empty() || !format.is_typed() {
            return Vec::new();
        }
        let root = local::folder(&settings.root, &settings.connection);
        match FilesLanding::new(root, &settings.label, format, Disk::default()).types(settings, columns) {
            Ok(_) => Vec::new(),
            Err(failure) => {
                let key = if settings.options.is_set("columns") { "columns" } else { "at" };
                let problem = Problem::error("files.types", failure.message, settings.options.place_of(key));
                vec![match failure.help {
                    Some(help) => problem.with_help(help),
                    None => problem,
                }]
            }
        }
    }
}

/// Whether this process may make files in a folder.
fn may_write(folder: &std::path::Path) -> bool {
    use rustix::fs::{Access, AtFlags, CWD, accessat};
    accessat(CWD, folder, Access::WRITE_OK | Access::EXEC_OK, AtFlags::EACCESS).is_ok()
}

/// The folders that all rows share, as far as the path has no column.
fn fixed_folder(options: &Options) -> String {
    let template = options.sql("path").map(|p| p.text.clone()).unwrap_or_default();
    let fixed = template.split('{').next().unwrap_or_default();
    let shared = if fixed.len() == template.len() { fixed } else { fixed.rsplit_once('/').map_or("", |f| f.0) };
    shared.trim_end_matches('/').to_string()
}

/// Where the records of a landing are kept.
fn records_of(root: &Path, label: &str) -> PathBuf {
    root.join(".sluice").join("landed").join(label)
}

/// How blocks of Avro are compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum AvroCompression {
    None,
    /// What every reader has to know.
    Deflate,
    Zstd,
}

impl AvroCompression {
    fn of(options: &Options) -> Self {
        match options.text("compression").as_deref().filter(|_| options.is_set("compression")) {
            Some("none") => Self::None,
            Some("zstd") => Self::Zstd,
            _ => Self::Deflate,
        }
    }
}

/// How rows are written.
#[derive(Clone, Debug)]
pub(crate) enum FileFormat {
    Parquet {
        row_group: usize,
        compressed: bool,
    },
    Arrow {
        compressed: bool,
    },
    Avro {
        compression: AvroCompression,
    },
    Text(Arc<dyn RowWriter>),
    /// One column of lines that are written as they are.
    Lines,
}

impl FileFormat {
    /// The format that a landing's keys name.
    pub(crate) fn read(options: &Options) -> Self {
        let compressed = options.text("compression").as_deref() != Some("none");
        match (formats::writer(options), options.text("format").as_deref()) {
            (Some(writer), _) => Self::Text(writer),
            (None, Some("arrow")) => Self::Arrow { compressed },
            (None, Some("avro")) => Self::Avro { compression: AvroCompression::of(options) },
            (None, _) => {
                let row_group = usize::try_from(options.integer("row_group")).unwrap_or(250_000);
                Self::Parquet { row_group, compressed }
            }
        }
    }

    /// Why rows of these columns cannot be written so: the code of the problem, and the key that is wrong.
    fn fault(&self, options: &Options, columns: &[OutputColumn]) -> Option<(&'static str, &'static str, Failure)> {
        let wrong = |message: String, help: &str| Failure::new(FailureKind::Configuration, message).with_help(help);
        let is_avro = matches!(self, Self::Avro { .. });
        if !is_avro && options.text("compression").as_deref() == Some("deflate") {
            let failure = wrong("only files of Avro are compressed by deflate".into(), "write \"zstd\" or \"none\"");
            return Some(("value.type", "compression", failure));
        }
        let column = columns.iter().find(|column| is_avro && !formats::avro::is_name(&column.name))?;
        let key = if options.is_set("columns") { "columns" } else { "format" };
        let message = format!("`{}` cannot be the name of a column in Avro", column.name);
        Some(("files.names", key, wrong(message, "name it with letters, digits and underscores: \"…\" as name")))
    }

    /// Whether its files say the types of their columns.
    fn is_typed(&self) -> bool {
        matches!(self, Self::Parquet { .. } | Self::Arrow { .. } | Self::Avro { .. })
    }

    /// The form in which its files are read.
    pub(crate) fn form(&self) -> Form {
        match self {
            Self::Parquet { .. } => Form::Parquet,
            Self::Arrow { .. } => Form::Arrow,
            Self::Avro { .. } => Form::Avro,
            Self::Text(writer) => Form::Text(writer.format()),
            Self::Lines => Form::Text(Arc::new(JsonLines)),
        }
    }

    pub(crate) fn extension(&self) -> &'static str {
        match self {
            Self::Text(writer) => writer.extension(),
            Self::Parquet { .. } => "parquet",
            Self::Arrow { .. } => "arrow",
            Self::Avro { .. } => "avro",
            Self::Lines => "jsonl",
        }
    }
}

/// The landing of a pipeline's rejects: `rejects/PIPELINE` below the project.
///
/// # Errors
/// Never; the folder is made when the first reject is staged.
pub fn open_rejects(root: &Path, pipeline: &str) -> Outcome<Box<dyn Landing>> {
    let folder = rejects_folder(root, pipeline);
    Ok(Box::new(FilesLanding::new(folder, &format!("{pipeline}.rejects"), FileFormat::Lines, Disk::private())))
}

/// Where a pipeline's rejects are kept.
pub fn rejects_folder(root: &Path, pipeline: &str) -> PathBuf {
    root.join("rejects").join(pipeline)
}

/// The names in a folder of ours, sorted; none where it is not there.
fn names_in(folder: &Path) -> Outcome<Vec<String>> {
    let entries = match std::fs::read_dir(folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(Failure::io("list the folder", folder, &error)),
    };
    let mut names = Vec::new();
    for entry in entries {
        let entry = entry.map_err(|e| Failure::io("list the folder", folder, &e))?;
        names.push(entry.file_name().to_string_lossy().into_owned());
    }
    names.sort();
    Ok(names)
}

/// What the names of records end in.
const RECORD: &str = ".jsonl";

pub(crate) struct FilesLanding {
    root: PathBuf,
    label: String,
    format: FileFormat,
    disk: Disk,
    /// The folders that all rows share.
    fixed: String,
    /// Of Parquet: what has landed once a batch is published, and the fixed part of the path.
    typed: Option<(shape::FileShape, String)>,
}

impl FilesLanding {
    pub(crate) fn new(root: PathBuf, label: &str, format: FileFormat, disk: Disk) -> Self {
        Self { root, label: label.into(), format, disk, fixed: String::new(), typed: None }
    }

    /// Where a ledger's batches of a lane are staged, below the root.
    fn staging(&self, ledger: &str, lane: &LaneId) -> PathBuf {
        Path::new(".sluice").join("staging").join(ledger).join(&self.label).join(lane.as_str())
    }

    /// Where the records of all lanes are kept.
    fn records(&self) -> PathBuf {
        records_of(&self.root, &self.label)
    }

    /// Compares the types of columns with those of what has landed.
    fn types(&self, settings: &Settings, columns: &[OutputColumn]) -> Outcome<(shape::FileShape, String)> {
        let schema = typed::file_schema(&schema_of(columns));
        let fixed = fixed_folder(&settings.options);
        let landed = shape::FileShape::landed(&self.records(), self.newest_file()?)?;
        let number = landed.as_ref().map_or(1, shape::FileShape::folder);
        let retyped = landed.as_ref().map_or_else(Vec::new, |landed| landed.retyped(&schema));
        if retyped.is_empty() {
            return Ok((shape::FileShape::and(landed.as_ref(), &schema, number), fixed));
        }
        match settings.options.text("new_types").as_deref() {
            Some("new_folder") => Ok((shape::FileShape::and(None, &schema, number + 1), fixed)),
            _ => Err(shape::refuse(&self.root.join(shape::moved(&fixed, &fixed, number)), &retyped)),
        }
    }

    /// The newest file of what has landed, by the records of all lanes.
    fn newest_file(&self) -> Outcome<Option<PathBuf>> {
        for lane in self.lanes()? {
            let files = self.record(&lane).last_files()?;
            if let Some(path) = files.iter().map(|path| self.root.join(path)).find(|path| path.exists()) {
                return Ok(Some(path));
            }
        }
        Ok(None)
    }

    /// The record of what landed of a lane.
    fn record(&self, lane: &LaneId) -> record::LandedRecord<'_> {
        record::LandedRecord::new(self.records().join(format!("{lane}{RECORD}")), &self.disk)
    }
}

impl Landing for FilesLanding {
    fn noted(&self, lane: &LaneId) -> Outcome<Option<NotedBatch>> {
        // What was begun is visible in part, and as good as landed.
        match begun::unfinished(self, lane)? {
            Some(begun) => Ok(Some(begun.noted)),
            None => self.record(lane).last(),
        }
    }

    fn holdings(&self, _: &[LaneId]) -> Outcome<Holdings> {
        let mut lanes = Vec::new();
        for lane in self.lanes()? {
            begun::finish(self, &lane)?;
            let batches = self.record(&lane).all()?;
            lanes.push(NotedLane { lane, batches, read_to: None });
        }
        Ok(Holdings { lanes, order: 0 })
    }

    fn lanes(&self) -> Outcome<Vec<LaneId>> {
        let names = names_in(&self.records())?;
        let lane = |name: &String| name.strip_suffix(RECORD).or(name.strip_suffix(begun::BEGUN)).map(LaneId::named);
        let lanes: BTreeSet<LaneId> = names.iter().filter_map(lane).collect();
        Ok(lanes.into_iter().collect())
    }

    fn recorded(&self) -> Outcome<Vec<String>> {
        let mut found = names_in(&self.root.join(".sluice").join("landed"))?;
        // Others may share the connection's folder, in folders of their own.
        let lands_here = |path: &String| self.fixed.is_empty() || path.starts_with(&format!("{}/", self.fixed));
        found.retain(|label| {
            let other = FilesLanding::new(self.root.clone(), label, FileFormat::Lines, self.disk.clone());
            let lanes = other.lanes().unwrap_or_default();
            lanes.iter().any(|lane| other.record(lane).last_files().is_ok_and(|files| files.iter().any(lands_here)))
        });
        Ok(found)
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

    fn withdraw(&self, batch: &BatchIdentity, work: &StagedWork) -> Outcome<()> {
        publish::withdraw(self, batch, work)
    }

    fn rejected(&self, work: &StagedWork) -> Outcome<Vec<String>> {
        stage::lines(&self.root, work)
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
