//! Rows that land as Arrow IPC and as Avro: other libraries read them with their types, and so do we.

use rstest::rstest;
use serde_json::{Value, json};

use crate::common::{TestProject, python, visible_files};

const FIELDS: &str = "t text not null, b boolean, i integer, l bigint, d double precision, n decimal(18,2), day date, at \
                      timestamptz, j json";

const EVENTS: &str = concat!(
    r#"{"t":"a \"quote\" 閘門","b":true,"i":-2147483648,"l":9223372036854775807,"d":0.1,"n":-9999999999999999.99,"#,
    r#""day":"1969-12-31","at":"1960-01-01T00:00:00.000001Z","j":{"a":[1,null]}}"#,
    "\n",
    r#"{"t":""}"#,
    "\n",
    r#"{"t":"x","b":false,"i":0,"l":0,"d":-1e300,"n":0.05,"day":"2026-04-01","at":"2026-04-01T08:00:00Z","j":"y"}"#,
    "\n",
);

const RUN: &[&str] = &["run", "events", "--until-caught-up"];

fn pipeline(format: &str, fields: &str, more: &str) -> String {
    format!(
        "pipeline = \"events\"\nbatch = {{ rows = 2 }}\n[event.event]\nfields = \"{fields}\"\n[event.event.arrives]\nat = \"depots\"\nmatch = \
         \"*.jsonl\"\n[event.event.lands.archive]\nat = \"archive\"\npath = \"all\"\nformat = \
         \"{format}\"\n{more}\n"
    )
}

fn set_up(format: &str, more: &str) -> TestProject {
    let project = TestProject::new(&pipeline(format, FIELDS, more));
    std::fs::rename(project.path("pipelines/weighings.toml"), project.path("pipelines/events.toml")).unwrap();
    project.write("depots/a.jsonl", EVENTS);
    project
}

#[rstest]
#[case("arrow", "zstd")]
#[case("arrow", "none")]
#[case("avro", "deflate")]
#[case("avro", "zstd")]
#[case("avro", "none")]
fn rows_land_with_their_types(#[case] format: &str, #[case] compression: &str) {
    let project = set_up(format, &format!("compression = \"{compression}\""));
    project.expect(0, &["check", "events"]);
    project.expect(0, RUN);
    let files = visible_files(&project.path("archive/all"));
    assert_eq!(files.len(), 2, "{files:?}");
    assert!(files.iter().all(|file| file.extension().is_some_and(|e| e == format)), "{files:?}");
    // A landing is looked at as any other.
    let landing = project.json(&["peek", "events.event.archive", "--show", "5"]);
    assert_eq!(landing["first"].as_array().map(Vec::len), Some(3), "{landing}");
    assert_eq!(landing["first"][0]["l"], json!(9_223_372_036_854_775_807_i64), "{landing}");
    // What landed arrives elsewhere as it was.
    let again = pipeline("jsonl", FIELDS, "");
    let again = again
        .replace("\"depots\"", "\"archive\"")
        .replace("*.jsonl", &format!("all/*.{format}"))
        .replace("[event.event.lands", &format!("format = \"{format}\"\n[event.event.lands"))
        .replace("\"events\"", "\"again\"")
        .replace("path = \"all\"", "path = \"again\"");
    project.write("pipelines/again.toml", again);
    project.expect(0, &["run", "again", "--until-caught-up"]);
    let mut rows: Vec<Value> = visible_files(&project.path("archive/again"))
        .iter()
        .flat_map(|file| std::fs::read_to_string(file).unwrap().lines().map(str::to_string).collect::<Vec<_>>())
        .map(|line| serde_json::from_str(&line).unwrap())
        .collect();
    rows.sort_by_key(|row| row["t"].as_str().map(str::len));
    let full: Vec<Value> = EVENTS.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(rows.len(), 3);
    for key in ["t", "b", "i", "l", "d", "n", "day", "at", "j"] {
        let expected = [&full[1][key], &full[2][key], &full[0][key]];
        // Avro has no type for JSON: it arrives as the text of it.
        let as_text = |value: &Value| match value {
            Value::Null => Value::Null,
            value => Value::String(value.to_string()),
        };
        let is_text = (key, format) == ("j", "avro");
        let expected = expected.map(|value| if is_text { as_text(value) } else { value.clone() });
        assert_eq!(rows.iter().map(|row| row[key].clone()).collect::<Vec<_>>(), expected, "{key}");
    }
}

/// Another library reads each file as a whole, with the schema that it holds.
#[test]
fn another_library_reads_avro() {
    const READ: &str = "
import fastavro, json, sys
for path in sys.argv[1:]:
    with open(path, 'rb') as file:
        reader = fastavro.reader(file)
        assert reader.codec == 'deflate', reader.codec
        for row in reader:
            print(json.dumps({k: v if v is None or type(v) in (bool, int, float) else str(v) for k, v in row.items()}))
";
    let project = set_up("avro", "");
    project.expect(0, RUN);
    let Some(said) = python(&project, READ, &visible_files(&project.path("archive/all"))) else { return };
    let rows: Vec<Value> = said.iter().map(|line| serde_json::from_str(line).unwrap()).collect();
    let first = json!({ "t": "a \"quote\" 閘門", "b": true, "i": i32::MIN, "l": i64::MAX, "d": 0.1, "n": "-9999999999999999.99",
        "day": "1969-12-31", "at": "1960-01-01 00:00:00.000001+00:00", "j": "{\"a\":[1,null]}" });
    let empty =
        json!({ "t": "", "b": null, "i": null, "l": null, "d": null, "n": null, "day": null, "at": null, "j": null });
    assert!(rows.contains(&first) && rows.contains(&empty) && rows.len() == 3, "{rows:?}");
}

#[rstest]
fn what_readers_would_stumble_over_is_refused(#[values("arrow", "avro")] format: &str) {
    let project = set_up(format, "");
    project.expect(0, RUN);
    project.write("pipelines/events.toml", pipeline(format, &FIELDS.replace("i integer", "i bigint"), ""));
    let (out, err) = project.expect(3, &["check", "events"]);
    assert!((out.clone() + &err).contains("`i` landed as Int32 and is Int64 now"), "{out}{err}");
    let more = "new_types = \"new_folder\"";
    project.write("pipelines/events.toml", pipeline(format, &FIELDS.replace("i integer", "i bigint"), more));
    project.append("depots/b.jsonl", EVENTS);
    project.expect(0, RUN);
    assert_eq!(visible_files(&project.path("archive/all-2")).len(), 2);
}

#[test]
fn deflate_is_for_avro_alone() {
    let project = set_up("arrow", "compression = \"deflate\"");
    let (out, err) = project.expect(3, &["check", "events"]);
    assert!((out.clone() + &err).contains("only files of Avro are compressed by deflate"), "{out}{err}");
    let (_, err) = project.expect(3, RUN);
    assert!(err.contains("only files of Avro are compressed by deflate"), "{err}");
    assert!(!project.path("archive/all").exists());
}

#[test]
fn a_name_that_avro_does_not_take_is_refused() {
    let project = set_up("avro", "columns = 't as \"gross kg\", i'");
    let (out, err) = project.expect(3, &["check", "events"]);
    assert!((out.clone() + &err).contains("`gross kg` cannot be the name of a column in Avro"), "{out}{err}");
    let (_, err) = project.expect(3, RUN);
    assert!(err.contains("`gross kg` cannot be the name of a column in Avro"), "{err}");
    assert!(!project.path("archive/all").exists());
}

const KINDS: &str = "id integer not null, raw bytea format 'base64', opens time, tags text[], tolls decimal(8,2)[]";

const OF_KINDS: &str = concat!(
    r#"{"id":1,"raw":"AP9B","opens":"8:05:09.5","tags":["ore",null,"rock \"salt\""],"tolls":[12.5,0]}"#,
    "\n",
    r#"{"id":2}"#,
    "\n",
    r#"{"id":3,"raw":"","opens":"23:59:59.999999","tags":[],"tolls":[]}"#,
    "\n",
    r#"{"id":4,"raw":"A","opens":"08:00","tags":[],"tolls":[]}"#,
    "\n",
    r#"{"id":5,"raw":null,"opens":"24:00","tags":[],"tolls":[]}"#,
    "\n",
    r#"{"id":6,"raw":null,"opens":"08:00","tags":[["a"]],"tolls":[]}"#,
    "\n",
);

fn of_kinds(format: &str) -> TestProject {
    let project = TestProject::new(&pipeline(format, KINDS, ""));
    std::fs::rename(project.path("pipelines/weighings.toml"), project.path("pipelines/events.toml")).unwrap();
    project.write("depots/a.jsonl", OF_KINDS);
    project.expect(0, &["check", "events"]);
    project.expect(0, RUN);
    let rejects = project.json(&["rejects", "events", "--show", "5"]);
    assert_eq!(rejects["total"], 3, "{rejects}");
    for part in ["`A` is not base64", "`24:00` is no time of day", "is no text[]"] {
        assert!(rejects.to_string().contains(part), "{part}: {rejects}");
    }
    project
}

/// What a file holds is bytes, times and lists, not their spelling.
#[rstest]
fn bytes_times_and_lists_land_with_their_types(#[values("parquet", "arrow", "avro")] format: &str) {
    const READ: &str = "
import datetime, decimal, fastavro, sys
rows = [row for path in sys.argv[1:] for row in fastavro.reader(open(path, 'rb'))]
rows.sort(key=lambda row: row['id'])
assert rows == [
    {'id': 1, 'raw': b'\\x00\\xffA', 'opens': datetime.time(8, 5, 9, 500000), 'tags': ['ore', None, 'rock \"salt\"'],
     'tolls': [decimal.Decimal('12.50'), decimal.Decimal('0.00')]},
    {'id': 2, 'raw': None, 'opens': None, 'tags': None, 'tolls': None},
    {'id': 3, 'raw': b'', 'opens': datetime.time(23, 59, 59, 999999), 'tags': [], 'tolls': []},
], rows
print('read')
";
    let project = of_kinds(format);
    let files = visible_files(&project.path("archive/all"));
    if format == "avro"
        && let Some(said) = python(&project, READ, &files)
    {
        assert_eq!(said, ["read"]);
    }
    // They are drafted as what they are, and arrive so elsewhere.
    let first = format!("archive:all/*.{format}");
    project.expect(0, &["draft", "back", &first, "--land-in", "archive"]);
    let text = std::fs::read_to_string(project.path("pipelines/back.toml")).unwrap();
    for part in ["bytea", "time", "text[]", "decimal(8,2)[]"] {
        assert!(text.contains(part), "{part} in {text}");
    }
    let again = pipeline("jsonl", &KINDS.replace(" format 'base64'", ""), "")
        .replace("\"depots\"", "\"archive\"")
        .replace("*.jsonl", &format!("all/*.{format}"))
        .replace("[event.event.lands", &format!("format = \"{format}\"\n[event.event.lands"))
        .replace("path = \"all\"", "path = \"again\"")
        .replace("pipeline = \"events\"", "pipeline = \"again\"");
    std::fs::remove_file(project.path("pipelines/back.toml")).unwrap();
    project.write("pipelines/again.toml", &again);
    project.expect(0, &["run", "again", "--until-caught-up"]);
    let landed = crate::common::topics::rows(&project, "archive/again");
    assert_eq!(landed.len(), 3, "{:?}", project.json(&["rejects", "again"]));
    let first = json!({ "id": 1, "raw": "\\x00ff41", "opens": "08:05:09.5", "tags": ["ore", null, "rock \"salt\""],
        "tolls": [12.50, 0.00] });
    assert!(landed.contains(&first), "{landed:?}");
}

#[test]
fn what_is_of_another_kind_is_refused_before_the_run() {
    let project = of_kinds("jsonl");
    for (columns, expected) in [
        ("upper(raw) as x", "`upper` does not take bytea"),
        ("raw || tags as x", "takes bytea here, not text[]"),
        ("raw = opens as x", "bytea and time cannot be combined"),
        ("opens + 1 as x", "does not take"),
        ("tags[1:2] as x", "is not known here"),
        ("id[1] as x", "integer has no places"),
        ("opens = '25:00' as x", "'25:00' is no time"),
        ("raw::integer as x", "there is no cast from bytea to integer"),
        ("id = any(id) as x", "`any` takes a list here, not integer"),
    ] {
        let text = pipeline("jsonl", KINDS, &format!("columns = \"{columns}\""));
        project.write("pipelines/events.toml", text);
        let (out, err) = project.expect(3, &["check", "events"]);
        assert!((out.clone() + &err).contains(expected), "{columns}: {out}{err}");
    }
}
