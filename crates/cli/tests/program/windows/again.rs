//! Batches that are read again through windows, joins, references and `once`: they give what they gave.

use std::collections::BTreeMap;

use super::joins::{self, Crossings};
use super::{PASSAGE, Passages, RUN, assert_same, balanced, landed, pipeline, project, rejected, rows, window};
use crate::common::TestProject;
use crate::common::topics::{self, StandIn};
use crate::common::work::Random;
use rstest::rstest;
use serde_json::Value;

/// Everything that has landed, each folder in an order of its own, and the rejects.
fn landed_rows(project: &TestProject, folders: &[&str]) -> BTreeMap<String, Vec<String>> {
    let of = |folder: &&str| {
        let mut all: Vec<String> = rows(project, folder).iter().map(Value::to_string).collect();
        all.sort();
        (folder.to_string(), all)
    };
    let mut found: BTreeMap<String, Vec<String>> = folders.iter().map(of).collect();
    let mut rejects = rejected(project);
    rejects.sort();
    found.insert("rejects".into(), rejects);
    found
}

fn batches(project: &TestProject) -> u64 {
    let all = project.json(&["ledger", "passages", "--show", "100000"])["batches"].clone();
    let own = all.as_array().unwrap().iter().filter(|batch| !batch["lane"].as_str().unwrap().contains('~'));
    own.map(|batch| batch["number"].as_u64().unwrap()).max().unwrap()
}

/// Reads ranges of batches again at random; nothing may change.
fn read_again(project: &TestProject, folders: &[&str], random: &mut Random) {
    let before = landed_rows(project, folders);
    let last = batches(project);
    assert!(last > 5 && folders.iter().all(|folder| !before[*folder].is_empty()), "{last} batches");
    let mut warmed = 0;
    for round in 0..5 {
        let from = 1 + random.below(last);
        let to = (from + random.below(4)).min(last);
        let range = if round == 0 { "1-".to_string() } else { format!("{from}-{to}") };
        let (plan, _) = project.expect(0, &["replay", "passages", "--batches", &range, "--plan"]);
        warmed += u64::from(plan.contains("read before them"));
        project.expect(0, &["replay", "passages", "--batches", &range, "--yes"]);
        let after = landed_rows(project, folders);
        for (folder, rows) in &before {
            assert_eq!(after[folder].len(), rows.len(), "{folder} after batches {range} of {last}");
            let differing = rows.iter().zip(&after[folder]).find(|(a, b)| a != b);
            assert_eq!(differing, None, "{folder} after batches {range} of {last}");
        }
        balanced(project);
    }
    assert!(warmed > 0, "no batch needed what came before it");
}

#[rstest]
#[case::tumbling_and_sliding(71, pipeline(), &["all", "once", "minute", "five"])]
#[case::sessions(72, [PASSAGE, &window("session", "gap = \"4s\"", "")].concat(), &["all", "once", "session"])]
#[case::closed_when_caught_up(73, [PASSAGE, &window("minute", "length = \"1m\"", "close = \"caught_up\"")].concat(), &["all", "once", "minute"])]
fn windows_give_what_they_gave(#[case] seed: u64, #[case] pipeline: String, #[case] folders: &[&str]) {
    let project = project(&pipeline);
    let mut passages = Passages::new(seed);
    for count in [1_000, 1, 900, 700] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
    }
    read_again(&project, folders, &mut Random::of(seed));
    // And the pipeline goes on as if nothing had been.
    project.append("locks/a.jsonl", passages.lines(900));
    project.expect(0, RUN);
    if folders.contains(&"five") {
        super::check(&project, &passages);
    }
}

#[rstest]
#[case(81)]
#[case(82)]
fn joins_give_what_they_gave(#[case] seed: u64) {
    let project = project(&[joins::EVENTS, &joins::join(joins::WITHIN, "")].concat());
    let mut crossings = Crossings::new(seed);
    for count in [400, 300, 500] {
        project.append("locks/p.jsonl", crossings.passages(count));
        project.append("locks/t.jsonl", crossings.tolls(count));
        project.expect(0, joins::RUN);
    }
    read_again(&project, &["all", "paid"], &mut Random::of(seed));
    project.append("locks/p.jsonl", crossings.passages(400));
    project.append("locks/t.jsonl", crossings.tolls(400));
    project.expect(0, joins::RUN);
    joins::check(&project, &crossings, false);
}

/// Partitions of a topic, which came in an order that nothing tells any more, through a window and another one over its rows.
#[rstest]
#[case(77)]
#[case(78)]
fn windows_over_partitions_give_what_they_gave(#[case] seed: u64) {
    if !topics::has("kcat") {
        return;
    }
    let stand_in = StandIn::start(&["--topic", "lock.passages:4"]);
    let of_minutes = "[event.quarter.made]\nof = \"minute\"\nwindow = { length = \"5m\" }\nlate = \"0s\"\n\
                      columns = \"window_start, sum(passages) as passages, count(*) as groups\"\n\
                      [event.quarter.lands.archive]\nat = \"archive\"\npath = \"quarter\"\nformat = \"jsonl\"\n";
    let text = [PASSAGE, &window("minute", "length = \"1m\"", "idle = \"1h\""), of_minutes].concat();
    let text = text
        .replace("rows = 400", "rows = 170")
        .replacen(
            "at = \"locks\"\nmatch = \"*.jsonl\"",
            "at = \"broker\"\ntopic = \"lock.passages\"\nformat = \"json\"",
            1,
        )
        .replace("window_start, count(*)", "window_start, window_end as ended_at, count(*)")
        .replace("[event.minute.made]", "[event.minute]\ntime = \"ended_at\"\n[event.minute.made]");
    let project = project(&text);
    let broker = format!("[connection.broker]\nurl = \"kafka://{}\"\n", stand_in.address);
    project.write("sluice.toml", [super::PROJECT, &broker].concat());
    let mut passages = Passages::new(seed);
    for _ in 0..4 {
        let lines = passages.lines(500);
        let lines: Vec<&str> = lines.lines().collect();
        for partition in 0..4_usize {
            let own = lines.iter().skip(partition).step_by(4).map(|line| format!("k\t{line}\n"));
            topics::produce(
                &stand_in.address,
                "lock.passages",
                &own.collect::<String>(),
                &["-p", &partition.to_string()],
            );
        }
        project.expect(0, RUN);
    }
    assert!(rejected(&project).len() > 10);
    read_again(&project, &["all", "once", "minute", "quarter"], &mut Random::of(seed));
}

/// Rows that are looked up are read from the first batch on.
#[rstest]
#[case::the_latest("")]
#[case::waited_for(", wait = \"3m\"")]
#[case::of_its_time(", history = \"1d\"")]
fn references_give_what_they_gave(#[case] more: &str) {
    let text = joins::EVENTS.to_string()
        + "[event.paid.made]\nof = \"passage\"\nreference = { event = \"toll\", on = \"toll.vessel_no = passage.vessel_no\"MORE }\n\
           columns = \"passage.*, toll.toll_id\"\n[event.paid.lands.archive]\nat = \"archive\"\npath = \"paid\"\nformat = \"jsonl\"\n";
    let project = project(&text.replace("MORE", more));
    let mut crossings = Crossings::new(91);
    // Rows that are looked up and the events that need them come in batches of their own.
    for count in [400, 300, 500] {
        project.append("locks/t.jsonl", crossings.tolls(25));
        project.expect(0, joins::RUN);
        project.append("locks/p.jsonl", crossings.passages(count));
        project.expect(0, joins::RUN);
    }
    let before = landed_rows(&project, &["all", "paid"]);
    assert!(more != ", wait = \"3m\"" || before["paid"].len() < before["all"].len(), "none waits");
    for range in ["1-", "4-6", "6"] {
        project.expect(0, &["replay", "passages", "--batches", range, "--landing", "paid.archive", "--yes"]);
        assert_eq!(landed_rows(&project, &["all", "paid"]), before, "{range}");
    }
    balanced(&project);
}

/// Present values of groups that are given with each batch: an older batch that is read again changes no newer value.
#[test]
fn present_values_stay_the_newest() {
    let text = window("minute", "length = \"1m\"", "gives = \"changes\"");
    let text = text.replace(
        "at = \"archive\"\npath = \"minute\"\nformat = \"jsonl\"",
        "at = \"office\"\ntable = \"minute\"\nmode = \"upsert\"\nkey = [\"lock_id\", \"window_start\"]\ncreate = true",
    );
    let project = project(&[PASSAGE, &text].concat());
    let mut passages = Passages::new(83);
    for count in [900, 700] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
    }
    let table = || -> Vec<String> {
        let office = rusqlite::Connection::open(project.path("office.db")).unwrap();
        let sql = "select lock_id || ' ' || window_start || ' ' || passages || ' ' || total from minute order by 1";
        let mut rows = office.prepare(sql).unwrap();
        rows.query_map([], |row| row.get(0)).unwrap().map(Result::unwrap).collect()
    };
    let before = table();
    assert!(before.len() > 20);
    for range in ["2", "1-2", "3-4", "1-"] {
        project.expect(0, &["replay", "passages", "--batches", range, "--yes"]);
        assert_eq!(table(), before, "{range}");
    }
    balanced(&project);
}

/// What the file says now is what all of it becomes.
#[test]
fn an_edited_window_replaces_what_it_gave() {
    let project = project(&pipeline());
    let mut passages = Passages::new(74);
    for count in [1_200, 800] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
    }
    let before = landed(&project, "minute");
    let five = landed(&project, "five");
    let text = pipeline().replacen("count(*) as passages", "count(*) * 10 as passages", 1);
    project.write("pipelines/passages.toml", &text);
    let (plan, _) =
        project.expect(0, &["replay", "passages", "--batches", "1-", "--landing", "minute.archive", "--plan"]);
    assert!(plan.contains("minute.archive") && !plan.contains("read before them"), "{plan}");
    project.expect(0, &["replay", "passages", "--batches", "1-", "--landing", "minute.archive", "--yes"]);
    let tenfold = before.iter().map(|(key, row)| (key.clone(), row.replacen(' ', "0 ", 1))).collect();
    assert_same(&landed(&project, "minute"), &tenfold, "minute");
    assert_same(&landed(&project, "five"), &five, "five");
    balanced(&project);
}

/// A landing that is added to a window gets what the window gave before.
#[test]
fn a_new_landing_of_a_window_is_filled() {
    let project = project(&pipeline());
    let mut passages = Passages::new(79);
    project.append("locks/a.jsonl", passages.lines(1_500));
    project.expect(0, RUN);
    let more = "[event.minute.lands.more]\nat = \"archive\"\npath = \"more\"\nformat = \"jsonl\"\n";
    project.write("pipelines/passages.toml", [&pipeline(), more].concat());
    project.append("locks/a.jsonl", passages.lines(600));
    let (_, err) = project.expect(0, RUN);
    assert!(err.contains("to add earlier rows: sluice replay passages --batches 1-4 --landing minute.more"), "{err}");
    project.expect(0, &["replay", "passages", "--batches", "1-4", "--landing", "minute.more", "--yes"]);
    assert_same(&landed(&project, "more"), &landed(&project, "minute"), "more");
    balanced(&project);
}

#[test]
fn what_is_not_known_any_more_is_said_and_nothing_is_read() {
    let project = project(&pipeline());
    let mut passages = Passages::new(75);
    project.append("locks/a.jsonl", passages.lines(2_000));
    project.expect(0, RUN);
    let before = landed_rows(&project, &["all", "once", "minute", "five"]);
    // A window that was not there when the batches were read.
    project.write("pipelines/passages.toml", [pipeline(), window("ten", "length = \"10m\"", "")].concat());
    let (_, err) = project.expect(6, &["replay", "passages", "--batches", "2-3", "--yes"]);
    assert!(err.contains("was read before `ten` was in the pipeline"), "{err}");
    project.expect(0, &["replay", "passages", "--batches", "2-3", "--landing", "passage.all", "--yes"]);
    // Events that the source has no more.
    project.write("pipelines/passages.toml", pipeline());
    let text = std::fs::read_to_string(project.path("locks/a.jsonl")).unwrap();
    project.write("locks/a.jsonl", text.replacen("P000", "X000", 500));
    let (_, err) = project.expect(6, &["replay", "passages", "--batches", "3-4", "--yes"]);
    assert!(err.contains("no longer holds the records"), "{err}");
    project.write("locks/a.jsonl", text);
    assert_eq!(landed_rows(&project, &["all", "once", "minute", "five"]), before);
    balanced(&project);
}

/// Earlier versions did not note where stations stood; what they have left open cannot be given again.
#[test]
fn batches_that_need_those_of_an_earlier_version_are_refused() {
    let project = project(
        &[PASSAGE, &window("minute", "length = \"1m\"", "")].concat().replace("within = \"24h\"", "within = \"1s\""),
    );
    let mut passages = Passages::new(80);
    for _ in 0..6 {
        project.append("locks/a.jsonl", passages.lines(800));
        project.expect(0, RUN);
    }
    let before = landed_rows(&project, &["all", "once", "minute"]);
    let ledger = rusqlite::Connection::open(project.path(".sluice/ledger.db")).unwrap();
    ledger.execute("update batch set marks = null where number < 4", []).unwrap();
    let replay =
        |batches: &str, code: i32| project.expect(code, &["replay", "passages", "--batches", batches, "--yes"]).1;
    assert!(replay("3", 6).contains("or by an earlier version"));
    assert!(replay("4", 6).contains("came from batch 3 as well"));
    assert!(replay("4-12", 6).contains("came from batch 3 as well"));
    replay("10-12", 0);
    assert_eq!(landed_rows(&project, &["all", "once", "minute"]), before);
}

#[cfg(feature = "failpoints")]
#[test]
fn killed_at_every_point_the_next_reading_brings_it_to_its_end() {
    use sluice_core::fail_points::{COMMON, FILES};
    use std::os::unix::process::ExitStatusExt as _;

    let project = project(&pipeline());
    let mut passages = Passages::new(76);
    for count in [1_000, 900] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
    }
    let folders = ["all", "once", "minute", "five"];
    let before = landed_rows(&project, &folders);
    let mut reached = 0;
    for point in COMMON.iter().chain(FILES) {
        let replay = ["replay", "passages", "--batches", "3-4", "--yes"];
        let done = project.command(&replay).env("SLUICE_KILL_AT", format!("{point}:2")).output().unwrap();
        reached += u64::from(done.status.signal() == Some(9));
        project.expect(0, &replay);
        assert_eq!(landed_rows(&project, &folders), before, "{point}");
    }
    assert!(reached > 8, "{reached}");
    project.append("locks/a.jsonl", passages.lines(1_600));
    project.expect(0, RUN);
    super::check(&project, &passages);
}
