//! Changes that PostgreSQL does not write to its log: they are still followed, or refused.

use std::time::Duration;

use crate::common::feeds::{Office, script};
use crate::common::running::Running;
use crate::common::tables::{Database, psql};
use crate::common::work::{RUN, Random};
use crate::common::{feeds, work};
use rstest::rstest;

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

/// Statements after the tables were loaded. Changes before them concern rows that are deleted.
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
        let running = Running::following(&project, &["run", "office"]);
        assert!(script(&office.source, sql));
        let came = (0..300).any(|_| {
            std::thread::sleep(Duration::from_millis(100));
            compare()
        });
        let (code, said) = running.settle();
        assert!(came && code == 0, "{said}");
    } else {
        assert!(script(&office.source, sql));
        project.expect(0, RUN);
        for table in ["parted", "plain"] {
            assert_eq!(rows(&office.target.url, table), rows(&office.source, table), "{table}");
        }
    }
    // And later changes.
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
    "publishes its partitions"
)]
fn what_the_log_would_not_report_is_refused(#[case] sql: &str, #[case] publication: &str, #[case] why: &str) {
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

/// Work at random, so that a seed gives the same everywhere.
struct Work {
    random: Random,
    next: u64,
}

impl Work {
    fn below(&mut self, n: u64) -> u64 {
        self.random.below(n)
    }

    fn rows(&mut self) -> String {
        let table = ["parted", "plain"][usize::try_from(self.below(2)).unwrap()];
        let id = self.below(900) + 1;
        self.next += 1;
        let n = self.next;
        match self.below(6) {
            0 | 1 => format!("insert into {table} values ({id}, 'i{n}') on conflict (id) do update set v = 'c{n}';"),
            2 => format!("update {table} set v = 'u{n}' where id between {id} and {};", id + 9),
            3 => format!("delete from {table} where id between {id} and {};", id + 3),
            // A key moves, from one partition to another at times.
            4 => format!(
                "update {table} set id = {} where id = {id} and not exists (select from {table} where id = {0});",
                self.below(900) + 1
            ),
            _ => format!(
                "insert into {table} select id + {}, v from plain where id < 30 on conflict do nothing;",
                self.below(400)
            ),
        }
    }

    fn transaction(&mut self) -> String {
        let mut sql = String::from("begin;");
        for _ in 0..self.below(4) + 1 {
            let rows = self.rows();
            sql.push_str(&match self.below(6) {
                0 => format!("savepoint s; {rows} rollback to s;"),
                1 => format!("savepoint s; {rows} release s;"),
                _ => rows,
            });
        }
        sql + if self.below(4) == 0 { "rollback;" } else { "commit;" }
    }

    fn form(&mut self) -> String {
        self.next += 1;
        let n = self.next;
        match self.below(11) {
            0 => "truncate parted_low;".into(),
            1 => "truncate plain;".into(),
            2 => "truncate parted;".into(),
            3 => "alter table plain alter v type text using upper(v);".into(),
            4 => "vacuum full plain;".into(),
            5 => format!(
                "create table x{n} (id int primary key, v text); insert into x{n} select g, 'x' from generate_series({0}, {0} + 20) g;
                 alter table parted attach partition x{n} for values from ({0}) to ({0} + 50);",
                n * 100 + 1000
            ),
            6 => format!("create table x{n} partition of parted for values from ({0}) to ({0} + 50);", n * 100 + 1000),
            7 => "alter table parted detach partition parted_low; delete from parted_low where id % 2 = 0;
                  alter table parted attach partition parted_low for values from (0) to (100);"
                .into(),
            8 => format!("alter table plain add column c{n} text default 'd'; alter table plain drop column c{n};"),
            9 => "cluster plain using plain_pkey; analyze;".into(),
            _ => format!("create index i{n} on plain (v); drop index i{n};"),
        }
    }

    fn script(&mut self) -> String {
        let one = |work: &mut Self| match work.below(8) {
            0 => work.form(),
            1..=3 => work.rows(),
            _ => work.transaction(),
        };
        (0..self.below(6) + 2).map(|_| one(self)).collect::<Vec<_>>().join("\n")
    }
}

#[test]
fn after_any_work_the_mirror_equals_its_source() {
    for seed in work::seeds(3) {
        let Some(database) = Database::new() else { return };
        let office = Office::new(database, 1);
        assert!(script(&office.source, PARTED));
        let policy = if seed % 2 == 0 { "follow" } else { "ignore" };
        let text = feeds::whole("batch = { every = \"200ms\" }").replace("\"follow\"", &format!("\"{policy}\""));
        let project = office.project(&text);
        let mut work = Work { random: Random::of(seed), next: 0 };
        eprintln!("seed {seed}, {policy}");
        let compare = || {
            for table in ["parted", "plain"] {
                assert_eq!(rows(&office.target.url, table), rows(&office.source, table), "{table}");
            }
        };
        for _ in 0..5 {
            let sql = work.script();
            eprintln!("{sql}\n--");
            if work::round(&project, &mut work.random, || assert!(script(&office.source, &sql), "{sql}")) {
                compare();
            }
        }
        project.expect(0, RUN);
        compare();
        office.drop();
    }
}
