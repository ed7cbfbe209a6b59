//! Tables of PostgreSQL are followed: what lands where, what stops a run, and what `check` reports before a run.

use crate::common::TestProject;
use crate::common::feeds::{Office, script};
use crate::common::running::Running;
use crate::common::tables::{Database, psql};
use serde_json::Value;

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

/// One table into a mirror and, as rows, into files.
fn pipeline(arrives: &str, mirror: &str) -> String {
    format!(
        "pipeline = \"office\"\n[event.permit]\nfields = \"permit_id integer not null, class text, tons decimal(8,2), note \
         text\"\n[event.permit.arrives]\nat = \"office\"\ntable = \"permit\"\n{arrives}\n[event.permit.lands.copy]\nat = \
         \"warehouse\"\ntable = \"permit\"\nmode = \"mirror\"\nkey = \"permit_id\"\ncreate = true\n{mirror}\n\
         [event.permit.lands.files]\nat = \"archive\"\npath = \"permits\"\nformat = \"jsonl\"\n"
    )
}

fn office(text: &str) -> Option<(Office, TestProject)> {
    let office = Office::new(Database::new()?, 1);
    let project = office.project(text);
    Some((office, project))
}

fn count(office: &Office, condition: &str) -> u64 {
    psql(&office.target.url, &format!("select count(*) from permit where {condition}"))[0].parse().unwrap()
}

fn files(project: &TestProject) -> Vec<Value> {
    let mut rows = Vec::new();
    for path in crate::common::visible_files(&project.path("archive/permits")) {
        let text = std::fs::read_to_string(path).unwrap();
        rows.extend(text.lines().map(|line| serde_json::from_str::<Value>(line).unwrap()));
    }
    rows.sort_by_key(|r| (r["position"].as_u64(), r["within"].as_u64()));
    rows
}

#[test]
fn changes_land_as_rows_and_in_a_mirror_under_a_condition() {
    let Some((office, project)) = office(&pipeline("", "when = \"tons > 100\"")) else { return };
    project.expect(0, RUN);
    assert_eq!(count(&office, "true"), 1900);
    let before = files(&project).len();
    assert!(script(
        &office.source,
        "update permit set tons = 50 where permit_id = 500; update permit set tons = 5000 where permit_id = 7;
         update permit set permit_id = 99999 where permit_id = 600; delete from permit where permit_id = 700;
         update permit set note = repeat('z', 5000) where permit_id = 800;
         update permit set class = 'Q' where permit_id = 800;"
    ));
    project.expect(0, RUN);
    // Row 7 was added by its update, 500 and 700 were deleted, 600 has a new key.
    assert_eq!(count(&office, "true"), 1900 + 1 - 2);
    assert_eq!(count(&office, "permit_id in (500, 600, 700)"), 0);
    assert_eq!(count(&office, "permit_id = 800 and length(note) = 5000 and class = 'Q'"), 1);
    let rows = files(&project);
    let new: Vec<String> = rows[before..]
        .iter()
        .map(|r| format!("{} {} {}", r["change"].as_str().unwrap(), r["permit_id"], r["absent"]))
        .collect();
    let expected = [
        "updated 500 null",
        "updated 7 null",
        "deleted 600 null",
        "inserted 99999 null",
        "deleted 700 null",
        "updated 800 null",
        "updated 800 \"note\"",
    ];
    assert_eq!(new, expected);
    office.drop();
}

/// The log reports changes of rows by their primary key: a mirror by another one would keep rows that are not there any more.
#[test]
fn a_mirror_by_another_key_than_its_source_is_refused_and_so_is_one_whose_source_gets_another_key() {
    let by_vessel = pipeline("", "").replace("key = \"permit_id\"", "key = \"class\"");
    let Some((office, project)) = office(&by_vessel) else { return };
    for command in [&["check", "office"][..], RUN] {
        let (out, err) = project.expect(3, command);
        let said = out + &err;
        assert!(
            said.contains("permit.copy keeps rows by (class), and the primary key of public.permit is (permit_id)"),
            "{said}"
        );
    }
    // The same through a made event whose columns have other names.
    let made = |key: &str| {
        let mirror =
            "[event.permit.lands.copy]\nat = \"warehouse\"\ntable = \"permit\"\nmode = \"mirror\"\nkey = \"permit_id\"";
        let of = "[event.heavy.made]\nof = \"permit\"\ncolumns = \"permit_id + 0 as number, class as code, tons, origin.change as what\"\n";
        let lands = mirror.replace("event.permit", "event.heavy").replace("\"permit_id\"", &format!("\"{key}\""));
        assert!(pipeline("", "").contains(mirror));
        pipeline("", "").replace(mirror, &format!("{of}{lands}\nchange = \"what\""))
    };
    project.write("pipelines/office.toml", made("code"));
    let (out, err) = project.expect(3, &["check", "office"]);
    let said = out + &err;
    assert!(said.contains("heavy.copy keeps rows by (class), and the primary key of public.permit is"), "{said}");
    psql(&office.target.url, "drop table if exists permit");
    project.write("pipelines/office.toml", made("number"));
    let (out, err) = project.expect(0, &["check", "office"]);
    assert!(!(out + &err).contains("keeps rows by"));
    project.write("pipelines/office.toml", pipeline("", ""));
    project.expect(0, RUN);
    let sql = "alter table permit add column code text; update permit set code = 'C' || permit_id;
               alter table permit alter code set not null; alter table permit drop constraint permit_pkey;
               alter table permit add primary key (code); delete from permit where code = 'C7';";
    assert!(script(&office.source, sql));
    let (_, said) = project.expect(3, RUN);
    assert!(said.contains("keeps rows by (permit_id), and the primary key of public.permit is (code)"), "{said}");
    office.drop();
}

#[test]
fn a_primary_key_that_changes_while_it_is_followed_stops_the_run() {
    let Some((office, project)) = office(&pipeline("schema_change = \"ignore\"", "")) else { return };
    project.expect(0, RUN);
    let running = Running::following(&project, &["run", "office"]);
    let sql = "alter table permit alter vessel_no set not null; update permit set vessel_no = vessel_no || permit_id;
               alter table permit drop constraint permit_pkey; alter table permit add primary key (vessel_no);
               delete from permit where permit_id = 7; update permit set permit_id = 70000 where permit_id = 70;";
    assert!(script(&office.source, sql));
    let (code, said) = running.end();
    assert!(said.contains("its primary key is now (vessel_no); it was (permit_id)"), "{said}");
    assert_eq!(code, 6, "{said}");
    assert_eq!(count(&office, "permit_id in (7, 70)"), 2);
    office.drop();
}

/// A row that enters a condition by a change of its key, and comes without its large value, must not vanish nor take the
/// value of another row.
#[test]
fn a_row_that_enters_by_its_key_without_all_of_its_values_stops_the_run() {
    let Some((office, project)) = office(&pipeline("", "when = \"permit_id > 100000\"")) else { return };
    assert!(script(
        &office.source,
        "alter table permit alter note set storage external; update permit set note = repeat('a', 9000) where permit_id = 5;
         update permit set note = repeat('b', 9000) where permit_id = 6;"
    ));
    project.expect(0, RUN);
    assert_eq!(count(&office, "true"), 0);
    // Two rows get new keys in one transaction; only the second one's delete passes the condition's other side.
    assert!(script(
        &office.source,
        "begin; update permit set permit_id = 100006 where permit_id = 6; update permit set permit_id = 100005 where \
         permit_id = 5; commit;"
    ));
    let (_, err) = project.expect(4, RUN);
    assert!(err.contains("replica identity full"), "{err}");
    assert_eq!(count(&office, "true"), 0);
    office.drop();
}

#[test]
fn a_transaction_is_not_split_unless_it_alone_is_too_large() {
    for (limits, expected) in [
        ("rows = 100, every = \"1h\"", vec![150, 100, 100, 100]),
        ("rows = 100, every = \"1h\", transactions = \"whole\"", vec![150, 300]),
    ] {
        let text = format!("batch = {{ {limits} }}\n");
        let Some((office, project)) = office(&pipeline("load = \"never\"", "").replacen('\n', &format!("\n{text}"), 1))
        else {
            return;
        };
        project.expect(0, RUN);
        for (from, to) in [(1, 90), (91, 150), (1, 300)] {
            let sql = format!("update permit set class = 'T' where permit_id between {from} and {to}");
            psql(&office.source, &sql);
        }
        project.expect(0, RUN);
        let ledger = project.json(&["ledger", "office"]);
        let batches = ledger["batches"].as_array().unwrap();
        let mut read: Vec<u64> = batches.iter().map(|b| b["read"].as_u64().unwrap()).filter(|n| *n > 0).collect();
        if batches.first().unwrap()["number"].as_u64() > batches.last().unwrap()["number"].as_u64() {
            read.reverse();
        }
        assert_eq!(read, expected, "{limits}");
        office.drop();
    }
}

#[test]
fn a_new_column_holds_at_its_place_until_the_contract_says_what_becomes_of_it() {
    let Some((office, project)) = office(&pipeline("", "")) else { return };
    project.expect(0, RUN);
    assert!(script(
        &office.source,
        "update permit set class = 'before' where permit_id = 1; alter table permit add column berth text;
         update permit set class = 'after', berth = 'B7' where permit_id = 2;"
    ));
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("public.permit changed at") && said.contains("column berth was added"), "{said}");
    assert_eq!((count(&office, "class = 'before'"), count(&office, "class = 'after'")), (1, 0));
    let text = std::fs::read_to_string(project.path("pipelines/office.toml")).unwrap();
    project.write("pipelines/office.toml", text.replace("note text\"", "note text, berth text\""));
    project.expect(0, RUN);
    assert_eq!(count(&office, "class = 'after' and berth = 'B7'"), 1);
    assert!(script(
        &office.source,
        "alter table permit rename to licence; alter table licence rename column class to kind; update licence set kind = 'x';"
    ));
    let (_, said) = project.expect(3, RUN);
    assert!(said.contains("no table `permit`"), "{said}");
    office.drop();
}

#[test]
fn mistakes_are_said_before_anything_runs() {
    let wrong = pipeline("", "").replace("\"permit\"\n", "\"permitt\"\n");
    let Some((office, project)) = office(&wrong) else { return };
    let (_, said) = project.expect(3, &["check"]);
    assert!(said.contains("there is no table `permitt`") && said.contains("`permit`"), "{said}");
    let text = pipeline("", "columns = \"permit_id, note || class as label\"").replace("tons decimal", "tonns decimal");
    project.write("pipelines/office.toml", text);
    let (_, said) = project.expect(3, &["check"]);
    assert!(said.contains("public.permit has no column `tonns`") && said.contains("`tons`"), "{said}");
    assert!(said.contains("replica identity full"), "{said}");
    assert!(script(&office.source, "create table loose (a integer);"));
    project.write("pipelines/office.toml", pipeline("", "").replace("table = \"permit\"\n", "table = \"loose\"\n"));
    let (_, said) = project.expect(3, &["check"]);
    assert!(said.contains("public.loose has no primary key") && said.contains("load = \"never\""), "{said}");
    let upsert = pipeline("", "").replace("mode = \"mirror\"", "mode = \"upsert\"");
    project.write("pipelines/office.toml", upsert);
    let (_, said) = project.expect(3, &["check", "--offline"]);
    assert!(said.contains("can be deleted"), "{said}");
}

#[test]
fn a_change_that_breaks_its_contract_holds_a_mirror_unless_it_may_go() {
    let text = pipeline("", "").replace("class text", "class integer");
    let Some((office, project)) = office(&text) else { return };
    assert!(script(&office.source, "update permit set class = permit_id::text where permit_id > 1"));
    let (_, said) = project.expect(4, RUN);
    assert!(said.contains("a change of permit cannot land in permit.copy, read from log at"), "{said}");
    assert!(
        said.contains("class: expected integer, found the text `A`") && said.contains("refused = \"skip\""),
        "{said}"
    );
    assert_eq!(count(&office, "true"), 0);
    let text = text.replace("create = true\n", "create = true\nrefused = \"skip\"\n");
    project.write("pipelines/office.toml", text);
    project.expect(0, RUN);
    assert_eq!(count(&office, "true"), 1999);
    office.drop();
}

#[test]
fn a_slot_that_is_gone_stops_the_run_and_a_new_beginning_loads_again() {
    let Some((office, project)) = office(&pipeline("", "")) else { return };
    project.expect(0, RUN);
    office.drop_slots();
    assert!(script(&office.source, "update permit set class = 'Z' where permit_id < 11;"));
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("no longer has the slot") && said.contains("--set earliest"), "{said}");
    project.expect(0, &["positions", "office", "--set", "earliest", "--reason", "the slot was dropped", "--yes"]);
    project.expect(0, RUN);
    assert_eq!((count(&office, "true"), count(&office, "class = 'Z'")), (2000, 10));
    office.drop();
}

#[test]
fn somebody_who_reads_on_with_our_slot_is_noticed() {
    let Some((office, project)) = office(&pipeline("", "")) else { return };
    project.expect(0, RUN);
    psql(&office.source, "update permit set class = 'Y'");
    psql(
        &office.source,
        "select pg_replication_slot_advance(slot_name, pg_current_wal_lsn()) from pg_replication_slots where database = current_database()",
    );
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("another reader has used it"), "{said}");
    office.drop();
}

#[test]
fn a_server_that_keeps_too_much_log_is_relieved() {
    let Some((office, project)) = office(&pipeline("log_limit = \"1MiB\"", "")) else { return };
    project.expect(0, RUN);
    let mut running = project.command(&["run", "office"]).stderr(std::process::Stdio::piped()).spawn().unwrap();
    // An open transaction makes the server retain its log, whichever position is confirmed.
    let mut open = std::process::Command::new("psql")
        .arg(&office.source)
        .args(["-X", "-q"])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let mut hold = open.stdin.take().unwrap();
    std::io::Write::write_all(&mut hold, b"begin; update permit set class = 'open' where permit_id = 1;\n").unwrap();
    std::thread::sleep(std::time::Duration::from_millis(500));
    for _ in 0..4 {
        psql(&office.source, "update permit set note = repeat('w', 2000)  where permit_id > 1");
    }
    let ended = (0..300).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(100));
        running.try_wait().unwrap().is_some()
    });
    drop(hold);
    let _ = open.wait();
    assert!(ended, "the run goes on");
    let output = running.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(
        said.contains("more than the limit of 1 MiB") || said.contains("more than the limit of 1.00 MiB"),
        "{said}"
    );
    assert!(office.slots().is_empty());
    office.drop();
}

#[test]
fn status_reports_how_far_tables_are_loaded_and_what_is_kept() {
    let Some((office, project)) = office(&pipeline("", "")) else { return };
    project.expect(0, RUN);
    let status = project.json(&["status", "office"]);
    let partition = &status["pipelines"][0]["arrivals"][0]["partitions"][0];
    assert_eq!(partition["loads"][0]["rows"], 2000);
    assert_eq!(partition["loads"][0]["done"], true);
    assert!(partition["retained"]["bytes"].as_u64().unwrap() > 0);
    let (text, _) = project.expect(0, &["status"]);
    assert!(text.contains("public.permit") && text.contains("loaded") && text.contains("office.feed"), "{text}");
    office.drop();
}
