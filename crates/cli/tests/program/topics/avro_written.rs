//! Messages of Avro that are written: with the number of their schema, which a registry is told of, or bare.

use std::process::Stdio;
use std::time::Duration;

use crate::common::topics::{StandIn, project, rows, values};
use crate::common::{TestProject, python};
use serde_json::json;
use sluice_standin::registry::Registry;

const FIELDS: &str =
    "id bigint not null, lock text, raw bytea, opens time, tags text[], toll decimal(8,2), passed_at timestamptz";

fn set_up(avro: &str) -> (StandIn, Registry, TestProject) {
    let broker = StandIn::start(&["--topic", "lock.passages:2"]);
    let registry = Registry::start().unwrap();
    let project = project(&broker.address, &pipeline(avro, "*"));
    project.append("sluice.toml", format!("registry = \"http://{}\"\n", registry.address));
    let line = |id: i64| match id % 3 {
        0 => format!("{{\"id\":{id}}}\n"),
        _ => format!(
            "{{\"id\":{id},\"lock\":\"upper ä\",\"raw\":\"\\\\x00ff\",\"opens\":\"08:05:00.5\",\"tags\":[\"ore\",null],\
             \"toll\":12.5,\"passed_at\":\"2026-07-01T05:06:07.000008Z\"}}\n"
        ),
    };
    project.write("depots/passages.jsonl", (0..300).map(line).collect::<String>());
    (broker, registry, project)
}

fn pipeline(avro: &str, columns: &str) -> String {
    format!(
        "pipeline = \"weighings\"\nbatch = {{ rows = 100 }}\n[event.passage]\nfields = \"{FIELDS}\"\n[event.passage.arrives]\nat = \
         \"depots\"\nmatch = \"passages.jsonl\"\n[event.passage.lands.onward]\nat = \"lock-broker\"\ntopic = \"lock.passages\"\n\
         columns = \"{columns}\"\nkey = \"lock\"\nformat = \"avro\"\navro = {{ {avro} }}\n"
    )
}

/// A pipeline that reads the topic into lines of JSON.
fn reading(avro: &str) -> String {
    format!(
        "pipeline = \"back\"\n[event.passage]\nfields = \"{FIELDS}\"\n[event.passage.arrives]\nat = \"lock-broker\"\ntopic = \
         \"lock.passages\"\nformat = \"avro\"\navro = {{ {avro} }}\n[event.passage.lands.archive]\nat = \"archive\"\npath = \
         \"back\"\nformat = \"jsonl\"\n"
    )
}

fn expect_back(project: &TestProject) {
    let landed = rows(project, "archive/back");
    assert_eq!(landed.len(), 300, "{:?}", project.json(&["rejects", "back"]));
    let whole = json!({ "id": 7, "lock": "upper ä", "raw": "\\x00ff", "opens": "08:05:00.5", "tags": ["ore", null],
        "toll": 12.50, "passed_at": "2026-07-01T05:06:07.000008Z" });
    let empty =
        json!({ "id": 9, "lock": null, "raw": null, "opens": null, "tags": null, "toll": null, "passed_at": null });
    assert!(landed.contains(&whole) && landed.contains(&empty), "{:?}", &landed[..3]);
}

#[test]
fn a_registry_is_told_of_the_schema_and_messages_carry_its_number() {
    let (_broker, registry, project) = set_up("framing = \"registry\"");
    project.expect(0, &["check", "weighings"]);
    assert!(
        !registry.asked().contains(&"/subjects/lock.passages-value/versions".to_string()),
        "check tells it nothing"
    );
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let told = registry.asked().into_iter().filter(|path| path == "/subjects/lock.passages-value/versions").count();
    assert_eq!(told, 1);
    project.write("pipelines/back.toml", reading("framing = \"registry\""));
    project.expect(0, &["check", "back"]);
    project.expect(0, &["run", "back", "--until-caught-up"]);
    expect_back(&project);
}

#[test]
fn a_schema_that_the_registry_refuses_is_said_before_the_run() {
    let (broker, registry, project) = set_up("framing = \"registry\", subject = \"passages\"");
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    registry.close("passages");
    // The same schema is known.
    project.expect(0, &["check", "weighings"]);
    let wider = pipeline("framing = \"registry\", subject = \"passages\"", "*, id + 1 as next");
    project.write("pipelines/weighings.toml", &wider);
    project.append("depots/passages.jsonl", "{\"id\":1000}\n");
    let (out, err) = project.expect(3, &["check", "weighings"]);
    let said = out + &err;
    assert!(said.contains("does not take this schema under the subject `passages`"), "{said}");
    let (_, err) = project.expect(3, &["run", "weighings", "--until-caught-up"]);
    assert!(err.contains("an earlier one") && err.contains("must be nullable"), "{err}");
    assert_eq!(values(&broker.address, "lock.passages", 2).len(), 300);
    // Under another subject it lands, and what was read is not lost.
    project.write("pipelines/weighings.toml", wider.replace("\"passages\" }", "\"passages-2\" }"));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    assert_eq!(values(&broker.address, "lock.passages", 2).len(), 301);
}

#[test]
fn a_registry_that_is_busy_is_waited_for() {
    let (broker, registry, project) = set_up("framing = \"registry\"");
    registry.set_busy(true);
    let mut run = project
        .command(&["run", "weighings", "--until-caught-up"])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(1500));
    registry.set_busy(false);
    let status = run.wait().unwrap();
    if !status.success() {
        // A run may end while it is away; the next one goes on where it stood.
        project.expect(0, &["run", "weighings", "--until-caught-up"]);
    }
    assert_eq!(values(&broker.address, "lock.passages", 2).len(), 300);
}

#[test]
fn bare_messages_and_single_objects_are_read_by_the_schema_that_is_shown() {
    for framing in ["bare", "single_object"] {
        let (broker, _registry, project) = set_up(&format!("framing = \"{framing}\""));
        project.expect(0, &["run", "weighings", "--until-caught-up"]);
        let (schema, _) = project.expect(0, &["manual", "--shape", "weighings.passage.onward", "--as", "avro"]);
        project.write("schemas/passage.avsc", &schema);
        project.write(
            "pipelines/back.toml",
            reading(&format!("framing = \"{framing}\", schema = \"schemas/passage.avsc\"")),
        );
        project.expect(0, &["check", "back"]);
        project.expect(0, &["run", "back", "--until-caught-up"]);
        expect_back(&project);
        if framing == "bare" {
            another_library_reads_them(&project, &values(&broker.address, "lock.passages", 2));
        }
    }
}

fn another_library_reads_them(project: &TestProject, messages: &[Vec<u8>]) {
    const READ: &str = "
import base64, fastavro, io, json, sys
schema = fastavro.parse_schema(json.load(open('schemas/passage.avsc')))
for line in open('messages.txt'):
    row = fastavro.schemaless_reader(io.BytesIO(base64.b64decode(line)), schema)
    print(json.dumps({k: v if type(v) in (int, list) else str(v) for k, v in row.items()}))
";
    use base64::Engine as _;
    let lines: String =
        messages.iter().map(|bytes| base64::engine::general_purpose::STANDARD.encode(bytes) + "\n").collect();
    project.write("messages.txt", lines);
    let Some(said) = python::<&str>(project, READ, &[]) else { return };
    assert_eq!(said.len(), 300);
    let whole = json!({ "id": 7, "lock": "upper ä", "raw": "b'\\x00\\xff'", "opens": "08:05:00.500000", "tags": ["ore", null],
        "toll": "12.50", "passed_at": "2026-07-01 05:06:07.000008+00:00" });
    let rows: Vec<serde_json::Value> = said.iter().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert!(rows.contains(&whole), "{:?}", rows[1]);
}

#[test]
fn what_avro_cannot_name_is_said() {
    let (_broker, _registry, project) = set_up("framing = \"bare\"");
    let text = std::fs::read_to_string(project.path("pipelines/weighings.toml")).unwrap();
    project.write("pipelines/weighings.toml", text.replace("\"*\"", "'''id, toll as \"gross kg\"'''"));
    let (out, err) = project.expect(3, &["check"]);
    assert!((out + &err).contains("`gross kg` cannot be the name of a column in Avro"));
}

/// Whether a column may be null is part of the schema, and so of every message: it does not change where a row is a reject.
#[test]
fn rejects_among_the_rows_do_not_change_the_others() {
    let (broker, _registry, project) = set_up("framing = \"bare\"");
    project.write("pipelines/weighings.toml", pipeline("framing = \"bare\"", "id, 10 / (id % 50) as share, lock"));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    assert_eq!(project.json(&["rejects", "weighings"])["total"], 6);
    assert_eq!(values(&broker.address, "lock.passages", 2).len(), 294);
    let (schema, _) = project.expect(0, &["manual", "--shape", "weighings.passage.onward", "--as", "avro"]);
    assert!(!schema.contains("@key"), "{schema}");
    project.write("schemas/passage.avsc", &schema);
    let back = reading("framing = \"bare\", schema = \"schemas/passage.avsc\"")
        .replace(FIELDS, "id bigint not null, share bigint");
    project.write("pipelines/back.toml", back);
    project.expect(0, &["run", "back", "--until-caught-up"]);
    assert_eq!(project.json(&["rejects", "back"])["total"], 0);
    let landed = rows(&project, "archive/back");
    assert!(landed.len() == 294 && landed.contains(&json!({ "id": 105, "share": 2 })), "{landed:?}");
}
