//! Kills the real program while windows are open.
#![cfg(feature = "failpoints")]

use std::os::unix::process::ExitStatusExt as _;
use std::time::Duration;

use super::joins::{self, Crossings};
use super::{PASSAGE, PROJECT, Passages, RUN, check, pipeline, project, small, unfold, window};
use crate::common::TestProject;
use crate::common::topics::{self, StandIn, has};
use sluice_core::fail_points::{COMMON, FILES};

/// Kills a run where it reaches a point for the nth time; points of recovery are reached after another kill, and once.
fn kill_at(project: &TestProject, point: &str, nth: u32) {
    if point.starts_with("recover.") {
        let status = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
        assert_eq!(status.status.signal(), Some(9), "{status:?}");
    }
    let once = point.starts_with("recover.") || point == "stage.first_rows";
    let kill = format!("{point}:{}", if once { 1 } else { nth });
    let status = project.command(RUN).env("SLUICE_KILL_AT", &kill).output().unwrap();
    assert_eq!(status.status.signal(), Some(9), "{kill} was not reached: {status:?}");
}

#[test]
fn killed_at_every_point_each_element_of_a_list_lands_once() {
    for point in COMMON.iter().chain(FILES) {
        let project = project(&unfold::pipeline(""));
        project.append("locks/a.jsonl", unfold::manifests(0..500));
        kill_at(&project, point, 2);
        project.append("locks/a.jsonl", unfold::manifests(500..800));
        project.expect(0, RUN);
        unfold::check(&project, 800);
    }
}

#[test]
fn killed_at_every_point_windows_are_what_they_would_have_been() {
    for (seed, point) in (10..).zip(COMMON.iter().chain(FILES)) {
        let project = project(&pipeline());
        let mut passages = Passages::new(seed);
        project.append("locks/a.jsonl", passages.lines(1_200));
        kill_at(&project, point, 2);
        project.append("locks/a.jsonl", passages.lines(2_500));
        project.expect(0, RUN);
        check(&project, &passages);
    }
}

#[test]
fn killed_at_random_windows_are_what_they_would_have_been() {
    let project = project(&pipeline());
    let passages = std::cell::RefCell::new(Passages::new(77));
    let mut grow = || project.append("locks/a.jsonl", passages.borrow_mut().lines(900));
    let mut random = |below| passages.borrow_mut().random.below(below);
    kill_at_random(&project, &mut random, 25, &mut grow);
    project.expect(0, RUN);
    check(&project, &passages.borrow());
}

#[test]
fn killed_at_every_point_windows_larger_than_memory_are_what_they_would_have_been() {
    for (seed, point) in (40..).zip(COMMON.iter().chain(FILES)) {
        let project = project(&small::pipeline("4KiB"));
        let mut passages = small::passages(seed);
        project.append("locks/a.jsonl", passages.lines(1_500));
        kill_at(&project, point, 9);
        project.append("locks/a.jsonl", passages.lines(1_200));
        project.expect(0, RUN);
        small::check(&project, &passages);
    }
}

#[test]
fn killed_at_random_windows_larger_than_memory_are_what_they_would_have_been() {
    let project = project(&small::pipeline("4KiB"));
    let passages = std::cell::RefCell::new(small::passages(79));
    let mut grow = || project.append("locks/a.jsonl", passages.borrow_mut().lines(900));
    let mut random = |below| passages.borrow_mut().random.below(below);
    kill_at_random(&project, &mut random, 25, &mut grow);
    project.expect(0, RUN);
    small::check(&project, &passages.borrow());
}

/// Kills runs at random until enough were hit while they worked; `grow` adds events before each.
fn kill_at_random(project: &TestProject, random: &mut dyn FnMut(u64) -> u64, hits: u32, grow: &mut dyn FnMut()) {
    let (mut killed, mut whole) = (0, 60_000);
    for _ in 0..6 * hits {
        grow();
        let mut child = project
            .command(RUN)
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_micros(random(whole)));
        let _ = child.kill();
        let hit = child.wait().unwrap().signal() == Some(9);
        killed += u32::from(hit);
        whole = if hit { whole + whole / 8 } else { (whole - whole / 4).max(2_000) };
        if killed == hits {
            return;
        }
    }
    panic!("only {killed} were killed while they worked");
}

#[test]
fn killed_at_every_point_joins_are_what_they_would_have_been() {
    for (seed, point) in (10..).zip(COMMON.iter().chain(FILES)) {
        let project = joins::joined(joins::WITHIN, "");
        let mut crossings = Crossings::new(seed);
        project.append("locks/p.jsonl", crossings.passages(900));
        project.append("locks/t.jsonl", crossings.tolls(900));
        kill_at(&project, point, 3);
        project.append("locks/t.jsonl", crossings.tolls(800));
        project.append("locks/p.jsonl", crossings.passages(800));
        project.expect(0, RUN);
        joins::check(&project, &crossings, false);
    }
}

#[test]
fn killed_at_random_joins_are_what_they_would_have_been() {
    let project = joins::joined(joins::WITHIN, "");
    let crossings = std::cell::RefCell::new(Crossings::new(78));
    let mut grow = || {
        let mut crossings = crossings.borrow_mut();
        project.append("locks/p.jsonl", crossings.passages(500));
        project.append("locks/t.jsonl", crossings.tolls(500));
    };
    let mut random = |below| crossings.borrow_mut().random.below(below);
    kill_at_random(&project, &mut random, 25, &mut grow);
    project.expect(0, RUN);
    joins::check(&project, &crossings.borrow(), false);
}

#[test]
fn killed_at_random_joins_of_topics_are_what_they_would_have_been() {
    if !has("kcat") {
        return;
    }
    let stand_in = StandIn::start(&["--topic", "lock.passages:4", "--topic", "lock.tolls:3"]);
    // The partitions of a topic are at different times: nothing is late within an hour.
    let join = joins::join(joins::WITHIN, "close = \"caught_up\"").replace("late = \"20m\"", "late = \"5h\"");
    let at = |topic: &str| format!("at = \"broker\"\ntopic = \"{topic}\"\nformat = \"json\"");
    let text = [joins::EVENTS, &join]
        .concat()
        .replace("at = \"locks\"\nmatch = \"p*.jsonl\"", &at("lock.passages"))
        .replace("at = \"locks\"\nmatch = \"t*.jsonl\"", &at("lock.tolls"));
    let project = project(&text);
    project.write(
        "sluice.toml",
        [PROJECT, &format!("[connection.broker]\nurl = \"kafka://{}\"\n", stand_in.address)].concat(),
    );
    let crossings = std::cell::RefCell::new(Crossings::new(79));
    let send = |topic: &str, lines: String| {
        let keyed: String = lines.lines().enumerate().map(|(i, line)| format!("k{}\t{line}\n", (i * 7) % 13)).collect();
        topics::produce(&stand_in.address, topic, &keyed, &[]);
    };
    let (mut killed, mut whole) = (0, 300_000);
    for round in 0..60 {
        send("lock.passages", crossings.borrow_mut().passages(200));
        send("lock.tolls", crossings.borrow_mut().tolls(200));
        let mut child = project
            .command(&["run", "passages"])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_micros(crossings.borrow_mut().random.below(whole)));
        let before = project.json(&["ledger", "passages", "--show", "100000"])["batches"].as_array().unwrap().len();
        let _ = child.kill();
        killed += u32::from(child.wait().unwrap().signal() == Some(9));
        whole = if before == 0 { whole * 2 } else { whole };
        if killed == 15 {
            break;
        }
        assert!(round < 59, "only {killed} were killed");
    }
    project.expect(0, RUN);
    joins::check(&project, &crossings.borrow(), true);
}

#[test]
fn killed_at_random_windows_over_a_topic_count_every_message_once() {
    if !has("kcat") {
        return;
    }
    let stand_in = StandIn::start(&["--topic", "lock.passages:4"]);
    let minute = window("minute", "length = \"1m\"", "close = \"caught_up\"").replace("late = \"2m\"", "late = \"1h\"");
    let text = [PASSAGE, &minute].concat().replace(
        "at = \"locks\"\nmatch = \"*.jsonl\"",
        "at = \"broker\"\ntopic = \"lock.passages\"\nformat = \"json\"",
    );
    let project = project(&text);
    project.write(
        "sluice.toml",
        [PROJECT, &format!("[connection.broker]\nurl = \"kafka://{}\"\n", stand_in.address)].concat(),
    );
    let mut passages = Passages::new(21);
    let (mut killed, mut whole) = (0, 300_000);
    for round in 0..60 {
        let lines = passages.lines(300);
        let keyed: String = lines.lines().enumerate().map(|(i, line)| format!("k{}\t{line}\n", (i * 7) % 13)).collect();
        topics::produce(&stand_in.address, "lock.passages", &keyed, &[]);
        let mut child = project
            .command(&["run", "passages"])
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_micros(passages.random.below(whole)));
        let before = project.json(&["ledger", "passages", "--show", "100000"])["batches"].as_array().unwrap().len();
        let _ = child.kill();
        killed += u32::from(child.wait().unwrap().signal() == Some(9));
        whole = if before == 0 { whole * 2 } else { whole };
        if killed == 20 {
            break;
        }
        assert!(round < 59, "only {killed} were killed");
    }
    project.expect(0, RUN);
    super::assert_same(&super::landed(&project, "minute"), &passages.expected(60, 60, 1 << 30, None).0, "minute");
    assert_eq!(super::rows(&project, "once").len() as u64, passages.once());
    assert_eq!(super::rejected(&project), Vec::<String>::new());
    super::balanced(&project);
}
