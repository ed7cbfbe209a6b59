//! `manual --shape`: what is written down of an event is judged by independent programs, and agrees with what a run takes.

use serde_json::Value;

use crate::common::{TestProject, python, visible_files};

const PIPELINE: &str = r#"
pipeline = "weighings"
[event.weighing]
fields = """id uuid not null, kg decimal(8,2) from 'load.kg', kind varchar(6) not null from 'load.kind', berth smallint,
            sent_at timestamptz format 'epoch_ms', day date, is_wet boolean, more json, note char(4)"""
[event.weighing.arrives]
at = "in"
match = "*.jsonl"
format = "jsonl"
[event.weighing.lands.archive]
at = "archive"
path = "all"
format = "avro"
columns = "id, kind, kg, berth, sent_at, day"
[event.weighing.lands.lines]
at = "archive"
path = "lines"
format = "jsonl"
columns = "id, kind, kg, berth, sent_at, day"
"#;

/// Records, and whether a run takes them.
const RECORDS: &[(&str, bool)] = &[
    (
        r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kg":12.5,"kind":"salt"},"berth":7,"sent_at":1,"day":"2026-11-29","more":[1]}"#,
        true,
    ),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kind":"salt"},"is_wet":true,"note":"ab"}"#, true),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kind":"salt","other":1},"other":{}}"#, true),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kg":1}}"#, false),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11"}"#, false),
    (r#"{"load":{"kind":"salt"}}"#, false),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kind":"gravel x"}}"#, false),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kind":"salt"},"berth":40000}"#, false),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kind":"salt"},"berth":1.5}"#, false),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kind":"salt"},"is_wet":[]}"#, false),
    (r#"{"id":"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11","load":{"kind":"salt"},"sent_at":"soon"}"#, false),
];

/// Prints for each line of a file whether a schema takes it.
const JUDGE: &str = r#"
import json, sys
schema = json.load(open(sys.argv[1]))
from jsonschema import Draft202012Validator
Draft202012Validator.check_schema(schema)
judge = Draft202012Validator(schema)
for line in open(sys.argv[2]):
    print(judge.is_valid(json.loads(line)))
"#;

/// Prints rows of a file of Avro, read by a schema of one's own.
const READ: &str = r#"
import json, sys
import fastavro
schema = fastavro.parse_schema(json.load(open(sys.argv[1])))
with open(sys.argv[2], "rb") as file:
    for row in fastavro.reader(file, reader_schema=schema):
        print(row["id"], row["kind"], row["berth"])
"#;

fn project() -> TestProject {
    let project = TestProject::new(PIPELINE);
    project.append("sluice.toml", "[connection.in]\nurl = \"file:in\"\n");
    let lines: String = RECORDS.iter().map(|(record, _)| format!("{record}\n")).collect();
    project.write("in/1.jsonl", lines);
    project
}

#[test]
fn a_json_schema_takes_what_a_run_takes() {
    let project = project();
    let (schema, _) = project.expect(0, &["manual", "--shape", "weighings"]);
    project.write("schema.json", &schema);
    let Some(said) = python(&project, JUDGE, &["schema.json", "in/1.jsonl"]) else { return };
    let expected: Vec<&str> = RECORDS.iter().map(|(_, is_good)| if *is_good { "True" } else { "False" }).collect();
    assert_eq!(said, expected, "{schema}");
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let good = RECORDS.iter().filter(|(_, is_good)| *is_good).count();
    assert_eq!(project.rejected().len(), RECORDS.len() - good, "the run agrees with the schema");
    // What lands is described as it is spelled.
    let (schema, _) = project.expect(0, &["manual", "--shape", "weighings.weighing.lines"]);
    project.write("rows.json", schema);
    let files = visible_files(&project.path("archive/lines"));
    let said = python(&project, JUDGE, &["rows.json", files[0].to_str().unwrap()]).unwrap();
    assert_eq!(said, vec!["True"; good]);
}

#[test]
fn an_avro_schema_reads_the_files_that_land() {
    let project = project();
    let (schema, _) = project.expect(0, &["manual", "--shape", "weighings.weighing.archive", "--as", "avro"]);
    project.write("schema.avsc", schema);
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let files = visible_files(&project.path("archive/all"));
    let Some(said) = python(&project, READ, &["schema.avsc", files[0].to_str().unwrap()]) else { return };
    assert_eq!(said.len(), 3);
    assert_eq!(said[0], "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11 salt 7");
}

#[test]
fn a_table_and_names_that_mean_nothing() {
    let project = project();
    let (table, _) = project.expect(0, &["manual", "--shape", "weighings.weighing", "--as", "sql"]);
    assert!(table.starts_with("create table \"weighing\" (\n  \"id\"      uuid not null,\n"), "{table}");
    assert!(table.contains("\"kind\"    varchar(6) not null,") && table.contains("\"berth\"   smallint,"), "{table}");
    let found = project.json(&["manual", "--shape", "weighings", "--as", "sql"]);
    assert_eq!(found["text"], Value::from(table));
    let (_, said) = project.expect(3, &["manual", "--shape", "weighings.weighing.vault"]);
    assert!(said.contains("has no landing `vault`") && said.contains("weighings.weighing.archive"), "{said}");
    let (_, said) = project.expect(3, &["manual", "--shape", "weighings.passage"]);
    assert!(said.contains("which event of weighings?"), "{said}");
}
