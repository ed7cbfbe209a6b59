//! Shapes and the events that they make.

use rstest::rstest;
use sluice_core::problem::{Problem, Problems, SourceText};

use super::*;

fn read(text: &str) -> (Shape, Vec<Problem>) {
    let mut problems = Problems::new();
    let shape = Shape::read(&SourceText::new("s.toml", text), &mut problems);
    (shape, problems.into_sorted())
}

const PLAIN: EmitOptions = EmitOptions { seed: 7, keys: 5, bad: 0.0, late: 0.0, late_by: 0 };

fn lines(shape: &Shape, manner: EmitOptions, count: u64) -> (Vec<Vec<u8>>, Emitted) {
    let mut emitter = Emitter::new(shape.clone(), manner);
    let mut out = Vec::new();
    for i in 0..count {
        emitter.json(1_775_000_000_000_000 + i64::try_from(i).unwrap() * 1_000_000, &mut out);
    }
    let lines = out.split(|b| *b == b'\n').filter(|l| !l.is_empty()).map(<[u8]>::to_vec).collect();
    (lines, emitter.emitted)
}

#[test]
fn the_shapes_that_are_always_there_make_whole_events() {
    for (name, text, _) in SHAPES {
        let (shape, problems) = read(text);
        assert_eq!((problems.len(), shape.name.as_str()), (0, *name), "{problems:?}");
        let (events, emitted) = lines(&shape, PLAIN, 500);
        assert_eq!((events.len(), emitted.events, emitted.bad), (500, 500, 0));
        for event in &events {
            let value: serde_json::Value = serde_json::from_slice(event).unwrap();
            for field in &shape.fields {
                assert!(value.pointer(&format!("/{}", field.path.join("/"))).is_some(), "{value}");
            }
        }
        assert_eq!(lines(&shape, PLAIN, 500).0, events, "the same seed makes the same events");
        assert_ne!(lines(&shape, EmitOptions { seed: 8, ..PLAIN }, 500).0, events);
    }
}

#[test]
fn values_stay_within_what_the_shape_says() {
    let (shape, problems) = read(
        "shape = \"s\"\n[field]\nn = { number = \"A\" }\nk = { key = \"K\" }\nv = { between = [\"-1.5\", \"2.25\"], null = \"50%\" }\n\"o.x.y\" = { pick = [\"a\"] }\n\"o.z\" = { time = \"epoch_s\" }\nd = { time = \"%d.%m.%Y\" }",
    );
    assert!(problems.is_empty(), "{problems:?}");
    let (events, _) = lines(&shape, PLAIN, 1000);
    let values: Vec<serde_json::Value> = events.iter().map(|l| serde_json::from_slice(l).unwrap()).collect();
    let keys: std::collections::BTreeSet<&str> = values.iter().map(|v| v["k"].as_str().unwrap()).collect();
    assert_eq!(keys.len(), 5);
    assert!(values.iter().filter_map(|v| v["v"].as_f64()).all(|v| (-1.5..=2.25).contains(&v)));
    assert!((400..600).contains(&values.iter().filter(|v| v["v"].is_null()).count()));
    assert_eq!((&values[999]["n"], &values[0]["o"]["x"]["y"]), (&"A0001000".into(), &"a".into()));
    assert_eq!((&values[1]["o"]["z"], &values[0]["d"]), (&1_775_000_001.into(), &"31.03.2026".into()));
}

#[test]
fn some_are_bad_and_some_are_late() {
    let (shape, _) = read(SHAPES[0].1);
    let manner = EmitOptions { bad: 0.1, late: 0.2, late_by: 3_600_000_000, ..PLAIN };
    let (events, emitted) = lines(&shape, manner, 2000);
    let broken = events.iter().filter(|l| serde_json::from_slice::<serde_json::Value>(l).is_err()).count() as u64;
    assert_eq!(broken, emitted.bad);
    assert!((150..250).contains(&emitted.bad) && (330..470).contains(&emitted.late), "{emitted:?}");
}

#[test]
fn csv_has_a_head_and_quotes() {
    let (shape, _) = read(SHAPES[2].1);
    let mut emitter = Emitter::new(shape, PLAIN);
    let mut out = emitter.head().into_bytes();
    (0..200).for_each(|i| emitter.csv(i, &mut out));
    let text = String::from_utf8(out).unwrap();
    assert!(
        text.starts_with("receipt_no,paid_at,vessel_no,amount,method,note\nR0000001,1970-01-01T00:00:00Z,"),
        "{text}"
    );
    assert!(text.contains("\"paid late, by hand\"") && text.contains("\"\"\"exempt\"\" by order\""), "{text}");
}

#[rstest]
#[case("[field]\na = { pick = [\"x\"] }", "key.missing")]
#[case("shape = \"s\"\n[field]\na = { pik = [\"x\"] }", "key.unknown")]
#[case("shape = \"s\"\n[field]\na = { }", "value.type")]
#[case("shape = \"s\"\n[field]\na = { key = \"x\", number = \"y\" }", "value.type")]
#[case("shape = \"s\"\n[field]\na = { between = [\"9\", \"1\"] }", "value.type")]
#[case("shape = \"s\"\n[field]\na = { between = [\"x\", \"1\"] }", "value.type")]
#[case("shape = \"s\"\n[field]\na = { time = \"noon\" }", "value.type")]
#[case("shape = \"s\"\n[field]\na = 3", "value.type")]
fn mistakes_have_a_place_and_a_remedy(#[case] text: &str, #[case] code: &str) {
    let (_, problems) = read(text);
    let problem = problems.iter().find(|p| p.code == code).unwrap_or_else(|| panic!("{problems:?}"));
    assert!(problem.place.is_some() && problem.help.is_some(), "{problem:?}");
}
