//! Files as a landing: the shared suite, and a crash after every storage call.

use std::collections::BTreeMap;
use std::fs;
use std::sync::{Arc, Mutex};

use ::parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use arrow_array::cast::AsArray as _;
use rstest::rstest;
use sluice_core::durable::{DiskCall, Recorder};
use sluice_core::formats::Csv;
use sluice_core::formats::csv::Dialect;

use super::*;
use crate::landings::suite::{self, Store};

const PARQUET: FileFormat = FileFormat::Parquet { row_group: 1000, compressed: true };

struct FilesStore {
    folder: tempfile::TempDir,
    format: FileFormat,
}

impl FilesStore {
    fn new(format: FileFormat) -> Self {
        Self { folder: tempfile::tempdir().unwrap(), format }
    }
}

impl Store for FilesStore {
    fn landing(&self) -> Box<dyn Landing> {
        Box::new(FilesLanding::new(
            self.folder.path().into(),
            "p.weighing.archive",
            self.format.clone(),
            Disk::default(),
        ))
    }

    fn visible(&self) -> Vec<String> {
        let mut texts: Vec<String> = files(self.folder.path(), false).iter().flat_map(|f| texts(f)).collect();
        texts.sort();
        texts
    }
}

/// All files below a folder, those in hidden folders only if asked.
fn files(folder: &Path, hidden: bool) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let is_hidden = path.file_name().unwrap().to_str().unwrap().starts_with('.');
        match path.is_dir() {
            true if hidden || !is_hidden => found.extend(files(&path, hidden)),
            false => found.push(path),
            true => {}
        }
    }
    found
}

/// The first column of a file, which must be whole.
fn texts(path: &Path) -> Vec<String> {
    if path.extension().unwrap() == "parquet" {
        let reader = ParquetRecordBatchReaderBuilder::try_new(fs::File::open(path).unwrap()).unwrap().build().unwrap();
        let of = |batch: arrow_array::RecordBatch| {
            batch.column(0).as_string::<i32>().iter().flatten().map(str::to_string).collect::<Vec<_>>()
        };
        return reader.flat_map(|b| of(b.unwrap())).collect();
    }
    let whole =
        [("arrow", Form::Arrow), ("avro", Form::Avro)].into_iter().find(|(e, _)| path.extension().unwrap() == *e);
    if let Some((_, form)) = whole {
        let mut stored = look::open(vec![look::one_file(path).unwrap()], &form, None).unwrap();
        let mut found = Vec::new();
        while let Some(rows) = stored.next().unwrap() {
            found.extend(rows.column(0).as_string::<i32>().iter().flatten().map(str::to_string));
        }
        return found;
    }
    let text = fs::read_to_string(path).unwrap();
    if path.extension().unwrap() == "csv" {
        let mut records = text.lines().map(|l| l.split(',').next().unwrap().to_string());
        assert_eq!(records.next().unwrap(), "text", "the head comes first");
        return records.collect();
    }
    text.lines()
        .map(|line| match serde_json::from_str::<serde_json::Value>(line) {
            Ok(value) => value["text"].as_str().unwrap().to_string(),
            Err(_) => line.to_string(),
        })
        .collect()
}

fn json_lines() -> FileFormat {
    FileFormat::Text(Arc::new(JsonLines))
}

#[rstest]
#[case::parquet(PARQUET)]
#[case::arrow(FileFormat::Arrow { compressed: true })]
#[case::avro(FileFormat::Avro { compression: AvroCompression::Deflate })]
#[case::json_lines(json_lines())]
#[case::csv(FileFormat::Text(Csv::writer(Dialect::default())))]
#[case::lines(FileFormat::Lines)]
fn the_shared_suite(
    #[case] format: FileFormat,
    #[values(
        suite::rows_appear_when_published,
        suite::publishing_twice_lands_once,
        suite::unsealed_work_is_forgotten,
        suite::an_empty_batch_lands,
        suite::ledgers_do_not_touch_each_others_work,
        suite::holdings_report_all_batches
    )]
    test: fn(&dyn Store),
) {
    test(&FilesStore::new(format));
}

#[test]
fn many_folders_do_not_need_many_open_files() {
    let store = FilesStore::new(PARQUET);
    let names: Vec<String> = (0..300).map(|i| format!("d{i}")).collect();
    let landing = store.landing();
    let mut stage = landing.stage(&suite::identity(1), &suite::order(1)).unwrap();
    for round in ["a", "b"] {
        for name in &names {
            stage.write(suite::rows(name, &[round])).unwrap();
        }
    }
    let work = stage.finish().unwrap();
    suite::publish(landing.as_ref(), 1, &work).unwrap();
    assert_eq!(store.visible().len(), 600);
}

#[test]
fn a_torn_record_is_fixed_by_the_next_batch() {
    let store = FilesStore::new(json_lines());
    let landing = store.landing();
    for number in 1..=2 {
        let work = suite::stage(landing.as_ref(), number, &[("", &["a"])]);
        suite::publish(landing.as_ref(), number, &work).unwrap();
    }
    let record = store.folder.path().join(".sluice/landed/p.weighing.archive/weighing.0.0.jsonl");
    let text = fs::read_to_string(&record).unwrap();
    fs::write(&record, &text[..text.len() - 9]).unwrap();
    // What was begun counts as held, though its record is torn.
    assert_eq!(landing.noted(&suite::lane()).unwrap().unwrap().number, 2);
    fs::remove_file(record.with_extension("begun")).unwrap();
    assert_eq!(landing.noted(&suite::lane()).unwrap().unwrap().number, 1);
    let work = suite::stage(landing.as_ref(), 3, &[("", &["c"])]);
    suite::publish(landing.as_ref(), 3, &work).unwrap();
    assert_eq!(landing.noted(&suite::lane()).unwrap().unwrap().number, 3);
}

#[test]
fn a_staged_file_that_is_gone_is_a_finding() {
    let store = FilesStore::new(json_lines());
    let landing = store.landing();
    let work = suite::stage(landing.as_ref(), 1, &[("", &["a"])]);
    fs::remove_dir_all(store.folder.path().join(".sluice/staging")).unwrap();
    let failure = suite::publish(landing.as_ref(), 1, &work).unwrap_err();
    assert_eq!(failure.kind, sluice_core::failure::FailureKind::Findings);
}

/// What a disk holds for sure: synced bytes under synced names. Everything else may be lost in a crash.
#[derive(Clone, Default)]
struct SafeDisk {
    /// Synced contents by the name that the file has now, durable or not.
    synced: BTreeMap<PathBuf, Vec<u8>>,
    /// Names as the folders hold them now.
    names: BTreeMap<PathBuf, PathBuf>,
    /// Names as the disk holds them: what a crash leaves.
    durable: BTreeMap<PathBuf, PathBuf>,
}

struct Crashes {
    root: PathBuf,
    disk: Mutex<SafeDisk>,
    /// The durable files after each call.
    after: Mutex<Vec<BTreeMap<PathBuf, Vec<u8>>>>,
}

impl Recorder for Crashes {
    fn record(&self, call: DiskCall) {
        let mut disk = self.disk.lock().unwrap();
        match call {
            DiskCall::SyncFile(path) => {
                let bytes = fs::read(&path).unwrap();
                disk.synced.insert(path.clone(), bytes);
                disk.names.insert(path.clone(), path);
            }
            DiskCall::Append(path) => {
                disk.names.entry(path.clone()).or_insert(path);
            }
            DiskCall::Rename(from, to) => {
                if let Some(bytes) = disk.synced.remove(&from) {
                    disk.synced.insert(to.clone(), bytes);
                }
                disk.names.remove(&from);
                disk.names.insert(to.clone(), to.clone());
                // The bytes stay reachable under the old name until the folder is synced.
                let stale = disk.durable.contains_key(&from);
                if stale {
                    disk.durable.insert(from, to);
                }
            }
            DiskCall::SyncFolder(folder) => {
                let here = |p: &PathBuf| p.parent() == Some(folder.as_path());
                disk.durable.retain(|p, _| !here(p));
                let now: Vec<_> =
                    disk.names.iter().filter(|(p, _)| here(p)).map(|(a, b)| (a.clone(), b.clone())).collect();
                disk.durable.extend(now);
            }
            DiskCall::Remove(path) => {
                disk.names.retain(|p, _| !p.starts_with(&path));
            }
            DiskCall::MakeFolder(_) => {}
        }
        let files = disk.durable.iter().filter_map(|(name, file)| {
            Some((name.strip_prefix(&self.root).unwrap().into(), disk.synced.get(file)?.clone()))
        });
        self.after.lock().unwrap().push(files.collect());
    }
}

fn copy_of(folder: &Path) -> tempfile::TempDir {
    let copy = tempfile::tempdir().unwrap();
    for path in files(folder, true) {
        let to = copy.path().join(path.strip_prefix(folder).unwrap());
        fs::create_dir_all(to.parent().unwrap()).unwrap();
        fs::copy(&path, to).unwrap();
    }
    copy
}

/// Publishes a batch while every storage call is recorded; then, for each prefix of the calls, lays out what a crash
/// would have left on the disk, publishes again, and looks.
#[rstest]
#[case::parquet(PARQUET)]
#[case::arrow(FileFormat::Arrow { compressed: true })]
#[case::avro(FileFormat::Avro { compression: AvroCompression::Deflate })]
#[case::json_lines(json_lines())]
#[case::csv(FileFormat::Text(Csv::writer(Dialect::default())))]
fn a_crash_after_any_storage_call_loses_and_doubles_nothing(#[case] format: FileFormat) {
    let real = tempfile::tempdir().unwrap();
    let crashes = Arc::new(Crashes { root: real.path().into(), disk: Mutex::default(), after: Mutex::default() });
    let disk = Disk::recorded(Arc::clone(&crashes) as Arc<dyn Recorder>);
    let landing = FilesLanding::new(real.path().into(), "p.weighing.archive", format.clone(), disk);
    let parts: &[(&str, &[&str])] = &[("x", &["a", "b"]), ("y/z", &["c"]), ("", &["d"])];
    let first = suite::stage(&landing, 1, &[("x", &["0"])]);
    suite::publish(&landing, 1, &first).unwrap();
    let work = suite::stage(&landing, 2, parts);
    // Sealing comes here: whatever is lost from now on must not matter.
    let sealed_at = crashes.after.lock().unwrap().len();
    suite::publish(&landing, 2, &work).unwrap();
    let states = crashes.after.lock().unwrap().clone();
    assert!(states.len() - sealed_at >= 8, "staging and publishing make many calls");
    for (i, state) in states.iter().enumerate().skip(sealed_at - 1) {
        let folder = tempfile::tempdir().unwrap();
        for (name, bytes) in state {
            let path = folder.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, bytes).unwrap();
        }
        // If the ledger is lost as well, the batch is found whole or not at all.
        let lost = FilesStore { folder: copy_of(folder.path()), format: format.clone() };
        let noted = lost.landing().noted(&suite::lane()).unwrap().unwrap().number;
        let recorded = lost.landing().holdings(&[]).unwrap().lanes.remove(0).batches.last().unwrap().number;
        assert_eq!(noted, recorded, "after call {i}");
        let whole: &[&str] = if noted == 2 { &["0", "a", "b", "c", "d"] } else { &["0"] };
        assert_eq!(lost.visible(), whole, "after call {i}");
        let store = FilesStore { folder, format: format.clone() };
        let before = store.visible();
        assert!(
            before.iter().all(|t| ["0", "a", "b", "c", "d"].contains(&t.as_str())),
            "only whole files, after call {i}"
        );
        suite::publish(store.landing().as_ref(), 2, &work).unwrap_or_else(|e| panic!("after call {i}: {e}"));
        assert_eq!(store.visible(), ["0", "a", "b", "c", "d"], "after call {i}");
        assert_eq!(store.landing().noted(&suite::lane()).unwrap().unwrap().number, 2);
    }
}

/// A batch that takes the place of another one: each file is replaced by one of the same folder, what is left over goes.
#[rstest]
fn a_batch_takes_the_place_of_another(#[values(1, 2)] times: usize) {
    let store = FilesStore::new(json_lines());
    let landing = store.landing();
    let old = suite::stage(landing.as_ref(), 1, &[("x", &["a", "b"]), ("y", &["c"])]);
    suite::publish(landing.as_ref(), 1, &old).unwrap();
    let other = suite::stage(landing.as_ref(), 2, &[("x", &["d"])]);
    suite::publish(landing.as_ref(), 2, &other).unwrap();
    let out_of_order = BatchIdentity { lane: suite::lane().out_of_order(1), ..suite::identity(1) };
    let mut stage = landing.stage(&out_of_order, &suite::order_after(9, &suite::identity(1))).unwrap();
    for (folder, text) in [("x", "A"), ("z", "B")] {
        stage.write(suite::rows(folder, &[text])).unwrap();
    }
    let work = landing.take_place(std::slice::from_ref(&old), stage.finish().unwrap(), true).unwrap();
    assert_eq!(store.visible(), ["a", "b", "c", "d"], "nothing is seen before it is published");
    for _ in 0..times {
        store.landing().publish(&out_of_order, &suite::ranges(1), &work).unwrap();
    }
    assert_eq!(store.visible(), ["A", "B", "d"]);
    // The record of the lane itself still ends with its last batch.
    assert_eq!(store.landing().noted(&suite::lane()).unwrap().unwrap().number, 2);
}

/// On a file system that folds case, or normalises letters, two folders are one: their files still have two names.
#[test]
fn folders_that_a_file_system_may_take_for_one_do_not_share_a_file() {
    let store = FilesStore::new(json_lines());
    let landing = store.landing();
    let composed = ["lock=Upper", "lock=upper", "lock=\u{e9}", "lock=e\u{301}"];
    let parts: Vec<(&str, &[&str])> = composed.iter().map(|folder| (*folder, &["a"][..])).collect();
    let work = suite::stage(landing.as_ref(), 1, &parts);
    let files = work.detail["files"].as_array().unwrap();
    let name = |f: &serde_json::Value| Path::new(f["path"].as_str().unwrap()).file_name().unwrap().to_owned();
    let names: std::collections::BTreeSet<_> = files.iter().map(name).collect();
    assert_eq!(names.len(), 4, "{files:?}");
}

/// What keeps a folder from being made is said before a batch is sealed: afterwards nothing could help.
#[test]
fn a_folder_that_cannot_be_made_is_said_while_staging() {
    let store = FilesStore::new(json_lines());
    let landing = store.landing();
    let work = suite::stage(landing.as_ref(), 1, &[("x", &["a"])]);
    suite::publish(landing.as_ref(), 1, &work).unwrap();
    let file = work.detail["files"][0]["path"].as_str().unwrap().to_string();
    let mut stage = landing.stage(&suite::identity(2), &suite::order(2)).unwrap();
    // Where the folder should be stands a file.
    assert!(stage.write(suite::rows(&file, &["b"])).is_err());
    let mut stage = landing.stage(&suite::identity(3), &suite::order(3)).unwrap();
    assert!(stage.write(suite::rows(&"y".repeat(256), &["b"])).is_err());
}
