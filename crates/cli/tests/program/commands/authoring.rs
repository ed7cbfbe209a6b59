//! The authoring loop: peek, draft, check, rehearse, and then run the draft.

use std::collections::BTreeMap;
use std::path::Path;

use crate::common::TestProject;
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use rstest::rstest;
use serde_json::Value;

/// Nested objects, mixed types, epoch and RFC 3339 times, another script, names that are not plain names.
const EVENTS: &str = r#"{"Order ID":"TN-1","passedAt":1775000000123,"seen":"2026-04-01T08:00:00+02:00","cargo":{"kind":"salt","size":{"w":1.25}},"閘門":"低","mixed":1,"zip":"007","tags":["a",1],"order":1,"a.b":true,"note":"two\nlines"}
{"Order ID":"TN-2","passedAt":1775000001123,"seen":"2026-04-01T06:00:01Z","cargo":{"kind":null,"size":{"w":3}},"閘門":"高","mixed":"x","zip":"123","tags":[],"order":2,"a.b":false,"note":"\"q\""}
{"Order ID":"TN-3","passedAt":1775000002123,"seen":"2026-04-01T06:00:02Z","mixed":2.5,"zip":"456","tags":null,"order":3000000000,"a.b":null,"note":""}
"#;

/// A mark of the byte order, CRLF, quoted delimiters, quotes and line ends, words for null, German times, no last line
/// end.
const TABLE: &str = "\u{feff}Ticket No;Datum;Betrag;\"Notiz; lang\";Aktiv;Menge\r\n\
    1;01.04.2026 08:15;1.5;\"zwei\r\nZeilen; und \"\"mehr\"\"\";True;4\r\n\
    2;02.04.2026 09:00;2.25;ohne;False;n/a\r\n\
    3;03.04.2026 10:30;-7;\"\";True;NULL";

/// All rows of the Parquet files below a folder, as JSON, by another way than the program's own.
fn landed(folder: &Path) -> Vec<BTreeMap<String, String>> {
    let mut rows = Vec::new();
    for path in crate::common::visible_files(folder) {
        let file = std::fs::File::open(&path).unwrap();
        for batch in ParquetRecordBatchReaderBuilder::try_new(file).unwrap().build().unwrap() {
            let batch = batch.unwrap();
            for row in 0..batch.num_rows() {
                let schema = batch.schema();
                let value = |(i, field): (usize, &std::sync::Arc<arrow_schema::Field>)| {
                    let column = batch.column(i);
                    let text = match column.is_null(row) {
                        true => "∅".to_string(),
                        false => shown(column.as_ref(), row),
                    };
                    (field.name().clone(), text)
                };
                rows.push(schema.fields().iter().enumerate().map(value).collect());
            }
        }
    }
    rows
}

fn shown(column: &dyn arrow_array::Array, row: usize) -> String {
    use arrow_array::cast::AsArray as _;
    use arrow_array::types as t;
    use arrow_schema::DataType;
    match column.data_type() {
        DataType::Utf8 => column.as_string::<i32>().value(row).to_string(),
        DataType::Int32 => column.as_primitive::<t::Int32Type>().value(row).to_string(),
        DataType::Int64 => column.as_primitive::<t::Int64Type>().value(row).to_string(),
        DataType::Boolean => column.as_boolean().value(row).to_string(),
        DataType::Decimal128(..) => column.as_primitive::<t::Decimal128Type>().value_as_string(row),
        DataType::Timestamp(..) => column.as_primitive::<t::TimestampMicrosecondType>().value(row).to_string(),
        other => panic!("no test for {other}"),
    }
}

fn row<'r>(rows: &'r [BTreeMap<String, String>], key: &str, value: &str) -> &'r BTreeMap<String, String> {
    rows.iter().find(|r| r[key] == value).unwrap_or_else(|| panic!("no {key} {value} in {rows:#?}"))
}

fn project() -> TestProject {
    let project = TestProject::empty();
    project.expect(0, &["init", ".", "--name", "tarrow"]);
    project
}

#[test]
fn from_an_unknown_json_lines_file_to_parquet() {
    let project = project();
    project.write("data/orders.jsonl", EVENTS);
    let (out, _) = project.expect(0, &["draft", "orders", "data/orders.jsonl"]);
    for text in [
        "pipelines/orders.toml",
        "[connection.data]",
        "values of several kinds: 1 texts, 2 numbers",
        "sluice rehearse orders",
    ] {
        assert!(out.contains(text), "no `{text}` in\n{out}");
    }
    let (_, err) = project.expect(0, &["check"]);
    assert_eq!(err, "", "a draft passes its check without a warning");
    let (out, _) = project.expect(0, &["rehearse", "orders"]);
    assert!(out.contains("3 in → 3 rows") && !out.contains("rejected"), "{out}");
    assert!(
        !project.path("archive").exists()
            && !project.path("rejects").exists()
            && !project.path(".sluice/ledger.db").exists()
    );
    project.expect(0, &["run", "orders", "--until-caught-up"]);
    let rows = landed(&project.path("archive"));
    assert_eq!(rows.len(), 3);
    let first = row(&rows, "order_id", "TN-1");
    let expected = [
        ("passedAt", "1775000000123000"),
        ("seen", "1775023200000000"),
        ("cargo_kind", "salt"),
        ("cargo_size_w", "1.25"),
        ("閘門", "低"),
        ("mixed", "1"),
        ("zip", "007"),
        ("tags", "[\"a\",1]"),
        ("order_", "1"),
        ("a_b", "true"),
        ("note", "two\nlines"),
    ];
    for (column, value) in expected {
        assert_eq!(first[column], value, "{column}");
    }
    let third = row(&rows, "order_id", "TN-3");
    assert_eq!(
        (third["cargo_kind"].as_str(), third["order_"].as_str(), third["mixed"].as_str()),
        ("∅", "3000000000", "2.5")
    );
}

#[test]
fn from_an_unknown_csv_file_to_parquet() {
    let project = project();
    project.write("inbox/messy.csv", TABLE);
    project.expect(0, &["draft", "bills", "inbox/messy.csv"]);
    let (_, err) = project.expect(0, &["check"]);
    assert_eq!(err, "");
    project.expect(0, &["run", "bills", "--until-caught-up"]);
    let rows = landed(&project.path("archive"));
    assert_eq!(rows.len(), 3);
    let first = row(&rows, "ticket_no", "1");
    assert_eq!(first["Datum"], "1775031300000000");
    assert_eq!((first["Betrag"].as_str(), first["Aktiv"].as_str(), first["Menge"].as_str()), ("1.50", "true", "4"));
    assert_eq!(first["notiz_lang"], "zwei\r\nZeilen; und \"mehr\"");
    assert_eq!(row(&rows, "ticket_no", "2")["Menge"], "∅");
    let third = row(&rows, "ticket_no", "3");
    assert_eq!((third["Betrag"].as_str(), third["notiz_lang"].as_str(), third["Menge"].as_str()), ("-7.00", "", "∅"));
    // What is in the file stands beside what has landed: the same, words for null included.
    let found = project.json(&["peek", "inbox/messy.csv", "bills.bill.archive"]);
    assert_eq!((&found["matched"], &found["only_left"]), (&3.into(), &0.into()));
    assert!(found["differ"].as_object().unwrap().values().all(|n| n == 0), "{found}");
    // A second run has nothing more to read, a grown file has.
    let (out, _) = project.expect(0, &["run", "bills", "--until-caught-up"]);
    assert!(out.contains("nothing new"), "{out}");
    project.append("inbox/messy.csv", "\r\n4;04.04.2026 11:00;1;x;True;1\r\n");
    project.expect(0, &["run", "bills", "--until-caught-up"]);
    assert_eq!(landed(&project.path("archive")).len(), 4);
}

#[test]
fn rows_land_as_csv_and_are_read_again() {
    let project = project();
    project.write("inbox/messy.csv", TABLE);
    project.expect(0, &["draft", "bills", "inbox/messy.csv"]);
    let file = project.path("pipelines/bills.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    let text =
        text.replace("format  = \"parquet\"", "format = \"csv\"\ncsv = { delimiter = \"\\t\", null = \"NULL\" }");
    std::fs::write(&file, text.replace("path    = \"bills/{Datum:%Y/%m/%d}\"", "path = \"bills\"")).unwrap();
    project.expect(0, &["run", "bills", "--until-caught-up"]);
    let files = crate::common::visible_files(&project.path("archive/bills"));
    let landed = std::fs::read_to_string(&files[0]).unwrap();
    assert!(
        landed.starts_with("ticket_no\tDatum\tBetrag\tnotiz_lang\tAktiv\tMenge\n1\t2026-04-01T08:15:00Z\t1.50\t"),
        "{landed}"
    );
    assert!(landed.contains("2\t2026-04-02T09:00:00Z\t2.25\tohne\tfalse\tNULL\n"), "{landed}");
    let found =
        project.json(&["peek", "bills.bill.archive", "--columns", "ticket_no, notiz_lang", "--when", "Menge is null"]);
    assert_eq!((&found["matched"], &found["rows"][0]["notiz_lang"]), (&2.into(), &"ohne".into()));
}

/// Passages of a few locks, each up to 35 s behind the newest one.
fn passages(count: u64) -> String {
    let line = |n: u64| {
        let second = 1_782_892_800 + n * 2 - (n * 37) % 71;
        let time = chrono::DateTime::from_timestamp(i64::try_from(second).unwrap(), 0).unwrap();
        let (lock, direction) = (n % 7, if n.is_multiple_of(3) { "up" } else { "down" });
        format!(
            "{{\"passage_id\":\"P{n:05}\",\"lock_id\":\"LK{lock}\",\"direction\":\"{direction}\",\"passed_at\":\"{}\",\"draught_cm\":{},\"berth_no\":{}}}\n",
            time.format("%Y-%m-%dT%H:%M:%SZ"),
            50 + n % 150,
            n % 90,
        )
    };
    (0..count).map(line).collect()
}

#[rstest]
#[case::into_files(&[])]
#[case::into_a_table(&["--land-in", "office"])]
fn a_drafted_window_counts_every_event_of_the_sample(#[case] more: &[&str]) {
    let project = project();
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", text + "\n[connection.office]\nurl = \"sqlite:office.db\"\n");
    project.write("data/passages.jsonl", passages(2_000));
    let draft = [&["draft", "passages", "data/passages.jsonl", "--window", "5m"][..], more].concat();
    project.expect(0, &draft);
    let drafted = std::fs::read_to_string(project.path("pipelines/passages.toml")).unwrap();
    for part in [
        "[event.passage_counts.made]",
        "window  = { length = \"5m\" }",
        "group   = \"lock_id\"   # 7 values in the sample; others: direction (2)",
        "late    = \"1m\"   # in the sample events come up to 35.0 s after newer ones",
        "count(*) as events",
        "sum(draught_cm) as draught_cm_sum",
    ] {
        assert!(drafted.contains(part), "no `{part}` in\n{drafted}");
    }
    assert!(!drafted.contains("sum(berth_no)"), "a number that names a thing is not added up:\n{drafted}");
    let (_, err) = project.expect(0, &["check"]);
    // Of a table it says that `run` will make it.
    assert!(err.is_empty() || !more.is_empty() && !err.contains("sample."), "{err}");
    let (out, _) = project.expect(0, &["rehearse", "passages"]);
    assert!(out.contains("passage_counts: 1,000 in → 56 good") && !out.contains("rejected"), "{out}");
    project.expect(0, &["run", "passages", "--until-caught-up"]);
}

#[rstest]
#[case("0s", "{\"at\":\"2026-07-01T08:00:00Z\"}\n", "`0s` is no length of a window")]
#[case("0.0000001s", "{\"at\":\"2026-07-01T08:00:00Z\"}\n", "`0.0000001s` is no length of a window")]
#[case("five", "{\"at\":\"2026-07-01T08:00:00Z\"}\n", "`five` is no length of a window")]
#[case("5m", "{\"n\":1}\n", "no field says when an event happened")]
fn a_window_that_cannot_be_drafted_is_refused(#[case] length: &str, #[case] line: &str, #[case] expected: &str) {
    let project = project();
    project.write("data/a.jsonl", line);
    let (_, err) = project.expect(3, &["draft", "some", "data/a.jsonl", "--window", length]);
    assert!(err.contains(expected), "{err}");
    assert!(!project.path("pipelines/some.toml").exists());
}

/// Names that a window would give itself.
#[test]
fn a_drafted_window_leaves_names_alone_that_are_there() {
    let project = project();
    let line = |n: u64| {
        format!(
            "{{\"events\":\"E{}\",\"window_start\":{n},\"at\":\"2026-07-01T08:{:02}:00Z\",\"order\":{}}}\n",
            n % 3,
            n % 60,
            n % 5
        )
    };
    project.write("data/a.jsonl", (0..200).map(line).collect::<String>());
    project.expect(0, &["draft", "some", "data/a.jsonl", "--window", "1h"]);
    project.expect(0, &["check"]);
    project.expect(0, &["run", "some", "--until-caught-up"]);
}

#[test]
fn a_draft_changes_nothing_that_is_there() {
    let project = project();
    project.write("inbox/a.jsonl", EVENTS);
    let before = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    let (out, _) = project.expect(0, &["draft", "orders", "inbox:*.jsonl", "--print"]);
    assert!(out.starts_with("#:schema") && !project.path("pipelines/orders.toml").exists(), "{out}");
    project.expect(0, &["draft", "orders", "inbox:*.jsonl"]);
    assert_eq!(std::fs::read_to_string(project.path("sluice.toml")).unwrap(), before);
    let drafted = std::fs::read_to_string(project.path("pipelines/orders.toml")).unwrap();
    assert!(drafted.contains("key    = \"order_id\"   # distinct in all 3 events"), "{drafted}");
    let (_, err) = project.expect(3, &["draft", "orders", "inbox:*.jsonl"]);
    assert!(err.contains("nothing was changed") && err.contains("--print"), "{err}");
    assert_eq!(std::fs::read_to_string(project.path("pipelines/orders.toml")).unwrap(), drafted);
    // A file elsewhere gets a connection at the end of sluice.toml, and nothing else changes.
    project.write("elsewhere/b.jsonl", EVENTS);
    project.expect(0, &["draft", "others", "elsewhere/b.jsonl"]);
    let after = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    assert!(
        after.starts_with(&before) && after.ends_with("[connection.elsewhere]\nurl = \"file:elsewhere\"\n"),
        "{after}"
    );
}

#[rstest]
#[case("a.json", "[{\"a\":1}", "it ends within a record or a list")]
#[case("a.jsonl", "", "nothing in it")]
#[case("a.bin", "\u{0}\u{1}", "JSON, CSV and lines of text are known")]
#[case("a.jsonl", "{\"a\":1\n{\"b\n", "one good event at least")]
fn what_holds_no_events_is_said_with_a_remedy(#[case] name: &str, #[case] text: &str, #[case] help: &str) {
    let project = project();
    project.write(name, text);
    let code = if help.starts_with("it ends") { 5 } else { 3 };
    let (_, err) = project.expect(code, &["draft", "x", name]);
    assert!(err.contains(help), "{err}");
    assert!(!project.path("pipelines/x.toml").exists());
}

#[test]
fn a_header_row_alone_can_be_drafted() {
    let project = project();
    project.write("a.csv", "id;Full Name\n");
    let (out, _) = project.expect(0, &["peek", "a.csv"]);
    assert!(out.contains("no events yet") && out.contains("the header row names id, Full Name"), "{out}");
    let (out, _) = project.expect(0, &["draft", "x", "a.csv"]);
    assert!(out.contains("drafted from the header row: 2 fields"), "{out}");
    let text = std::fs::read_to_string(project.path("pipelines/x.toml")).unwrap();
    assert!(text.contains("from the header row of a.csv") && text.contains("delimiter = \";\""), "{text}");
    assert!(text.contains("from 'Full Name'"), "{text}");
    project.write("a.csv", "id;Full Name\n7;Orla Bem\n");
    let (out, _) = project.expect(0, &["rehearse", "x"]);
    assert!(out.contains("Orla Bem"), "{out}");
}

/// An event that a run would reject is not counted as a good event by `draft`.
#[rstest]
#[case("a.csv", "id,note,n\n3,c,5\n4,\"d\"x,5\n".into(), "between the closing quote")]
#[case("a.jsonl", "{\"a\":1,\"a\":2}\n{\"a\":2}\n".into(), "the field `a` occurs twice")]
#[case("a.jsonl", format!("{{\"a\":1}}\n{{\"a\":\"{}\"}}\n", "x".repeat(17 << 20)), "more than `max_record`")]
fn what_a_run_would_reject_is_not_an_event(#[case] name: &str, #[case] text: String, #[case] message: &str) {
    let project = project();
    project.write(name, text);
    let (out, _) = project.expect(0, &["peek", name]);
    assert!(out.contains("all 2 records, 1 of them events") && out.contains(message), "{out}");
    project.expect(0, &["draft", "x", name]);
    let (_, err) = project.expect(0, &["run", "x", "--until-caught-up"]);
    assert_eq!(project.json(&["rejects", "x"])["total"].as_u64(), Some(1), "{err}");
}

#[rstest]
#[case(&["peek", "inbx:*"], "did you mean `inbox`?")]
#[case(&["peek", "orders.ordr"], "did you mean `orders.order`?")]
#[case(&["peek", "inbox:*.csv"], "**")]
#[case(&["draft", "9x", "inbox:*"], "a name starts with a letter")]
#[case(&["rehearse", "ordrs"], "did you mean `orders`?")]
#[case(&["rehearse", "orders", "--landing", "archiv"], "did you mean `archive`?")]
#[case(&["rehearse", "orders", "--trace", "99"], "--events N")]
#[case(&["rehearse", "orders", "--events", "no.kept"], "--keep FILE")]
#[case(&["peek", "orders.order", "--when", "mixd = 'x'"], "did you mean `mixed`?")]
#[case(&["peek", "orders.order", "orders.order.archive", "--key", "zp"], "did you mean `zip`?")]
fn wrong_names_are_led_to_right_ones(#[case] arguments: &[&str], #[case] help: &str) {
    let project = project();
    project.write("inbox/a.jsonl", EVENTS);
    project.expect(0, &["draft", "orders", "inbox:*.jsonl"]);
    let output = project.run(arguments);
    let err = String::from_utf8(output.stderr).unwrap();
    assert!(matches!(output.status.code(), Some(3 | 5)) && err.contains(help), "{err}");
}

#[test]
fn peek_shows_what_is_there() {
    let project = project();
    project.write("inbox/a.jsonl", EVENTS.repeat(10));
    let found = project.json(&["peek", "inbox/a.jsonl", "--events", "6"]);
    assert_eq!((&found["events"], &found["more"]), (&6.into(), &true.into()));
    let fields = found["fields"].as_array().unwrap();
    let of = |path: &str| fields.iter().find(|f| f["path"] == path).unwrap();
    assert_eq!((&of("zip")["type"], &of("zip")["distinct"]), (&"text".into(), &3.into()));
    assert_eq!((&of("cargo.kind")["nulls"], &of("passedAt")["format"]), (&4.into(), &"epoch_ms".into()));
    assert_eq!((&of("order")["smallest"], &of("order")["largest"]), (&"1".into(), &"3000000000".into()));
    // As it is, and by time.
    let (out, _) = project.expect(0, &["peek", "inbox:*.jsonl", "--raw", "--events", "2"]);
    assert_eq!(out.lines().collect::<Vec<_>>(), EVENTS.lines().take(2).collect::<Vec<_>>());
    let window = ["--since", "2026-03-31T23:33:21Z", "--until", "2026-03-31T23:33:22Z"];
    let found = project.json(&[&["peek", "inbox/a.jsonl"], window.as_slice()].concat());
    assert_eq!((&found["events"], &found["looked_at"]), (&10.into(), &30.into()));
}

#[test]
fn standard_input_is_looked_at() {
    use std::io::Write as _;
    let project = TestProject::empty();
    let mut command = project.command(&["peek", "-", "--output", "json"]);
    let mut child = command.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"lock;level\nupper;3.5\nlower;2.25\n").unwrap();
    let output = child.wait_with_output().unwrap();
    let found: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((&found["events"], &found["fields"][1]["type"]), (&2.into(), &"decimal(18,2)".into()));
}

#[test]
fn what_arrives_stands_beside_what_has_landed() {
    let project = project();
    project.write("inbox/a.jsonl", EVENTS);
    project.expect(0, &["draft", "orders", "inbox:*.jsonl"]);
    let (out, _) = project.expect(0, &["peek", "orders.order.archive"]);
    assert!(out.contains("nothing has landed yet"), "{out}");
    let file = project.path("pipelines/orders.toml");
    let text = std::fs::read_to_string(&file).unwrap();
    let text =
        text.replace("# when  = \"\"", "when = \"zip <> '456'\" #").replace("\nzip,\n", "\nconcat(zip, '!') as zip,\n");
    std::fs::write(&file, text).unwrap();
    project.expect(0, &["run", "orders", "--until-caught-up"]);
    let found = project.json(&["peek", "orders.order.archive"]);
    assert_eq!((&found["rows"], &found["what"]), (&2.into(), &"Parquet".into()));
    let found = project.json(&["peek", "orders.order", "orders.order.archive"]);
    assert_eq!(
        (&found["key"], &found["matched"], &found["only_left"]),
        (&serde_json::json!(["order_id"]), &2.into(), &1.into())
    );
    assert_eq!((&found["differ"]["zip"], &found["differ"]["mixed"]), (&2.into(), &0.into()));
    assert_eq!(found["rows"][0]["right"]["zip"], "007!");
    project.expect(3, &["peek", "order.archive", "--when", "zip like_no"]);
}

#[test]
fn check_looks_at_real_events() {
    let project = project();
    let line = |i: u32| {
        format!(
            "{{\"id\":{},\"at\":{},\"kind\":\"k{i}\",\"n\":{}}}\n",
            i % 50,
            1_775_000_000_000_u64,
            if i == 7 { "\"x\"" } else { "1" }
        )
    };
    project.write("inbox/a.jsonl", (0..100).map(line).collect::<String>());
    project.write(
        "pipelines/p.toml",
        "pipeline = \"p\"\n[event.e]\ntime = \"at\"\nkey = \"id\"\nfields = \"id integer, at timestamptz format 'epoch_s', kind text, n integer, gone text from 'gon'\"\n[event.e.arrives]\nat = \"inbox\"\n[event.e.lands.archive]\nat = \"archive\"\npath = \"{kind}\"\ncolumns = \"id, cast(n / 2.0 as integer) as half\"\n",
    );
    let found = project.json(&["check"]);
    let codes: Vec<(&str, u64)> = found["problems"]
        .as_array()
        .unwrap()
        .iter()
        .map(|p| (p["code"].as_str().unwrap(), p["place"]["line"].as_u64().unwrap()))
        .collect();
    for expected in [
        ("sample.time", 3),
        ("sample.key", 4),
        ("sample.null", 5),
        ("sample.rejects", 5),
        ("sample.folders", 10),
        ("cast.lossy", 11),
    ] {
        assert!(codes.contains(&expected), "{expected:?} is not in {codes:?}");
    }
    assert_eq!(found["pipelines"][0]["samples"][0], serde_json::json!({ "event": "e", "events": 100, "rejected": 1 }));
    let offline = project.json(&["check", "--offline"]);
    assert_eq!(offline["problems"].as_array().unwrap().len(), 1);
}

#[test]
fn a_draft_keeps_clear_of_what_other_pipelines_write() {
    let project = project();
    project.write("inbox/a.jsonl", EVENTS);
    project.expect(0, &["draft", "orders", "inbox:*.jsonl"]);
    let text = std::fs::read_to_string(project.path("pipelines/orders.toml")).unwrap();
    let text = text.replace("\"orders/{passedAt:%Y/%m/%d}\"", "\"bills/{passedAt:%Y/%m/%d}\"");
    std::fs::write(project.path("pipelines/orders.toml"), text).unwrap();
    let (_, err) = project.expect(3, &["draft", "bills", "inbox:*.jsonl"]);
    assert!(err.contains("another pipeline lands there") && !project.path("pipelines/bills.toml").exists(), "{err}");
    let (_, err) = project.expect(3, &["draft", "bills", "inbox:*.jsonl", "--land-in", "archve"]);
    assert!(err.contains("did you mean `archive`?"), "{err}");
    project.expect(0, &["draft", "bills", "inbox:*.jsonl", "--land-in", "inbox", "--event", "paid"]);
    assert!(
        std::fs::read_to_string(project.path("pipelines/bills.toml")).unwrap().contains("[event.paid.lands.inbox]")
    );
}

#[test]
fn a_file_with_letters_that_patterns_use_is_read_by_its_name() {
    let project = project();
    project.write("inbox/a[1].jsonl", EVENTS);
    project.write("inbox/a1.jsonl", EVENTS);
    let (out, _) = project.expect(0, &["draft", "orders", "inbox/a[1].jsonl", "--print"]);
    assert!(out.contains("\"*.jsonl\" takes all 2 files of the folder"), "{out}");
    project.expect(0, &["draft", "orders", "inbox/a[1].jsonl"]);
    assert_eq!(project.json(&["run", "orders", "--until-caught-up"])["read"], 3);
}

#[test]
fn what_lies_in_the_project_itself_gets_a_connection_of_its_own() {
    let project = project();
    project.write("orders.jsonl", EVENTS);
    project.expect(0, &["draft", "orders", "orders.jsonl"]);
    project.expect(0, &["draft", "again", "orders.jsonl"]);
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    assert_eq!(
        text.matches("url = \"file:.\"").count(),
        1,
        "the second draft uses the connection of the first: {text}"
    );
    project.expect(0, &["run", "again", "--until-caught-up"]);
}
