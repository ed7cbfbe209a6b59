//! Events with columns of the latest row of another event that has the same key.

use std::collections::BTreeMap;

use super::{START, balanced, project, rejected, rows};
use crate::common::TestProject;
use crate::common::topics::{self, StandIn, has};
use crate::common::work::Random;
use rstest::rstest;
use serde_json::{Value, json};

const RUN: &[&str] = &["run", "passages", "--until-caught-up"];

/// Passages alone.
pub(super) const PASSAGES: &str = r#"
pipeline = "passages"
batch = { rows = 150 }
rejects = { share = "90%", least = 100000 }
[event.passage]
fields = "passage_id integer not null, lock_id text, passed_at timestamptz not null"
time = "passed_at"
[event.passage.arrives]
at = "locks"
match = "p*.jsonl"
[event.passage.lands.all]
at = "archive"
path = "all"
format = "jsonl"
"#;

const LOCKS: &str = r#"
[event.lock]
fields = "lock_id text, name text, depth_cm integer, changed_at timestamptz, is_closed boolean"
time = "changed_at"
[event.lock.arrives]
at = "locks"
match = "lock*.jsonl"
"#;

fn reference(more: &str) -> String {
    format!(
        "[event.named.made]\nof = \"passage\"\n\
         reference = {{ event = \"lock\", on = \"lock.lock_id = passage.lock_id\", deleted = \"is_closed\"{more} }}\n\
         columns = \"passage.*, lock.name as lock_name, coalesce(lock.depth_cm, 0) * 10 as depth_mm\"\n\
         [event.named.lands.archive]\nat = \"archive\"\npath = \"named\"\nformat = \"jsonl\"\n"
    )
}

fn moment(second: u64) -> String {
    let time = chrono::DateTime::from_timestamp(i64::try_from(second).unwrap(), 0).unwrap();
    time.format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

fn passage(n: u64, lock: Option<u64>) -> String {
    let lock = lock.map(|lock| format!("L{lock}"));
    json!({ "passage_id": n, "lock_id": lock, "passed_at": moment(START + n) }).to_string() + "\n"
}

fn lock(lock: u64, name: &str, at: u64, is_closed: bool) -> String {
    let row = json!({ "lock_id": format!("L{lock}"), "name": name, "depth_cm": lock, "changed_at": moment(at), "is_closed": is_closed });
    row.to_string() + "\n"
}

/// What landed: for each passage the name of its lock, and the depth.
fn named(project: &TestProject) -> BTreeMap<u64, (Option<String>, i64)> {
    let mut found = BTreeMap::new();
    for row in rows(project, "named") {
        let name = row["lock_name"].as_str().map(str::to_string);
        let value = (name, row["depth_mm"].as_i64().unwrap());
        assert!(found.insert(row["passage_id"].as_u64().unwrap(), value).is_none(), "{row} landed twice");
    }
    found
}

#[test]
fn all_rows_are_there_before_the_first_event_and_the_latest_counts() {
    let project = project(&[PASSAGES, LOCKS, &reference("")].concat());
    // More than a chunk of rows that are looked up, in files whose names come after those of the passages.
    let mut locks: String = (0..20_000).map(|n| lock(n, "old", 100, false)).collect();
    locks.push_str(&(0..20_000).map(|n| lock(n, &format!("Lock {n}"), 200, false)).collect::<String>());
    locks.push_str(&lock(7, "older", 150, false));
    locks.push_str(&lock(8, "gone", 300, true));
    locks.push_str("{\"lock_id\": null, \"name\": \"nobody\"}\n");
    project.append("locks/locks.jsonl", locks);
    project.append("locks/p.jsonl", (0..2_000).map(|n| passage(n, (n != 5).then_some(n % 21_000))).collect::<String>());
    project.expect(0, RUN);
    let found = named(&project);
    assert_eq!(found.len(), 2_000);
    for (n, row) in &found {
        let expected = match n {
            5 | 8 => (None, 0),
            n => (Some(format!("Lock {n}")), i64::try_from(*n).unwrap() * 10),
        };
        assert_eq!(*row, expected, "{n}");
    }
    balanced(&project);
    let (out, _) = project.expect(0, &["status"]);
    assert!(out.contains("named: 19,999 rows remembered"), "{out}");
    let (out, _) = project.expect(0, &["check"]);
    assert!(out.contains("each row that it remembers takes about"), "{out}");
    let remembers = &project.json(&["check"])["pipelines"][0]["remembers"][0];
    assert_eq!((&remembers["event"], &remembers["each"]["most"]), (&json!("named"), &json!(1_000_000)));
    assert_eq!(remembers["each"]["in_memory"], json!(1_000_000), "there is room for all");
    // The estimate is of the size of what the ledger has.
    let state = project.json(&["ledger", "passages", "--state"]);
    let named = state["stations"].as_array().unwrap().iter().find(|s| s["station"] == "named").unwrap();
    let found = named["bytes"].as_u64().unwrap() / named["keys"].as_u64().unwrap();
    let estimated = remembers["each"]["ledger"].as_u64().unwrap();
    assert!((found..3 * found).contains(&estimated), "{estimated} estimated, {found} found");
    let (out, _) = project.expect(0, &["rehearse", "passages", "--events", "50"]);
    assert!(out.contains("named: 100 in → 50 good, 50 held") && out.contains("lock_name"), "{out}");
    let (out, _) = project.expect(0, &["rehearse", "passages", "--events", "50", "--trace", "1"]);
    assert!(out.contains("event lock") && out.contains("is looked up for name old"), "{out}");
    let trace = project.json(&["rehearse", "passages", "--events", "50", "--trace", "51"]);
    let named = trace["stations"].as_array().unwrap().iter().find(|s| s["station"] == "named").unwrap();
    let names: Vec<&str> = named["values"].as_array().unwrap().iter().map(|v| v["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["passage_id", "lock_id", "passed_at", "lock_name", "depth_mm"], "{named}");
}

#[rstest]
#[case::in_memory("256MiB")]
#[case::a_few_in_memory("1KiB")]
fn what_changes_counts_from_then_on_also_over_restarts_and_what_is_missing_can_be_a_reject(#[case] memory: &str) {
    let reference =
        reference(", missing = \"reject\"").replace("columns = ", &format!("memory = \"{memory}\"\ncolumns = "));
    let project = project(&[PASSAGES.replace("rows = 150", "rows = 20").as_str(), LOCKS, &reference].concat());
    let mut random = Random::of(3);
    let mut known: BTreeMap<u64, (String, u64)> = BTreeMap::new();
    let (mut expected, mut missing) = (BTreeMap::new(), 0);
    for round in 0..12_u64 {
        let mut text = String::new();
        for _ in 0..random.below(30) {
            let (number, at) = (random.below(40), 100 + random.below(20) + round * 10);
            let (name, is_closed) = (format!("N{round}-{number}-{at}"), random.below(5) == 0);
            text.push_str(&lock(number, &name, at, is_closed));
            match known.get(&number) {
                Some((_, before)) if at < *before => {}
                _ if is_closed => drop(known.remove(&number)),
                _ => drop(known.insert(number, (name, at))),
            }
        }
        project.append("locks/locks.jsonl", text);
        let mut text = String::new();
        for n in round * 100..round * 100 + 100 {
            let number = random.below(42);
            text.push_str(&passage(n, Some(number)));
            match known.get(&number) {
                Some((name, _)) => drop(expected.insert(n, (Some(name.clone()), i64::try_from(number).unwrap() * 10))),
                None => missing += 1,
            }
        }
        project.append("locks/p.jsonl", text);
        project.expect(0, RUN);
    }
    assert!(missing > 50 && expected.len() > 300);
    assert_eq!(named(&project), expected);
    assert_eq!(rejected(&project).len(), missing);
    balanced(&project);
    let (out, _) = project.expect(0, &["rejects", "passages"]);
    assert!(out.contains("no row of `lock` has its key"), "{out}");
}

#[test]
fn a_window_counts_by_a_column_that_was_looked_up() {
    let window = "[event.hour.made]\nof = \"named\"\nwindow = { length = \"1h\" }\ngroup = \"lock_name\"\nclose = \"caught_up\"\n\
                  columns = \"lock_name, window_start, count(*) as passages\"\n\
                  [event.hour.lands.archive]\nat = \"archive\"\npath = \"hours\"\nformat = \"jsonl\"\n";
    // What is looked up needs no time of its own.
    let events = [PASSAGES, LOCKS].concat().replace("time = \"changed_at\"\n", "");
    let project = project(&[&events, reference("").as_str(), window].concat());
    project.append("locks/locks.jsonl", (0..3).map(|n| lock(n, &format!("Lock {n}"), 1, false)).collect::<String>());
    project.append("locks/p.jsonl", (0..900).map(|n| passage(n, Some(n % 4))).collect::<String>());
    project.expect(0, RUN);
    let counts: BTreeMap<String, u64> = rows(&project, "hours")
        .iter()
        .map(|row| (row["lock_name"].to_string(), row["passages"].as_u64().unwrap()))
        .collect();
    let expected = ["\"Lock 0\"", "\"Lock 1\"", "\"Lock 2\"", "null"].map(|name| (name.to_string(), 225));
    assert_eq!(counts, expected.into());
    balanced(&project);
}

#[test]
fn rows_of_a_compacted_topic_are_looked_up() {
    if !has("kcat") {
        return;
    }
    let stand_in = StandIn::start(&["--topic", "lock.passages:3", "--topic", "lock.names:2"]);
    let at = |topic: &str| format!("at = \"broker\"\ntopic = \"{topic}\"\nformat = \"json\"");
    let text = [PASSAGES, LOCKS, &reference("")]
        .concat()
        .replace("at = \"locks\"\nmatch = \"p*.jsonl\"", &at("lock.passages"))
        .replace("at = \"locks\"\nmatch = \"lock*.jsonl\"", &at("lock.names"));
    let project = project(&text);
    project.append("sluice.toml", format!("[connection.broker]\nurl = \"kafka://{}\"\n", stand_in.address));
    let keyed = |lines: &str, key: &str| -> String {
        let key = |line: &str| serde_json::from_str::<Value>(line).unwrap()[key].to_string();
        lines.lines().map(|line| format!("{}\t{line}\n", key(line))).collect()
    };
    let passages: String = (0..600).map(|n| passage(n, Some(n % 50))).collect();
    topics::produce(&stand_in.address, "lock.passages", &keyed(&passages, "passage_id"), &[]);
    let locks: String = (0..3_000).map(|n| lock(n % 50, &format!("Lock {}", n / 50), n, false)).collect();
    topics::produce(&stand_in.address, "lock.names", &keyed(&locks, "lock_id"), &[]);
    project.expect(0, RUN);
    let found = named(&project);
    assert_eq!(found.len(), 600);
    assert!(found.values().all(|(name, _)| name.as_deref() == Some("Lock 59")), "{found:?}");
    balanced(&project);
}

#[rstest]
#[case::in_memory("256MiB")]
#[case::a_few_in_memory("1KiB")]
fn each_event_gets_the_row_of_its_own_time(#[case] memory: &str) {
    let reference =
        reference(", history = \"1h\"").replace("columns = ", &format!("memory = \"{memory}\"\ncolumns = "));
    let project = project(&[PASSAGES.replace("rows = 150", "rows = 20").as_str(), LOCKS, &reference].concat());
    let mut random = Random::of(5);
    let mut known: BTreeMap<u64, BTreeMap<u64, Option<String>>> = BTreeMap::new();
    let mut expected = BTreeMap::new();
    for round in 0..12_u64 {
        let mut text = String::new();
        for row in 0..random.below(40) {
            let (number, at) = (random.below(20), START + random.below(1_200));
            let (name, is_closed) = (format!("N{round}-{row}"), random.below(5) == 0);
            text.push_str(&lock(number, &name, at, is_closed));
            known.entry(number).or_default().insert(at, (!is_closed).then_some(name));
        }
        project.append("locks/locks.jsonl", text);
        let mut text = String::new();
        for n in round * 100..round * 100 + 100 {
            let number = random.below(21);
            text.push_str(&passage(n, Some(number)));
            let then = known.get(&number).and_then(|rows| rows.range(..=START + n).next_back());
            let name = then.and_then(|(_, name)| name.clone());
            let depth = if name.is_some() { number * 10 } else { 0 };
            expected.insert(n, (name, i64::try_from(depth).unwrap()));
        }
        project.append("locks/p.jsonl", text);
        project.expect(0, RUN);
    }
    assert!(expected.values().filter(|(name, _)| name.is_some()).count() > 400);
    assert_eq!(named(&project), expected);
    balanced(&project);
}

#[test]
fn rows_are_forgotten_when_a_later_one_is_older_than_the_history() {
    let project = project(&[PASSAGES, LOCKS, &reference(", history = \"10s\"")].concat());
    let rows = [("a", 0), ("b", 100), ("c", 105)].map(|(name, at)| lock(1, name, START + at, false));
    project.append("locks/locks.jsonl", rows.concat());
    project.append("locks/p.jsonl", [3, 104, 150].map(|n| passage(n, Some(1))).concat());
    project.expect(0, RUN);
    project.append("locks/locks.jsonl", lock(1, "d", START + 200, false));
    project.append("locks/p.jsonl", [50, 151, 250].map(|n| passage(n, Some(1))).concat());
    project.expect(0, RUN);
    let found: Vec<_> = named(&project).into_iter().map(|(n, (name, _))| (n, name)).collect();
    let name = |name: &str| Some(name.to_string());
    let expected = [(3, name("a")), (50, None), (104, name("b")), (150, name("c")), (151, name("c")), (250, name("d"))];
    assert_eq!(found, expected);
    let (out, _) = project.expect(0, &["status"]);
    assert!(out.contains("named: 2 rows remembered"), "{out}");
    balanced(&project);
}

const LOCKS_OF_A_TOPIC: &str = r#"
[event.lock]
fields = "name text, depth_cm integer, changed_at timestamptz"
[event.lock.arrives]
at = "broker"
topic = "lock.names"
format = "json"
tombstones = "null"
[event.lock_row.made]
of = "lock"
columns = "origin.key as lock_id, name, depth_cm, changed_at"
[event.named.made]
of = "passage"
reference = { event = "lock_row", on = "lock_row.lock_id = passage.lock_id", deleted = "name is null" }
columns = "passage.passage_id, lock_row.name as lock_name, coalesce(lock_row.depth_cm, 0) * 10 as depth_mm"
[event.named.lands.archive]
at = "archive"
path = "named"
format = "jsonl"
"#;

#[rstest]
#[case::in_the_order_of_the_topic("")]
#[case::by_time("time = \"changed_at\"\n")]
fn a_tombstone_of_a_compacted_topic_removes_the_row_of_its_key(#[case] time: &str) {
    if !has("kcat") {
        return;
    }
    let stand_in = StandIn::start(&["--topic", "lock.names:2"]);
    let passages = PASSAGES;
    let topic = LOCKS_OF_A_TOPIC.replace("[event.lock.arrives]", &format!("{time}[event.lock.arrives]"));
    let project = project(&[passages, &topic].concat());
    project.append("sluice.toml", format!("[connection.broker]\nurl = \"kafka://{}\"\n", stand_in.address));
    let locks = |numbers: &[u64], name: &str| -> String {
        let row = |n: &u64| json!({ "name": name, "depth_cm": n, "changed_at": moment(START) });
        numbers.iter().map(|n| format!("L{n}\t{}\n", row(n))).collect()
    };
    let names = |from: u64| -> Vec<Option<String>> {
        let found = named(&project);
        (from..from + 6).map(|n| found[&n].0.clone()).collect()
    };
    let name = |name: &str| Some(name.to_string());
    let send = |lines: &str| topics::produce(&stand_in.address, "lock.names", lines, &["-Z"]);

    send(&locks(&[0, 1, 2, 3, 4], "first"));
    send("L1\t\nL2\t\n");
    send(&locks(&[2], "again"));
    project.append("locks/p.jsonl", (0..6).map(|n| passage(n, Some(n))).collect::<String>());
    project.expect(0, RUN);
    assert_eq!(names(0), [name("first"), None, name("again"), name("first"), name("first"), None]);

    send("L4\t\n");
    project.append("locks/p.jsonl", (6..12).map(|n| passage(n, Some(n - 6))).collect::<String>());
    project.expect(0, RUN);
    assert_eq!(names(6), [name("first"), None, name("again"), name("first"), None, None]);
    balanced(&project);
}

#[rstest]
#[case::other_condition(
    "lock.lock_id = passage.lock_id",
    "lock.lock_id = passage.lock_id and lock.depth_cm > 3",
    "and nothing else"
)]
#[case::no_equation("lock.lock_id = passage.lock_id", "lock.depth_cm > 3", "and nothing else")]
#[case::itself("event = \"lock\"", "event = \"passage\"", "an event refers to itself")]
#[case::nobody("event = \"lock\"", "event = \"look\"", "there is no event `look`")]
#[case::deleted("deleted = \"is_closed\"", "deleted = \"closed\"", "there is no column `closed`")]
#[case::late("of = \"passage\"", "of = \"passage\"\nlate = \"1m\"", "`late` belongs to `window` or `join`")]
#[case::history("deleted = \"is_closed\"", "history = \"soon\"", "`soon` does not start with a number")]
#[case::wait("deleted = \"is_closed\"", "wait = \"1h\", history = \"1h\"", "an event waits for the latest row")]
#[case::idle("of = \"passage\"", "of = \"passage\"\nidle = \"1m\"", "to a reference with `wait`")]
#[case::missing("deleted = \"is_closed\"", "missing = \"wait\"", "`missing` cannot be `wait`")]
fn mistakes_in_references_are_named(#[case] from: &str, #[case] to: &str, #[case] expected: &str) {
    let text = reference("");
    assert!(text.contains(from));
    let project = project(&[PASSAGES, LOCKS, &text.replace(from, to)].concat());
    let (out, err) = project.expect(3, &["check", "--offline"]);
    assert!(format!("{out}{err}").contains(expected), "{out}{err}");
}

/// Events that come before their row: they wait for it, at most as long as they may. The same is computed here by the round.
#[rstest]
fn events_wait_for_their_row(#[values("null", "reject")] missing: &str, #[values(3, 4)] seed: u64) {
    const WAIT: u64 = 300;
    let project =
        project(&[PASSAGES, LOCKS, &reference(&format!(", wait = \"5m\", missing = \"{missing}\""))].concat());
    let mut random = Random::of(seed);
    let mut known: BTreeMap<u64, String> = BTreeMap::new();
    let mut waiting: Vec<(u64, u64, u64)> = Vec::new();
    let (mut expected, mut given_up) = (BTreeMap::new(), 0);
    let (mut number, mut reached) = (0, 0);
    for round in 0..15_u64 {
        let mut text = String::new();
        for place in 0..random.below(12) {
            let (key, is_closed) = (random.below(60), random.below(6) == 0);
            let name = format!("N{round}-{place}");
            text.push_str(&lock(key, &name, 100 + round, is_closed));
            match is_closed {
                true => drop(known.remove(&key)),
                false => {
                    for (passage, _, _) in waiting.extract_if(.., |(_, of, _)| *of == key) {
                        expected.insert(passage, Some(name.clone()));
                    }
                    known.insert(key, name);
                }
            }
        }
        project.append("locks/locks.jsonl", text);
        let mut text = String::new();
        for _ in 0..random.below(40) {
            // Some come late.
            let at = round * 60 + random.below(60) + 400 - random.below(2) * random.below(400);
            let key = random.below(60);
            let row = json!({ "passage_id": number, "lock_id": format!("L{key}"), "passed_at": moment(START + at) });
            text.push_str(&(row.to_string() + "\n"));
            match known.get(&key) {
                Some(name) => drop(expected.insert(number, Some(name.clone()))),
                None if at + WAIT < reached => given_up += u64::from(expected.insert(number, None).is_none()),
                None => waiting.push((number, key, at)),
            }
            reached = reached.max(at);
            number += 1;
        }
        project.append("locks/p.jsonl", text);
        project.expect(0, RUN);
        for (passage, ..) in waiting.extract_if(.., |(_, _, at)| *at + WAIT < reached) {
            given_up += u64::from(expected.insert(passage, None).is_none());
        }
        let mut found: BTreeMap<u64, Option<String>> = named(&project).into_iter().map(|(n, row)| (n, row.0)).collect();
        if missing == "reject" {
            assert_eq!(rejected(&project).len() as u64, given_up, "round {round}");
            expected.iter().filter(|(_, name)| name.is_none()).for_each(|(n, _)| drop(found.insert(*n, None)));
        }
        assert_eq!(found, expected, "round {round}");
        balanced(&project);
    }
    assert!(given_up > 5 && expected.values().flatten().count() > 50, "{given_up}");
    let (out, _) = project.expect(0, &["status"]);
    // Those that wait at the end of a sample are not told to be rejects.
    let seen = project.json(&["rehearse", "passages", "--events", "100000"]);
    let named = seen["stations"].as_array().unwrap().iter().find(|s| s["station"] == "named").unwrap();
    assert!(named["held"].as_i64().unwrap() > 0, "{named}");
    let wait = waiting.len();
    assert!(out.contains(&format!("{wait} events wait for their rows")), "{wait}: {out}");
}

#[cfg(feature = "failpoints")]
#[rstest]
#[case::latest("")]
#[case::history(", history = \"1h\"")]
#[case::waiting(", wait = \"1h\"")]
fn killed_at_every_point_the_rows_that_are_looked_up_are_those_that_were_sealed(#[case] more: &str) {
    use sluice_core::fail_points::{COMMON, FILES};
    use std::os::unix::process::ExitStatusExt as _;

    for point in COMMON.iter().chain(FILES) {
        let project = project(&[PASSAGES, LOCKS, &reference(more)].concat());
        project.append("locks/locks.jsonl", (0..400).map(|n| lock(n, "first", 1, false)).collect::<String>());
        project.append("locks/p.jsonl", (0..400).map(|n| passage(n, Some(n))).collect::<String>());
        if point.starts_with("recover.") {
            let status = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
            assert_eq!(status.status.signal(), Some(9), "{status:?}");
        }
        let once = point.starts_with("recover.") || *point == "stage.first_rows";
        let kill = format!("{point}:{}", if once { 1 } else { 4 });
        let status = project.command(RUN).env("SLUICE_KILL_AT", &kill).output().unwrap();
        assert_eq!(status.status.signal(), Some(9), "{kill} was not reached: {status:?}");
        project.expect(0, RUN);
        project.append("locks/locks.jsonl", (0..200).map(|n| lock(n, "second", 2, false)).collect::<String>());
        project.append("locks/p.jsonl", (400..800).map(|n| passage(n, Some(n - 400))).collect::<String>());
        project.expect(0, RUN);
        let found = named(&project);
        assert_eq!(found.len(), 800, "{point}");
        for (n, (name, _)) in found {
            let expected = if (400..600).contains(&n) { "second" } else { "first" };
            assert_eq!(name.as_deref(), Some(expected), "{point}: {n}");
        }
        balanced(&project);
    }
}

/// A reference that is added later would not find rows that were read before it.
#[test]
fn rows_that_were_read_before_a_reference_was_there_are_read_for_it_by_another_event() {
    let lands = "[event.lock.lands.copy]\nat = \"archive\"\npath = \"locks\"\nformat = \"jsonl\"\n";
    let project = project(&[PASSAGES, LOCKS, lands].concat());
    project.append("locks/locks.jsonl", lock(1, "one", 100, false));
    project.append("locks/p.jsonl", passage(0, Some(1)));
    project.expect(0, RUN);
    project.write("pipelines/passages.toml", [PASSAGES, LOCKS, lands, &reference("")].concat());
    project.append("locks/p.jsonl", passage(1, Some(1)));
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("`named` looks up rows of `lock`, of which 1 were read before it was there"), "{err}");
    let other = "[event.lock_row]\nfields = \"lock_id text, name text, depth_cm integer, is_closed boolean\"\n[event.lock_row.arrives]\nat = \"locks\"\nmatch = \"lock*.jsonl\"\n";
    let named = reference("")
        .replace("\"lock\"", "\"lock_row\"")
        .replace("lock.", "lock_row.")
        .replace("lock_row.lock_row.", "lock_row.");
    project.write("pipelines/passages.toml", [PASSAGES, LOCKS, lands, other, &named].concat());
    project.expect(0, RUN);
    assert_eq!(named_rows(&project), [(1, Some("one".to_string()))]);
    assert_eq!(rows(&project, "locks").len(), 1);
}

fn named_rows(project: &TestProject) -> Vec<(u64, Option<String>)> {
    named(project).into_iter().map(|(n, (name, _))| (n, name)).collect()
}
