//! From events to a contract.

use rstest::rstest;

use super::*;
use crate::event::{Chunk, Position};
use crate::formats::csv::Dialect;
use crate::formats::{Csv, Format as _};

fn json(lines: &[&str]) -> Profile {
    let mut profile = Profile::default();
    lines.iter().for_each(|line| profile.add_json(line.as_bytes()));
    profile
}

/// Of a whole file with a header row.
fn csv(text: &str) -> Profile {
    let format = Csv::new(Dialect::default());
    let head = format.cut(text.as_bytes(), 1).bytes;
    let chunk = Chunk {
        partition: "a.csv".into(),
        from: Position::at(0),
        to: Position::at(text.len() as u64),
        bytes: text.as_bytes().to_vec(),
        head: Some(text.as_bytes()[..head].into()),
        records: 0,
        ..Chunk::default()
    };
    let mut profile = Profile::default();
    profile.add_chunk(&chunk, &format);
    profile
}

/// The guess for the values of one field of JSON events.
fn guess_of(name: &str, values: &[&str]) -> Guess {
    let lines: Vec<String> = values.iter().map(|v| format!("{{\"{name}\":{v}}}")).collect();
    let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
    json(&lines).guesses().remove(0).guess
}

#[rstest]
#[case("a", &["1", "2"], "integer", None)]
#[case("a", &["1", "3000000000"], "bigint", None)]
#[case("a", &["123456789012345678901"], "decimal(38,0)", None)]
#[case("a", &["1.25", "7"], "decimal(18,2)", None)]
#[case("a", &["1.123456"], "double precision", None)]
#[case("a", &["1e3"], "double precision", None)]
#[case("a", &["true", "null"], "boolean", None)]
#[case("a", &["\"x\"", "1"], "text", None)]
#[case("a", &["\"12\"", "13"], "integer", None)]
#[case("a", &["\"007\"", "\"12\""], "text", None)]
#[case("a", &["[1]", "[]"], "json", None)]
#[case("a", &["{}", "1"], "json", None)]
#[case("a", &["null"], "text", None)]
#[case("passed_at", &["1775000000", "1775000001"], "timestamptz", Some("epoch_s"))]
#[case("passed_at", &["1775000000123"], "timestamptz", Some("epoch_ms"))]
#[case("passed_at", &["1775000000.25"], "timestamptz", Some("epoch_s"))]
#[case("number", &["1775000000123"], "bigint", None)]
#[case("a", &["\"2026-04-01T08:00:00Z\""], "timestamptz", None)]
#[case("a", &["\"2026-04-01\""], "date", None)]
#[case("a", &["\"01.04.2026 08:15\""], "timestamptz", Some("%d.%m.%Y %H:%M"))]
#[case("a", &["\"13/04/2026\""], "date", Some("%d/%m/%Y"))]
fn types(#[case] name: &str, #[case] values: &[&str], #[case] ty: &str, #[case] format: Option<&str>) {
    let guess = guess_of(name, values);
    assert_eq!((guess.ty.to_string().as_str(), guess.format.as_deref()), (ty, format), "{guess:?}");
}

#[test]
fn what_disagrees_is_said() {
    let mut values = vec!["\"12\""; 199];
    values.push("\"none yet\"");
    let guess = guess_of("a", &values);
    assert_eq!((guess.ty.to_string(), guess.misfits), ("integer".into(), 1));
    assert!(
        guess.notes.iter().any(|n| n.contains("1 does not fit, such as 'none yet', and will be rejected")),
        "{guess:?}"
    );
    let guess = guess_of("a", &["\"12\"", "\"13\"", "\"x\""]);
    assert_eq!(guess.ty.to_string(), "text");
    assert!(guess.notes[0].contains("2 of 3 are numbers, such as 'x'"), "{guess:?}");
    assert!(guess_of("a", &["\"01/02/2026\""]).notes.contains(&"day and month could be swapped".into()));
    assert!(guess_of("a", &["\"x\"", "1"]).notes.contains(&"values of several kinds: 1 texts, 1 numbers".into()));
}

#[test]
fn empty_texts_count_against_a_type_in_json_and_not_in_csv() {
    let mut values = vec!["\"\""; 40];
    values.extend(["\"2026-04-01T08:00:00Z\""; 60]);
    let guess = guess_of("a", &values);
    assert_eq!((guess.ty.to_string(), guess.notes.len()), ("text".into(), 2), "{guess:?}");
    let profile = csv("a,b\n1,\"\"\n2,\"7\"\n");
    let guess = &profile.guesses()[1].guess;
    assert_eq!((guess.ty.to_string(), guess.not_null, guess.misfits), ("integer".into(), false, 0));
}

#[test]
fn objects_are_followed_and_names_made_unique() {
    let profile = json(&[
        r#"{"id":1,"cargo":{"kind":"salt","size":{"w":2}},"cargo_kind":"x","a.b":1,"Order ID":2}"#,
        r#"{"id":2,"cargo":null}"#,
    ]);
    let found: Vec<(String, String, bool)> =
        profile.guesses().into_iter().map(|g| (g.name.clone(), g.spelled_path(), g.guess.not_null)).collect();
    let expected = [
        ("id", "id", true),
        ("cargo_kind", "cargo.kind", false),
        ("cargo_size_w", "cargo.size.w", false),
        ("cargo_kind_2", "cargo_kind", false),
        ("a_b", "\"a.b\"", false),
        ("order_id", "Order ID", false),
    ];
    assert_eq!(found, expected.map(|(n, p, nn)| (n.to_string(), p.to_string(), nn)));
}

#[test]
fn an_object_with_very_many_names_is_json() {
    let lines: Vec<String> = (0..200).map(|i| format!("{{\"seen\":{{\"TN-{i}\":1}}}}")).collect();
    let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
    let guesses = json(&lines).guesses();
    assert_eq!((guesses.len(), guesses[0].guess.ty.to_string()), (1, "json".into()));
}

#[test]
fn broken_records_are_counted_and_leave_no_trace() {
    let profile = json(&["{\"a\":1}", "{\"b\":2", "[1]", "{\"a\":1}x"]);
    assert_eq!((profile.events, profile.broken_count, profile.root.children.len()), (1, 3, 1));
    assert_eq!(profile.broken[0].number, 2);
}

#[test]
fn a_record_that_no_run_takes_is_not_counted_as_an_event() {
    let profile = json(&["{\"a\":1,\"b\":{\"c\":1,\"\\u0063\":2}}", "{\"a\":2}", "{\"a\":3,\"a\":3}"]);
    assert_eq!((profile.events, profile.broken_count), (1, 2));
    assert_eq!(profile.broken[0].message, "the field `c` occurs twice");
    let profile = csv("id,note,n\n3,\"c\",5\n4,\"d\"x,5\n");
    assert_eq!((profile.events, profile.broken_count), (1, 1));
    assert!(profile.broken[0].message.contains("between the closing quote"), "{:?}", profile.broken);
}

#[test]
fn columns_of_one_name_are_left_out_with_a_note() {
    let profile = csv("id,x,x\n1,2,3\n");
    assert_eq!((profile.events, profile.root.children.len()), (1, 1));
    assert!(profile.notes.iter().any(|note| note.contains("`x` twice")), "{:?}", profile.notes);
}

#[test]
fn csv_with_its_nulls() {
    let profile = csv("id,at,note\n1,2026-04-01,\"x, y\"\n2,NULL,\n3,2026-04-02,\"two\nlines\"\nshort\n");
    assert_eq!((profile.events, profile.broken_count), (3, 1));
    let guesses = profile.guesses();
    let types: Vec<String> = guesses.iter().map(|g| g.guess.ty.to_string()).collect();
    assert_eq!(types, ["integer", "date", "text"]);
    assert_eq!(guesses[1].guess.null_words, ["NULL"]);
    assert!(guesses[0].guess.not_null && !guesses[1].guess.not_null && !guesses[2].guess.not_null);
    assert_eq!(guesses[2].profile.examples, ["x, y", "two\nlines"]);
}

#[test]
fn ranges_and_different_values() {
    let profile = json(&["{\"a\":10,\"t\":\"b\"}", "{\"a\":9,\"t\":\"a\"}", "{\"a\":10.5,\"t\":\"a\"}"]);
    let guesses = profile.guesses();
    let (low, high) = guesses[0].profile.numbers.range.clone().unwrap();
    assert_eq!((low.1.as_str(), high.1.as_str()), ("9", "10.5"));
    assert_eq!((guesses[0].profile.distinct.count(), guesses[1].profile.distinct.count()), (3, 2));
    assert_eq!(guesses[1].profile.texts.range, Some(("a".into(), "b".into())));
}
