//! Entries of MariaDB's log other than rows: transactions that are rolled back in part or whole, distributed ones, and
//! statements that change tables. The mirror equals its source afterwards, or the run stops and says why.
//!
//! Needs the feature `failpoints` and MariaDB, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]

use crate::common::TestProject;
use crate::common::feeds_mariadb::Office;
use crate::common::work;
use crate::common::work::{RUN, Random};
use rstest::rstest;

const TABLES: &str = "
    create table t (id int primary key, v varchar(20)) engine=innodb character set utf8mb4;
    create table m (id int primary key, v varchar(20)) engine=myisam character set utf8mb4;
    create table p (id int primary key, v varchar(20)) engine=innodb character set utf8mb4
        partition by range (id) (partition p0 values less than (100), partition p1 values less than (1000));
    create table plain (id int primary key, v varchar(20)) engine=innodb character set utf8mb4;
    insert into t select seq, concat('t', seq) from seq_1_to_50;
    insert into m select seq, concat('m', seq) from seq_1_to_50;
    insert into p select seq * 5, concat('p', seq) from seq_1_to_50;
    insert into plain select seq, concat('x', seq) from seq_1_to_50;
";

/// The rows of the tables at the source and in the mirror, which have to be the same.
fn compare(office: &Office, project: &TestProject, tables: &[&str]) {
    let database = rusqlite::Connection::open(project.path("mirror.db")).unwrap();
    for table in tables {
        let sql = format!("select id, coalesce(v, 'null') from {table} order by id");
        let source: Vec<String> = office.sql(&office.source, &sql).lines().map(str::to_string).collect();
        let mut statement = database.prepare(&sql).unwrap();
        let line = |row: &rusqlite::Row<'_>| Ok(format!("{}\t{}", row.get::<_, i64>(0)?, row.get::<_, String>(1)?));
        let mirror: Vec<String> = statement.query_map([], line).unwrap().map(Result::unwrap).collect();
        assert_eq!(mirror, source, "{table}");
    }
}

/// Statements by one session after the tables were loaded.
#[rstest]
#[case::savepoint("begin; insert into t values (101, 'a'); savepoint s; insert into t values (102, 'b'); insert into m values (103, 'c');
    update t set v = 'gone' where id < 9; rollback to savepoint s; insert into t values (104, 'd'); commit")]
#[case::savepoints("begin; savepoint `a b`; insert into m values (201, 'a'); insert into t values (201, 'a'); savepoint c;
    delete from t where id < 20; rollback to `a b`; insert into t values (202, 'b'); rollback to `a b`; insert into t values (203, 'c'); commit")]
#[case::temporary(
    "begin; insert into t values (301, 'a'); create temporary table x (id int); insert into x values (1);
    update t set v = 'gone'; rollback; insert into t values (302, 'b')"
)]
#[case::both_engines(
    "begin; insert into t values (401, 'a'); insert into m values (401, 'a'); rollback; begin;
    insert into t select id + 500, v from m where id < 5; commit"
)]
#[case::prepared("xa start 'one'; insert into t values (501, 'a'); update t set v = 'b' where id = 3; xa end 'one'; xa prepare 'one';
    xa commit 'one'; xa start 'two'; insert into t values (502, 'gone'); xa end 'two'; xa prepare 'two'; xa rollback 'two';
    xa start 'one'; delete from t where id = 5; xa end 'one'; xa commit 'one' one phase; insert into t values (503, 'c')")]
#[case::truncated(
    "/* why */ truncate /*! table */ t; insert into t values (601, 'a'); set sql_mode = 'ansi_quotes'; truncate \"m\";
    set statement max_statement_time = 50 for truncate p"
)]
#[case::replaced(
    "create or replace table t (id int primary key, v varchar(20)); insert into t values (701, 'a');
    create or replace table m as select 7 id, 'x' v; alter table m add primary key (id)"
)]
#[case::partitions(
    "alter table p drop partition p0; insert into p values (999, 'a'); update p set v = 'b' where id = 150"
)]
#[case::partition_emptied("alter table p truncate partition p1; insert into p values (998, 'a')")]
#[case::partition_exchanged("create table o (id int primary key, v varchar(20)) engine=innodb character set utf8mb4;
    insert into o values (3, 'other'); alter table p exchange partition p0 with table o; update p set v = 'b' where id = 3; drop table o")]
#[case::cut("set sql_mode = ''; alter table t modify v varchar(2); insert into t values (801, 'abc')")]
#[case::converted("alter table t convert to character set latin1; insert into t values (901, 'ä')")]
#[case::swapped(
    "rename table t to x, plain to t, x to plain; update t set v = 'b' where id = 7; delete from plain where id = 9"
)]
#[case::copied("create table copy as select * from t; drop table copy; insert into t values (1001, 'a')")]
#[case::nothing("analyze table t; optimize table t; create view w as select * from t; drop view w; flush tables;
    create index i on t (v); drop index i on t; alter table t comment 'x'; alter table t add column z int invisible; alter table t drop column z;
    insert into t values (1101, 'a')")]
fn the_mirror_equals_its_source(#[case] sql: &str, #[values("follow", "ignore")] policy: &str) {
    // A prepared transaction keeps every other transaction on its server from starting.
    let found = if sql.contains("xa ") { Office::on_own_server(1) } else { Office::new(1) };
    let Some(office) = found else { return };
    office.sql(&office.source, "drop table permit, other");
    office.sql(&office.source, TABLES);
    let project = office.whole("mirror", policy);
    project.expect(0, RUN);
    compare(&office, &project, &["t", "m", "p", "plain"]);
    office.sql(&office.source, sql);
    project.expect(0, RUN);
    compare(&office, &project, &["t", "m", "p", "plain"]);
    // And later changes.
    office.sql(&office.source, "insert into t values (2001, 'z'); update p set v = 'y'; delete from m where id = 1");
    project.expect(0, RUN);
    compare(&office, &project, &["t", "m", "p", "plain"]);
    office.end();
}

#[rstest]
#[case("set binlog_format = statement; update t set v = 'a' where id = 1", "changed by a statement")]
#[case("set binlog_format = statement; insert into t values (77, 'a')", "changed by a statement")]
#[case("set binlog_format = statement; replace into t select id, 'x' from m", "changed by a statement")]
fn what_the_log_does_not_report_stops_the_run(#[case] sql: &str, #[case] why: &str) {
    let Some(office) = Office::empty(1) else { return };
    office.sql(&office.source, TABLES);
    let project = office.whole("mirror", "follow");
    project.expect(0, RUN);
    office.sql(&office.source, &format!("insert into t values (99, 'before'); {sql}"));
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains(why) && said.contains("--set earliest"), "{said}");
    // The next run stops as well, and earlier changes have landed.
    project.expect(6, RUN);
    let database = rusqlite::Connection::open(project.path("mirror.db")).unwrap();
    let before: i64 = database.query_row("select count(*) from t where id = 99", [], |row| row.get(0)).unwrap();
    assert_eq!(before, 1);
    project.expect(0, &["positions", "office", "--set", "earliest", "--reason", "a statement", "--yes"]);
    project.expect(0, RUN);
    compare(&office, &project, &["t", "m"]);
    office.end();
}

/// A transaction may be prepared long before it is ended, and the run stop in between.
#[test]
fn transactions_that_are_prepared_land_when_they_are_committed() {
    let Some(office) = Office::on_own_server(1) else { return };
    office.sql(&office.source, "drop table permit, other");
    office.sql(&office.source, TABLES);
    let prepare = |name: &str, sql: &str| {
        office.sql(&office.source, &format!("xa start '{name}'; {sql}; xa end '{name}'; xa prepare '{name}'"));
    };
    let project = office.whole("mirror", "follow");
    prepare("early", "insert into t values (3000, 'early')");
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("holds 1 transaction prepared by XA"), "{said}");
    office.sql(&office.source, "xa commit 'early'");
    project.expect(0, RUN);
    prepare(
        "one",
        "insert into t values (3001, 'a'); savepoint s; delete from t where id < 4; rollback to s; update t set v = 'b' where id = 8",
    );
    prepare("two", "insert into t values (3002, 'gone')");
    project.expect(0, RUN);
    office.sql(&office.source, "insert into t values (3003, 'c'); flush binary logs; insert into t values (3004, 'd')");
    project.expect(0, RUN);
    compare(&office, &project, &["t"]);
    office.sql(&office.source, "xa commit 'one'; xa rollback 'two'; update t set v = 'e' where id = 3001");
    project.expect(0, RUN);
    compare(&office, &project, &["t"]);
    office.end();
}

/// Each time it is run, not only at the statement.
#[test]
fn a_table_that_gets_another_primary_key_stops_an_event_that_was_written_by_hand() {
    let Some(office) = Office::empty(1) else { return };
    office.sql(
        &office.source,
        "create table t (id int primary key, v varchar(9) not null); insert into t values (1, 'a'), (2, 'b')",
    );
    let project = office.whole("mirror", "stop");
    project.write(
        "pipelines/office.toml",
        "pipeline = \"office\"\n[event.t]\nfields = \"id integer not null, v text\"\n[event.t.arrives]\nat = \"office\"\n\
         table = \"t\"\n[event.t.lands.copy]\nat = \"desk\"\ntable = \"t\"\nmode = \"mirror\"\nkey = \"id\"\ncreate = true\n",
    );
    project.expect(0, RUN);
    office
        .sql(&office.source, "alter table t drop primary key, add primary key (v); update t set id = 9 where v = 'a'");
    for _ in 0..2 {
        let (_, said) = project.expect(3, RUN);
        assert!(said.contains("keeps rows by (id)") && said.contains("is (v)"), "{said}");
    }
    office.end();
}

#[test]
fn tables_that_are_created_while_a_run_follows_are_read() {
    let Some(office) = Office::empty(1) else { return };
    office.sql(&office.source, TABLES);
    let project = office.whole("mirror", "follow");
    project.expect(0, RUN);
    let mut running = project.command(&["run", "office"]).stderr(std::process::Stdio::piped()).spawn().unwrap();
    office.sql(
        &office.source,
        "create table gauge (id int primary key, v varchar(20)); insert into gauge values (1, 'low')",
    );
    let rows = |table: &str| -> Option<String> {
        let database = rusqlite::Connection::open(project.path("mirror.db")).ok()?;
        database.query_row(&format!("select group_concat(v) from {table}"), [], |row| row.get(0)).ok()
    };
    let arrived = |expected: &str| {
        (0..400).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(100));
            rows("gauge").as_deref() == Some(expected)
        })
    };
    let is_loaded = arrived("low");
    office.sql(&office.source, "update gauge set v = 'high'");
    let is_followed = arrived("high");
    running.kill().unwrap();
    let output = running.wait_with_output().unwrap();
    assert!(is_loaded && is_followed, "{}", String::from_utf8_lossy(&output.stderr));
    project.expect(0, RUN);
    compare(&office, &project, &["t", "m", "p", "plain", "gauge"]);
    office.end();
}

struct Work {
    random: Random,
    next: u64,
    columns: u64,
}

impl Work {
    fn below(&mut self, n: u64) -> u64 {
        self.random.below(n)
    }

    fn table(&mut self) -> &'static str {
        ["t", "m", "p", "plain"][usize::try_from(self.below(4)).unwrap()]
    }

    /// Rows are inserted, updated and deleted.
    fn rows(&mut self) -> String {
        let (table, id) = (self.table(), self.below(300) + 1);
        self.next += 1;
        match self.below(6) {
            0 | 1 => format!("replace into {table} (id, v) values ({id}, 'r{}');", self.next),
            2 => format!("update {table} set v = 'u{}' where id between {id} and {};", self.next, id + 7),
            3 => format!("delete from {table} where id between {id} and {};", id + 2),
            // A key moves.
            4 => format!("update ignore {table} set id = {} where id = {id};", self.below(300) + 1),
            _ => format!("insert ignore into {table} (id, v) select id + {}, v from t where id < 40;", self.below(200)),
        }
    }

    fn transaction(&mut self) -> String {
        let mut sql = String::from("begin;");
        for _ in 0..self.below(5) + 1 {
            sql.push_str(&match self.below(8) {
                0 => format!("savepoint s{};", self.below(2)),
                // Without a savepoint there is nothing to roll back to.
                1 => format!("savepoint s{0}; {1} rollback to s{0};", self.below(2), self.rows()),
                2 => "create temporary table if not exists tt (id int); insert into tt values (1);".into(),
                _ => self.rows(),
            });
        }
        sql + if self.below(4) == 0 { "rollback;" } else { "commit;" }
    }

    /// The columns of a table change, or all of its rows at once.
    fn form(&mut self) -> String {
        let table = self.table();
        self.columns += 1;
        let column = format!("c{}", self.columns);
        match self.below(14) {
            0 => format!("/* x */ truncate table {table};"),
            1 => format!("set sql_mode = 'ansi_quotes'; truncate \"{table}\"; set sql_mode = '';"),
            2 => "rename table t to swap, plain to t, swap to plain;".into(),
            3 => "alter table p truncate partition p0;".into(),
            4 => "create or replace temporary table t2 (id int); drop temporary table t2;".into(),
            5 => format!(
                "alter table {table} add column {column} int default 5; alter table {table} drop column {column};"
            ),
            6 => format!(
                "set sql_mode = ''; alter table {table} modify v varchar({}); set sql_mode = '';",
                self.below(20) + 2
            ),
            7 => "create or replace table t (id int primary key, v varchar(20)) engine=innodb character set utf8mb4;"
                .into(),
            8 => format!("create index i_{column} on {table} (v); drop index i_{column} on {table};"),
            9 => format!("alter table {table} comment '{column}'; analyze table {table};"),
            10 => format!("optimize table {table}; flush binary logs;"),
            11 => format!("lock tables {table} write; delete from {table} where id = 7; unlock tables;"),
            12 => {
                format!("set statement max_statement_time = 60 for delete from {table} where id = {};", self.below(300))
            }
            _ => "create table other as select * from t; drop table other;".into(),
        }
    }

    fn script(&mut self) -> String {
        (0..self.below(6) + 2)
            .map(|_| match self.below(9) {
                0 => self.form(),
                1..=3 => self.rows(),
                _ => self.transaction(),
            })
            .collect::<Vec<_>>()
            .join("\n")
    }
}

#[test]
fn after_any_work_the_mirror_equals_its_source() {
    for seed in work::seeds(5) {
        let Some(office) = Office::empty(seed) else { return };
        office.sql(&office.source, TABLES);
        let policy = if seed % 2 == 0 { "follow" } else { "ignore" };
        let project = office.whole("mirror", policy);
        let mut work = Work { random: Random::of(seed), next: 0, columns: 0 };
        eprintln!("seed {seed}, {policy}");
        for _ in 0..6 {
            let script = work.script();
            eprintln!("{script}\n--");
            let sql = format!("set sql_mode = '';\n{script}");
            if work::round(&project, &mut work.random, || drop(office.sql(&office.source, &sql))) {
                compare(&office, &project, &["t", "m", "p", "plain"]);
            }
        }
        project.expect(0, RUN);
        compare(&office, &project, &["t", "m", "p", "plain"]);
        office.end();
    }
}
