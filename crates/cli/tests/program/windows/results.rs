//! What windows give, compared with another engine.

use super::{PASSAGE, Passages, RUN, assert_same, balanced, check, landed, pipeline, project, rejected, rows, window};
use crate::common::running::{Running, wait_for};
use crate::common::topics::{self, StandIn, has};
use rstest::rstest;

#[rstest]
#[case(1)]
#[case(2)]
#[case(3)]
fn windows_equal_what_another_engine_computes(#[case] seed: u64) {
    let project = project(&pipeline());
    let mut passages = Passages::new(seed);
    // In several runs, so that what is remembered goes through the ledger.
    for count in [1_000, 1, 2_500, 900] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
        check_unless_small(&project, &passages);
    }
    check(&project, &passages);
}

/// Sessions of passages of one lock that follow each other in less than four seconds, in several runs.
#[rstest]
#[case(11)]
#[case(12)]
fn sessions_equal_what_another_engine_computes(#[case] seed: u64) {
    let project = project(&[PASSAGE, &window("session", "gap = \"4s\"", "")].concat());
    let mut passages = Passages::new(seed);
    for count in [700, 1, 1_500, 300] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
        let (expected, late) = passages.sessions(4, 120, Some(passages.newest() - 120));
        assert!(passages.count < 2_000 || (expected.len() > 100 && late > 5), "{} {late}", expected.len());
        assert_same(&landed(&project, "session"), &expected, "session");
        assert_eq!(rejected(&project).len() as u64, late);
        balanced(&project);
    }
}

#[test]
fn a_run_over_complete_files_closes_every_session() {
    let project = project(&[PASSAGE, &window("session", "gap = \"4s\"", "close = \"caught_up\"")].concat());
    let mut passages = Passages::new(13);
    project.append("locks/a.jsonl", passages.lines(1_200));
    project.expect(0, RUN);
    assert_same(&landed(&project, "session"), &passages.sessions(4, 120, None).0, "session");
    balanced(&project);
    let (out, _) = project.expect(0, &["status"]);
    assert!(out.contains("session: 0 windows open"), "{out}");
}

fn check_unless_small(project: &crate::common::TestProject, passages: &Passages) {
    if passages.count > 3_000 {
        check(project, passages);
    }
}

#[test]
fn a_run_over_complete_files_closes_every_window_and_what_comes_afterwards_is_late() {
    let text = [PASSAGE, &window("minute", "length = \"1m\"", "close = \"caught_up\"")].concat();
    let project = project(&text);
    let mut passages = Passages::new(4);
    project.write("locks/a.jsonl", passages.lines(1_500));
    project.expect(0, RUN);
    assert_same(&landed(&project, "minute"), &passages.expected(60, 60, 120, None).0, "minute");
    balanced(&project);
    let before = rows(&project, "minute").len();
    project.expect(0, RUN);
    assert_eq!(rows(&project, "minute").len(), before, "nothing is left to close");
    let late = rejected(&project).len();
    project
        .write("locks/b.jsonl", "{\"passage_id\":\"N\",\"lock_id\":\"L0\",\"passed_at\":\"2026-07-01T08:01:00Z\"}\n");
    project.expect(0, RUN);
    assert_eq!((rows(&project, "minute").len(), rejected(&project).len()), (before, late + 1));
    let (out, _) = project.expect(0, &["rejects", "passages"]);
    assert!(out.contains("raise `late`") && !out.contains("--retry"), "{out}");
    assert!(out.contains("its window from 2026-07-01T08:01:00Z to 2026-07-01T08:02:00Z has closed"), "{out}");
}

#[test]
fn days_are_times_as_well() {
    let text = PASSAGE.replace("passed_at timestamptz not null", "passed_at date not null");
    let text = text
        + &window("minute", "length = \"1d\"", "")
            .replace("window_start, count", "cast(window_start as date) as window_start, count");
    let project = project(&text);
    let line = |id: u32, day: u32| {
        format!("{{\"passage_id\":\"P{id}\",\"lock_id\":\"L0\",\"passed_at\":\"2026-07-{day:02}\",\"draught_cm\":1}}\n")
    };
    project.write("locks/a.jsonl", [line(1, 1), line(2, 1), line(3, 2), line(4, 4), line(5, 1)].concat());
    project.expect(0, RUN);
    let found: Vec<_> =
        rows(&project, "minute").iter().map(|r| (r["window_start"].clone(), r["passages"].clone())).collect();
    assert_eq!(found, [("2026-07-01".into(), 2.into()), ("2026-07-02".into(), 1.into())]);
    assert_eq!(rejected(&project).len(), 1);
}

#[test]
fn several_files_of_the_same_time_make_nobody_late() {
    let text = [PASSAGE, &window("minute", "length = \"1m\"", "close = \"caught_up\"")].concat();
    let project = project(&text);
    for file in ["a", "b", "c"] {
        let line = |i: u32| {
            let time = format!("2026-07-01T{:02}:{:02}:00Z", 8 + i / 60, i % 60);
            format!("{{\"passage_id\":\"{file}{i}\",\"lock_id\":\"L0\",\"passed_at\":\"{time}\",\"draught_cm\":1}}\n")
        };
        project.write(&format!("locks/{file}.jsonl"), (0..600).map(line).collect::<String>());
    }
    project.expect(0, RUN);
    let minutes = landed(&project, "minute");
    assert_eq!((minutes.len(), rejected(&project).len()), (600, 0));
    assert!(minutes.values().all(|row| row.starts_with("3 3 3 ")), "{minutes:?}");
}

#[test]
fn present_values_of_groups_are_kept_in_a_table() {
    let window = window("minute", "length = \"1m\"", "gives = \"changes\"").replace(
        "at = \"archive\"\npath = \"minute\"\nformat = \"jsonl\"",
        "at = \"office\"\ntable = \"minute\"\nmode = \"upsert\"\nkey = [\"lock_id\", \"window_start\"]",
    );
    let project = project(&[PASSAGE, &window].concat());
    project.expect(0, &["check", "--apply", "--yes"]);
    let mut passages = Passages::new(5);
    for count in [900, 300, 1_100] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
        let engine = rusqlite::Connection::open(project.path("office.db")).unwrap();
        let sql = "select lock_id, cast(unixepoch(window_start) as integer), passages, total from minute order by 1, 2";
        let mut statement = engine.prepare(sql).unwrap();
        let found: Vec<(String, u64, u64, Option<i64>)> = statement
            .query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)))
            .unwrap()
            .map(Result::unwrap)
            .collect();
        let expected = passages.expected(60, 60, 120, None).0;
        let figures = |row: &String| {
            let mut figures = row.split(' ');
            (figures.next().unwrap().parse().unwrap(), figures.nth(1).unwrap().parse().ok())
        };
        let expected: Vec<(String, u64, u64, Option<i64>)> = expected
            .into_iter()
            .map(|((lock, start), row)| {
                let (passages, total) = figures(&row);
                (lock, start, passages, total)
            })
            .collect();
        assert_eq!(found, expected);
    }
    balanced(&project);
}

#[test]
fn a_silent_partition_holds_windows_open_for_a_while_and_no_longer() {
    if !has("kcat") {
        return;
    }
    let stand_in = StandIn::start(&["--topic", "lock.passages:4"]);
    let text = [PASSAGE, &window("minute", "length = \"1m\"", "idle = \"1s\"")].concat();
    let text = text.replace(
        "at = \"locks\"\nmatch = \"*.jsonl\"",
        "at = \"broker\"\ntopic = \"lock.passages\"\nformat = \"json\"",
    );
    let project = project(&text);
    let broker = format!("[connection.broker]\nurl = \"kafka://{}\"\n", stand_in.address);
    project.write("sluice.toml", [super::PROJECT, &broker].concat());
    let send = |partition: &str, from: u32, to: u32| {
        let line = |i: u32| {
            let time = format!("2026-07-01T08:{:02}:{:02}Z", i / 60, i % 60);
            format!(
                "{{\"passage_id\":\"{partition}-{i}\",\"lock_id\":\"L0\",\"passed_at\":\"{time}\",\"draught_cm\":1}}"
            )
        };
        let lines: String = (from..to).map(|i| format!("k\t{}\n", line(i))).collect();
        topics::produce(&stand_in.address, "lock.passages", &lines, &["-p", partition]);
    };
    // Partition 3 is silent from the beginning, partition 2 falls silent early.
    send("0", 0, 600);
    send("1", 0, 600);
    send("2", 0, 30);
    let run = Running::start(&project, &["run", "passages"]);
    wait_for(|| landed(&project, "minute").len() >= 7);
    let (code, said) = run.settle();
    assert!(code == 0 || code == 130, "{said}");
    let minutes = landed(&project, "minute");
    // The newest event is of 08:09:59, and two minutes are waited for late ones.
    assert_eq!(minutes.len(), 7, "{minutes:?}");
    let counts: Vec<&str> = minutes.values().map(|row| row.split(' ').next().unwrap()).collect();
    assert_eq!(counts, ["150", "120", "120", "120", "120", "120", "120"]);
    assert_eq!(rejected(&project).len(), 0);
    balanced(&project);
}

#[rstest]
#[case(400)]
#[case(3_000)]
fn a_window_over_another_one_loses_none_of_its_rows(#[case] batch: u32) {
    let hour = "[event.hour.made]\nof = \"minute\"\nwindow = { length = \"10m\" }\ncolumns = \"window_start, count(*) as groups, \
                sum(passages) as passages\"\n[event.hour.lands.archive]\nat = \"archive\"\npath = \"hour\"\nformat = \"jsonl\"\n";
    let minute = window("minute", "length = \"1m\"", "")
        .replace("[event.minute.made]", "[event.minute]\ntime = \"window_start\"\n[event.minute.made]");
    let text = [PASSAGE, &minute, hour].concat().replace("rows = 400", &format!("rows = {batch}"));
    let project = project(&text);
    let mut passages = Passages::new(12);
    for count in [5_000, 7_000, 8_000] {
        project.append("locks/a.jsonl", passages.lines(count));
        project.expect(0, RUN);
    }
    let late = passages.expected(60, 60, 120, Some(passages.newest() - 120)).1;
    assert_eq!(rejected(&project).len() as u64, late, "no row of a minute is late for its hour");
    let mut expected: std::collections::BTreeMap<u64, (u64, u64)> = std::collections::BTreeMap::new();
    for ((_, start), row) in landed(&project, "minute") {
        let one = expected.entry(start / 600 * 600).or_default();
        let passages: u64 = row.split(' ').next().unwrap().parse().unwrap();
        *one = (one.0 + 1, one.1 + passages);
    }
    // The last one is still open: more minutes may come.
    expected.pop_last();
    let found = rows(&project, "hour");
    assert!(found.len() >= 3 && found.len() >= expected.len() - 1, "{found:?}");
    for row in found {
        let start = chrono::DateTime::parse_from_rfc3339(row["window_start"].as_str().unwrap()).unwrap().timestamp();
        let figures = (row["groups"].as_u64().unwrap(), row["passages"].as_u64().unwrap());
        assert_eq!(expected.get(&u64::try_from(start).unwrap()), Some(&figures), "{row}");
    }
    balanced(&project);
}
