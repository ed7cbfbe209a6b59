//! Tables of random types, keys and forms on both servers, random work on them, and mirrors in every kind of store. After each
//! round the mirror is compared with its source, value by value. Work that fails is made smaller before it is printed.
//!
//! Needs the feature `failpoints` and servers, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]

use std::collections::BTreeSet;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::{Duration, Instant};

use crate::common::TestProject;
use crate::common::feeds::script;
use crate::common::feeds_mariadb::Office as Mariadb;
use crate::common::grammar::{Dialect, Grammar, OF_MARIADB, OF_POSTGRES};
use crate::common::tables::{Database, psql};
use crate::common::work;
use crate::common::work::RUN;
use serde_json::Value;

/// A pipeline of all tables into a mirror, and their changes into files.
fn project(source: &str, store: &str, seed: u64) -> TestProject {
    let project = TestProject::empty();
    let archive = "[connection.archive]\nurl = \"file:archive\"\n";
    project.write(
        "sluice.toml",
        format!("[project]\nname = \"tarrow\"\n[connection.office]\n{source}\n[connection.store]\n{store}\n{archive}"),
    );
    let format = if seed.is_multiple_of(2) { "parquet" } else { "jsonl" };
    project.write(
        "pipelines/office.toml",
        "pipeline = \"office\"\nbatch = { every = \"150ms\" }\n[each.office]\ntables = \"*\"\n[each.office.arrives]\nat = \
         \"office\"\nschema_change = \"follow\"\nload_rows = 60\n[each.office.lands.copy]\nat = \"store\"\nmode = \
         \"mirror\"\ncreate = true\n[each.office.lands.files]\nat = \"archive\"\npath = \"{table}\"\nformat = \"FORMAT\"\n"
            .replace("FORMAT", format),
    );
    project
}

/// The mirrors equal their tables.
fn compare(project: &TestProject) {
    let report = project.json(&["audit", "office", "--catch-up"]);
    for mirror in report["mirrors"].as_array().unwrap() {
        let found = (mirror["same"].as_bool(), mirror["rejected"].as_u64());
        let (count, first) = (mirror["differences"].as_array().unwrap().len(), &mirror["differences"][0]);
        assert_eq!(found, (Some(true), Some(0)), "{}: {count} rows differ, first {first}", mirror["landing"]);
        let event = mirror["landing"].as_str().unwrap().split('.').next().unwrap();
        if let Some(rows) = played(project, event) {
            assert_eq!(Some(rows), mirror["source_rows"].as_u64(), "the changes of {event} in files");
        }
    }
}

/// How many rows a table has by its changes in files, played in their order; None for files of another format.
fn played(project: &TestProject, event: &str) -> Option<u64> {
    let files = crate::common::visible_files(&project.path(&format!("archive/{event}")));
    let lines = files.iter().filter(|f| f.extension().is_some_and(|e| e == "jsonl"));
    let mut changes: Vec<Value> = Vec::new();
    for file in lines {
        let text = std::fs::read_to_string(file).unwrap();
        changes.extend(text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap()));
    }
    if changes.is_empty() {
        return None;
    }
    changes.sort_by_key(|c| (c["position"].as_u64(), c["within"].as_u64()));
    let mut rows = BTreeSet::new();
    for change in changes {
        let key = format!("{} {}", change["k0"], change["k1"]);
        match change["change"].as_str().unwrap() {
            "truncated" => rows.clear(),
            "deleted" => drop(rows.remove(&key)),
            _ => drop(rows.insert(key)),
        }
    }
    Some(rows.len() as u64)
}

fn place(url: &str) -> String {
    format!("url = \"postgres://{}\"\nuser = \"sluice\"", url.split('@').nth(1).unwrap())
}

/// Where the mirrors of a seed are.
fn store(seed: u64) -> (String, Option<Database>, Option<Mariadb>) {
    match seed % 3 {
        0 => ("url = \"sqlite:mirror.db\"".into(), None, None),
        1 => Database::new().map_or_else(Default::default, |found| (place(&found.url), Some(found), None)),
        _ => Mariadb::empty(seed)
            .map_or_else(Default::default, |found| (found.connection(&found.target), None, Some(found))),
    }
}

/// The server whose tables are followed.
enum Source {
    Postgres(Database),
    Mariadb(Mariadb),
}

impl Source {
    /// One without tables; every fourth seed has a server of its own, for what changes a whole server. None where there is
    /// no server.
    fn new(is_postgres: bool, seed: u64) -> Option<Self> {
        if is_postgres {
            let database = if owns(seed) { Database::on_own_server() } else { Database::new() };
            return database.map(Self::Postgres);
        }
        if !owns(seed) {
            return Mariadb::empty(seed).map(Self::Mariadb);
        }
        let office = Mariadb::on_own_server(seed)?;
        office.sql(&office.source, "drop table permit, other");
        Some(Self::Mariadb(office))
    }

    fn connection(&self) -> String {
        match self {
            Self::Postgres(database) => place(&database.url),
            Self::Mariadb(office) => office.connection(&office.source),
        }
    }

    /// Makes tables.
    fn make(&self, schema: &str) {
        match self {
            Self::Postgres(database) => assert!(script(&database.url, schema)),
            Self::Mariadb(office) => drop(office.sql(&office.source, &format!("set sql_mode = '';\n{schema}"))),
        }
    }

    /// Does work; a statement that fails changes nothing.
    fn change(&self, sql: &str) {
        match self {
            Self::Postgres(database) => drop(script(&database.url, &format!("\\set ON_ERROR_STOP off\n{sql}"))),
            Self::Mariadb(office) => office.sql_with_failures(&office.source, &format!("set sql_mode = '';\n{sql}")),
        }
    }

    fn crash(&mut self) {
        let pause = Duration::from_millis(100);
        match self {
            Self::Postgres(database) => {
                database.server.as_mut().unwrap().crash(pause);
                database.wait();
            }
            Self::Mariadb(office) => {
                office.server.as_mut().unwrap().crash(pause);
                office.wait();
            }
        }
    }

    fn end(self) {
        match self {
            Self::Postgres(database) => drop(psql(
                &database.url,
                "select pg_drop_replication_slot(slot_name) from pg_replication_slots where database = current_database()",
            )),
            Self::Mariadb(office) if office.server.is_none() => office.end(),
            Self::Mariadb(_) => {}
        }
    }
}

/// Whether a seed has a server of its own.
fn owns(seed: u64) -> bool {
    seed % 4 == 3
}

/// One round of work.
#[derive(Clone)]
struct Round {
    pieces: Vec<String>,
    /// A run follows the work, and is killed so many milliseconds after it.
    killed_after: Option<u64>,
    reads_all: bool,
    crashes: bool,
}

impl Round {
    fn of(grammar: &mut Grammar, own: bool) -> Self {
        let pieces = grammar.script(own);
        let random = &mut grammar.random;
        let killed_after = random.once_in(2).then(|| random.below(1_200));
        Self { pieces, killed_after, reads_all: random.once_in(2), crashes: own && random.once_in(3) }
    }

    fn show(&self) -> String {
        let mut text = self.pieces.concat();
        if let Some(pause) = self.killed_after {
            text.push_str(&format!("-- while a run follows, which is killed after {pause} ms\n"));
        }
        if self.reads_all {
            text.push_str("-- then all is read, and compared\n");
        }
        if self.crashes {
            text.push_str("-- then the server crashes\n");
        }
        text
    }
}

/// Does all the work and compares; a difference, or a run that fails, is a panic. False where there is no server.
fn trial(is_postgres: bool, seed: u64, schema: &str, rounds: &[Round]) -> bool {
    let Some(mut source) = Source::new(is_postgres, seed) else { return false };
    let (store, database, mariadb) = store(seed);
    source.make(schema);
    let project = project(&source.connection(), &store, seed);
    for round in rounds {
        work::follow(&project, round.killed_after, || source.change(&round.pieces.concat()));
        if round.reads_all {
            project.expect(0, RUN);
        }
        if round.crashes {
            source.crash();
        }
        if round.reads_all {
            compare(&project);
        }
    }
    project.expect(0, RUN);
    compare(&project);
    source.end();
    drop((database, mariadb.map(|m| m.end())));
    true
}

/// Leaves out rounds, and pieces of rounds, as long as what is left still fails; gives the least that did.
fn least(mut rounds: Vec<Round>, fails: impl Fn(&[Round]) -> bool) -> Vec<Round> {
    let end = Instant::now() + Duration::from_secs(240);
    loop {
        let before: usize = rounds.iter().map(|r| r.pieces.len() + 1).sum();
        let mut smaller: Vec<Vec<Round>> = Vec::new();
        for i in 0..rounds.len() {
            let mut without = rounds.clone();
            without.remove(i);
            smaller.push(without);
        }
        for i in 0..rounds.len() {
            for piece in 0..rounds[i].pieces.len() {
                let mut without = rounds.clone();
                without[i].pieces.remove(piece);
                smaller.push(without);
            }
        }
        match smaller.into_iter().find(|candidate| Instant::now() < end && fails(candidate)) {
            Some(found) => rounds = found,
            None => return rounds,
        }
        assert!(rounds.iter().map(|r| r.pieces.len() + 1).sum::<usize>() < before);
    }
}

fn any_work(dialect: Dialect) {
    let is_postgres = dialect.is_postgres;
    for seed in work::seeds(4) {
        let mut grammar = Grammar::new(dialect, seed);
        let schema = grammar.schema();
        let rounds: Vec<Round> = (0..5).map(|_| Round::of(&mut grammar, owns(seed))).collect();
        let fails =
            |rounds: &[Round]| catch_unwind(AssertUnwindSafe(|| trial(is_postgres, seed, &schema, rounds))).is_err();
        if !fails(&rounds) {
            continue;
        }
        let least = least(rounds.clone(), fails);
        let trace: Vec<String> = least.iter().map(Round::show).collect();
        let whole: Vec<String> = rounds.iter().map(Round::show).collect();
        panic!(
            "seed {seed} fails; all of its work was\n{schema}{}\n\nthe least that failed:\n{schema}{}",
            whole.concat(),
            trace.concat()
        );
    }
}

#[test]
fn work_is_made_smaller_as_long_as_it_fails() {
    let round = |pieces: &[&str]| Round {
        pieces: pieces.iter().map(|p| (*p).to_string()).collect(),
        killed_after: None,
        reads_all: false,
        crashes: false,
    };
    let rounds = vec![round(&["a", "b"]), round(&["c"]), round(&["d", "x", "e"]), round(&["y", "f"])];
    let fails = |rounds: &[Round]| {
        let all: String = rounds.iter().flat_map(|r| r.pieces.concat().chars().collect::<Vec<_>>()).collect();
        all.contains('x') && all.contains('y')
    };
    let left: Vec<String> = least(rounds, fails).iter().map(Round::show).collect();
    assert_eq!(left, ["x", "y"]);
}

#[test]
fn any_table_of_postgres_is_followed_through_any_work() {
    any_work(OF_POSTGRES);
}

#[test]
fn any_table_of_mariadb_is_followed_through_any_work() {
    any_work(OF_MARIADB);
}
