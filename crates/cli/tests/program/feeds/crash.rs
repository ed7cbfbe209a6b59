//! Kills the real program and its server while tables are loaded and followed under a workload at random: in the end the
//! mirrors equal the source, and so do the changes, played again by themselves.
//!
//! Needs the feature `failpoints` and PostgreSQL, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]

use std::os::unix::process::ExitStatusExt as _;
use std::process::Stdio;
use std::time::Duration;

use crate::common::feeds;
use crate::common::feeds::Office;
use crate::common::tables::Database;
use rstest::rstest;
use sluice_core::fail_points::{COMMON, FEEDS, TABLES};

const RUN: &[&str] = &["run", "office", "--until-caught-up"];
const GO_ON: &[&str] = &["run", "office"];

/// Small batches, so that there are many.
const SMALL: &str = "batch = { rows = 700, every = \"150ms\" }";

#[test]
fn killed_at_every_point_the_mirror_equals_its_source() {
    let Some(database) = Database::new() else { return };
    let mut office = Office::with_journal(database, 5);
    let project = office.project(&feeds::with_journal(SMALL));
    for point in FEEDS.iter().chain(COMMON).chain(TABLES) {
        assert!(office.change(12, false));
        if point.starts_with("recover.") {
            let output = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
            assert_eq!(output.status.signal(), Some(9), "{output:?}");
        }
        let output = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
        assert_eq!(output.status.signal(), Some(9), "{point} was not reached: {output:?}");
    }
    project.expect(0, RUN);
    office.check_mirrors();
    office.check_logs();
    assert_eq!(office.slots().len(), 1);
    office.drop();
}

#[rstest]
#[case(41, 25)]
#[case(42, 25)]
fn killed_at_random_while_the_source_changes(#[case] seed: u64, #[case] kills: u64) {
    let Some(database) = Database::new() else { return };
    let mut office = Office::with_journal(database, seed);
    let project = office.project(&feeds::with_journal(SMALL));
    for round in 0..kills {
        let mut child = project.command(GO_ON).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        assert!(office.change(8, round % 6 == 5));
        std::thread::sleep(Duration::from_millis(seed * 37 * (round + 1) % 400));
        let ended = child.try_wait().unwrap();
        let _ = child.kill();
        let output = child.wait_with_output().unwrap();
        assert!(ended.is_none(), "the run gave up: {}", String::from_utf8_lossy(&output.stderr));
    }
    project.expect(0, RUN);
    office.check_mirrors();
    office.check_logs();
    office.drop();
}

#[rstest]
#[case(51, 20)]
#[case(52, 20)]
fn killed_at_random_while_columns_come_and_go(#[case] seed: u64, #[case] kills: u64) {
    let Some(database) = Database::new() else { return };
    let mut office = Office::new(database, seed);
    let project = office.project(&feeds::whole(SMALL));
    for round in 0..kills {
        let mut child = project.command(GO_ON).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        assert!(office.change(4, false));
        if round % 2 == 1 {
            office.reshape();
        }
        assert!(office.change(4, false));
        std::thread::sleep(Duration::from_millis(seed * 37 * (round + 1) % 700));
        let ended = child.try_wait().unwrap();
        let _ = child.kill();
        let output = child.wait_with_output().unwrap();
        assert!(ended.is_none(), "the run gave up: {}", String::from_utf8_lossy(&output.stderr));
    }
    project.expect(0, RUN);
    office.check_whole_mirrors();
    office.drop();
}

/// The run continues without help, whatever its server does.
#[test]
fn a_server_that_crashes_ten_times_while_the_source_changes() {
    let Some(mut database) = Database::on_own_server() else { return };
    let mut server = database.server.take().unwrap();
    let mut office = Office::new(database, 7);
    let project = office.project(&feeds::pipeline(SMALL));
    // Two batches: the load continues below.
    project.expect(0, &["run", "office", "--stop-after", "2"]);
    let mut running = project.command(GO_ON).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    // A run that cannot start reports it and ends; one that has started continues.
    assert!(feeds::script(&office.source, "insert into vessel values ('V-begun', 'x', 1)"));
    let has_begun = || office.target.rows("select 1 from vessel where vessel_no = 'V-begun'").len() == 1;
    assert!((0..300).any(|_| {
        std::thread::sleep(Duration::from_millis(100));
        has_begun()
    }));
    for round in 1..=10 {
        // Changes that the server had not committed before it crashed did not happen.
        let sql = office.transactions(40, false);
        let source = office.source.clone();
        let changes = std::thread::spawn(move || feeds::script(&source, &sql));
        std::thread::sleep(Duration::from_millis(150 + 61 * round));
        server.crash(Duration::from_millis(200));
        let _ = changes.join();
        office.target.wait();
    }
    std::thread::sleep(Duration::from_millis(800));
    let still_runs = running.try_wait().unwrap().is_none();
    let _ = std::process::Command::new("kill").args(["-TERM", &running.id().to_string()]).status();
    let output = running.wait_with_output().unwrap();
    assert!(still_runs, "the run gave up: {}", String::from_utf8_lossy(&output.stderr));
    project.expect(0, RUN);
    office.check_mirrors();
    office.check_logs();
}
