//! Types there and back: edge values land as they are, or become rejects with a reason.

use std::sync::Arc;

use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int32Array, Int64Array, StringArray,
    TimestampMicrosecondArray,
};
use rstest::rstest;
use sluice_core::columns::OutputColumn;
use sluice_core::limit::Limit;
use sluice_core::types::SqlType;

use super::{Kind, TestTable, column};

const NUMERIC: SqlType = SqlType::Decimal { precision: 38, scale: 6 };

/// Lands two rows, a value and a null, and gives what the store shows of them, or the reason of the refusal.
fn there_and_back(kind: Kind, ty: SqlType, value: ArrayRef) -> Option<Result<Vec<String>, String>> {
    column_there_and_back(kind, column("x", ty, true), value)
}

fn column_there_and_back(kind: Kind, x: OutputColumn, value: ArrayRef) -> Option<Result<Vec<String>, String>> {
    let columns = [column("id", SqlType::Integer, false), x];
    let table = TestTable::new(kind, &columns)?.created();
    let ids: ArrayRef = Arc::new(Int32Array::from(vec![0, 1]));
    let published = table.land(table.open().as_ref(), 1, vec![ids, value]);
    if let Some(refused) = published.refused.first() {
        assert_eq!(table.rows("select id from {t}"), ["1"], "the other row lands");
        assert_eq!(refused.bytes, b"event 0");
        return Some(Err(refused.message.clone()));
    }
    let mut stored = table.landing_kind().look(&table.settings(), &columns).unwrap().unwrap();
    let columns = stored.summary().columns.clone();
    let mut text = String::new();
    while let Some(batch) = stored.next().unwrap() {
        sluice_core::values::json::write_lines(&mut text, &batch, &columns);
    }
    let mut lines: Vec<String> = text.lines().map(str::to_string).collect();
    lines.sort();
    let value = |line: &String| line.split_once("\"x\":").unwrap().1.trim_end_matches('}').to_string();
    Some(Ok(lines.iter().map(value).collect()))
}

fn decimal(value: i128) -> ArrayRef {
    Arc::new(Decimal128Array::from(vec![Some(value), None]).with_data_type(NUMERIC.arrow()))
}

fn moment(micros: i64) -> ArrayRef {
    Arc::new(TimestampMicrosecondArray::from(vec![Some(micros), None]).with_timezone("UTC"))
}

fn text(value: &str) -> ArrayRef {
    Arc::new(StringArray::from(vec![Some(value), None]))
}

const POSTGRES: Kind = Kind::Postgres;
const MARIADB: Kind = Kind::Mariadb;
const SQLITE: Kind = Kind::Sqlite;
const CLICKHOUSE: Kind = Kind::Clickhouse;
const LARGEST: i128 = 99_999_999_999_999_999_999_999_999_999_999_999_999;

#[rstest]
fn whole_numbers_keep_all_their_bits(
    #[values(POSTGRES, MARIADB, SQLITE, CLICKHOUSE)] kind: Kind,
    #[values(i64::MIN, -1, 0, i64::MAX)] value: i64,
) {
    let array: ArrayRef = Arc::new(Int64Array::from(vec![Some(value), None]));
    let Some(found) = there_and_back(kind, SqlType::Bigint, array) else { return };
    assert_eq!(found.unwrap(), [value.to_string(), "null".into()]);
}

#[rstest]
#[case(POSTGRES, "99999999999999999999999999999999.999999")]
#[case(MARIADB, "99999999999999999999999999999999.999999")]
#[case(SQLITE, "\"99999999999999999999999999999999.999999\"")]
#[case(CLICKHOUSE, "99999999999999999999999999999999.999999")]
fn exact_numbers_keep_all_their_digits(#[case] kind: Kind, #[case] largest: &str) {
    let Some(found) = there_and_back(kind, NUMERIC, decimal(LARGEST)) else { return };
    assert_eq!(found.unwrap(), [largest, "null"]);
    let small = there_and_back(kind, NUMERIC, decimal(-1)).unwrap().unwrap();
    assert!(["-0.000001", "\"-0.000001\""].contains(&small[0].as_str()), "{small:?}");
}

#[rstest]
#[case(POSTGRES, 1.0e300, Ok("1e300"))]
#[case(MARIADB, f64::NAN, Err("neither infinite nor NaN"))]
#[case(MARIADB, f64::NEG_INFINITY, Err("neither infinite nor NaN"))]
#[case(MARIADB, 2.5e-300, Ok("2.5e-300"))]
#[case(SQLITE, f64::NAN, Err("no number for NaN"))]
#[case(SQLITE, 0.1, Ok("0.1"))]
#[case(CLICKHOUSE, 0.1, Ok("0.1"))]
fn floating_points(#[case] kind: Kind, #[case] value: f64, #[case] expected: Result<&str, &str>) {
    let array: ArrayRef = Arc::new(Float64Array::from(vec![Some(value), None]));
    let Some(found) = there_and_back(kind, SqlType::Double, array) else { return };
    match expected {
        Ok(text) => assert_eq!(found.unwrap()[0].parse::<f64>().unwrap(), text.parse::<f64>().unwrap()),
        Err(reason) => assert!(found.unwrap_err().contains(reason)),
    }
}

#[test]
fn postgres_holds_nan_and_the_infinities() {
    let columns = [column("id", SqlType::Integer, false), column("x", SqlType::Double, true)];
    let Some(table) = TestTable::new(POSTGRES, &columns) else { return };
    let table = table.created();
    let values: ArrayRef = Arc::new(Float64Array::from(vec![f64::NAN, f64::INFINITY, f64::NEG_INFINITY]));
    table.land(table.open().as_ref(), 1, vec![Arc::new(Int32Array::from(vec![0, 1, 2])), values]);
    assert_eq!(table.rows("select x from {t} order by id"), ["NaN", "Infinity", "-Infinity"]);
}

#[rstest]
#[case(POSTGRES, "a\0b", Err("zero byte"))]
#[case(MARIADB, "a\0b", Ok("\"a\\u0000b\""))]
#[case(SQLITE, "a\0b", Ok("\"a\\u0000b\""))]
#[case(CLICKHOUSE, "a\0b", Ok("\"a\\u0000b\""))]
#[case(POSTGRES, "水位 \\ ' \" \n\t😀", Ok("\"水位 \\\\ ' \\\" \\n\\t😀\""))]
#[case(MARIADB, "水位 \\ ' \" \n\t😀", Ok("\"水位 \\\\ ' \\\" \\n\\t😀\""))]
#[case(SQLITE, "水位 \\ ' \" \n\t😀", Ok("\"水位 \\\\ ' \\\" \\n\\t😀\""))]
#[case(CLICKHOUSE, "水位 \\ ' \" \n\t😀", Ok("\"水位 \\\\ ' \\\" \\n\\t😀\""))]
fn texts(#[case] kind: Kind, #[case] value: &str, #[case] expected: Result<&str, &str>) {
    let Some(found) = there_and_back(kind, SqlType::Text, text(value)) else { return };
    match expected {
        Ok(text) => assert_eq!(found.unwrap()[0], text),
        Err(reason) => assert!(found.unwrap_err().contains(reason)),
    }
}

#[rstest]
fn long_texts(#[values(POSTGRES, MARIADB, SQLITE, CLICKHOUSE)] kind: Kind) {
    let long = "barge ".repeat(200_000);
    let Some(found) = there_and_back(kind, SqlType::Text, text(&long)) else { return };
    assert_eq!(found.unwrap()[0].len(), long.len() + 2);
}

// Days from 1970: 2026-07-01, 0001-01-01, 9999-12-31, and one that no calendar has.
#[rstest]
#[case(POSTGRES, 20_635, Ok("2026-07-01"))]
#[case(POSTGRES, -719_162, Ok("0001-01-01"))]
#[case(POSTGRES, 2_932_896, Ok("9999-12-31"))]
#[case(POSTGRES, i32::MAX, Err("out of range"))]
#[case(POSTGRES, i32::MIN, Err("not a day of PostgreSQL"))]
#[case(MARIADB, 2_932_896, Ok("9999-12-31"))]
#[case(MARIADB, i32::MAX, Err("1 to 9999"))]
#[case(SQLITE, -719_162, Ok("0001-01-01"))]
#[case(SQLITE, i32::MIN, Err("1 to 9999"))]
#[case(CLICKHOUSE, 20_635, Ok("2026-07-01"))]
#[case(CLICKHOUSE, -1, Err("1970 to 2105"))]
fn days(#[case] kind: Kind, #[case] day: i32, #[case] expected: Result<&str, &str>) {
    let array: ArrayRef = Arc::new(Date32Array::from(vec![Some(day), None]));
    let Some(found) = there_and_back(kind, SqlType::Date, array) else { return };
    match expected {
        Ok(text) => assert_eq!(found.unwrap()[0].trim_matches('"'), text),
        Err(reason) => {
            let said = found.unwrap_err();
            assert!(said.contains(reason), "{said}");
        }
    }
}

#[rstest]
#[case(POSTGRES, 1_782_882_367_000_008, Ok("2026-07-01 05:06:07.000008"))]
#[case(POSTGRES, i64::MIN, Err("not a moment of PostgreSQL"))]
#[case(MARIADB, 1_782_882_367_000_008, Ok("2026-07-01 05:06:07.000008"))]
#[case(MARIADB, -1, Ok("1969-12-31 23:59:59.999999"))]
#[case(MARIADB, i64::MAX, Err("1 to 9999"))]
#[case(SQLITE, 1_782_882_367_000_008, Ok("2026-07-01 05:06:07.000008"))]
#[case(SQLITE, i64::MAX, Err("1 to 9999"))]
#[case(CLICKHOUSE, -7, Ok("-7"))]
fn moments(#[case] kind: Kind, #[case] micros: i64, #[case] expected: Result<&str, &str>) {
    let Some(found) = there_and_back(kind, SqlType::Timestamptz, moment(micros)) else { return };
    match expected {
        Ok(text) => assert_eq!(found.unwrap()[0].trim_matches('"').replace('T', " ").trim_end_matches('Z'), text),
        Err(reason) => {
            let said = found.unwrap_err();
            assert!(said.contains(reason), "{said}");
        }
    }
}

#[rstest]
fn json_and_truth(#[values(POSTGRES, MARIADB, SQLITE, CLICKHOUSE)] kind: Kind) {
    let Some(found) = there_and_back(kind, SqlType::Json, text(r#"[1,{"a":[null,"x"]}]"#)) else { return };
    let found = found.unwrap()[0].replace([' ', '\\'], "");
    assert!(found.contains(r#"[1,{"a":[null,"x"]}]"#), "{found}");
    let array: ArrayRef = Arc::new(BooleanArray::from(vec![Some(true), None]));
    let found = there_and_back(kind, SqlType::Boolean, array).unwrap().unwrap();
    assert!(["true", "1"].contains(&found[0].as_str()), "{found:?}");
    assert_eq!(found[1], "null");
}

#[test]
fn values_that_no_type_of_ours_has_are_said() {
    let Some(table) = TestTable::new(POSTGRES, &[column("d", SqlType::Date, true)]) else { return };
    table.execute("create table {t} (d date, n numeric(6,2), t timestamptz)");
    table.execute("insert into {t} values ('infinity', 'NaN', '-infinity'), ('2026-07-01', 1.5, null)");
    let mut stored = table.landing_kind().look(&table.settings(), &table.columns).unwrap().unwrap();
    let rows = stored.next().unwrap().unwrap();
    assert_eq!(rows.num_rows(), 2);
    assert_eq!(rows.columns().iter().map(|c| c.null_count()).collect::<Vec<_>>(), [1, 1, 2]);
    assert!(stored.summary().remarks[0].contains("infinities or NaN"));
}

const ID: &str = "a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11";

/// A column that is made for a narrower type holds its largest values as they are.
#[rstest]
fn narrower_types(
    #[values(POSTGRES, MARIADB, SQLITE, CLICKHOUSE)] kind: Kind,
    #[values(
        (Limit::Smallint, "-32768"),
        (Limit::Smallint, "32767"),
        (Limit::Real, "0.1"),
        (Limit::Real, "16777216"),
        (Limit::Varchar(3), "\"äöü\""),
        (Limit::Varchar(20_000), "\"x\""),
        (Limit::Char(4), "\"ab\""),
        (Limit::Uuid, "\"a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11\"")
    )]
    (limit, value): (Limit, &str),
) {
    let plain = value.trim_matches('"');
    let array: ArrayRef = match limit.base() {
        SqlType::Integer => Arc::new(Int32Array::from(vec![Some(plain.parse::<i32>().unwrap()), None])),
        SqlType::Double => Arc::new(Float64Array::from(vec![Some(plain.parse::<f64>().unwrap()), None])),
        _ => text(plain),
    };
    let lands = OutputColumn { limit: Some(limit), ..column("x", limit.base(), true) };
    let Some(found) = column_there_and_back(kind, lands, array) else { return };
    let shown = found.unwrap()[0].trim_end_matches(".0").to_string();
    // PostgreSQL pads such a column, and takes the blanks for nothing.
    let is_padded = kind == POSTGRES && matches!(limit, Limit::Char(_));
    assert_eq!(if is_padded { shown.replace(' ', "") } else { shown }, value, "{limit}");
}

/// Bytes, times of day and lists land as such where the store has them; each is shown as text.
#[rstest]
#[case(POSTGRES, Limit::Bytea, "\\x00ff27", "bytea", "\"\\\\x00ff27\"")]
#[case(POSTGRES, Limit::Bytea, "\\x", "bytea", "\"\\\\x\"")]
#[case(POSTGRES, Limit::Time, "08:05:09.5", "time without time zone", "\"08:05:09.5\"")]
#[case(POSTGRES, Limit::Time, "23:59:59.999999", "time without time zone", "\"23:59:59.999999\"")]
#[case(
    POSTGRES,
    Limit::List(SqlType::Text),
    r#"["ore, \"x\"",null,"","NULL"]"#,
    "text[]",
    r#""{\"ore, \\\"x\\\"\",NULL,\"\",\"NULL\"}""#
)]
#[case(POSTGRES, Limit::List(SqlType::Text), "[]", "text[]", "\"{}\"")]
#[case(POSTGRES, Limit::List(SqlType::Integer), "[-1,null]", "integer[]", "\"{-1,NULL}\"")]
#[case(POSTGRES, Limit::List(SqlType::Bigint), "[9223372036854775807]", "bigint[]", "\"{9223372036854775807}\"")]
#[case(POSTGRES, Limit::List(SqlType::Double), "[0.1,\"NaN\"]", "double precision[]", "\"{0.1,NaN}\"")]
#[case(POSTGRES, Limit::List(NUMERIC), "[-0.000001]", "numeric[]", "\"{-0.000001}\"")]
#[case(POSTGRES, Limit::List(SqlType::Boolean), "[true,false]", "boolean[]", "\"{t,f}\"")]
#[case(POSTGRES, Limit::List(SqlType::Date), "[\"0001-01-01\"]", "date[]", "\"{0001-01-01}\"")]
#[case(
    POSTGRES,
    Limit::List(SqlType::Timestamptz),
    "[\"2026-07-01T05:06:07.000008Z\"]",
    "timestamp with time zone[]",
    "\"{\\\"2026-07-01 05:06:07.000008+00\\\"}\""
)]
#[case(MARIADB, Limit::Bytea, "\\x00ff27", "longblob", "\"\\\\x00ff27\"")]
#[case(MARIADB, Limit::Time, "08:05:09.5", "time(6)", "\"08:05:09.5\"")]
#[case(MARIADB, Limit::Time, "00:00:00", "time(6)", "\"00:00:00\"")]
#[case(MARIADB, Limit::List(SqlType::Text), "[\"ore\",null]", "longtext", r#""[\"ore\",null]""#)]
#[case(SQLITE, Limit::Bytea, "\\x00ff27", "blob", "\"\\\\x00ff27\"")]
#[case(SQLITE, Limit::Time, "08:05:09.5", "text", "\"08:05:09.5\"")]
#[case(CLICKHOUSE, Limit::Bytea, "\\x00ff27", "Nullable(String)", "\"\\\\x00ff27\"")]
#[case(CLICKHOUSE, Limit::Time, "08:05:09.5", "Nullable(String)", "\"08:05:09.5\"")]
fn kinds_of_their_own(
    #[case] kind: Kind,
    #[case] limit: Limit,
    #[case] value: &str,
    #[case] ty: &str,
    #[case] shown: &str,
) {
    let lands = OutputColumn { limit: Some(limit), ..column("x", limit.base(), true) };
    let columns = [column("id", SqlType::Integer, false), lands.clone()];
    let Some(table) = TestTable::new(kind, &columns) else { return };
    let made = table.created();
    drop(made.open());
    let found = column_there_and_back(kind, lands, text(value)).unwrap().unwrap();
    assert_eq!(found, [shown, "null"], "{limit} in {ty}");
    if kind == SQLITE && limit == Limit::Bytea {
        let ids: ArrayRef = Arc::new(Int32Array::from(vec![0, 1]));
        made.land(made.open().as_ref(), 1, vec![ids, text(value)]);
        assert_eq!(made.rows("select typeof(x), hex(x) from {t} where id = 0"), ["blob|00FF27"]);
    }
    if kind == POSTGRES {
        let asked =
            "select format_type(atttypid, -1) from pg_attribute where attrelid = '{t}'::regclass and attname = 'x'";
        assert_eq!(made.rows(asked), [ty]);
    }
}

/// Columns that are there: what fits whole holds everything.
#[rstest]
#[case(POSTGRES, Limit::Smallint, &["smallint", "integer", "bigint", "numeric(5,0)"])]
#[case(POSTGRES, Limit::Varchar(8), &["varchar(8)", "varchar(9)", "text", "varchar"])]
#[case(POSTGRES, Limit::Uuid, &["uuid", "text", "varchar(36)"])]
#[case(POSTGRES, Limit::Real, &["real", "double precision"])]
#[case(MARIADB, Limit::Smallint, &["smallint", "mediumint", "int"])]
#[case(MARIADB, Limit::Varchar(8), &["varchar(8) character set utf8mb4", "text character set utf8mb4"])]
#[case(MARIADB, Limit::Uuid, &["uuid", "varchar(36)", "char(36)"])]
fn narrower_types_fit_columns_that_are_there(#[case] kind: Kind, #[case] limit: Limit, #[case] types: &[&str]) {
    let x = OutputColumn { limit: Some(limit), ..column("x", limit.base(), true) };
    for ty in types {
        let columns = [column("id", SqlType::Integer, false), x.clone()];
        let Some(table) = TestTable::new(kind, &columns) else { return };
        table.execute(&format!("create table {{t}} (id integer, x {ty})"));
        let largest: ArrayRef = match limit.base() {
            SqlType::Integer => Arc::new(Int32Array::from(vec![-32_768, 32_767])),
            SqlType::Double => Arc::new(Float64Array::from(vec![0.1, 3.4e38])),
            _ if limit == Limit::Uuid => Arc::new(StringArray::from(vec![ID, ID])),
            _ => Arc::new(StringArray::from(vec!["🚢🚢🚢🚢🚢🚢🚢🚢", ""])),
        };
        let published = table.land(table.open().as_ref(), 1, vec![Arc::new(Int32Array::from(vec![0, 1])), largest]);
        assert!(published.refused.is_empty(), "{limit} in {ty}: {:?}", published.refused);
        assert_eq!(table.rows("select count(*) from {t}"), ["2"], "{limit} in {ty}");
    }
}
