//! Rows of tables that are followed, looked up for other events.
//!
//! What an event gets is what its row was when the source was at rest: then the table itself says it.

use std::collections::BTreeMap;

use crate::common::feeds::Office;
use crate::common::feeds_mariadb;
use crate::common::tables::{Database, psql};
use crate::common::{TestProject, visible_files};
use rstest::rstest;
use serde_json::{Value, json};

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

/// Permits are looked up by `passage`; with `more` they land as well.
fn pipeline(fields: &str, key: &str, more: &str) -> String {
    format!(
        r#"
pipeline = "office"
batch = {{ rows = 700, every = "150ms" }}
rejects = {{ share = "99%", least = 1000000 }}
[event.passage]
fields = "passage_id integer not null, round integer not null, {key}"
[event.passage.arrives]
at = "archive"
match = "p*.jsonl"
[event.passage.lands.all]
at = "archive"
path = "landed/all"
format = "jsonl"
[event.permit]
fields = "{fields}"
[event.permit.arrives]
at = "office"
table = "permit"
load_rows = 300
schema_change = "ignore"
{more}
[event.permitted.made]
of = "passage"
reference = {{ event = "permit", on = "{on}" }}
columns = "passage.passage_id, passage.round, permit.tons, md5(permit.note) as note"
[event.permitted.lands.archive]
at = "archive"
path = "landed/permitted"
format = "jsonl"
"#,
        on = key
            .split(", ")
            .map(|part| part.split(' ').next().unwrap())
            .map(|name| format!("permit.{name} = passage.{name}"))
            .collect::<Vec<_>>()
            .join(" and "),
    )
}

/// What landed in a round, by the passage.
fn permitted(project: &TestProject, round: u64) -> BTreeMap<u64, (Value, Value)> {
    let mut found = BTreeMap::new();
    for file in visible_files(&project.path("archive/landed/permitted")) {
        for line in std::fs::read_to_string(file).unwrap().lines() {
            let row: Value = serde_json::from_str(line).unwrap();
            if row["round"].as_u64() == Some(round) {
                let value = (row["tons"].clone(), row["note"].clone());
                let once = found.insert(row["passage_id"].as_u64().unwrap(), value);
                assert!(once.is_none(), "{row} landed twice");
            }
        }
    }
    found
}

/// Asks for permits in a round, of which `there` are in the table: their tons and the digests of their notes.
fn ask(project: &TestProject, round: u64, there: &BTreeMap<u64, (String, String)>, passage: impl Fn(u64) -> Value) {
    let known = there.keys().copied();
    let ids: Vec<u64> = known.chain((1..2_000).filter(|id| id % 3 == 0)).chain(900_000..900_005).collect();
    let ids: std::collections::BTreeSet<u64> = ids.into_iter().collect();
    project.append("archive/p.jsonl", ids.iter().map(|id| passage(*id).to_string() + "\n").collect::<String>());
    project.expect(0, RUN);
    let found = permitted(project, round);
    assert_eq!(found.len(), ids.len(), "round {round}");
    for id in ids {
        let text = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_string);
        let (tons, note) = &found[&id];
        let expected = there.get(&id).cloned().unwrap_or(("null".into(), "null".into()));
        let number = |text: &str| text.parse::<f64>().map_or(text.to_string(), |n| n.to_string());
        assert_eq!((number(&text(tons)), text(note)), (number(&expected.0), expected.1), "round {round}, permit {id}");
    }
}

const MIRROR: &str = "[event.permit.lands.copy]\nat = \"warehouse\"\ntable = \"permit\"\nmode = \"mirror\"\nkey = \"permit_id\"\ncreate = true\n";

#[rstest]
#[case::looked_up(61, "")]
#[case::and_landed(62, MIRROR)]
#[case::a_few_in_memory(64, "memory")]
fn rows_of_postgresql_are_those_of_the_table(#[case] seed: u64, #[case] more: &str) {
    let Some(database) = Database::new() else { return };
    let mut office = Office::new(database, seed);
    let fields = "permit_id integer not null, vessel_no text not null, class text, tons decimal(8,2), issued_at timestamptz, note text";
    let small = more == "memory";
    let more = if small { "" } else { more };
    let mut text = pipeline(fields, "permit_id integer", more);
    if small {
        text = text
            .replace("columns = \"passage.", "memory = \"2KiB\"\ncolumns = \"passage.")
            .replace("rows = 700", "rows = 90");
    }
    let project = office.project(&text);
    std::fs::create_dir(project.path("archive")).unwrap();
    project.expect(0, &["check"]);
    for round in 0..6 {
        assert!(office.change(40, false));
        if round == 4 {
            psql(
                &office.source,
                "truncate permit; insert into permit select i, 'V', 'C', i, now(), 'new' from generate_series(5, 90) i",
            );
        }
        // What was changed meanwhile is read in several batches, one of which a crash takes.
        kill(&project, round);
        project.expect(0, RUN);
        let rows = psql(
            &office.source,
            "select permit_id, coalesce(tons::text, 'null'), coalesce(md5(note), 'null') from permit",
        );
        let row = |line: &String| {
            let parts: Vec<&str> = line.split('\t').collect();
            (parts[0].parse().unwrap(), (parts[1].to_string(), parts[2].to_string()))
        };
        let there = rows.iter().map(row).collect();
        ask(&project, round, &there, |id| json!({ "passage_id": id, "round": round, "permit_id": id }));
    }
    if !more.is_empty() {
        let columns = "permit_id, vessel_no, class, tons, issued_at, note";
        assert_eq!(
            Office::rows(&office.source, "permit", columns),
            Office::rows(&office.target.url, "permit", columns)
        );
    }
    replays(&project);
    office.drop();
}

#[test]
fn rows_of_mariadb_are_those_of_the_table() {
    let Some(mut office) = feeds_mariadb::Office::new(63) else { return };
    let project = office.project();
    let config = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", config + "[connection.archive]\nurl = \"file:archive\"\n");
    let fields = "permit_id integer not null, class text not null, tons decimal(12,3), issued_at timestamptz, note text, kind text";
    project.write("pipelines/office.toml", pipeline(fields, "class text, permit_id integer", ""));
    std::fs::create_dir(project.path("archive")).unwrap();
    for round in 0..6_u64 {
        office.change(40, round + 4);
        kill(&project, round);
        project.expect(0, RUN);
        let sql = "select permit_id, class, coalesce(tons, 'null'), coalesce(md5(note), 'null') from permit";
        let text = office.sql(&office.source, sql);
        let mut classes = BTreeMap::new();
        let mut there = BTreeMap::new();
        for line in text.lines() {
            let parts: Vec<&str> = line.split('\t').collect();
            let id: u64 = parts[0].parse().unwrap();
            if classes.insert(id, parts[1].to_string()).is_none() {
                there.insert(id, (parts[2].to_string(), parts[3].to_string()));
            }
        }
        ask(
            &project,
            round,
            &there,
            |id| json!({ "passage_id": id, "round": round, "permit_id": id, "class": classes.get(&id).map_or("C1", String::as_str) }),
        );
    }
    replays(&project);
    office.end();
}

/// A crash at one of the first batches.
fn kill(project: &TestProject, round: u64) {
    if cfg!(feature = "failpoints") {
        let points = ["seal.before", "seal.after", "stage.first_rows"];
        let point = points[usize::try_from(round).unwrap() % points.len()];
        let done = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
        assert_eq!(done.status.code(), None, "{point} was not reached: {done:?}");
    }
}

/// What shares a lane with the feed can be read again without it.
fn replays(project: &TestProject) {
    let count = || -> usize {
        let files = visible_files(&project.path("archive/landed/all"));
        files.iter().map(|file| std::fs::read_to_string(file).unwrap().lines().count()).sum()
    };
    let before = count();
    let batches = project.json(&["ledger", "office", "--show", "1000"])["batches"].as_array().unwrap().len();
    assert!(batches > 10);
    let (plan, _) = project.expect(0, &["replay", "office", "--batches", "1-", "--landing", "passage.all", "--yes"]);
    assert!(!plan.contains("office.feed"), "what is left out is not read: {plan}");
    assert_eq!(count(), before);
    let (out, _) = project.expect(0, &["status"]);
    assert!(out.contains("rows remembered"), "{out}");
    if std::fs::read_to_string(project.path("pipelines/office.toml")).unwrap().contains("lands.copy") {
        let (out, err) =
            project.expect(6, &["replay", "office", "--batches", "1-", "--landing", "permit.copy", "--plan"]);
        assert!(out.is_empty(), "a plan that cannot be carried out: {out}");
        assert!(err.contains("permit.copy") && err.contains("which is read once"), "{err}");
    }
}

#[rstest]
#[case::another_key(
    "on = \"permit.permit_id = passage.permit_id\"",
    "on = \"permit.class = passage.class\"",
    "permitted keeps rows by (class), and the primary key of"
)]
#[case::history(
    "event = \"permit\",",
    "event = \"permit\", history = \"1d\",",
    "a change feed reports the latest row alone"
)]
#[case::joined(
    "reference = { event = \"permit\", on = \"permit.permit_id = passage.permit_id\" }",
    "join = { event = \"permit\", on = \"permit.permit_id = passage.permit_id\", within = \"1h\" }",
    "arrives as changes of rows"
)]
#[case::the_other_way(
    "of = \"passage\"\nreference = { event = \"permit\"",
    "of = \"permit\"\nreference = { event = \"passage\"",
    "arrives as changes of rows"
)]
fn mistakes_are_named(#[case] from: &str, #[case] to: &str, #[case] expected: &str) {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 64);
    let fields = "permit_id integer not null, class text, tons decimal(8,2), note text";
    let text =
        pipeline(fields, "permit_id integer", "").replace("permit_id integer\"", "permit_id integer, class text\"");
    assert!(text.contains(from), "{text}");
    let project = office.project(&text.replace(from, to));
    std::fs::create_dir(project.path("archive")).unwrap();
    let (out, err) = project.expect(3, &["check"]);
    assert!(format!("{out}{err}").contains(expected), "{out}{err}");
    office.drop();
}

/// Each change of a table comes once: a second event of it would get nothing.
#[test]
fn a_table_is_read_by_one_event() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 65);
    let project = |table: &str| {
        let event = |name: &str, table: &str| {
            format!(
                "[event.{name}]\nfields = \"vessel_no text not null\"\n[event.{name}.arrives]\nat = \"office\"\ntable = \"{table}\"\n\
                 [event.{name}.lands.log]\nat = \"archive\"\npath = \"{name}\"\nformat = \"jsonl\"\n"
            )
        };
        office.project(&format!("pipeline = \"office\"\n{}{}", event("vessel", "vessel"), event("boat", table)))
    };
    for table in ["vessel", "public.vessel"] {
        let (out, err) = project(table).expect(3, &["check"]);
        assert!(format!("{out}{err}").contains("`vessel` has the changes of"), "{out}{err}");
    }
    project("permit").expect(0, &["check"]);
    office.drop();
}

/// A reference that comes later would miss the rows that were loaded before it.
#[test]
fn a_reference_to_a_table_that_was_loaded_before_is_refused() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 66);
    let fields = "permit_id integer not null, tons decimal(8,2), note text";
    let text = pipeline(fields, "permit_id integer", MIRROR);
    let (before, after) = text.split_once("[event.permitted.made]").unwrap();
    let project = office.project(before);
    std::fs::create_dir(project.path("archive")).unwrap();
    project.expect(0, RUN);
    project.write("pipelines/office.toml", format!("{before}[event.permitted.made]{after}"));
    let (_, err) = project.expect(6, RUN);
    assert!(err.contains("`permitted` looks up rows of `permit`") && err.contains("a pipeline of their own"), "{err}");
    office.drop();
}
