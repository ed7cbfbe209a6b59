//! Values and keys of every type of MariaDB: rows that were loaded and rows that the log reported are spelled alike, and tables
//! with any key are loaded whole.
//!
//! Needs the feature `failpoints` and MariaDB, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]

use crate::common::TestProject;
use crate::common::feeds_mariadb::Office;
use rstest::rstest;

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

fn rows(project: &TestProject, sql: &str) -> Vec<Vec<Option<String>>> {
    let database = rusqlite::Connection::open(project.path("mirror.db")).unwrap();
    let mut statement = database.prepare(sql).unwrap();
    let count = statement.column_count();
    let text = |row: &rusqlite::Row<'_>, i: usize| match row.get_ref(i).unwrap() {
        rusqlite::types::ValueRef::Null => None,
        rusqlite::types::ValueRef::Integer(n) => Some(n.to_string()),
        rusqlite::types::ValueRef::Real(n) => Some(n.to_string()),
        rusqlite::types::ValueRef::Text(t) | rusqlite::types::ValueRef::Blob(t) => {
            Some(String::from_utf8_lossy(t).into_owned())
        }
    };
    let found = statement.query_map([], |row| Ok((0..count).map(|i| text(row, i)).collect())).unwrap();
    found.map(Result::unwrap).collect()
}

/// Values of every type, as SQL has them.
const VALUES: &[(&str, &[&str])] = &[
    ("tinyint", &["-128", "0", "127"]),
    ("bigint unsigned", &["0", "18446744073709551615"]),
    ("int(7) zerofill", &["0", "42", "12345678"]),
    ("bigint(5) unsigned zerofill", &["0", "7"]),
    ("decimal(10,2) zerofill", &["0", "4.5"]),
    ("decimal(38,10)", &["-1.5", "0", "1234567890123456789012345678.0123456789"]),
    ("decimal(65,30)", &["-0.1", "12345678901234567890123456789012345.5"]),
    ("float", &["0.1", "-1.5", "3.4e38", "1e-20", "0"]),
    ("double", &["0.1", "-1e300", "1e-300", "123456789.125", "0"]),
    ("bit(1)", &["0", "1"]),
    ("bit(64)", &["0", "18446744073709551615", "258"]),
    ("year", &["0", "1901", "2026", "2155"]),
    ("date", &["'2026-11-28'", "'1000-01-01'", "'0000-00-00'"]),
    ("datetime", &["'2026-11-28 01:02:03'", "'0000-00-00 00:00:00'"]),
    ("datetime(6)", &["'2026-11-28 01:02:03.000001'", "'2026-11-28 01:02:03'"]),
    ("timestamp(3) null", &["'2026-11-28 01:02:03.004'", "'1970-01-01 00:00:01'", "'0000-00-00 00:00:00'"]),
    ("timestamp null", &["'2026-11-28 01:02:03'", "'0000-00-00 00:00:00'"]),
    ("time", &["'01:02:03'", "'-838:59:59'", "'838:59:59'", "'00:00:00'"]),
    ("time(4)", &["'01:02:03.0405'", "'-00:00:00.5'"]),
    ("char(10)", &["'a'", "'a  '", "''", "'ä🚢'"]),
    ("varchar(20)", &["'a'", "'a  '", "''", "'\\\\ '", "'\"x\"'", "char(1)"]),
    ("char(10) character set latin1", &["'äß€'", "''"]),
    ("varchar(10) character set utf16", &["'äß🚢'", "''"]),
    ("varchar(10) character set ucs2", &["'äß'", "''"]),
    ("varchar(10) character set utf32", &["'äß🚢'"]),
    ("varchar(10) character set ascii", &["'abc'"]),
    ("varchar(10) character set koi8r", &["'abc'"]),
    ("varchar(10) collate utf8mb4_uca1400_ai_ci", &["'äbc'"]),
    ("longtext", &["'a\\nb\\tc'", "''", "repeat('ü', 70000)"]),
    ("binary(4)", &["x'00'", "x'01020300'", "x'00000000'", "''"]),
    ("binary(255)", &["x'00'", "x'0102'"]),
    ("varbinary(300)", &["x'00'", "x'010200'", "''"]),
    ("longblob", &["x'00ff00'", "''"]),
    ("uuid", &["'12345678-1234-1abc-8def-0123456789ab'", "'ffffffff-ffff-7fff-bfff-000000000000'"]),
    ("inet4", &["'1.2.3.4'", "'0.0.0.0'", "'10.0.0.0'"]),
    ("inet6", &["'::1'", "'2001:db8::'", "'::ffff:1.2.3.4'", "'::1.2.3.4'", "'::'"]),
    ("enum('a','b c','ü')", &["'a'", "'b c'", "'ü'", "''"]),
    ("enum('ä','ö') character set latin1", &["'ä'", "'ö'"]),
    ("set('x','y','ü')", &["''", "'x'", "'x,ü'", "'x,y,ü'"]),
    ("set('ä','ö') character set latin1", &["'ä,ö'"]),
    ("json", &["'{\"a\": [1, 2.50, null]}'", "'\"x\"'", "'7'"]),
    ("point", &["point(1, 2)"]),
    ("geometry", &["linestring(point(1,2), point(3,4))"]),
    ("boolean", &["true", "false"]),
    ("int invisible", &["5"]),
    ("int as (id * 2) virtual", &["default"]),
    ("int as (id + id % 7) stored", &["default"]),
];

#[test]
fn loaded_and_logged_values_are_spelled_alike() {
    let Some(office) = Office::empty(1) else { return };
    let mut all = String::from("set sql_mode = '';");
    for (number, (ty, values)) in VALUES.iter().enumerate() {
        all.push_str(&format!("create table t{number} (id int primary key, v {ty}) character set utf8mb4;"));
        // A row without a value, and each of them.
        for (id, value) in (1..).zip(["null"].iter().chain(*values).filter(|v| **v != "null" || !ty.contains(" as "))) {
            all.push_str(&format!("insert into t{number} (id, v) values ({id}, {value});"));
        }
    }
    office.sql(&office.source, &all);
    let project = office.whole("mirror", "ignore");
    project.expect(0, RUN);
    // The same rows again, as changes.
    let mut again = String::from("set sql_mode = '';");
    for (number, (ty, _)) in VALUES.iter().enumerate() {
        let v = if ty.contains(" as ") { "" } else { ", v" };
        again.push_str(&format!("insert into t{number} (id{v}) select id + 700{v} from t{number};"));
    }
    office.sql(&office.source, &again);
    project.expect(0, RUN);
    let mut wrong = Vec::new();
    for (number, (ty, values)) in VALUES.iter().enumerate() {
        let both = |from: u32| rows(&project, &format!("select v from t{number} where id / 700 = {from} order by id"));
        let (loaded, logged) = (both(0), both(1));
        let is_computed = ty.contains(" as ");
        let count = values.len() + usize::from(!is_computed);
        if loaded.len() != count || (loaded != logged && !is_computed) || loaded.iter().all(|row| row[0].is_none()) {
            wrong.push(format!("{ty}: loaded {loaded:?}, logged {logged:?}"));
        }
        if is_computed {
            let sums = rows(&project, &format!("select id from t{number} where v is null"));
            if !sums.is_empty() {
                wrong.push(format!("{ty}: {sums:?} have no value"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    office.end();
}

/// Types of keys, and how a key is made of a number.
#[rstest]
#[case("a enum('z','m','a','k') not null, b int not null", "a, b", "elt(1 + seq % 4, 'z', 'm', 'a', 'k'), seq")]
#[case("a set('z','m','a') not null, b int not null", "a, b", "seq % 8, seq")]
#[case("a bit(20) not null", "a", "seq")]
#[case("a binary(16) not null", "a", "unhex(md5(seq))")]
#[case("a varbinary(40) not null", "a", "concat(x'00', unhex(md5(seq)), if(seq % 2, x'00', ''))")]
#[case("a varchar(60) not null", "a", "concat('\\\\', char(39), ' or 1=0; drop table secret; -- ', seq)")]
#[case(
    "a varchar(30) character set latin1 collate latin1_german1_ci not null",
    "a",
    "concat(if(seq % 2, 'Ä', 'b'), seq)"
)]
#[case("a varchar(30) collate utf8mb4_bin not null", "a", "concat(if(seq % 2, 'A', 'a'), seq)")]
#[case("a decimal(30,10) not null", "a", "seq / 7 - 100")]
#[case("a float not null, b int not null", "a, b", "seq / 10, seq")]
#[case("a double not null", "a", "seq / 3")]
#[case("a bigint unsigned not null", "a", "18446744073709551615 - seq")]
#[case("a uuid not null", "a", "concat(left(md5(seq), 8), '-1234-1abc-8def-', right(md5(seq), 12))")]
#[case("a inet6 not null", "a", "concat('2001:db8::', hex(seq))")]
#[case("a datetime(6) not null", "a", "'2026-01-01' + interval seq * 1000001 microsecond")]
#[case("a date not null, b time(3) not null", "a, b", "'2026-01-01' + interval seq % 9 day, sec_to_time(seq / 8)")]
#[case("a timestamp(2) not null, b year not null", "a, b", "from_unixtime(1000000 + seq / 4), 2000 + seq % 9")]
#[case("b int not null, a varchar(9) not null", "a, b", "seq % 11, concat('k', seq % 13, '_', seq)")]
fn a_table_with_any_key_is_loaded_whole(#[case] columns: &str, #[case] key: &str, #[case] values: &str) {
    let Some(office) = Office::empty(1) else { return };
    let names: Vec<&str> =
        columns.split(" not null").filter_map(|c| c.trim_matches([',', ' ']).split(' ').next()).collect();
    let names = names.iter().filter(|n| !n.is_empty()).copied().collect::<Vec<_>>().join(", ");
    office.sql(
        &office.source,
        &format!(
            "create table secret (id int primary key); create table t ({columns}, n int, primary key ({key})) character set utf8mb4;
             set sql_mode = ''; insert ignore into t ({names}, n) select {values}, seq from seq_1_to_2000;"
        ),
    );
    let count = office.sql(&office.source, "select count(*) from t");
    let sum = office.sql(&office.source, "select sum(n) from t");
    let project = office.whole("mirror", "ignore");
    project.expect(0, RUN);
    let found = rows(&project, "select count(*), sum(n) from t");
    assert_eq!(found, [[Some(count.trim().to_string()), Some(sum.trim().to_string())]]);
    assert_eq!(office.sql(&office.source, "select count(*) from secret").trim(), "0");
    // What changes is found by its key.
    office.sql(&office.source, "update t set n = -n; delete from t where n % 3 = 0");
    project.expect(0, RUN);
    let sum = office.sql(&office.source, "select sum(n) from t");
    assert_eq!(rows(&project, "select sum(n) from t"), [[Some(sum.trim().to_string())]]);
    office.end();
}

/// Texts that are equal only by their collation.
const NEAR: &str = "create table t (a varchar(9) collate utf8mb4_nopad_bin primary key, n int) character set utf8mb4;
    insert into t values ('a', 1), ('A', 2), ('a ', 3), ('ä', 4), ('', 5), (' ', 6)";

#[test]
fn keys_that_differ_little_stay_apart_in_a_table_of_ours() {
    let Some(office) = Office::empty(1) else { return };
    office.sql(&office.source, NEAR);
    let project = office.whole("mirror", "ignore");
    office.land_in_mariadb(&project);
    project.expect(0, RUN);
    let rows = |database: &str| office.sql(database, "select hex(a), n from t order by 1");
    assert_eq!(rows(&office.target), rows(&office.source));
    office.sql(
        &office.source,
        "update t set n = n + 10 where a = 'a '; delete from t where a = 'A'; update t set a = 'Ä' where a = 'ä'",
    );
    project.expect(0, RUN);
    assert_eq!(rows(&office.target), rows(&office.source));
    office.end();
}

/// Collations that pad are common: rows whose keys end in spaces are refused, and stop a mirror.
#[test]
fn a_key_that_ends_in_blanks_is_refused_where_they_do_not_count() {
    let Some(office) = Office::empty(1) else { return };
    office.sql(&office.source, NEAR);
    let columns = "n int, _source text, _position bigint, _batch bigint";
    let made = format!("create table t (a varchar(9) collate utf8mb4_bin primary key, {columns})");
    office.sql(&office.target, &made);
    let project = office.whole("mirror", "ignore");
    office.land_in_mariadb(&project);
    let (out, err) = project.expect(0, &["check"]);
    let said = out + &err;
    assert!(said.contains("keys that end in blanks are refused: utf8mb4_bin"), "{said}");
    let (_, said) = project.expect(4, RUN);
    assert!(said.contains("a key that ends in blanks is the same as one without"), "{said}");
    office.sql(&office.target, "alter table t modify a varchar(9) character set utf8mb4 collate utf8mb4_nopad_bin");
    project.expect(0, RUN);
    assert_eq!(office.sql(&office.target, "select count(*) from t").trim(), "6");
    office.end();
}

#[rstest]
#[case("utf8mb4_general_ci", "differ in case, accents or blanks at their end")]
fn a_key_whose_order_merges_texts_is_refused_with_a_remedy(#[case] collation: &str, #[case] expected: &str) {
    let Some(office) = Office::empty(1) else { return };
    office.sql(&office.source, NEAR);
    let columns = "n int, _source text, _position bigint, _batch bigint";
    let made = format!("create table t (a varchar(9) collate {collation} primary key, {columns})");
    office.sql(&office.target, &made);
    let project = office.whole("mirror", "ignore");
    office.land_in_mariadb(&project);
    let (out, err) = project.expect(3, &["check"]);
    let said = out + &err;
    assert!(said.contains(expected), "{said}");
    assert!(said.contains("varchar(9) character set utf8mb4 collate utf8mb4_nopad_bin"), "{said}");
    project.expect(3, RUN);
    project.expect(0, &["check", "--apply", "--yes"]);
    project.expect(0, RUN);
    assert_eq!(office.sql(&office.target, "select count(*) from t").trim(), "6");
    office.end();
}

#[test]
fn rows_that_foreign_keys_change_in_silence_are_refused() {
    let Some(office) = Office::empty(1) else { return };
    let child = |rule: &str| {
        format!(
            "create table child (id int primary key, p int, constraint `to parent` foreign key (p) references parent (id) {rule})"
        )
    };
    office
        .sql(&office.source, &("create table parent (id int primary key);".to_string() + &child("on delete cascade")));
    let project = office.whole("mirror", "ignore");
    for command in [&["check"][..], RUN] {
        let (_, said) = project.expect(3, command);
        assert!(
            said.contains("rows of")
                && said.contains("on delete cascade")
                && said.contains("drop foreign key `to parent`"),
            "{said}"
        );
    }
    office.sql(&office.source, &("drop table child;".to_string() + &child("on delete restrict")));
    project.expect(0, &["check"]);
    project.expect(0, RUN);
    office.end();
}
