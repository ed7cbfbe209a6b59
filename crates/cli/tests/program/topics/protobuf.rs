//! Messages of Protobuf: drafted with their schema, read bare and by the number of their schema, bad ones kept and tried again, and
//! compared with what another library makes of them.

use super::avro::{numbered, send, varint};
use crate::common::topics::{StandIn, project, rows};
use crate::common::{TestProject, python};
use serde_json::{Value, json};
use sluice_standin::registry::Registry;

const LOCK: &str = "syntax = \"proto3\"; package tarrow; enum Chamber { UPPER = 0; LOWER = 1; }";

const SCHEMA: &str = r#"syntax = "proto3";
package tarrow;
import "tarrow/lock.proto";
import "google/protobuf/timestamp.proto";
message Passage { int64 id = 1; Chamber chamber = 2; google.protobuf.Timestamp passed_at = 3; optional string vessel = 4; }
"#;

fn held(field: u8, value: &[u8]) -> Vec<u8> {
    [vec![field << 3 | 2], varint(value.len() as u64), value.to_vec()].concat()
}

fn passage(id: u64) -> Vec<u8> {
    let moment = [vec![8], varint(1_751_356_800 + id)].concat();
    let vessel = if id.is_multiple_of(2) { held(4, b"Petrel") } else { Vec::new() };
    [vec![8], varint(id), vec![16, u8::try_from(id % 2).unwrap()], held(3, &moment), vessel].concat()
}

fn set_up() -> (StandIn, TestProject) {
    let broker = StandIn::start(&["--topic", "lock.passages:1"]);
    let project = project(&broker.address, "");
    std::fs::remove_file(project.path("pipelines/weighings.toml")).unwrap();
    project.write("schemas/tarrow/passage.proto", SCHEMA);
    project.write("schemas/tarrow/lock.proto", LOCK);
    (broker, project)
}

const DRAFT: &[&str] = &["draft", "passages", "lock-broker:lock.passages", "--land-in", "archive"];
const BY_SCHEMA: &[&str] = &["--schema", "schemas/tarrow/passage.proto"];
const RUN: &[&str] = &["run", "passages", "--until-caught-up"];

/// Drafts the pipeline from the topic, so that it lands lines of JSON.
fn draft(project: &TestProject, more: &[&str], expected: &[&str]) {
    project.expect(0, &[DRAFT, more].concat());
    let text = std::fs::read_to_string(project.path("pipelines/passages.toml")).unwrap();
    for part in expected {
        assert!(text.contains(part), "{part} in {text}");
    }
    let text = text.replace("timestamptz not null", "timestamptz");
    let text =
        text.replace("format  = \"parquet\"", "format  = \"jsonl\"").replace("path    = ", "path    = \"all\" # ");
    project.write("pipelines/passages.toml", &text);
    project.expect(0, &["check", "passages"]);
}

#[test]
fn a_topic_of_protobuf_is_drafted_with_its_schema_and_lands() {
    let (broker, project) = set_up();
    send(&broker, (0..300).map(passage));
    let (_, err) = project.expect(3, DRAFT);
    assert!(err.contains("--schema FILE"), "{err}");
    let peek = ["peek", "lock-broker:lock.passages", BY_SCHEMA[0], BY_SCHEMA[1]];
    let (out, _) = project.expect(0, &peek);
    assert!(out.contains("messages of Protobuf") && out.contains("passed_at  timestamptz"), "{out}");
    assert!(
        out.contains(r#"{"id":1,"chamber":"LOWER","passed_at":"2025-07-01T08:00:01Z"}"#),
        "people see what a message says: {out}"
    );
    let files = "schema = [\"schemas/tarrow/passage.proto\", \"schemas/tarrow/lock.proto\"]";
    draft(&project, BY_SCHEMA, &["format", "\"protobuf\"", files, "message = \"tarrow.Passage\"", "bigint not null"]);
    // One that is cut off, and one of another type.
    send(&broker, [passage(300)[..2].to_vec(), passage(301), held(9, b"toll")].into_iter());
    project.expect(0, &["rehearse", "passages"]);
    project.expect(0, RUN);
    let landed = rows(&project, "archive/all");
    assert_eq!(landed.len(), 301);
    let seventh = json!({ "id": 7, "chamber": "LOWER", "passed_at": "2025-07-01T08:00:07Z", "vessel": null });
    assert!(landed.contains(&seventh), "{landed:?}");
    let rejects = project.json(&["rejects", "passages"]);
    assert_eq!((&rejects["total"], &rejects["groups"][0]["reason"]), (&2.into(), &"not_protobuf".into()), "{rejects}");
    // With a schema that knows the field, what was rejected lands.
    project.write(
        "schemas/tarrow/passage.proto",
        SCHEMA.replace("message Passage {", "message Passage { string toll = 9;"),
    );
    project.expect(0, &["rejects", "passages", "--retry", "--yes"]);
    assert_eq!(rows(&project, "archive/all").len(), 302);
}

#[test]
fn what_is_missing_is_said_before_the_run() {
    let (_broker, project) = set_up();
    project.write("schemas/two.proto", "syntax = \"proto3\"; message A {} message B {}");
    let pipeline = |protobuf: &str| {
        format!(
            "pipeline = \"passages\"\n[event.passage]\nfields = \"id bigint not null\"\n[event.passage.arrives]\nat = \
             \"lock-broker\"\ntopic = \"lock.passages\"\nformat = \"protobuf\"\n{protobuf}\n[event.passage.lands.archive]\n\
             at = \"archive\"\npath = \"all\"\n"
        )
    };
    for (protobuf, expected) in [
        ("", "a message does not say which schema it has"),
        ("protobuf = { schema = \"schemas/none.proto\" }", "schemas/none.proto: No such file"),
        ("protobuf = { schema = \"sluice.toml\" }", "sluice.toml"),
        ("protobuf = { schema = \"schemas/tarrow/passage.proto\" }", "tarrow/lock.proto"),
        ("protobuf = { schema = \"schemas/two.proto\" }", "several messages: A, B"),
        ("protobuf = { schema = \"schemas/two.proto\", message = \"C\" }", "there is no message C, but A, B"),
        (
            "protobuf = { schema = \"schemas/two.proto\", message = \"A\", framing = \"registry\" }",
            "leave `schema` out",
        ),
        ("protobuf = { framing = \"registry\" }", "names no schema registry"),
    ] {
        project.write("pipelines/passages.toml", pipeline(protobuf));
        let (out, err) = project.expect(3, &["check", "passages"]);
        assert!((out.clone() + &err).contains(expected), "{protobuf}: {expected} in {out}{err}");
    }
    project.write("depots/a.jsonl", "{}");
    let (_, err) = project.expect(3, &["peek", "depots/a.jsonl", "--schema", "schemas/two.proto"]);
    assert!(err.contains("--schema is for messages of a topic"), "{err}");
    let two = ["peek", "lock-broker:lock.passages", "--schema", "schemas/two.proto"];
    let (_, err) = project.expect(3, &two);
    assert!(err.contains("several messages: A, B") && err.contains("--message NAME"), "{err}");
    project.expect(0, &[&two[..], &["--message", "B"]].concat());
}

#[test]
fn schemas_come_from_the_registry_and_refer_to_others() {
    let (broker, project) = set_up();
    let registry = Registry::start().unwrap();
    registry.add_version("tarrow-lock", 3, LOCK, &[]);
    registry.add_referring(1, "PROTOBUF", SCHEMA, &[("tarrow/lock.proto", "tarrow-lock", 3)]);
    let later = "syntax = \"proto3\"; package tarrow; import \"google/protobuf/timestamp.proto\"; message Toll { int32 a = 1; } message Passage { string vessel = 1; \
                 int32 id = 2; string chamber = 3; int64 gone = 4; google.protobuf.Timestamp passed_at = 5; }";
    registry.add_referring(2, "PROTOBUF", later, &[]);
    registry.add_referring(3, "PROTOBUF", SCHEMA, &[("tarrow/lock.proto", "gone", 1)]);
    registry.add_referring(4, "JSON", "{}", &[]);
    project.append("sluice.toml", format!("registry = \"http://{}\"\n", registry.address));
    let framed = |number, place: &[u8], value: Vec<u8>| numbered(number, [place.to_vec(), value].concat());
    send(&broker, (0..100).map(|id| framed(1, &[0], passage(id))));
    draft(&project, &[], &["framing = \"registry\"", "bigint not null", "timestamptz"]);
    project.expect(0, &["rehearse", "passages"]);
    // The type is the second of its schema.
    let other = [held(1, b"Heron"), vec![16, 101], held(3, b"SIDE"), held(5, &[8, 0])].concat();
    send(&broker, [framed(2, &[2, 2], other), framed(3, &[0], passage(1)), framed(4, &[0], passage(2))].into_iter());
    project.expect(0, RUN);
    let landed = rows(&project, "archive/all");
    assert_eq!(landed.len(), 101);
    assert!(
        landed
            .contains(&json!({ "id": 101, "chamber": "SIDE", "passed_at": "1970-01-01T00:00:00Z", "vessel": "Heron" })),
        "{landed:?}"
    );
    let rejects = project.json(&["rejects", "passages", "--show", "5"]).to_string();
    assert!(rejects.contains("does not know tarrow/lock.proto, which schema 3 refers to"), "{rejects}");
    assert!(rejects.contains("schema 4 is not one of Avro or Protobuf"), "{rejects}");
}

/// A schema that another library describes, and messages that it writes: each as hexadecimal beside what it says itself.
const OTHER: &str = r#"
import json, random, sys
from google.protobuf import descriptor_pb2 as d, descriptor_pool, message_factory
F = d.FieldDescriptorProto
file = d.FileDescriptorProto(name="passage.proto", package="tarrow", syntax="proto3")
file.enum_type.add(name="Way").value.extend(
    [d.EnumValueDescriptorProto(name=n, number=i) for i, n in enumerate(["UP", "DOWN", "SIDE"])])
passage = file.message_type.add(name="Passage")
vessel = passage.nested_type.add(name="Vessel")
vessel.field.add(name="name", number=1, type=F.TYPE_STRING, label=F.LABEL_OPTIONAL)
vessel.field.add(name="last", number=2, type=F.TYPE_MESSAGE, type_name=".tarrow.Passage.Vessel", label=F.LABEL_OPTIONAL)
entry = passage.nested_type.add(name="TollsEntry", options=d.MessageOptions(map_entry=True))
entry.field.add(name="key", number=1, type=F.TYPE_INT32, label=F.LABEL_OPTIONAL)
entry.field.add(name="value", number=2, type=F.TYPE_UINT64, label=F.LABEL_OPTIONAL)
kinds = ["INT64", "SINT64", "SFIXED64", "UINT32", "SINT32", "FIXED64", "BOOL", "STRING", "BYTES", "DOUBLE", "FLOAT"]
for number, kind in enumerate(kinds, 1):
    passage.field.add(name="f_" + kind.lower(), number=number, type=getattr(F, "TYPE_" + kind), label=F.LABEL_OPTIONAL)
passage.field.add(name="way", number=20, type=F.TYPE_ENUM, type_name=".tarrow.Way", label=F.LABEL_OPTIONAL)
passage.field.add(name="levels", number=3000, type=F.TYPE_SINT32, label=F.LABEL_REPEATED)
passage.field.add(name="ways", number=22, type=F.TYPE_ENUM, type_name=".tarrow.Way", label=F.LABEL_REPEATED)
passage.field.add(name="tolls", number=23, type=F.TYPE_MESSAGE, type_name=".tarrow.Passage.TollsEntry", label=F.LABEL_REPEATED)
passage.field.add(name="vessel", number=24, type=F.TYPE_MESSAGE, type_name=".tarrow.Passage.Vessel", label=F.LABEL_OPTIONAL)
passage.oneof_decl.add(name="pilot")
passage.field.add(name="pilot_name", number=25, type=F.TYPE_STRING, label=F.LABEL_OPTIONAL, oneof_index=0)
passage.field.add(name="pilot_number", number=26, type=F.TYPE_INT32, label=F.LABEL_OPTIONAL, oneof_index=0)
passage.oneof_decl.add(name="_lane")
passage.field.add(name="lane", number=27, type=F.TYPE_INT32, label=F.LABEL_OPTIONAL, oneof_index=1, proto3_optional=True)
print(d.FileDescriptorSet(file=[file]).SerializeToString().hex())
pool = descriptor_pool.DescriptorPool()
pool.Add(file)
Passage = message_factory.GetMessageClass(pool.FindMessageTypeByName("tarrow.Passage"))

def shown(value):
    return "\\x" + value.hex() if isinstance(value, bytes) else value

def said(message):
    out = {}
    for field in message.DESCRIPTOR.fields:
        value = getattr(message, field.name)
        named = lambda v: field.enum_type.values_by_number[v].name if field.enum_type else shown(v)
        if field.name == "tolls":
            out[field.name] = {str(k): v for k, v in value.items()}
        elif field.is_repeated:
            out[field.name] = [named(v) for v in value]
        elif field.has_presence and not message.HasField(field.name):
            continue
        elif field.message_type:
            out[field.name] = said(value)
        else:
            out[field.name] = named(value)
    return out

r = random.Random(7)
some = lambda: r.random() < 0.6
for _ in range(400):
    m = Passage()
    for name, bits, signed in [("int64", 64, 1), ("sint64", 64, 1), ("sfixed64", 64, 1), ("uint32", 32, 0), ("sint32", 32, 1), ("fixed64", 64, 0)]:
        if some(): setattr(m, "f_" + name, r.getrandbits(r.randint(1, bits - signed)) * (r.choice([1, -1]) if signed else 1))
    if some(): m.f_bool = True
    if some(): m.f_string = "".join(r.choice('ab"\\\n\t閘🚢') for _ in range(r.randint(0, 9)))
    if some(): m.f_bytes = r.randbytes(r.randint(0, 9))
    if some(): m.f_double = r.choice([0.1, -1e300, 5e-324, 123456.75, -0.0])
    if some(): m.f_float = r.choice([0.5, -3.25, 1e30])
    if some(): m.way = r.randint(0, 2)
    m.levels.extend(r.randint(-2**31, 2**31 - 1) for _ in range(r.randint(0, 4)))
    m.ways.extend(r.randint(0, 2) for _ in range(r.randint(0, 4)))
    for _ in range(r.randint(0, 3)): m.tolls[r.randint(-5, 5)] = r.getrandbits(64)
    if some(): m.vessel.name = "Petrel"
    if some(): m.vessel.last.last.name = "Heron"
    if some(): m.pilot_name = r.choice(["", "x"])
    elif some(): m.pilot_number = r.randint(-3, 3)
    if some(): m.lane = r.randint(0, 1)
    print(m.SerializeToString().hex() + "\t" + json.dumps(said(m)))
"#;

#[test]
fn messages_say_what_another_library_says_of_them() {
    let bytes = |hex: &str| -> Vec<u8> {
        (0..hex.len()).step_by(2).map(|at| u8::from_str_radix(&hex[at..at + 2], 16).unwrap()).collect()
    };
    let (broker, project) = set_up();
    let Some(said) = python::<&str>(&project, OTHER, &[]) else { return };
    let (set, messages) = said.split_first().unwrap();
    project.write("schemas/passage.desc", bytes(set));
    let pairs: Vec<(Vec<u8>, Value)> = messages
        .iter()
        .map(|line| line.split_once('\t').map(|(hex, said)| (bytes(hex), serde_json::from_str(said).unwrap())).unwrap())
        .collect();
    send(&broker, pairs.iter().map(|(message, _)| message.clone()));
    let peek = ["peek", "lock-broker:lock.passages", "--schema", "schemas/passage.desc", "--raw", "--events", "1000"];
    let (out, _) = project.expect(0, &peek);
    let shown: Vec<Value> = out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(shown.len(), pairs.len());
    for (shown, (message, expected)) in shown.iter().zip(&pairs) {
        assert!(is_same(shown, expected), "{message:02x?}: {shown} and {expected}");
    }
}

/// Whether values are the same, however their numbers are spelled. The other library spells numbers of 32 bits with 64.
fn is_same(shown: &Value, expected: &Value) -> bool {
    match (shown, expected) {
        (Value::Object(shown), Value::Object(expected)) => {
            shown.len() == expected.len()
                && shown.iter().all(|(key, value)| match (key.as_str(), expected.get(key)) {
                    ("f_float", Some(other)) => narrow(value) == narrow(other),
                    (_, Some(other)) => is_same(value, other),
                    (_, None) => false,
                })
        }
        (Value::Number(a), Value::Number(b)) if a.is_f64() || b.is_f64() => a.as_f64() == b.as_f64(),
        _ => shown == expected,
    }
}

#[expect(clippy::cast_possible_truncation, reason = "numbers of 32 bits are compared as such")]
fn narrow(value: &Value) -> Option<f32> {
    value.as_f64().map(|value| value as f32)
}
