//! Calls of every function with values at the edges of their types, at random: whatever comes, nothing panics, and the column has the
//! type that was announced.

use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array, RecordBatch,
    StringArray, TimestampMicrosecondArray,
};
use arrow_schema::Schema;

use super::functions::{Parameter, functions};
use super::*;
use crate::problem::Problems;
use crate::sql::tests::embed;

struct Random(u64);

impl Random {
    fn below(&mut self, n: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(self.0 >> 33).unwrap() % n
    }

    fn pick<'a>(&mut self, all: &[&'a str]) -> &'a str {
        all[self.below(all.len())]
    }

    fn text(&mut self) -> String {
        const PIECES: &[&str] = &[
            "a",
            "Z",
            "0",
            "9",
            " ",
            "%",
            "_",
            "\\",
            "\"",
            "\n",
            "\t",
            "ß",
            "İ",
            "é",
            "船",
            "🚢",
            "\u{301}",
            "\u{0}",
            "[",
            "]",
            "{",
            "}",
            "(",
            ")",
            ",",
            ":",
            ".",
            "-",
            "+",
            "null",
            "true",
            "\\u0041",
            "\\ud800",
            "1e400",
            "2026-07-01",
            "24:00",
            "$",
            "*",
            "?",
        ];
        (0..self.below(9)).map(|_| self.pick(PIECES)).collect()
    }

    fn json(&mut self, depth: u32) -> String {
        let scalars = [
            "null",
            "true",
            "0",
            "-1.5e300",
            "\"\"",
            "\"\\ud83d\\udea2\"",
            "\"\\ud800\"",
            "\"a\\\"b\"",
            "12345678901234567890",
        ];
        match self.below(if depth == 0 { 1 } else { 4 }) {
            0 => self.pick(&scalars).into(),
            1 => format!("[{}]", (0..self.below(4)).map(|_| self.json(depth - 1)).collect::<Vec<_>>().join(" , ")),
            _ => {
                let names = ["\"a\"", "\"\"", "\"\\u0061\"", "\"items\"", "\"\\ud800\""];
                let member = |r: &mut Self| format!("{} : {}", r.pick(&names), r.json(depth - 1));
                format!("{{{}}}", (0..self.below(4)).map(|_| member(self)).collect::<Vec<_>>().join(","))
            }
        }
    }

    /// An argument as SQL.
    fn argument(&mut self, parameter: Parameter) -> String {
        const WHOLE: &[&str] = &["i", "l", "0", "1", "-1", "3", "2147483647", "-9223372036854775808", "i % 7", "null"];
        const NUMBER: &[&str] =
            &["i", "l", "d", "n", "0", "-0.5", "1e300", "99999999999999999999999999999999999999", "null"];
        const TEXT: &[&str] = &["t", "u", "''", "'a'", "'船'", "i", "n", "at", "null", "j"];
        const MOMENT: &[&str] = &["at", "day", "at + interval '1 day'", "at at time zone 'Europe/Berlin'", "null"];
        const INTERVAL: &[&str] = &[
            "interval '1 month'",
            "interval '-99999 years'",
            "interval '0 s'",
            "interval '2147483647 days'",
            "at - timestamptz '2026-07-01T00:00:00Z'",
        ];
        const PATTERN: &[&str] = &[
            "'.*'",
            "'(a|b)+'",
            "''",
            "'^$'",
            "'\\m.\\M'",
            "'[[:alpha:]]'",
            "'(?P<x>.)(y)?'",
            "'YYYY-MM-DD'",
            "'FMMonth Day DDD SSSS US TZ OF'",
            "'$.items[*] ? (@.a > 1)'",
            "'$'",
            "'$[last - 3 to 5].*'",
            "'{a,0}'",
            "'{}'",
            "'g'",
            "'i'",
            "'x'",
        ];
        match parameter {
            Parameter::Text | Parameter::TextOrNumber => self.pick(TEXT).into(),
            Parameter::Constant => self.pick(PATTERN).into(),
            Parameter::KeyOrPlace => self.pick(&["'a'", "0", "-1", "t", "i"]).into(),
            Parameter::Number | Parameter::Double => self.pick(NUMBER).into(),
            Parameter::Whole => self.pick(WHOLE).into(),
            Parameter::Moment => self.pick(MOMENT).into(),
            Parameter::Temporal => self.pick(&[MOMENT, INTERVAL].concat()).into(),
            Parameter::Interval => self.pick(INTERVAL).into(),
            Parameter::Json => self.pick(&["j", "json '[1, {\"a\": 2}]'", "j -> 'a'", "null"]).into(),
            Parameter::Bytes => self.pick(&["t::bytea", "'\\x'", "'\\x00ff'", "decode(u, 'escape')", "null"]).into(),
            Parameter::List => {
                self.pick(&["'{a,NULL}'::text[]", "string_to_array(t, u)", "array[t, u]", "null"]).into()
            }
            Parameter::Item => self.pick(&["t", "'a'", "null"]).into(),
            Parameter::Clock => self.pick(&["at::time", "'23:59:59.999999'", "'08:05:09.5'", "null"]).into(),
            Parameter::AsJson => self.pick(&["j", "t", "d", "n", "b", "at", "day", "null"]).into(),
            // There is none here.
            Parameter::Secret => "'vessels'".into(),
            Parameter::Word(words) => format!("'{}'", self.pick(words)),
        }
    }

    fn expression(&mut self) -> String {
        let all: Vec<_> = functions().collect();
        let operators = [
            "t like u",
            "t ilike u",
            "t similar to '%(a|_)%'",
            "t ~ '[a-z]+|船'",
            "j -> t",
            "j ->> i",
            "j #>> '{items,0}'",
            "i << l",
            "~l",
            "l >> i",
            "i & 255",
            "at - at",
            "at + (at - at)",
            "day + i",
            "day - day",
            "interval '1 month' * d",
            "interval '1 day' / d",
            "greatest(t, u, null)",
            "least(d, i, n)",
            "t is distinct from u",
            "overlay(t placing u from i for l)",
            "extract(epoch from at)",
            "(at at time zone 'Asia/Kathmandu') at time zone 'America/New_York'",
            "try_cast(t as timestamp) at time zone 'UTC'",
            "try_cast(t as interval) > interval '1 s'",
            "try_cast(t as json) -> 0",
            "d ^ d",
            "trim(leading u from t)",
        ];
        if self.below(4) == 0 {
            return self.pick(&operators).into();
        }
        let function = all[self.below(all.len())];
        let mut parameters: Vec<Parameter> = function.parameters.to_vec();
        parameters.extend(function.optional.iter().take(self.below(function.optional.len() + 1)));
        if function.repeats {
            let last = *function.optional.last().or(function.parameters.last()).unwrap();
            parameters.extend((0..self.below(3)).map(|_| last));
        }
        let arguments: Vec<String> = parameters.into_iter().map(|p| self.argument(p)).collect();
        format!("{}({})", function.name, arguments.join(", "))
    }
}

fn rows(random: &mut Random, count: usize) -> (Vec<ScopeColumn>, RecordBatch) {
    let some = |random: &mut Random| random.below(5) > 0;
    let wholes = [0_i64, 1, -1, 7, 255, i64::from(i32::MAX), i64::from(i32::MIN), i64::MAX, i64::MIN];
    let doubles = [0.0, -0.0, 1.5, -2.5, 1e300, -1e-300, f64::NAN, f64::INFINITY, f64::NEG_INFINITY, 0.1];
    let moments = [0, -62_135_596_800_000_000, 253_402_300_799_999_999, 1_782_892_800_123_456, -1];
    let decimals = [0, 1, -1, 10_i128.pow(37), -(10_i128.pow(37)), 12_345];
    macro_rules! column {
        ($array:ty, $value:expr) => {
            (0..count).map(|_| some(random).then(|| $value(random))).collect::<$array>()
        };
    }
    let columns: Vec<(&str, SqlType, ArrayRef)> = vec![
        ("t", SqlType::Text, Arc::new(column!(StringArray, |r: &mut Random| r.text()))),
        ("u", SqlType::Text, Arc::new(column!(StringArray, |r: &mut Random| r.text()))),
        ("j", SqlType::Json, Arc::new(column!(StringArray, |r: &mut Random| r.json(3)))),
        ("b", SqlType::Boolean, Arc::new(column!(BooleanArray, |r: &mut Random| r.below(2) == 0))),
        (
            "i",
            SqlType::Integer,
            Arc::new(column!(Int32Array, |r: &mut Random| i32::try_from(wholes[r.below(7)]).unwrap())),
        ),
        ("l", SqlType::Bigint, Arc::new(column!(Int64Array, |r: &mut Random| wholes[r.below(wholes.len())]))),
        ("d", SqlType::Double, Arc::new(column!(Float64Array, |r: &mut Random| doubles[r.below(doubles.len())]))),
        (
            "n",
            SqlType::Decimal { precision: 38, scale: 5 },
            Arc::new(
                column!(Decimal128Array, |r: &mut Random| decimals[r.below(decimals.len())])
                    .with_precision_and_scale(38, 5)
                    .unwrap(),
            ),
        ),
        (
            "day",
            SqlType::Date,
            Arc::new(column!(Date32Array, |r: &mut Random| [0, -719_162, 2_932_896, 20_000][r.below(4)])),
        ),
        (
            "at",
            SqlType::Timestamptz,
            Arc::new(
                column!(TimestampMicrosecondArray, |r: &mut Random| moments[r.below(moments.len())])
                    .with_timezone("UTC"),
            ),
        ),
    ];
    let scope = columns
        .iter()
        .map(|(name, ty, _)| ScopeColumn { name: (*name).into(), ty: *ty, nullable: true, limit: None })
        .collect();
    let schema = Schema::new(columns.iter().map(|(name, ty, _)| ty.field(name, true)).collect::<Vec<_>>());
    let batch = RecordBatch::try_new(Arc::new(schema), columns.into_iter().map(|c| c.2).collect()).unwrap();
    (scope, batch)
}

/// `SLUICE_CALLS` sets how many calls are tried, each on 64 rows.
#[test]
fn no_call_panics_and_each_has_its_type() {
    let count = std::env::var("SLUICE_CALLS").ok().and_then(|n| n.parse().ok()).unwrap_or(8_000);
    let mut random = Random(20_260_701);
    let mut bound = 0;
    for call in 0..count {
        let (scope, batch) = rows(&mut random, 64);
        let expression = random.expression();
        let mut problems = Problems::new();
        let within = bind_select(&embed(&format!("{expression} as x")), &scope, &mut problems);
        let items = match within.is_empty() {
            true => bind_select(&embed(&format!("cast({expression} as text) as x")), &scope, &mut Problems::new()),
            false => within,
        };
        let Some(item) = items.first() else { continue };
        bound += 1;
        let compute = || evaluate(&item.expr, &EvalContext::new(&batch, 0)).expand(batch.num_rows());
        let computed = std::panic::catch_unwind(std::panic::AssertUnwindSafe(compute));
        assert!(computed.is_ok(), "{expression} panics");
        let Ok(column) = computed else { return };
        assert_eq!(column.array.len(), 64, "{expression}");
        assert_eq!(column.array.data_type(), &item.expr.ty.arrow(), "{expression}");
        let has_null = (0..64).any(|row| column.is_null(row) && !column.errors.has(row));
        assert!(item.expr.nullable || !has_null, "{expression} is null and was said never to be");
        if item.expr.ty == SqlType::Json {
            for row in (0..64).filter(|row| !column.is_null(*row) && !column.errors.has(*row)) {
                let text = column.text().value(row);
                assert!(serde_json::from_str::<&serde_json::value::RawValue>(text).is_ok(), "{expression}: {text}");
            }
        }
        assert!(call < 1_000 || bound * 3 > call, "most calls are refused");
    }
}
