use bytes::Bytes;
use rstest::rstest;
use sluice_core::event::Chunk;

use super::super::pgoutput::{self, RelationColumn};
use super::*;

fn tuple(cells: &[&str]) -> Tuple {
    let mut out = b"I\0\0\0\x07N".to_vec();
    out.extend(u16::try_from(cells.len()).unwrap().to_be_bytes());
    for cell in cells {
        match *cell {
            "null" => out.push(b'n'),
            "…" => out.push(b'u'),
            text => {
                out.push(b't');
                out.extend(u32::try_from(text.len()).unwrap().to_be_bytes());
                out.extend(text.as_bytes());
            }
        }
    }
    match pgoutput::read(Bytes::from(out), false) {
        Some((_, LogMessage::Insert { new, .. })) => new,
        other => panic!("{other:?}"),
    }
}

fn applier(from: Position) -> (Applier, Order) {
    let table = FeedTable { name: "public.permit".into(), key: vec!["id".into()], contract: None };
    let mut order = Order::new(ChunkBuilder::new(vec![table.name.clone()]), from, 0);
    let mut applier = Applier::new(vec![table]);
    let column = |name: &str, ty, is_key| RelationColumn { name: name.into(), ty, modifier: -1, is_key };
    let columns = vec![column("id", 23, true), column("note", 25, false), column("open", 16, false)];
    let relation =
        |id, name: &str| Relation { id, schema: "public".into(), name: name.into(), columns: columns.clone() };
    applier.apply(&mut order, &LogMessage::Relation(relation(7, "permit"))).unwrap();
    applier.apply(&mut order, &LogMessage::Relation(relation(8, "other"))).unwrap();
    (applier, order)
}

fn update(old: Option<(bool, &[&str])>, new: &[&str]) -> LogMessage {
    let old = old.map(|(whole, cells)| OldValues { whole, tuple: tuple(cells) });
    LogMessage::Update { relation: 7, old, new: tuple(new) }
}

fn insert(relation: u32, new: &[&str]) -> LogMessage {
    LogMessage::Insert { relation, new: tuple(new) }
}

/// The rows of one transaction: kind, place, row, key and old values.
fn applied((applier, order): &mut (Applier, Order), messages: &[LogMessage]) -> (Chunk, Vec<String>) {
    applier.begin(order, 100, 5, 3);
    for message in messages {
        applier.apply(order, message).unwrap();
    }
    assert_eq!(applier.commit(order, 140), Applied::Committed(3));
    let chunk = order.gather.chunk(Position::at(1), order.at, String::new(), false);
    let changes = chunk.changes.clone().unwrap();
    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
    let side = |span: Option<sluice_core::event::RecordSpan>| span.map_or("-".into(), |s| text(s.of(&changes.side)));
    let line = |c: &sluice_core::change::Change| {
        let row = text(c.span.of(&chunk.bytes));
        format!("{:?} {} {row} {} {}", c.kind, c.position.minor, side(c.key), side(c.old))
    };
    let lines = changes.each.iter().map(line).collect();
    (chunk, lines)
}

#[rstest]
#[case(insert(7, &["1", "a\"b", "t"]), &[r#"Inserted 0 {"id":1,"note":"a\"b","open":true} {"id":1} -"#])]
#[case(update(None, &["1", "…", "null"]), &[r#"Updated 0 {"id":1,"open":null} {"id":1} -"#])]
#[case(update(Some((true, &["1", "long", "t"])), &["1", "…", "f"]),
    &[r#"Updated 0 {"id":1,"note":"long","open":false} {"id":1} {"id":1,"note":"long","open":true}"#])]
#[case(update(Some((false, &["1", "null", "null"])), &["2", "…", "f"]),
    &[r#"Deleted 0 {"id":1} {"id":1} {"id":1}"#, r#"Moved 1 {"id":2,"open":false} {"id":2} {"id":1}"#])]
#[case(LogMessage::Delete { relation: 7, old: OldValues { whole: false, tuple: tuple(&["1", "null", "null"]) } },
    &[r#"Deleted 0 {"id":1} {"id":1} {"id":1}"#])]
#[case(LogMessage::Delete { relation: 7, old: OldValues { whole: true, tuple: tuple(&["1", "x", "t"]) } },
    &[r#"Deleted 0 {"id":1,"note":"x","open":true} {"id":1} {"id":1,"note":"x","open":true}"#])]
#[case(LogMessage::Truncate { relations: vec![8, 7] }, &["Truncated 1 {} - -"])]
fn messages_become_changes(#[case] message: LogMessage, #[case] expected: &[&str]) {
    let mut applier = applier(Position::at(1));
    let (chunk, lines) = applied(&mut applier, &[message]);
    assert_eq!(lines, expected);
    assert_eq!((chunk.to.major, applier.1.seen), (100, 140));
    assert!(applier.1.is_between());
}

#[test]
fn places_count_rows_of_all_tables_and_what_was_read_is_passed_over() {
    let mut applier = applier(Position { major: 100, minor: 2 });
    let rows = [insert(7, &["1", "a", "t"]), insert(8, &["9", "a", "t"]), insert(7, &["2", "b", "t"])];
    let (_, lines) = applied(&mut applier, &rows);
    assert_eq!(lines, [r#"Inserted 2 {"id":2,"note":"b","open":true} {"id":2} -"#]);
}

#[test]
fn keys_that_change_while_a_table_is_loaded_are_noted() {
    let mut applier = applier(Position::at(1));
    applier.0.recent.insert(0, Vec::new());
    let delete =
        LogMessage::Delete { relation: 7, old: OldValues { whole: false, tuple: tuple(&["5", "null", "null"]) } };
    let moved = update(Some((false, &["1", "null", "null"])), &["2", "x", "f"]);
    applied(&mut applier, &[delete, moved, LogMessage::Truncate { relations: vec![7] }]);
    let key = |n: &str| {
        let mut bytes = Vec::new();
        add_key(&mut bytes, n.as_bytes());
        Some(bytes)
    };
    let noted: Vec<_> = applier.0.recent[&0].iter().map(|r| r.key.clone()).collect();
    assert_eq!(noted, [key("5"), key("1"), key("2"), None]);
}

#[test]
fn a_relation_that_was_never_described_is_not_a_change() {
    let (mut applier, mut order) = applier(Position::at(1));
    applier.begin(&mut order, 100, 5, 3);
    assert_eq!(applier.apply(&mut order, &insert(99, &["1"])), None);
}
