//! Project and pipeline files with damaged bytes: each is read with its mistakes, and none makes the program fail.

#[path = "../../../core/testing/mutate.rs"]
mod mutate;

use std::sync::Arc;

use self::mutate::attack;
use sluice_core::plan;
use sluice_core::problem::{Problems, SourceText};

const PROJECT: &str = r#"
[project]
name = "tarrow"
[connection.depots]
url = "file:depots"
[connection.lock-broker]
url = "kafka://127.0.0.1:9092"
user = "sluice"
password = { env = "GATE" }
tls = true
[connection.office]
url = "postgres://127.0.0.1:5432/office"
[connection.archive]
url = "file:archive"
"#;

const PIPELINES: [&str; 3] = [
    include_str!("../../../../examples/tarrow/pipelines/weighings.toml"),
    r#"
pipeline = "passages"
batch = { rows = 1_000, bytes = "64MiB", every = "200ms" }
rejects = { share = "5%", least = 10 }
[event.passage]
time = "passed_at"
extra = "keep"
fields = """vessel text not null, lock text from 'at.lock', passed_at timestamptz,
  draught decimal(6,2), notes json, hazardous boolean"""
[event.passage.arrives]
at = "lock-broker"
topic = "lock.*"
start = "earliest"
[event.late.made]
of = "passage"
when = "hazardous and (draught > 2.5 or lower(lock) in ('ostrey', 'corve')) and passed_at >= timestamptz '2026-04-01'"
columns = "vessel, passed_at, round(draught, 1) as draught, coalesce(lock, 'none') as lock, cast(notes as text) as notes"
[event.late.lands.archive]
at = "archive"
path = "late/{passed_at:%Y/%m/%d}/{lock}"
format = "csv"
[event.passage.lands.desk]
at = "office"
table = "public.passage"
mode = "upsert"
key = ["vessel", "passed_at"]
"#,
    r#"
pipeline = "mirror"
[each.office]
at = "office"
tables = ["public.*", "!public.secret"]
[each.office.lands.copy]
at = "archive"
path = "{table}"
columns = "* except (secret), case when id between 1 and 9 then 'few' else substring(name from 1 for 3) end as kind"
"#,
];

fn load(project: &str, pipeline: &str) -> bool {
    let registry = sluice_connect::registry();
    let mut problems = Problems::new();
    let (project, pipeline) = (SourceText::new("sluice.toml", project), SourceText::new("p.toml", pipeline));
    let (project, pipeline): (Arc<SourceText>, Arc<SourceText>) = (project, pipeline);
    let _ = plan::load(&project, &pipeline, &registry, &mut problems);
    let good = !problems.has_errors();
    // Every problem points into its file, between characters.
    for problem in problems.into_sorted() {
        if let Some(place) = &problem.place {
            assert!(place.source.text.get(place.span.clone()).is_some(), "{problem:?}");
            let _ = place.source.line_column(place.span.start);
        }
        assert!(!problem.message.is_empty());
    }
    good
}

#[test]
fn the_files_are_good_before_they_are_damaged() {
    for pipeline in &PIPELINES[..2] {
        assert!(load(PROJECT, pipeline), "{pipeline}");
    }
}

#[test]
fn damaged_pipeline_files() {
    let good = PIPELINES.map(|text| text.as_bytes().to_vec());
    attack(&good, |bytes| {
        load(PROJECT, &String::from_utf8_lossy(bytes));
    });
}

#[test]
fn damaged_project_files() {
    attack(&[PROJECT.as_bytes().to_vec()], |bytes| {
        load(&String::from_utf8_lossy(bytes), PIPELINES[1]);
    });
}

#[test]
fn damaged_expressions() {
    let good: Vec<Vec<u8>> = [
        "total/n > 5 and weight/n > 3 or not (a is null) and b between 1 and -2",
        "case when x then 'a' when y then \"b\" else cast(c as decimal(10,2)) end as k, * except (s) replace (1 as t)",
        "a in (1, 2, null) and t like 'x%' escape '\\' and extract(year from at) = 2026",
        "date_trunc('hour', at at time zone 'UTC') - interval '1' day, j -> 'a' ->> 'b', x::text || E'\\n' || $$y$$",
        "count(distinct a order by b) filter (where c) over (partition by d rows between 1 preceding and current row)",
        "array[1,2][1], (a,b) = (c,d), exists (select 1), f(a => 1), @x, #y, :z, ?, $1, 0x1f, 1e400, .5, 5., U&'\\0041'",
    ]
    .map(|text| text.as_bytes().to_vec())
    .into();
    let broken = |key: &str, sql: &str| {
        let text =
            PIPELINES[1].replace(key, &format!("{} = '''{}'''\n#", &key[..key.len() - 3], sql.replace("'''", "''")));
        load(PROJECT, &text);
    };
    attack(&good, |bytes| {
        let sql = String::from_utf8_lossy(bytes);
        broken("when = ", &sql);
        broken("columns = ", &sql);
        broken("fields = ", &sql);
    });
}
