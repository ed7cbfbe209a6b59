//! What PostgreSQL changes without a word in its log: it is followed all the same, or refused.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;
#[path = "common/feeds.rs"]
mod feeds;
#[path = "common/tables.rs"]
mod tables;

use std::process::Stdio;
use std::time::Duration;

use feeds::{Office, script};
use rstest::rstest;
use tables::{Database, psql};

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

const PARTED: &str = "
    create table parted (id int primary key, v text) partition by range (id);
    create table parted_low partition of parted for values from (0) to (100);
    create table parted_high partition of parted for values from (100) to (1000);
    insert into parted select n, 'v' || n from generate_series(1, 300) n;
    create table plain (id int primary key, v text);
    insert into plain select n, 'v' || n from generate_series(1, 1500) n;
";

fn rows(url: &str, table: &str) -> Vec<String> {
    psql(url, &format!("select id, v from {table} order by id"))
}

/// Statements after the tables were loaded. Changes before them are of rows that go.
#[rstest]
#[case::truncated(
    "update parted set v = 'gone' where id = 5; truncate parted_low; insert into parted values (6, 'new')"
)]
#[case::detached(
    "update parted set v = 'gone' where id = 105; alter table parted detach partition parted_high; update parted_high set v = 'x'"
)]
#[case::dropped(
    "update parted set v = 'gone' where id = 105; drop table parted_high; insert into parted values (7000 % 100, 'new') on conflict do nothing"
)]
#[case::attached("create table more (id int primary key, v text); insert into more select n, 'more' from generate_series(1000, 1200) n;
    alter table parted attach partition more for values from (1000) to (2000); insert into parted values (1500, 'new')")]
#[case::made(
    "create table more partition of parted for values from (1000) to (2000); insert into parted values (1500, 'new')"
)]
#[case::swapped("begin; alter table parted detach partition parted_low; create table low (id int primary key, v text); insert into low
    values (3, 'other'); alter table parted attach partition low for values from (0) to (100); commit; drop table parted_low")]
#[case::written_anew(
    "update plain set v = 'gone' where id = 7; alter table plain alter v type text using upper(v); update plain set v = 'x' where id = 8"
)]
#[case::harmless(
    "vacuum full plain; cluster plain using plain_pkey; alter table plain alter v set statistics 50; alter table plain alter v set default 'd'; analyze; insert into plain values (5000)"
)]
#[case::prepared("begin; update plain set v = 'p' where id = 9; savepoint s; delete from plain; rollback to s; commit")]
fn rows_that_are_exchanged_in_silence_are_loaded_again(#[case] sql: &str, #[values(false, true)] runs: bool) {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    assert!(script(&office.source, PARTED));
    let project = office.project(&feeds::whole("batch = { every = \"200ms\" }"));
    project.expect(0, RUN);
    let compare = || ["parted", "plain"].iter().all(|t| rows(&office.source, t) == rows(&office.target.url, t));
    assert!(compare());
    if runs {
        let running = project.command(&["run", "office"]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(900));
        assert!(script(&office.source, sql));
        let came = (0..300).any(|_| {
            std::thread::sleep(Duration::from_millis(100));
            compare()
        });
        let _ = std::process::Command::new("kill").args(["-TERM", &running.id().to_string()]).status();
        let output = running.wait_with_output().unwrap();
        assert!(came && output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    } else {
        assert!(script(&office.source, sql));
        project.expect(0, RUN);
        for table in ["parted", "plain"] {
            assert_eq!(rows(&office.target.url, table), rows(&office.source, table), "{table}");
        }
    }
    // And what comes afterwards.
    assert!(script(
        &office.source,
        "update parted set v = v || '!' where id % 3 = 0; delete from plain where id % 2 = 0"
    ));
    project.expect(0, RUN);
    assert!(compare());
    office.drop();
}

#[rstest]
#[case("create unlogged table t (id int primary key)", "", "is unlogged")]
#[case("create table t (id int primary key); create table u () inherits (t)", "", "inherit from it")]
#[case(
    "create table t (id int primary key, b int not null); create unique index i on t (b); alter table t replica identity using index i",
    "",
    "lacks columns of the primary key"
)]
#[case(
    "create table t (id int primary key); create publication p for table t where (id > 5)",
    "p",
    "leaves rows of it out"
)]
#[case(
    "create table t (id int primary key, b int); create publication p for table t (id)",
    "p",
    "leaves columns of it out"
)]
#[case(
    "create table t (id int primary key); create publication p for table t with (publish = 'insert')",
    "p",
    "kinds of changes"
)]
#[case(
    "create table t (id int primary key) partition by range (id); create table u partition of t default; create publication p for table t",
    "p",
    "tells of its partitions"
)]
fn what_the_log_would_not_tell_is_refused(#[case] sql: &str, #[case] publication: &str, #[case] why: &str) {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    assert!(script(&office.source, &sql.replace("table p ", "table p_")));
    let given = if publication.is_empty() { String::new() } else { format!("publication = \"{publication}\"\n") };
    let project = office.project(&format!(
        "pipeline = \"office\"\n[event.t]\nfields = \"id integer not null\"\n[event.t.arrives]\nat = \"office\"\ntable = \"t\"\n{given}\
         [event.t.lands.copy]\nat = \"warehouse\"\nmode = \"mirror\"\ntable = \"t\"\nkey = \"id\"\ncreate = true\n"
    ));
    for command in [&["check"][..], RUN] {
        let (_, said) = project.expect(3, command);
        assert!(said.contains(why) && said.contains("public.t"), "{said}");
    }
    office.drop();
}
