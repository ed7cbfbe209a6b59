//! Rehearsals of whole plans on events in memory.

use std::sync::Arc;

use rstest::rstest;
use sluice_core::event::{Chunk, Position};
use sluice_core::plan::{self, Plan};
use sluice_core::problem::{Problems, SourceText};
use sluice_core::rehearse::compare::{EventResult, compare, outcome};
use sluice_core::rehearse::trace::trace;
use sluice_core::rehearse::{Rehearsal, StopCause, kept, reasons, rehearse};

const PROJECT: &str =
    "[project]\nname = \"tarrow\"\n[connection.in]\nurl = \"file:in\"\n[connection.out]\nurl = \"file:out\"\n";

const PIPELINE: &str = r#"
pipeline = "passages"
[event.passage]
fields = "id text not null, lock_id text, draught_cm integer, passed_at timestamptz not null format 'epoch_s'"
[event.passage.arrives]
at = "in"
[event.passage.lands.archive]
at = "out"
path = "all/{passed_at:%Y/%m/%d}"
when = "draught_cm is not null and 500 / draught_cm > 1"
columns = "id, upper(lock_id) as lock_id, draught_cm * 2 as doubled"
[event.deep]
made = { of = "passage", when = "draught_cm > 200", columns = "id, draught_cm" }
[event.deep.lands.deep]
at = "out"
path = "deep"
"#;

fn plan(pipeline: &str) -> Plan {
    let mut problems = Problems::new();
    let texts = [SourceText::new("sluice.toml", PROJECT), SourceText::new("p.toml", pipeline)];
    let plan = plan::load(&texts[0], &texts[1], &sluice_connect::registry(), &mut problems);
    assert!(!problems.has_errors(), "{:?}", problems.into_sorted());
    plan
}

fn chunk(lines: &[&str]) -> Chunk {
    let bytes: Vec<u8> = lines.iter().flat_map(|l| format!("{l}\n").into_bytes()).collect();
    Chunk {
        partition: "a.jsonl".into(),
        from: Position::at(0),
        to: Position::at(bytes.len() as u64),
        bytes,
        records: lines.len() as u64,
        ..Chunk::default()
    }
}

const EVENTS: &[&str] = &[
    r#"{"id":"A","lock_id":"low","draught_cm":250,"passed_at":1775031300}"#,
    r#"{"id":"B","draught_cm":null,"passed_at":1775031300}"#,
    r#"{"id":"C","draught_cm":0,"passed_at":1775031300}"#,
    r#"{"id":"D","draught_cm":"deep","passed_at":1775031300}"#,
    r#"{"id":"E","draught_cm":300,"passed_at":1775117700}"#,
];

fn run(plan: &Plan, lines: &[&str]) -> Rehearsal {
    rehearse(plan, [(0, &chunk(lines))], 1_000).unwrap()
}

#[test]
fn every_event_is_accounted_for_at_every_station() {
    let plan = plan(PIPELINE);
    let found = run(&plan, EVENTS);
    assert_eq!(found.records.len(), 5);
    for count in &found.counts {
        assert_eq!(count.input, count.output + count.filtered + count.rejected, "{count:?}");
    }
    let names: Vec<(&str, u64, u64)> = found.counts.iter().map(|c| (c.station.as_str(), c.input, c.output)).collect();
    assert_eq!(names, [("passage", 5, 4), ("passage.archive", 4, 1), ("deep", 4, 2), ("deep.deep", 2, 2)]);
    let archive = &found.landings[0];
    assert_eq!((archive.records.as_slice(), &*archive.folders[0]), ([0].as_slice(), "all/2026/04/01"));
    assert_eq!(found.landings[1].records, [0, 4]);
}

#[test]
fn each_stop_says_why() {
    let plan = plan(PIPELINE);
    let found = run(&plan, EVENTS);
    let why = |station: &str| -> Vec<String> {
        let word = |(fate, count, record): &(StopCause, u64, usize)| match fate {
            StopCause::Filtered { part, is_null } => {
                format!("{count} filtered by {part}, null {is_null}, first {record}")
            }
            StopCause::Repeated => format!("{count} repeated, first {record}"),
            StopCause::Rejected { reason, field, .. } => format!("{count} {} {field:?}, first {record}", reason.word()),
        };
        reasons(&found, station).iter().map(word).collect()
    };
    assert_eq!(why("passage"), ["1 type Some(\"draught_cm\"), first 3"]);
    assert_eq!(
        why("passage.archive"),
        [
            "1 filtered by draught_cm IS NOT NULL, null false, first 1",
            "1 filtered by 500 / draught_cm > 1, null false, first 4",
            "1 expression None, first 2",
        ]
    );
    assert_eq!(
        why("deep"),
        ["1 filtered by draught_cm > 200, null true, first 1", "1 filtered by draught_cm > 200, null false, first 2"]
    );
}

#[test]
fn one_event_can_be_followed() {
    let plan = plan(PIPELINE);
    let found = run(&plan, EVENTS);
    let way = trace(&plan, &found, 0).unwrap();
    assert_eq!(way.record.bytes, EVENTS[0].as_bytes());
    let stations: Vec<&str> = way.stations.iter().map(|s| s.station.as_str()).collect();
    assert_eq!(stations, ["passage", "passage.archive", "deep", "deep.deep"]);
    let archive = &way.stations[1];
    assert_eq!(archive.conditions[1], ("500 / draught_cm > 1".into(), Some(true)));
    let doubled = &archive.values[2];
    assert_eq!((doubled.from.as_str(), doubled.value.as_deref()), ("draught_cm * 2 as doubled", Some("500")));
    assert_eq!((archive.folder.as_deref(), &archive.fate), (Some("all/2026/04/01"), &None));
    let fields: Vec<(&str, Option<&str>)> =
        way.stations[0].values.iter().map(|v| (v.from.as_str(), v.value.as_deref())).collect();
    assert_eq!(fields[3], ("passed_at", Some("2026-04-01T08:15:00Z")));
    // A reject is traced to its reason and no further.
    let way = trace(&plan, &found, 3).unwrap();
    assert_eq!(way.stations.len(), 1);
    assert!(matches!(&way.stations[0].fate, Some(StopCause::Rejected { message, .. }) if message.contains("deep")));
    assert!(trace(&plan, &found, 5).is_none());
}

#[rstest]
#[case::as_it_was("", "", 0, "")]
#[case::another_column("draught_cm * 2", "draught_cm * 3", 1, "doubled")]
#[case::another_condition("draught_cm > 200", "draught_cm > 280", 2, "filtered by draught_cm > 280")]
#[case::another_folder("%Y/%m/%d", "%Y/%m", 1, "folder")]
fn an_outcome_is_kept_and_compared(#[case] from: &str, #[case] to: &str, #[case] count: usize, #[case] what: &str) {
    let before = plan(PIPELINE);
    let found = run(&before, EVENTS);
    let text = kept::write(&before, &found, &outcome(&before, &found));
    let kept = kept::read("p.kept", &text).unwrap();
    assert_eq!((kept.chunks.len(), kept.now), (5, 1_000));
    let after = plan(&PIPELINE.replacen(from, to, 1));
    let again = rehearse(&after, kept.chunks.iter().map(|(_, c)| (0, c)), kept.now).unwrap();
    let differences = compare(&kept.outcome, &outcome(&after, &again));
    assert_eq!(differences.len(), count, "{differences:#?}");
    assert!(count == 0 || format!("{:?}", differences[0]).contains(what), "{differences:#?}");
    assert!(kept.outcome.values().any(|b| matches!(b, EventResult::Rejected(reason, _, _) if reason == "type")));
}

#[test]
fn bytes_that_are_not_utf8_and_heads_are_kept() {
    let pipeline = PIPELINE.replace("at = \"in\"", "at = \"in\"\nformat = \"csv\"");
    let plan = plan(&pipeline);
    let head: Arc<[u8]> = b"id,lock_id,draught_cm,passed_at\n".as_slice().into();
    let mut first = chunk(&[]);
    first.bytes = [&head, b"A,low,250,1775031300\nB,\xff,1,2\n".as_slice()].concat();
    (first.head, first.records) = (Some(head), 2);
    let found = rehearse(&plan, [(0, &first)], 0).unwrap();
    let kept = kept::read("x", &kept::write(&plan, &found, &outcome(&plan, &found))).unwrap();
    let again = rehearse(&plan, kept.chunks.iter().map(|(_, c)| (0, c)), 0).unwrap();
    assert_eq!(outcome(&plan, &again), outcome(&plan, &found));
    assert_eq!(again.records[1].bytes, b"B,\xff,1,2");
}

#[test]
fn a_record_that_was_too_long_is_not_kept() {
    let plan = plan(PIPELINE);
    let mut long = chunk(&["{\"id\":\"xxxx"]);
    (long.too_long, long.partition) = (Some(1 << 30), "b.jsonl".into());
    let chunks = [chunk(EVENTS), long];
    let found = rehearse(&plan, chunks.iter().map(|c| (0, c)), 0).unwrap();
    assert_eq!(found.records.len(), 6);
    let kept = kept::read("x", &kept::write(&plan, &found, &outcome(&plan, &found))).unwrap();
    let again = rehearse(&plan, kept.chunks.iter().map(|(_, c)| (0, c)), 0).unwrap();
    assert_eq!((again.records.len(), compare(&kept.outcome, &outcome(&plan, &again))), (5, Vec::new()));
}

#[rstest]
#[case("", "x:1: this is not a file of kept events")]
#[case("{\"sluice\":\"kept\",\"version\":9,\"now\":0}", "version 9 is newer")]
#[case("{\"sluice\":\"kept\",\"version\":1,\"now\":0}\n\nnonsense", "x:3:")]
#[case(
    "{\"sluice\":\"kept\",\"version\":1,\"now\":0}\n{\"arrival\":\"a\",\"partition\":\"p\",\"position\":1}",
    "neither an event"
)]
fn another_file_is_refused(#[case] text: &str, #[case] message: &str) {
    let failure = kept::read("x", text).unwrap_err();
    assert!(failure.message.contains(message) && failure.help.is_some(), "{failure}");
}
