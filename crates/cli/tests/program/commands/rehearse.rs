//! Rehearsals by the built program: nothing is written, and what would land is shown, kept and compared.

use std::collections::BTreeMap;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant, SystemTime};

use crate::common::{PIPELINE, TestProject};
use serde_json::Value;

const FILE: &str = "pipelines/weighings.toml";

fn line(i: u32) -> String {
    let weight = if i % 10 == 3 { "\"much\"".to_string() } else { (i * 100).to_string() };
    format!("{{\"ticket\":\"T{i}\",\"day\":\"2026-04-0{}\",\"gross_kg\":{weight}}}\n", 1 + i % 3)
}

fn project(events: u32) -> TestProject {
    let project = TestProject::new(PIPELINE);
    project.write("depots/a.jsonl", (0..events).map(line).collect::<String>());
    project
}

fn edit(project: &TestProject, from: &str, to: &str) {
    let text = std::fs::read_to_string(project.path(FILE)).unwrap();
    assert!(text.contains(from), "no `{from}` in\n{text}");
    std::fs::write(project.path(FILE), text.replacen(from, to, 1)).unwrap();
}

/// Every file and folder below, with its length and the time of its last change.
fn everything(folder: &Path) -> BTreeMap<PathBuf, (u64, SystemTime)> {
    let mut found = BTreeMap::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let data = std::fs::metadata(&path).unwrap();
        if data.is_dir() {
            found.extend(everything(&path));
        }
        found.insert(path, (data.len(), data.modified().unwrap()));
    }
    found
}

#[test]
fn nothing_is_written_and_no_position_moves() {
    let project = project(30);
    let before = everything(&project.path("."));
    for arguments in [
        vec!["rehearse", "weighings"],
        vec!["rehearse", "weighings", "--trace", "2"],
        vec!["peek", "weighing"],
        vec!["check"],
    ] {
        project.expect(0, &arguments);
        assert_eq!(everything(&project.path(".")), before, "{arguments:?}");
    }
    // Between two runs as well: the second run reads what the first one left, and no more.
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    project.append("depots/a.jsonl", (30..40).map(line).collect::<String>());
    let ledger = project.json(&["ledger", "weighings"]);
    project.expect(0, &["rehearse", "weighings"]);
    assert_eq!(project.json(&["ledger", "weighings"]), ledger);
    assert_eq!(project.json(&["run", "weighings", "--until-caught-up"])["read"], 10);
}

#[test]
fn what_lands_is_what_was_rehearsed() {
    let project = project(60);
    let rehearsed = project.json(&["rehearse", "weighings", "--show", "100"]);
    let run = project.json(&["run", "weighings", "--until-caught-up"]);
    assert_eq!(rehearsed["stations"], run["stations"]);
    let tickets: Vec<&str> = rehearsed["landings"][1]["first"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| r["out"]["ticket"].as_str().unwrap())
        .collect();
    let mut heavy: Vec<String> = project.heavy().into_keys().collect();
    heavy.sort_by_key(|t| t[1..].parse::<u32>().unwrap());
    assert_eq!(tickets, heavy);
    let stopped = rehearsed["stopped"].as_array().unwrap();
    let of = |what: &str| stopped.iter().find(|s| s["what"] == what).unwrap();
    assert_eq!(
        (&of("rejected")["reason"], &of("rejected")["count"], &of("rejected")["first_event"]),
        (&"type".into(), &6.into(), &4.into())
    );
    assert_eq!(
        (&of("filtered")["condition"], &of("filtered")["station"]),
        (&"gross_kg > 500".into(), &"weighing.heavy".into())
    );
}

#[test]
fn one_event_is_followed_to_its_reason() {
    let project = project(10);
    let (out, _) = project.expect(0, &["rehearse", "weighings", "--trace", "4"]);
    assert!(
        out.contains("\"gross_kg\":\"much\"")
            && out.contains("rejected, type: gross_kg: expected integer, found the text `much`"),
        "{out}"
    );
    let found = project.json(&["rehearse", "weighings", "--trace", "7"]);
    let heavy = &found["stations"][2];
    assert_eq!((&heavy["station"], &heavy["conditions"][0]["is"]), (&"weighing.heavy".into(), &true.into()));
    assert_eq!(found["stations"][1]["folder"], "all/2026/04/01");
}

#[test]
fn a_window_of_time_takes_its_events_from_anywhere() {
    let project = project(300);
    edit(&project, "[event.weighing]", "[event.weighing]\ntime = \"day\"");
    let arguments =
        ["rehearse", "weighings", "--since", "2026-04-03", "--until", "2026-04-04", "--events", "20", "--show", "50"];
    let found = project.json(&arguments);
    assert_eq!(found["events"], 20);
    let rows = found["landings"][0]["first"].as_array().unwrap();
    assert!(!rows.is_empty() && rows.iter().all(|r| r["out"]["day"] == "2026-04-03"), "{rows:?}");
}

#[test]
fn an_outcome_is_kept_and_expected() {
    let project = project(30);
    project.expect(0, &["rehearse", "weighings", "--keep", "tests/w.kept"]);
    // The kept events serve, whatever has become of the source.
    std::fs::remove_file(project.path("depots/a.jsonl")).unwrap();
    let (out, _) = project.expect(0, &["rehearse", "weighings", "--expect", "tests/w.kept"]);
    assert!(out.contains("as tests/w.kept expects"), "{out}");
    let (_, err) = project.expect(3, &["rehearse", "weighings", "--keep", "tests/w.kept"]);
    assert!(err.contains("is there already") && err.contains("--yes"), "{err}");
    edit(&project, "columns = \"ticket, gross_kg\"", "columns = \"ticket, gross_kg + 1 as gross_kg\"");
    let (out, _) = project.expect(6, &["rehearse", "weighings", "--expect", "tests/w.kept"]);
    for text in ["weighing.heavy: gross_kg in 22 events", "expected 600", "now      601", "byte"] {
        assert!(out.contains(text), "no `{text}` in\n{out}");
    }
    let output = project.run(&["rehearse", "weighings", "--expect", "tests/w.kept", "--output", "json"]);
    let found: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(found["differences"].as_array().unwrap().len(), 22);
    // The correct result becomes the expected result.
    project.expect(0, &["rehearse", "weighings", "--events", "tests/w.kept", "--keep", "tests/w.kept", "--yes"]);
    project.expect(0, &["rehearse", "weighings", "--expect", "tests/w.kept"]);
}

/// A program in the background, and its output so far.
struct Following {
    child: Child,
    out: Arc<Mutex<String>>,
}

impl Following {
    fn start(project: &TestProject, arguments: &[&str]) -> Self {
        let mut child = project.command(arguments).stdout(Stdio::piped()).spawn().unwrap();
        let mut stdout = child.stdout.take().unwrap();
        let out = Arc::new(Mutex::new(String::new()));
        let seen = Arc::clone(&out);
        std::thread::spawn(move || {
            let mut piece = [0; 4096];
            while let Ok(n @ 1..) = stdout.read(&mut piece) {
                seen.lock().unwrap().push_str(&String::from_utf8_lossy(&piece[..n]));
            }
        });
        Self { child, out }
    }

    /// Waits for a text in what was written since the last call; gives it.
    fn wait_for(&self, text: &str) -> String {
        let end = Instant::now() + Duration::from_secs(120);
        loop {
            let mut out = self.out.lock().unwrap();
            if out.contains(text) {
                return std::mem::take(&mut *out);
            }
            assert!(Instant::now() < end, "no `{text}` in\n{out}");
            drop(out);
            std::thread::sleep(Duration::from_millis(10));
        }
    }
}

impl Drop for Following {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn each_save_shows_the_new_result_and_a_mistake_keeps_the_last() {
    let project = project(10_000);
    let mut following = Following::start(&project, &["rehearse", "weighings", "--follow", "--events", "10000"]);
    following.wait_for("weighing.heavy: 9,000 in → 8,995 rows");
    edit(&project, "gross_kg > 500", "gross_kg > 900000");
    let out = following.wait_for("weighing.heavy: 9,000 in → 899 rows");
    assert!(out.contains("changed weighing.heavy: what lands at all in"), "{out}");
    edit(&project, "gross_kg > 900000", "gros_kg > 900000");
    let out = following.wait_for("899 rows");
    assert!(out.contains("did you mean `gross_kg`?") && out.contains("the last good result"), "{out}");
    edit(&project, "gros_kg > 900000", "gross_kg > 500");
    following.wait_for("8,995 rows");
    // Ctrl-C ends it, and that is not a failure.
    std::process::Command::new("kill").args(["-INT", &following.child.id().to_string()]).status().unwrap();
    assert_eq!(following.child.wait().unwrap().code(), Some(0));
}
