//! Expressions of bytes, times of day and lists.

/// All of them.
pub(super) fn expressions() -> Vec<String> {
    let mut all = bytes();
    all.extend(clocks());
    all.extend(lists());
    all.extend(numbers());
    all
}

fn bytes() -> Vec<String> {
    let mut all = Vec::new();
    let values = [
        "'\\x'",
        "'\\x00'",
        "'\\xDEADbeef'",
        "'\\x0 1'",
        "'\\x01 02'",
        "'\\x0'",
        "'\\x0g'",
        "'abc'",
        "'a\\\\b'",
        "'a\\101'",
        "'a\\8'",
        "'\\377'",
        "''",
        "'船'",
        "null",
        "t",
        "u",
    ];
    for v in values {
        all.push(format!("cast({v} as bytea)"));
        all.push(format!("cast(cast({v} as bytea) as text)"));
        for call in ["length", "octet_length", "md5"] {
            all.push(format!("{call}(cast({v} as bytea))"));
        }
        for form in ["hex", "escape"] {
            all.push(format!("encode(cast({v} as bytea), '{form}')"));
            all.push(format!("decode(encode(cast({v} as bytea), '{form}'), '{form}')"));
        }
        all.push(format!("encode(cast({v} as bytea), 'base64')"));
        all.push(format!("decode(encode(cast({v} as bytea), 'base64'), 'base64')"));
        all.push(format!("cast({v} as bytea) || '\\xff'"));
        all.push(format!("cast({v} as bytea) || cast(u as bytea)"));
        all.push(format!("convert_from(cast({v} as bytea), 'UTF8')"));
        all.push(format!("convert_from(cast({v} as bytea), 'latin1')"));
        all.push(format!("get_byte(cast({v} as bytea), 1)"));
        for place in ["1", "0", "-1", "2, 1", "0, 2", "1, 0", "1, -1", "99", "2147483647, 2147483647"] {
            all.push(format!("substring(cast({v} as bytea), {place})"));
        }
        for other in ["'\\x61'", "'a'", "cast(t as bytea)"] {
            // What is compared with null is not looked at there.
            if v == "null" && other.starts_with("cast") {
                continue;
            }
            for sign in ["=", "<", ">=", "<>", "is distinct from"] {
                all.push(format!("cast({v} as bytea) {sign} {other}"));
            }
        }
        all.push(format!("coalesce(cast({v} as bytea), '\\x01')"));
        all.push(format!("nullif(cast({v} as bytea), '\\x')"));
        all.push(format!("greatest(cast({v} as bytea), '\\x61')"));
        all.push(format!("cast({v} as bytea) in ('\\x', '\\x616263', 'a')"));
    }
    for v in ["'/wA='", "'/wA'", "'  /w\n A=  '", "'A'", "'AAAA=='", "'=AAA'", "'ÄÄÄÄ'", "''", "t", "null"] {
        all.push(format!("decode({v}, 'base64')"));
    }
    for v in ["'00FF'", "'0 0f f'", "'00 FF'", "'0'", "'zz'", "'\\x00'", "''", "t", "u"] {
        all.push(format!("decode({v}, 'hex')"));
    }
    for v in ["'a\\\\'", "'a\\000'", "'\\1'", "'a'", "t", "u"] {
        all.push(format!("decode({v}, 'escape')"));
    }
    for v in ["'é'", "'船'", "t", "''", "null"] {
        all.push(format!("convert_to({v}, 'UTF8')"));
        all.push(format!("convert_to({v}, 'LATIN1')"));
    }
    all.push("case when o then cast('ab' as bytea) else 'other' end".into());
    // Bytes are no texts, and not everything is cast to them.
    for refused in [
        "upper('\\x61'::bytea)",
        "'\\x61'::bytea = t",
        "'\\x61'::bytea like 'a%'",
        "coalesce('\\x61'::bytea, t)",
        "'\\x61'::bytea::date",
        "'\\x61'::bytea::integer + 0",
        "date '2026-07-01'::bytea",
        "true::bytea",
    ] {
        all.push(refused.into());
    }
    all
}

fn clocks() -> Vec<String> {
    let mut all = Vec::new();
    let values = [
        "'08:05'",
        "'8:05:09'",
        "'08:05:09.5'",
        "'08:05:09.1234567'",
        "'08:05:09.9999999'",
        "'00:00:00'",
        "'23:59:59.999999'",
        "'12:00 am'",
        "'12:30 PM'",
        "'1:05:06 pm'",
        "'13:05 pm'",
        "'08:60'",
        "'25:00'",
        "'8'",
        "'x'",
        "''",
        "null",
        "at",
        "at at time zone 'UTC'",
        "interval '1 day 25:00'",
        "interval '-1 hour'",
    ];
    for v in values {
        all.push(format!("cast({v} as time)"));
        all.push(format!("cast(cast({v} as time) as text)"));
        all.push(format!("cast(cast({v} as time) as interval)"));
        for field in ["hour", "minute", "second", "milliseconds", "microseconds", "epoch"] {
            all.push(format!("extract({field} from cast({v} as time))"));
        }
        for length in
            ["interval '1 hour'", "interval '-1 microsecond'", "interval '1 month 2 days 03:04:05'", "'30 minutes'"]
        {
            all.push(format!("cast({v} as time) + {length}"));
        }
        all.push(format!("interval '20 hours' + cast({v} as time)"));
        all.push(format!("cast({v} as time) - interval '20 hours'"));
        all.push(format!("cast({v} as time) - time '12:00'"));
        all.push(format!("day + cast({v} as time)"));
        all.push(format!("cast({v} as time) + day"));
        for sign in ["=", "<", ">="] {
            all.push(format!("cast({v} as time) {sign} '8:05:09'"));
            all.push(format!("cast({v} as time) {sign} cast(at as time)"));
        }
        all.push(format!("cast({v} as time) between '06:00' and '22:00'"));
        all.push(format!("coalesce(cast({v} as time), '9:00')"));
        all.push(format!("'at ' || cast({v} as time)"));
        all.push(format!("least(cast({v} as time), '12:00')"));
    }
    all.push("case when o then cast(at as time) else '9:00' end".into());
    for call in
        ["8, 5, 9.5", "0, 0, 0", "23, 59, 59.999999", "24, 0, 1", "8, 60, 0", "-1, 0, 0", "i, j, d", "8, 5, null"]
    {
        all.push(format!("make_time({call})"));
    }
    for refused in [
        "time '08:00' + 1",
        "time '08:00' + time '08:00'",
        "time '08:00' * 2",
        "extract(day from time '08:00')",
        "extract(year from time '08:00')",
        "date_part('day', time '08:00')",
        "date_part('hour', time '08:00')",
        "time '08:00' = t",
        "time '08:00' = at",
        "time '08:00'::date",
        "time '08:00'::boolean",
        "5::time",
        "day::time + interval '0 s'",
        "lower(time '08:00')",
    ] {
        all.push(refused.into());
    }
    all
}

/// Lists; whole lists are compared as their items, since they are shown as JSON here.
fn lists() -> Vec<String> {
    let mut all = Vec::new();
    let texts = [
        "'{a,b}'::text[]",
        "'{}'::text[]",
        "'{NULL,\"NULL\",\"x,y\",\"q\\\"z\", sp ace }'::text[]",
        "'{a,}'::text[]",
        "'{\"a}'::text[]",
        "array['a', t, null]",
        "array[t, u]",
        "string_to_array(t, '')",
        "string_to_array('a,b,,c', ',')",
        "string_to_array('a,b,,c', ',', '')",
        "string_to_array('', ',')",
        "string_to_array(t, null)",
        "string_to_array(t, ' ')",
        "null::text[]",
    ];
    for list in texts {
        all.push(format!("cardinality({list})"));
        for place in ["1", "2", "0", "-1", "99", "i", "null::integer"] {
            all.push(format!("({list})[{place}]"));
        }
        all.push(format!("array_length({list}, 1)"));
        all.push(format!("array_length({list}, 2)"));
        for separator in ["', '", "''", "null"] {
            all.push(format!("array_to_string({list}, {separator})"));
            all.push(format!("array_to_string({list}, {separator}, '-')"));
        }
        for value in ["'a'", "t", "null::text", "'NULL'", "''"] {
            all.push(format!("array_position({list}, {value})"));
            all.push(format!("array_to_string(array_append({list}, {value}), '|', '-')"));
            for sign in ["=", "<>", "<", ">="] {
                all.push(format!("{value} {sign} any({list})"));
                all.push(format!("{value} {sign} all({list})"));
            }
        }
    }
    let numbers = [
        ("'{1,2,NULL}'::integer[]", "i"),
        ("'{}'::integer[]", "i"),
        ("'{2147483648}'::integer[]", "i"),
        ("array[i, j, 3]", "j"),
        ("'{1,-5}'::bigint[]", "b"),
        ("array[b, 7]", "i"),
        ("'{0.5,2.5,-0}'::double precision[]", "d"),
        ("'{0.5,2.5}'::decimal(12,3)[]", "m"),
        ("array[m, 1]", "m"),
        ("array[o, true, null]", "o"),
        ("'{t,no}'::boolean[]", "true"),
        ("'{2026-02-28,1970-01-01}'::date[]", "day"),
        ("array[day]", "day"),
        ("array[at]", "at"),
    ];
    for (list, value) in numbers {
        all.push(format!("cardinality({list})"));
        all.push(format!("({list})[1]"));
        all.push(format!("({list})[2]"));
        for sign in ["=", "<>", ">", "<="] {
            all.push(format!("{value} {sign} any({list})"));
            all.push(format!("{value} {sign} all({list})"));
        }
        all.push(format!("array_position({list}, {value})"));
    }
    all.push("i = any('{1,7}')".into());
    all.push("t = any('{Low Lock,x}')".into());
    all.push("2 = all(array[2, 2])".into());
    all.push("(array[i, j])[1] + 1".into());
    for refused in
        ["array['a', 1, true]", "upper(array['a'])", "(t)[1]", "i = any(t)", "array[1] + 1", "'{1}'::integer[]::date"]
    {
        all.push(refused.into());
    }
    all
}

/// Numbers by patterns.
fn numbers() -> Vec<String> {
    let patterns = [
        "9",
        "99",
        "999",
        "0",
        "00",
        "0999",
        "9990",
        "9.9",
        "99.99",
        "0.0",
        "990.00",
        "99.",
        "D9",
        ".99",
        "FM9",
        "FM999",
        "FM990",
        "FM9.9",
        "FM99.99",
        "FM990.00",
        "FM990.90",
        "FM0.999",
        "FM.9",
        "9,999",
        "9,999,999.99",
        "FM9,999,999.99",
        "0,000.0",
        "9G999D99",
        "S99",
        "S9.9",
        "99S",
        "99.9S",
        "9S9",
        "FM99S",
        "FMS99.9",
        "99MI",
        "MI99",
        "FM99MI",
        "FMMI99",
        "99PL",
        "PL99",
        "FMPL99",
        "99SG",
        "SG99",
        "9SG9",
        "99PR",
        "FM99PR",
        "99.9PR",
        "FM99.9PR",
        "99\"m\"",
        "\"n \"99",
        "99 kg",
        "$99",
        "9 9 9",
        "99-99",
        "(99)",
        "FM9999999999999999999.999999",
        "9999999999999999999.999999",
        "0009.9900",
        "FM0009.9900",
        "9.99S",
        "FM9.0",
        "FM9.",
        "S0",
        "0S",
        ",9",
        "9,9",
        "99,",
        "FM9,9",
    ];
    let values = [
        "i",
        "j",
        "b",
        "m",
        "0",
        "-1",
        "5",
        "0.5",
        "-0.5",
        "0.05",
        "-0.004",
        "1.005",
        "99.95",
        "-99.95",
        "99.995",
        "485",
        "-485",
        "1485.7",
        "148.50",
        "null::integer",
        "w",
    ];
    patterns.iter().flat_map(|p| values.iter().map(move |v| format!("to_char({v}, '{p}')"))).collect()
}
