//! Stations that remember: windows and events that come twice, compared with what SQLite computes over all events at once.

mod again;
mod crash;
mod joins;
mod kept;
mod lists;
mod mistakes;
mod references;
mod results;
mod small;
mod unfold;

use std::collections::BTreeMap;

use crate::common::work::Random;
use crate::common::{TestProject, visible_files};
use serde_json::Value;

const RUN: &[&str] = &["run", "passages", "--until-caught-up"];

const PROJECT: &str = "[project]\nname = \"tarrow\"\n[connection.locks]\nurl = \"file:locks\"\n[connection.archive]\nurl = \
                       \"file:archive\"\n[connection.office]\nurl = \"sqlite:office.db\"\n";

const PASSAGE: &str = r#"
pipeline = "passages"
batch = { rows = 400 }
rejects = { share = "90%", least = 100000 }
[event.passage]
fields = "passage_id text not null, lock_id text not null, passed_at timestamptz not null, draught_cm integer"
time = "passed_at"
[event.passage.arrives]
at = "locks"
match = "*.jsonl"
[event.passage.lands.all]
at = "archive"
path = "all"
format = "jsonl"
[event.passage_once.made]
of = "passage"
once = { key = "passage_id", within = "24h" }
[event.passage_once.lands.archive]
at = "archive"
path = "once"
format = "jsonl"
"#;

/// A window over passages that came once.
fn window(name: &str, shape: &str, more: &str) -> String {
    format!(
        "[event.{name}.made]\nof = \"passage_once\"\nwindow = {{ {shape} }}\nlate = \"2m\"\ngroup = \"lock_id\"\n{more}\n\
         columns = \"lock_id, window_start, count(*) as passages, count(draught_cm) as measured, sum(draught_cm) as total, \
         min(draught_cm) as least, max(passage_id) as greatest, sum(draught_cm) filter (where draught_cm > 120) as deep\"\n\
         [event.{name}.lands.archive]\nat = \"archive\"\npath = \"{name}\"\nformat = \"jsonl\"\n"
    )
}

fn pipeline() -> String {
    let (minute, sliding) =
        (window("minute", "length = \"1m\"", ""), window("five", "length = \"5m\", every = \"1m\"", ""));
    [PASSAGE, &minute, &sliding].concat()
}

fn project(pipeline: &str) -> TestProject {
    let project = TestProject::empty();
    project.write("sluice.toml", PROJECT);
    project.write("pipelines/passages.toml", pipeline);
    std::fs::create_dir(project.path("locks")).unwrap();
    project
}

/// Passages at random, out of order by up to a minute, some twice, some far too late; kept in SQLite as well.
struct Passages {
    /// How many locks there are.
    locks: u64,
    random: Random,
    engine: rusqlite::Connection,
    count: u64,
    lines: Vec<String>,
}

/// The first moment, in seconds since 1970: 2026-07-01 08:00.
const START: u64 = 1_782_892_800;

impl Passages {
    fn new(seed: u64) -> Self {
        let engine = rusqlite::Connection::open_in_memory().unwrap();
        engine
            .execute_batch("create table e (n integer primary key, id text, lock text, t integer, draught integer)")
            .unwrap();
        Self { locks: 5, random: Random::of(seed), engine, count: 0, lines: Vec::new() }
    }

    /// So many more lines.
    fn lines(&mut self, count: u64) -> String {
        let mut text = String::new();
        for _ in 0..count {
            let n = self.count;
            self.count += 1;
            let line = match self.random.below(50) {
                0 if n > 10 => {
                    let again = usize::try_from(self.random.below(n)).unwrap();
                    let sql = "insert into e select ?1, id, lock, t, draught from e where n = ?2";
                    self.engine.execute(sql, (n, again)).unwrap();
                    self.lines[again].clone()
                }
                kind => {
                    let behind = if kind == 1 { 600 + self.random.below(300) } else { self.random.below(60) };
                    let second = START + n / 4 - behind;
                    let (id, lock) = (format!("P{n:06}"), format!("L{}", self.random.below(self.locks)));
                    let draught = (kind != 2).then(|| 50 + self.random.below(150));
                    let row = (n, &id, &lock, second, draught);
                    self.engine.execute("insert into e values (?1, ?2, ?3, ?4, ?5)", row).unwrap();
                    let time = chrono::DateTime::from_timestamp(i64::try_from(second).unwrap(), 0).unwrap();
                    let time = time.format("%Y-%m-%dT%H:%M:%SZ");
                    serde_json::json!({ "passage_id": id, "lock_id": lock, "passed_at": time.to_string(), "draught_cm": draught })
                        .to_string()
                }
            };
            text.push_str(&line);
            text.push('\n');
            self.lines.push(line);
        }
        text
    }

    /// What windows of `length` seconds every `every` seconds give, by SQLite, and how many passages are late. Those that
    /// end after `open_from` are still open; None closes all.
    fn expected(&self, length: u64, every: u64, late: u64, open_from: Option<u64>) -> (Groups, u64) {
        let first =
            "select e.*, max(t) over (order by n rows between unbounded preceding and 1 preceding) as newest from e";
        let places = (0..length / every).map(|i| format!("select {i} as i")).collect::<Vec<_>>().join(" union all ");
        let base = format!(
            "with seen as ({first}), once as (select * from seen where n in (select min(n) from e group by id)),
             placed as (select *, (t / {every} - i) * {every} as start from once, ({places}) where (t / {every} - i) * {every} + {length} > t),
             taken as (select * from placed where newest is null or start + {length} > newest - {late})"
        );
        let until = open_from.unwrap_or(u64::from(u32::MAX) * 2);
        let sql = format!(
            "{base} select lock, start, count(*), count(draught), sum(draught), min(draught), max(id),
             sum(draught) filter (where draught > 120) from taken where start + {length} <= {until} group by 1, 2"
        );
        let late = format!("{base} select count(*) from once where n not in (select n from taken)");
        (self.groups(&sql), self.engine.query_row(&late, [], |r| r.get(0)).unwrap())
    }

    /// What sessions with a gap give, by SQLite, and how many passages are late. Those that end after `open_from` are still
    /// open; None closes all.
    fn sessions(&self, gap: u64, late: u64, open_from: Option<u64>) -> (Groups, u64) {
        let base = format!(
            "with seen as (select e.*, max(t) over (order by n rows between unbounded preceding and 1 preceding) as newest from e),
             once as (select * from seen where n in (select min(n) from e group by id)),
             taken as (select * from once where newest is null or t >= newest - {late}),
             begun as (select *, coalesce(t - lag(t) over (partition by lock order by t, n) >= {gap}, 1) as begins from taken),
             numbered as (select *, sum(begins) over (partition by lock order by t, n) as session from begun)"
        );
        let until = open_from.unwrap_or(u64::from(u32::MAX) * 2);
        let sql = format!(
            "{base} select lock, min(t), count(*), count(draught), sum(draught), min(draught), max(id),
             sum(draught) filter (where draught > 120) from numbered group by lock, session having max(t) + {gap} <= {until}"
        );
        let late = format!("{base} select count(*) from once where n not in (select n from taken)");
        (self.groups(&sql), self.engine.query_row(&late, [], |r| r.get(0)).unwrap())
    }

    fn groups(&self, sql: &str) -> Groups {
        let mut statement = self.engine.prepare(sql).unwrap();
        let rows = statement
            .query_map([], |r| {
                let figure = |i| r.get::<_, Option<i64>>(i).map(|v| v.map_or("null".to_string(), |v| v.to_string()));
                let row =
                    [figure(2)?, figure(3)?, figure(4)?, figure(5)?, r.get::<_, String>(6)?, figure(7)?].join(" ");
                Ok(((r.get(0)?, r.get(1)?), row))
            })
            .unwrap();
        rows.map(Result::unwrap).collect()
    }

    /// The newest event time, in seconds since 1970.
    fn newest(&self) -> u64 {
        self.engine.query_row("select max(t) from e", [], |r| r.get(0)).unwrap()
    }

    /// How many passages there are, each counted once.
    fn once(&self) -> u64 {
        self.engine.query_row("select count(distinct id) from e", [], |r| r.get(0)).unwrap()
    }
}

/// For each lock and window the figures of its row.
type Groups = BTreeMap<(String, u64), String>;

fn rows(project: &TestProject, folder: &str) -> Vec<Value> {
    let files = visible_files(&project.path(&format!("archive/{folder}")));
    let text = |path: &std::path::PathBuf| std::fs::read_to_string(path).unwrap();
    let lines: Vec<String> =
        files.iter().flat_map(|f| text(f).lines().map(str::to_string).collect::<Vec<_>>()).collect();
    lines.iter().map(|line| serde_json::from_str(line).unwrap()).collect()
}

/// The bytes of rejects.
fn rejected(project: &TestProject) -> Vec<String> {
    let files = visible_files(&project.path("rejects/passages"));
    let text = |path: &std::path::PathBuf| std::fs::read_to_string(path).unwrap();
    let bytes = |line: &str| serde_json::from_str::<Value>(line).unwrap()["bytes"].as_str().unwrap().to_string();
    files.iter().flat_map(|f| text(f).lines().map(bytes).collect::<Vec<_>>()).collect()
}

/// The groups that have landed; none twice.
fn landed(project: &TestProject, folder: &str) -> Groups {
    let mut found = BTreeMap::new();
    for row in rows(project, folder) {
        let start = chrono::DateTime::parse_from_rfc3339(row["window_start"].as_str().unwrap()).unwrap().timestamp();
        let key = (row["lock_id"].as_str().unwrap().to_string(), u64::try_from(start).unwrap());
        let text = |name: &str| row[name].as_str().map_or_else(|| row[name].to_string(), str::to_string);
        let figures = ["passages", "measured", "total", "least", "greatest", "deep"].map(text).join(" ");
        assert_eq!(found.insert(key, figures), None, "{folder}: {row} landed twice");
    }
    found
}

/// Compares what has landed of both windows with what SQLite computes, and the rejects.
fn check(project: &TestProject, passages: &Passages) {
    let closed = passages.newest() - 120;
    let (minute, late_minute) = passages.expected(60, 60, 120, Some(closed));
    let (five, late_five) = passages.expected(300, 60, 120, Some(closed));
    assert!(minute.len() > 20 && five.len() > 20 && late_minute > 5, "{} {}", minute.len(), five.len());
    assert_same(&landed(project, "minute"), &minute, "minute");
    assert_same(&landed(project, "five"), &five, "five");
    assert_eq!(rejected(project).len() as u64, late_minute + late_five);
    assert_eq!(rows(project, "once").len() as u64, passages.once());
    balanced(project);
}

fn assert_same(found: &Groups, expected: &Groups, what: &str) {
    for key in found.keys().chain(expected.keys()) {
        assert_eq!(found.get(key), expected.get(key), "{what} {key:?}");
    }
}

/// Every station of every batch balances, and the events held in the end are those of the open windows.
fn balanced(project: &TestProject) {
    let batches = project.json(&["ledger", "passages", "--show", "1000000"])["batches"].clone();
    let mut held: BTreeMap<String, i64> = BTreeMap::new();
    let counts = |batch: &'_ Value| -> Vec<(bool, Value)> {
        let is_again = batch["lane"].as_str().unwrap().contains('~');
        batch["counts"].as_array().unwrap().iter().map(|count| (is_again, count.clone())).collect()
    };
    for (is_again, count) in batches.as_array().unwrap().iter().flat_map(counts) {
        let n = |key: &str| count[key].as_i64().unwrap();
        let out =
            n("output") + n("filtered") + n("merged") + n("repeated") + n("unmatched") + n("rejected") + n("held");
        assert_eq!(n("input") + n("made"), out, "{count}");
        // Where batches are read again, what was remembered before them is not counted once more.
        if !is_again {
            *held.entry(count["station"].as_str().unwrap().to_string()).or_default() += n("held");
        }
    }
    assert!(held.values().all(|held| *held >= 0), "{held:?}");
}
