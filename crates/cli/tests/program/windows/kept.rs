//! State of stations, and changes that would damage it.

use super::{PASSAGE, Passages, RUN, landed, pipeline, project, rows, window};
use rstest::rstest;

#[rstest]
#[case("length = \"1m\" }", "length = \"2m\" }", "windows of 1m by lock_id text, with count(*)", "windows of 2m")]
#[case(
    "group = \"lock_id\"",
    "group = \"lock_id, draught_cm\"",
    "by lock_id text, with",
    "by lock_id text, draught_cm integer"
)]
#[case(
    "key = \"passage_id\"",
    "key = \"lock_id\"",
    "once by passage_id text within 1d of event time",
    "once by lock_id text"
)]
fn a_station_that_became_another_one_is_refused(
    #[case] before: &str,
    #[case] after: &str,
    #[case] old: &str,
    #[case] new: &str,
) {
    let text = pipeline();
    let project = project(&text);
    let mut passages = Passages::new(6);
    project.write("locks/a.jsonl", passages.lines(500));
    project.expect(0, RUN);
    project.append("locks/a.jsonl", passages.lines(500));
    project.write("pipelines/passages.toml", text.replace(before, after));
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains(old) && err.contains(new) && err.contains("give the event another name"), "{err}");
    let (_, err) = project.expect(3, &["check", "passages"]);
    assert!(err.contains("state.changed") && err.contains("give the event another name"), "{err}");
    // Lateness may change.
    project.write("pipelines/passages.toml", text.replace("late = \"2m\"", "late = \"3m\""));
    project.expect(0, &["check", "passages"]);
    project.expect(0, RUN);
}

#[test]
fn a_station_that_events_have_passed_by_is_refused() {
    let text = [PASSAGE, &window("minute", "length = \"1m\"", "")].concat();
    let project = project(&text);
    let mut passages = Passages::new(7);
    project.write("locks/a.jsonl", passages.lines(500));
    project.expect(0, RUN);
    project.write("pipelines/passages.toml", PASSAGE);
    project.append("locks/a.jsonl", passages.lines(500));
    project.expect(0, RUN);
    project.write("pipelines/passages.toml", &text);
    project.append("locks/a.jsonl", passages.lines(500));
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("`minute` remembers events up to batch 2, and the pipeline has gone on to batch 4"), "{err}");
    project.write("pipelines/passages.toml", text.replace("minute", "per_minute"));
    project.expect(0, RUN);
}

#[test]
fn what_would_count_events_twice_or_never_is_refused() {
    let project = project(&pipeline());
    let mut passages = Passages::new(8);
    project.write("locks/a.jsonl", passages.lines(1_500));
    project.expect(0, RUN);
    let (_, err) = project.expect(6, &["positions", "passages", "--set", "a.jsonl=0", "--reason", "again", "--yes"]);
    assert!(err.contains("remembers the events before this position"), "{err}");
    // Under other names they start with an empty state, and nothing that is read again is late by the first reading.
    let renamed =
        pipeline().replace("passage_once", "single").replace("minute", "per_minute").replace("five", "per_five");
    let before = rows(&project, "minute").len();
    project.write("pipelines/passages.toml", &renamed);
    project.expect(0, &["positions", "passages", "--set", "a.jsonl=0", "--reason", "again", "--yes"]);
    let (_, err) = project.expect(0, RUN);
    assert!(
        err.contains("per_minute.archive is a new landing") && err.contains("earlier events are not counted in it"),
        "{err}"
    );
    assert_eq!(rows(&project, "per_minute").len(), before);
    project.write("pipelines/passages.toml", pipeline());
    let replay = ["replay", "passages", "--batches", "1", "--reason", "again", "--yes"];
    let before = rows(&project, "all").len();
    let minutes = landed(&project, "minute");
    project.expect(0, &replay);
    project.expect(0, &[&replay[..], &["--landing", "passage.all"]].concat());
    assert_eq!((rows(&project, "all").len(), landed(&project, "minute")), (before, minutes));
    // Another ledger does not have the state.
    std::fs::remove_dir_all(project.path(".sluice")).unwrap();
    let (_, err) = project.expect(6, &[RUN, &["--adopt"]].concat());
    assert!(err.contains("remembers events in the ledger that is lost"), "{err}");
}

#[test]
fn how_much_is_remembered_is_shown() {
    let project = project(&pipeline());
    project.expect(0, &["ledger", "passages", "--state"]);
    let mut passages = Passages::new(9);
    project.write("locks/a.jsonl", passages.lines(800));
    project.expect(0, RUN);
    let (out, _) = project.expect(0, &["ledger", "passages", "--state"]);
    assert!(out.contains("passage_once") && out.contains("minute") && !out.contains('@'), "{out}");
    let report = project.json(&["ledger", "passages", "--state"]);
    let keys = |name: &str| {
        let stations = report["stations"].as_array().unwrap();
        stations.iter().find(|s| s["station"] == name).unwrap()["keys"].as_u64().unwrap()
    };
    assert_eq!(keys("passage_once"), passages.once());
}

#[test]
fn events_without_a_key_are_never_dropped() {
    let project = project(&PASSAGE.replace("key = \"passage_id\"", "key = \"passage_id, draught_cm\""));
    let line = |id: &str, draught: &str| {
        format!(
            "{{\"passage_id\":\"{id}\",\"lock_id\":\"L0\",\"passed_at\":\"2026-07-01T08:00:00Z\",\"draught_cm\":{draught}}}\n"
        )
    };
    project.write("locks/a.jsonl", [line("a", "1"), line("a", "null"), line("a", "null"), line("a", "1")].concat());
    project.expect(0, RUN);
    assert_eq!(rows(&project, "once").len(), 3);
}

#[test]
fn keys_are_forgotten_when_their_time_is_over() {
    let text = PASSAGE.replace("within = \"24h\"", "within = \"10m\"");
    let project = project(&text);
    let line = |id: &str, minute: u32| {
        format!("{{\"passage_id\":\"{id}\",\"lock_id\":\"L0\",\"passed_at\":\"2026-07-01T08:{minute:02}:00Z\"}}\n")
    };
    project.write("locks/a.jsonl", [line("a", 0), line("a", 9), line("b", 10), line("a", 10), line("a", 19)].concat());
    project.expect(0, RUN);
    let minutes: Vec<String> =
        rows(&project, "once").iter().map(|r| r["passed_at"].as_str().unwrap()[14..16].into()).collect();
    assert_eq!(minutes, ["00", "10", "10"]);
    project.append("locks/a.jsonl", line("c", 40));
    project.expect(0, RUN);
    let state = project.json(&["ledger", "passages", "--state"]);
    assert_eq!(state["stations"][0]["keys"], 1, "{state}");
}
