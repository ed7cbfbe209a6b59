//! What the log of MariaDB tells beside rows: transactions that are rolled back in part or whole, distributed ones, and
//! statements that change tables. The mirror equals its source afterwards, or the run stops and says why.
//!
//! Needs the feature `failpoints` and MariaDB, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;
#[path = "common/feeds_mariadb.rs"]
mod feeds_mariadb;

use common::TestProject;
use feeds_mariadb::Office;
use rstest::rstest;

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

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
    // What is prepared keeps all others on its server from beginning.
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
    // And what comes afterwards.
    office.sql(&office.source, "insert into t values (2001, 'z'); update p set v = 'y'; delete from m where id = 1");
    project.expect(0, RUN);
    compare(&office, &project, &["t", "m", "p", "plain"]);
    office.end();
}

#[rstest]
#[case("set binlog_format = statement; update t set v = 'a' where id = 1", "changed by a statement")]
#[case("set binlog_format = statement; insert into t values (77, 'a')", "changed by a statement")]
#[case("set binlog_format = statement; replace into t select id, 'x' from m", "changed by a statement")]
fn what_the_log_does_not_tell_stops_the_run(#[case] sql: &str, #[case] why: &str) {
    let Some(office) = Office::empty(1) else { return };
    office.sql(&office.source, TABLES);
    let project = office.whole("mirror", "follow");
    project.expect(0, RUN);
    office.sql(&office.source, &format!("insert into t values (99, 'before'); {sql}"));
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains(why) && said.contains("--set earliest"), "{said}");
    // It stays so, and what came before has landed.
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
