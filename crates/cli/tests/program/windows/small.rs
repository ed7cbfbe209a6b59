//! More groups than memory has room for: those that have none are looked up in the ledger.

use super::{PASSAGE, PROJECT, Passages, RUN, assert_same, balanced, landed, project, rejected, rows, window};
use crate::common::TestProject;
use rstest::rstest;
use serde_json::json;

/// Windows of ten minutes for each of many locks; memory has room for a few groups.
pub(super) fn pipeline(memory: &str) -> String {
    let more = format!("memory = \"{memory}\"");
    let (ten, sliding) = (
        window("ten", "length = \"10m\"", &more),
        window("twenty", "length = \"20m\", every = \"5m\"", &more).replace("late = \"2m\"", "late = \"30s\""),
    );
    [&PASSAGE.replace("rows = 400", "rows = 60"), ten.as_str(), &sliding].concat()
}

pub(super) fn passages(seed: u64) -> Passages {
    Passages { locks: 300, ..Passages::new(seed) }
}

pub(super) fn check(project: &TestProject, passages: &Passages) {
    let (ten, late_ten) = passages.expected(600, 600, 120, Some(passages.newest() - 120));
    let (twenty, late_twenty) = passages.expected(1_200, 300, 30, Some(passages.newest() - 30));
    assert_same(&landed(project, "ten"), &ten, "ten");
    assert_same(&landed(project, "twenty"), &twenty, "twenty");
    assert_eq!(rejected(project).len() as u64, late_ten + late_twenty);
    balanced(project);
}

#[rstest]
#[case::a_few(21, "4KiB")]
#[case::one(22, "1B")]
#[case::half(23, "150KiB")]
fn windows_larger_than_memory_equal_what_another_engine_computes(#[case] seed: u64, #[case] memory: &str) {
    let project = project(&pipeline(memory));
    let mut passages = passages(seed);
    for count in [2_000, 1, 3_000, 900] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
        check(&project, &passages);
    }
    assert!(rows(&project, "ten").len() > 500);
    // What is open is counted whether it is in memory or not.
    let (out, _) = project.expect(0, &["status"]);
    let open = passages.expected(600, 600, 120, None).0.len()
        - passages.expected(600, 600, 120, Some(passages.newest() - 120)).0.len();
    assert!(out.contains(&format!("{open} groups")), "{open} in\n{out}");
}

/// All windows close at once, in several portions from memory and ledger.
#[test]
fn a_run_over_complete_files_closes_what_is_in_the_ledger_as_well() {
    let text = pipeline("4KiB").replace("late = ", "close = \"caught_up\"\nlate = ");
    let project = project(&text);
    let mut passages = passages(24);
    project.append("locks/a.jsonl", passages.lines(5_000));
    project.expect(0, RUN);
    assert_same(&landed(&project, "ten"), &passages.expected(600, 600, 120, None).0, "ten");
    assert_same(&landed(&project, "twenty"), &passages.expected(1_200, 300, 30, None).0, "twenty");
    balanced(&project);
    let state = project.json(&["ledger", "passages", "--state"]);
    let of = |name: &str| state["stations"].as_array().unwrap().iter().find(|s| s["station"] == name).unwrap().clone();
    assert_eq!((&of("ten")["keys"], &of("twenty")["keys"]), (&json!(1), &json!(1)), "up to where they are closed");
}

#[rstest]
#[case::a_few(27, "4KiB")]
#[case::one(28, "1B")]
fn sessions_larger_than_memory_equal_what_another_engine_computes(#[case] seed: u64, #[case] memory: &str) {
    let session = window("session", "gap = \"40s\"", &format!("memory = \"{memory}\""));
    let project = project(&[&PASSAGE.replace("rows = 400", "rows = 60"), session.as_str()].concat());
    let mut passages = passages(seed);
    for count in [1_500, 1, 2_500, 900] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
        let (expected, late) = passages.sessions(40, 120, Some(passages.newest() - 120));
        assert!(passages.count < 2_000 || expected.len() > 500, "{}", expected.len());
        assert_same(&landed(&project, "session"), &expected, "session");
        assert_eq!(rejected(&project).len() as u64, late);
        balanced(&project);
    }
}

/// What was kept while all had room is looked up once it has none, and the other way round.
#[test]
fn memory_may_be_changed_between_runs() {
    let project = project(&pipeline("256MiB"));
    let mut passages = passages(25);
    for memory in ["256MiB", "4KiB", "1B", "256MiB", "40KiB"] {
        project.write("pipelines/passages.toml", pipeline(memory));
        project.append("locks/a.jsonl", passages.lines(1_500));
        project.expect(0, RUN);
        check(&project, &passages);
    }
}

#[test]
fn check_says_how_many_have_room_in_memory() {
    let project = project(&pipeline("100KiB"));
    project.append("locks/a.jsonl", passages(26).lines(50));
    let (out, _) = project.expect(0, &["check"]);
    assert!(out.contains("in memory") && out.contains("the others are looked up in the ledger"), "{out}");
    let each = &project.json(&["check"])["pipelines"][0]["remembers"][1]["each"];
    let room = 100 * 1_024 / each["memory"].as_u64().unwrap();
    assert_eq!((&each["in_memory"], &each["most"]), (&json!(room), &json!(1_000_000)));
}

#[rstest]
#[case::once("once = { key = \"lock_id\", within = \"1h\" }", "", "`memory` belongs to `window` or `reference`")]
#[case::no_size("window = { length = \"1m\" }", "lots", "`lots`")]
fn mistakes_with_memory_are_named(#[case] station: &str, #[case] memory: &str, #[case] expected: &str) {
    let memory = if memory.is_empty() { "1MiB" } else { memory };
    let text = format!(
        "{PASSAGE}[event.made.made]\nof = \"passage\"\n{station}\nmemory = \"{memory}\"\n{}[event.made.lands.archive]\nat = \"archive\"\npath = \"made\"\n",
        if station.starts_with("window") { "columns = \"window_start, count(*) as n\"\n" } else { "" },
    );
    let project = project(&text);
    project.write("sluice.toml", PROJECT);
    let (out, err) = project.expect(3, &["check", "--offline"]);
    assert!(format!("{out}{err}").contains(expected), "{out}{err}");
}
