//! Kills the real program while it reads batches again and replaces what they had landed.
//!
//! Needs the feature `failpoints`, which `scripts/test` sets.
#![cfg(feature = "failpoints")]

use std::os::unix::process::ExitStatusExt as _;

use crate::common::{Expected, PIPELINE, TestProject};
use rstest::rstest;
use sluice_core::fail_points::{COMMON, FILES, REPLAY};

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];
const REPLAY_ALL: &[&str] = &["replay", "weighings", "--batches", "2-5", "--yes"];

fn kill_at(project: &TestProject, arguments: &[&str], point: &str, count: u32) {
    let output = project.command(arguments).env("SLUICE_KILL_AT", format!("{point}:{count}")).output().unwrap();
    assert_eq!(output.status.signal(), Some(9), "{point}:{count} was not reached: {output:?}");
}

/// Every row and every reject is there once, whatever has been read again; nothing is left behind.
fn check(project: &TestProject, expected: &Expected) {
    assert_eq!(project.archived(), expected.archive);
    assert_eq!(project.heavy(), expected.heavy);
    assert_eq!(project.rejected(), expected.rejected);
    assert_eq!(project.staged_files(), Vec::<std::path::PathBuf>::new());
    assert_eq!(project.expect(0, RUN).0, "weighings: nothing new to read\n", "progress was not touched");
}

/// The points that a replay passes, each with the change of the pipeline that leads it there.
fn points() -> Vec<&'static str> {
    let of_runs = ["stage.first_rows"];
    COMMON.iter().chain(FILES).chain(REPLAY).copied().filter(|p| !of_runs.contains(p)).collect()
}

#[test]
fn killed_at_every_point_a_replay_leaves_every_event_once() {
    for point in points() {
        let project = TestProject::new(PIPELINE);
        let mut expected = Expected::default();
        project.write("depots/a.jsonl", expected.lines(400, 650));
        project.expect(0, RUN);
        // Another folder for some rows: their old files have to be deleted.
        project.write("pipelines/weighings.toml", PIPELINE.replace("{day:%Y/%m/%d}", "{day:%Y}"));
        let is_recovery = point.starts_with("recover.");
        if is_recovery {
            kill_at(&project, REPLAY_ALL, "seal.after", 2);
        }
        kill_at(&project, REPLAY_ALL, point, if is_recovery || point == "replay.begun" { 1 } else { 2 });
        // The live run continues, and finishes the sealed batches.
        project.write("depots/b.jsonl", expected.lines(5_000, 90));
        project.expect(0, RUN);
        project.expect(0, REPLAY_ALL);
        check(&project, &expected);
    }
}

#[rstest]
#[case("seal.after")]
#[case("publish.file_renamed")]
#[case("publish.file_removed")]
fn the_next_run_finishes_a_sealed_replay(#[case] point: &str) {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(400, 350));
    project.expect(0, RUN);
    project.write("pipelines/weighings.toml", PIPELINE.replace("{day:%Y/%m/%d}", "{day:%Y}"));
    kill_at(&project, REPLAY_ALL, point, 1);
    let (_, err) = project.expect(0, RUN);
    assert_eq!(err.lines().filter(|line| line.contains("finished 1 batch that an earlier run had sealed")).count(), 1);
    check(&project, &expected);
}

#[test]
fn a_replay_stops_where_the_source_has_changed() {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    let lines = expected.lines(0, 250);
    project.write("depots/a.jsonl", &lines);
    project.expect(0, RUN);
    let whole = project.archived();
    // One record was taken out deep inside the file; its length stays.
    let broken: String = lines
        .lines()
        .enumerate()
        .map(|(i, line)| if i == 230 { " ".repeat(line.len()) + "\n" } else { format!("{line}\n") })
        .collect();
    project.write("depots/a.jsonl", broken);
    let (_, err) = project.expect(6, &["replay", "weighings", "--batches", "3", "--yes"]);
    assert!(err.contains("no longer holds the records that were read"), "{err}");
    assert_eq!(project.archived(), whole);
    project.expect(0, &["replay", "weighings", "--batches", "1-2", "--yes"]);
    assert_eq!(project.archived(), whole);
    assert_eq!(project.staged_files(), Vec::<std::path::PathBuf>::new());
}
