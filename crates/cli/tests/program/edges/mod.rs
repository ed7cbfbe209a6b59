//! The ways around the straight path, driven with the built program on files and SQLite: adopting, second checkouts,
//! reading again in any order, renamed events, files that are replaced, rotated or linked, names that cannot be made.

mod adopt;
mod again;
mod files;
#[cfg(feature = "failpoints")]
mod kills;
mod names;

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::symlink;

use crate::common::{TestProject, visible_files};
use rstest::rstest;
use serde_json::Value;

const PROJECT: &str = "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n[connection.archive]\nurl = \
                       \"file:archive\"\n[connection.office]\nurl = \"sqlite:office.db\"\n";

const RUN: &[&str] = &["run", "tickets", "--until-caught-up"];
const ADOPT: &[&str] = &["run", "tickets", "--until-caught-up", "--adopt"];

/// The content of the pipeline file.
#[derive(Clone)]
struct File {
    event: &'static str,
    rows: u32,
    /// Whether the contract takes every event.
    fixed: bool,
    third: bool,
}

impl Default for File {
    fn default() -> Self {
        Self { event: "ticket", rows: 20, fixed: false, third: false }
    }
}

impl File {
    fn text(&self) -> String {
        let Self { event, rows, fixed, third } = self;
        let ty = if *fixed { "text" } else { "integer" };
        let mut text = format!(
            "pipeline = \"tickets\"\nbatch = {{ rows = {rows}, every = \"1h\" }}\nrejects = {{ share = \"100%\", least = \
             1000000 }}\n[event.{event}]\nfields = \"n integer not null, kg {ty} not null\"\n[event.{event}.arrives]\nat = \
             \"depots\"\nmatch = \"*.jsonl\"\n[event.{event}.lands.all]\nat = \"archive\"\npath = \"all\"\nformat = \
             \"jsonl\"\ncolumns = \"n\"\n[event.{event}.lands.desk]\nat = \"office\"\ntable = \"ticket\"\nlineage = \
             true\ncreate = true\ncolumns = \"n\"\n"
        );
        if *third {
            text.push_str(&format!(
                "[event.{event}.lands.third]\nat = \"archive\"\npath = \"third\"\nformat = \"jsonl\"\ncolumns = \"n\"\n"
            ));
        }
        text
    }
}

fn project(file: &File) -> TestProject {
    let project = TestProject::empty();
    project.write("sluice.toml", PROJECT);
    project.write("pipelines/tickets.toml", file.text());
    fs::create_dir(project.path("depots")).unwrap();
    project
}

/// Lines of the numbers; every seventh breaks the contract.
fn lines(numbers: std::ops::Range<u32>) -> String {
    numbers
        .map(|n| match n % 7 {
            3 => format!("{{\"n\":{n},\"kg\":\"much\"}}\n"),
            _ => format!("{{\"n\":{n},\"kg\":1}}\n"),
        })
        .collect()
}

/// Lines that are all good.
fn good(numbers: std::ops::Range<u32>) -> String {
    numbers.map(|n| format!("{{\"n\":{n},\"kg\":1}}\n")).collect()
}

/// How often each number stands in a folder of JSON Lines.
fn in_folder(project: &TestProject, folder: &str) -> BTreeMap<u64, u32> {
    let mut found = BTreeMap::new();
    for path in visible_files(&project.path(folder)) {
        for line in fs::read_to_string(&path).unwrap().lines() {
            let value: Value = serde_json::from_str(line).unwrap();
            *found.entry(value["n"].as_u64().unwrap()).or_default() += 1;
        }
    }
    found
}

/// How often each number stands in the table.
fn in_table(project: &TestProject) -> BTreeMap<u64, u32> {
    let Ok(office) = rusqlite::Connection::open(project.path("office.db")) else { return BTreeMap::new() };
    let Ok(mut rows) = office.prepare("select n, count(*) from ticket group by n") else { return BTreeMap::new() };
    rows.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect()
}

fn once(numbers: std::ops::Range<u32>) -> BTreeMap<u64, u32> {
    numbers.map(|n| (u64::from(n), 1)).collect()
}

fn forget(project: &TestProject) {
    fs::remove_dir_all(project.path(".sluice")).unwrap();
}
