//! Pipelines that run at times, and limits on how fast they read.

use std::time::Instant;

use super::{Kept, wait_settled, wait_state};
use crate::common::{Expected, PIPELINE, TestProject};
use rstest::rstest;

fn scheduled(schedule: &str) -> Kept {
    Kept(TestProject::new(&format!("schedule = {{ {schedule} }}\n{PIPELINE}")))
}

#[test]
fn it_runs_until_caught_up_and_rests_until_the_next_time() {
    let project = scheduled("every = \"1s\"");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 250));
    project.expect(0, &["start"]);
    wait_settled(&project, "weighings", 250);
    wait_state(&project, "weighings", "rests");
    project.write("depots/b.jsonl", expected.lines(250, 30));
    wait_settled(&project, "weighings", 280);
    let (said, _) = project.expect(0, &["status"]);
    assert!(said.contains("every 1"), "{said}");
    project.expect(0, &["stop", "--all"]);
    expected.check(&project);
}

/// While it rests, anybody may use the pipeline.
#[test]
fn a_cron_line_waits_for_its_time_and_others_may_run_it() {
    let project = scheduled("cron = \"0 0 1 1 *\", zone = \"Europe/Oslo\"");
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 50));
    project.expect(0, &["start"]);
    let rests = wait_state(&project, "weighings", "rests");
    assert!(rests["background"]["until"].as_i64().unwrap() > rests["background"]["since"].as_i64().unwrap());
    assert_eq!(rests["background"]["moved"]["read"], 0);
    // An edited file changes nothing about that.
    let text = std::fs::read_to_string(project.path("pipelines/weighings.toml")).unwrap();
    project.write("pipelines/weighings.toml", text.replace("rows = 100", "rows = 20"));
    project.expect(0, &["renew", "weighings"]);
    let rests = wait_state(&project, "weighings", "rests");
    assert_eq!((&rests["background"]["moved"]["read"], &rests["files_have_changed"]), (&0.into(), &false.into()));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    project.expect(0, &["stop", "weighings"]);
    expected.check(&project);
}

#[rstest]
#[case("every = \"1s\", cron = \"* * * * *\"", "not both")]
#[case("zone = \"UTC\"", "needs `every` or `cron`")]
#[case("cron = \"61 * * * *\"", "not a valid cron line")]
#[case("cron = \"* * * *\"", "five parts")]
#[case("cron = \"0 4 * * *\", zone = \"Europe/Tarrow\"", "no time zone")]
#[case("every = \"10ms\"", "shorter than a second")]
#[case("evry = \"10s\"", "did you mean `every`")]
fn mistakes_in_a_schedule_are_said(#[case] schedule: &str, #[case] expected: &str) {
    let (_, said) = scheduled(schedule).expect(3, &["check", "--offline"]);
    assert!(said.contains(expected), "{said}");
}

/// As many scheduled pipelines run at a time as may; the others wait for their turn.
#[test]
fn scheduled_pipelines_take_turns() {
    let project = scheduled("every = \"1h\"");
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", text.replace("name = \"tarrow\"", "name = \"tarrow\"\nruns = 1"));
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 400));
    for name in ["tolls", "gates"] {
        let pipeline = PIPELINE
            .replace("\"weighings\"", &format!("\"{name}\""))
            .replace("path = \"all", &format!("path = \"{name}/all"))
            .replace("path    = \"heavy", &format!("path    = \"{name}/heavy"));
        project.write(
            &format!("pipelines/{name}.toml"),
            format!("schedule = {{ every = \"1h\" }}\nat_most = {{ events = 2000 }}\n{pipeline}"),
        );
    }
    project.expect(0, &["start"]);
    for name in ["weighings", "tolls", "gates"] {
        wait_settled(&project, name, 400);
        wait_state(&project, name, "rests");
    }
    // Each run began after the one before had ended.
    let mut spans = Vec::new();
    for name in ["weighings", "tolls", "gates"] {
        let batches = project.json(&["ledger", name, "--show", "1000"])["batches"].clone();
        let all = batches.as_array().unwrap();
        let at = |batch: &serde_json::Value, key: &str| batch[key].as_i64().unwrap();
        let first = all.iter().map(|b| at(b, "opened_at")).min().unwrap();
        spans.push((first, all.iter().map(|b| at(b, "settled_at")).max().unwrap()));
    }
    spans.sort_unstable();
    assert!(spans.windows(2).all(|pair| pair[0].1 <= pair[1].0), "{spans:?}");
}

/// A limit holds over the whole run, whoever shares it. That takes its time: nothing is asserted of how much longer it takes.
#[rstest]
#[case("at_most = { events = 300 }\n", "")]
#[case("at_most = { bytes = \"17KiB\" }\n", "")]
#[case("", "at_most = { events = 300, runs = 3 }")]
fn no_more_is_read_than_may_be(#[case] own: &str, #[case] of_connection: &str) {
    let project = TestProject::new(&format!("{own}{PIPELINE}"));
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", text.replace("\"file:depots\"", &format!("\"file:depots\"\n{of_connection}")));
    let mut expected = Expected::default();
    project.write("depots/a.jsonl", expected.lines(0, 900));
    let started = Instant::now();
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    // The first 300 come at once.
    assert!(started.elapsed().as_secs_f64() > 1.9, "{:?}", started.elapsed());
    expected.check(&project);
}
