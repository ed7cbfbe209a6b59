//! Expressions from text to values.

use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Decimal128Array, Float64Array, Int32Array, RecordBatch, StringArray,
    TimestampMicrosecondArray,
};
use arrow_schema::Schema;
use rstest::rstest;

use super::*;
use crate::problem::{Problem, Problems, Severity};
use crate::sql::tests::embed;
use crate::values::json;

fn sample() -> (Vec<ScopeColumn>, RecordBatch) {
    let columns: Vec<(&str, SqlType, ArrayRef)> = vec![
        ("lock_id", SqlType::Text, Arc::new(StringArray::from(vec![Some("Low"), Some("ÖST"), None]))),
        ("draught_cm", SqlType::Integer, Arc::new(Int32Array::from(vec![Some(180), Some(0), None]))),
        (
            "toll",
            SqlType::Decimal { precision: 6, scale: 2 },
            Arc::new(Decimal128Array::from(vec![Some(1234), Some(-50), None]).with_precision_and_scale(6, 2).unwrap()),
        ),
        ("level", SqlType::Double, Arc::new(Float64Array::from(vec![Some(1.5), Some(2.0), None]))),
        ("open", SqlType::Boolean, Arc::new(BooleanArray::from(vec![Some(true), Some(false), None]))),
        (
            "passed_at",
            SqlType::Timestamptz,
            Arc::new(TimestampMicrosecondArray::from(vec![Some(0), Some(90_000_000_000), None]).with_timezone("UTC")),
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

/// What a project declares: the secret `vessels`, which has been read.
fn declared() -> Arc<own::OwnFunctions> {
    struct Known;

    impl crate::secret::SecretStore for Known {
        fn read(&self, _: &crate::secret::SecretRef) -> Result<crate::secret::Secret, String> {
            Ok(crate::secret::Secret::new("gate-7"))
        }
    }

    let secret = secrets::ExpressionSecret::new("vessels".into(), crate::secret::SecretRef::Env("VESSELS".into()));
    secret.read(&Known).unwrap();
    let mut declared = own::OwnFunctions::default();
    declared.declare_secret(secret);
    Arc::new(declared)
}

/// Binds `expression` as the only column; gives the three values as text, `null` and `!reason` included.
fn values(expression: &str) -> Vec<String> {
    let (scope, batch) = sample();
    let mut problems = Problems::new();
    let text = embed(&format!("{expression} as x")).with_functions(&declared());
    let mut items = bind_select(&text, &scope, &mut problems);
    assert!(!problems.has_errors(), "{expression}: {:?}", problems.into_sorted());
    let expr = items.remove(0).expr;
    let column = evaluate(&expr, &EvalContext::new(&batch, 1_000_000)).expand(batch.num_rows());
    assert_eq!(column.array.data_type(), &expr.ty.arrow(), "{expression}");
    (0..batch.num_rows()).map(|row| shown(&column, row)).collect()
}

fn shown(column: &Column, row: usize) -> String {
    if let Some((_, reason)) = column.errors.iter().find(|(r, _)| *r == row) {
        return format!("!{reason}");
    }
    if column.is_null(row) {
        return "null".into();
    }
    let mut text = String::new();
    json::write_text(&mut text, column.array.as_ref(), row);
    text
}

/// The value of an expression that names no column.
pub(crate) fn constant(expression: &str) -> String {
    values(expression).remove(0)
}

fn problems(expression: &str) -> Vec<Problem> {
    let (scope, _) = sample();
    let mut problems = Problems::new();
    bind_select(&embed(expression), &scope, &mut problems);
    problems.into_sorted()
}

#[rstest]
#[case("left(hmac_sha256(lock_id, 'vessels'), 8) = left(hmac_sha256('Low', 'vessels'), 8)", ["true", "false", "null"])]
#[case("name_uuid('6ba7b810-9dad-11d1-80b4-00c04fd430c8', lock_id)", ["b450ba0c-718f-5d0d-85b2-b9f032844492", "d68f1d5c-41a9-52e6-811a-93a746132f8b", "null"])]
#[case("name_uuid(lock_id, 'x')", ["!`Low` is no UUID", "!`ÖST` is no UUID", "null"])]
#[case("lower(lock_id)", ["low", "öst", "null"])]
#[case("upper(lock_id) || '!'", ["LOW!", "ÖST!", "null"])]
#[case("concat(lock_id, '-', draught_cm)", ["Low-180", "ÖST-0", "-"])]
#[case("substring(lock_id from 2 for 1)", ["o", "S", "null"])]
#[case("substring(lock_id, -1, 3)", ["L", "Ö", "null"])]
#[case("length(lock_id)", ["3", "3", "null"])]
#[case("draught_cm + 1", ["181", "1", "null"])]
#[case("cast(draught_cm as decimal(6,2)) / 100", ["1.800000", "0.000000", "null"])]
#[case("draught_cm / 7", ["25", "0", "null"])]
#[case("100 / draught_cm", ["0", "!division by zero", "null"])]
#[case("2147483647 + draught_cm", ["!the result is too large for its type", "2147483647", "null"])]
#[case("toll * 2", ["24.68", "-1.00", "null"])]
#[case("toll + 0.005", ["12.345", "-0.495", "null"])]
#[case("level * toll", ["18.509999999999998", "-1", "null"])]
#[case("-draught_cm", ["-180", "0", "null"])]
#[case("round(toll)", ["12", "-1", "null"])]
#[case("round(toll, 1)", ["12.30", "-0.50", "null"])]
#[case("round(level)", ["2", "2", "null"])]
#[case("draught_cm > 100", ["true", "false", "null"])]
#[case("lock_id = 'Low'", ["true", "false", "null"])]
#[case("passed_at >= '1970-01-02'", ["false", "true", "null"])]
#[case("draught_cm is null", ["false", "false", "true"])]
#[case("draught_cm is not null and open", ["true", "false", "false"])]
#[case("open or draught_cm = 0", ["true", "true", "null"])]
#[case("not open", ["false", "true", "null"])]
#[case("open is true", ["true", "false", "false"])]
#[case("open is not true", ["false", "true", "true"])]
#[case("draught_cm in (0, 5)", ["false", "true", "null"])]
#[case("draught_cm not in (0, 5)", ["true", "false", "null"])]
#[case("draught_cm in (5, null)", ["null", "null", "null"])]
#[case("draught_cm between 0 and 100", ["false", "true", "null"])]
#[case("case when draught_cm > 100 then 'deep' when draught_cm >= 0 then 'flat' end", ["deep", "flat", "null"])]
#[case("case draught_cm when 0 then 'none' else 'some' end", ["some", "none", "some"])]
#[case("case when draught_cm <> 0 then 360 / draught_cm else 0 end", ["2", "0", "0"])]
#[case("draught_cm <> 0 and 360 / draught_cm > 1", ["true", "false", "null"])]
#[case("coalesce(lock_id, 'unknown')", ["Low", "ÖST", "unknown"])]
#[case("coalesce(draught_cm, 360 / 0)", ["180", "0", "!division by zero"])]
#[case("nullif(draught_cm, 0)", ["180", "null", "null"])]
#[case("cast(lock_id as integer)", ["!`Low` is no integer", "!`ÖST` is no integer", "null"])]
#[case("try_cast(lock_id as integer)", ["null", "null", "null"])]
#[case("cast(level as decimal(4,2))", ["1.50", "2.00", "null"])]
#[case("cast(draught_cm as decimal(2,0))", ["!`180` is no decimal(2,0)", "0", "null"])]
#[case("cast(passed_at as date)", ["1970-01-01", "1970-01-02", "null"])]
#[case("draught_cm::bigint", ["180", "0", "null"])]
#[case("cast(open as integer)", ["1", "0", "null"])]
#[case("date_trunc('day', passed_at)", ["1970-01-01T00:00:00Z", "1970-01-02T00:00:00Z", "null"])]
#[case("now()", ["1970-01-01T00:00:01Z", "1970-01-01T00:00:01Z", "1970-01-01T00:00:01Z"])]
// What could not be computed decides nothing.
#[case("360 / draught_cm > 5 and 100 / draught_cm > 3", ["false", "!division by zero", "null"])]
#[case("360 / draught_cm < 1 or 100 / draught_cm < 1", ["true", "!division by zero", "null"])]
#[case("not (360 / draught_cm > 5 and 100 / draught_cm > 3)", ["true", "!division by zero", "null"])]
#[case("360 / draught_cm in (2, 3)", ["true", "!division by zero", "null"])]
#[case("case when 360 / draught_cm < 1 then 'a' else 'b' end", ["b", "!division by zero", "b"])]
#[case("draught_cm = 0 or 360 / draught_cm > 1", ["true", "true", "null"])]
#[case("substring('12345' for 2)", ["12", "12", "12"])]
#[case("substring('12345', 2)", ["2345", "2345", "2345"])]
#[case("round(1250, -2)", ["1300", "1300", "1300"])]
#[case("round(-1250, -2)", ["-1300", "-1300", "-1300"])]
#[case("round(1249.999, -2)", ["1200.000", "1200.000", "1200.000"])]
#[case("round(7, 5)", ["7", "7", "7"])]
#[case("round(7, -5)", ["0", "0", "0"])]
#[case("round(1.005e0, 2)", ["1.01", "1.01", "1.01"])]
#[case("round(123456.789e0, 15)", ["123456.789", "123456.789", "123456.789"])]
#[case("cast(1.005e0 as decimal(6,2))", ["1.01", "1.01", "1.01"])]
#[case("cast(0.125e0 as decimal(6,2))", ["0.13", "0.13", "0.13"])]
#[case("cast(2.5e0 as integer)", ["3", "3", "3"])]
#[case("cast(cast(0.1 as decimal(38,20)) as double precision) = 0.1e0", ["true", "true", "true"])]
#[case("cast(toll as decimal(38,10)) + 1", ["13.340000000", "0.500000000", "null"])]
#[case(
    "cast(1.0000000001 as decimal(38,10)) + 1",
    ["!the result has more digits after the point than its type"; 3]
)]
#[case("cast('NaN' as double precision)::json", ["!`NaN` is not a value of json"; 3])]
#[case("cast(1.5e0 as json)", ["1.5", "1.5", "1.5"])]
#[case("date '2026-04-01'", ["2026-04-01", "2026-04-01", "2026-04-01"])]
#[case("null", ["null", "null", "null"])]
#[case("1 / 0", ["!division by zero", "!division by zero", "!division by zero"])]
fn evaluation(#[case] expression: &str, #[case] expected: [&str; 3]) {
    assert_eq!(values(expression), expected);
}

#[rstest]
#[case("lowr(lock_id) as x", "name.unknown", "did you mean `lower`?")]
#[case("lock_di", "name.unknown", "did you mean `lock_id`?")]
#[case("lock_id + 1 as x", "type.mismatch", "cast")]
#[case("lock_id = 1", "type.mismatch", "cast")]
#[case("lower(lock_id)", "key.missing", "lower(lock_id) as name")]
#[case("cast(lock_id as intger) as x", "name.unknown", "did you mean `integer`?")]
#[case("date_trunc('dya', passed_at) as x", "value.type", "did you mean `day`?")]
#[case("abs(lock_id) as x", "type.mismatch", "abs(number)")]
#[case("sha256() as x", "type.mismatch", "sha256(text)")]
#[case("lock_id as a, draught_cm as A", "name.taken", "another name")]
#[case("(select 1) as x", "unsupported", "manual")]
#[case("lock_id like any ('L%') as x", "unsupported", "or t like")]
#[case("lock_id ~ '(' as x", "value.type", "manual functions")]
#[case("date_trunc('day', passed_at, 'Europe/Olso') as x", "value.type", "manual date_trunc")]
#[case("cast(passed_at at time zone 'Europe/Olso' as text) as x", "value.type", "manual functions")]
#[case("open & 1 as x", "type.mismatch", "cast")]
#[case("lock_id >> 1 as x", "type.mismatch", "both whole")]
#[case("lock_id ~ lock_id as x", "type.mismatch", "~ pattern")]
#[case("passed_at - passed_at as x", "type.mismatch", "extract(epoch from")]
#[case("passed_at at time zone 'UTC' as x", "type.mismatch", "at time zone 'UTC'")]
#[case("extract(yaer from passed_at) as x", "value.type", "did you mean `year`?")]
#[case("passed_at + 5 as x", "type.mismatch", "interval '5 minutes'")]
#[case("lock_id -> 'a' as x", "type.mismatch", "->")]
#[case("regexp_substr(lock_id, '(?P<lock>.)', 1, 1, '', 'lok') as x", "value.type", "manual regexp_substr")]
#[case("regexp_match(lock_id, 'a', 'g') as x", "value.type", "manual regexp_match")]
#[case("mod(7) as x", "type.mismatch", "7 % 3")]
#[case("to_char(passed_at, 'YYYX') as x", "value.type", "manual to_char")]
#[case("json_path_exists(json '1', '$.') as x", "value.type", "manual json_path_exists")]
#[case("length(lock_id) filter (where open) as x", "unsupported", "aggregates")]
#[case("length(distinct lock_id) as x", "unsupported", "plain expressions")]
#[case("length(lock_id order by toll) as x", "unsupported", "plain expressions")]
#[case("length(lock_id) over () as x", "unsupported", "aggregates")]
#[case("cast(lock_id as date format '%Y') as x", "unsupported", "contract")]
#[case("* exclude (toll)", "unsupported", "except")]
#[case("* rename (toll as t)", "unsupported", "except")]
#[case("* except (tol)", "name.unknown", "did you mean `toll`?")]
#[case("* replace (lower(lock_id) as lok_id)", "name.unknown", "did you mean `lock_id`?")]
#[case("cast(lock_id as varchar(0)) as x", "value.range", "or text")]
#[case("cast(draught_cm as tinyint) as x", "name.unknown", "write smallint")]
#[case("cast(level as float(3)) as x", "name.unknown", "write double precision")]
#[case("cast(passed_at as timestamptz(0)) as x", "name.unknown", "write timestamptz")]
fn mistakes(#[case] expression: &str, #[case] code: &str, #[case] help: &str) {
    let found = problems(expression);
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0].code, code, "{found:?}");
    assert!(found[0].help.as_ref().unwrap().contains(help), "{found:?}");
}

/// The value of `now()` of a constant is not of interest: both sides have the same.
#[test]
fn the_age_of_one_moment_ends_with_the_beginning_of_the_day() {
    assert_eq!(constant("age(current_date)::text"), constant("interval '0 seconds'::text"));
    assert_eq!(constant("age(current_date - 3)::text"), "3 days");
}

#[test]
fn a_wrong_literal_is_found_before_running() {
    assert_eq!(problems("passed_at > 'soon'")[0].code, "type.mismatch");
    assert_eq!(problems("json '{bad' as x")[0].code, "type.mismatch");
}

#[test]
fn all_mistakes_of_a_list_come_at_once() {
    assert_eq!(problems("lock_di, lowr(x) as y, toll, case when").len(), 3);
}

#[test]
fn rounding_casts_warn() {
    let found = problems("cast(level as integer) as x");
    assert_eq!((found[0].code, found[0].severity), ("cast.lossy", Severity::Warning));
    assert!(problems("cast(round(toll) as integer) as x").is_empty());
}

#[test]
fn a_condition_must_be_boolean() {
    let (scope, _) = sample();
    let mut found = Problems::new();
    assert!(bind_condition(&embed("draught_cm"), &scope, &mut found).is_none());
    assert!(found.has_errors());
}

#[test]
fn a_star_leaves_columns_out_and_replaces_others() {
    let (scope, _) = sample();
    let names = |list: &str| -> Vec<String> {
        let mut problems = Problems::new();
        let items = bind_select(&embed(list), &scope, &mut problems);
        assert!(!problems.has_errors(), "{:?}", problems.into_sorted());
        items.into_iter().map(|i| format!("{}={}", i.name, i.text)).collect()
    };
    assert_eq!(names("* except (lock_id, TOLL)").len(), scope.len() - 2);
    let replaced = names("* except (toll) replace (upper(lock_id) as lock_id)");
    assert_eq!(replaced.len(), scope.len() - 1);
    assert!(replaced.contains(&"lock_id=upper(lock_id)".to_string()), "{replaced:?}");
}

#[test]
fn long_lists_and_chains_are_bound_and_deep_nesting_is_refused() {
    let list = (0..4_000).map(|n| n.to_string()).collect::<Vec<_>>().join(", ");
    assert_eq!(values(&format!("draught_cm in ({list})")), ["true", "true", "null"]);
    let chain = |count: u32| (0..count).map(|n| format!("draught_cm = {n}")).collect::<Vec<_>>().join(" or ");
    assert_eq!(values(&chain(200)), ["true", "true", "null"]);
    assert!(problems(&format!("{} as x", chain(40_000))).iter().any(|p| p.message.contains("more than 500 operators")));
    let sum = vec!["draught_cm"; 300].join(" + ");
    assert!(problems(&format!("{sum} as x")).iter().any(|p| p.message.contains("nested more than")));
    let deep = format!("{}1{}", "(".repeat(3_000), ")".repeat(3_000));
    assert!(!problems(&format!("{deep} as x")).is_empty());
}

#[test]
fn a_star_takes_all_columns() {
    let (scope, _) = sample();
    let items = bind_select(&embed("*, 1 as one"), &scope, &mut Problems::new());
    assert_eq!(items.len(), scope.len() + 1);
}

/// What narrows values stays with columns that go through unchanged and with casts, and with nothing that is computed.
#[test]
fn limits_go_where_values_go_unchanged() {
    use crate::limit::Limit;
    let column = |name: &str, ty, limit| ScopeColumn { name: name.into(), ty, nullable: true, limit };
    let scope = [
        column("id", SqlType::Text, Some(Limit::Uuid)),
        column("berth", SqlType::Integer, Some(Limit::Smallint)),
        column("note", SqlType::Text, None),
    ];
    let text = "*, id as own, berth + 1 as next, cast(note as varchar(9)) as short, cast(id as text) as long, \
                cast(berth as bigint) as wide, cast(id as uuid) as same, lower(id) as small, try_cast(note as uuid) as other";
    let mut problems = Problems::new();
    let items = bind_columns(&embed(text), &scope, scope.len(), &mut problems);
    assert!(problems.is_empty(), "{:?}", problems.into_sorted());
    let shown = |item: &SelectItem| crate::limit::shown(item.expr.ty, item.expr.limit);
    let types: Vec<String> = items.iter().map(shown).collect();
    let expected =
        ["uuid", "smallint", "text", "uuid", "integer", "varchar(9)", "text", "bigint", "uuid", "text", "uuid"];
    assert_eq!(types, expected);
}
