//! Expressions over edge values, computed by us and by PostgreSQL: values, nulls and errors are the same, but for the differences
//! that are listed here with their reasons.

mod cases;
mod kinds;
mod random;

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
    ("hmac_sha256(", "functions of our own"),
    ("name_uuid(", "functions of our own"),
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
    ("convert_from(cast('\\x00'", "bytes"),
    ("lower(time", "times of day"),
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
    "`like` does not take bytea",
    "is no pattern of numbers that is known here",
];

fn is_meant(expression: &str) -> bool {
    MEANT.iter().any(|(part, _)| expression.contains(part))
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
        .map(|((name, _), ty)| ScopeColumn { name: (*name).into(), ty, nullable: true, limit: None })
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
    let column = evaluate(&items[0].expr, &EvalContext::new(batch, 0)).expand(batch.num_rows());
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

#[test]
fn expressions_compute_what_postgres_computes() {
    let mut all = cases::expressions();
    all.sort();
    all.dedup();
    all.retain(|e| !is_meant(e));
    assert!(all.len() >= 4_000, "{}", all.len());
    let is_listed = |name: &str| DIFFERENCES.iter().any(|(listed, _)| *listed == name);
    assert!(MEANT.iter().all(|(_, name)| is_listed(name)));
    compare(&all, Leniency::None);
}

#[test]
fn bytes_times_of_day_and_lists_are_what_they_are_in_postgres() {
    let mut all = kinds::expressions();
    all.retain(|e| !is_meant(e));
    assert!(all.len() >= 1_000, "{}", all.len());
    compare(&all, Leniency::None);
}

#[test]
fn operators_bind_as_tightly_as_in_postgres() {
    let all = cases::precedence();
    assert!(all.len() >= 800, "{}", all.len());
    compare(&all, Leniency::Values);
}

#[test]
fn random_expressions_compute_what_postgres_computes() {
    compare(&random::expressions(), Leniency::AnyOrder);
}

/// What may differ.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Leniency {
    None,
    /// An error of one side of `and` or `or` may not count here and count there: PostgreSQL looks at the left side first, and here
    /// the side that decides alone is enough.
    AnyOrder,
    /// What is a mistake in PostgreSQL may have a meaning here.
    Values,
}

fn compare(all: &[String], leniency: Leniency) {
    let any_order = leniency == Leniency::AnyOrder;
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
                (Ok(_), Err(())) if leniency == Leniency::Values => true,
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

/// A function of the project is checked, documented, rehearsed and computed like any other.
#[test]
fn functions_of_the_project() {
    use crate::common::{PROJECT, TestProject, visible_files};

    let project = TestProject::empty();
    let functions = "[function.tons]\nabout = \"kilograms as tons\"\narguments = \"kg bigint\"\nexpression = \"kg / 1000.0\"\n\
                     [function.toll]\narguments = \"kg bigint, rate decimal(6,2)\"\n\
                     expression = \"case when kg > 20000 then 2 * round(tons(kg) * rate, 2) else round(tons(kg) * rate, 2) end\"\n";
    project.write("sluice.toml", format!("{PROJECT}{functions}"));
    project.write("depots/a.jsonl", "{\"kg\":1500}\n{\"kg\":30000}\n{\"kg\":null}\n");
    let pipeline = |columns: &str| {
        "pipeline = \"p\"\n[event.e]\nfields = \"kg integer\"\n[event.e.arrives]\nat = \"depots\"\nmatch = \"*.jsonl\"\n\
             [event.e.lands.archive]\nat = \"archive\"\npath = \"p\"\nformat = \"jsonl\"\nwhen = \"tons(kg) > 1 or kg is null\"\n\
             columns = \"kg, toll(kg, 2.5) as toll\"\n"
            .replace("toll(kg, 2.5)", columns)
    };
    project.write("pipelines/p.toml", pipeline("tol(kg, 2.5)"));
    let (out, err) = project.expect(3, &["check"]);
    assert!((out + &err).contains("did you mean `toll`?"), "a near name");
    project.write("pipelines/p.toml", pipeline("toll(kg, 2.5)"));
    project.expect(0, &["check"]);
    project.expect(0, &["run", "p", "--until-caught-up"]);
    let text: String =
        visible_files(&project.path("archive/p")).iter().map(|f| std::fs::read_to_string(f).unwrap()).collect();
    let mut lines: Vec<&str> = text.lines().collect();
    lines.sort_unstable();
    assert_eq!(
        lines,
        [r#"{"kg":1500,"toll":3.75000000}"#, r#"{"kg":30000,"toll":150.00000000}"#, r#"{"kg":null,"toll":null}"#]
    );
    let (out, _) = project.expect(0, &["manual", "tons"]);
    assert!(out.contains("tons(kg bigint)") && out.contains("kilograms as tons"), "{out}");
    // A mistake in a function is one of sluice.toml.
    project.write("sluice.toml", format!("{PROJECT}{}", functions.replace("kg / 1000.0", "kgs / 1000.0")));
    let (out, err) = project.expect(3, &["check"]);
    assert!((out + &err).contains("there is no column `kgs`"), "named where it stands");
}
