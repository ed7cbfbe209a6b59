//! Lists that are read whole again and again: files that are replaced, and the rows of a query.

use std::collections::BTreeMap;
use std::time::{Duration, SystemTime};

use super::references::PASSAGES;
use super::{START, balanced, project, rejected, rows};
use crate::common::TestProject;
use crate::common::running::{Running, wait_for};
use crate::common::work::Random;
use rstest::rstest;
use serde_json::{Value, json};

const RUN: &[&str] = &["run", "passages", "--until-caught-up"];

const NAMED: &str = r#"
[event.named.made]
of = "passage"
reference = { event = "lock", on = "lock.lock_id = passage.lock_id" }
columns = "passage.*, lock.name as lock_name, lock.depth_cm"
[event.named.lands.archive]
at = "archive"
path = "named"
format = "jsonl"
"#;

/// Passages with what a list says of their locks, in small batches.
fn pipeline(list: &str) -> String {
    [&PASSAGES.replace("rows = 150", "rows = 70"), NAMED, list].concat()
}

const OF_FILES: &str = r#"
[event.lock]
fields = "lock_id text not null, name text, depth_cm integer"
[event.lock.arrives]
at = "locks"
match = "list/*.csv"
format = "csv"
again = "1s"
"#;

const OF_SQLITE: &str = r#"
[event.lock]
fields = "lock_id text not null, name text, depth_cm integer"
[event.lock.arrives]
at = "office"
query = "select lock_id, name, depth_cm from lock where closed = 0 -- those that work"
again = "1s"
"#;

type Locks = BTreeMap<u64, (String, u64)>;

/// How the list of a test is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Files,
    Sqlite,
}

impl Kind {
    fn project(self) -> TestProject {
        let list = if self == Self::Files { OF_FILES } else { OF_SQLITE };
        let project = project(&pipeline(list));
        if self == Self::Sqlite {
            let sql =
                "create table lock (lock_id text primary key, name text, depth_cm integer, closed integer default 0)";
            office(&project).execute_batch(sql).unwrap();
        }
        project
    }

    /// Writes the whole list, as of some moment.
    fn write(self, project: &TestProject, locks: &Locks, round: u64) {
        match self {
            Self::Files => {
                let row = |(key, (name, depth)): (&u64, &(String, u64))| format!("L{key},{name},{depth}\n");
                let text: String = locks.iter().map(row).collect();
                replace(project, "list/locks.csv", &format!("lock_id,name,depth_cm\n{text}"), round);
            }
            Self::Sqlite => {
                let mut office = office(project);
                let change = office.transaction().unwrap();
                change.execute("delete from lock", []).unwrap();
                change.execute("insert into lock values ('L999', 'closed', 1, 1)", []).unwrap();
                for (key, (name, depth)) in locks {
                    let row = (format!("L{key}"), name, depth);
                    change.execute("insert into lock values (?1, ?2, ?3, 0)", row).unwrap();
                }
                change.commit().unwrap();
            }
        }
    }
}

fn office(project: &TestProject) -> rusqlite::Connection {
    let office = rusqlite::Connection::open(project.path("office.db")).unwrap();
    office.busy_timeout(Duration::from_secs(30)).unwrap();
    office
}

/// Puts a whole file into the place of another one, written a while ago.
fn replace(project: &TestProject, name: &str, text: &str, round: u64) {
    project.write("next", text);
    let file = std::fs::File::options().append(true).open(project.path("next")).unwrap();
    file.set_modified(SystemTime::UNIX_EPOCH + Duration::from_secs(START + round)).unwrap();
    let to = project.path(&format!("locks/{name}"));
    std::fs::create_dir_all(to.parent().unwrap()).unwrap();
    std::fs::rename(project.path("next"), to).unwrap();
}

fn passage(n: u64, lock: u64) -> String {
    let time = chrono::DateTime::from_timestamp(i64::try_from(START + n).unwrap(), 0).unwrap();
    let time = time.format("%Y-%m-%dT%H:%M:%SZ").to_string();
    json!({ "passage_id": n, "lock_id": format!("L{lock}"), "passed_at": time }).to_string() + "\n"
}

/// What landed: for each passage the name and depth of its lock.
fn named(project: &TestProject) -> BTreeMap<u64, Option<(String, u64)>> {
    let mut found = BTreeMap::new();
    for row in rows(project, "named") {
        let value = row["lock_name"].as_str().map(|name| (name.to_string(), row["depth_cm"].as_u64().unwrap()));
        assert!(found.insert(row["passage_id"].as_u64().unwrap(), value).is_none(), "{row} landed twice");
    }
    found
}

/// The list is written whole each round: rows change, come and go. A map knows what each passage must get.
#[rstest]
fn events_get_what_the_list_says_when_they_come(
    #[values(Kind::Files, Kind::Sqlite)] kind: Kind,
    #[values(1, 2)] seed: u64,
) {
    let project = kind.project();
    let mut random = Random::of(seed);
    let (mut locks, mut expected) = (Locks::new(), BTreeMap::new());
    for round in 0..8_u64 {
        for _ in 0..random.below(60) {
            let key = random.below(120);
            match random.below(3) {
                0 => drop(locks.remove(&key)),
                _ => drop(locks.insert(key, (format!("N{round}-{}", random.below(4)), random.below(300)))),
            }
        }
        kind.write(&project, &locks, round);
        let mut text = String::new();
        for n in round * 150..round * 150 + 150 {
            let key = random.below(130);
            text.push_str(&passage(n, key));
            expected.insert(n, locks.get(&key).cloned());
        }
        project.append("locks/p.jsonl", text);
        project.expect(0, RUN);
        assert_eq!(named(&project), expected, "{kind:?}, round {round}");
    }
    balanced(&project);
    let (out, _) = project.expect(0, &["status"]);
    assert!(out.contains(&format!("{} rows remembered", locks.len())), "{out}");
    let (out, _) = project.expect(0, &["positions", "passages"]);
    assert!(out.contains("a list, which each run reads whole; reading 8 was the last one"), "{out}");
}

/// Only what has changed is written into the ledger.
#[test]
fn a_list_that_says_the_same_again_changes_nothing() {
    let kind = Kind::Files;
    let project = kind.project();
    let mut locks: Locks = (0..3_000).map(|n| (n, (format!("N{n}"), n))).collect();
    kind.write(&project, &locks, 0);
    project.expect(0, RUN);
    let ledger = rusqlite::Connection::open(project.path(".sluice/ledger.db")).unwrap();
    let changes = "create table written (key); create trigger t after insert on state begin insert into written values (new.key); end;
                   create trigger u after update on state begin insert into written values (new.key); end;
                   create trigger d after delete on state begin insert into written values (old.key); end";
    ledger.execute_batch(changes).unwrap();
    locks.insert(7, ("other".into(), 7));
    locks.remove(&8);
    kind.write(&project, &locks, 1);
    project.expect(0, RUN);
    let written = |sql: &str| ledger.query_row(sql, [], |row| row.get::<_, u64>(0)).unwrap();
    let of_locks =
        "select count(*) from written w where exists (select 1 from state s where s.key = w.key) or w.key is not null";
    assert!((2..10).contains(&written(of_locks)), "{}", written(of_locks));
}

/// A run goes on while the list is replaced, is away, and is damaged.
#[test]
fn a_run_takes_a_new_list_up_and_keeps_the_old_one_while_there_is_none() {
    let kind = Kind::Files;
    let project = kind.project();
    let list =
        |names: [&str; 2]| -> Locks { (0..2).map(|n| (n, (names[usize::from(n == 1)].to_string(), 5))).collect() };
    kind.write(&project, &list(["a", "b"]), 0);
    let mut running = Running::following(&project, &["run", "passages"]);
    let mut count = 0;
    let mut send = |lock: u64| {
        project.append("locks/p.jsonl", passage(count, lock));
        count += 1;
        count - 1
    };
    let name = |n: u64| {
        wait_for(|| named(&project).contains_key(&n));
        named(&project)[&n].clone().map(|(name, _)| name)
    };
    let settled = |project: &TestProject| {
        project.json(&["ledger", "passages", "--show", "1000"])["batches"].as_array().unwrap().len()
    };
    project.write("pipelines/passages.toml", pipeline(OF_FILES).replace("rows = 70", "rows = 70, every = \"200ms\""));
    assert_eq!(name(send(1)), Some("b".into()));
    let before = settled(&project);
    kind.write(&project, &list(["a", "new"]), 1);
    wait_for(|| settled(&project) > before);
    std::thread::sleep(Duration::from_secs(1));
    assert_eq!(name(send(1)), Some("new".into()));
    std::fs::remove_file(project.path("locks/list/locks.csv")).unwrap();
    wait_for(|| running.said().contains("no file matches `list/*.csv`"));
    assert_eq!(name(send(1)), Some("new".into()));
    replace(&project, "list/locks.csv", "", 1);
    wait_for(|| running.said().contains("has a byte"));
    assert_eq!(name(send(1)), Some("new".into()));
    assert!(running.goes_on(), "{}", running.said());
    // One row of it is damaged: which one that was is not known, so nothing is forgotten, and the others count.
    let before = settled(&project);
    replace(&project, "list/locks.csv", "lock_id,name,depth_cm\nL0,newer,deep\nL2,came,4\n", 2);
    wait_for(|| settled(&project) > before);
    std::thread::sleep(Duration::from_secs(1));
    assert_eq!([name(send(0)), name(send(1)), name(send(2))], ["a", "new", "came"].map(|n| Some(n.to_string())));
    assert_eq!(rejected(&project), ["L0,newer,deep"]);
    let before = settled(&project);
    replace(&project, "list/locks.csv", "lock_id,name,depth_cm\nL2,stayed,4", 3);
    wait_for(|| settled(&project) > before);
    std::thread::sleep(Duration::from_secs(1));
    assert_eq!([name(send(0)), name(send(1)), name(send(2))], [None, None, Some("stayed".into())]);
    running.settle();
    balanced(&project);
}

#[rstest]
#[case::lands(
    "[event.lock.arrives]",
    "[event.lock.lands.copy]\nat = \"archive\"\npath = \"copy\"\n[event.lock.arrives]",
    "lock.copy would get its rows each time"
)]
#[case::window(
    "[event.lock.arrives]",
    "[event.locks.made]\nof = \"lock\"\nonce = { key = \"lock_id\", within = \"1h\" }\n[event.locks.lands.x]\nat = \"archive\"\npath = \"x\"\n[event.lock.arrives]",
    "`locks` would get its rows each time"
)]
#[case::later(
    "[event.lock.arrives]",
    "[event.deep.made]\nof = \"lock\"\nwhen = \"depth_cm > 3\"\n[event.deep.lands.x]\nat = \"archive\"\npath = \"x\"\n[event.lock.arrives]",
    "deep.x would get its rows each time"
)]
#[case::column("select lock_id, name,", "select lock_id, name as title,", "no such column: sluice_list.name")]
#[case::table("from lock where", "from look where", "no such table: look")]
#[case::words("select lock_id", "selec lock_id", "syntax error")]
#[case::statement("select lock_id, name, depth_cm from lock where closed = 0", "delete from lock", "syntax error")]
#[case::how_often("again = \"1s\"", "again = \"soon\"", "`soon` does not start with a number")]
#[case::format("again = \"1s\"", "format = \"csv\"", "cannot be csv")]
#[case::memory(
    "[event.named.made]\n",
    "[event.named.made]\nmemory = \"1MiB\"\n",
    "the rows of a list are in memory as a whole"
)]
#[case::no_query("query = \"select", "quer = \"select", "did you mean `query`?")]
fn mistakes_in_lists_are_named(#[case] from: &str, #[case] to: &str, #[case] expected: &str) {
    let project = Kind::Sqlite.project();
    let text = pipeline(OF_SQLITE);
    assert!(text.contains(from));
    project.write("pipelines/passages.toml", text.replace(from, to));
    let output = project.run(&["check"]);
    let said = [String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr)].concat();
    assert!(said.contains(expected), "{said}");
    assert_ne!(output.status.code(), Some(0), "{said}");
}

#[test]
fn a_query_of_a_file_that_is_not_there_makes_none() {
    let project = project(&pipeline(OF_SQLITE));
    let (out, err) = project.expect(3, &["check"]);
    assert!(format!("{out}{err}").contains("there is no file"), "{out}{err}");
    assert!(!project.path("office.db").exists());
}

/// Landings that get no rows of the list can be read again; the list itself is not asked for what it was.
#[test]
fn batches_that_read_a_list_are_replayed_without_it() {
    let kind = Kind::Files;
    let project = kind.project();
    kind.write(&project, &(0..100).map(|n| (n, ("a".to_string(), n))).collect(), 0);
    project.append("locks/p.jsonl", (0..200).map(|n| passage(n, n)).collect::<String>());
    project.expect(0, RUN);
    kind.write(&project, &Locks::new(), 1);
    let before = rows(&project, "all");
    let text =
        pipeline(OF_FILES).replace("path = \"all\"", "path = \"all\"\ncolumns = \"passage_id + 1000 as passage_id\"");
    project.write("pipelines/passages.toml", &text);
    project.expect(0, &["replay", "passages", "--batches", "1-", "--landing", "all", "--yes"]);
    let mut after: Vec<u64> = rows(&project, "all").iter().map(|row| row["passage_id"].as_u64().unwrap()).collect();
    after.sort_unstable();
    assert_eq!(after, (1000..1200).collect::<Vec<u64>>(), "{}", before.len());
    balanced(&project);
}

/// The values of a query become those of the contract, whatever the server calls them.
fn all_types(connection: &str, query: &str) {
    let project = project("");
    let text = r#"
pipeline = "passages"
[event.passage]
fields = "passage_id integer not null, lock_id bigint"
[event.passage.arrives]
at = "locks"
[event.lock]
fields = "lock_id bigint not null, name text, is_open boolean, toll decimal(8,2), ratio double, built date, seen timestamptz, more json, side text from 'more.side'"
[event.lock.arrives]
at = "yard"
[event.named.made]
of = "passage"
reference = { event = "lock", on = "lock.lock_id = passage.lock_id" }
columns = "passage.passage_id, lock.* except (lock_id)"
[event.named.lands.archive]
at = "archive"
path = "named"
format = "jsonl"
"#;
    let config = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", format!("{config}[connection.yard]\n{connection}\n"));
    let query = format!("at = \"yard\"\nquery = '''\n{query}\n'''");
    project.write("pipelines/passages.toml", text.replace("at = \"yard\"", &query));
    project.append(
        "locks/p.jsonl",
        "{\"passage_id\": 1, \"lock_id\": 9007199254740993}\n{\"passage_id\": 2, \"lock_id\": 2}\n",
    );
    project.expect(0, &["check"]);
    project.expect(0, RUN);
    let mut found = rows(&project, "named");
    found.sort_by_key(|row| row["passage_id"].as_u64());
    let full = json!({ "passage_id": 1, "name": "Quo\"te\\\n, \u{e9}", "is_open": true, "toll": found[0]["toll"], "ratio": 0.1, "built": found[0]["built"],
        "seen": "2026-07-01T05:06:07.250Z", "more": { "side": "east" }, "side": "east" });
    assert_eq!(found[0], full);
    // The days of ClickHouse begin with 1970.
    let built = found[0]["built"].as_str().unwrap();
    assert!(["1875-04-30", "2026-04-30"].contains(&built), "{built}");
    assert_eq!(found[0]["toll"].as_f64(), Some(12.5));
    let nulls: Vec<&Value> =
        ["name", "is_open", "toll", "ratio", "built", "seen", "more", "side"].iter().map(|k| &found[1][k]).collect();
    assert!(nulls.iter().all(|value| value.is_null()), "{}", found[1]);
}

/// A variable with the place of a server of the tests; None where there is none.
fn server(variable: &str) -> Option<String> {
    let found = std::env::var(variable).ok();
    assert!(found.is_some() || std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "{variable} is not set");
    if found.is_none() {
        eprintln!("skipped: {variable} is not set");
    }
    found
}

#[test]
fn a_query_of_postgresql_gives_all_types() {
    let Some(url) = server("SLUICE_TEST_POSTGRES") else { return };
    let address = url.split('@').nth(1).unwrap();
    all_types(
        &format!("url = \"postgres://{address}\"\nuser = \"sluice\""),
        "with lock as (select 9007199254740993 as lock_id, E'Quo\"te\\\\\\n, \u{e9}' as name, true as is_open, 12.5::numeric(8,2) as toll,
                      0.1::float8 as ratio, date '1875-04-30' as built, timestamptz '2026-07-01 07:06:07.25+02' as seen,
                      '{\"side\": \"east\"}'::jsonb as more)
         select * from lock -- and one without values
         union all select 2, null, null, null, null, null, null, null;",
    );
}

#[test]
fn a_query_of_mariadb_gives_all_types() {
    let Some(address) = server("SLUICE_TEST_MARIADB") else { return };
    all_types(
        &format!("url = \"mariadb://{address}/tarrow\"\nuser = \"sluice\""),
        "select 9007199254740993 as lock_id, concat('Quo\"te', char(92 using utf8mb4), char(10 using utf8mb4), ', \u{e9}') as name, true as is_open,
                cast(12.5 as decimal(8,2)) as toll, cast(0.1 as double) as ratio, date '1875-04-30' as built,
                timestamp '2026-07-01 05:06:07.25' as seen, '{\"side\": \"east\"}' as more
         union all select 2, null, null, null, null, null, null, null",
    );
}

#[test]
fn a_query_of_sqlite_gives_all_types() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("yard.db");
    rusqlite::Connection::open(&file).unwrap().execute_batch("create table t (n)").unwrap();
    all_types(
        &format!("url = \"sqlite:{}\"", file.display()),
        "select 9007199254740993 as lock_id, 'Quo\"te\\' || char(10) || ', \u{e9}' as name, 1 as is_open, '12.50' as toll, 0.1 as ratio,
                '1875-04-30' as built, '2026-07-01 05:06:07.25Z' as seen, '{\"side\": \"east\"}' as more
         union all select 2, null, null, null, null, null, null, null",
    );
}

#[test]
fn a_query_of_clickhouse_gives_all_types() {
    let Some(address) = server("SLUICE_TEST_CLICKHOUSE") else { return };
    all_types(
        &format!("url = \"clickhouse://{address}/tarrow\""),
        "select toNullable(9007199254740993) as lock_id, toNullable('Quo\"te\\\\\\n, \u{e9}') as name, toNullable(1) as is_open, toNullable('12.50') as toll,
                toNullable(0.1) as ratio, toNullable(toDate('2026-04-30')) as built, toNullable('2026-07-01 05:06:07.25') as seen,
                toNullable('{\"side\": \"east\"}') as more
         union all select 2, null, null, null, null, null, null, null",
    );
}

#[cfg(feature = "failpoints")]
#[test]
fn killed_at_every_point_the_rows_of_a_list_are_those_of_its_last_reading() {
    use sluice_core::fail_points::{COMMON, FILES};
    use std::os::unix::process::ExitStatusExt as _;

    for point in COMMON.iter().chain(FILES) {
        let kind = Kind::Files;
        let project = kind.project();
        kind.write(&project, &(0..300).map(|n| (n, ("first".to_string(), n))).collect(), 0);
        project.append("locks/p.jsonl", (0..300).map(|n| passage(n, n)).collect::<String>());
        if point.starts_with("recover.") {
            let status = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
            assert_eq!(status.status.signal(), Some(9), "{status:?}");
        }
        let once = point.starts_with("recover.") || *point == "stage.first_rows";
        let kill = format!("{point}:{}", if once { 1 } else { 3 });
        let status = project.command(RUN).env("SLUICE_KILL_AT", &kill).output().unwrap();
        assert_eq!(status.status.signal(), Some(9), "{kill} was not reached: {status:?}");
        project.expect(0, RUN);
        // The next reading is broken off in the middle, after some of its rows were sealed.
        kind.write(&project, &(100..500).map(|n| (n, ("second".to_string(), n))).collect(), 1);
        project.append("locks/p.jsonl", (300..900).map(|n| passage(n, n - 300)).collect::<String>());
        let status = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:2").output().unwrap();
        assert_eq!(status.status.signal(), Some(9), "{status:?}");
        project.expect(0, RUN);
        for (n, lock) in named(&project) {
            let expected = match n {
                0..300 => Some("first"),
                _ => (100..500).contains(&(n - 300)).then_some("second"),
            };
            assert_eq!(lock.as_ref().map(|(name, _)| name.as_str()), expected, "{point}: {n}");
        }
        assert_eq!(named(&project).len(), 900, "{point}");
        balanced(&project);
    }
}
