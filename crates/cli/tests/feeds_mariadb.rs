//! Tables of MariaDB are loaded and followed under a workload at random while the real program is killed: in the end the
//! mirrors equal the source, and so do the changes, played again by themselves.
//!
//! Needs the feature `failpoints` and MariaDB, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use std::collections::BTreeMap;
use std::io::Write as _;
use std::os::unix::process::ExitStatusExt as _;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use common::TestProject;
use rstest::rstest;
use sluice_core::fail_points::{COMMON, TABLES};

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

const COLUMNS: &str = "permit_id, class, tons, issued_at, note, kind, opened";

const SCHEMA: &str = "
create table permit (permit_id int, class char(3), tons decimal(12,3), issued_at timestamp(6) null, note longtext,
    kind enum('barge','tug','ferry'), opened date, clerk text, primary key (class, permit_id))
    character set utf8mb4 collate utf8mb4_bin;
insert into permit select seq, concat('C', seq % 3), seq / 7, now(6), repeat('ä', seq % 500), 'tug', '2026-11-23', 'x'
    from seq_1_to_3000;
create table other (id int primary key);
";

struct Office {
    port: String,
    source: String,
    target: String,
    random: u64,
    next: u64,
}

impl Office {
    fn new(seed: u64) -> Option<Self> {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let address = std::env::var("SLUICE_TEST_MARIADB").ok();
        assert!(address.is_some() || std::env::var_os("SLUICE_TEST_SERVICES").is_none());
        let Some(address) = address else {
            eprintln!("skipped: SLUICE_TEST_MARIADB is not set");
            return None;
        };
        let name = format!("feed_{}_{}", std::process::id(), NUMBER.fetch_add(1, Ordering::SeqCst));
        let port = address.rsplit(':').next().unwrap().to_string();
        let office = Self { port, source: format!("{name}_source"), target: name, random: seed, next: 10_000 };
        office.sql("mysql", &format!("create database {}; create database {}", office.source, office.target));
        office.sql(&office.source, SCHEMA);
        Some(office)
    }

    fn sql(&self, database: &str, sql: &str) -> String {
        let mut child = Command::new("mariadb")
            .args([
                "-h",
                "127.0.0.1",
                "-P",
                &self.port,
                "-u",
                "sluice",
                "-N",
                "-B",
                "--default-character-set=utf8mb4",
                database,
            ])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(sql.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success(), "{sql}: {output:?}");
        String::from_utf8(output.stdout).unwrap()
    }

    fn project(&self) -> TestProject {
        let project = TestProject::empty();
        let connection = |name: &str, database: &str| {
            format!(
                "[connection.{name}]\nurl = \"mariadb://127.0.0.1:{}/{database}\"\nuser = \"sluice\"\n\n",
                self.port
            )
        };
        let both = connection("office", &self.source) + &connection("warehouse", &self.target);
        project.write("sluice.toml", format!("[project]\nname = \"tarrow\"\n\n{both}"));
        project.write(
            "pipelines/office.toml",
            "pipeline = \"office\"\nbatch = { rows = 700, every = \"150ms\" }\n\n[event.permit]\nfields = \"\"\"permit_id \
             integer not null, class text not null, tons decimal(12,3), issued_at timestamptz, note text, kind text, opened \
             date\"\"\"\n[event.permit.arrives]\nat = \"office\"\ntable = \"permit\"\nload_rows = 300\nschema_change = \
             \"ignore\"\n[event.permit.lands.copy]\nat = \"warehouse\"\ntable = \"permit\"\nmode = \"mirror\"\nkey = [\"class\", \
             \"permit_id\"]\n[event.permit.lands.log]\nat = \"warehouse\"\ntable = \"permit_log\"\nmode = \"changes\"\ncreate = \
             true\n",
        );
        // Keys of MariaDB want a length.
        let lands = "permit_id int, class varchar(9), tons decimal(12,3), issued_at datetime(6), note longtext, kind text, \
                     opened date, _source text, _position bigint, _batch bigint, primary key (class, permit_id)";
        self.sql(&self.target, &format!("create table permit ({lands}) character set utf8mb4 collate utf8mb4_bin"));
        project
    }

    fn below(&mut self, n: u64) -> u64 {
        self.random = self.random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.random >> 33) % n
    }

    fn statement(&mut self) -> String {
        let (id, tons) = (self.below(3000) + 1, self.below(90_000));
        self.next += 1;
        let next = self.next;
        match self.below(10) {
            0 | 1 => format!(
                "insert into permit values ({next}, 'C9', -{tons}.125, now(6), repeat('ü\\n', {id}), 'ferry', null, 'x');"
            ),
            2..=4 => {
                format!("update permit set tons = {tons}, kind = 'barge' where permit_id between {id} and {id} + 2;")
            }
            5 => format!("update permit set permit_id = {next} where permit_id = {id};"),
            6 => format!("delete from permit where permit_id = {id};"),
            7 => format!("insert into other values ({next});"),
            8 => format!("update permit set note = null, issued_at = '2001-02-03 04:05:06.5' where permit_id = {id};"),
            _ => "update permit set tons = tons + 1 where class = 'C1';".into(),
        }
    }

    fn change(&mut self, transactions: u64, round: u64) {
        let mut sql = String::new();
        for _ in 0..transactions {
            sql.push_str("begin;\n");
            for _ in 0..self.below(5) + 1 {
                sql.push_str(&self.statement());
            }
            if self.below(4) == 0 {
                sql.push_str("savepoint s; delete from permit where permit_id % 2 = 0; rollback to savepoint s;\n");
            }
            sql.push_str(if self.below(6) == 0 { "rollback;\n" } else { "commit;\n" });
        }
        match round % 9 {
            4 => sql.push_str(&format!("alter table permit add column more_{round} int default 7 first;\n")),
            7 => sql.push_str(
                "truncate permit; insert into permit select seq, 'C1', 1, null, 'n', 'tug', null, 'x' \
                               from seq_1_to_800;\n"
                    .replace("select seq", "(permit_id, class, tons, issued_at, note, kind, opened, clerk) select seq")
                    .as_str(),
            ),
            _ => {}
        }
        let sql = sql.replace(
            "insert into permit values",
            "insert into permit (permit_id, class, tons, issued_at, note, kind, opened, clerk) values",
        );
        self.sql(&self.source.clone(), &sql);
    }

    fn check(&self) {
        let rows = |database: &str| {
            let text = self.sql(database, &format!("set time_zone = '+00:00'; select {COLUMNS} from permit"));
            let mut rows: Vec<String> = text.lines().map(str::to_string).collect();
            rows.sort();
            rows
        };
        let (source, mirror) = (rows(&self.source), rows(&self.target));
        assert_eq!(mirror.len(), source.len());
        assert_eq!(source.iter().zip(&mirror).find(|(a, b)| a != b), None);
        let log =
            self.sql(&self.target, &format!("select _change, {COLUMNS} from permit_log order by _position, _within"));
        let mut played: BTreeMap<String, String> = BTreeMap::new();
        for line in log.lines() {
            let (change, row) = line.split_once('\t').unwrap();
            let mut cells = row.split('\t');
            let id = format!("{} {}", cells.next().unwrap(), cells.next().unwrap());
            match change {
                "truncated" => played.clear(),
                "deleted" => drop(played.remove(&id)),
                _ => drop(played.insert(id, row.to_string())),
            }
        }
        let mut played: Vec<String> = played.into_values().collect();
        played.sort();
        assert_eq!(source.iter().zip(&played).find(|(a, b)| a != b), None);
        assert_eq!(played.len(), source.len());
        self.sql("mysql", &format!("drop database {}; drop database {}", self.source, self.target));
    }
}

#[test]
fn killed_at_every_point_the_mirror_equals_its_source() {
    let Some(mut office) = Office::new(3) else { return };
    let project = office.project();
    for (round, point) in ["feed.portion"].iter().chain(COMMON).chain(TABLES).enumerate() {
        office.change(6, round as u64);
        if point.starts_with("recover.") {
            let output = project.command(RUN).env("SLUICE_KILL_AT", "seal.after:1").output().unwrap();
            assert_eq!(output.status.signal(), Some(9), "{output:?}");
        }
        let output = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:1")).output().unwrap();
        assert_eq!(output.status.signal(), Some(9), "{point} was not reached: {output:?}");
    }
    project.expect(0, RUN);
    office.check();
}

#[rstest]
#[case(51, 20)]
#[case(52, 20)]
fn killed_at_random_while_the_source_changes(#[case] seed: u64, #[case] kills: u64) {
    let Some(mut office) = Office::new(seed) else { return };
    let project = office.project();
    for round in 0..kills {
        let mut child =
            project.command(&["run", "office"]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        office.change(8, round);
        std::thread::sleep(Duration::from_millis(seed * 37 * (round + 1) % 400));
        let ended = child.try_wait().unwrap();
        let _ = child.kill();
        let output = child.wait_with_output().unwrap();
        assert!(ended.is_none(), "the run gave up: {}", String::from_utf8_lossy(&output.stderr));
    }
    project.expect(0, RUN);
    office.check();
}
