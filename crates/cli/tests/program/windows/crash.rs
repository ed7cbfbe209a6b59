//! Kills the real program while windows are open.
#![cfg(feature = "failpoints")]

use std::os::unix::process::ExitStatusExt as _;
use std::time::Duration;

use super::{Passages, RUN, check, pipeline, project};
use sluice_core::fail_points::{COMMON, FILES};

#[test]
fn killed_at_every_point_windows_are_what_they_would_have_been() {
    for (seed, point) in (10..).zip(COMMON.iter().chain(FILES)) {
        let project = project(&pipeline());
        let mut passages = Passages::new(seed);
        project.append("locks/a.jsonl", passages.lines(1_200));
        if point.starts_with("recover.") {
            let status = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
            assert_eq!(status.status.signal(), Some(9), "{status:?}");
        }
        let once = point.starts_with("recover.") || *point == "stage.first_rows";
        let kill = format!("{point}:{}", if once { 1 } else { 2 });
        let status = project.command(RUN).env("SLUICE_KILL_AT", &kill).output().unwrap();
        assert_eq!(status.status.signal(), Some(9), "{kill} was not reached: {status:?}");
        project.append("locks/a.jsonl", passages.lines(2_500));
        project.expect(0, RUN);
        check(&project, &passages);
    }
}

#[test]
fn killed_at_random_windows_are_what_they_would_have_been() {
    let project = project(&pipeline());
    let mut passages = Passages::new(77);
    let mut killed = 0;
    let mut whole = 60_000;
    for round in 0..120 {
        project.append("locks/a.jsonl", passages.lines(900));
        let mut child = project
            .command(RUN)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_micros(passages.random.below(whole)));
        let _ = child.kill();
        let hit = child.wait().unwrap().signal() == Some(9);
        killed += u32::from(hit);
        whole = if hit { whole + whole / 8 } else { (whole - whole / 4).max(2_000) };
        if killed == 25 {
            break;
        }
        assert!(round < 119, "only {killed} were killed while they worked");
    }
    project.expect(0, RUN);
    check(&project, &passages);
}
