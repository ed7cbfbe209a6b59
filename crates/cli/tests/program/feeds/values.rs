//! Values at the edges of their types, and very wide rows, are loaded and followed as they are.

use crate::common::feeds::{Office, script};
use crate::common::tables::{Database, psql};
use crate::common::{feeds, feeds_mariadb};

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

const EVERYTHING: &str = r#"
create type mood as enum ('calm', 'high water', '"gate", \ shut');
create table everything (id integer primary key, n2 smallint, n4 integer, n8 bigint, exact numeric(38,9), free numeric,
    f4 real, f8 double precision, yes boolean, day date, at timestamptz, plain timestamp, clock time, clock_z timetz,
    span interval, number uuid, raw bytea, words text, fixed char(6), short varchar(20), feels mood, list integer[],
    texts text[], grid integer[], doc jsonb, old_doc json, address inet, area int4range, place point, bits varbit);
"#;

/// Rows from an id on.
fn rows(from: u32) -> String {
    let row = |n: u32, values: &str| format!("insert into everything values ({}, {values});\n", from + n);
    row(
        0,
        "32767, 2147483647, 9223372036854775807, 99999999999999999999999999999.999999999, 1e100, 3.4028235e38, \
         1.7976931348623157e308, true, '9999-12-31', '9999-12-31 23:59:59.999999+00', '9999-12-31 23:59:59.999999', \
         '24:00', '23:59:59.999999-15', '178000000 years', 'ffffffff-ffff-ffff-ffff-ffffffffffff', '\\xff00', \
         repeat('w', 100000), 'abcdef', '', 'calm', '{2147483647,-2147483648}', '{}', '{{1,2},{3,4}}', \
         '{\"a\": [1, {\"b\": null}]}', '{\"b\":1, \"a\":\"\\u00e9\"}', 'ff::1/64', '[1,)', '(1e300,-0)', B'101'",
    ) + &row(
        1,
        "-32768, -2147483648, -9223372036854775808, -99999999999999999999999999999.999999999, -0.000000000000000000000001, \
         -1e-37, -2.2250738585072014e-308, false, '0001-01-01', '0001-01-01 00:00:00+00', '0001-01-01', '00:00', \
         '00:00+15', '-3 years 2 mons -1 days 04:05:06.7', '00000000-0000-0000-0000-000000000000', '', '', '', ' ', \
         '\"gate\", \\ shut', '{NULL,1}', '{NULL,\"NULL\",\"a,b\",\"q\\\"q\",\"\\\\\"}', '{}', '[]', '[]', '10.0.0.1', \
         'empty', '(0,0)', B''",
    ) + &row(2, &["null"; 29].join(", "))
        + &row(
            3,
            "0, 0, 0, 0, 'NaN', 'NaN', 'Infinity', null, '2024-02-29', '2024-03-31 02:30:00+05:45', \
             '2024-03-31 02:30:00', '12:00:00.5', '12:00+05:45', '1.5 seconds', null, '\\x5c6e0a', \
             E'quote \" back \\\\ line \\n tab \\t bell \\x07 ümlaut 船 🚢', 'ä', 'Straße', 'high water', '{}', \
             E'{\"line \\n\",\"🚢\"}', '{}', '\"only text\"', E'  [ 1 ,\\n 2 ]  '::json, '::', '(,)', '(1,2)', null",
        )
        + &row(
            4,
            "1, 1, 1, 0.000000001, 0, '-Infinity', '-Infinity', true, '1582-10-15', '1999-12-31 23:59:59.5-12', \
             '1970-01-01', '00:00:00.000001', '00:00+00', '0', null, '\\x00', E'\\r\\n', '', 'x', 'calm', '{1}', \
             '{\"{}\"}', '{{{1}}}', '{\"k\": 1e5}', '0', '1.2.3.4', '[1,5)', null, B'1'",
        )
}

/// What is compared: columns whose types differ in a mirror are brought to one.
const OF_SOURCE: &str = "id, n2, n4, n8, exact, free::text, f4::float8::real, f8, yes, day, at, plain at time zone 'UTC', clock::text, \
    clock_z::text, span::text, number::text, raw::text, words, rpad(fixed::text, 6), short, feels::text, list::text, texts::text, grid::text, doc, \
    old_doc::jsonb, regexp_replace(address::text, '/(32|128)$', ''), area::text, place::text, bits::text";
const OF_MIRROR: &str = "id, n2, n4, n8, exact, free::text, f4::real, f8, yes, day, at, plain, clock::text, clock_z::text, \
    span::text, number::text, raw::text, words, fixed::text, short, feels::text, list::text, texts::text, grid::text, doc, old_doc, \
    address::text, area::text, place::text, bits::text";

fn compare(office: &Office) {
    let source = Office::rows(&office.source, "everything", OF_SOURCE);
    let mirror = Office::rows(&office.target.url, "everything", OF_MIRROR);
    assert_eq!(source.iter().zip(&mirror).find(|(a, b)| a != b), None);
    assert_eq!(source.len(), mirror.len());
}

#[test]
fn values_at_the_edges_of_their_types_are_loaded_and_followed() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    assert!(script(&office.source, &(EVERYTHING.to_string() + &rows(0))));
    let project = office.project(&feeds::whole("").replace("tables = \"*\"", "tables = \"everything\""));
    project.expect(0, RUN);
    compare(&office);
    assert!(script(&office.source, &rows(100)));
    // The large text does not change and is not sent.
    assert!(script(
        &office.source,
        "update everything set n2 = 7, doc = '{\"new\": \"\\u0001\"}' where id in (0, 2, 101)"
    ));
    project.expect(0, RUN);
    compare(&office);
    let large = "select max(length(words)) from everything where n2 = 7";
    assert_eq!(psql(&office.target.url, large), ["100000"]);
    office.drop();
}

#[test]
fn rows_of_a_thousand_columns_and_of_many_bytes_are_loaded_and_followed() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let columns: Vec<String> = (0..1000).map(|n| format!("c{n} {}", ["integer", "text"][n % 2])).collect();
    let values: Vec<String> = (0..1000).map(|n| ["i * 3".into(), format!("'v{n}'")][n % 2].clone()).collect();
    let fill = format!("insert into wide select i, repeat(md5(i::text), 300000), {} from", values.join(", "));
    let make = format!("create table wide (id integer primary key, large text, {});", columns.join(", "));
    assert!(script(&office.source, &format!("{make} {fill} generate_series(1, 3) i;")));
    let text = feeds::whole("").replace("tables = \"*\"", "tables = \"wide\"");
    let project = office.project(&text);
    project.expect(0, RUN);
    let sql = format!(
        "{fill} generate_series(4, 6) i; update wide set c0 = 5, c999 = 'z' where id < 3; update wide set id = 9, c2 = 2 where id = 3;"
    );
    assert!(script(&office.source, &sql));
    project.expect(0, RUN);
    let sums = |url: &str| {
        let sum = "select count(*), sum(hashtext((to_jsonb(w) - '_source' - '_position' - '_batch')::text)::bigint), \
                   sum(length(large)) from wide w";
        psql(url, sum)
    };
    assert_eq!(sums(&office.target.url), sums(&office.source));
    assert!(sums(&office.source)[0].starts_with("6\t") && sums(&office.source)[0].ends_with("\t57600000"));
    office.drop();
}

#[test]
fn values_of_mariadb_are_loaded_and_followed_into_another_store() {
    let (Some(office), Some(target)) = (feeds_mariadb::Office::new(1), Database::new()) else { return };
    let table = "create table everything (id int primary key, tiny tinyint, un bigint unsigned, exact decimal(38,9), huge \
                 decimal(65,30), f float, d double, yes boolean, day date, at timestamp(6) null, local datetime(6), clock \
                 time(6), y year, bits bit(10), raw varbinary(20), words longtext, feels enum('calm','high, water'), \
                 flags set('a','b','c'), doc json) character set utf8mb4;";
    let rows = |from: u32| {
        let row = |n: u32, values: &str| format!("insert into everything values ({}, {values});", from + n);
        "set time_zone = '+05:45';".to_string()
            + &row(
                0,
                "-128, 18446744073709551615, -99999999999999999999999999999.999999999, \
                 12345678901234567890123456789012345.678901234567890123456789012345, 0.1, 1.7976931348623157e308, true, \
                 '9999-12-31', '2024-03-31 02:30:00.123456', '2024-03-31 02:30:00.000001', '-838:59:59.5', 2155, \
                 b'1111111111', x'00ff5c', 'quote \\\" back \\\\\\\\ line \\n 船 🚢', 'high, water', 'a,c', '{\\\"a\\\": [1, null]}'",
            )
            + &row(1, &["null"; 18].join(", "))
    };
    office.sql(&office.source, &(table.to_string() + &rows(0)));
    let project = office.project();
    let toml = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    let warehouse = target.connection(&target.address()).replace("[connection.toll]", "[connection.lake]");
    project.write("sluice.toml", toml + &warehouse);
    project.write(
        "pipelines/office.toml",
        "pipeline = \"office\"\n[each.office]\ntables = \"every*\"\n[each.office.arrives]\nat = \"office\"\n\
         schema_change = \"follow\"\n[each.office.lands.copy]\nat = \"lake\"\nmode = \"mirror\"\ncreate = true\n",
    );
    project.expect(0, RUN);
    office.sql(&office.source, &rows(100));
    project.expect(0, RUN);
    let found = psql(
        &target.url,
        "set timezone = 'UTC'; select tiny, un, exact, huge, f, d, yes, day, at, local, clock, y, bits, raw, words, feels, flags, doc \
         from everything where id % 100 = 0 order by id",
    );
    let expected = "-128\t18446744073709551615\t-99999999999999999999999999999.999999999\t\
        12345678901234567890123456789012345.678901234567890123456789012345\t0.10000000149011612\t1.7976931348623157e+308\t1\t\
        9999-12-31\t2024-03-30 20:45:00.123456+00\t2024-03-31 02:30:00.000001+00\t-838:59:59.500000\t2155\t1023\t\\x00ff5c\t\
        quote \" back \\\\ line ";
    assert_eq!(found.len(), 4, "{found:?}");
    for pair in found.chunks(2) {
        assert_eq!(pair[0], expected);
        assert_eq!(pair[1], " 船 🚢\thigh, water\ta,c\t{\"a\": [1, null]}");
    }
    let nulls = "select count(*) from everything e where num_nulls(tiny, un, exact, huge, f, d, yes, day, at, local, clock, y, bits, \
                 raw, words, feels, flags, doc) = 18";
    assert_eq!(psql(&target.url, nulls), ["2"]);
    let drop = format!("drop database {}; drop database {}", office.source, office.target);
    office.sql("mysql", &drop);
}

#[test]
fn tables_of_mariadb_that_get_another_name_or_go_are_followed() {
    let (Some(office), Some(target)) = (feeds_mariadb::Office::new(2), Database::new()) else { return };
    let make = "create table level (gauge int primary key, cm int); insert into level values (1, 10), (2, 20); create table \
                loose (a int, b text); insert into loose values (1, 'x'), (1, 'x'), (2, null);";
    office.sql(&office.source, make);
    let project = office.project();
    let toml = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    let warehouse = target.connection(&target.address()).replace("[connection.toll]", "[connection.lake]");
    project.write("sluice.toml", toml + &warehouse);
    project.write(
        "pipelines/office.toml",
        "pipeline = \"office\"\n[each.office]\ntables = \"*\"\nexcept = \"loose\"\n[each.office.arrives]\nat = \"office\"\n\
         schema_change = \"follow\"\n[each.office.lands.copy]\nat = \"lake\"\nmode = \"mirror\"\ncreate = true\n\
         [event.loose]\nfields = \"a integer, b text\"\n[event.loose.arrives]\nat = \"office\"\ntable = \"loose\"\n\
         [event.loose.lands.log]\nat = \"lake\"\ntable = \"loose_log\"\nmode = \"changes\"\ncreate = true\ncolumns = \
         \"a, b, origin.transaction\"\n",
    );
    let (_, said) = project.expect(0, &["check"]);
    assert!(said.contains("loose has no primary key: its rows are read in one transaction"), "{said}");
    project.expect(0, RUN);
    assert_eq!(psql(&target.url, "select count(*) from permit"), ["3000"]);
    assert_eq!(psql(&target.url, "select _change, a, b from loose_log order by _position, _within").len(), 3);
    office.sql(
        &office.source,
        "alter table level add column note varchar(9) default 'new' first; rename table level to stage; insert into stage \
         values ('late', 3, 30); update permit set clerk = 'y' where permit_id = 1; drop table other; insert into loose \
         values (3, 'z'); drop table permit; create table permit (permit_id int, class char(3), word text, \
         primary key (class, permit_id)); insert into permit values (7, 'C1', 'again');",
    );
    project.expect(0, RUN);
    assert_eq!(
        psql(&target.url, "select gauge, cm, note from stage order by gauge"),
        ["1\t10\tnew", "2\t20\tnew", "3\t30\tlate"]
    );
    assert_eq!(psql(&target.url, "select permit_id, word from permit"), ["7\tagain"]);
    // A transaction has a number.
    assert_eq!(psql(&target.url, "select a, b from loose_log where transaction > 0"), ["3\tz"]);
    let drop = format!("drop database {}; drop database {}", office.source, office.target);
    office.sql("mysql", &drop);
}

#[test]
fn empty_texts_are_rows_like_any_other() {
    let Some(database) = Database::new() else { return };
    let office = Office::new(database, 1);
    let sql = "create table blank (k text primary key);
               insert into blank select '' union all select 'k' || n from generate_series(1, 2000) n;
               create table lonely (v text); insert into lonely values (''), (''), (null), ('x'), ('');";
    assert!(script(&office.source, sql));
    let text = feeds::whole("").replace("tables = \"*\"", "tables = \"*\"\nexcept = \"lonely\"")
        + "[event.lonely]\nfields = \"v text\"\n[event.lonely.arrives]\nat = \"office\"\ntable = \"lonely\"\n\
           [event.lonely.lands.log]\nat = \"warehouse\"\ntable = \"lonely_log\"\nmode = \"changes\"\ncreate = true\n";
    let project = office.project(&text);
    project.expect(0, RUN);
    assert!(script(&office.source, "insert into lonely values (''); update blank set k = '!' where k = '';"));
    project.expect(0, RUN);
    let of = |sql: &str| psql(&office.target.url, sql);
    assert_eq!(of("select count(*), min(k) from blank"), ["2001\t!"]);
    assert_eq!(of("select count(*), count(v), count(*) filter (where v = '') from lonely_log"), ["6\t5\t4"]);
    office.drop();
}
