//! Tables of MariaDB are loaded and followed under a workload at random while the real program is killed: in the end the
//! mirrors equal the source, and so do the changes, played again by themselves.
//!
//! Needs the feature `failpoints` and MariaDB, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]

use std::os::unix::process::ExitStatusExt as _;
use std::process::Stdio;
use std::time::Duration;

use crate::common::feeds_mariadb::Office;
use rstest::rstest;
use sluice_core::fail_points::{COMMON, TABLES};

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

#[test]
fn killed_at_every_point_the_mirror_equals_its_source() {
    let Some(mut office) = Office::new(3) else { return };
    let project = office.project();
    for (round, point) in ["feed.portion"].iter().chain(COMMON).chain(TABLES).enumerate() {
        assert!(office.change(6, round as u64));
        if point.starts_with("recover.") {
            let output = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
            assert_eq!(output.status.signal(), Some(9), "{output:?}");
        }
        let output = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
        assert_eq!(output.status.signal(), Some(9), "{point} was not reached: {output:?}");
    }
    project.expect(0, RUN);
    office.check();
}

#[rstest]
#[case(51, 20)]
#[case(52, 20)]
fn killed_at_random_while_the_source_changes(#[case] seed: u64, #[case] kills: u64) {
    let Some(mut office) = Office::new(seed) else { return };
    let project = office.project();
    for round in 0..kills {
        let mut child =
            project.command(&["run", "office"]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        assert!(office.change(8, round));
        std::thread::sleep(Duration::from_millis(seed * 37 * (round + 1) % 400));
        let ended = child.try_wait().unwrap();
        let _ = child.kill();
        let output = child.wait_with_output().unwrap();
        assert!(ended.is_none(), "the run gave up: {}", String::from_utf8_lossy(&output.stderr));
    }
    project.expect(0, RUN);
    office.check();
}
