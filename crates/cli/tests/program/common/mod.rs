//! A project in a temporary folder, and the built program run on it with a clean environment.
#![allow(unreachable_pub, reason = "shared by all tests, by nobody else")]
#![cfg_attr(
    not(feature = "failpoints"),
    allow(dead_code, reason = "tests that kill the program at named points use the rest")
)]

pub mod feeds;
pub mod feeds_mariadb;
pub mod grammar;
pub mod running;
pub mod tables;
pub mod topics;
pub mod work;

use std::collections::BTreeMap;
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use arrow_array::cast::AsArray as _;
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use serde_json::Value;

pub const PROJECT: &str = "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n[connection.archive]\nurl = \"file:archive\"\n";

/// Two landings, small batches: `archive` takes all, `heavy` only some.
pub const PIPELINE: &str = r#"
pipeline = "weighings"
batch    = { rows = 100, every = "1h" }
rejects  = { share = "50%", least = 1000 }

[event.weighing]
fields = "ticket text not null, day date not null, gross_kg integer not null"

[event.weighing.arrives]
at    = "depots"
match = "*.jsonl"

[event.weighing.lands.archive]
at   = "archive"
path = "all/{day:%Y/%m/%d}"

[event.weighing.lands.heavy]
at      = "archive"
path    = "heavy"
format  = "jsonl"
when    = "gross_kg > 500"
columns = "ticket, gross_kg"
"#;

pub struct TestProject {
    folder: tempfile::TempDir,
}

impl TestProject {
    pub fn empty() -> Self {
        Self { folder: tempfile::tempdir().unwrap() }
    }

    pub fn new(pipeline: &str) -> Self {
        let project = Self::empty();
        project.write("sluice.toml", PROJECT);
        project.write("pipelines/weighings.toml", pipeline);
        fs::create_dir(project.path("depots")).unwrap();
        project
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        let path = self.path(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn append(&self, name: &str, text: impl AsRef<[u8]>) {
        let mut file = fs::File::options().create(true).append(true).open(self.path(name)).unwrap();
        file.write_all(text.as_ref()).unwrap();
    }

    /// The program, not yet started, with nothing of this environment.
    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(assert_cmd::cargo::cargo_bin!("sluice"));
        command.args(arguments).current_dir(self.folder.path()).env_clear().env("NO_COLOR", "1").stdin(Stdio::null());
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    /// Runs the program, which must exit with `code`; gives what it wrote on both streams.
    pub fn expect(&self, code: i32, arguments: &[&str]) -> (String, String) {
        let output = self.run(arguments);
        let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
        let (out, err) = (text(&output.stdout), text(&output.stderr));
        assert_eq!(output.status.code(), Some(code), "sluice {arguments:?}\n{out}\n{err}");
        (out, err)
    }

    /// Runs the program with JSON output.
    pub fn json(&self, arguments: &[&str]) -> Value {
        self.json_of(0, arguments)
    }

    /// The same for another exit code.
    pub fn json_of(&self, code: i32, arguments: &[&str]) -> Value {
        let (out, _) = self.expect(code, &[arguments, &["--output", "json"]].concat());
        serde_json::from_str(&out).unwrap()
    }

    /// How often each ticket has landed in the Parquet files of `archive/all`.
    pub fn archived(&self) -> BTreeMap<String, u32> {
        let mut found = BTreeMap::new();
        for path in visible_files(&self.path("archive/all")) {
            assert_eq!(path.extension().unwrap(), "parquet", "a stray file: {}", path.display());
            for ticket in parquet_texts(&path) {
                *found.entry(ticket).or_default() += 1;
            }
        }
        found
    }

    /// How often each ticket has landed in the JSON Lines of `archive/heavy`.
    pub fn heavy(&self) -> BTreeMap<String, u32> {
        let mut found = BTreeMap::new();
        for path in visible_files(&self.path("archive/heavy")) {
            assert_eq!(path.extension().unwrap(), "jsonl", "a stray file: {}", path.display());
            for line in fs::read_to_string(&path).unwrap().lines() {
                let value: Value = serde_json::from_str(line).unwrap();
                *found.entry(value["ticket"].as_str().unwrap().to_string()).or_default() += 1;
            }
        }
        found
    }

    /// The rejected bytes, as often as they were rejected.
    pub fn rejected(&self) -> Vec<String> {
        let mut lines: Vec<String> = visible_files(&self.path("rejects/weighings"))
            .iter()
            .flat_map(|p| fs::read_to_string(p).unwrap().lines().map(str::to_string).collect::<Vec<_>>())
            .map(|line| serde_json::from_str::<Value>(&line).unwrap()["bytes"].as_str().unwrap().to_string())
            .collect();
        lines.sort();
        lines
    }

    /// Files that wait in hidden staging folders.
    pub fn staged_files(&self) -> Vec<PathBuf> {
        ["archive/.sluice/staging", "rejects/weighings/.sluice/staging"]
            .iter()
            .flat_map(|f| all_files(&self.path(f), true))
            .collect()
    }
}

/// Files that a reader of the folder sees.
/// What a program of the Python for tests prints, line by line, in the project's folder; None where there is none.
pub fn python<A: AsRef<std::ffi::OsStr>>(project: &TestProject, program: &str, arguments: &[A]) -> Option<Vec<String>> {
    let Some(python) = std::env::var_os("SLUICE_TEST_PYTHON") else {
        assert!(std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "SLUICE_TEST_PYTHON is not set");
        eprintln!("skipped: SLUICE_TEST_PYTHON is not set");
        return None;
    };
    let output =
        Command::new(python).args(["-c", program]).args(arguments).current_dir(project.path(".")).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    Some(String::from_utf8(output.stdout).unwrap().lines().map(str::to_string).collect())
}

pub fn visible_files(folder: &Path) -> Vec<PathBuf> {
    all_files(folder, false)
}

fn all_files(folder: &Path, hidden: bool) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).into_iter().flatten() {
        let path = entry.unwrap().path();
        if !hidden && path.file_name().unwrap().to_string_lossy().starts_with('.') {
            continue;
        }
        if path.is_dir() { found.extend(all_files(&path, hidden)) } else { found.push(path) }
    }
    found.sort();
    found
}

/// The first column of a Parquet file, which must be whole.
pub fn parquet_texts(path: &Path) -> Vec<String> {
    let reader = ParquetRecordBatchReaderBuilder::try_new(fs::File::open(path).unwrap()).unwrap().build().unwrap();
    reader
        .flat_map(|batch| {
            let batch = batch.unwrap();
            batch.column(0).as_string::<i32>().iter().flatten().map(str::to_string).collect::<Vec<_>>()
        })
        .collect()
}

/// Lines of weighings numbered from `from`: every 50th is broken. What must land, and what must be rejected.
#[derive(Default)]
pub struct Expected {
    pub archive: BTreeMap<String, u32>,
    pub heavy: BTreeMap<String, u32>,
    pub rejected: Vec<String>,
}

impl Expected {
    pub fn lines(&mut self, from: u32, count: u32) -> String {
        let mut text = String::new();
        for number in from..from + count {
            let ticket = format!("T{number:06}");
            let gross = number % 1000;
            let line = match number % 50 {
                7 => {
                    format!("{{\"ticket\":\"{ticket}\",\"day\":\"2026-04-0{}\",\"gross_kg\":\"much\"}}", 1 + number % 3)
                }
                _ => {
                    format!("{{\"ticket\":\"{ticket}\",\"day\":\"2026-04-0{}\",\"gross_kg\":{gross}}}", 1 + number % 3)
                }
            };
            text.push_str(&line);
            text.push('\n');
            if number % 50 == 7 {
                self.rejected.push(line);
                continue;
            }
            if gross > 500 {
                self.heavy.insert(ticket.clone(), 1);
            }
            self.archive.insert(ticket, 1);
        }
        self.rejected.sort();
        text
    }

    /// Every event landed exactly once, no half or stray file is visible, everything balances.
    pub fn check(&self, project: &TestProject) {
        assert_same(&project.archived(), &self.archive, "archive");
        assert_same(&project.heavy(), &self.heavy, "heavy");
        assert_eq!(project.rejected(), self.rejected);
        assert_eq!(project.staged_files(), Vec::<PathBuf>::new());
        let batches = project.json(&["ledger", "weighings", "--show", "1000000"])["batches"].clone();
        let (mut numbers, mut read) = (Vec::new(), 0);
        for batch in batches.as_array().unwrap() {
            assert_eq!(batch["state"], "settled");
            numbers.push(batch["number"].as_u64().unwrap());
            read += batch["read"].as_u64().unwrap();
            for count in batch["counts"].as_array().unwrap() {
                let n = |key: &str| count[key].as_u64().unwrap();
                assert_eq!(
                    n("input"),
                    n("output") + n("filtered") + n("merged") + n("rejected") + n("held"),
                    "{count}"
                );
            }
        }
        assert_eq!(numbers, (1..=numbers.len() as u64).collect::<Vec<_>>(), "numbers have no gap");
        assert_eq!(read, (self.archive.len() + self.rejected.len()) as u64);
    }
}

fn assert_same(found: &BTreeMap<String, u32>, expected: &BTreeMap<String, u32>, what: &str) {
    let missing: Vec<_> = expected.keys().filter(|k| !found.contains_key(*k)).take(5).collect();
    let wrong: Vec<_> = found.iter().filter(|(k, n)| expected.get(*k) != Some(n)).take(5).collect();
    assert!(missing.is_empty() && wrong.is_empty(), "{what}: missing {missing:?}, doubled or strange {wrong:?}");
}
