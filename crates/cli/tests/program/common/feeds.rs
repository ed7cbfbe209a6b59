//! A source whose tables are changed at random, the pipeline that follows them, and what must be there in the end.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::process::{Command, Stdio};

use crate::common::TestProject;
use crate::common::tables::{Database, psql};
use serde_json::Value;

/// The tables with their keys and the columns that are followed.
pub const TABLES: &[(&str, &str, &str)] = &[
    ("permit", "permit_id", "permit_id, vessel_no, class, tons, issued_at, note"),
    ("vessel", "vessel_no", "vessel_no, name, length_m"),
    ("berth", "lock_id, place", "lock_id, place, free"),
];

const SCHEMA: &str = "
create table permit (permit_id integer primary key, vessel_no text not null, class text, tons numeric(8,2),
    issued_at timestamptz, note text, clerk text);
create table vessel (vessel_no text primary key, name text, length_m double precision);
create table berth (lock_id text, place integer, free boolean not null, primary key (lock_id, place));
alter table permit alter column note set storage external;
insert into permit select i, 'V-' || i % 50, 'A', i, now(), repeat('n', i % 3000) from generate_series(1, 2000) i;
insert into vessel select 'V-' || i, 'Name ' || i, i * 1.5 from generate_series(1, 50) i;
insert into berth select 'L-' || i % 5, i, i % 2 = 0 from generate_series(1, 100) i;
";

/// A table without a key, whose rows may be alike.
const JOURNAL: &str = "
create table journal (noted_at timestamptz, words text, n integer);
alter table journal replica identity full;
insert into journal select now(), 'entry ' || i % 7, i % 50 from generate_series(1, 1500) i;
";

/// Source and target, two databases of one server.
pub struct Office {
    pub source: String,
    pub target: Database,
    random: u64,
    next: u64,
    /// How many columns have been added.
    columns: u32,
    /// Whether there is a table without a key.
    journal: bool,
}

/// Runs a script, every statement by itself.
pub fn script(url: &str, sql: &str) -> bool {
    let mut child = Command::new("psql")
        .args(["-X", "-q", "-v", "ON_ERROR_STOP=1", url])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    // A server that ends closes the pipe.
    let _ = child.stdin.take().unwrap().write_all(sql.as_bytes());
    child.wait().unwrap().success()
}

impl Office {
    pub fn new(target: Database, seed: u64) -> Self {
        let server = target.url.clone();
        Self::between(&server, target, seed)
    }

    /// The same with the source on another server, of which any database is named.
    pub fn between(source: &str, target: Database, seed: u64) -> Self {
        let (_, name) = target.url.rsplit_once('/').unwrap();
        psql(source, &format!("create database {name}_source"));
        let source = format!("{}/{name}_source", source.rsplit_once('/').unwrap().0);
        assert!(script(&source, SCHEMA));
        Self { source, target, random: seed, next: 10_000, columns: 0, journal: false }
    }

    /// The same with a table without a key.
    pub fn with_journal(target: Database, seed: u64) -> Self {
        let office = Self::new(target, seed);
        assert!(script(&office.source, JOURNAL));
        Self { journal: true, ..office }
    }

    pub fn project(&self, pipeline: &str) -> TestProject {
        let project = TestProject::empty();
        let connection = |of: &str, url: &str| {
            let place = url.split('@').nth(1).unwrap();
            format!("[connection.{of}]\nurl = \"postgres://{place}\"\nuser = \"sluice\"\n\n")
        };
        let both = connection("office", &self.source) + &connection("warehouse", &self.target.url);
        let files = "[connection.archive]\nurl = \"file:archive\"\n";
        project.write("sluice.toml", format!("[project]\nname = \"tarrow\"\n\n{both}{files}"));
        project.write("pipelines/office.toml", pipeline);
        project
    }

    fn below(&mut self, n: u64) -> u64 {
        self.random = self.random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.random >> 33) % n
    }

    /// One statement at random.
    fn statement(&mut self) -> String {
        let id = self.below(2000) + 1;
        let (tons, class) = (self.below(90_000), self.below(4));
        match self.below(if self.journal { 19 } else { 16 }) {
            0 | 1 => {
                self.next += 1;
                let note = self.below(6000);
                let id = self.next;
                format!("insert into permit values ({id}, 'V-1', 'C{class}', {tons}.25, now(), repeat('x', {note}));")
            }
            2..=5 => format!(
                "update permit set tons = {tons}, class = 'C{class}' where permit_id between {id} and {id} + 2;"
            ),
            6 => format!("update permit set note = repeat(md5('{tons}'), 200) where permit_id = {id};"),
            7 => {
                self.next += 1;
                format!("update permit set permit_id = {} where permit_id = {id};", self.next)
            }
            8 => format!("delete from permit where permit_id = {id};"),
            9 => {
                self.next += 1;
                format!(
                    "update permit set permit_id = {} where permit_id = (select max(permit_id) from permit);",
                    self.next
                )
            }
            10 => format!("update vessel set name = 'N{tons}' where vessel_no = 'V-{}';", id % 50),
            11 => format!("delete from vessel where vessel_no = 'V-{}';", id % 50),
            12 => format!(
                "insert into vessel values ('V-{}', 'again', {class}.5) on conflict (vessel_no) do update set length_m = \
                 {class}.25;",
                id % 60
            ),
            13 => format!("update berth set free = not free, place = place + 1000 where place = {};", id % 100),
            14 if id.is_multiple_of(7) => {
                "truncate berth; insert into berth select 'L-9', i, true from generate_series(1, 60) i;".into()
            }
            16 => format!("insert into journal select now(), 'more', {class} from generate_series(1, 20);"),
            17 => format!("update journal set n = n + 1, words = words || '.' where n = {};", id % 50),
            18 => format!("delete from journal where n = {};", id % 60),
            14 => format!("insert into berth values ('L-7', {tons} + 5000, true) on conflict do nothing;"),
            _ => format!(
                "delete from permit where permit_id = {id}; insert into permit values ({id}, 'V-2', null, {tons});"
            ),
        }
    }

    /// Some transactions at random; `ddl` also adds columns.
    pub fn transactions(&mut self, count: u64, ddl: bool) -> String {
        let mut sql = String::new();
        for _ in 0..count {
            let statements = self.below(6) + 1;
            sql.push_str("begin;\n");
            for _ in 0..statements {
                let inner = self.statement();
                if self.below(5) == 0 {
                    let outcome = if self.below(2) == 0 { "rollback to inner" } else { "release" };
                    let outcome = if outcome == "release" {
                        "release savepoint \"inner\""
                    } else {
                        "rollback to savepoint \"inner\""
                    };
                    sql.push_str(&format!("savepoint \"inner\";\n{inner}\n{outcome};\n"));
                } else {
                    sql.push_str(&format!("{inner}\n"));
                }
            }
            if self.below(12) == 0 {
                // Large enough to be sent before its commit.
                sql.push_str("update permit set tons = coalesce(tons, 0) + 1;\n");
            }
            sql.push_str(if self.below(6) == 0 { "rollback;\n" } else { "commit;\n" });
        }
        if ddl {
            self.columns += 1;
            sql.push_str(&format!("alter table permit add column more_{} text default 'm';\n", self.columns));
        }
        sql
    }

    /// Changes the source; whether all of it was done.
    pub fn change(&mut self, count: u64, ddl: bool) -> bool {
        let sql = self.transactions(count, ddl);
        script(&self.source.clone(), &sql)
    }

    /// Changes the columns of a table at random.
    pub fn reshape(&mut self) {
        self.columns += 1;
        let table = TABLES[usize::try_from(self.below(3)).unwrap()].0;
        let more = format!("more_{}", self.columns);
        let known = psql(
            &self.source,
            &format!(
                "select column_name from information_schema.columns where table_name = '{table}' and column_name like 'more%'"
            ),
        );
        let sql = match (self.below(5), known.first()) {
            (0 | 1, _) | (_, None) => {
                format!("alter table {table} add column {more} text default 'm{}';", self.columns)
            }
            (2, _) => format!("alter table {table} add column {more} integer; update {table} set {more} = 7;"),
            (3, Some(known)) => format!("alter table {table} rename column {known} to {more};"),
            (_, Some(known)) => format!("alter table {table} drop column {known};"),
        };
        assert!(script(&self.source, &sql), "{sql}");
    }

    /// Every mirror equals its table, in all columns that the table has.
    pub fn check_whole_mirrors(&self) {
        for (table, _, _) in TABLES {
            let columns = psql(
                &self.source,
                &format!(
                    "select string_agg(quote_ident(column_name), ', ' order by column_name) from \
                     information_schema.columns where table_name = '{table}'"
                ),
            );
            let (source, mirror) =
                (Self::rows(&self.source, table, &columns[0]), Self::rows(&self.target.url, table, &columns[0]));
            assert_eq!(mirror.len(), source.len(), "{table}");
            let differing = source.iter().zip(&mirror).find(|(a, b)| a != b);
            assert_eq!(differing, None, "{table}: {columns:?}");
        }
    }

    /// What a table holds, row by row.
    pub fn rows(url: &str, table: &str, columns: &str) -> Vec<String> {
        psql(url, &format!("select r::text from (select {columns} from {table}) r order by 1"))
    }

    /// Every mirror equals its table.
    pub fn check_mirrors(&self) {
        for (table, _, columns) in TABLES {
            let (source, mirror) =
                (Self::rows(&self.source, table, columns), Self::rows(&self.target.url, table, columns));
            assert_eq!(mirror.len(), source.len(), "{table}");
            let differing = source.iter().zip(&mirror).find(|(a, b)| a != b);
            assert_eq!(differing, None, "{table}");
        }
    }

    /// The changes of each table, played again by themselves, give the table.
    pub fn check_logs(&self) {
        for (table, key, columns) in TABLES {
            let played = play(&self.target.url, table, key, columns);
            let there = psql(&self.source, &format!("select to_jsonb(r)::text from (select {columns} from {table}) r"));
            let mut there: Vec<Value> = there.iter().map(|line| serde_json::from_str(line).unwrap()).collect();
            there.sort_by_key(ToString::to_string);
            let mut played: Vec<Value> = played.into_values().map(Value::Object).collect();
            played.sort_by_key(ToString::to_string);
            assert_eq!(played.len(), there.len(), "{table}");
            assert_eq!(played.iter().zip(&there).find(|(a, b)| a != b), None, "{table}");
        }
        if self.journal {
            self.check_journal();
        }
    }

    /// The changes of a table whose rows may be alike, played again.
    fn check_journal(&self) {
        let sql = "select jsonb_build_object('change', _change, 'old', old, 'row', jsonb_build_object('noted_at', \
                   noted_at, 'words', words, 'n', n))::text from journal_log order by _position, _within";
        let mut rows: BTreeMap<String, i64> = BTreeMap::new();
        // Moments are spelled in two ways: by the source within old values, by the mirror's server in rows.
        let spelled = |row: &Value| {
            let moment: String = row["noted_at"].as_str().unwrap().replace(' ', "T").split('+').next().unwrap().into();
            format!("{} {} {}", moment.trim_end_matches('0'), row["words"], row["n"])
        };
        let lines = psql(&self.target.url, sql);
        for line in &lines {
            let line: Value = serde_json::from_str(line).unwrap();
            let mut add = |row: &Value, by| *rows.entry(spelled(row)).or_default() += by;
            match line["change"].as_str().unwrap() {
                "truncated" => rows.clear(),
                "deleted" => add(&line["row"], -1),
                "updated" => {
                    add(&line["old"], -1);
                    add(&line["row"], 1);
                }
                _ => add(&line["row"], 1),
            }
        }
        rows.retain(|_, count| *count != 0);
        let mut there: BTreeMap<String, i64> = BTreeMap::new();
        for line in psql(&self.source, "select to_jsonb(j)::text from journal j") {
            *there.entry(spelled(&serde_json::from_str(&line).unwrap())).or_default() += 1;
        }
        assert_eq!(rows.values().sum::<i64>(), there.values().sum::<i64>(), "{} changes", lines.len());
        assert_eq!(rows.iter().zip(&there).find(|(a, b)| a != b), None);
    }

    /// The last settled position is all that the slot keeps.
    pub fn slots(&self) -> Vec<String> {
        psql(&self.source, "select slot_name from pg_replication_slots where database = current_database()")
    }

    /// Drops the slots once no run reads them.
    pub fn drop_slots(&self) {
        for _ in 0..100 {
            let free = psql(
                &self.source,
                "select count(*) from pg_replication_slots where database = current_database() and active",
            );
            if free == ["0"] {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(100));
        }
        psql(
            &self.source,
            "select pg_drop_replication_slot(slot_name) from pg_replication_slots where database = current_database()",
        );
    }

    pub fn drop(&self) {
        self.drop_slots();
        let (_, name) = self.source.rsplit_once('/').unwrap();
        let other = format!("{}/postgres", self.source.rsplit_once('/').unwrap().0);
        psql(&other, &format!("drop database {name} with (force)"));
    }
}

type Row = serde_json::Map<String, Value>;

/// Plays the changes of a table.
fn play(url: &str, table: &str, key: &str, columns: &str) -> BTreeMap<String, Row> {
    let lines = psql(
        url,
        &format!(
            "select jsonb_build_object('change', _change, 'absent', _absent, 'row', to_jsonb(r))::text from (select \
             _change, _absent, _position, _within, {columns} from {table}_log) r order by _position, _within"
        ),
    );
    let names: Vec<&str> = columns.split(", ").collect();
    let mut rows: BTreeMap<String, Row> = BTreeMap::new();
    let mut last_deleted: Option<Row> = None;
    for line in lines {
        let line: Value = serde_json::from_str(&line).unwrap();
        let all = line["row"].as_object().unwrap();
        let mut row: Row = names.iter().map(|n| ((*n).to_string(), all[*n].clone())).collect();
        let id = key.split(", ").map(|k| row[k].to_string()).collect::<Vec<_>>().join("/");
        let change = line["change"].as_str().unwrap();
        match change {
            "truncated" => rows.clear(),
            "deleted" => last_deleted = rows.remove(&id),
            "loaded" => drop(rows.insert(id, row)),
            _ => {
                let before = if change == "updated" { rows.get(&id).cloned() } else { last_deleted.take() };
                let absent = line["absent"].as_str().unwrap_or_default();
                // A row that has not been loaded yet arrives whole later.
                if before.is_none() && !absent.is_empty() {
                    continue;
                }
                for name in absent.split(',').filter(|n| !n.is_empty()) {
                    row.insert(name.to_string(), before.as_ref().unwrap()[name].clone());
                }
                rows.insert(id, row);
            }
        }
    }
    rows
}

/// All tables there are, with all their columns, into mirrors.
pub fn whole(more: &str) -> String {
    format!(
        "pipeline = \"office\"\n{more}\n[each.office]\ntables = \"*\"\n[each.office.arrives]\nat = \"office\"\n\
         schema_change = \"follow\"\nload_rows = 300\n[each.office.lands.copy]\nat = \"warehouse\"\nmode = \"mirror\"\n\
         create = true\n"
    )
}

/// The same, and the table without a key into a log of changes.
pub fn with_journal(more: &str) -> String {
    pipeline(more)
        + "[event.journal]\nfields = \"noted_at timestamptz, words text, n integer\"\n[event.journal.arrives]\nat = \
           \"office\"\ntable = \"journal\"\n[event.journal.lands.log]\nat = \"warehouse\"\ntable = \"journal_log\"\nmode = \
           \"changes\"\ncreate = true\ncolumns = \"noted_at, words, n, origin.old\"\n"
}

/// Every table into a mirror and into a log of changes.
pub fn pipeline(more: &str) -> String {
    let fields = [
        "permit_id integer not null, vessel_no text not null, class text, tons decimal(8,2), issued_at timestamptz, note text",
        "vessel_no text not null, name text, length_m double precision",
        "lock_id text not null, place integer not null, free boolean not null",
    ];
    let mut out = format!("pipeline = \"office\"\n{more}\n");
    for ((table, key, _), fields) in TABLES.iter().zip(fields) {
        let key: Vec<String> = key.split(", ").map(|k| format!("\"{k}\"")).collect();
        out.push_str(&format!(
            "[event.{table}]\nfields = \"\"\"{fields}\"\"\"\n[event.{table}.arrives]\nat = \"office\"\ntable = \"{table}\"\n\
             load_rows = 300\nschema_change = \"ignore\"\n[event.{table}.lands.copy]\nat = \"warehouse\"\ntable = \
             \"{table}\"\nmode = \"mirror\"\nkey = [{}]\ncreate = true\n[event.{table}.lands.log]\nat = \"warehouse\"\ntable = \
             \"{table}_log\"\nmode = \"changes\"\ncreate = true\n\n",
            key.join(", ")
        ));
    }
    out
}
