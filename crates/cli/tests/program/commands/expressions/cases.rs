//! The expressions that are compared: every operator and function over edge values.

/// The expressions: every operator, comparison, function and cast over columns and constants of the types that it takes.
pub(super) fn expressions() -> Vec<String> {
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
    all.extend(narrower_types());
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
        all.extend(["leading", "trailing", "both", ""].map(|side| format!("trim({side} from {a} || ' ')")));
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
            all.push(format!("array_to_string(regexp_match({a}, {b}), '|', '~')"));
            all.push(format!("regexp_instr({a}, {b})"));
            all.push(format!("regexp_instr({a}, {b}, 1, 1, 1)"));
            all.push(format!("regexp_replace({a}, {b}, '<\\&>')"));
            all.push(format!("regexp_replace({a}, {b}, '-', 'g')"));
            all.push(format!("regexp_replace({a}, {b}, '\\\\', 'gi')"));
        }
        all.push(format!("regexp_replace({a}, '(\\w)(\\w)', '\\2\\1', 'g')"));
        all.push(format!("regexp_substr({a}, '(\\w)(\\d+)', 1, 1, 'i', 2)").replace(", 2)", ", '2')"));
        all.push(format!("regexp_instr({a}, '(\\w)(\\d+)', 1, 1, 0, 'i', 2)"));
        all.push(format!("array_to_string(regexp_match({a}, '(\\w)(\\d+)|(-)', 'i'), '|', '~')"));
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
            all.extend(["3", "-7", "j"].map(|other| format!("mod({a}, {other})")));
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
            all.extend(["&", "|", "#"].map(|op| format!("{a} {op} {b}")));
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

/// Every operator beside every other one, before and after it: how tightly they bind decides what they mean.
pub(super) fn precedence() -> Vec<String> {
    let mut all = Vec::new();
    let numeric = ["^", "*", "/", "%", "+", "-", "&", "|", "#", "<<", ">>", "<", ">=", "=", "<>"];
    let textual = ["||", "~", "!~*", "=", "<", "is distinct from", "like", "not ilike", "similar to"];
    let logical = ["and", "or", "=", "<>", "is not distinct from"];
    for first in numeric {
        // PostgreSQL has no remainder of doubles, which powers are.
        for second in numeric.into_iter().filter(|second| !["%^", "^%"].contains(&format!("{first}{second}").as_str()))
        {
            all.push(format!("i {first} 6 {second} 3"));
            all.push(format!("9 {first} 2 {second} j"));
        }
        for sign in ["-", "~", "+", "not "] {
            all.push(format!("{sign}j {first} 2"));
            all.push(format!("7 {first} {sign}j"));
        }
        all.push(format!("j {first} 2 is null"));
        all.push(format!("i {first} 2 between j {first} 1 and 40 {first} 1"));
        all.push(format!("i {first} 2 in (3, 12)"));
        all.push(format!("i {first} 2::bigint"));
        if first != "^" {
            all.push(format!("t || i {first} 2"));
            all.push(format!("i {first} 2 || t"));
        }
        all.push(format!("not i {first} 2 = 3 and j = 1"));
    }
    for first in textual {
        let is_pattern = first.contains('i');
        // Patterns are constants; one beside another is a mistake in PostgreSQL.
        for second in &textual[..if is_pattern { 6 } else { 9 }] {
            if !(is_pattern && second.contains('~')) && [first, *second] != ["similar to", "||"] {
                all.push(format!("t {first} 'a%' {second} 'b'"));
            }
            if !is_pattern && !first.contains('~') {
                all.push(format!("'ab' {first} t {second} 'b'"));
            }
        }
        all.push(format!("t {first} 'a' is null"));
        all.push(format!("not t {first} 'a%'"));
        all.push(format!("k ->> 'a' {first} 'b'"));
        if first != "similar to" {
            all.push(format!("t {first} 'x' || 'y' and true"));
        }
    }
    for first in logical {
        for second in logical {
            all.push(format!("i = 7 {first} j > 0 {second} b <> 3"));
            all.push(format!("not o {first} o {second} i > 3"));
        }
    }
    all.extend(
        [
            "at at time zone 'UTC' + interval '1 hour'",
            "at + interval '1 day' at time zone 'UTC'",
            "timestamptz '2026-04-01T00:00:00Z' - interval '1 hour' * 2",
            "-2 ^ 2",
            "- 2 ^ j",
            "2 ^ -1",
            "2 ^ 3 ^ 2",
            "~1 + 2",
            "~1 & 3 | 4",
            "- i % 4",
            "-j::text",
            "2 - -j",
            "i = 7 is true",
            "not i = 7 is false",
        ]
        .map(String::from),
    );
    all
}

/// Casts to narrower types, and what is computed with them.
fn narrower_types() -> Vec<String> {
    let mut all = Vec::new();
    for a in ["t", "u", "i", "m", "o", "'lock'", "'ab  c '", "'äöü🚢é'", "''", "null::text", "day"] {
        for to in [
            "varchar",
            "varchar(3)",
            "varchar(100)",
            "character varying(2)",
            "char(1)",
            "char(3)",
            "character(9)",
            "char",
        ] {
            all.push(format!("cast(cast({a} as {to}) as text)"));
            all.push(format!("char_length(cast({a} as {to}))"));
        }
        all.push(format!("cast({a} as varchar(2)) || '.'"));
        all.push(format!("cast({a} as varchar(2)) = 'lo'"));
    }
    for a in [
        "i",
        "b",
        "m",
        "'12'",
        "' -7 '",
        "'32767'",
        "'32768'",
        "'-32768'",
        "32768",
        "2.5",
        "-2.5",
        "'x'",
        "null",
        "true::integer",
    ] {
        all.push(format!("cast({a} as smallint)"));
        all.push(format!("cast({a} as smallint) + 1"));
        all.push(format!("cast({a} as int2) / 2"));
    }
    for a in
        ["0.1", "'0.1'", "1.5", "-2.25", "'1e39'", "'-1e39'", "'1e-50'", "0", "'0'", "123456", "1.0000001", "i", "null"]
    {
        all.push(format!("cast({a} as real)"));
        all.push(format!("cast({a} as float4)"));
    }
    for a in [
        "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'",
        "'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11'",
        "'{a0eebc99-9c0b4ef8-bb6d6bb9-bd380a11}'",
        "'a0eebc999c0b4ef8bb6d6bb9bd380a11'",
        "'a0ee-bc99-9c0b-4ef8-bb6d-6bb9-bd38-0a11'",
        "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a1'",
        "'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11-'",
        "'a0eebc99--9c0b-4ef8-bb6d-6bb9bd380a11'",
        "'{a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'",
        "'a0e-ebc99-9c0b-4ef8-bb6d-6bb9bd380a11'",
        "''",
        "t",
        "null::text",
    ] {
        all.push(format!("cast({a} as uuid)"));
        all.push(format!("cast(cast({a} as uuid) as text)"));
    }
    all.push("uuid 'A0EEBC99-9C0B-4EF8-BB6D-6BB9BD380A11'".into());
    all
}
