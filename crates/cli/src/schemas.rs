//! Schemas that the command line names, for messages of a topic.

use std::path::{Path, PathBuf};

use sluice_core::config::{OptionValue, Options};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::formats::avro::{self, Avro};
use sluice_core::formats::protobuf::{self, Protobuf};
use sluice_core::problem::{Place as FilePlace, SourceText};

use crate::place::{Place, from_root};
use crate::project::Project;

/// Files that one of Protobuf may import, with all that these import.
const MOST_IMPORTS: usize = 200;

/// A schema as the command line names it.
#[derive(Clone, Copy, Debug)]
pub(crate) struct NamedSchema<'a> {
    /// Its file.
    pub file: Option<&'a Path>,
    /// The message type in it.
    pub message: Option<&'a str>,
}

/// The place with the schema of its messages, which is kept by its path from the project's folder.
pub(crate) fn with_schema(project: Option<&Project>, mut place: Place, schema: NamedSchema<'_>) -> Outcome<Place> {
    let Some(file) = schema.file else { return Ok(place) };
    let wrong = |message: String, help: &str| Failure::new(FailureKind::Configuration, message).with_help(help);
    let refused = || {
        let help = "Avro files bring their schema along; a pipeline names it itself: avro = { schema = \"FILE\" }";
        wrong("--schema is for messages of a topic".into(), help)
    };
    let (Place::Files(settings), Some(project)) = (&mut place, project) else { return Err(refused()) };
    if settings.connection.scheme != "kafka" {
        return Err(refused());
    }
    let full = file.canonicalize().map_err(|e| Failure::io("look at", file, &e))?;
    let bytes = std::fs::read(&full).map_err(|e| Failure::io("read", file, &e))?;
    let in_file = FilePlace::new(&SourceText::new("", ""), 0..0);
    let is_avro = matches!(bytes.trim_ascii_start().first(), Some(b'{' | b'[' | b'"'));
    let (format, mut table, files) = if is_avro {
        if schema.message.is_some() {
            return Err(wrong("--message is for schemas of Protobuf".into(), "a schema of Avro has one record"));
        }
        let path = from_root(project, &full);
        let text = String::from_utf8_lossy(&bytes);
        Avro::of_schema(&path, &text).map_err(|why| {
            let help = "it is the JSON of one record; a recursive schema cannot be read";
            wrong(format!("{} is not an Avro schema: {why}", file.display()), help)
        })?;
        ("avro", Options::empty(vec![avro::OPTIONS], in_file.clone()), vec![(path, bytes)])
    } else {
        let files = with_imports(project, &full, bytes)?;
        let format = Protobuf::of_schema(&files, schema.message).map_err(|why| {
            let help = match why.contains("several messages") {
                true => "say which one the topic holds: --message NAME",
                false => {
                    "a .proto file ends in .proto, and what it imports is looked for beside it and in the folders above"
                }
            };
            wrong(format!("{} is not a schema of Protobuf that can be used: {why}", file.display()), help)
        })?;
        let mut table = Options::empty(vec![protobuf::OPTIONS], in_file.clone());
        if let Some(message) = format.message_name() {
            table.set("message", OptionValue::Text(message.into()), in_file.clone());
        }
        ("protobuf", table, files)
    };
    table.set("schema", OptionValue::Files(files), in_file.clone());
    settings.options.set("format", OptionValue::Text(format.into()), in_file.clone());
    settings.options.set(format, OptionValue::Table(table), in_file);
    Ok(place)
}

/// A file of Protobuf with those that it imports, each by its path from the project's folder. An import is looked for in the
/// file's folder and in those above it, as far as the project's.
fn with_imports(project: &Project, file: &Path, bytes: Vec<u8>) -> Outcome<Vec<(String, Vec<u8>)>> {
    let root = project.root.canonicalize().unwrap_or_else(|_| project.root.clone());
    let mut found: Vec<(PathBuf, Vec<u8>)> = vec![(file.to_path_buf(), bytes)];
    let mut at = 0;
    while let Some((path, bytes)) = found.get(at) {
        at += 1;
        let mut folders: Vec<PathBuf> = path.ancestors().skip(1).map(Path::to_path_buf).collect();
        if let Some(end) = folders.iter().position(|folder| *folder == root) {
            folders.truncate(end + 1);
        }
        let imports = protobuf::imports(&path.to_string_lossy(), bytes);
        for import in imports {
            // What is missing is reported with the place that imports it, by whoever reads the files.
            let is_file = |path: &PathBuf| path.is_file();
            let Some(there) = folders.iter().map(|folder| folder.join(&import)).find(is_file) else { continue };
            let there = there.canonicalize().map_err(|e| Failure::io("look at", &there, &e))?;
            if found.len() < MOST_IMPORTS && !found.iter().any(|(path, _)| *path == there) {
                let bytes = std::fs::read(&there).map_err(|e| Failure::io("read", &there, &e))?;
                found.push((there, bytes));
            }
        }
    }
    Ok(found.into_iter().map(|(path, bytes)| (from_root(project, &path), bytes)).collect())
}
