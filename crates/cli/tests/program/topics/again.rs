//! Topics: positions, replay, and retries of rejects.

use std::process::Stdio;
use std::time::Duration;

use crate::common::Expected;
use crate::common::running::wait_for;
use crate::common::topics;
use crate::common::topics::{StandIn, has, keyed, latest, lines, produce, rows, set_up, simple};
use rstest::rstest;
use serde_json::json;

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];

#[test]
fn positions_agree_with_an_independent_client() {
    let Some((broker, project)) = set_up("depot.weighings:3:2h", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 90), &[]);
    project.expect(0, RUN);
    produce(&broker.address, "depot.weighings", &lines(90, 150), &[]);
    let standing = project.json(&["positions", "weighings"])["arrivals"][0].clone();
    let partitions = standing["partitions"].as_array().unwrap();
    let reported = |key: &str| partitions.iter().map(|p| p[key].as_u64().unwrap()).collect::<Vec<_>>();
    assert_eq!(reported("latest"), latest(&broker.address, "depot.weighings", 3));
    assert_eq!(reported("earliest"), [0, 0, 0]);
    assert_eq!((reported("ledger").iter().sum::<u64>(), standing["behind"]["events"].clone()), (90, json!(60)));
    assert!(partitions.iter().all(|p| p["retention_seconds"] == 7200.0 && p["expires"].is_string()), "{standing}");
    assert_eq!(standing["forecast"]["at_rest"]["becomes"], "expires");
    let (out, _) = project.expect(0, &["positions", "weighings"]);
    assert!(out.contains("behind by 60 events") && out.contains("begin to expire"), "{out}");
}

#[test]
fn positions_are_set_at_rest_and_with_a_reason() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 10), &[]);
    project.expect(0, RUN);
    let set = |more: &[&'static str]| [&["positions", "weighings", "--set", "depot.weighings/0=7"], more].concat();
    project.expect(3, &set(&[]));
    let (out, err) = project.expect(3, &set(&["--reason", "again"]));
    assert!(out.contains("3 positions are read again") && err.contains("--yes"), "{out}{err}");
    project.expect(3, &["positions", "weighings", "--set", "depot.weighings/0=70", "--reason", "x", "--yes"]);
    let mut child = project.command(&["run", "weighings"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    wait_for(|| {
        project.run(&set(&["--reason", "again", "--yes"])).status.code() == Some(7)
            || child.try_wait().unwrap().is_some()
    });
    let _ = child.kill();
    let _ = child.wait();
    project.expect(0, &["positions", "weighings", "--set", "depot.weighings/0=10", "--reason", "back", "--yes"]);
}

#[test]
fn a_replay_of_a_range_replaces_what_its_batches_landed() {
    let pipeline = simple("").replace("path = \"all\"", "path = \"all\"\ncolumns = \"n, 'first' as reading\"");
    let Some((broker, project)) = set_up("depot.weighings:1", &pipeline) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 300), &[]);
    project.expect(0, RUN);
    project.write("pipelines/weighings.toml", pipeline.replace("'first'", "'second'"));
    let replay = ["replay", "weighings", "--range", "depot.weighings/0=150..160"];
    let planned = project.json(&[replay.as_slice(), &["--plan"]].concat());
    assert_eq!(planned["batches"].as_array().unwrap().len(), 1);
    assert_eq!(planned["landings"][0]["rows_now"], 100);
    let (_, err) = project.expect(3, &replay);
    assert!(err.contains("--yes"), "{err}");
    project.expect(0, &[replay.as_slice(), &["--yes", "--reason", "fixed"]].concat());
    let found = rows(&project, "archive/all");
    let second: Vec<u64> =
        found.iter().filter(|r| r["reading"] == "second").map(|r| r["n"].as_u64().unwrap()).collect();
    assert_eq!((found.len(), second.len()), (300, 100));
    assert!(second.iter().all(|n| (100..200).contains(n)));
    // The live positions did not change, and both readings are on record.
    assert_eq!(project.expect(0, RUN).0, "weighings: nothing new to read\n");
    let batches = project.json(&["ledger", "weighings"])["batches"].clone();
    let lanes: Vec<_> = batches.as_array().unwrap().iter().map(|b| b["lane"].as_str().unwrap()).collect();
    assert_eq!(lanes, ["weighing.0.0", "weighing.0.0", "weighing.0.0", "weighing.0.0~1"]);
    // Once more, over the first replay.
    project.write("pipelines/weighings.toml", pipeline.replace("'first'", "'third'"));
    project.expect(0, &["replay", "weighings", "--batches", "2-3", "--yes"]);
    let found = rows(&project, "archive/all");
    let third = found.iter().filter(|r| r["reading"] == "third").count();
    assert_eq!((found.len(), third), (300, 200));
}

#[test]
fn a_replay_of_a_time_range_takes_the_batches_that_hold_it() {
    let Some((broker, project)) = set_up("depot.weighings:2", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 150), &[]);
    project.expect(0, RUN);
    std::thread::sleep(Duration::from_millis(1100));
    let moment = chrono::Utc::now().format("%Y-%m-%dT%H:%M:%SZ").to_string();
    std::thread::sleep(Duration::from_millis(100));
    produce(&broker.address, "depot.weighings", &lines(150, 200), &[]);
    project.expect(0, RUN);
    let planned = project.json(&["replay", "weighings", "--since", &moment, "--plan"]);
    let numbers: Vec<u64> =
        planned["batches"].as_array().unwrap().iter().map(|b| b["number"].as_u64().unwrap()).collect();
    assert_eq!(numbers, [3]);
    let all: Vec<u64> = (0..200).collect();
    project.expect(0, &["replay", "weighings", "--since", &moment, "--yes"]);
    assert_eq!(topics::numbers(&project, "archive/all"), all);
}

/// A broker may know times of whole blocks of messages only; the right event is still found.
#[test]
fn a_time_range_is_exact_within_a_packed_block() {
    let pipeline =
        simple("").replace("n integer not null", "passage_id text not null").replace("rows = 100", "rows = 50");
    let pipeline =
        pipeline.replace("path = \"all\"", "path = \"all\"\ncolumns = \"passage_id, origin.time as at, 1 as reading\"");
    let Some((broker, project)) = set_up("depot.weighings:2", &pipeline) else { return };
    let emit = ["emit", "passages", "--into", "lock-broker:depot.weighings", "--count", "600", "--seed", "3"];
    project.expect(0, &[emit.as_slice(), &["--starting", "2026-11-23T06:00:00Z"]].concat());
    project.expect(0, RUN);
    project.write("pipelines/weighings.toml", pipeline.replace("1 as reading", "2 as reading"));
    let (since, until) = ("2026-11-23T06:04:00Z", "2026-11-23T06:06:00Z");
    project.expect(0, &["replay", "weighings", "--since", since, "--until", until, "--yes"]);
    let found = rows(&project, "archive/all");
    let is_in = |row: &serde_json::Value| (since..until).contains(&row["at"].as_str().unwrap());
    let again = found.iter().filter(|r| r["reading"] == 2).count();
    assert_eq!((found.len(), found.iter().filter(|r| is_in(r)).count()), (600, 120));
    assert!(found.iter().all(|r| !is_in(r) || r["reading"] == 2), "every event of the range was read again");
    // Whole batches of 50 around the range, and no others.
    assert!((150..=250).contains(&again) && again % 50 == 0, "{again}");
    drop(broker);
}

#[test]
fn a_topic_gets_a_replay_only_into_another_landing() {
    let Some((broker, project)) = set_up("depot.weighings:1", &topics::pipeline(true)) else { return };
    let mut expected = Expected::default();
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(0, 150)), &[]);
    project.expect(0, RUN);
    let (_, err) = project.expect(3, &["replay", "weighings", "--batches", "1-", "--yes"]);
    assert!(err.contains("--landing"), "{err}");
    let (_, err) = project.expect(3, &["replay", "weighings", "--batches", "1-", "--landing", "onward", "--yes"]);
    assert!(err.contains("already"), "{err}");
    let second = topics::pipeline(true)
        + "\n[event.weighing.lands.second]\nat = \"lock-broker\"\ntopic = \"depot.second\"\ncreate = { partitions = 2 }\n";
    project.write("pipelines/weighings.toml", second);
    project.expect(0, &["replay", "weighings", "--batches", "1-", "--landing", "second", "--yes"]);
    assert_eq!(topics::tickets(&broker.address, "depot.second"), expected.archive);
    assert_eq!(topics::tickets(&broker.address, "depot.landed"), expected.archive);
}

#[rstest]
#[case(true)]
#[case(false)]
fn rejects_are_tried_again(#[case] from_topic: bool) {
    if !has("kcat") {
        return;
    }
    let broker = StandIn::start(&["--topic", "depot.weighings:2"]);
    let pipeline = if from_topic { topics::pipeline(false) } else { crate::common::PIPELINE.to_string() };
    let project = topics::project(&broker.address, &pipeline);
    let mut expected = Expected::default();
    let lines = expected.lines(0, 230);
    match from_topic {
        true => produce(&broker.address, "depot.weighings", &keyed(&lines), &[]),
        false => project.write("depots/a.jsonl", &lines),
    }
    project.expect(0, RUN);
    expected.check(&project);
    assert_eq!(project.json(&["rejects", "weighings"])["total"], 5);
    // `much` is read as nothing from now on.
    let mended = pipeline.replace("gross_kg integer not null", "gross text not null from 'gross_kg'");
    let mended = mended.replace("gross_kg > 500", "try_cast(gross as integer) > 500");
    let mended = mended.replace("ticket, gross_kg", "ticket, gross");
    project.write("pipelines/weighings.toml", mended);
    let report = project.json(&["rejects", "weighings", "--retry", "--yes"]);
    assert_eq!((report["read"].clone(), report["rejected"].clone()), (json!(5), json!(0)));
    assert_eq!(project.archived().len(), 230);
    assert!(project.archived().values().all(|n| *n == 1));
    let after = project.json(&["rejects", "weighings"]);
    assert_eq!((after["total"].clone(), after["tried_again"].clone()), (json!(0), json!(5)));
    assert_eq!(project.json(&["rejects", "weighings", "--all"])["total"], 5);
    let (_, err) = project.expect(0, &["rejects", "weighings", "--retry", "--yes"]);
    assert!(err.contains("nothing to try again"), "{err}");
}

/// A topic records only its last batch and the positions at that time: that is enough to continue.
#[test]
fn a_landing_in_a_topic_alone_can_be_adopted() {
    let Some((broker, project)) = set_up("depot.weighings:2", &topics::pipeline(true)) else { return };
    // The topic is the only landing.
    let text = topics::pipeline(true);
    let (before, rest) = text.split_once("[event.weighing.lands.").unwrap();
    let landings = format!("[event.weighing.lands.{rest}");
    let onward = landings.split("\n[event").find(|part| part.contains("topic")).unwrap();
    let onward = format!("[event{}", onward.trim_start_matches("[event"));
    project.write("pipelines/weighings.toml", format!("{before}{onward}"));
    let mut expected = Expected::default();
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(0, 120)), &[]);
    project.expect(0, RUN);
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(120, 90)), &[]);
    project.expect(0, RUN);
    std::fs::remove_dir_all(project.path(".sluice")).unwrap();
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("of another ledger"), "{err}");
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(210, 60)), &[]);
    project.expect(0, &["run", "weighings", "--until-caught-up", "--adopt"]);
    assert_eq!(topics::tickets(&broker.address, "depot.landed"), expected.archive);
    project.expect(0, RUN);
}

/// A broker that lost its data is never reported as caught up.
#[test]
fn a_position_beyond_the_end_is_not_caught_up() {
    let Some((broker, project)) = set_up("depot.weighings:1", &simple("")) else { return };
    produce(&broker.address, "depot.weighings", &lines(0, 50), &[]);
    project.expect(0, RUN);
    let address = broker.address.clone();
    drop(broker);
    let broker = StandIn::start(&["--topic", "depot.weighings:1"]);
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", text.replace(&address, &broker.address));
    let positions = project.json(&["positions", "weighings"]);
    assert_eq!(positions["arrivals"][0]["partitions"][0]["misplaced"], json!({ "beyond": 50 }), "{positions}");
    for arguments in [&["positions", "weighings"][..], &["status", "weighings"], &[]] {
        let (out, _) = project.expect(0, arguments);
        assert!(!out.contains("caught up"), "{arguments:?}: {out}");
        assert!(out.contains("not as in the ledger") || out.contains("do not agree"), "{arguments:?}: {out}");
    }
    project.expect(6, RUN);
    let (out, _) = project.expect(0, &["status", "weighings"]);
    assert!(out.contains("the last run stopped"), "{out}");
}
