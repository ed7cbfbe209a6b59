//! The log of a run whose output is not a terminal, and hints.

use crate::common::{Expected, PIPELINE, TestProject};
use rstest::rstest;
use serde_json::Value;

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

/// Every line of the log, as JSON.
fn log(project: &TestProject, code: i32, arguments: &[&str]) -> Vec<Value> {
    let (_, err) = project.expect(code, &[RUN, &["--log", "json"], arguments].concat());
    err.lines().map(|line| serde_json::from_str(line).unwrap_or_else(|e| panic!("{e}: {line}"))).collect()
}

fn messages(log: &[Value]) -> Vec<&str> {
    log.iter().map(|line| line["message"].as_str().unwrap()).collect()
}

#[test]
fn every_batch_is_logged_with_its_counts() {
    let project = TestProject::new(PIPELINE);
    project.write("depots/a.jsonl", Expected::default().lines(0, 240));
    let log = log(&project, 0, &[]);
    let messages = messages(&log);
    assert_eq!((messages[0], *messages.last().unwrap()), ("run started", "run ended"));
    let batches: Vec<&Value> = log.iter().filter(|l| l["number"].is_u64()).collect();
    let sum = |name: &str| batches.iter().map(|b| b[name].as_u64().unwrap()).sum::<u64>();
    assert_eq!((batches.len(), sum("read"), sum("rejected")), (3, 240, 5), "{log:#?}");
    assert!(
        batches.iter().all(|b| b["level"] == "WARN" && b["lane"] == "weighing.0.0" && b["pipeline"] == "weighings")
    );
    assert_eq!(log.last().unwrap()["read"], 240);
}

/// The reason why a run stops is a line of the log, and nothing but JSON is there.
#[test]
fn why_a_run_stops_is_logged() {
    let project = TestProject::new(PIPELINE);
    std::fs::remove_dir(project.path("depots")).unwrap();
    let log = log(&project, 5, &[]);
    let last = log.last().unwrap();
    assert_eq!((&last["level"], &last["message"]), (&"ERROR".into(), &"run stopped".into()));
    assert!(last["reason"].as_str().unwrap().contains("depots does not exist"), "{last}");
    assert!(last["help"].as_str().unwrap().contains("[connection.depots]"), "{last}");
}

#[rstest]
#[case(&["--log", "off"], None, &[])]
#[case(&["--log-level", "error"], None, &[])]
#[case(&["--log-level", "warn"], None, &[])]
#[case(&[], Some("error"), &[])]
#[case(&["--log-level", "info"], Some("error"), &["run started", "batch settled", "run ended"])]
#[case(&[], None, &["run started", "batch settled", "run ended"])]
#[case(&["--log-level", "debug"], None, &["run started", "events read", "batch settled"])]
fn the_level_decides(#[case] options: &[&str], #[case] variable: Option<&str>, #[case] expected: &[&str]) {
    let project = TestProject::new(PIPELINE);
    project.write("depots/a.jsonl", "{\"ticket\":\"T1\",\"day\":\"2026-04-01\",\"gross_kg\":5}\n");
    let mut command = project.command(&[RUN, options].concat());
    if let Some(level) = variable {
        command.env("SLUICE_LOG_LEVEL", level);
    }
    let output = command.output().unwrap();
    let log = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.success(), "{log}");
    assert_eq!(log.is_empty(), expected.is_empty(), "{log}");
    assert!(expected.iter().all(|text| log.contains(text)), "{log}");
}

/// Values and names cannot forge a line of the log.
#[test]
fn a_line_of_the_log_stays_one_line() {
    let project = TestProject::new(&PIPELINE.replace("at    = \"depots\"", "at    = \"dep\""));
    project.append("sluice.toml", "[connection.dep]\nurl = \"file:no\\nINFO forged\\u001b[31m\"\n");
    let (_, err) = project.expect(5, &[RUN, &["--log", "text"]].concat());
    assert!(!err.lines().any(|line| line.starts_with("INFO forged")) && !err.contains('\u{1b}'), "{err:?}");
}

#[test]
fn a_new_landing_says_how_to_fill_it() {
    let project = TestProject::new(PIPELINE);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 250));
    let (_, err) = project.expect(0, RUN);
    assert!(!err.contains("new landing"), "{err}");
    let third = "\n[event.weighing.lands.third]\nat = \"archive\"\npath = \"third\"\nformat = \"jsonl\"\n";
    project.append("pipelines/weighings.toml", third);
    let (_, err) = project.expect(0, RUN);
    let command = "sluice replay weighings --batches 1-3 --landing weighing.third";
    assert!(err.contains("weighing.third is a new landing") && err.contains(command), "{err}");
    let arguments: Vec<&str> = command.split(' ').skip(1).chain(["--yes"]).collect();
    project.expect(0, &arguments);
    let rows: usize = crate::common::visible_files(&project.path("archive/third"))
        .iter()
        .map(|file| std::fs::read_to_string(file).unwrap().lines().count())
        .sum();
    assert_eq!(rows, 245);
    let (_, err) = project.expect(0, RUN);
    assert!(!err.contains("new landing"), "{err}");
}

/// The place of each event within its file, also in a packed one.
#[test]
fn rows_can_carry_the_file_and_the_place_that_they_come_from() {
    let project = TestProject::new(
        &PIPELINE.replace("columns = \"ticket, gross_kg\"", "columns = \"ticket, origin.file, origin.byte\""),
    );
    let text = Expected::default().lines(0, 1000);
    project.write("depots/a.jsonl", &text);
    project.expect(0, RUN);
    let mut seen = 0;
    for file in crate::common::visible_files(&project.path("archive/heavy")) {
        for line in std::fs::read_to_string(file).unwrap().lines() {
            let row: Value = serde_json::from_str(line).unwrap();
            assert_eq!(row["file"], "a.jsonl");
            let at = usize::try_from(row["byte"].as_u64().unwrap()).unwrap();
            let start = format!("{{\"ticket\":{}", row["ticket"]);
            assert!(text[at..].starts_with(&start), "{row}: {}", &text[at..at + 30]);
            seen += 1;
        }
    }
    assert!(seen > 400, "{seen} rows");
}

/// A field cannot take the place of a column of the origin.
#[test]
fn a_field_with_the_name_of_a_column_of_the_origin_is_refused() {
    let project = TestProject::new(
        &PIPELINE
            .replace("fields = \"ticket text not null", "fields = '\"origin.file\" text, ticket text not null")
            .replace("gross_kg integer not null\"", "gross_kg integer not null'"),
    );
    let (_, err) = project.expect(3, &["check", "--offline"]);
    assert!(err.contains("`origin.file` is the name of a column of the origin"), "{err}");
}

#[test]
fn the_old_names_of_columns_lead_to_the_new_ones() {
    let project = TestProject::new(&PIPELINE.replace("columns = \"ticket, gross_kg\"", "columns = \"ticket, _file\""));
    let (_, err) = project.expect(3, &["check", "--offline"]);
    assert!(err.contains("there is no column `_file`") && err.contains("`origin.file`"), "{err}");
}
