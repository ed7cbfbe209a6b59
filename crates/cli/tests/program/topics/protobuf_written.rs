//! Messages of Protobuf that are written: by a schema of one's own, bare or with its number at a registry.

use serde_json::json;
use sluice_standin::registry::Registry;

use crate::common::topics::{StandIn, project, rows, values};
use crate::common::{TestProject, python};

const FIELDS: &str = "id bigint not null, lock text, lane bigint, direction text not null, tags text[] not null, raw bytea, passed_at \
                      timestamptz";
const SCHEMA: &str = "syntax = \"proto3\";\npackage tarrow;\nimport \"google/protobuf/timestamp.proto\";\n\nenum Direction { UP = 0; \
                      DOWN = 1; }\nmessage Toll { int64 id = 1; }\nmessage Passage {\n  int64 id = 9;\n  optional string lock = 2;\n  \
                      optional int32 lane = 3;\n  Direction direction = 4;\n  repeated string tags = 5;\n  optional bytes raw = 6;\n  \
                      google.protobuf.Timestamp passed_at = 7;\n}\n";

fn set_up(protobuf: &str) -> (StandIn, Registry, TestProject) {
    let broker = StandIn::start(&["--topic", "lock.passages:2"]);
    let registry = Registry::start().unwrap();
    let project = project(&broker.address, &pipeline(protobuf, "*"));
    project.append("sluice.toml", format!("registry = \"http://{}\"\n", registry.address));
    project.write("schemas/passage.proto", SCHEMA);
    let line = |id: i64| match id % 3 {
        0 => format!("{{\"id\":{id},\"direction\":\"UP\",\"tags\":[]}}\n"),
        _ => format!(
            "{{\"id\":{id},\"lock\":\"upper ä\",\"lane\":{},\"direction\":\"DOWN\",\"tags\":[\"ore\"],\"raw\":\"\\\\x00ff\",\
             \"passed_at\":\"2026-07-01T05:06:07.000008Z\"}}\n",
            if id == 4 { 3_000_000_000 } else { id }
        ),
    };
    project.write("depots/passages.jsonl", (0..300).map(line).collect::<String>());
    (broker, registry, project)
}

fn pipeline(protobuf: &str, columns: &str) -> String {
    format!(
        "pipeline = \"weighings\"\nbatch = {{ rows = 100 }}\n[event.passage]\nfields = \"{FIELDS}\"\n[event.passage.arrives]\nat = \
         \"depots\"\nmatch = \"passages.jsonl\"\n[event.passage.lands.onward]\nat = \"lock-broker\"\ntopic = \"lock.passages\"\n\
         columns = \"{columns}\"\nkey = \"lock\"\nformat = \"protobuf\"\nprotobuf = {{ {protobuf} }}\n"
    )
}

/// A pipeline that reads the topic into lines of JSON.
fn reading(protobuf: &str) -> String {
    format!(
        "pipeline = \"back\"\n[event.passage]\nfields = \"{FIELDS}\"\n[event.passage.arrives]\nat = \"lock-broker\"\ntopic = \
         \"lock.passages\"\nformat = \"protobuf\"\nprotobuf = {{ {protobuf} }}\n[event.passage.lands.archive]\nat = \"archive\"\npath = \
         \"back\"\nformat = \"jsonl\"\n"
    )
}

const BARE: &str = "schema = \"schemas/passage.proto\", message = \"tarrow.Passage\"";

fn expect_back(project: &TestProject) {
    let landed = rows(project, "archive/back");
    assert_eq!(landed.len(), 299, "{:?}", project.json(&["rejects", "back"]));
    let whole = json!({ "id": 7, "lock": "upper ä", "lane": 7, "direction": "DOWN", "tags": ["ore"], "raw": "\\x00ff",
        "passed_at": "2026-07-01T05:06:07.000008Z" });
    let empty =
        json!({ "id": 9, "lock": null, "lane": null, "direction": "UP", "tags": [], "raw": null, "passed_at": null });
    assert!(landed.contains(&whole) && landed.contains(&empty), "{:?}", &landed[..3]);
}

#[test]
fn rows_are_read_as_they_were_and_those_that_do_not_fit_are_rejects() {
    let (broker, _registry, project) = set_up(BARE);
    project.expect(0, &["check", "weighings"]);
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let rejects = project.json(&["rejects", "weighings"]);
    assert_eq!(rejects["total"], 1, "{rejects}");
    assert!(rejects.to_string().contains("3000000000 is beyond int32"), "{rejects}");
    project.write("pipelines/back.toml", reading(BARE));
    project.expect(0, &["run", "back", "--until-caught-up"]);
    expect_back(&project);
    another_library_reads_them(&project, &values(&broker.address, "lock.passages", 2));
}

#[test]
fn a_registry_is_told_of_the_schema_and_messages_carry_its_number() {
    let (broker, registry, project) = set_up(&format!("{BARE}, framing = \"registry\""));
    project.expect(0, &["check", "weighings"]);
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    let told = registry.asked().into_iter().filter(|path| path == "/subjects/lock.passages-value/versions").count();
    assert_eq!(told, 1);
    let found = values(&broker.address, "lock.passages", 2);
    // It is the second message of its file.
    assert!(found.iter().all(|message| message.starts_with(&[0, 0, 0, 0, 1, 2, 2])), "{:?}", found[0]);
    project.write("pipelines/back.toml", reading("framing = \"registry\""));
    project.expect(0, &["check", "back"]);
    project.expect(0, &["run", "back", "--until-caught-up"]);
    expect_back(&project);
}

#[test]
fn what_does_not_go_together_is_said_before_the_run() {
    let (_broker, registry, project) = set_up(BARE);
    let refused = |columns: &str, protobuf: &str, said: &str| {
        project.write("pipelines/weighings.toml", pipeline(protobuf, columns));
        let (out, err) = project.expect(3, &["check", "weighings"]);
        assert!((out + &err).contains(said), "{said}");
    };
    refused("id, lock as lok, direction", BARE, "did you mean `lock`?");
    refused("nullif(id, 3) as id", BARE, "`id` may be null");
    refused("id, lane / 2.0 as lane", BARE, "the field is int32");
    refused("id", "schema = \"schemas/passage.proto\"", "declares several messages");
    refused("id", "schema = \"schemas/nothing.proto\"", "schemas/nothing.proto");
    registry.close("other");
    project.write(
        "pipelines/weighings.toml",
        pipeline(&format!("{BARE}, framing = \"registry\", subject = \"other\""), "*"),
    );
    project.expect(3, &["run", "weighings", "--until-caught-up"]);
    project.write("pipelines/weighings.toml", pipeline(BARE, "*").replace("protobuf = {", "csv = {"));
    project.expect(3, &["check", "weighings"]);
}

#[test]
fn a_schema_is_drawn_of_the_columns() {
    let (broker, _registry, project) = set_up(BARE);
    let (schema, _) = project.expect(0, &["manual", "--shape", "weighings.passage.onward", "--as", "protobuf"]);
    assert!(schema.contains("message Passage {") && !schema.contains("@key"), "{schema}");
    project.write("schemas/passage.proto", &schema);
    project.write("pipelines/weighings.toml", pipeline("schema = \"schemas/passage.proto\"", "*"));
    project.expect(0, &["run", "weighings", "--until-caught-up"]);
    assert_eq!(values(&broker.address, "lock.passages", 2).len(), 300);
}

fn another_library_reads_them(project: &TestProject, messages: &[Vec<u8>]) {
    const READ: &str = "
import base64, json, sys
from google.protobuf import descriptor_pb2, descriptor_pool, message_factory, timestamp_pb2
pool = descriptor_pool.Default()
file = descriptor_pb2.FileDescriptorProto(name='passage.proto', package='tarrow', syntax='proto3')
file.dependency.append('google/protobuf/timestamp.proto')
enum = file.enum_type.add(name='Direction')
enum.value.add(name='UP', number=0)
enum.value.add(name='DOWN', number=1)
message = file.message_type.add(name='Passage')
for name, number, kind, label, of in (('id', 9, 3, 1, ''), ('lock', 2, 9, 1, ''), ('lane', 3, 5, 1, ''), ('direction', 4, 14, 1, '.tarrow.Direction'),
                                  ('tags', 5, 9, 3, ''), ('raw', 6, 12, 1, ''), ('passed_at', 7, 11, 1, '.google.protobuf.Timestamp')):
    message.field.add(name=name, number=number, type=kind, label=label, type_name=of or None)
pool.Add(file) if hasattr(pool, 'Add') else pool.AddSerializedFile(file.SerializeToString())
kind = message_factory.GetMessageClass(pool.FindMessageTypeByName('tarrow.Passage'))
for line in open('messages.txt'):
    row = kind.FromString(base64.b64decode(line))
    print(json.dumps([row.id, row.lock, row.lane, row.direction, list(row.tags), row.raw.hex(), row.passed_at.ToJsonString()]))
";
    use base64::Engine as _;
    let lines: String =
        messages.iter().map(|bytes| base64::engine::general_purpose::STANDARD.encode(bytes) + "\n").collect();
    project.write("messages.txt", lines);
    let Some(said) = python::<&str>(project, READ, &[]) else { return };
    let rows: Vec<serde_json::Value> = said.iter().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(rows.len(), 299);
    let whole = json!([7, "upper ä", 7, 1, ["ore"], "00ff", "2026-07-01T05:06:07.000008Z"]);
    assert!(rows.contains(&whole), "{:?}", rows[1]);
}
