//! Runs: reading on, limits, locks, signals.

use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::{Expected, PIPELINE, PROJECT, TestProject};
use rstest::rstest;

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

/// Waits until something holds, for a minute at most.
fn wait_for(what: &str, mut holds: impl FnMut() -> bool) {
    let end = Instant::now() + Duration::from_secs(60);
    while !holds() {
        assert!(Instant::now() < end, "waited in vain for {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn interrupt(child: &std::process::Child, signal: &str) {
    let status = std::process::Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap();
    assert!(status.success());
}

#[test]
fn files_land_once_however_often_it_runs() {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 450));
    project.expect(0, RUN);
    expected.check(&project);
    let (out, _) = project.expect(0, RUN);
    assert!(out.contains("nothing new to read"), "{out}");
    project.append("depots/a.jsonl", expected.lines(450, 10));
    project.write("depots/b.jsonl", expected.lines(1000, 90));
    project.expect(0, RUN);
    expected.check(&project);
}

#[test]
fn a_record_in_the_making_is_read_when_it_is_whole() {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    let text = expected.lines(0, 10);
    let (first, rest) = text.split_at(text.len() - 20);
    project.write("depots/a.jsonl", first);
    let (out, _) = project.expect(0, RUN);
    assert!(out.contains("a.jsonl ends in an unfinished record"), "{out}");
    project.append("depots/a.jsonl", rest);
    project.expect(0, RUN);
    expected.check(&project);
}

#[test]
fn batches_are_as_large_as_they_may_be() {
    let project = TestProject::new(PIPELINE);
    project.write("depots/a.jsonl", Expected::default().lines(0, 250));
    project.expect(0, &["run", "weighings", "--stop-after", "2"]);
    let ledger = project.json(&["ledger", "weighings"]);
    let read: Vec<u64> = ledger["batches"].as_array().unwrap().iter().map(|b| b["read"].as_u64().unwrap()).collect();
    assert_eq!(read, [100, 100]);
    project.expect(0, RUN);
    assert_eq!(project.json(&["ledger", "weighings", "--batch", "3"])["batches"][0]["read"], 50);
}

#[test]
fn new_files_are_picked_up_and_sigterm_settles() {
    let project = TestProject::new(&PIPELINE.replace("every = \"1h\"", "every = \"100ms\""));
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 30));
    let mut child = project.command(&["run", "weighings"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    wait_for("the first file", || project.archived().len() == expected.archive.len());
    project.append("depots/a.jsonl", expected.lines(100, 30));
    project.write("depots/new.jsonl", expected.lines(200, 30));
    wait_for("the new file", || project.archived().len() == expected.archive.len());
    interrupt(&child, "-TERM");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    expected.check(&project);
}

#[test]
fn ctrl_c_settles_the_batch_in_hand() {
    let project = TestProject::new(&PIPELINE.replace("rows = 100", "rows = 1_000_000"));
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 30));
    // The batch stays open for an hour unless the run is asked to settle.
    let mut child = project.command(&["run", "weighings"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    wait_for("the batch to open", || {
        project.path(".sluice/ledger.db").exists()
            && project.json(&["ledger", "weighings"])["batches"][0]["state"] == "open"
    });
    interrupt(&child, "-INT");
    assert_eq!(child.wait().unwrap().code(), Some(0));
    expected.check(&project);
}

#[test]
fn a_second_run_says_who_holds_the_pipeline() {
    let project = TestProject::new(PIPELINE);
    let mut child = project.command(&["run", "weighings"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let pid = child.id().to_string();
    wait_for("the hold", || project.json(&[])["pipelines"][0]["holder"]["pid"] == child.id());
    let (_, err) = project.expect(7, RUN);
    assert!(err.contains(&format!("in use by process {pid}")), "{err}");
    interrupt(&child, "-INT");
    child.wait().unwrap();
    project.expect(0, RUN);
}

#[test]
fn too_many_rejects_stop_the_run_after_the_batch_has_landed() {
    let pipeline = PIPELINE.replace("share = \"50%\", least = 1000", "share = \"10%\", least = 20");
    let project = TestProject::new(&pipeline);
    let mut expected = Expected::default();
    let bad: String = (0..30).map(|i| format!("{{\"bad\":{i}}}\n")).collect();
    project.write("depots/a.jsonl", format!("{}{bad}", expected.lines(0, 70)));
    project.write("depots/b.jsonl", expected.lines(100, 10));
    let (out, err) = project.expect(4, RUN);
    assert!(err.contains("rejected 32 of 100 events (32 %), more than the limit of 10 %"), "{err}");
    assert!(out.contains("missing"), "{out}");
    assert_eq!(project.rejected().len(), 32);
    // The batch counts: a new run goes on after it.
    project.expect(0, RUN);
    expected.rejected.extend((0..30).map(|i| format!("{{\"bad\":{i}}}")));
    expected.rejected.sort();
    expected.check(&project);
}

#[test]
fn events_are_made_of_events() {
    let pipeline = format!(
        "{PIPELINE}\n[event.load]\nmade = {{ of = \"weighing\", when = \"gross_kg > 900\", columns = \"ticket, 1000 / (gross_kg - 950) as x\" }}\n\
         [event.load.lands.loads]\nat = \"archive\"\npath = \"loads\"\nformat = \"jsonl\"\nwhen = \"x > 50\"\n"
    );
    let project = TestProject::new(&pipeline);
    project.write("depots/a.jsonl", Expected::default().lines(900, 100));
    let report = project.json(RUN);
    let station = |name: &str| {
        let found = report["stations"].as_array().unwrap().iter().find(|s| s["station"] == name).unwrap().clone();
        ["input", "output", "filtered", "rejected"].map(|k| found[k].as_u64().unwrap())
    };
    // 901 to 999 without the broken 907 and 957; 950 divides by zero.
    assert_eq!(station("weighing"), [100, 98, 0, 2]);
    assert_eq!(station("load"), [98, 96, 1, 1]);
    assert_eq!(station("load.loads"), [96, 18, 78, 0]);
    let reject = &project.json(&["rejects", "weighings", "--only", "expression"])["newest"][0];
    assert_eq!((&reject["event"], &reject["field"]), (&"load".into(), &"x".into()));
    assert!(reject["bytes"].as_str().unwrap().contains("T000950"));
}

#[test]
fn a_field_that_is_never_filled_is_named() {
    let project = TestProject::new(
        &PIPELINE.replace("ticket text not null,", "ticket text not null, bridge integer from 'brigde',"),
    );
    project.write("depots/a.jsonl", Expected::default().lines(0, 40));
    let (out, _) = project.expect(0, RUN);
    assert!(out.contains("weighing.bridge had no value in any event: is `brigde` the right name?"), "{out}");
}

#[test]
fn a_ledger_that_was_lost_stops_the_run_until_the_landing_is_adopted() {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 250));
    project.expect(0, RUN);
    std::fs::remove_dir_all(project.path(".sluice")).unwrap();
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("holds batches of another ledger") && err.contains("--adopt"), "{err}");
    project.append("depots/a.jsonl", expected.lines(250, 50));
    project.expect(0, &["run", "weighings", "--until-caught-up", "--adopt"]);
    assert_eq!(project.archived(), expected.archive);
    assert_eq!(project.heavy(), expected.heavy);
    project.expect(0, RUN);
}

#[test]
fn a_ledger_from_a_backup_stops_the_run() {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 50));
    project.expect(0, RUN);
    let backup = std::fs::read(project.path(".sluice/ledger.db")).unwrap();
    project.append("depots/a.jsonl", expected.lines(50, 50));
    project.expect(0, RUN);
    for name in [".sluice/ledger.db-wal", ".sluice/ledger.db-shm"] {
        let _ = std::fs::remove_file(project.path(name));
    }
    project.write(".sluice/ledger.db", backup);
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("holds batch 2") && err.contains("the ledger ends at batch 1"), "{err}");
}

#[rstest]
#[case::cut("{}\n", "cut or replaced")]
#[case::gone("", "cut or replaced")]
fn a_file_that_was_cut_stops_the_run(#[case] text: &str, #[case] message: &str) {
    let project = TestProject::new(PIPELINE);
    project.write("depots/a.jsonl", Expected::default().lines(0, 50));
    project.expect(0, RUN);
    project.write("depots/a.jsonl", text);
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains(message), "{err}");
}

#[test]
fn the_screen_shows_whole_rows() {
    let pipeline = r#"
pipeline = "weighings"
[event.weighing]
fields = "ticket text, gross_kg integer"
[event.weighing.arrives]
at = "depots"
[event.weighing.lands.look]
at = "screen"
when = "gross_kg > 10"
"#;
    let project = TestProject::new(pipeline);
    let long = "x".repeat(300);
    project.write(
        "depots/a.jsonl",
        format!("{{\"ticket\":\"{long}\",\"gross_kg\":20}}\n{{\"ticket\":null,\"gross_kg\":30}}\n{{\"gross_kg\":1}}\n"),
    );
    let (out, _) = project.expect(0, RUN);
    assert!(out.contains(&format!("{long}  20\n")), "{out}");
    assert!(out.contains("∅") && out.contains("ticket"), "{out}");
    // Nothing of the dry run is left behind.
    assert!(crate::common::visible_files(&project.path(".sluice/spool")).is_empty());
}

#[test]
fn a_second_ctrl_c_leaves_at_once_and_loses_nothing() {
    let pipeline =
        PIPELINE.replace("path = \"all/{day:%Y/%m/%d}\"", "path = \"all\"").replace("rows = 100", "rows = 10_000")
            + "[event.weighing.lands.look]\nat = \"screen\"\n";
    let project = TestProject::new(&pipeline);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 9_000));
    // No program reads the pipe: once it is full, the batch cannot settle.
    let mut child = project.command(RUN).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    wait_for("the batch to be sealed", || {
        project.path(".sluice/ledger.db").exists()
            && project.json(&["ledger", "weighings"])["batches"][0]["state"] == "sealed"
    });
    interrupt(&child, "-INT");
    std::thread::sleep(Duration::from_millis(300));
    assert!(child.try_wait().unwrap().is_none(), "the first one waits for the batch");
    interrupt(&child, "-INT");
    assert_eq!(child.wait().unwrap().code(), Some(130));
    let (_, err) = project.expect(0, RUN);
    assert!(err.contains("finished 1 batch"), "{err}");
    assert_eq!(project.archived(), expected.archive);
    assert_eq!(project.heavy(), expected.heavy);
}

#[test]
fn a_missing_folder_is_unreachable() {
    let project = TestProject::new(PIPELINE);
    std::fs::remove_dir(project.path("depots")).unwrap();
    let (_, err) = project.expect(5, RUN);
    assert!(err.contains("depots does not exist") && err.contains("[connection.depots]"), "{err}");
}

#[test]
fn several_lanes_share_the_files() {
    let project = TestProject::new(&PIPELINE.replace("match = \"*.jsonl\"", "match = \"*.jsonl\"\nlanes = 3"));
    let mut expected = Expected::default();
    for i in 0..12 {
        project.write(&format!("depots/{i}.jsonl"), expected.lines(i * 100, 60));
    }
    project.expect(0, RUN);
    assert_eq!(project.archived(), expected.archive);
    assert_eq!(project.heavy(), expected.heavy);
    let ledger = project.json(&["ledger", "weighings"]);
    let mut lanes: Vec<&str> =
        ledger["batches"].as_array().unwrap().iter().map(|b| b["lane"].as_str().unwrap()).collect();
    lanes.sort_unstable();
    lanes.dedup();
    assert_eq!(lanes, ["weighing.0.0", "weighing.0.1", "weighing.0.2"]);
}

#[test]
fn commands_work_from_any_folder_below_the_project() {
    let project = TestProject::new(PIPELINE);
    project.write("depots/a.jsonl", Expected::default().lines(0, 5));
    let output = project.command(RUN).current_dir(project.path("pipelines")).output().unwrap();
    assert!(output.status.success());
    let elsewhere = TestProject::empty();
    let (out, _) = elsewhere.expect(0, &["--project", project.path("").to_str().unwrap()]);
    assert!(out.contains("weighings"), "{out}");
    assert!(PROJECT.contains("tarrow"));
}

/// The state of a pipeline is one word, whichever command is asked.
#[test]
fn every_command_names_the_same_state() {
    let project = TestProject::new(PIPELINE);
    let state = |word: &str, text: &str| {
        assert_eq!(project.json(&[])["pipelines"][0]["state"], word);
        let (out, _) = project.expect(0, &[]);
        assert!(out.contains(text), "{text}: {out}");
        if project.path(".sluice/ledger.db").exists() {
            assert_eq!(project.json(&["status", "weighings"])["pipelines"][0]["state"], word);
            assert_eq!(project.json(&["positions", "weighings"])["state"], word);
            for command in ["status", "positions"] {
                let (out, _) = project.expect(0, &[command, "weighings"]);
                assert!(out.lines().next().unwrap().contains(text), "{command}: {out}");
            }
        }
    };
    state("never_ran", "never ran");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 30));
    project.expect(0, RUN);
    state("at_rest", "at rest");
    // A folder that is in the way of the batch's own stops the run.
    project.write("depots/b.jsonl", expected.lines(30, 30));
    let rejects = project.path("rejects/weighings");
    std::fs::remove_dir_all(&rejects).unwrap();
    std::fs::write(&rejects, "in the way").unwrap();
    assert_ne!(project.run(RUN).status.code(), Some(0));
    state("stopped", "stopped");
    std::fs::remove_file(&rejects).unwrap();
    project.expect(0, RUN);
    state("at_rest", "at rest");
}
