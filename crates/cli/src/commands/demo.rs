//! `sluice demo`: the whole thing on sample data.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Instant;

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::run::{RunLimit, Stop};
use sluice_core::units::{show_many, show_size};

use super::init::write_project;
use super::run::as_text;
use crate::args::{Arguments, DemoArgs, OutputKind};
use crate::crew::one::{Seen, run_pipeline};
use crate::demo::{DEPOTS, FOLDERS, write_day, write_passages};
use crate::exit::Exit;
use crate::output::{self, style};
use crate::project::{PROJECT_FILE, Project};
use crate::signals;

const PROJECT: &str = include_str!("../../../../examples/tarrow/sluice.toml");
/// The pipelines, in the order in which they run.
const PIPELINES: &[(&str, &str)] = &[
    ("weighings.toml", include_str!("../../../../examples/tarrow/pipelines/weighings.toml")),
    ("passages.toml", include_str!("../../../../examples/tarrow/pipelines/passages.toml")),
];

/// Days of data that the first demo starts with; each later one brings one more.
const FIRST_DAYS: u32 = 5;

/// Weighings of one depot on one day, and passages.
const A_DAY: u32 = 4_000;

pub(crate) fn demo(arguments: &Arguments, args: &DemoArgs) -> Outcome<Exit> {
    let folder = &args.folder;
    let again = is_demo(folder)?;
    let folders: Vec<&str> = std::iter::once("depots").chain(FOLDERS).collect();
    let made = write_project(folder, PROJECT, PIPELINES, &folders)?;
    let days = days_there(folder);
    let new = if again { days..days + 1 } else { 0..FIRST_DAYS };
    let (mut files, mut bytes) = (0, 0);
    for day in new {
        for depot in 0..DEPOTS.len() {
            bytes += write_day(&folder.join("depots"), depot, day, A_DAY)?;
            files += 1;
        }
        let written = write_passages(folder, day, A_DAY)?;
        (files, bytes) = (files + written.0, bytes + written.1);
    }
    let text = arguments.output == OutputKind::Text;
    let program = program();
    if text {
        introduce(folder, again, &made, files, bytes);
    }
    let project = Project::need(Some(folder))?;
    let stop = Arc::new(Stop::new());
    signals::stop_on_signals(&stop);
    let (mut read, mut rejected, mut batches, mut stations) = (0, 0, 0, Vec::new());
    let mut caught_up = true;
    for (file, _) in PIPELINES {
        let pipeline = project.pipeline(file.trim_end_matches(".toml"))?;
        if text && !stations.is_empty() {
            output::print("\n");
        }
        let started = Instant::now();
        let until = RunLimit { caught_up: true, ..RunLimit::default() };
        let report = run_pipeline(&project, &pipeline, until, &stop, Seen::default())?;
        if text {
            output::print(&as_text(&pipeline.plan, &report, started.elapsed(), &program));
        }
        (read, rejected) = (read + report.read, rejected + report.rejected);
        batches += report.batches;
        stations.extend(report.counts);
        caught_up &= report.caught_up;
        if !caught_up {
            break;
        }
    }
    if text {
        output::print(&what_next(folder, &program));
    } else {
        output::json(
            "demo",
            json!({
                "folder": folder, "files": files, "bytes": bytes, "read": read, "rejected": rejected,
                "stations": stations, "batches": batches,
            }),
        );
    }
    Ok(if caught_up { Exit::Fine } else { Exit::Interrupted })
}

/// Whether the demo is in the folder already. A folder with anything else in it is left alone.
fn is_demo(folder: &Path) -> Outcome<bool> {
    match std::fs::read_to_string(folder.join(PROJECT_FILE)) {
        Ok(text) if text == PROJECT => return Ok(true),
        Ok(_) => {}
        Err(_) => {
            let empty = std::fs::read_dir(folder).map_or(true, |mut entries| entries.next().is_none());
            if empty {
                return Ok(false);
            }
        }
    }
    Err(Failure::new(
        FailureKind::Configuration,
        format!("{} is not a demo folder; nothing was changed", folder.display()),
    )
    .with_help("name another folder: sluice demo DIR"))
}

fn days_there(folder: &Path) -> u32 {
    let files = std::fs::read_dir(folder.join("depots").join(DEPOTS[0].folder)).map_or(0, Iterator::count);
    u32::try_from(files).unwrap_or(0)
}

fn introduce(folder: &Path, again: bool, made: &[String], files: u64, bytes: u64) {
    let place = folder.display();
    let what = format!("{} ({})", show_many(files, "file"), show_size(bytes));
    output::print(&match again {
        true => format!("{}: one more day, {what} in {place}/\n", style::bold("The Tarrow Navigation")),
        false => format!(
            "{}, an imaginary waterway, laid out in {place}/\n  {}  {}\n  {}  {}\n  {}  {}\n  {}  {what}, some lines of \
             them bad\n\n",
            style::bold("The Tarrow Navigation"),
            style::bold("sluice.toml             "),
            style::dim("connections: where the depots drop files, where data lands"),
            style::bold("pipelines/weighings.toml"),
            style::dim("the contract of a weighing, and its three landings"),
            style::bold("pipelines/passages.toml "),
            style::dim("passages with lock names and tolls, counted by quarter of an hour"),
            style::bold("depots/, locks/, …      "),
        ),
    });
    debug_assert!(again || !made.is_empty());
}

fn what_next(folder: &Path, program: &str) -> String {
    let lines = [
        (format!("cd {}", folder.display()), "then:"),
        (program.to_string(), "pipelines, their state, and what to do next"),
        (format!("{program} ledger weighings"), "which batches, how big, how long"),
        (format!("{program} rejects weighings"), "which events were rejected, and why"),
        (format!("{program} peek weighings.weighing.desk"), "the rows of the table"),
        (format!("{program} rehearse passages"), "how passages become pairs and counts, on a sample"),
        (format!("{program} check"), "edit pipelines/weighings.toml, mistype something, and look"),
        (format!("{program} run weighings"), "wait for more; copy a file into depots/ostrey-cut/"),
    ];
    let width = lines.iter().map(|(c, _)| c.len()).max().unwrap_or(0);
    let mut out = format!(
        "\nlanded: {}/archive/weighings (Parquet by day), archive/heavy (JSON Lines by cargo), archive/paid, and the \
         tables `weighing` and `lock_quarter` in office.db (SQLite)\n\nlook around:\n",
        folder.display(),
    );
    for (command, why) in lines {
        out.push_str(&format!("  {}  {}\n", style::command(&format!("{command:width$}")), style::dim(why)));
    }
    out
}

/// How this program can be called from a shell: by its name where the shell finds it, else by its path.
fn program() -> String {
    let path = std::env::current_exe().unwrap_or_else(|_| PathBuf::from("sluice"));
    let paths = std::env::var_os("PATH").unwrap_or_default();
    let found = std::env::split_paths(&paths)
        .any(|folder| folder.join("sluice").canonicalize().ok() == path.canonicalize().ok());
    if found { "sluice".into() } else { path.display().to_string() }
}
