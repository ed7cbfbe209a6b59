//! Generated events, and a pipeline that reads them.

use crate::common::TestProject;
use rstest::rstest;

#[test]
fn the_same_seed_makes_the_same_events() {
    let project = TestProject::empty();
    let arguments = ["emit", "passages", "--count", "50", "--seed", "3", "--starting", "2026-04-01", "--late", "10%"];
    let (first, note) = project.expect(0, &arguments);
    assert_eq!(first.lines().count(), 50);
    assert!(note.contains("50 events") && note.contains("late"), "{note}");
    assert_eq!(project.expect(0, &arguments).0, first);
    let first: serde_json::Value = serde_json::from_str(first.lines().next().unwrap()).unwrap();
    assert!(first["cargo"]["kind"].is_string(), "{first}");
}

#[test]
fn several_go_into_one_folder_and_all_of_it_lands_or_is_rejected() {
    let project = TestProject::empty();
    project.expect(0, &["init", "."]);
    let (mut events, mut bad) = (0, 0);
    for seed in ["1", "2", "2"] {
        let arguments =
            ["emit", "tolls", "--count", "3000", "--seed", seed, "--bad", "2%", "--into", "inbox", "--format", "csv"];
        let found = project.json(&arguments);
        events += found["events"].as_u64().unwrap();
        bad += found["bad"].as_u64().unwrap();
    }
    assert_eq!(crate::common::visible_files(&project.path("inbox")).len(), 3);
    project.expect(0, &["draft", "tolls", "inbox:*.csv"]);
    let run = project.json(&["run", "tolls", "--until-caught-up"]);
    assert_eq!((&run["read"], run["rejected"].as_u64().unwrap() >= bad - 5), (&events.into(), true), "{run}");
    assert_eq!(run["rejected"].as_u64().unwrap() + run["stations"][1]["output"].as_u64().unwrap(), events);
}

#[test]
fn a_rate_is_not_passed_and_a_shape_can_be_a_file() {
    let project = TestProject::empty();
    project.write(
        "gate.toml",
        "shape = \"gate\"\n[field]\nat = { time = \"epoch_ms\" }\n\"gate.open\" = { pick = [\"yes\", \"no\"] }\n",
    );
    let found = project.json(&["emit", "gate.toml", "--rate", "100", "--for", "300ms", "--into", "out"]);
    let events = found["events"].as_u64().unwrap();
    assert!((1..=31).contains(&events), "{found}");
    let text = std::fs::read_to_string(project.path("out/gate-1-1.jsonl")).unwrap();
    assert_eq!(text.lines().count() as u64, events);
    assert!(text.contains("\"gate\":{\"open\":"), "{text}");
}

#[rstest]
#[case(&["emit", "pasages", "--count", "1"], "did you mean `passages`?")]
#[case(&["emit", "passages"], "--count N")]
#[case(&["emit", "wrong.toml", "--count", "1"], "did you mean `pick`?")]
fn mistakes_are_said_with_a_remedy(#[case] arguments: &[&str], #[case] help: &str) {
    let project = TestProject::empty();
    project.write("wrong.toml", "shape = \"w\"\n[field]\na = { pik = [\"x\"] }\n");
    let (_, err) = project.expect(3, arguments);
    assert!(err.contains(help), "{err}");
}
