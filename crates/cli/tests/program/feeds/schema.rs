//! Whole schemas are mirrored from a pattern and a template, and followed when their columns change.

use crate::common::feeds;
use crate::common::feeds::{Office, script};
use crate::common::running::Running;
use crate::common::tables::{Database, psql};
use rstest::rstest;

const RUN: &[&str] = &["run", "office", "--until-caught-up"];
const GO_ON: &[&str] = &["run", "office"];

#[test]
fn ten_lines_mirror_a_whole_schema() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let text = feeds::whole("").replace("load_rows = 300\n", "");
    assert!(text.lines().filter(|l| !l.is_empty()).count() <= 10, "{text}");
    let project = office.project(&text);
    let (said, _) = project.expect(0, &["check"]);
    assert!(said.contains("berth 3 fields") && said.contains("permit 7 fields"), "{said}");
    // `check` writes nothing; a run keeps the tables that it found, and other commands read those.
    assert!(!project.path(".sluice/written").exists());
    project.expect(0, RUN);
    office.check_whole_mirrors();
    assert!(project.path(".sluice/written/office.toml").exists());
    assert!(script(&office.source, "create table toll (id integer primary key); insert into toll values (1), (2);"));
    project.expect(0, RUN);
    assert_eq!(psql(&office.target.url, "select count(*) from toll"), ["2"]);
    office.check_whole_mirrors();
    office.drop();
}

#[test]
fn a_table_of_its_own_is_no_part_of_the_pattern() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let own = "[event.licence]\nkey = \"permit_id\"\nfields = \"permit_id integer not null, note text\"\n\
               [event.licence.arrives]\nat = \"office\"\ntable = \"permit\"\n[event.licence.lands.copy]\nat = \"warehouse\"\n\
               table = \"licence\"\nmode = \"mirror\"\ncreate = true\ncolumns = \"permit_id, sha256(note) as note\"\n";
    let project = office.project(&(feeds::whole("") + own));
    project.expect(0, RUN);
    assert_eq!(psql(&office.target.url, "select count(*), max(length(note)) from licence"), ["2000\t64"]);
    assert_eq!(psql(&office.target.url, "select count(*) from pg_class where relname = 'permit'"), ["0"]);
    assert_eq!(psql(&office.target.url, "select count(*) from vessel"), ["50"]);
    office.drop();
}

#[test]
fn what_the_log_does_not_report_of_new_columns_is_read_again() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::whole(""));
    project.expect(0, RUN);
    // With a default, renamed, with neither, and none of it touched by a change afterwards.
    let alter = "alter table vessel add column flag text default 'T'; alter table berth rename column free to is_free;
                 alter table permit add column gone text; alter table permit add column berth text;";
    assert!(script(&office.source, alter));
    assert!(script(
        &office.source,
        "update permit set berth = 'B' where permit_id < 9; alter table permit drop column gone;"
    ));
    let (_, said) = project.expect(0, RUN);
    assert!(said.contains("added columns"), "{said}");
    office.check_whole_mirrors();
    // During a run: it reports the new column, follows it, and continues.
    let mut running = Running::following(&project, GO_ON);
    assert!(script(
        &office.source,
        "alter table vessel add column crew integer default 3; update vessel set name = 'n';"
    ));
    let there = "select count(*) from information_schema.columns where table_name = 'vessel' and column_name = 'crew'";
    let came = (0..200).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(100));
        psql(&office.target.url, there) == ["1"]
    });
    let still = running.goes_on();
    let (code, said) = running.settle();
    assert!(came && still && code == 0, "{said}");
    assert!(said.contains("column crew was added") && said.contains("public.vessel changed at"), "{said}");
    project.expect(0, RUN);
    office.check_whole_mirrors();
    office.drop();
}

#[test]
fn a_type_that_the_landing_cannot_take_stops_the_run_with_the_statement() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::whole(""));
    project.expect(0, RUN);
    let alter = "update berth set free = true; alter table berth alter column free type text using 'is ' || free;
                 update berth set free = 'perhaps' where place < 3;";
    assert!(script(&office.source, alter));
    let (_, said) = project.expect(3, RUN);
    assert!(said.contains("free") && said.contains("alter table"), "{said}");
    project.expect(0, &["check", "--apply", "--yes"]);
    project.expect(0, RUN);
    office.check_whole_mirrors();
    office.drop();
}

#[rstest]
#[case("tables = \"*\"", "tables = [\"permt\", \"*\"]", "`permt` in `tables` names no table", "did you mean `permit`?")]
#[case(
    "tables = \"*\"",
    "tables = \"*\"\nexcept = \"vesel\"",
    "`vesel` in `except` names no table",
    "did you mean `vessel`?"
)]
#[case("mode = \"mirror\"", "mode = \"miror\"", "`mode` cannot be `miror`", "for public.berth and 2 more")]
#[case("at = \"office\"", "at = \"archive\"", "has no tables that can be followed", "choose a connection")]
#[case("create = true", "create = true\ntable = \"all\"", "would be kept in one and the same", "gives each its own")]
#[case("at = \"warehouse\"", "at = \"office\"", "writes into the table that it is read from", "another connection")]
fn mistakes_are_shown_where_they_are_written(
    #[case] right: &str,
    #[case] wrong: &str,
    #[case] message: &str,
    #[case] help: &str,
) {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::whole("").replace(right, wrong));
    let (_, said) = project.expect(3, &["check"]);
    assert!(said.to_lowercase().contains(message) && said.contains(help), "{said}");
    let line = project.json_of(3, &["check"])["problems"][0]["place"]["line"].as_u64().unwrap();
    assert!((3..=13).contains(&line), "line {line}");
    office.drop();
}

/// The run may read the schema between the statements: a dropped table then returns as a new one.
#[rstest]
#[case("")]
#[case("select pg_sleep(2);")]
fn renamed_dropped_and_recreated_tables_are_followed(#[case] between: &str) {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::whole("batch = { every = \"200ms\" }"));
    project.expect(0, RUN);
    let running = Running::following(&project, GO_ON);
    // Changes before a table was dropped land.
    assert!(script(&office.source, "update berth set free = true; drop table berth;"));
    let sql = format!(
        "alter table vessel rename to ship; insert into ship values ('V-99', 'late', 9); drop table permit; {between}
         create table permit (permit_id integer primary key, class text); insert into permit values (1, 'new');"
    );
    let target = office.target.url.clone();
    let arrived = |sql: &str, expected: &str| {
        (0..600).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(100));
            psql(&target, sql) == [expected]
        })
    };
    let all_free = arrived("select bool_and(free) from berth", "t");
    assert!(script(&office.source, &sql));
    let has_ship = "select count(*) from pg_class where relname = 'ship'";
    let came = all_free
        && arrived(has_ship, "1")
        && arrived("select count(*) from ship where vessel_no = 'V-99'", "1")
        && arrived("select string_agg(permit_id || class, ' ') from permit", "1new");
    let there = |sql: &str| format!("{:?}", psql(&office.target.url, sql));
    let ships = if came { String::new() } else { there("select vessel_no from ship") };
    let permits = there("select permit_id || class from permit");
    let (code, said) = running.settle();
    assert!(came && code == 0, "{said}\nfree: {all_free}, ships: {ships}, permits: {permits}, exit: {code}");
    assert!(said.contains("it was renamed to public.ship"), "{said}");
    assert_eq!(psql(&office.target.url, "select count(*) from ship"), ["51"]);
    office.drop();
}

#[test]
fn an_event_that_was_taken_out_and_comes_back_equals_its_table() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::whole(""));
    project.expect(0, RUN);
    let all = feeds::whole("");
    project.write("pipelines/office.toml", all.replace("tables = \"*\"", "tables = \"*\"\nexcept = \"vessel\""));
    project.expect(0, RUN);
    assert!(script(&office.source, "delete from vessel where vessel_no < 'V-3';"));
    project.expect(0, RUN);
    project.write("pipelines/office.toml", &all);
    project.expect(0, RUN);
    office.check_whole_mirrors();
    office.drop();
}

#[test]
fn tables_that_come_while_a_run_follows_are_read_and_one_that_cannot_be_is_named() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::whole("batch = { every = \"200ms\" }"));
    project.expect(0, RUN);
    let running = Running::following(&project, GO_ON);
    assert!(script(&office.source, "create table scratch (words text); insert into scratch values ('x');"));
    std::thread::sleep(std::time::Duration::from_secs(7));
    let sql = "drop table scratch; create table gauge (gauge_id integer primary key, level numeric(6,2));
               insert into gauge values (1, 2.5);";
    assert!(script(&office.source, sql));
    let target = office.target.url.clone();
    let arrived = |sql: &str, expected: &str| {
        (0..600).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(100));
            psql(&target, sql) == [expected]
        })
    };
    let has_gauge = arrived("select count(*) from pg_class where relname = 'gauge'", "1");
    let came = has_gauge && arrived("select string_agg(level::text, ' ') from gauge", "2.50");
    let goes_on =
        came && script(&office.source, "insert into gauge values (2, 7); delete from gauge where gauge_id = 1");
    let goes_on = goes_on && arrived("select string_agg(level::text, ' ') from gauge", "7.00");
    let (code, said) = running.settle();
    assert!(goes_on && code == 0, "{said}");
    assert!(
        said.contains("public.scratch is at the source now and cannot be read: public.scratch has no primary"),
        "{said}"
    );
    assert!(said.contains("public.gauge is at the source now\n  public.gauge is read from now on\n"), "{said}");
    office.check_whole_mirrors();
    office.drop();
}

#[test]
fn a_recreated_table_stops_an_event_that_was_written_by_hand() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::pipeline(""));
    project.expect(0, RUN);
    let sql = "create table other as table vessel; drop table vessel; alter table other rename to vessel;
               alter table vessel add primary key (vessel_no); delete from vessel where vessel_no < 'V-3';";
    assert!(script(&office.source, sql));
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("public.vessel was recreated") && said.contains("--set earliest"), "{said}");
    let begin = ["positions", "office", "--set", "earliest", "--reason", "recreated", "--yes"];
    let (shown, _) = project.expect(0, &begin);
    assert!(shown.contains("mirrors are emptied"), "{shown}");
    project.expect(0, RUN);
    // Rows of the dropped table are deleted from the mirror too, and by the changes of the log.
    office.check_mirrors();
    office.check_logs();
    office.drop();
}

#[test]
fn a_table_without_a_key_is_named_with_what_leaves_it_out() {
    let Some(database) = Database::new() else { return };
    let office = Office::with_journal(database, 1);
    let project = office.project(&feeds::whole(""));
    let (_, said) = project.expect(3, &["check"]);
    assert!(said.contains("public.journal has no primary key") && said.contains("mode = \"mirror\""), "{said}");
    let remedy = "except = \"public.journal\"";
    assert!(said.contains(remedy), "{said}");
    let text = feeds::whole("").replace("tables = \"*\"", &format!("tables = \"*\"\n{remedy}"));
    project.write("pipelines/office.toml", &text);
    project.expect(0, &["check"]);
    // As a log of changes it needs no key.
    let log = text.replace(remedy, "").replace("tables = \"*\"", "tables = \"journal\"").replace("mirror", "changes");
    project.write("pipelines/office.toml", log);
    project.expect(0, RUN);
    assert_eq!(psql(&office.target.url, "select count(*) from journal where _change = 'loaded'"), ["1500"]);
    let overview = project.expect(0, &[]).0;
    assert!(overview.contains("caught up") || overview.contains("of the log"), "{overview}");
    office.drop();
}

#[test]
fn an_event_written_by_hand_cannot_follow() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::pipeline("").replace("\"ignore\"", "\"follow\""));
    let (_, said) = project.expect(3, RUN);
    assert!(said.contains("the columns of this event are those that `fields` names") && said.contains("[each.NAME]"));
    office.drop();
}

#[test]
fn a_source_that_is_away_is_said_and_what_was_known_can_be_looked_at() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let project = office.project(&feeds::whole(""));
    project.expect(0, RUN);
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    let port = text.split("127.0.0.1:").nth(1).unwrap().split('/').next().unwrap().to_string();
    project.write("sluice.toml", text.replacen(&format!("127.0.0.1:{port}"), "127.0.0.1:1", 1));
    let (_, said) = project.expect(5, RUN);
    assert!(said.contains("127.0.0.1:1"), "{said}");
    let batches = project.json(&["ledger", "office"]);
    assert!(!batches["batches"].as_array().unwrap().is_empty());
    project.expect(0, &["check", "--offline"]);
    office.drop();
}
