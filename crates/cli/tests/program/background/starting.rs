//! `start`, `stop`, and what is said of both.

use super::{Kept, is_alive, kill, process, status, wait_settled, wait_state};
use crate::common::running::wait_for;
use crate::common::{Expected, PIPELINE, TestProject};

/// As [`PIPELINE`], with batches that close soon.
fn soon() -> String {
    PIPELINE.replace("every = \"1h\"", "every = \"200ms\"")
}

/// A small pipeline of another name, which reads what lies in `other`.
fn other(name: &str) -> String {
    format!(
        "pipeline = \"{name}\"\nbatch = {{ every = \"200ms\" }}\n[event.{name}]\nfields = \"n integer not null\"\n\
         [event.{name}.arrives]\nat = \"{name}\"\nmatch = \"*.jsonl\"\n\
         [event.{name}.lands.all]\nat = \"archive\"\npath = \"{name}\"\nformat = \"jsonl\"\n"
    )
}

fn with_others(names: &[&str]) -> Kept {
    let project = TestProject::new(&soon());
    for name in names {
        project.append("sluice.toml", format!("[connection.{name}]\nurl = \"file:{name}\"\n"));
        project.write(&format!("pipelines/{name}.toml"), other(name));
        std::fs::create_dir(project.path(name)).unwrap();
    }
    Kept(project)
}

#[test]
fn it_runs_until_it_is_stopped_and_lives_on_without_its_terminal() {
    let project = with_others(&[]);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 500));
    let started = project.json(&["start"]);
    let own = started["process"].as_u64().unwrap();
    assert_eq!(process(&project), Some(own));
    // Its session is its own: closing a terminal ends nothing of it.
    let stat = std::fs::read_to_string(format!("/proc/{own}/stat")).unwrap();
    assert_eq!(stat.rsplit(')').next().unwrap().split_whitespace().nth(3).unwrap(), own.to_string(), "{stat}");
    wait_settled(&project, "weighings", 500);
    project.write("depots/b.jsonl", expected.lines(500, 300));
    wait_settled(&project, "weighings", 800);
    let now = wait_state(&project, "weighings", "runs");
    assert_eq!(now["background"]["moved"]["read"], 800, "{now:#}");
    assert_eq!(now["holder"]["pid"], own);
    let (said, _) = project.expect(0, &["status"]);
    assert!(said.contains("800 events read") && said.contains("events/s now"), "{said}");
    let (said, _) = project.expect(0, &["stop", "weighings"]);
    assert!(said.contains("weighings settled and stopped"), "{said}");
    wait_for(|| !is_alive(own));
    assert_eq!((process(&project), status(&project, "weighings")["state"].as_str()), (None, Some("at_rest")));
    expected.check(&project);
    let (said, _) = project.expect(0, &["stop", "--all"]);
    assert!(said.contains("nothing to stop"), "{said}");
    let log = std::fs::read_to_string(project.path(".sluice/log/sluice.log")).unwrap();
    let parts =
        ["background process started", "run started", "batch settled", "asked to stop", "run ended", "process ended"];
    assert!(parts.iter().all(|part| log.contains(part)), "{log}");
    assert!(!log.contains('\u{1b}') && !log.contains("T000007"), "{log}");
}

#[test]
fn there_is_one_process_and_pipelines_join_it() {
    let project = with_others(&["tolls", "gates"]);
    project.write("tolls/a.jsonl", "{\"n\":1}\n");
    let first = project.json(&["start", "tolls"]);
    let again = project.json(&["start", "tolls"]);
    assert_eq!(first["process"], again["process"]);
    assert_eq!(again["pipelines"][0]["doing"], "runs");
    let all = project.json(&["start"]);
    assert_eq!((&all["process"], all["pipelines"].as_array().unwrap().len()), (&first["process"], 3));
    let (_, said) = project.expect(7, &["run", "tolls"]);
    assert!(said.contains("in use"), "{said}");
    project.expect(0, &["stop", "tolls", "gates"]);
    assert_eq!(wait_state(&project, "tolls", "at_rest")["background"]["doing"], "ended");
    assert_eq!(status(&project, "weighings")["state"], "runs");
    project.expect(0, &["start", "tolls"]);
    wait_state(&project, "tolls", "runs");
    project.expect(0, &["stop", "--all"]);
    wait_for(|| process(&project).is_none());
}

/// Many that start at once find one process.
#[test]
fn starts_at_the_same_moment_share_one_process() {
    let project = with_others(&["tolls", "gates", "ponds"]);
    let mut children: Vec<_> = ["tolls", "gates", "ponds", "weighings"]
        .iter()
        .map(|name| {
            project.command(&["start", name, "--output", "json"]).stdout(std::process::Stdio::piped()).spawn().unwrap()
        })
        .collect();
    let mut processes: Vec<u64> = children
        .drain(..)
        .map(|child| {
            let output = child.wait_with_output().unwrap();
            assert!(output.status.success());
            serde_json::from_slice::<serde_json::Value>(&output.stdout).unwrap()["process"].as_u64().unwrap()
        })
        .collect();
    processes.dedup();
    assert_eq!(processes.len(), 1, "{processes:?}");
    for name in ["tolls", "gates", "ponds", "weighings"] {
        wait_state(&project, name, "runs");
    }
}

#[test]
fn a_killed_process_is_missed_and_what_it_had_sealed_is_finished() {
    let project = with_others(&[]);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 2000));
    project.expect(0, &["start"]);
    wait_for(|| project.archived().len() > 100);
    kill(&project);
    for command in [&["status"][..], &[]] {
        let (said, _) = project.expect(0, command);
        assert!(said.contains("ended without settling") && said.contains("sluice start"), "{said}");
    }
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 2000);
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
    let (said, _) = project.expect(0, &["status"]);
    assert!(!said.contains("without settling"), "{said}");
}

/// What has failed is tried again while the others go on; what cannot be helped by waiting stops with its reason.
#[test]
fn a_pipeline_that_fails_leaves_the_others_alone() {
    let project = with_others(&["tolls", "gates"]);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 100));
    std::fs::remove_dir(project.path("tolls")).unwrap();
    let text = std::fs::read_to_string(project.path("pipelines/gates.toml")).unwrap();
    project.write("pipelines/gates.toml", text.replace("n integer", "n integr"));
    // The one whose file is wrong is said, and not started.
    let started = project.json_of(3, &["start"]);
    assert_eq!(started["refused"], serde_json::json!(["gates"]), "{started:#}");
    let tolls = wait_state(&project, "tolls", "waits");
    assert!(tolls["background"]["reason"].as_str().unwrap().contains("tolls does not exist"), "{tolls:#}");
    wait_settled(&project, "weighings", 100);
    project.write("tolls/a.jsonl", "{\"n\":1}\n{\"n\":2}\n");
    wait_settled(&project, "tolls", 2);
    let tolls = wait_state(&project, "tolls", "runs");
    assert!(tolls["background"]["retries"].as_u64().unwrap() >= 1, "{tolls:#}");
    // Rejects above the limit: nobody but a person can help.
    project.write("pipelines/gates.toml", text.replace("batch =", "rejects = { share = \"1%\", least = 1 }\nbatch ="));
    project.write("gates/a.jsonl", "{\"n\":\"x\"}\n");
    project.expect(0, &["start", "gates"]);
    let gates = wait_state(&project, "gates", "stopped");
    // The ledger knows a moment earlier than the background process.
    wait_for(|| status(&project, "gates")["background"]["doing"] == "stopped");
    assert!(gates["last_end"]["message"].as_str().unwrap().contains("reject"), "{gates:#}");
    assert_eq!(status(&project, "weighings")["state"], "runs");
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}

#[test]
fn what_cannot_be_started_or_stopped_is_said() {
    let project = with_others(&[]);
    let (_, said) = project.expect(3, &["start", "weighing"]);
    assert!(said.contains("did you mean `weighings`"), "{said}");
    let (_, said) = project.expect(3, &["stop", "weighing"]);
    assert!(said.contains("did you mean `weighings`"), "{said}");
    project.expect(2, &["stop"]);
    let (_, said) = project.expect(3, &["renew", "weighings"]);
    assert!(said.contains("does not run in the background") && said.contains("sluice start weighings"), "{said}");
    // One that runs at a terminal is stopped there.
    let mut child = project.command(&["run", "weighings", "--log", "off"]).spawn().unwrap();
    wait_state(&project, "weighings", "runs");
    let (_, said) = project.expect(7, &["stop", "weighings"]);
    assert!(said.contains(&format!("kill -TERM {}", child.id())), "{said}");
    super::signal(child.id().into(), "TERM");
    assert!(child.wait().unwrap().success());
}

/// A signal settles all that runs in the background.
#[test]
fn a_signal_settles_everything() {
    let project = with_others(&["tolls"]);
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 1000));
    project.expect(0, &["start"]);
    let own = process(&project).unwrap();
    super::signal(own, "TERM");
    wait_for(|| !is_alive(own));
    assert_eq!(process(&project), None);
    let totals = project.json(&[])["pipelines"].clone();
    assert!(totals.as_array().unwrap().iter().all(|p| p["totals"]["unfinished"] == 0), "{totals:#}");
    project.expect(0, &["run", "--all", "--until-caught-up"]);
    expected.check(&project);
}
