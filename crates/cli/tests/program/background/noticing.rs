//! Notices: each begins once and is over once, arrives however often its way fails, and never holds up a pipeline.

use std::io::Write as _;

use rstest::rstest;
use serde_json::Value;

use super::{Kept, kill, wait_settled, wait_state};
use crate::common::running::wait_for;
use crate::common::{Expected, PIPELINE, TestProject};

/// A project with rules, whose batches are small.
fn noticed(rules: &str) -> Kept {
    let project = TestProject::new(&PIPELINE.replace("every = \"1h\"", "every = \"200ms\""));
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", format!("{text}\n[recipient.desk]\nfile = \"notices.jsonl\"\n{rules}"));
    Kept(project)
}

fn read(project: &TestProject, path: &str) -> String {
    std::fs::read_to_string(project.path(path)).unwrap()
}

/// What the desk got: rule and phase, with the text.
fn told(project: &TestProject) -> Vec<(String, String, String)> {
    let text = std::fs::read_to_string(project.path("notices.jsonl")).unwrap_or_default();
    let one = |line: &str| {
        let message: Value = serde_json::from_str(line).unwrap();
        let part = |key: &str| message[key].as_str().unwrap().to_string();
        (part("notice"), part("phase"), part("message"))
    };
    text.lines().map(one).collect()
}

fn kinds(project: &TestProject) -> Vec<(String, String)> {
    told(project).into_iter().map(|(notice, phase, _)| (notice, phase)).collect()
}

fn pair(notice: &str, phase: &str) -> (String, String) {
    (notice.into(), phase.into())
}

#[test]
fn rejects_and_silence_are_told_once_each_and_when_they_are_over() {
    let project = noticed(
        "[notice.bad]\nrejects = 5\nwithin = \"4s\"\nto = \"desk\"\n[notice.quiet]\nsilent = \"3s\"\nto = \"desk\"\n",
    );
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 500));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 500);
    wait_for(|| kinds(&project).contains(&pair("bad", "begins")));
    wait_for(|| kinds(&project).contains(&pair("quiet", "begins")));
    wait_for(|| kinds(&project).contains(&pair("bad", "over")));
    let (shown, _) = project.expect(0, &["status"]);
    assert!(shown.contains("quiet (") && shown.contains("has read no event for"), "{shown}");
    // One event ends the silence.
    project.write("depots/b.jsonl", expected.lines(500, 1));
    wait_for(|| kinds(&project).contains(&pair("quiet", "over")));
    project.expect(0, &["stop", "--all"]);
    let all = told(&project);
    let bad: Vec<_> = all.iter().filter(|(notice, ..)| notice == "bad").collect();
    assert_eq!(bad.len(), 2, "{all:?}");
    let text = &bad[0].2;
    assert!(text.starts_with("weighings rejected ") && text.ends_with(" events within 4s (limit 5)"), "{text}");
    let listed = project.json(&["notices"]);
    assert!(listed["notices"].as_array().unwrap().len() >= 2);
    assert!(listed["notices"].as_array().unwrap().iter().all(|n| n["messages"][0]["sent_at"].is_i64()), "{listed:#}");
    expected.check(&project);
}

/// The last pipeline stops, and the process ends with it: the notice is sent before.
#[test]
fn a_pipeline_that_stops_is_told_and_when_it_runs_again() {
    let project = noticed("[notice.stops]\nstopped = true\nto = \"desk\"\n");
    let good = read(&project, "pipelines/weighings.toml");
    let text = good.replace("share = \"50%\", least = 1000", "share = \"1%\", least = 2");
    assert_ne!(text, good);
    project.write("pipelines/weighings.toml", &text);
    project.write("depots/a.jsonl", Expected::default().lines(0, 500));
    project.expect(0, &["start"]);
    wait_for(|| kinds(&project) == [pair("stops", "begins")]);
    assert!(told(&project)[0].2.starts_with("weighings stopped: "), "{:?}", told(&project));
    wait_for(|| super::process(&project).is_none());
    project.write("pipelines/weighings.toml", &good);
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 500);
    wait_for(|| kinds(&project) == [pair("stops", "begins"), pair("stops", "over")]);
}

/// A source that goes away and comes back.
#[test]
fn a_source_that_is_away_is_told_once() {
    let project =
        noticed("[notice.away]\nunreachable = \"1s\"\nto = \"desk\"\n[notice.fails]\nstopped = true\nto = \"desk\"\n");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 100));
    std::fs::rename(project.path("depots"), project.path("elsewhere")).unwrap();
    project.expect(0, &["start"]);
    wait_state(&project, "weighings", "waits");
    wait_for(|| kinds(&project).len() == 2);
    std::fs::rename(project.path("elsewhere"), project.path("depots")).unwrap();
    wait_settled(&project, "weighings", 100);
    wait_for(|| kinds(&project).len() == 4);
    let mut found = kinds(&project);
    found.sort();
    let expected_kinds = [pair("away", "begins"), pair("away", "over"), pair("fails", "begins"), pair("fails", "over")];
    assert_eq!(found, expected_kinds);
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}

/// A recipient that fails is tried again, in order, also by the next process; the pipeline does not wait for it.
#[test]
fn what_does_not_arrive_is_tried_again_and_disturbs_nobody() {
    let project = noticed(
        "[recipient.bell]\ncommand = [\"sh\", \"-c\", \"test -e open || { echo shut >&2; exit 1; }; cat >> rung\"]\n\
         [recipient.slow]\ncommand = [\"sleep\", \"600\"]\n\
         [notice.bad]\nrejects = 5\nwithin = \"3s\"\nto = [\"bell\", \"slow\", \"desk\"]\n",
    );
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 500));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 500);
    wait_for(|| kinds(&project) == [pair("bad", "begins"), pair("bad", "over")]);
    let error = || project.json(&["notices"])["notices"][0]["messages"][0]["error"].clone();
    wait_for(|| error() == "sh ended with exit code 1: shut");
    kill(&project);
    project.write("open", "");
    project.expect(0, &["start"]);
    let rung = || std::fs::read_to_string(project.path("rung")).unwrap_or_default();
    wait_for(|| rung().lines().count() == 2);
    let phases: Vec<Value> = rung().lines().map(|line| serde_json::from_str::<Value>(line).unwrap()).collect();
    assert_eq!((phases[0]["phase"].clone(), phases[1]["phase"].clone()), ("begins".into(), "over".into()));
    assert_ne!(phases[0]["id"], phases[1]["id"]);
    project.write("depots/b.jsonl", expected.lines(500, 100));
    wait_settled(&project, "weighings", 600);
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}

/// What is behind is asked of the source. A pipeline that is held back is behind, until it no longer is.
#[test]
fn a_pipeline_that_is_behind_is_told_until_it_has_caught_up() {
    let project = noticed("[notice.late]\nbehind = \"2s\"\nto = \"desk\"\n");
    let text = read(&project, "pipelines/weighings.toml");
    project.write(
        "pipelines/weighings.toml",
        text.replace("pipeline = \"weighings\"\n", "pipeline = \"weighings\"\nat_most = { events = 100 }\n"),
    );
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 1500));
    project.expect(0, &["start"]);
    wait_for(|| kinds(&project) == [pair("late", "begins")]);
    wait_settled(&project, "weighings", 1500);
    wait_for(|| kinds(&project) == [pair("late", "begins"), pair("late", "over")]);
    assert_eq!(told(&project)[1].2, "weighings has caught up");
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}

/// A rule that is added while pipelines run is followed; one that is removed is over; one with an error changes nothing.
#[test]
fn rules_are_read_again_when_they_are_edited() {
    let project = noticed("");
    let text = read(&project, "sluice.toml");
    project.write("depots/a.jsonl", Expected::default().lines(0, 100));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 100);
    project.write("sluice.toml", format!("{text}[notice.quiet]\nsilent = \"1s\"\nto = \"desk\"\n"));
    wait_for(|| kinds(&project) == [pair("quiet", "begins")]);
    project.write("sluice.toml", format!("{text}[notice.quiet]\nsilent = \"1 fortnight\"\nto = \"desk\"\n"));
    let (_, said) = project.expect(3, &["notices"]);
    assert!(said.contains("silent"), "{said}");
    project.write("sluice.toml", &text);
    wait_for(|| kinds(&project) == [pair("quiet", "begins"), pair("quiet", "over")]);
    assert_eq!(super::status(&project, "weighings")["background"]["doing"], "runs");
}

#[test]
fn new_fields_are_told_one_by_one_without_their_values() {
    let project = noticed("[notice.fields]\nschema = true\nto = \"desk\"\n");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 100));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 100);
    let more: String = expected
        .lines(100, 100)
        .lines()
        .map(|line| format!("{}\n", line.replacen('{', "{\"pilot\":\"gate-7\",\"berth\":3,", 1)))
        .collect();
    let mut file = std::fs::File::create(project.path("depots/b.jsonl")).unwrap();
    file.write_all(more.as_bytes()).unwrap();
    wait_settled(&project, "weighings", 200);
    wait_for(|| told(&project).iter().filter(|(_, _, text)| text.contains("new field")).count() == 2);
    let text = read(&project, "notices.jsonl");
    assert!(text.contains("pilot") && text.contains("berth") && !text.contains("gate-7"), "{text}");
}

/// Killed between any two steps: each message arrives, and one that arrives twice is known by its id.
#[rstest]
#[case("notice.noted", 1)]
#[case("notice.sent", 2)]
fn a_kill_loses_no_message(#[case] point: &str, #[case] begins: usize) {
    let project = noticed("[notice.bad]\nrejects = 5\nwithin = \"6s\"\nto = \"desk\"\n");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 500));
    let started = project.command(&["start"]).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
    assert!(started.status.success());
    let killed = || super::process(&project).is_none_or(|process| !super::is_alive(process));
    wait_for(killed);
    project.expect(0, &["start"]);
    wait_for(|| kinds(&project).contains(&pair("bad", "over")));
    let text = read(&project, "notices.jsonl");
    let ids: Vec<Value> = text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap()["id"].clone()).collect();
    let count = kinds(&project).iter().filter(|kind| **kind == pair("bad", "begins")).count();
    assert_eq!((count, ids.len()), (begins, begins + 1), "{text}");
    assert!(ids[..begins].iter().all(|id| *id == ids[0]), "{text}");
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}

/// Whoever writes events can make up names without end.
#[test]
fn made_up_fields_are_told_of_in_moderation() {
    let project = noticed("[notice.fields]\nschema = true\nto = \"desk\"\n");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 100));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 100);
    let names: String = (0..60).map(|k| format!("\"made_up_{k}\":1,")).collect();
    let more: String = expected
        .lines(100, 100)
        .lines()
        .map(|line| format!("{}\n", line.replacen('{', &format!("{{{names}"), 1)))
        .collect();
    project.write("depots/b.jsonl", more);
    wait_settled(&project, "weighings", 200);
    // One of them is about the values that do not fit.
    let begun = || kinds(&project).iter().filter(|kind| **kind == pair("fields", "begins")).count();
    wait_for(|| begun() == 20);
    std::thread::sleep(std::time::Duration::from_secs(3));
    assert_eq!(begun(), 20);
    project.expect(0, &["stop", "--all"]);
    assert_eq!(project.archived(), expected.archive);
}

#[test]
fn a_test_message_says_whether_it_has_arrived() {
    let project = noticed("[recipient.bell]\ncommand = [\"false\"]\n");
    let (out, _) = project.expect(5, &["notices", "--test"]);
    assert!(out.contains("desk: sent (file notices.jsonl)"), "{out}");
    assert!(out.contains("bell: not sent (command false): false ended with exit code 1"), "{out}");
    project.expect(0, &["notices", "--test", "desk"]);
    assert_eq!(told(&project).len(), 2);
    let (_, said) = project.expect(3, &["notices", "--test", "desc"]);
    assert!(said.contains("there is no recipient `desc`") && said.contains("desk"), "{said}");
}

#[test]
fn a_rule_about_a_pipeline_that_is_not_there_is_an_error_of_check() {
    let project = noticed("[notice.late]\nbehind = \"1m\"\npipelines = [\"weighing\"]\n");
    let (out, err) = project.expect(3, &["check", "--offline"]);
    let said = format!("{out}{err}");
    assert!(said.contains("there is no pipeline `weighing`") && said.contains("did you mean `weighings`"), "{said}");
}
