//! Expressions over edge values, computed by us and by PostgreSQL: values, nulls and errors are the same, but for the differences
//! that are listed here with their reasons.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::process::{Command, Stdio};

use arrow_array::RecordBatch;
use sluice_core::config::EmbeddedText;
use sluice_core::event::{Chunk, Position};
use sluice_core::expr::{DIFFERENCES, EvalContext, ScopeColumn, bind_select, evaluate};
use sluice_core::formats::{Format as _, JsonLines};
use sluice_core::problem::{Problems, SourceText};
use sluice_core::types::SqlType;
use sluice_core::values::{json::write_text, number, time};

/// One value: its text, None for null, or that it could not be computed.
type Computed = Result<Option<String>, ()>;

/// The type of an expression and its value for each row; why it is refused.
type Bound = Result<(SqlType, Vec<Computed>), String>;

/// The columns, as both sides declare them.
const COLUMNS: &[(&str, &str)] = &[
    ("i", "integer"),
    ("j", "integer"),
    ("b", "bigint"),
    ("d", "double precision"),
    ("m", "decimal(12,3)"),
    ("w", "decimal(38,10)"),
    ("t", "text"),
    ("u", "text"),
    ("o", "boolean"),
    ("day", "date"),
    ("at", "timestamptz"),
    ("k", "json"),
];

/// The rows, as JSON; what is not there is null.
const ROWS: &[&str] = &[
    r#"{"i":1,"j":3,"b":7,"d":0.1,"m":"1.005","w":"0.0000000001","t":"Low Lock","u":"o","o":true,"day":"2026-02-28","at":"2026-02-28T23:59:59.999999Z","k":{"a": [1, {"b": null}], "c": "x", "n": 12}}"#,
    r#"{"i":0,"j":-3,"b":0,"d":-0.0,"m":"0.000","w":"-1.5","t":"","u":"","o":false,"day":"1970-01-01","at":"1970-01-01T00:00:00Z","k":[1, "two", null, [3, 4]]}"#,
    r#"{"i":-2147483648,"j":-1,"b":-9223372036854775808,"d":-1e300,"m":"-999999999.999","w":"-9999999999999999999999999999.9999999999","t":"  12 ","u":"12","o":true,"day":"0001-01-01","at":"0001-01-01T00:00:00Z","k":{"a": {"0": "zero", "b": "deep"}}}"#,
    r#"{"i":2147483647,"j":2147483647,"b":9223372036854775807,"d":1e300,"m":"999999999.999","w":"9999999999999999999999999999.9999999999","t":"ÄÖé 船","u":"船","o":false,"day":"9999-12-31","at":"9999-12-31T23:59:59.999999Z","k":"text"}"#,
    r#"{"i":-7,"j":2,"b":100,"d":2.5,"m":"-2.500","w":"2.5","t":"-3.50","u":"3","day":"2024-02-29","at":"2024-02-29T12:30:00.5Z","k":7}"#,
    r#"{"i":7,"j":0,"b":-1,"d":1e-300,"m":"0.001","w":"0","t":"true","u":"t","o":true,"day":"1969-12-31","at":"1969-12-31T23:59:59.999999Z","k":{"items": [{"t": 7, "kind": "ore"}, {"t": 9, "kind": "oats"}, {"t": "x"}]}}"#,
    r#"{"i":1250,"j":-2,"b":10,"d":123456.789,"m":"1250.500","w":"0.3333333333","t":"a\\b'c\"d","u":"b","o":false,"k":null}"#,
    r#"{}"#,
    r#"{"i":5,"d":1.005,"m":"3.141","t":"x","k":{"": 1, "ü": "船", "q\"k": true}}"#,
    r#"{"j":5,"b":5,"w":"5","u":"x","o":true,"k":[]}"#,
];

/// Expressions that are not compared, each with the difference that the reference lists.
const MEANT: &[(&str, &str)] = &[
    ("mask(", "functions of our own"),
    ("format('%I", "names in format"),
    ("ceil(b", "rounding whole numbers"),
    ("ceiling(b", "rounding whole numbers"),
    ("floor(b", "rounding whole numbers"),
    ("trunc(b)", "rounding whole numbers"),
    ("width_bucket((case when abs(d) < 1000 then cast(d as double precision) end), 100", "buckets"),
    ("round(d", "rounding doubles"),
    ("cast(d as integer)", "rounding doubles"),
    ("cast(d as bigint)", "rounding doubles"),
    ("cast(d as text)", "doubles as text"),
    ("1e0", "exponents in constants"),
    ("concat(", "booleans within concat"),
    ("cast('NaN' as decimal", "decimals"),
    ("w + 1 is not null", "decimals"),
    ("cast('1e3' as ", "whole numbers as text"),
    ("cast('2026-07-01T05:06:07.5Z' as date)", "moments as days"),
];

/// Why we refuse beforehand what PostgreSQL computes.
const REFUSED: &[&str] = &[
    "date and timestamptz cannot be combined",
    "timestamptz and date cannot be combined",
    "the regular expression is not valid",
    "the pattern ends with its escape character",
    "there is no time zone",
    "the pattern has no year",
    "a value of the type date has no",
];

fn is_meant(expression: &str) -> bool {
    MEANT.iter().any(|(part, _)| expression.contains(part))
}

/// The expressions: every operator, comparison, function and cast over columns and constants of the types that it takes.
fn expressions() -> Vec<String> {
    let mut all = Vec::new();
    let numbers = ["i", "j", "b", "d", "m", "w", "0", "1", "-1", "2.5", "1e0", "10000000000"];
    for a in numbers {
        for b in numbers {
            for op in ["+", "-", "*", "/", "%"] {
                // PostgreSQL has no remainder of doubles.
                let has_double = [a, b].iter().any(|x| matches!(*x, "d" | "1e0"));
                if !(op == "%" && has_double) && (a.len() == 1 || b.len() == 1) {
                    all.push(format!("{a} {op} {b}"));
                }
            }
            all.push(format!("{a} < {b}"));
            all.push(format!("{a} = {b}"));
        }
    }
    let texts = ["t", "u", "''", "'12'", "'船'", "trim(t)", "lower(t)", "upper(t)"];
    for a in texts {
        for b in texts {
            all.extend(["<", "=", "<>", ">="].map(|op| format!("{a} {op} {b}")));
            all.push(format!("{a} || {b}"));
            all.push(format!("replace({a}, {b}, '-')"));
            all.push(format!("coalesce({a}, {b})"));
            all.push(format!("nullif({a}, {b})"));
        }
        all.push(format!("length({a})"));
        for (from, count) in [("1", "2"), ("-1", "3"), ("0", "1"), ("2", "0"), ("j", "2"), ("2", "i"), ("5", "100")] {
            all.push(format!("substring({a}, {from}, {count})"));
            all.push(format!("substring({a} from {from} for {count})"));
        }
        all.push(format!("substring({a} for 2)"));
        all.push(format!("substring({a} from 2)"));
        all.push(format!("concat({a}, i, '-', o)"));
    }
    for a in ["i", "b", "m", "w", "d"] {
        all.push(format!("abs({a})"));
        all.push(format!("-{a}"));
        all.push(format!("+{a}"));
        all.push(format!("{a} between -1 and 7"));
        all.push(format!("{a} not between j and 7"));
        all.push(format!("{a} in (0, 5, 7)"));
        all.push(format!("{a} not in (0, null)"));
        all.push(format!("case {a} when 0 then 'none' when 7 then 'some' else 'many' end"));
        all.push(format!("case when {a} <> 0 then 10 / {a} else 0 end"));
        all.push(format!("{a} <> 0 and 10 / {a} > 1"));
        all.push(format!("{a} = 0 or 10 / {a} > 1"));
        all.push(format!("nullif({a}, 0)"));
        all.push(format!("coalesce({a}, 3)"));
        all.push(format!("{a} is null"));
        all.push(format!("{a} + 1 is not null"));
        for to in ["integer", "bigint", "double precision", "decimal(12,3)", "decimal(10,0)", "decimal(38,10)", "text"]
        {
            all.push(format!("cast({a} as {to})"));
        }
    }
    for a in ["m", "w", "i", "b"] {
        for digits in ["0", "1", "2", "-2", "-5", "12"] {
            all.push(format!("round({a}, {digits})"));
        }
    }
    for a in [
        "t",
        "u",
        "'12'",
        "' 7 '",
        "'1e3'",
        "'1.50'",
        "'1.0005'",
        "'-0.9995'",
        "'0.00049999999999999999999999999999999999999999'",
        "'1e-400'",
        "'x'",
        "'NaN'",
        "'yes'",
        "'2026-07-01'",
        "'2026-07-01T05:06:07.5Z'",
    ] {
        for to in ["integer", "bigint", "double precision", "decimal(12,3)", "boolean", "date", "timestamptz"] {
            all.push(format!("cast({a} as {to})"));
        }
    }
    for a in ["o", "not o", "i > 0", "t = u", "null::boolean"] {
        for b in ["o", "true", "false", "j > 0", "d is null"] {
            all.push(format!("({a}) and ({b})"));
            all.push(format!("({a}) or ({b})"));
        }
        all.extend(["is true", "is not true", "is false", "is not false", "is null"].map(|is| format!("({a}) {is}")));
        all.push(format!("cast(({a}) as integer)"));
        all.push(format!("cast(({a}) as text)"));
    }
    for a in ["day", "at", "date '2026-02-28'", "timestamptz '1970-01-01 00:00:00+00'"] {
        for b in ["day", "at", "date '1970-01-01'", "timestamptz '2026-02-28T23:59:59.999999Z'"] {
            all.extend(["<", "=", ">="].map(|op| format!("{a} {op} {b}")));
        }
        all.push(format!("cast({a} as date)"));
        all.push(format!("cast({a} as timestamptz)"));
        for part in ["year", "month", "day", "hour", "minute", "second"] {
            all.push(format!("date_trunc('{part}', {a})"));
        }
    }
    all.extend(text_functions());
    all.extend(patterns());
    all.extend(number_functions());
    all.extend(time_functions());
    all.extend(json_functions());
    all
}

/// Calls of functions of text, at the borders of their places and counts.
fn text_functions() -> Vec<String> {
    let mut all = Vec::new();
    for a in ["t", "u", "''", "'船abc船'"] {
        for function in ["char_length", "octet_length", "ascii", "initcap", "reverse", "btrim", "ltrim", "rtrim", "md5"]
        {
            all.push(format!("{function}({a})"));
        }
        for count in ["0", "1", "-1", "3", "-3", "100", "-100", "i % 5", "null"] {
            all.extend(["left", "right", "repeat", "lpad", "rpad"].map(|f| format!("{f}({a}, {count})")));
            all.extend(["lpad", "rpad"].map(|f| format!("{f}({a}, {count}, '船-')")));
        }
        all.extend(["''", "'o'", "u"].map(|fill| format!("lpad({a}, 9, {fill})")));
        for b in ["t", "u", "''", "' '", "'o'", "'船'", "'ab'"] {
            all.extend(["btrim", "ltrim", "rtrim", "starts_with", "strpos"].map(|f| format!("{f}({a}, {b})")));
            all.push(format!("position({b} in {a})"));
            all.extend(["leading", "trailing", "both"].map(|side| format!("trim({side} {b} from {a})")));
            for n in ["1", "2", "-1", "-2", "0", "100"] {
                all.push(format!("split_part({a}, {b}, {n})"));
            }
            all.push(format!("translate({a}, {b}, 'XY')"));
            all.push(format!("concat_ws({b}, {a}, i, null, u)"));
            all.push(format!("overlay({a} placing {b} from 2)"));
            all.push(format!("overlay({a} placing {b} from 2 for 1)"));
            all.push(format!("overlay({a} placing {b} from 1 for -1)"));
            all.push(format!("overlay({a} placing {b} from 0)"));
            all.extend(["is distinct from", "is not distinct from"].map(|op| format!("{a} {op} {b}")));
        }
        all.push(format!("format('%s|%10s|%-10s|%L|%%|%2$s', {a}, u, {a}, {a})"));
        all.push(format!("format('%I', {a})"));
        all.push(format!("format({a}, 'x')"));
        all.push(format!("greatest({a}, u, 'm')"));
        all.push(format!("least({a}, u, null)"));
    }
    all.extend(["i", "0", "65", "8364", "-1", "1114112"].map(|n| format!("chr({n})")));
    all
}

/// Patterns of every kind over texts with signs that have a meaning in them.
fn patterns() -> Vec<String> {
    let mut all = Vec::new();
    let texts = [
        "t",
        "u",
        "''",
        "'TN-0042'",
        "'a_b%c'",
        "E'two\\nlines'",
        "'ÄÖé 船'",
        "'aaa'",
        "'2026-07-01 GET /locks/low 200'",
    ];
    let likes = [
        "''",
        "'%'",
        "'_'",
        "'%o%'",
        "'L_w%'",
        "'%k'",
        "'a\\_b\\%c'",
        "'tn-%'",
        "'%船'",
        "'a%a'",
        "'__'",
        "u",
        "'x\\'",
    ];
    let regexes = [
        "''",
        "'o'",
        "'^T'",
        "'[0-9]+'",
        "'^[[:alpha:]]+$'",
        "'\\d{4}'",
        "'(a|b)+'",
        "'\\mL'",
        "'\\yLow\\y'",
        "'^$'",
        "'.'",
        "'[^a-z]'",
        "'a+?'",
        "'船'",
        "'\\s'",
        "'('",
        "'[]a]'",
        "'\\w+-\\d+'",
    ];
    for a in texts {
        for b in likes {
            all.extend(["like", "not like", "ilike"].map(|op| format!("{a} {op} {b}")));
            all.push(format!("{a} like {b} escape '!'"));
        }
        for b in ["'%'", "'TN-[0-9]+'", "'%(o|船)%'", "'a_b!%c'", "'_{3}'", "'(a|b)*'"] {
            all.extend(["similar to", "not similar to"].map(|op| format!("{a} {op} {b}")));
            all.push(format!("{a} similar to {b} escape '!'"));
        }
        for b in regexes {
            all.extend(["~", "~*", "!~", "!~*"].map(|op| format!("{a} {op} {b}")));
            all.push(format!("regexp_like({a}, {b}, 'i')"));
            all.push(format!("regexp_count({a}, {b})"));
            all.push(format!("regexp_count({a}, {b}, 2)"));
            all.push(format!("regexp_substr({a}, {b})"));
            all.push(format!("regexp_substr({a}, {b}, 1, 2)"));
            all.push(format!("regexp_instr({a}, {b})"));
            all.push(format!("regexp_instr({a}, {b}, 1, 1, 1)"));
            all.push(format!("regexp_replace({a}, {b}, '<\\&>')"));
            all.push(format!("regexp_replace({a}, {b}, '-', 'g')"));
            all.push(format!("regexp_replace({a}, {b}, '\\\\', 'gi')"));
        }
        all.push(format!("regexp_replace({a}, '(\\w)(\\w)', '\\2\\1', 'g')"));
        all.push(format!("regexp_substr({a}, '(\\w)(\\d+)', 1, 1, 'i', 2)").replace(", 2)", ", '2')"));
        all.push(format!("regexp_instr({a}, '(\\w)(\\d+)', 1, 1, 0, 'i', 2)"));
        all.push(format!("regexp_count({a}, '^.', 1, 'n')"));
        all.push(format!("regexp_count({a}, 'a b', 1, 'x')"));
    }
    // PostgreSQL takes the number of a group as a number.
    all.retain(|e| !e.contains(", '2')"));
    all
}

/// Functions of numbers. Those of floating-point numbers take such: of decimals PostgreSQL computes with more digits.
fn number_functions() -> Vec<String> {
    let mut all = Vec::new();
    for a in ["i", "j", "b", "m", "w", "d", "0", "-2.5", "2.5"] {
        all.extend(["ceil", "ceiling", "floor", "trunc", "sign", "abs"].map(|f| format!("{f}({a})")));
        all.push(format!("greatest({a}, 3, null)"));
        all.push(format!("least({a}, j, 3)"));
        all.push(format!("{a} is distinct from j"));
        all.push(format!("{a} is not distinct from null"));
        if a != "d" {
            all.extend(["0", "1", "2", "-2", "12"].map(|digits| format!("trunc({a}, {digits})")));
        }
        // PostgreSQL keeps 15 digits where it makes decimals of larger ones.
        let double = format!("(case when abs({a}) < 1000 then cast({a} as double precision) end)");
        for f in ["sqrt", "cbrt", "exp", "ln", "log", "sin", "cos", "tan", "atan", "asin", "acos", "degrees", "radians"]
        {
            all.push(format!("round(cast({f}({double}) as decimal(38,9)), 6)"));
        }
        all.push(format!("round(cast(power({double}, 2) as decimal(38,9)), 4)"));
        all.push(format!("round(cast(atan2({double}, 2) as decimal(38,9)), 6)"));
        all.push(format!("width_bucket({double}, 0, 100, 5)"));
        all.push(format!("width_bucket({double}, 100, 0, 5)"));
    }
    for a in ["i", "j", "b"] {
        for b in ["1", "3", "7", "j"] {
            all.extend(["&", "|"].map(|op| format!("{a} {op} {b}")));
        }
        all.extend(["1", "3", "31"].iter().flat_map(|n| ["<<", ">>"].map(|op| format!("{a} {op} {n}"))));
        all.push(format!("~{a}"));
        all.push(format!("to_hex({a})"));
    }
    all
}

/// Fields, units, zones, intervals and patterns of moments.
fn time_functions() -> Vec<String> {
    let mut all = Vec::new();
    let moments = [
        "at",
        "timestamptz '2026-03-29T00:59:59.999999Z'",
        "timestamptz '2026-10-25T01:30:00Z'",
        "timestamptz '2024-02-29T23:59:59Z'",
        "timestamp '2026-03-29 02:30:00'",
        "day",
    ];
    let fields = [
        "year",
        "quarter",
        "month",
        "week",
        "day",
        "hour",
        "minute",
        "second",
        "milliseconds",
        "microseconds",
        "dow",
        "isodow",
        "doy",
        "isoyear",
        "decade",
        "century",
        "millennium",
        "epoch",
    ];
    let intervals = [
        "interval '1 month'",
        "interval '-1 month'",
        "interval '1 day 02:03:04.5'",
        "interval '90 minutes'",
        "interval '1 year 2 mons -3 days'",
        "interval '0.5 days'",
        "interval '5' minute",
    ];
    for a in moments {
        for field in fields {
            all.push(format!("extract({field} from {a})"));
            all.push(format!("date_part('{field}', {a})::decimal(20,6)"));
        }
        for interval in intervals {
            all.extend(["+", "-"].map(|op| format!("({a} {op} {interval})")));
            all.push(format!("{interval} + {a}"));
        }
        for unit in ["decade", "century", "millennium", "week", "quarter", "milliseconds"] {
            all.push(format!("date_trunc('{unit}', {a})"));
        }
        for zone in ["UTC", "Europe/Berlin", "America/New_York", "Asia/Kathmandu", "Nowhere/Else"] {
            all.push(format!("{a} at time zone '{zone}'"));
            all.push(format!("date_trunc('day', {a}, '{zone}')"));
            all.push(format!("date_trunc('hour', {a}, '{zone}')"));
        }
        for pattern in [
            "YYYY-MM-DD HH24:MI:SS",
            "YY Q DDD D ID",
            "Day, DD Month YYYY",
            "FMDay, FMDD FMMonth YYYY",
            "DY dy Dy MON mon Mon",
            "HH12:MI AM",
            "HH:MI a.m.",
            "IYYY-IW",
            "WW",
            "MS US",
            "SSSS",
            "\"at\" HH24",
            "YYYYMMDD",
            "FMHH24:FMMI",
            "month",
        ] {
            all.push(format!("to_char({a}, '{pattern}')"));
        }
        for b in ["at", "timestamptz '2026-01-31T12:00:00Z'"] {
            if !a.starts_with("timestamp ") && a != "day" {
                all.push(format!("{a} - {b}"));
                all.push(format!("age({a}, {b})"));
                all.push(format!("age({b}, {a})"));
                all.push(format!("({a} - {b}) > interval '1 day'"));
                all.push(format!("extract(epoch from {a} - {b})"));
            }
        }
        if !a.starts_with("timestamp ") && a != "day" {
            for length in ["15 minutes", "1 day", "7 days", "1 month", "0 s"] {
                all.push(format!("date_bin(interval '{length}', {a}, timestamptz '2001-01-01T00:00:00Z')"));
            }
        }
    }
    for a in intervals {
        all.extend(fields.map(|field| format!("extract({field} from {a})")));
        all.extend(["2", "0.5", "-1", "d"].map(|n| format!("{a} * {n}")));
        all.push(format!("{a} / 2"));
        all.push(format!("-({a})"));
        all.push(format!("cast({a} as text)"));
        for b in intervals {
            all.push(format!("{a} < {b}"));
            all.push(format!("{a} + {b}"));
            all.push(format!("{a} - {b}"));
        }
    }
    all.extend(
        ["day + 1", "day - 1", "1 + day", "day + i", "day - day", "day - date '2026-01-01'", "day + j"]
            .map(String::from),
    );
    all.extend(["make_date(2026, 2, 28)", "make_date(2026, 2, 29)", "make_date(i, j, 1)"].map(String::from));
    all.extend(["to_timestamp(i)", "to_timestamp(d)", "to_timestamp(1.5)"].map(String::from));
    for (text, pattern) in [
        ("2026-07-01 08:05:09", "YYYY-MM-DD HH24:MI:SS"),
        ("01.07.2026", "DD.MM.YYYY"),
        ("1 Jul 2026", "DD Mon YYYY"),
        ("July 1, 2026", "Month DD, YYYY"),
        ("20260701", "YYYYMMDD"),
        ("08:05:09 PM", "HH12:MI:SS AM"),
        ("2026-07-01 08:05:09 PM", "YYYY-MM-DD HH12:MI:SS AM"),
        ("2026-07-01 08:05:09.123", "YYYY-MM-DD HH24:MI:SS.MS"),
        ("2026-07-01 08:05:09.123456", "YYYY-MM-DD HH24:MI:SS.US"),
        ("2026 182", "YYYY DDD"),
        ("2026-27-3", "IYYY-IW-ID"),
        ("26-07-01", "YY-MM-DD"),
        ("99-07-01", "YY-MM-DD"),
        ("2026-02-30", "YYYY-MM-DD"),
        ("2026-13-01", "YYYY-MM-DD"),
        ("2026-07-01 24:00:00", "YYYY-MM-DD HH24:MI:SS"),
        ("01/Jul/2026:08:05:09 +0200", "DD/Mon/YYYY:HH24:MI:SS TZHTZM"),
        ("x", "YYYY"),
    ] {
        all.push(format!("to_timestamp('{text}', '{pattern}')"));
        all.push(format!("to_date('{text}', '{pattern}')"));
    }
    all
}

/// Ways into JSON, and conditions of paths.
fn json_functions() -> Vec<String> {
    let mut all = Vec::new();
    for key in ["'a'", "'c'", "''", "'ü'", "'items'", "0", "1", "3", "-1", "100", "u"] {
        all.push(format!("k -> {key}"));
        all.push(format!("k ->> {key}"));
        all.push(format!("k -> 'a' -> {key}"));
        all.push(format!("k -> 'a' ->> {key}"));
        all.push(format!("k ->> {key} = 'x'"));
    }
    for way in ["{a,0}", "{a,b}", "{a,1,b}", "{items,0,kind}", "{items,-1,t}", "{}", "{3,1}", "{\"q\\\"k\"}"] {
        all.push(format!("k #> '{way}'"));
        all.push(format!("k #>> '{way}'"));
    }
    all.extend(["json_typeof(k)", "json_array_length(k)", "json_extract_path(k, 'a', '0')"].map(String::from));
    all.push("json_extract_path_text(k, 'items', '1', 'kind')".into());
    all.extend(["to_json(t) ->> 0", "to_json(i)", "to_json(o)", "to_json(t)"].map(String::from));
    all.push("json_build_object('t', t, 'i', i, 'k', k) ->> 't'".into());
    all.push("json_build_array(t, i, null, o, k) ->> 1".into());
    for path in [
        "$",
        "$.a",
        "$.a[0]",
        "$.a[*]",
        "$.a.b",
        "$.items[*].t",
        "$.items[*] ? (@.t > 7)",
        "$.items[*] ? (@.t > 7).kind",
        "$[*]",
        "$[last]",
        "$[1 to 2]",
        "$.*",
        "$.items.size()",
        "$.type()",
        "$.items[*] ? (@.kind starts with \"o\")",
        "$.items ? (exists (@.kind))",
        "$.items[*] ? (@.kind like_regex \"^O\" flag \"i\")",
        "$.items[*] ? (!(@.t == 7) && @.kind == \"oats\")",
        "$.c ? (@ == \"x\")",
        "$[*] ? (@ == null)",
        "$[*] ? (@ >= 1 || @ == \"two\")",
        "$.\"ü\"",
        "$.n ? (@ < 12.5)",
        "$.items[0, 2].t",
        "$.items[last - 1].t",
    ] {
        all.push(format!("jsonb_path_exists(k::jsonb, '{path}')"));
        all.push(format!("jsonb_path_query_first(k::jsonb, '{path}') #>> '{{}}'"));
        all.push(format!("json_array_length(jsonb_path_query_array(k::jsonb, '{path}')::json)"));
    }
    all
}

/// What we compute: the type, and each row's text, None for null, an error as such.
fn ours(expressions: &[String]) -> BTreeMap<String, Bound> {
    let fields = COLUMNS.iter().map(|(name, ty)| format!("{name} {ty}")).collect::<Vec<_>>().join(", ");
    let embed = |text: &str| {
        let source = SourceText::new("p.toml", format!("k = '''{text}'''"));
        EmbeddedText::new(&source, 4..source.text.len(), text)
    };
    let mut problems = Problems::new();
    let fields = sluice_core::contract::parse_fields(&embed(&fields), &mut problems);
    let contract =
        sluice_core::contract::Contract { fields, extra: sluice_core::config::ExtraFields::Ignore, may_lack: false };
    let bytes = ROWS.join("\n").into_bytes();
    let length = bytes.len() as u64;
    let chunk = Chunk {
        partition: "rows".into(),
        from: Position::at(0),
        to: Position::at(length),
        bytes,
        records: ROWS.len() as u64,
        ..Chunk::default()
    };
    let decoded = JsonLines.decoder(&contract).decode(&chunk);
    assert!(decoded.rejects.is_empty(), "{:?}", decoded.rejects);
    let batch: RecordBatch = decoded.rows.batch;
    let types = contract.fields.iter().map(|f| f.ty);
    let scope: Vec<ScopeColumn> = COLUMNS
        .iter()
        .zip(types)
        .map(|((name, _), ty)| ScopeColumn { name: (*name).into(), ty, nullable: true })
        .collect();
    expressions.iter().map(|e| (e.clone(), one(&embed, &scope, &batch, e))).collect()
}

/// What we compute for one expression.
fn one(embed: &impl Fn(&str) -> EmbeddedText, scope: &[ScopeColumn], batch: &RecordBatch, expression: &str) -> Bound {
    let mut problems = Problems::new();
    let items = bind_select(&embed(&format!("{expression} as x")), scope, &mut problems);
    if problems.has_errors() {
        let found = problems.into_sorted().into_iter().map(|p| p.message).collect::<Vec<_>>().join("; ");
        // Types of expressions alone are compared as texts.
        let within = [SqlType::Timestamp, SqlType::Interval];
        let ty = within.into_iter().find(|ty| found == format!("a column cannot have the type {ty}")).ok_or(found)?;
        let (_, values) = one(embed, scope, batch, &format!("cast({expression} as text)"))?;
        return Ok((ty, values));
    }
    let column = evaluate(&items[0].expr, &EvalContext { batch, now: 0 }).expand(batch.num_rows());
    let text = |row: usize| {
        if column.errors.has(row) {
            return Err(());
        }
        Ok((!column.is_null(row)).then(|| {
            let mut text = String::new();
            write_text(&mut text, column.array.as_ref(), row);
            // As the answers of psql are brought to one line.
            text.replace('\n', " ")
        }))
    };
    Ok((items[0].expr.ty, (0..batch.num_rows()).map(text).collect()))
}

/// What PostgreSQL computes for each row.
fn theirs(url: &str, expressions: &[String]) -> BTreeMap<String, Vec<Computed>> {
    let columns = COLUMNS.iter().map(|(name, ty)| {
        let collation = if *ty == "text" { " collate \"C.utf8\"" } else { "" };
        format!("{name} {ty}{collation}")
    });
    let columns = columns.collect::<Vec<_>>().join(", ");
    let mut sql = format!(
        "set timezone = 'UTC'; set extra_float_digits = 1;\n\
         create temp table plain (id integer, {columns});\n\
         create function pg_temp.ask(expression text, row_id integer) returns text language plpgsql as $f$\n\
         declare found text; begin\n\
         execute format('select (%s)::text from plain where id = %s', expression, row_id) into found;\n\
         return coalesce('=' || found, 'null'); exception when others then return '!'; end $f$;\n"
    );
    for (id, row) in ROWS.iter().enumerate() {
        let row = row.replace('\'', "''");
        sql.push_str(&format!(
            "insert into plain select {id}, x.* from jsonb_populate_record(null::plain, '{row}') p, lateral (select {}) x;\n",
            COLUMNS.iter().map(|(name, _)| format!("p.{name}")).collect::<Vec<_>>().join(", ")
        ));
    }
    for expression in expressions {
        let quoted = expression.replace('\'', "''");
        sql.push_str(&format!(
            "select string_agg(replace(pg_temp.ask('{quoted}', id), E'\\n', ' '), E'\\x1f' order by id) from plain;\n"
        ));
    }
    let mut child = Command::new("psql")
        .args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", url])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut input = child.stdin.take().unwrap();
    let writer = std::thread::spawn(move || input.write_all(sql.as_bytes()));
    let output = child.wait_with_output().unwrap();
    let _ = writer.join().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let text = String::from_utf8(output.stdout).unwrap();
    let lines: Vec<&str> = text.lines().collect();
    assert_eq!(lines.len(), expressions.len());
    let value = |text: &str| match text {
        "!" => Err(()),
        "null" => Ok(None),
        value => Ok(Some(value[1..].to_string())),
    };
    expressions.iter().zip(lines).map(|(e, line)| (e.clone(), line.split('\u{1f}').map(value).collect())).collect()
}

/// Whether a decimal fits a type; one that does not fit is an error of its row here, and PostgreSQL has room for it.
fn has_room(ty: SqlType, theirs: &str) -> bool {
    match ty {
        SqlType::Decimal { precision, scale } => number::parse_decimal(theirs.as_bytes(), scale)
            .is_some_and(|value| number::fits_precision(value, precision)),
        SqlType::Integer => number::parse_whole(theirs.as_bytes()).is_some_and(|value| i32::try_from(value).is_ok()),
        SqlType::Bigint => number::parse_whole(theirs.as_bytes()).is_some(),
        // Years from 1 to 9999.
        SqlType::Date | SqlType::Timestamp | SqlType::Timestamptz => {
            !theirs.ends_with("BC") && theirs.split('-').next().is_none_or(|year| year.len() < 5)
        }
        _ => true,
    }
}

/// Whether products of an expression may have more than 38 digits: `m` has 12 of them, whole numbers have 10.
fn multiplies_decimals(expression: &str) -> bool {
    let words = || expression.split(|c: char| !c.is_ascii_alphanumeric());
    let count = |name: &str| words().filter(|word| *word == name).count();
    let digits = 12 * count("m") + 10 * (count("i") + count("j"));
    expression.contains(" * ") && count("m") > 0 && digits > 38
}

/// Whether two spellings are one value of a type.
fn is_same(ty: SqlType, ours: &str, theirs: &str) -> bool {
    match ty {
        SqlType::Double => {
            let read = |text: &str| text.parse::<f64>().unwrap_or(f64::NAN);
            // A zero is a zero, with and without its sign.
            read(ours).to_bits() == read(theirs).to_bits() || (read(ours) == 0.0 && read(theirs) == 0.0)
        }
        SqlType::Decimal { scale, .. } => {
            // A quotient has more or fewer digits than in PostgreSQL: the coarser of the two decides.
            let theirs = if theirs.contains('.') { theirs.trim_end_matches('0').trim_end_matches('.') } else { theirs };
            let digits = theirs.split_once('.').map_or(0, |(_, fraction)| fraction.len());
            let Ok(digits) = u8::try_from(digits) else { return false };
            let coarser = digits.min(scale);
            let round = |text: &str, from| {
                number::parse_decimal(text.as_bytes(), from).and_then(|value| number::rescale(value, from, coarser))
            };
            round(ours, scale).is_some() && round(ours, scale) == round(theirs, digits)
        }
        // PostgreSQL rounds whole numbers as numerics: 1.00.
        SqlType::Integer | SqlType::Bigint => {
            let whole = |text: &str| number::parse_whole(text.as_bytes());
            whole(ours).is_some() && whole(ours) == whole(theirs)
        }
        SqlType::Timestamp => {
            let read = |text: &str| time::parse_local(text.as_bytes());
            read(ours).is_some() && read(ours) == read(theirs)
        }
        SqlType::Timestamptz => {
            let read = |text: &str| time::parse_timestamp(text.replace("+00", "Z").as_bytes());
            read(ours).is_some() && read(ours) == read(theirs)
        }
        _ => ours == theirs,
    }
}

/// Expressions within each other, at random; a seed gives the same everywhere.
struct Random(u64);

impl Random {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }

    fn pick(&mut self, all: &[&str]) -> String {
        all[usize::try_from(self.below(all.len() as u64)).unwrap()].to_string()
    }

    /// Decimals are not divided here: how many digits a quotient has differs, and the rest of an expression shows it.
    fn number(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["i", "j", "m", "0", "1", "-1", "7", "2.5"]);
        }
        let (a, b) = (self.number(depth - 1), self.number(depth - 1));
        match self.below(10) {
            0..=3 => format!("({a} {} {b})", self.pick(&["+", "-", "*"])),
            4 => {
                format!("({} {} {})", self.pick(&["i", "j", "7"]), self.pick(&["/", "%"]), self.pick(&["j", "i", "2"]))
            }
            5 => format!("abs({a})"),
            6 => format!("coalesce({a}, {b})"),
            // Of two constants PostgreSQL computes it beforehand, and with it whatever it stands in.
            7 => format!("nullif({a}, j)"),
            8 => format!("case when {} then {a} else {b} end", self.truth(depth - 1)),
            _ => format!("length({})", self.text(depth - 1)),
        }
    }

    fn text(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["t", "u", "''", "'x'", "'船é'"]);
        }
        let (a, b) = (self.text(depth - 1), self.text(depth - 1));
        match self.below(8) {
            0 => format!("({a} || {b})"),
            1 => format!("lower({a})"),
            2 => format!("upper({a})"),
            3 => format!("trim({a})"),
            4 => {
                format!("substring({a}, {}, {})", self.pick(&["1", "2", "-1", "j"]), self.pick(&["0", "1", "3", "100"]))
            }
            5 => format!("replace({a}, {b}, '-')"),
            6 => format!("coalesce({a}, {b})"),
            _ => format!("case when {} then {a} else {b} end", self.truth(depth - 1)),
        }
    }

    fn truth(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["o", "i > 0", "t = u", "m is null", "j in (0, 2, null)", "day > date '1970-01-01'"]);
        }
        let (a, b) = (self.truth(depth - 1), self.truth(depth - 1));
        match self.below(8) {
            0 => format!("({a} and {b})"),
            1 => format!("({a} or {b})"),
            2 => format!("(not {a})"),
            3 => format!("({a} is not true)"),
            4 => format!(
                "({} {} {})",
                self.number(depth - 1),
                self.pick(&["<", "=", "<>", ">="]),
                self.number(depth - 1)
            ),
            5 => format!("({} < {})", self.text(depth - 1), self.text(depth - 1)),
            6 => format!("({} in ({}, {}))", self.number(depth - 1), self.number(0), self.number(0)),
            _ => format!("({} between {} and {})", self.number(depth - 1), self.number(0), self.number(0)),
        }
    }
}

/// `SLUICE_EXPRESSIONS` sets how many are tried, `SLUICE_EXPRESSIONS_SEED` where they begin.
fn random_expressions() -> Vec<String> {
    let number = |name: &str, default: u64| std::env::var(name).ok().and_then(|n| n.parse().ok()).unwrap_or(default);
    let mut random = Random(number("SLUICE_EXPRESSIONS_SEED", 1).wrapping_mul(0x9e37_79b9_7f4a_7c15));
    let one = |_| match random.below(3) {
        0 => random.number(3),
        1 => random.text(3),
        _ => random.truth(3),
    };
    (0..number("SLUICE_EXPRESSIONS", 20_000)).map(one).collect()
}

#[test]
fn expressions_compute_what_postgres_computes() {
    let mut all = expressions();
    all.sort();
    all.dedup();
    all.retain(|e| !is_meant(e));
    assert!(all.len() >= 4_000, "{}", all.len());
    let is_listed = |name: &str| DIFFERENCES.iter().any(|(listed, _)| *listed == name);
    assert!(MEANT.iter().all(|(_, name)| is_listed(name)));
    compare(&all, false);
}

#[test]
fn random_expressions_compute_what_postgres_computes() {
    compare(&random_expressions(), true);
}

/// Where `any_order`, an error of one side of `and` or `or` may not count here and count there: PostgreSQL looks at the left side
/// first, and here the side that decides alone is enough.
fn compare(all: &[String], any_order: bool) {
    let Ok(url) = std::env::var("SLUICE_TEST_POSTGRES") else {
        assert!(std::env::var_os("SLUICE_TEST_SERVICES").is_none());
        eprintln!("skipped: SLUICE_TEST_POSTGRES is not set");
        return;
    };
    let (ours, theirs) = (ours(all), theirs(&url, all));
    let (mut wrong, mut unbound, mut compared) = (Vec::new(), Vec::new(), 0);
    for expression in all {
        let is_logic = expression.contains(" and ") || expression.contains(" or ") || expression.contains(" in (");
        let theirs = &theirs[expression];
        let (ty, values) = match &ours[expression] {
            Ok(found) => found,
            Err(why) => {
                // What we refuse beforehand, PostgreSQL refuses too, or has other rules for.
                if theirs.iter().any(Result::is_ok) {
                    let is_known = any_order || REFUSED.iter().any(|known| why.contains(known));
                    if is_known { &mut unbound } else { &mut wrong }.push(format!("{expression}: {why}"));
                }
                continue;
            }
        };
        for (row, (our, their)) in values.iter().zip(theirs).enumerate() {
            compared += 1;
            let same = match (our, their) {
                (Ok(Some(a)), Ok(Some(b))) => is_same(*ty, a, b),
                (Err(()), Ok(Some(b))) if !has_room(*ty, b) => true,
                // An inner product may have no room although the whole has: the listed difference of decimals.
                (Err(()), Ok(_)) if any_order && multiplies_decimals(expression) => true,
                (Ok(_), Err(())) if any_order && is_logic => true,
                (a, b) => a == b,
            };
            if !same {
                wrong.push(format!("row {row}: {expression} → {our:?}, PostgreSQL {their:?}"));
            }
        }
    }
    eprintln!("{compared} values of {} expressions compared; {} refused by us alone", all.len(), unbound.len());
    assert!(wrong.is_empty(), "{} differ:\n{}\n\nrefused:\n{}", wrong.len(), wrong.join("\n"), unbound.join("\n"));
}
