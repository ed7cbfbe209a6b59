//! With `--output json` standard output is one valid JSON document in every case: good ones, failures and wrong usage.

use crate::common::{PIPELINE, TestProject};
use rstest::rstest;
use serde_json::Value;

fn project() -> TestProject {
    let project = TestProject::new(PIPELINE);
    project.write(
        "depots/a.jsonl",
        "{\"ticket\":\"A1\",\"day\":\"2026-04-01\",\"gross_kg\":700}\n{\"ticket\":\"A2\",\"day\":\"x\"}\n",
    );
    project
}

/// The one document on standard output.
fn document(project: &TestProject, arguments: &[&str]) -> (i32, Value) {
    let output = project.run(&[arguments, &["--output", "json"]].concat());
    let text = String::from_utf8(output.stdout).unwrap();
    let value: Value = serde_json::from_str(&text)
        .unwrap_or_else(|e| panic!("{arguments:?}: {e}\n{text}\n{}", String::from_utf8_lossy(&output.stderr)));
    assert!(value["sluice"].is_string(), "{arguments:?}: {value}");
    assert_eq!(value["version"], 1, "{arguments:?}: {value}");
    (output.status.code().unwrap(), value)
}

#[test]
fn every_command_writes_one_document() {
    let project = project();
    let before: &[&[&str]] = &[
        &[],
        &["check"],
        &["check", "--offline"],
        &["peek", "depots/a.jsonl"],
        &["peek", "weighings.weighing"],
        &["draft", "more", "depots:*.jsonl", "--print"],
        &["draft", "more", "depots:*.jsonl"],
        &["rehearse", "weighings"],
        &["rehearse", "weighings", "--trace", "1"],
        &["rehearse", "weighings", "--keep", "kept.json"],
        &["rehearse", "weighings", "--expect", "kept.json"],
        &["run", "weighings", "--until-caught-up"],
        &["run", "weighings", "--until-caught-up"],
    ];
    let after: &[&[&str]] = &[
        &[],
        &["status"],
        &["status", "weighings"],
        &["ledger", "weighings"],
        &["ledger", "weighings", "--batch", "1"],
        &["positions", "weighings"],
        &["rejects", "weighings"],
        &["rejects", "weighings", "--retry", "--yes"],
        &["peek", "weighings.weighing.heavy"],
        &["peek", "weighings.weighing", "weighings.weighing.heavy", "--key", "ticket"],
        &["replay", "weighings", "--batches", "1", "--yes"],
        &["manual"],
        &["manual", "date_trunc"],
        &["manual", "--pages", "pages"],
        &["manual", "--man", "man"],
        &["completions", "bash"],
        &["init", "elsewhere"],
        &["demo", "tried"],
        &["demo", "tried"],
        &["emit", "passages", "--count", "3", "--into", "."],
        &["--help"],
        &["run", "--help"],
        &["--version"],
    ];
    for arguments in before.iter().chain(after) {
        let (code, value) = document(&project, arguments);
        assert_eq!(code, 0, "{arguments:?}: {value}");
    }
}

#[rstest]
#[case(2, "failure", &["rnu"])]
#[case(2, "failure", &["run"])]
#[case(2, "failure", &["run", "weighings", "--stop-after", "none"])]
#[case(2, "failure", &["check", "--nothing"])]
#[case(3, "failure", &["run", "nothing"])]
#[case(3, "failure", &["peek", "nothing:here"])]
#[case(3, "failure", &["peek", "nothing.jsonl"])]
#[case(3, "failure", &["manual", "qqqqqq"])]
#[case(3, "failure", &["ledger", "nothing"])]
#[case(3, "failure", &["emit", "passages"])]
#[case(3, "failure", &["emit", "passages", "--count", "1"])]
#[case(3, "failure", &["emit", "nothing", "--count", "1", "--into", "."])]
#[case(3, "failure", &["peek", "depots/a.jsonl", "--raw"])]
#[case(3, "failure", &["rejects", "weighings", "--raw"])]
#[case(3, "failure", &["status", "--follow"])]
#[case(3, "failure", &["rehearse", "weighings", "--follow"])]
#[case(3, "failure", &["init", "."])]
#[case(3, "failure", &["audit", "weighings"])]
#[case(3, "failure", &["positions", "weighings", "--set", "nonsense"])]
#[case(3, "failure", &["--project", "nowhere"])]
fn a_failure_is_one_document(#[case] code: i32, #[case] kind: &str, #[case] arguments: &[&str]) {
    let (ended, value) = document(&project(), arguments);
    assert_eq!((ended, value["sluice"].as_str()), (code, Some(kind)), "{arguments:?}: {value}");
    assert_eq!(value["exit"], code, "{value}");
    assert!(value["message"].as_str().is_some_and(|m| !m.is_empty()), "{value}");
}

#[test]
fn a_run_over_its_limit_of_rejects_is_one_document_and_an_exit_code() {
    let project = project();
    project.write(
        "pipelines/weighings.toml",
        PIPELINE.replace("share = \"50%\", least = 1000", "share = \"1%\", least = 1"),
    );
    let (code, value) = document(&project, &["run", "weighings", "--until-caught-up"]);
    assert_eq!((code, value["sluice"].as_str()), (4, Some("run")), "{value}");
    assert!(value["over_limit"].is_string(), "{value}");
}

#[test]
fn a_file_with_mistakes_is_one_document() {
    let project = project();
    project.write("pipelines/weighings.toml", PIPELINE.replace("gross_kg > 500", "gros_kg > 500"));
    for (code, arguments) in [(3, ["check", "weighings"]), (3, ["run", "weighings"]), (3, ["rehearse", "weighings"])] {
        let (ended, value) = document(&project, &arguments);
        assert_eq!(ended, code, "{arguments:?}: {value}");
    }
}

#[test]
fn rows_for_the_screen_leave_standard_output_to_the_document() {
    let project = project();
    let shown = "[event.weighing.lands.shown]\nat = \"screen\"\n[event.weighing.lands.heavy]";
    project.write("pipelines/weighings.toml", PIPELINE.replace("[event.weighing.lands.heavy]", shown));
    let output = project.run(&["run", "weighings", "--until-caught-up", "--output", "json"]);
    let value: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(value["read"], 2, "{value}");
    assert!(String::from_utf8(output.stderr).unwrap().contains("A1"));
}
