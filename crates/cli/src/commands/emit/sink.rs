//! Where emitted events go: a new file of a folder, a topic, or standard output.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use sluice_connect::broker::Sender;
use sluice_connect::landings::workload::{Change, Workload};
use sluice_core::failure::{Failure, FailureKind, Outcome};

use crate::args::{EmitArgs, EmitFormat};
use crate::place;
use crate::project::Project;
use crate::random::Random;

/// An opened sink.
pub(super) enum Sink {
    Stdout,
    File(File, PathBuf),
    Topic(Box<Sender>, String),
    Table(Box<TableSink>),
}

/// A table of a database.
pub(super) struct TableSink {
    workload: Workload,
    place: String,
    updates: f64,
    deletes: f64,
    random: Random,
    /// Rows inserted, updated and deleted.
    pub done: [u64; 3],
}

/// How far writing came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Written {
    GoOn,
    /// Nobody reads any more: the reader has had enough.
    Enough,
}

impl Sink {
    /// Opens what `--into` names.
    ///
    /// # Errors
    /// Where it cannot be written to.
    pub(super) fn open(args: &EmitArgs, project: Option<&Path>, name: &str, fields: &[String]) -> Outcome<Self> {
        let Some(into) = &args.into else { return Ok(Self::Stdout) };
        let is_folder = Path::new(into).exists() || into.contains(['/', '\\']) || !into.contains(':');
        if is_folder {
            return file(args, Path::new(into), name);
        }
        let (connection, topic) = into.split_once(':').unwrap_or((into, ""));
        let project = Project::need(project)?;
        let known = || project.config.connections.iter().map(|c| c.name.as_str());
        let Some(connection) = project.config.connection(connection) else {
            let failure = Failure::new(FailureKind::Configuration, format!("there is no connection `{connection}`"));
            let help = sluice_core::names::remedy(connection, "connections", known());
            return Err(failure.with_help(help.unwrap_or_else(|| "name a folder, or CONNECTION:TOPIC".into())));
        };
        if connection.scheme != "kafka" && !matches!(connection.scheme.as_str(), "file" | "screen") && !topic.is_empty()
        {
            let settings = project.surroundings().settings(connection, &connection.options);
            return Ok(Self::Table(Box::new(TableSink {
                workload: Workload::open(&settings, topic, fields, args.key.as_deref())?,
                place: into.clone(),
                updates: args.updates,
                deletes: args.deletes,
                random: Random::new(args.seed ^ 0x5bd1),
                done: [0; 3],
            })));
        }
        if connection.scheme != "kafka" || topic.is_empty() {
            return Err(Failure::new(FailureKind::Configuration, format!("`{into}` is neither a topic nor a table"))
                .with_help(
                    "name CONNECTION:TOPIC of a `kafka:` connection, CONNECTION:TABLE of a database, or a folder",
                ));
        }
        let settings = place::settings(&project, connection, topic)?;
        let sender = Sender::open(&settings, topic, args.partitions)?;
        Ok(Self::Topic(Box::new(sender), into.clone()))
    }

    /// The file, where it is one.
    pub(super) fn file(&self) -> Option<&Path> {
        match self {
            Self::File(_, path) => Some(path),
            _ => None,
        }
    }

    /// Rows of a table that were inserted, updated and deleted.
    pub(super) fn changes(&self) -> Option<[u64; 3]> {
        match self {
            Self::Table(table) => Some(table.done),
            _ => None,
        }
    }

    /// For people.
    pub(super) fn shown(&self) -> String {
        match self {
            Self::Stdout => "standard output".into(),
            Self::File(_, path) => path.display().to_string(),
            Self::Topic(_, place) => place.clone(),
            Self::Table(table) => table.place.clone(),
        }
    }

    /// Writes lines, or sends each as a message with its key and time.
    ///
    /// # Errors
    /// Where the outside refuses.
    pub(super) fn write(&mut self, lines: &[u8], keys: &[(Option<String>, Option<i64>)]) -> Outcome<Written> {
        match self {
            Self::Stdout => Ok(match crate::output::raw(lines) {
                Ok(()) => Written::GoOn,
                Err(_) => Written::Enough,
            }),
            Self::File(file, path) => {
                file.write_all(lines).map_err(|e| Failure::io("write", path, &e)).map(|()| Written::GoOn)
            }
            Self::Topic(sender, _) => {
                for (line, (key, time)) in lines.split(|b| *b == b'\n').zip(keys) {
                    sender.send(key.as_ref().map(String::as_bytes), line, *time)?;
                }
                sender.serve()?;
                Ok(Written::GoOn)
            }
            Self::Table(table) => {
                let TableSink { workload, updates, deletes, random, done, .. } = table.as_mut();
                let mut changes = Vec::new();
                for line in lines.split(|b| *b == b'\n').filter(|l| !l.is_empty()) {
                    let Ok(row) = serde_json::from_slice(line) else { continue };
                    let share = random.below(1_000_000) as f64 / 1e6;
                    let chosen = random.below(1 << 40);
                    let change = match share {
                        s if s < *deletes => Change::Delete(chosen),
                        s if s < *deletes + *updates => Change::Update(chosen),
                        _ => Change::Write,
                    };
                    changes.push((change, row));
                }
                let more = workload.change(changes)?;
                done.iter_mut().zip(more).for_each(|(sum, n)| *sum += n);
                Ok(Written::GoOn)
            }
        }
    }

    /// Waits until everything has arrived.
    ///
    /// # Errors
    /// Where something was refused.
    pub(super) fn finish(&mut self) -> Outcome<()> {
        if let Self::Topic(sender, _) = self {
            sender.finish()?;
        }
        Ok(())
    }
}

/// A new file of a folder.
fn file(args: &EmitArgs, folder: &Path, name: &str) -> Outcome<Sink> {
    std::fs::create_dir_all(folder).map_err(|e| Failure::io("make the folder", folder, &e))?;
    let ending = match args.format {
        EmitFormat::Jsonl => "jsonl",
        EmitFormat::Csv => "csv",
    };
    // Several may run side by side: each takes a file that is not there yet.
    for number in 1..=u32::MAX {
        let path = folder.join(format!("{name}-{}-{number}.{ending}", args.seed));
        match File::options().write(true).create_new(true).open(&path) {
            Ok(file) => return Ok(Sink::File(file, path)),
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(Failure::io("make", &path, &error)),
        }
    }
    Err(Failure::unreachable(format!("{} has no free name left", folder.display())))
}
