//! The columns of what has landed in files that say their types, and what happens where a column has another type now: readers of a folder
//! take the types of all of its files to be the same.
//!
//! They stand in `.sluice/landed/LANDING/columns`, written when a batch is published.

use std::fs::File;
use std::path::{Path, PathBuf};

use ::parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use arrow_schema::SchemaRef;
use serde::{Deserialize, Serialize};
use sluice_core::batch::LaneId;
use sluice_core::durable::Disk;
use sluice_core::failure::{Failure, FailureKind, Outcome};

/// The version of the file's form.
const VERSION: u32 = 1;

/// The columns of one landing, and the folder that rows of them have.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct FileShape {
    version: u32,
    /// 1 for the folders that the path names; more for those that came later.
    folder: u32,
    /// Names with the types of Arrow, as text.
    columns: Vec<(String, String)>,
}

/// A column that has landed with another type.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Retyped {
    pub column: String,
    pub landed: String,
    pub now: String,
}

impl FileShape {
    fn of(schema: &SchemaRef, folder: u32) -> Self {
        let columns = schema.fields().iter().map(|f| (f.name().clone(), f.data_type().to_string())).collect();
        Self { version: VERSION, folder, columns }
    }

    /// What has landed; None where nothing has. `newest` is a file of an older version, which kept no record of this.
    pub(super) fn landed(records: &Path, newest: Option<PathBuf>) -> Outcome<Option<Self>> {
        let path = place(records);
        match std::fs::read(&path) {
            Ok(bytes) => {
                let shape: Self = serde_json::from_slice(&bytes).map_err(|e| {
                    Failure::findings(format!("the record {} cannot be read: {e}", path.display()))
                        .with_help("it was edited; restore it")
                })?;
                if shape.version > VERSION {
                    let message = format!("the record {} was written by a newer version of sluice", path.display());
                    return Err(Failure::findings(message).with_help("use that version"));
                }
                Ok(Some(shape))
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                let schema = newest.and_then(|path| File::open(path).ok()).and_then(|file| {
                    ParquetRecordBatchReaderBuilder::try_new(file).ok().map(|reader| reader.schema().clone())
                });
                Ok(schema.map(|schema| Self::of(&schema, 1)))
            }
            Err(error) => Err(Failure::io("read", &path, &error)),
        }
    }

    /// Columns that land with other types than they have landed.
    pub(super) fn retyped(&self, schema: &SchemaRef) -> Vec<Retyped> {
        let now = Self::of(schema, self.folder);
        let other = |(column, ty): &(String, String)| {
            let (_, landed) = self.columns.iter().find(|(name, _)| name == column)?;
            (landed != ty).then(|| Retyped { column: column.clone(), landed: landed.clone(), now: ty.clone() })
        };
        now.columns.iter().filter_map(other).collect()
    }

    /// What is kept once rows of a schema have landed: columns that land no more are still in older files.
    pub(super) fn and(before: Option<&Self>, schema: &SchemaRef, folder: u32) -> Self {
        let mut shape = Self::of(schema, folder);
        if let Some(before) = before.filter(|b| b.folder == folder) {
            let is_new = |(name, _): &&(String, String)| !shape.columns.iter().any(|(n, _)| n == name);
            let kept: Vec<_> = before.columns.iter().filter(is_new).cloned().collect();
            shape.columns.extend(kept);
        }
        shape
    }

    /// The number of the folder.
    pub(super) fn folder(&self) -> u32 {
        self.folder
    }

    /// Keeps it, where it is not kept already. Lanes publish at the same time: each writes a file of its own first.
    pub(super) fn keep(&self, lane: &LaneId, records: &Path, disk: &Disk) -> Outcome<()> {
        if Self::landed(records, None)?.as_ref() == Some(self) {
            return Ok(());
        }
        disk.make_folders(records)?;
        let bytes = serde_json::to_vec(self).map_err(|e| Failure::internal(e.to_string()))?;
        let hidden = records.join(format!(".columns-{lane}"));
        disk.write_file(&hidden, &bytes)?;
        disk.rename(&hidden, &place(records))?;
        disk.sync_folder(records)
    }
}

fn place(records: &Path) -> PathBuf {
    records.join("columns")
}

/// The failure of a landing whose columns have other types than what has landed.
pub(super) fn refuse(folder: &Path, retyped: &[Retyped]) -> Failure {
    let one = |r: &Retyped| format!("`{}` landed as {} and is {} now", r.column, r.landed, r.now);
    let all: Vec<String> = retyped.iter().map(one).collect();
    let message = format!("{} holds files with other types: {}", folder.display(), all.join("; "));
    Failure::new(FailureKind::Configuration, message).with_help(
        "readers expect one type per column in a folder. Cast the column back, rename it, or write new_types = \
         \"new_folder\" into the landing: new rows then get a folder of their own",
    )
}

/// The folder of rows after so many changes of types: the fixed part of the path with the number after it.
pub(super) fn moved(folder: &str, fixed: &str, number: u32) -> String {
    if number <= 1 {
        return folder.into();
    }
    match folder.strip_prefix(fixed).filter(|_| !fixed.is_empty()) {
        Some(rest) => format!("{fixed}-{number}{rest}"),
        None if folder.is_empty() => format!("types-{number}"),
        None => format!("types-{number}/{folder}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_schema::{DataType, Field, Schema};
    use rstest::rstest;
    use std::sync::{Arc, Barrier};

    #[test]
    fn lanes_keep_the_columns_at_the_same_time() {
        let folder = tempfile::tempdir().unwrap();
        let (records, together) = (folder.path().join("landed"), Barrier::new(4));
        let schema: SchemaRef = Arc::new(Schema::new(vec![Field::new("ticket", DataType::Utf8, false)]));
        std::thread::scope(|scope| {
            for lane in 0..4 {
                let (records, together, schema) = (&records, &together, &schema);
                scope.spawn(move || {
                    for round in 0..50 {
                        together.wait();
                        let shape = FileShape::and(None, schema, lane * 1000 + round);
                        shape.keep(&LaneId::named(format!("weighing.0.{lane}")), records, &Disk::default()).unwrap();
                    }
                });
            }
        });
        assert!(FileShape::landed(&records, None).unwrap().is_some());
        assert_eq!(std::fs::read_dir(&records).unwrap().count(), 1, "nothing half written stays");
    }

    #[rstest]
    #[case("all/2026", "all", 1, "all/2026")]
    #[case("all/2026", "all", 3, "all-3/2026")]
    #[case("all", "all", 2, "all-2")]
    #[case("lock=7", "", 2, "types-2/lock=7")]
    #[case("", "", 2, "types-2")]
    fn rows_of_other_types_have_folders_of_their_own(
        #[case] folder: &str,
        #[case] fixed: &str,
        #[case] number: u32,
        #[case] expected: &str,
    ) {
        assert_eq!(moved(folder, fixed, number), expected);
    }
}
