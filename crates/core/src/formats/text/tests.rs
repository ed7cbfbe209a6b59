//! Lines of every layout, broken ones among them.

use rstest::rstest;

use super::*;
use crate::config::ExtraFields;
use crate::contract::parse_fields;
use crate::event::Position;
use crate::formats::recognise::recognise;
use crate::problem::{Place, SourceText};
use crate::sql::tests::embed;

fn options(keys: &[(&'static str, OptionValue)]) -> Options {
    let place = Place::new(&SourceText::new("", ""), 0..0);
    let mut options = Options::empty(vec![OPTIONS], place.clone());
    keys.iter().for_each(|(key, value)| options.set(key, value.clone(), place.clone()));
    options
}

/// One format of each layout.
pub(in crate::formats) fn layouts() -> Vec<Arc<dyn Format>> {
    let of = |keys: &[(&'static str, OptionValue)]| KIND.open(&options(keys));
    vec![
        of(&[]),
        of(&[("pairs", OptionValue::Flag(true))]),
        of(&[("widths", text("t 4, _ 2, kind 60"))]),
        of(&[("pattern", text(r#"(?P<t>\S+) - (?P<kind>\S+)(?: "(?P<more>.*)")?"#))]),
    ]
}

fn text(value: &str) -> OptionValue {
    OptionValue::Text(value.into())
}

fn chunk(bytes: &str, records: u64) -> Chunk {
    let to = Position::at(bytes.len() as u64);
    Chunk { partition: "a".into(), to, bytes: bytes.as_bytes().to_vec(), records, ..Chunk::default() }
}

/// The rows as JSON Lines, then the rejects.
fn decoded(format: &dyn Format, fields: &str, extra: ExtraFields, lines: &str) -> (Vec<String>, Vec<String>) {
    let mut problems = Problems::new();
    let fields = parse_fields(&embed(fields), &mut problems);
    assert!(problems.is_empty(), "{:?}", problems.into_sorted());
    let contract = Contract { fields, extra, may_lack: false };
    let columns: Vec<_> = contract
        .schema()
        .fields()
        .iter()
        .map(|f| {
            let field = contract.fields.iter().find(|c| c.name == *f.name());
            let ty = field.map_or(crate::types::SqlType::Json, |c| c.ty);
            crate::columns::OutputColumn { name: f.name().clone(), ty, nullable: true, limit: None }
        })
        .collect();
    let found = format.decoder(&contract).decode(&chunk(lines, 9));
    let mut out = String::new();
    crate::values::json::write_lines(&mut out, &found.rows.batch, &columns);
    let rejects = found.rejects.iter().map(|r| format!("{} {} {}", r.position, r.reason.word(), r.message)).collect();
    (out.lines().map(str::to_string).collect(), rejects)
}

#[test]
fn groups_of_a_pattern_are_fields() {
    let format = KIND.open(&options(&[
        ("pattern", text(r"(?P<lock>\w+) (?P<tons>\d+)?t?(?: (?P<note>.*))?")),
        ("nulls", OptionValue::Texts(vec![String::new(), "-".into()])),
    ]));
    let lines = "low 12t calm\nlow 12t -\r\n\nhigh t\nno match here\nhigh 99999999999t x\n";
    let (rows, rejects) = decoded(
        format.as_ref(),
        "lock text not null, tons integer, note text, raw text from 'line'",
        ExtraFields::Ignore,
        lines,
    );
    assert_eq!(
        rows,
        [
            r#"{"lock":"low","tons":12,"note":"calm","raw":"low 12t calm"}"#,
            r#"{"lock":"low","tons":12,"note":null,"raw":"low 12t -"}"#,
            r#"{"lock":"high","tons":null,"note":null,"raw":"high t"}"#,
        ]
    );
    assert_eq!(
        rejects,
        ["32 not_line the line does not match the pattern", "46 range 99999999999 does not fit integer"]
    );
}

#[test]
fn pairs_are_fields_by_their_keys() {
    let format = KIND.open(&options(&[("pairs", OptionValue::Flag(true))]));
    let lines = "lock=low tons=7 note=\"two \\\"words\\\"\\n\" debug\n tons=8  lock=high\nlock=a lock=b\nlock=\"open\nlock=\"a\"b\n=x\nlock=x extra=1 more\n";
    let (rows, rejects) = decoded(format.as_ref(), "lock text, tons integer, note text", ExtraFields::Keep, lines);
    assert_eq!(
        rows,
        [
            r#"{"lock":"low","tons":7,"note":"two \"words\"\n","extra":{"debug":null}}"#,
            r#"{"lock":"high","tons":8,"note":null,"extra":null}"#,
            r#"{"lock":"x","tons":null,"note":null,"extra":{"extra":"1","more":null}}"#,
        ]
    );
    let reasons: Vec<&str> = rejects.iter().map(|r| r.split_once(' ').unwrap().1).collect();
    assert_eq!(
        reasons,
        [
            "twice the line has this key twice",
            "not_line the quote of `lock` is not closed",
            "not_line expected a blank after the value of `lock`",
            "not_line expected a key before `=`"
        ]
    );
}

#[test]
fn columns_have_fixed_widths_in_characters() {
    let format = KIND.open(&options(&[("widths", text("gauge 4, _ 1, level_cm 5"))]));
    let (rows, rejects) = decoded(
        format.as_ref(),
        "gauge text, level_cm integer",
        ExtraFields::Ignore,
        "Öst |  12\nlow\nlow | 12x\nlow |   12 x\n",
    );
    assert_eq!(rows, [r#"{"gauge":"Öst","level_cm":12}"#, r#"{"gauge":"low","level_cm":null}"#]);
    assert!(rejects[0].contains("type") && rejects[1].contains("longer than its columns"), "{rejects:?}");
}

#[rstest]
#[case(&[("pattern", "(")], "not valid: unclosed group")]
#[case(&[("pattern", "a")], "no named group")]
#[case(&[("pattern", "(?x)(?P<a>.) # comment")], "ends within a comment")]
#[case(&[("widths", "a")], "is not a name and a width")]
#[case(&[("widths", "a 0")], "not a number of characters")]
#[case(&[("widths", "a 1, a 2")], "two columns")]
#[case(&[("widths", "a 1"), ("pattern", "(?P<a>.)")], "in one way")]
fn mistakes_are_found_beforehand(#[case] keys: &[(&'static str, &str)], #[case] message: &str) {
    let keys: Vec<(&str, OptionValue)> = keys.iter().map(|(key, value)| (*key, text(value))).collect();
    let mut problems = Problems::new();
    KIND.check(&options(&keys), &mut problems);
    let found = problems.into_sorted();
    assert!(found.len() == 1 && found[0].message.contains(message), "{found:?}");
}

#[rstest]
#[case(
    "10.0.0.1 - ada [01/Jul/2026:08:05:09 +0200] \"GET /locks/low?x=1 HTTP/1.1\" 200 5120 \"-\" \"browser \\\"x\\\"\"\n",
    "lines of text with 11 fields by a pattern"
)]
#[case(
    "10.0.0.1 - - [01/Jul/2026:08:05:09 +0200] \"GET / HTTP/1.1\" 304 -\n",
    "lines of text with 11 fields by a pattern"
)]
#[case("<34>1 2026-07-01T08:05:09Z low gate 12 ID7 - opened, slowly\n", "lines of text with 8 fields by a pattern")]
#[case("Jul  1 08:05:09 low gate[12]: opened: slowly\n", "lines of text with 6 fields by a pattern")]
#[case("level=info lock=low msg=\"gate opened, slowly\"\nlevel=warn lock=high\n", "lines of key=value pairs")]
#[case("one line of words\n", "not recognised")]
fn logs_are_recognised(#[case] lines: &str, #[case] expected: &str) {
    assert_eq!(recognise(lines.as_bytes(), true, "x.log").describe(), expected);
}
