//! Kills the real program, with SIGKILL, at every named point of the commit path and at random, and checks what has landed.
//!
//! Needs the feature `failpoints`, which `scripts/test` sets.
#![cfg(feature = "failpoints")]

use std::os::unix::process::ExitStatusExt as _;
use std::time::{Duration, Instant};

use crate::common::{Expected, PIPELINE, TestProject};
use rstest::rstest;
use sluice_core::fail_points::{COMMON, FILES};

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

/// How many kills left a batch open, sealed, or landed in part.
#[derive(Debug, Default)]
struct Seen {
    open: u32,
    sealed: u32,
    partly: u32,
}

impl Seen {
    fn note(&mut self, project: &TestProject) {
        let batches = project.json(&["ledger", "weighings"])["batches"].clone();
        let (mut open, mut sealed, mut partly) = (false, false, false);
        for batch in batches.as_array().unwrap() {
            let landed = batch["landings"].as_array().unwrap().iter().filter(|l| !l["landed_at"].is_null()).count();
            match (batch["state"].as_str().unwrap(), landed) {
                ("open", _) => open = true,
                ("sealed", 0) => sealed = true,
                ("sealed" | "landed", _) => partly = true,
                _ => {}
            }
        }
        self.open += u32::from(open);
        self.sealed += u32::from(sealed);
        self.partly += u32::from(partly);
    }
}

/// Runs until the point is reached for the `count`-th time, where the program kills itself.
fn kill_at(project: &TestProject, point: &str, count: u32) {
    let status = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:{count}")).output().unwrap();
    assert_eq!(status.status.signal(), Some(9), "{point}:{count} was not reached: {status:?}");
}

#[test]
fn killed_at_every_point_every_event_lands_exactly_once() {
    let mut seen = Seen::default();
    for point in COMMON.iter().chain(FILES) {
        let project = TestProject::new(PIPELINE);
        let mut expected = Expected::default();
        let mut from = 0;
        for count in 1..=4 {
            project.append("depots/a.jsonl", expected.lines(from, 300));
            project.write(&format!("depots/b{count}.jsonl"), expected.lines(from + 300, 250));
            from += 550;
            // Recovery has something to do only after a kill that left sealed work, and reaches its points once.
            let once = point.starts_with("recover.") || *point == "stage.first_rows";
            if point.starts_with("recover.") {
                kill_at(&project, "seal.after", 1);
            }
            kill_at(&project, point, if once { 1 } else { count });
            seen.note(&project);
        }
        project.expect(0, RUN);
        expected.check(&project);
    }
    println!("kills by what they left: {seen:?}");
    assert!(seen.open >= 10 && seen.sealed >= 10 && seen.partly >= 10, "{seen:?}");
}

#[rstest]
#[case(11)]
#[case(12)]
fn killed_at_random_every_event_lands_exactly_once(#[case] seed: u64) {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    let mut random = seed;
    let mut killed = 0;
    // How long a whole run takes here shows when to kill.
    project.append("depots/a.jsonl", expected.lines(0, 1000));
    let started = Instant::now();
    project.expect(0, RUN);
    let mut whole = u64::try_from(started.elapsed().as_micros()).unwrap();
    let mut round = 0;
    while killed < 25 {
        round += 1;
        assert!(round <= 150, "only {killed} of {round} were killed while they worked");
        project.append("depots/a.jsonl", expected.lines(round * 1000, 700));
        project.write(&format!("depots/b{round}.jsonl"), expected.lines(round * 1000 + 700, 300));
        let mut child = project
            .command(RUN)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        std::thread::sleep(Duration::from_micros((random >> 33) % whole));
        let _ = child.kill();
        let hit = child.wait().unwrap().signal() == Some(9);
        killed += u32::from(hit);
        // Other tests slow the machine down and leave it again: the guess follows.
        whole = if hit { whole + whole / 8 } else { (whole - whole / 4).max(2_000) };
    }
    project.expect(0, RUN);
    expected.check(&project);
}

#[test]
fn a_sealed_batch_finishes_under_the_text_that_it_was_sealed_with() {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 80));
    kill_at(&project, "seal.after", 1);
    // The landing moves elsewhere: only later batches follow it.
    project.write("pipelines/weighings.toml", PIPELINE.replace("path    = \"heavy\"", "path    = \"other\""));
    let mut later = Expected::default();
    project.write("depots/b.jsonl", later.lines(700, 80));
    project.expect(0, RUN);
    assert_eq!(project.heavy(), expected.heavy);
    assert_eq!(crate::common::visible_files(&project.path("archive/other")).len(), 1);
    expected.archive.append(&mut later.archive);
    assert_eq!(project.archived(), expected.archive);
}

#[test]
fn finishing_an_earlier_batch_is_said_in_one_line() {
    let project = TestProject::new(PIPELINE);
    project.write("depots/a.jsonl", Expected::default().lines(0, 80));
    kill_at(&project, "land.after", 1);
    let (_, err) = project.expect(0, RUN);
    assert_eq!(err.lines().filter(|line| line.contains("finished 1 batch that an earlier run had sealed")).count(), 1);
    let (_, err) = project.expect(0, RUN);
    assert!(!err.contains("finished"), "{err}");
}

#[test]
fn what_was_open_in_a_lane_that_is_no_more_is_cleared() {
    let pipeline = PIPELINE.replace("match = \"*.jsonl\"", "match = \"*.jsonl\"\nlanes = 3");
    let project = TestProject::new(&pipeline);
    let mut expected = Expected::default();
    for i in 0..9 {
        project.write(&format!("depots/{i}.jsonl"), expected.lines(i * 100, 60));
    }
    kill_at(&project, "seal.before", 1);
    assert!(!project.staged_files().is_empty());
    project.write("pipelines/weighings.toml", PIPELINE);
    project.expect(0, RUN);
    assert_eq!(project.archived(), expected.archive);
    assert_eq!(project.staged_files(), Vec::<std::path::PathBuf>::new());
    let batches = project.json(&["ledger", "weighings"])["batches"].clone();
    assert!(batches.as_array().unwrap().iter().all(|b| b["state"] == "settled"), "{batches}");
}

/// A line of JSON as a record of CSV: the same event.
fn as_csv(line: &str) -> String {
    let value: serde_json::Value = serde_json::from_str(line).unwrap();
    let text = |key: &str| value[key].as_str().map_or_else(|| value[key].to_string(), str::to_string);
    format!("{},{},{}", text("ticket"), text("day"), text("gross_kg"))
}

#[test]
fn csv_and_packed_files_land_exactly_once_as_well() {
    use std::io::Write as _;
    for point in COMMON.iter().chain(FILES) {
        let pipeline = PIPELINE.replace("match = \"*.jsonl\"", "match = \"*\"\nformat = \"csv\"");
        let project = TestProject::new(&pipeline);
        let mut expected = Expected::default();
        let mut file = |from: u32, count: u32| {
            let lines = expected.lines(from, count);
            let records: String = lines.lines().map(|l| as_csv(l) + "\n").collect();
            format!("ticket,day,gross_kg\n{records}")
        };
        project.write("depots/a.csv", file(0, 330));
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(file(330, 420).as_bytes()).unwrap();
        project.write("depots/b.csv.gz", packed.finish().unwrap());
        if point.starts_with("recover.") {
            kill_at(&project, "seal.after", 1);
        }
        kill_at(&project, point, 1);
        // Again in the middle of a file, so that its header row must be found again.
        kill_at(&project, "seal.before", 3);
        project.expect(0, RUN);
        expected.rejected = expected.rejected.iter().map(|line| as_csv(line)).collect();
        expected.rejected.sort();
        expected.check(&project);
    }
}
