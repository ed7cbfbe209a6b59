//! Windows that cannot work, and events that cannot be grouped.

use super::{PASSAGE, RUN, project, rejected, rows, window};
use crate::common::topics::StandIn;
use rstest::rstest;

#[rstest]
#[case::no_time("time = \"passed_at\"\n", "", "a window needs the time of its events, and `passage` has none")]
#[case::gaps("length = \"1m\"", "length = \"1m\", every = \"2m\"", "windows begin at least once in their length")]
#[case::too_many("length = \"1m\"", "length = \"1h\", every = \"1s\"", "each event would count in 3600 windows")]
#[case::nothing("length = \"1m\"", "length = \"0s\"", "a window has a length")]
#[case::no_length("length = \"1m\"", "", "the window has no length")]
#[case::two_shapes("length = \"1m\"", "length = \"1m\", gap = \"1m\"", "either a length or a gap")]
#[case::no_gap("length = \"1m\"", "gap = \"0s\"", "a session ends after a gap")]
#[case::short("length = \"1m\"", "gap = \"2h\", longest = \"1h\"", "may not be shorter than its gap")]
#[case::longest("length = \"1m\"", "length = \"1m\", longest = \"1h\"", "`longest` belongs to windows with a `gap`")]
#[case::every("length = \"1m\"", "gap = \"1m\", every = \"1m\"", "`every` belongs to windows with a `length`")]
#[case::ungrouped(
    "count(*) as passages",
    "count(*) as passages, draught_cm",
    "`draught_cm` has many values in a group"
)]
#[case::unknown("sum(draught_cm) as total", "sum(draft_cm) as total", "there is no column `draft_cm`")]
#[case::wrong_type("sum(draught_cm) as total", "sum(passage_id) as total", "`sum` does not take text")]
#[case::distinct("sum(draught_cm)", "sum(distinct draught_cm)", "`sum` does not know `distinct`")]
#[case::share("sum(draught_cm) as", "percentile(draught_cm, 95) as", "a number from 0 to 1")]
#[case::no_share("sum(draught_cm) as", "percentile(draught_cm) as", "`percentile` is not called like this")]
#[case::misspelt("count(*) as passages", "cont(*) as passages", "did you mean `count`?")]
#[case::nested(
    "sum(draught_cm) as total",
    "sum(count(*)) as total",
    "is an aggregate function: it needs a group of events"
)]
#[case::lanes("match = \"*.jsonl\"", "match = \"*.jsonl\"\nlanes = 2", "would not know of each other")]
#[case::once_too(
    "late = \"2m\"",
    "once = { key = \"lock_id\", within = \"1m\" }",
    "`once` and `window` stand in one event"
)]
#[case::late_once("once = {", "late = \"1m\"\nonce = {", "`late` belongs to `window`")]
#[case::append_changes("late = \"2m\"", "gives = \"changes\"", "would land each present value as a row of its own")]
#[case::a_key_of_nothing("key = \"passage_id\"", "key = \"passage\"", "there is no column `passage`")]
#[case::elsewhere("of = \"passage\"", "of = \"passage\"\nwhen = \"count(*) > 1\"", "is an aggregate function")]
fn a_mistake_is_named(#[case] before: &str, #[case] after: &str, #[case] message: &str) {
    let text = [PASSAGE, &window("minute", "length = \"1m\"", "")].concat();
    assert!(text.contains(before), "{before}");
    let project = project(&text.replace(before, after));
    let (_, err) = project.expect(3, &["check", "--offline"]);
    assert!(err.contains(message), "{err}");
}

#[test]
fn nothing_is_made_of_present_values() {
    let minute = window("minute", "length = \"1m\"", "gives = \"changes\"");
    let more =
        "[event.big.made]\nof = \"minute\"\nwhen = \"passages > 3\"\n[event.big.lands.archive]\nat = \"archive\"\n";
    let project = project(&[PASSAGE, &minute, more].concat());
    let (_, err) = project.expect(3, &["check", "--offline"]);
    assert!(err.contains("`minute` gives each group again with every change"), "{err}");
}

fn line(id: &str, lock: &str, time: &str, draught: i64) -> String {
    format!("{{\"passage_id\":\"{id}\",\"lock_id\":\"{lock}\",\"passed_at\":\"{time}\",\"draught_cm\":{draught}}}\n")
}

#[test]
fn a_group_that_does_not_fit_is_a_reject_and_the_others_land() {
    let window = window("minute", "length = \"1m\"", "close = \"caught_up\"")
        .replace("sum(draught_cm) as total", "sum(cast(draught_cm as bigint) * 9223372036854775) as total");
    let project = project(&[PASSAGE, &window].concat());
    let lines: String = (0..2).map(|i| line(&format!("a{i}"), "L1", "2026-07-01T08:00:00Z", 900)).collect();
    project.write("locks/a.jsonl", [lines, line("b", "L2", "2026-07-01T08:00:00Z", 1)].concat());
    project.expect(0, RUN);
    assert_eq!(rows(&project, "minute").len(), 1);
    let rejects = rejected(&project);
    assert_eq!(rejects.len(), 1);
    assert!(rejects[0].contains("\"lock_id\":\"L1\"") && rejects[0].contains("08:00:00Z"), "{rejects:?}");
    let (out, _) = project.expect(0, &["rejects", "passages"]);
    assert!(out.contains("the result does not fit bigint"), "{out}");
    super::balanced(&project);
}

#[test]
fn a_wrong_clock_closes_nothing_and_too_many_groups_open_no_more() {
    let window = window("minute", "length = \"1m\"", "most = 3");
    let project = project(&[PASSAGE, &window].concat());
    let mut lines = line("a", "L0", "2026-07-01T08:00:00Z", 1);
    lines += &line("b", "L0", "2999-01-01T00:00:00Z", 1);
    for lock in 0..5 {
        lines += &line(&format!("c{lock}"), &format!("L{lock}"), "2026-07-01T08:00:30Z", 1);
    }
    lines += "{\"passage_id\":\"n\",\"lock_id\":\"L0\",\"passed_at\":null}\n";
    project.write("locks/a.jsonl", lines);
    project.expect(0, RUN);
    let (out, _) = project.expect(0, &["rejects", "passages"]);
    for part in ["ahead of the clock", "3 groups are open, as many as `most` allows"] {
        assert!(out.contains(part), "{out}");
    }
    project.append("locks/a.jsonl", line("z", "L0", "2026-07-01T08:10:00Z", 1));
    project.expect(0, RUN);
    let passages: u64 = rows(&project, "minute").iter().map(|r| r["passages"].as_u64().unwrap()).sum();
    assert_eq!((rows(&project, "minute").len(), passages), (3, 4));
    super::balanced(&project);
}

/// The circle is drawn once; what is made of its events, or of one that is not there, is not in it.
#[test]
fn events_that_are_made_in_a_circle_are_named() {
    let made = |name: &str, of: &str| format!("[event.{name}.made]\nof = \"{of}\"\n");
    let events = [
        made("x", "z"),
        made("y", "x"),
        made("z", "y"),
        made("below", "y"),
        made("lost", "nowhere"),
        made("more", "lost"),
    ];
    let project = project(&[PASSAGE, events.concat().as_str()].concat());
    let (out, err) = project.expect(3, &["check", "--offline"]);
    let said = format!("{out}{err}");
    assert!(said.contains("`x` is made of itself: x of z of y of x"), "{said}");
    assert_eq!(said.matches("is made of itself").count(), 1, "{said}");
}

#[test]
fn a_rehearsal_shows_windows_and_what_became_of_each_event() {
    let window = window("minute", "length = \"1m\"", "");
    let project = project(&[PASSAGE, &window].concat());
    let lines = [
        line("a", "L0", "2026-07-01T08:00:00Z", 1),
        line("a", "L0", "2026-07-01T08:00:00Z", 1),
        line("b", "L0", "2026-07-01T08:09:00Z", 1),
        line("c", "L0", "2026-07-01T08:00:20Z", 1),
    ];
    project.write("locks/a.jsonl", lines.concat());
    let (_, err) = project.expect(0, &["check"]);
    assert!(
        err.contains("1 of 3 events would be rejected (late)")
            && err.contains("raise `late` if such events should count"),
        "{err}"
    );
    let (out, _) = project.expect(0, &["rehearse", "passages"]);
    assert!(out.contains("passage_once: 4 in → 3 good, 1 repeated"), "{out}");
    assert!(out.contains("minute: 3 in → 2 good, 1 rejected"), "{out}");
    let trace = |event: &str| project.expect(0, &["rehearse", "passages", "--trace", event]).0;
    assert!(trace("1").contains("gathered lock_id L0"), "{}", trace("1"));
    let window = "window 2026-07-01T08:00:00Z to 2026-07-01T08:01:00Z, with 1 event of the sample, gives";
    assert!(trace("1").contains(window), "{}", trace("1"));
    let windows = project.json(&["rehearse", "passages", "--trace", "3"])["stations"]
        .as_array()
        .unwrap()
        .iter()
        .find(|s| s["station"] == "minute")
        .unwrap()["windows"]
        .clone();
    assert_eq!((&windows[0]["from"], &windows[0]["events"]), (&"2026-07-01T08:09:00Z".into(), &1.into()), "{windows}");
    let total = windows[0]["values"].as_array().unwrap().iter().find(|v| v["name"] == "total").unwrap().clone();
    assert_eq!(total["value"], "1", "{windows}");
    assert!(trace("2").contains("repeated: it had come before"), "{}", trace("2"));
    assert!(trace("4").contains("rejected, late"), "{}", trace("4"));
    project.expect(0, &["rehearse", "passages", "--keep", "kept/w", "--yes"]);
    project.expect(0, &["rehearse", "passages", "--expect", "kept/w"]);
    assert!(!project.path(".sluice/ledger.db").exists());
}

#[rstest]
#[case::long("30d", &[])]
#[case::a_day("20h", &["`passage_once` remembers events for up to 24 h 0 min"])]
#[case::an_hour("1h", &["`passage_once` remembers events for up to 24 h 0 min", "`minute` remembers events for up to 2 h 2 min"])]
fn a_source_that_forgets_sooner_than_a_station_is_reported(#[case] retention: &str, #[case] warnings: &[&str]) {
    let stand_in = StandIn::start(&["--topic", &format!("lock.passages:2:{retention}")]);
    let text = [PASSAGE, &window("minute", "length = \"2h\"", "")].concat().replace(
        "at = \"locks\"\nmatch = \"*.jsonl\"",
        "at = \"broker\"\ntopic = \"lock.passages\"\nformat = \"json\"",
    );
    let project = project(&text);
    project.append("sluice.toml", format!("[connection.broker]\nurl = \"kafka://{}\"\n", stand_in.address));
    let (_, err) = project.expect(0, &["check"]);
    assert_eq!(err.matches("place.retention").count(), warnings.len(), "{err}");
    for warning in warnings {
        assert!(err.contains(warning), "{err}");
    }
}
