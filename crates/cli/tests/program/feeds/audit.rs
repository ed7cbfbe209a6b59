//! Mirrors are compared with the tables that they follow: at rest, behind, and while everything changes; differences are reported
//! and loaded again.
//!
//! Needs the feature `failpoints` and servers, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]

use crate::common::TestProject;
use crate::common::feeds;
use crate::common::feeds::{Office, script};
use crate::common::feeds_mariadb::Office as MariadbOffice;
use crate::common::tables::{Database, psql};
use rstest::rstest;
use serde_json::Value;

const RUN: &[&str] = &["run", "office", "--until-caught-up"];
const AUDIT: &[&str] = &["audit", "office"];

/// What differs: the mirror, how, and the key.
fn differences(report: &Value) -> Vec<String> {
    let mut found = Vec::new();
    for mirror in report["mirrors"].as_array().unwrap() {
        for one in mirror["differences"].as_array().unwrap() {
            found.push(format!(
                "{} {} {}",
                mirror["landing"].as_str().unwrap(),
                one["what"].as_str().unwrap(),
                one["key"]
            ));
        }
    }
    found.sort();
    found
}

fn office(more: &str) -> Option<(Office, TestProject)> {
    let office = Office::new(Database::new()?, 3);
    let project = office.project(&feeds::pipeline(more));
    project.expect(0, RUN);
    Some((office, project))
}

#[test]
fn a_mirror_that_is_equal_is_said_to_be() {
    let Some((office, project)) = office("") else { return };
    let report = project.json(AUDIT);
    assert_eq!(differences(&report), Vec::<String>::new());
    let mirrors = report["mirrors"].as_array().unwrap();
    assert_eq!(mirrors.len(), feeds::TABLES.len());
    for mirror in mirrors {
        assert_eq!(mirror["source_rows"], mirror["mirror_rows"]);
        assert!(mirror["source_rows"].as_u64().unwrap() > 0);
    }
    let (text, _) = project.expect(0, AUDIT);
    assert!(text.contains("are equal to their sources"), "{text}");
    office.drop();
}

#[test]
fn rows_that_differ_are_named_and_loaded_again() {
    let Some((office, project)) = office("") else { return };
    let target = office.target.url.clone();
    // Changed in the mirror by another client.
    psql(&target, "update permit set tons = tons + 1 where permit_id = 17");
    psql(&target, "delete from permit where permit_id between 40 and 42");
    let report = project.json_of(6, AUDIT);
    let expected = ["differs [17]", "missing [40]", "missing [41]", "missing [42]"];
    let permit = "permit.copy";
    assert_eq!(differences(&report), expected.map(|e| format!("{permit} {e}")));
    // Changes of the source that have not landed are not distinguished from them without reading the log.
    assert!(script(&office.source, "update permit set class = 'Z' where permit_id = 99"));
    let report = project.json_of(6, AUDIT);
    assert_eq!((differences(&report).len(), report["mirrors"][0]["certain"].as_bool()), (5, Some(false)));
    let (_, text) = project.expect(6, &["audit", "office", "--reload", "--yes"]);
    assert!(text.contains("--catch-up --reload"), "{text}");
    let report = project.json_of(6, &["audit", "office", "--catch-up"]);
    assert_eq!(differences(&report), expected.map(|e| format!("{permit} {e}")));
    let (text, _) = project.expect(6, &["audit", "office", "--reload", "--yes", "--catch-up"]);
    assert!(text.contains("4 rows will be loaded again"), "{text}");
    project.expect(0, RUN);
    let report = project.json(AUDIT);
    assert_eq!(differences(&report), Vec::<String>::new());
    office.check_mirrors();
    // A row that only the mirror has is deleted with the whole table.
    psql(
        &target,
        "insert into permit select 777777, vessel_no, class, tons, issued_at, note from permit where permit_id = 1",
    );
    let (text, _) = project.expect(6, &["audit", "office", "--reload", "--yes", "--catch-up"]);
    assert!(text.contains("extra") && text.contains("777777") && text.contains("will be emptied"), "{text}");
    project.expect(0, RUN);
    assert_eq!(differences(&project.json(&["audit", "office", "--catch-up"])), Vec::<String>::new());
    office.check_mirrors();
    office.drop();
}

#[test]
fn a_mirror_that_is_followed_meanwhile_has_no_differences_but_true_ones() {
    let Some((mut office, project)) = office("") else { return };
    let mut run = project.command(&["run", "office"]).stdout(std::process::Stdio::null()).spawn().unwrap();
    for round in 0..2 {
        let changes = office.transactions(60, false);
        let source = office.source.clone();
        let writer = std::thread::spawn(move || script(&source, &changes));
        let report = project.json(&["audit", "office", "--wait", "120"]);
        assert_eq!(differences(&report), Vec::<String>::new(), "round {round}");
        assert!(writer.join().unwrap());
    }
    psql(&office.target.url, "delete from vessel where vessel_no = (select min(vessel_no) from vessel)");
    let report = project.json_of(6, &["audit", "office", "--landing", "vessel.copy", "--wait", "120"]);
    assert_eq!(differences(&report).len(), 1, "{report}");
    assert_eq!(report["mirrors"][0]["certain"], true);
    // The order is safe because the run has the lock of the pipeline.
    project.expect(7, &["audit", "office", "--landing", "vessel.copy", "--reload", "--yes"]);
    run.kill().unwrap();
    run.wait().unwrap();
    office.drop();
}

#[rstest]
#[case(false)]
#[case(true)]
fn mirrors_of_mariadb_are_compared(#[case] in_mariadb: bool) {
    let Some(office) = MariadbOffice::new(9) else { return };
    let project = office.whole("mirror", "stop");
    if in_mariadb {
        office.land_in_mariadb(&project);
    }
    office.sql(
        &office.source,
        "insert into permit (class, permit_id, note) values ('C9', 1, '\\\\x\\n'), ('c9', 2, null)",
    );
    project.expect(0, RUN);
    let report = project.json(&["audit", "office", "--catch-up"]);
    assert_eq!(differences(&report), Vec::<String>::new());
    assert_eq!(report["mirrors"].as_array().unwrap().len(), 2);
    let change = "update permit set note = 'other' where class = 'C9'";
    if in_mariadb {
        office.sql(&office.target, change);
    } else {
        rusqlite::Connection::open(project.path("mirror.db")).unwrap().execute(change, []).unwrap();
    }
    let report = project.json_of(6, &["audit", "office", "--catch-up", "--reload", "--yes"]);
    assert_eq!(differences(&report), [r#"permit.copy differs ["C9",1]"#]);
    assert_eq!(report["loaded_again"][0]["rows"], 1, "{report}");
    // Rows that changed meanwhile keep their new values.
    office
        .sql(&office.source, "update permit set tons = 77 where class = 'C9'; delete from permit where permit_id = 2");
    let (text, _) = project.expect(0, RUN);
    assert!(text.contains("permit.copy"), "{text}");
    assert_eq!(differences(&project.json(&["audit", "office", "--catch-up"])), Vec::<String>::new());
    office.end();
}

/// One table, with a mirror.
fn one_mirror(more: &str) -> String {
    format!(
        "pipeline = \"office\"\n[event.permit]\nfields = \"permit_id integer not null, class text, tons decimal(8,2)\"\n\
         [event.permit.arrives]\nat = \"office\"\ntable = \"permit\"\n[event.permit.lands.copy]\nat = \"warehouse\"\n\
         table = \"permit\"\nmode = \"mirror\"\nkey = \"permit_id\"\ncreate = true\n{more}\n"
    )
}

#[test]
fn what_is_not_compared_is_said() {
    let Some(target) = Database::new() else { return };
    let office = Office::new(target, 3);
    let project = office.project(&one_mirror(
        "when = \"tons > 100\"\ncolumns = \"permit_id, lower(class) as class, origin.time as seen\"",
    ));
    project.expect(0, RUN);
    let report = project.json(AUDIT);
    let mirror = &report["mirrors"][0];
    assert_eq!((&mirror["columns_left_out"][0], &mirror["filtered"]), (&"seen".into(), &100.into()));
    let (text, _) = project.expect(0, AUDIT);
    assert!(text.contains("100 rows at the source do not meet its condition") && text.contains("`seen`"), "{text}");
    let (_, text) = project.expect(3, &["audit", "office", "--landing", "permit.cop"]);
    assert!(text.contains("permit.copy"), "{text}");
    // Whether a row is in such a mirror does not depend on the row alone.
    project.write("pipelines/office.toml", one_mirror("when = \"origin.change <> 'deleted'\""));
    let report = project.json(AUDIT);
    assert_eq!(
        (report["mirrors"].as_array().unwrap().len(), &report["not_compared"][0]["landing"]),
        (0, &"permit.copy".into())
    );
    office.drop();
}

#[test]
fn a_pipeline_without_mirrors_has_nothing_to_compare() {
    let project = TestProject::new(crate::common::PIPELINE);
    let (_, text) = project.expect(3, &["audit", "weighings"]);
    assert!(text.contains("has no mirror") && text.contains("sluice ledger weighings"), "{text}");
}
