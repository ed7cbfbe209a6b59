//! The ways around the straight path, driven with the built program on files and SQLite: adopting, second checkouts,
//! reading again in any order, renamed events, files that are replaced, rotated or linked, names that cannot be made.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::symlink;

use common::{TestProject, visible_files};
use rstest::rstest;
use serde_json::Value;

const PROJECT: &str = "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n[connection.archive]\nurl = \
                       \"file:archive\"\n[connection.office]\nurl = \"sqlite:office.db\"\n";

const RUN: &[&str] = &["run", "tickets", "--until-caught-up"];
const ADOPT: &[&str] = &["run", "tickets", "--until-caught-up", "--adopt"];

/// What stands in the pipeline file.
#[derive(Clone)]
struct File {
    event: &'static str,
    rows: u32,
    /// Whether the contract takes every event.
    mended: bool,
    third: bool,
}

impl Default for File {
    fn default() -> Self {
        Self { event: "ticket", rows: 20, mended: false, third: false }
    }
}

impl File {
    fn text(&self) -> String {
        let Self { event, rows, mended, third } = self;
        let ty = if *mended { "text" } else { "integer" };
        let mut text = format!(
            "pipeline = \"tickets\"\nbatch = {{ rows = {rows}, every = \"1h\" }}\nrejects = {{ share = \"100%\", least = \
             1000000 }}\n[event.{event}]\nfields = \"n integer not null, kg {ty} not null\"\n[event.{event}.arrives]\nat = \
             \"depots\"\nmatch = \"*.jsonl\"\n[event.{event}.lands.all]\nat = \"archive\"\npath = \"all\"\nformat = \
             \"jsonl\"\ncolumns = \"n\"\n[event.{event}.lands.desk]\nat = \"office\"\ntable = \"ticket\"\nlineage = \
             true\ncreate = true\ncolumns = \"n\"\n"
        );
        if *third {
            text.push_str(&format!(
                "[event.{event}.lands.third]\nat = \"archive\"\npath = \"third\"\nformat = \"jsonl\"\ncolumns = \"n\"\n"
            ));
        }
        text
    }
}

fn project(file: &File) -> TestProject {
    let project = TestProject::empty();
    project.write("sluice.toml", PROJECT);
    project.write("pipelines/tickets.toml", file.text());
    fs::create_dir(project.path("depots")).unwrap();
    project
}

/// Lines of the numbers; every seventh breaks the contract.
fn lines(numbers: std::ops::Range<u32>) -> String {
    numbers
        .map(|n| match n % 7 {
            3 => format!("{{\"n\":{n},\"kg\":\"much\"}}\n"),
            _ => format!("{{\"n\":{n},\"kg\":1}}\n"),
        })
        .collect()
}

/// Lines that are all good.
fn good(numbers: std::ops::Range<u32>) -> String {
    numbers.map(|n| format!("{{\"n\":{n},\"kg\":1}}\n")).collect()
}

/// How often each number stands in a folder of JSON Lines.
fn in_folder(project: &TestProject, folder: &str) -> BTreeMap<u64, u32> {
    let mut found = BTreeMap::new();
    for path in visible_files(&project.path(folder)) {
        for line in fs::read_to_string(&path).unwrap().lines() {
            let value: Value = serde_json::from_str(line).unwrap();
            *found.entry(value["n"].as_u64().unwrap()).or_default() += 1;
        }
    }
    found
}

/// How often each number stands in the table.
fn in_table(project: &TestProject) -> BTreeMap<u64, u32> {
    let Ok(office) = rusqlite::Connection::open(project.path("office.db")) else { return BTreeMap::new() };
    let Ok(mut rows) = office.prepare("select n, count(*) from ticket group by n") else { return BTreeMap::new() };
    rows.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect()
}

fn once(numbers: std::ops::Range<u32>) -> BTreeMap<u64, u32> {
    numbers.map(|n| (u64::from(n), 1)).collect()
}

fn forget(project: &TestProject) {
    fs::remove_dir_all(project.path(".sluice")).unwrap();
}

#[test]
fn adopting_takes_over_every_batch_of_every_file() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..100));
    project.expect(0, RUN);
    project.write("depots/b.jsonl", good(100..200));
    project.expect(0, RUN);
    forget(&project);
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("--adopt"), "{err}");
    project.append("depots/a.jsonl", good(200..230));
    project.expect(0, ADOPT);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..230), once(0..230)));
    project.expect(0, RUN);
    assert_eq!(in_folder(&project, "archive/all"), once(0..230));
}

/// Files that have their names already when the ledger is lost are in no record yet.
#[cfg(feature = "failpoints")]
#[rstest]
fn adopting_ends_what_was_begun_to_be_published(
    #[values("publish.before", "publish.begun", "publish.file_renamed", "publish.folders_synced", "publish.recorded")]
    point: &str,
    #[values(1, 2, 3)] time: u32,
) {
    let project = project(&File { third: true, ..File::default() });
    project.write("depots/a.jsonl", good(0..100));
    let killed = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:{time}")).output().unwrap();
    assert_eq!(killed.status.code(), None);
    forget(&project);
    project.append("depots/a.jsonl", good(100..130));
    if point == "publish.before" && time == 1 {
        project.expect(0, RUN);
    } else {
        project.expect(6, RUN);
        project.expect(0, ADOPT);
    }
    let third = in_folder(&project, "archive/third");
    assert_eq!((in_folder(&project, "archive/all"), third), (once(0..130), once(0..130)));
}

/// The same pipeline with so many lanes.
fn with_lanes(project: &TestProject, lanes: u32) {
    let keys = format!("match = \"*.jsonl\"\nlanes = {lanes}");
    project.write("pipelines/tickets.toml", File::default().text().replace("match = \"*.jsonl\"", &keys));
}

#[rstest]
#[case(3, 1)]
#[case(1, 3)]
#[case(2, 3)]
fn adopting_knows_how_far_files_were_read_when_lanes_have_changed(#[case] before: u32, #[case] after: u32) {
    let project = project(&File::default());
    for (lanes, start) in [(before, 0), (after, 300), (before, 600)] {
        with_lanes(&project, lanes);
        for file in 0..6 {
            project.append(&format!("depots/{file}.jsonl"), good(start + file * 50..start + file * 50 + 50));
        }
        project.expect(0, RUN);
        forget(&project);
        project.expect(0, ADOPT);
        let expected = once(0..start + 300);
        assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (expected.clone(), expected));
    }
}

/// One of these files is in a lane that the pipeline has no more.
#[rstest]
fn a_new_ledger_sees_what_lanes_landed_that_are_no_more(#[values("a", "b", "c", "d", "e", "f")] file: &str) {
    let project = project(&File::default());
    with_lanes(&project, 3);
    project.write(&format!("depots/{file}.jsonl"), good(0..100));
    project.expect(0, RUN);
    with_lanes(&project, 1);
    forget(&project);
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("--adopt"), "{err}");
    project.append(&format!("depots/{file}.jsonl"), good(100..130));
    project.expect(0, ADOPT);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..130), once(0..130)));
}

#[test]
fn adopting_refuses_where_two_lanes_have_read_the_same_places() {
    let project = project(&File::default());
    with_lanes(&project, 3);
    (0..6).for_each(|file| project.write(&format!("depots/{file}.jsonl"), good(file * 50..file * 50 + 50)));
    project.expect(0, RUN);
    with_lanes(&project, 1);
    project.expect(0, &["positions", "tickets", "--set", "earliest", "--reason", "read anew", "--yes"]);
    (0..6).for_each(|file| project.append(&format!("depots/{file}.jsonl"), good(300 + file..301 + file)));
    project.expect(0, RUN);
    let landed = in_folder(&project, "archive/all");
    forget(&project);
    let (_, err) = project.expect(6, ADOPT);
    assert!(err.contains("do not tell which of them read it last") && err.contains("nothing was taken over"), "{err}");
    assert_eq!(in_folder(&project, "archive/all"), landed);
}

#[cfg(feature = "failpoints")]
#[rstest]
fn adopting_gives_a_landing_that_was_behind_what_it_lacks(#[values(1, 2, 3)] landed: u32) {
    let project = project(&File { rows: 1_000, ..File::default() });
    project.write("depots/a.jsonl", lines(0..100));
    // Killed after one landing, after two, after the rejects.
    let killed = project.command(RUN).env("SLUICE_KILL_AT", format!("land.after:{landed}")).output().unwrap();
    assert_eq!(killed.status.code(), None);
    forget(&project);
    project.append("depots/a.jsonl", lines(100..150));
    project.expect(0, ADOPT);
    let good = |n: &u64| n % 7 != 3;
    let expected: BTreeMap<u64, u32> = once(0..150).into_iter().filter(|(n, _)| good(n)).collect();
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (expected.clone(), expected));
    // Rejects are whole as well: mended, they land.
    let rejects = project.json(&["rejects", "tickets"]);
    assert_eq!(rejects["total"], (0..150).filter(|n| n % 7 == 3).count());
    project.write("pipelines/tickets.toml", File { mended: true, rows: 1_000, ..File::default() }.text());
    project.expect(0, &["rejects", "tickets", "--retry", "--yes"]);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..150), once(0..150)));
}

#[cfg(feature = "failpoints")]
#[test]
fn a_second_checkout_refuses_before_it_touches_sealed_work() {
    let first = project(&File::default());
    let second = project(&File::default());
    let shared = format!("file:{}", first.path("archive").display());
    for one in [&first, &second] {
        one.write("sluice.toml", PROJECT.replace("file:archive", &shared));
    }
    first.write("depots/a.jsonl", good(0..20));
    first.expect(0, RUN);
    first.append("depots/a.jsonl", good(20..40));
    let killed = first.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
    assert_eq!(killed.status.code(), None);
    second.write("depots/a.jsonl", good(0..60));
    let (_, err) = second.expect(6, RUN);
    assert!(err.contains("of another ledger") && err.contains("nothing was touched"), "{err}");
    // The first one's staged work is still there.
    first.expect(0, RUN);
    assert_eq!((in_folder(&first, "archive/all"), in_table(&first)), (once(0..40), once(0..40)));
}

#[test]
fn reading_again_twice_or_in_another_order_doubles_nothing() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..100));
    project.expect(0, RUN);
    project.write("pipelines/tickets.toml", File { third: true, ..File::default() }.text());
    let into = &["replay", "tickets", "--batches", "1..", "--into", "third", "--yes"];
    let in_place = &["replay", "tickets", "--batches", "2..3", "--yes"];
    for again in [into.as_slice(), into, in_place, into, in_place] {
        project.expect(0, again);
        assert_eq!(in_folder(&project, "archive/third"), once(0..100), "{again:?}");
        assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..100), once(0..100)));
    }
}

#[test]
fn rejects_that_were_read_again_are_not_doubled_by_a_replay_of_their_batch() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", lines(0..11));
    project.expect(0, RUN);
    assert_eq!(in_folder(&project, "archive/all").len(), 9);
    let mended = File { mended: true, ..File::default() };
    project.write("pipelines/tickets.toml", mended.text());
    let retry = &["rejects", "tickets", "--retry", "--yes"];
    let replay = &["replay", "tickets", "--batches", "1", "--yes"];
    for again in [retry.as_slice(), replay, retry, replay, replay] {
        project.expect(0, again);
        assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..11), once(0..11)), "{again:?}");
        assert_eq!(project.json(&["rejects", "tickets"])["total"], 0);
    }
    // Broken again, the batch rejects them once more: each is one reject, however often it was read.
    project.write("pipelines/tickets.toml", File { third: true, ..File::default() }.text());
    project.expect(0, replay);
    project.expect(0, &["replay", "tickets", "--batches", "1", "--into", "third", "--yes"]);
    assert_eq!(project.json(&["rejects", "tickets"])["total"], 2);
    project.write("pipelines/tickets.toml", File { third: true, mended: true, ..File::default() }.text());
    project.expect(0, retry);
    for folder in ["archive/all", "archive/third"] {
        assert_eq!(in_folder(&project, folder), once(0..11), "{folder}");
    }
    assert_eq!(in_table(&project), once(0..11));
}

#[test]
fn an_event_with_a_new_name_goes_on_where_it_was() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..100));
    project.expect(0, RUN);
    let renamed = File { event: "weigh_ticket", ..File::default() };
    project.write("pipelines/tickets.toml", renamed.text());
    project.append("depots/a.jsonl", good(100..120));
    project.expect(0, RUN);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..120), once(0..120)));
    // What landed under its old name is replaced under its new one.
    project.expect(0, &["replay", "tickets", "--batches", "1..", "--yes"]);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..120), once(0..120)));
}

/// A pipeline's name is part of what its landings hold: under another one it is not read from the beginning unasked.
#[test]
fn a_pipeline_with_a_new_name_waits_for_a_choice() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..50));
    project.expect(0, RUN);
    let text = File::default().text();
    project.write("pipelines/tickets.toml", text.replace("pipeline = \"tickets\"", "pipeline = \"weighing\""));
    let run = &["run", "weighing", "--until-caught-up"];
    let (_, err) = project.expect(6, run);
    assert!(err.contains("may be the same pipeline under a new name") && err.contains("--start-anew"), "{err}");
    assert_eq!(in_folder(&project, "archive/all"), once(0..50));
    // A second pipeline beside it is another one.
    project.write("pipelines/tickets.toml", &text);
    let second = text
        .replace("pipeline = \"tickets\"", "pipeline = \"weighing\"")
        .replace("path = \"all\"", "path = \"second\"");
    project.write("pipelines/second.toml", second.replace("table = \"ticket\"", "table = \"second\""));
    project.expect(0, run);
    assert_eq!((in_folder(&project, "archive/all"), in_folder(&project, "archive/second")), (once(0..50), once(0..50)));
}

#[test]
fn an_arrival_put_before_another_changes_no_positions() {
    let two = |first: &str, second: &str| {
        let text = File::default().text().replace("[event.ticket.arrives]\nat = \"depots\"\nmatch = \"*.jsonl\"\n", "");
        let arrival = |pattern: &str| format!("[[event.ticket.arrives]]\nat = \"depots\"\nmatch = \"{pattern}\"\n");
        let (before, after) = text.split_once("[event.ticket.lands.all]").unwrap();
        format!("{before}{}{}[event.ticket.lands.all]{after}", arrival(first), arrival(second))
    };
    let project = project(&File::default());
    project.write("pipelines/tickets.toml", two("east-*.jsonl", "west-*.jsonl"));
    project.write("depots/east-a.jsonl", good(0..50));
    project.write("depots/west-a.jsonl", good(50..100));
    project.expect(0, RUN);
    project.write("pipelines/tickets.toml", two("west-*.jsonl", "east-*.jsonl"));
    project.append("depots/east-a.jsonl", good(100..110));
    project.expect(0, RUN);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (once(0..110), once(0..110)));
}

#[rstest]
#[case::taken_over("--take-over", "ticket.0=ticket.0", 100..110)]
#[case::as_a_new_one("--start-anew", "ticket.0", 0..110)]
fn an_arrival_from_another_place_waits_for_a_choice(
    #[case] option: &str,
    #[case] value: &str,
    #[case] lands: std::ops::Range<u32>,
) {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..100));
    project.expect(0, RUN);
    fs::create_dir(project.path("elsewhere")).unwrap();
    fs::rename(project.path("depots/a.jsonl"), project.path("elsewhere/a.jsonl")).unwrap();
    project.append("elsewhere/a.jsonl", good(100..110));
    project.write("sluice.toml", PROJECT.replace("file:depots", "file:elsewhere"));
    let before = in_folder(&project, "archive/all");
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("file:elsewhere") && err.contains("file:depots") && err.contains("--take-over"), "{err}");
    assert_eq!(in_folder(&project, "archive/all"), before);
    let (_, err) = project.expect(3, &["positions", "tickets", option, value, "--yes"]);
    assert!(err.contains("--reason"), "{err}");
    project.expect(0, &["positions", "tickets", option, value, "--reason", "the folder moved", "--yes"]);
    project.expect(0, RUN);
    let mut expected = once(0..100);
    lands.for_each(|n| *expected.entry(u64::from(n)).or_default() += 1);
    assert_eq!(in_folder(&project, "archive/all"), expected);
    // Nobody asks again.
    project.expect(0, RUN);
}

#[test]
fn a_folder_name_that_cannot_be_made_is_a_reject_and_blocks_nothing() {
    let project = project(&File::default());
    let text = "pipeline = \"tickets\"\nbatch = { rows = 20 }\nrejects = { share = \"100%\", least = 1000 }\n[event.ticket]\n\
                fields = \"a text not null, b text not null\"\n[event.ticket.arrives]\nat = \"depots\"\n\
                [event.ticket.lands.all]\nat = \"archive\"\npath = \"{a}-{b}\"\nformat = \"jsonl\"\n";
    project.write("pipelines/tickets.toml", text);
    let line = |length: usize| format!("{{\"a\":\"{0}\",\"b\":\"{0}\"}}\n", "x".repeat(length));
    project.write("depots/a.jsonl", line(10) + &line(180) + &line(20));
    project.expect(0, RUN);
    let rejects = project.json(&["rejects", "tickets"]);
    assert_eq!((&rejects["total"], &rejects["groups"][0]["reason"]), (&1.into(), &"path".into()), "{rejects}");
    assert_eq!(visible_files(&project.path("archive")).len(), 2);
    project.write("pipelines/tickets.toml", text.replace("{a}-{b}", "{a}/{b}"));
    project.expect(0, &["rejects", "tickets", "--retry", "--yes"]);
    assert_eq!(visible_files(&project.path("archive")).len(), 3);
}

#[cfg(feature = "failpoints")]
#[test]
fn a_sealed_batch_that_cannot_be_finished_has_a_way_out() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", lines(0..20));
    let killed = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
    assert_eq!(killed.status.code(), None);
    // Where the folder was, somebody puts a file.
    fs::remove_dir_all(project.path("archive/all")).unwrap();
    project.write("archive/all", "in the way");
    project.append("depots/a.jsonl", lines(20..40));
    for _ in 0..2 {
        project.expect(5, RUN);
    }
    let report = project.json(&["rejects", "tickets", "--unfinished", "--yes"]);
    assert_eq!(report["given_up"][0]["landing"], "ticket.all", "{report}");
    fs::remove_file(project.path("archive/all")).unwrap();
    project.expect(0, RUN);
    let good: BTreeMap<u64, u32> = once(0..40).into_iter().filter(|(n, _)| n % 7 != 3).collect();
    assert_eq!(in_table(&project), good);
    let rejects = project.json(&["rejects", "tickets"]);
    let unfinished = rejects["groups"].as_array().unwrap().iter().find(|g| g["reason"] == "unfinished").unwrap();
    assert_eq!(unfinished["count"], (0..20).filter(|n| n % 7 != 3).count(), "{rejects}");
    project.expect(0, &["rejects", "tickets", "--retry", "--yes"]);
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (good.clone(), good));
    project.expect(0, &["rejects", "tickets", "--unfinished", "--yes"]);
}

#[test]
fn a_replaced_dump_stops_and_a_rotated_log_does_not() {
    let project = project(&File { rows: 100_000, ..File::default() });
    project.write("depots/dump.jsonl", good(0..5_000));
    project.write("depots/app.jsonl", good(10_000..10_100));
    project.expect(0, RUN);
    fs::rename(project.path("depots/app.jsonl"), project.path("depots/app.jsonl.1")).unwrap();
    project.write("depots/app.jsonl", good(10_100..10_200));
    project.expect(0, RUN);
    let mut expected = once(0..5_000);
    expected.extend(once(10_000..10_200));
    assert_eq!(in_folder(&project, "archive/all"), expected);
    // The same first 4 KiB, other lines after them, and longer than before.
    project.write("depots/dump.jsonl", good(0..500) + &good(20_000..30_000));
    project.write("depots/late.jsonl", good(40_000..40_010));
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("dump.jsonl is not the file that was read"), "{err}");
    // The others were read all the same.
    expected.extend(once(40_000..40_010));
    assert_eq!(in_folder(&project, "archive/all"), expected);
    // Why it stopped can be seen afterwards.
    let (out, _) = project.expect(0, &[]);
    assert!(out.contains("stopped") && out.contains("dump.jsonl"), "{out}");
    assert_eq!(project.json(&["status", "tickets"])["pipelines"][0]["last_end"]["kind"], "findings");
    fs::remove_file(project.path("depots/dump.jsonl")).unwrap();
    project.expect(0, RUN);
    assert_eq!(project.json(&["status", "tickets"])["pipelines"][0]["last_end"], Value::Null);
}

#[test]
fn links_are_passed_over_and_said() {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..5));
    symlink(".", project.path("depots/l")).unwrap();
    symlink("..", project.path("depots/up")).unwrap();
    let text = File::default().text().replace("match = \"*.jsonl\"", "match = \"**/*.jsonl\"");
    project.write("pipelines/tickets.toml", &text);
    let (out, _) = project.expect(0, RUN);
    assert!(out.contains("2 symbolic links passed over") && out.contains("follow_links"), "{out}");
    assert_eq!(in_folder(&project, "archive/all"), once(0..5));
    project.write("pipelines/tickets.toml", text.replace("match =", "follow_links = true\nmatch ="));
    project.expect(0, &["run", "tickets", "--until-caught-up"]);
    let found = in_folder(&project, "archive/all");
    assert!(found.values().all(|n| *n == 1), "a circle is walked once: {found:?}");
}

#[rstest]
#[case::other_delimiter("n;kg\n1;2\n", 4, "delimiter = \";\"")]
#[case::other_names("number,weight\n1,2\n", 4, "names none of the event's fields")]
#[case::one_is_missing("n,weight\n1,2\n", 0, "does not name `kg`")]
fn a_header_row_without_the_fields_is_said(#[case] text: &str, #[case] code: i32, #[case] said: &str) {
    let project = project(&File::default());
    let pipeline = "pipeline = \"tickets\"\n[event.ticket]\nfields = \"n integer, kg integer\"\n[event.ticket.arrives]\nat = \
                    \"depots\"\nformat = \"csv\"\n[event.ticket.lands.all]\nat = \"archive\"\npath = \"all\"\nformat = \
                    \"jsonl\"\n";
    project.write("pipelines/tickets.toml", pipeline);
    project.write("depots/a.csv", text);
    let (out, err) = project.expect(code, RUN);
    assert!(format!("{out}{err}").contains(said) && format!("{out}{err}").contains("a.csv"), "{out}{err}");
    assert_eq!(visible_files(&project.path("archive")).is_empty(), code != 0);
}

#[test]
fn null_and_the_text_null_have_folders_of_their_own() {
    let project = project(&File::default());
    let pipeline = "pipeline = \"tickets\"\n[event.ticket]\nfields = \"n integer not null, lock text\"\n\
                    [event.ticket.arrives]\nat = \"depots\"\n[event.ticket.lands.all]\nat = \"archive\"\npath = \
                    \"lock={lock}\"\nformat = \"jsonl\"\n";
    project.write("pipelines/tickets.toml", pipeline);
    let values = ["null", "\"null\"", "\"none\"", "\"%null\"", "\"\"", "\"a=b\"", "\"Upper\"", "\"upper\""];
    let text: String =
        values.iter().enumerate().map(|(n, value)| format!("{{\"n\":{n},\"lock\":{value}}}\n")).collect();
    project.write("depots/a.jsonl", text);
    project.expect(0, RUN);
    let mut folders: Vec<String> = fs::read_dir(project.path("archive"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| !name.starts_with('.'))
        .collect();
    folders.sort();
    let expected = [
        "lock=%25null",
        "lock=%empty",
        "lock=%null",
        "lock=Upper",
        "lock=a%3Db",
        "lock=none",
        "lock=null",
        "lock=upper",
    ];
    assert_eq!(folders, expected);
}

/// One folder of Parquet files has one type a column.
#[test]
fn a_column_with_another_type_lands_in_a_folder_of_its_own_or_not_at_all() {
    let project = project(&File::default());
    let text = |ty: &str, more: &str| {
        format!(
            "pipeline = \"tickets\"\n[event.ticket]\nfields = \"n text not null, kg {ty}\"\n[event.ticket.arrives]\nat = \
             \"depots\"\n[event.ticket.lands.all]\nat = \"archive\"\npath = \"all\"\n{more}"
        )
    };
    let parquet = |folder: &str| -> usize {
        visible_files(&project.path(folder)).iter().map(|path| common::parquet_texts(path).len()).sum()
    };
    project.write("pipelines/tickets.toml", text("integer", ""));
    project.write("depots/a.jsonl", "{\"n\":\"a\",\"kg\":1}\n");
    project.expect(0, RUN);
    project.append("depots/a.jsonl", "{\"n\":\"b\",\"kg\":2}\n");
    project.write("pipelines/tickets.toml", text("bigint", ""));
    let (_, err) = project.expect(3, RUN);
    assert!(err.contains("`kg` landed as Int32 and is Int64 now") && err.contains("new_folder"), "{err}");
    let (out, err) = project.expect(3, &["check"]);
    assert!(format!("{out}{err}").contains("files.types"), "{out}{err}");
    assert_eq!(parquet("archive/all"), 1);
    // A further column is no other type.
    project.write("pipelines/tickets.toml", text("integer, bridge integer", ""));
    project.expect(0, RUN);
    assert_eq!(parquet("archive/all"), 2);
    project.write("pipelines/tickets.toml", text("bigint", "new_types = \"new_folder\"\n"));
    project.append("depots/a.jsonl", "{\"n\":\"c\",\"kg\":3}\n");
    project.expect(0, RUN);
    project.append("depots/a.jsonl", "{\"n\":\"d\",\"kg\":4}\n");
    project.expect(0, RUN);
    assert_eq!((parquet("archive/all"), parquet("archive/all-2")), (2, 2));
    assert_eq!(project.json(&["peek", "tickets.ticket.all"])["rows"], 2);
}

/// Adopting is one step of the ledger: killed before or after it, or while a landing gets what it lacks, it is done again.
#[cfg(feature = "failpoints")]
#[rstest]
fn adopting_survives_kills(
    #[values("adopt.before", "adopt.after", "replay.begun", "seal.before", "seal.after", "land.after", "settle.after")]
    point: &str,
) {
    let project = project(&File { rows: 1_000, ..File::default() });
    project.write("depots/a.jsonl", lines(0..60));
    let killed = project.command(RUN).env("SLUICE_KILL_AT", "land.after:1").output().unwrap();
    assert_eq!(killed.status.code(), None);
    forget(&project);
    let killed = project.command(ADOPT).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
    assert_eq!(killed.status.code(), None, "{killed:?}");
    project.append("depots/a.jsonl", lines(60..80));
    project.expect(0, ADOPT);
    let good: BTreeMap<u64, u32> = once(0..80).into_iter().filter(|(n, _)| n % 7 != 3).collect();
    assert_eq!((in_folder(&project, "archive/all"), in_table(&project)), (good.clone(), good));
    assert_eq!(project.json(&["rejects", "tickets"])["total"], (0..80).filter(|n| n % 7 == 3).count());
}

/// Setting positions is all or nothing.
#[cfg(feature = "failpoints")]
#[rstest]
#[case("positions.before", 20)]
#[case("positions.after", 40)]
fn setting_positions_survives_kills(#[case] point: &str, #[case] lands: usize) {
    let project = project(&File::default());
    project.write("depots/a.jsonl", good(0..20));
    project.expect(0, RUN);
    let set = &["positions", "tickets", "--set", "a.jsonl=0", "--reason", "a test", "--yes"];
    let killed = project.command(set).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
    assert_eq!(killed.status.code(), None, "{killed:?}");
    project.expect(0, RUN);
    let found = in_folder(&project, "archive/all");
    assert_eq!(found.values().map(|n| usize::try_from(*n).unwrap()).sum::<usize>(), lands);
}

/// A store that rows land in, read by a client of its own.
#[cfg(feature = "failpoints")]
struct Store {
    name: &'static str,
    table: String,
}

#[cfg(feature = "failpoints")]
impl Store {
    fn address(&self) -> Option<String> {
        let variable = match self.name {
            "mariadb" => "SLUICE_TEST_MARIADB",
            "clickhouse" => "SLUICE_TEST_CLICKHOUSE",
            _ => return Some("office.db".into()),
        };
        let found = std::env::var(variable).ok();
        assert!(found.is_some() || std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "{variable} is not set");
        found
    }

    fn connection(&self) -> Option<String> {
        let address = self.address()?;
        let user = "user = \"sluice\"";
        Some(match self.name {
            "sqlite" => format!("[connection.office]\nurl = \"sqlite:{address}\"\n"),
            "mariadb" => format!("[connection.office]\nurl = \"mariadb://{address}/tarrow\"\n{user}\n"),
            name => format!("[connection.office]\nurl = \"{name}://{address}/tarrow\"\n"),
        })
    }

    /// The numbers with how often each is there.
    fn numbers(&self, project: &TestProject) -> BTreeMap<u64, u32> {
        let sql = format!("select n, count(*) from {} group by n order by n", self.table);
        let text = match self.name {
            "sqlite" => {
                let office = rusqlite::Connection::open(project.path("office.db")).unwrap();
                let mut rows = office.prepare(&sql).unwrap();
                return rows.query_map([], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect();
            }
            "mariadb" => {
                let address = self.address().unwrap();
                let (host, port) = address.split_once(':').unwrap();
                let output = std::process::Command::new("mariadb")
                    .args(["--no-defaults", "-h", host, "-P", port, "-u", "sluice", "-N", "-B", "tarrow", "-e", &sql])
                    .output()
                    .unwrap();
                assert!(output.status.success(), "{output:?}");
                String::from_utf8(output.stdout).unwrap()
            }
            _ => {
                use std::io::{Read as _, Write as _};
                let mut server = std::net::TcpStream::connect(self.address().unwrap()).unwrap();
                let request = format!("POST /?database=tarrow HTTP/1.0\r\nContent-Length: {}\r\n\r\n{sql}", sql.len());
                server.write_all(request.as_bytes()).unwrap();
                let mut answer = String::new();
                server.read_to_string(&mut answer).unwrap();
                assert!(answer.contains(" 200 "), "{answer}");
                answer.split_once("\r\n\r\n").unwrap().1.to_string()
            }
        };
        let row = |line: &str| {
            let (n, count) = line.split_once('\t').unwrap();
            (n.parse().unwrap(), count.trim().parse().unwrap())
        };
        text.lines().map(row).collect()
    }
}

/// Every named step of the stores that share their code with PostgreSQL, killed.
#[cfg(feature = "failpoints")]
#[rstest]
fn stores_survive_kills_at_every_point(
    #[values("sqlite", "mariadb", "clickhouse")] store: &'static str,
    #[values("append", "upsert")] mode: &str,
) {
    use sluice_core::fail_points::{COMMON, TABLES};
    if store == "clickhouse" && mode == "upsert" {
        return;
    }
    for (i, point) in COMMON.iter().chain(TABLES).enumerate() {
        // Without transactions the batch is noted last.
        if store == "clickhouse" && *point == "publish.table_noted" {
            continue;
        }
        let store = Store { name: store, table: format!("kill_{}_{mode}_{i}", std::process::id()) };
        let Some(connection) = store.connection() else { return };
        let project = project(&File::default());
        project.write("sluice.toml", PROJECT.split("[connection.office]").next().unwrap().to_string() + &connection);
        let key = if mode == "upsert" { "key = \"n\"\n" } else { "" };
        // The servers are those of all tests.
        let name = format!("p_{}", store.table);
        let run = &["run", name.as_str(), "--until-caught-up"];
        project.write(
            "pipelines/tickets.toml",
            format!(
                "pipeline = \"{name}\"\nbatch = {{ rows = 20, every = \"1h\" }}\n[event.ticket]\nfields = \"n integer not \
                 null, kg integer\"\n[event.ticket.arrives]\nat = \"depots\"\n[event.ticket.lands.desk]\nat = \
                 \"office\"\ntable = \"{}\"\nmode = \"{mode}\"\n{key}lineage = true\ncreate = true\ncolumns = \"n\"\n",
                store.table
            ),
        );
        for count in 1..=2 {
            project.append("depots/a.jsonl", good((count - 1) * 50..count * 50));
            if point.starts_with("recover.") {
                project.command(run).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
            }
            let once = point.starts_with("recover.") || *point == "stage.first_rows";
            let nth = if once { 1 } else { count };
            let killed = project.command(run).env("SLUICE_KILL_AT", format!("{point}:{nth}")).output().unwrap();
            assert_eq!(killed.status.code(), None, "{point}:{nth} was not reached: {killed:?}");
        }
        project.expect(0, run);
        assert_eq!(store.numbers(&project), once(0..100), "{point}");
    }
}

/// Random sequences with the real program, killed at random steps; in the end everything is there once.
#[cfg(feature = "failpoints")]
#[rstest]
fn random_sequences_leave_what_one_reading_leaves(#[values(1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12)] seed: u64) {
    use sluice_core::fail_points::{COMMON, FILES, REPLAY, TABLES};
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut below = |bound: u64| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 11) % bound
    };
    let points: Vec<&str> = COMMON.iter().chain(FILES).chain(TABLES).chain(REPLAY).copied().collect();
    let mut file = File { rows: 15, ..File::default() };
    let project = project(&file);
    let mut produced = 0;
    let mut did: Vec<String> = Vec::new();
    // Codes that a user meets in such a sequence: what is refused changes nothing.
    let mut step = |arguments: &[&str], kill: Option<String>| {
        did.push(format!("{arguments:?} {kill:?}"));
        let mut command = project.command(arguments);
        if let Some(kill) = &kill {
            command.env("SLUICE_KILL_AT", kill);
        }
        let output = command.output().unwrap();
        let code = output.status.code();
        let err = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(matches!(code, None | Some(0 | 3 | 6)), "{did:#?}\n{code:?} {err}");
    };
    for _ in 0..14 {
        let kill = (below(3) == 0).then(|| {
            let point = points[usize::try_from(below(points.len() as u64)).unwrap()];
            format!("{point}:{}", 1 + below(3))
        });
        match below(10) {
            0..=2 => {
                let count = 10 + u32::try_from(below(40)).unwrap();
                project.append("depots/a.jsonl", lines(produced..produced + count));
                produced += count;
            }
            3..=5 => step(RUN, kill),
            6 => {
                file.mended = !file.mended;
                project.write("pipelines/tickets.toml", file.text());
            }
            7 => step(&["rejects", "tickets", "--retry", "--yes"], kill),
            8 => {
                let batches = format!("{}..", 1 + below(3));
                step(&["replay", "tickets", "--batches", &batches, "--yes"], kill);
            }
            _ => {
                file.third = true;
                project.write("pipelines/tickets.toml", file.text());
                step(&["replay", "tickets", "--batches", "1..2", "--into", "third", "--yes"], kill);
            }
        }
    }
    (file.mended, file.third) = (true, true);
    project.write("pipelines/tickets.toml", file.text());
    step(RUN, None);
    step(&["rejects", "tickets", "--retry", "--yes"], None);
    step(&["replay", "tickets", "--batches", "1..", "--into", "third", "--yes"], None);
    let expected = once(0..produced);
    assert_eq!(in_folder(&project, "archive/all"), expected, "{did:#?}");
    assert_eq!(in_table(&project), expected, "{did:#?}");
    assert_eq!(in_folder(&project, "archive/third"), expected, "{did:#?}");
    assert_eq!(project.json(&["rejects", "tickets"])["total"], 0, "{did:#?}");
}
