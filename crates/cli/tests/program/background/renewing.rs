//! `renew`: a pipeline goes on under its edited file.

use super::{Kept, kill, status, wait_settled, wait_state};
use crate::common::running::wait_for;
use crate::common::topics::{self, StandIn, has, lines, produce};
use crate::common::{Expected, PIPELINE, TestProject};
use serde_json::Value;

fn started(events: u32) -> (Kept, Expected) {
    let project = Kept(TestProject::new(&PIPELINE.replace("every = \"1h\"", "every = \"200ms\"")));
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, events));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", events.into());
    (project, expected)
}

fn edit(project: &TestProject, from: &str, to: &str) {
    let text = std::fs::read_to_string(project.path("pipelines/weighings.toml")).unwrap();
    assert!(text.contains(from));
    project.write("pipelines/weighings.toml", text.replace(from, to));
}

#[test]
fn it_shows_what_becomes_different_and_goes_on_at_its_place() {
    let (project, mut expected) = started(700);
    let (said, _) = project.expect(0, &["renew", "weighings"]);
    assert!(said.contains("already runs with these files"), "{said}");
    edit(&project, "ticket, gross_kg\"", "ticket, gross_kg * 2 as gross_kg\"");
    assert_eq!(status(&project, "weighings")["files_have_changed"], true);
    let (said, _) = project.expect(0, &["status"]);
    assert!(said.contains("sluice renew weighings"), "{said}");
    let plan = project.json(&["renew", "weighings", "--plan"]);
    assert_eq!((&plan["renewed"], &plan["events"]), (&Value::Bool(false), &700.into()));
    let found = plan["differences"].as_array().unwrap();
    assert!(!found.is_empty() && found.iter().all(|d| d["column"] == "gross_kg"), "{plan:#}");
    assert_eq!(status(&project, "weighings")["files_have_changed"], true);
    let (said, _) = project.expect(0, &["renew", "weighings"]);
    assert!(said.contains("gross_kg in") && said.contains("continues with the edited file"), "{said}");
    assert_eq!(status(&project, "weighings")["files_have_changed"], false);
    project.write("depots/b.jsonl", expected.lines(700, 300));
    wait_settled(&project, "weighings", 1000);
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
    let heavy = std::fs::read_to_string(crate::common::visible_files(&project.path("archive/heavy")).last().unwrap());
    assert!(
        heavy
            .unwrap()
            .lines()
            .all(|line| serde_json::from_str::<Value>(line).unwrap()["gross_kg"].as_u64() > Some(1000))
    );
}

#[test]
fn a_check_that_fails_changes_nothing() {
    let (project, mut expected) = started(100);
    let before = status(&project, "weighings")["background"]["texts"].clone();
    for (from, to) in
        [("gross_kg > 500", "gros_kg > 500"), ("gros_kg > 500\"\ncolumns", "gross_kg > 500\"\nat_all = 1\ncolumns")]
    {
        edit(&project, from, to);
        let (_, said) = project.expect(3, &["renew", "weighings"]);
        assert!(said.contains("was not renewed"), "{said}");
        assert_eq!(status(&project, "weighings")["background"]["texts"], before);
    }
    project.write("depots/b.jsonl", expected.lines(100, 100));
    wait_settled(&project, "weighings", 200);
    project.expect(0, &["stop", "--all"]);
    project.write("pipelines/weighings.toml", PIPELINE);
    expected.check(&project);
}

/// A pipeline that waits to be tried again takes the edited file too.
#[test]
fn what_waits_can_be_renewed() {
    let project = Kept(TestProject::new(PIPELINE));
    std::fs::remove_dir(project.path("depots")).unwrap();
    project.expect(0, &["start"]);
    wait_state(&project, "weighings", "waits");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 60));
    edit(&project, "rows = 100", "rows = 30");
    project.expect(0, &["renew", "weighings"]);
    wait_state(&project, "weighings", "runs");
    project.expect(0, &["stop", "--all"]);
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    expected.check(&project);
}

/// Renewed under load, and killed meanwhile: nothing is lost, nothing is doubled.
#[test]
fn renewed_and_killed_under_load_everything_lands_once() {
    let project = Kept(TestProject::new(&PIPELINE.replace("every = \"1h\"", "every = \"50ms\"")));
    let mut expected = Expected::default();
    project.expect(0, &["start"]);
    for turn in 0..12_u32 {
        project.write(&format!("depots/{turn:03}.jsonl"), expected.lines(turn * 300, 300));
        let rows = if turn % 2 == 0 { "rows = 70" } else { "rows = 100" };
        edit(&project, if turn % 2 == 0 { "rows = 100" } else { "rows = 70" }, rows);
        let mut renew = project.command(&["renew", "weighings", "--events", "20"]).spawn().unwrap();
        if turn % 4 == 3 {
            std::thread::sleep(std::time::Duration::from_millis(u64::from(turn) * 40));
            kill(&project);
            let _ = renew.wait();
            project.expect(0, &["start"]);
        } else {
            assert!(renew.wait().unwrap().success());
        }
    }
    wait_settled(&project, "weighings", 3600);
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}

/// A secret that changes at its place is taken up without a stop.
#[test]
fn a_secret_that_changes_is_read_anew() {
    if !has("kcat") {
        return;
    }
    let broker = StandIn::start(&["--topic", "depot.weighings:1", "--user", "sluice"]);
    let project = Kept(topics::project(&broker.address, &topics::simple("")));
    project.append("sluice.toml", "user = \"sluice\"\nlogin = \"plain\"\npassword = { file = \"key\" }\n");
    project.write("key", "gate-6\n");
    project.expect(0, &["start"]);
    let waits = wait_state(&project, "weighings", "waits");
    assert!(waits["background"]["reason"].as_str().unwrap().contains("login"), "{waits:#}");
    project.write("key", "gate-7\n");
    wait_state(&project, "weighings", "runs");
    let log = || std::fs::read_to_string(project.path(".sluice/log/sluice.log")).unwrap();
    let reopened = |times: usize| wait_for(|| log().matches("reopening connections").count() >= times);
    reopened(1);
    let login = ["-X", "security.protocol=sasl_plaintext", "-X", "sasl.mechanism=PLAIN", "-X", "sasl.username=sluice"];
    let login = [&login[..], &["-X", "sasl.password=gate-7"]].concat();
    produce(&broker.address, "depot.weighings", &lines(0, 5), &login);
    // Other bytes with the same meaning: connections are reopened while it runs.
    project.write("key", "gate-7\n\n");
    reopened(2);
    produce(&broker.address, "depot.weighings", &lines(5, 9), &login);
    wait_for(|| topics::numbers(&project, "archive/all").len() == 9);
    project.expect(0, &["stop", "--all"]);
    assert_eq!(topics::numbers(&project, "archive/all"), (0..9).collect::<Vec<u64>>());
    assert!(!log().contains("gate-"), "{}", log());
}
