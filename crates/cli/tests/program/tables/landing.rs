//! Tables as landings, by the built program: checked before anything runs, fixed on demand, refused rows as rejects.

use crate::common::TestProject;
use crate::common::tables;
use crate::common::tables::{Database, Expected, LOG_TABLE, PIPELINE};
use rstest::rstest;

const RUN: &[&str] = &["run", "permits", "--until-caught-up"];

/// One landing; `keys` are added to it.
fn one_landing(keys: &str) -> String {
    let head = PIPELINE.split("[event.permit.lands.log]").next().unwrap();
    format!(
        "{head}\n[event.permit.lands.log]\nat = \"toll\"\ntable = \"permit_log\"\n{keys}\ncolumns = \"permit, n, holder, fee, changed\"\n"
    )
}

const COLUMNS: &str =
    "permit text not null, n integer not null, holder text, fee numeric(8,2), changed timestamptz not null";

/// Each way in which a table can be wrong: how it was made, keys of the landing, the message, and the statement
/// that fixes it.
#[rstest]
#[case::no_table("select 1", "", "there is no table", "create table \"permit_log\"")]
#[case::mistyped_table(
    "create table permit_logs (permit text)",
    "",
    "did you mean permit_logs?",
    "create table \"permit_log\""
)]
#[case::no_schema("select 1", "@schema", "there is no table \"office\".\"permit_log\"", "create schema \"office\"")]
#[case::missing_column(
    "create table permit_log (permit text, n integer, holder text, fee numeric(8,2))",
    "",
    "changed: not there",
    "add column \"changed\" timestamptz"
)]
#[case::mistyped_column(
    "create table permit_log (permit text, n integer, holderr text, fee numeric(8,2), changed timestamptz)",
    "",
    "holder: not there; did you mean `holderr`?",
    "add column \"holder\" text"
)]
#[case::unfit_type(
    "create table permit_log (permit integer, n integer, holder text, fee numeric(8,2), changed timestamptz)",
    "",
    "permit: text does not fit into integer",
    ""
)]
#[case::lossy_digits(
    "create table permit_log (permit text, n integer, holder text, fee numeric(9,1), changed timestamptz)",
    "",
    "fee: digits after the point are rounded from 2 to 1",
    "alter column \"fee\" type numeric(10,2)"
)]
#[case::narrow_number(
    "create table permit_log (permit text, n smallint, holder text, fee numeric(8,2), changed timestamptz)",
    "",
    "n: 16 bits hold -32768 to 32767",
    "alter column \"n\" type integer"
)]
#[case::coarse_time(
    "create table permit_log (permit text, n integer, holder text, fee numeric(8,2), changed timestamptz(0))",
    "",
    "changed: microseconds are rounded to 0 digits",
    "alter column \"changed\" type timestamptz"
)]
#[case::unfilled(
    "create table permit_log (permit text, n integer, holder text, fee numeric(8,2), changed timestamptz, office text not null)",
    "",
    "office: it may not be null, has no default",
    "alter column \"office\" drop not null"
)]
#[case::no_unique_index(
    "create table permit_log (permit text, n integer, holder text, fee numeric(8,2), changed timestamptz)",
    "mode = \"upsert\"\nkey = \"permit\"\nversion = \"n\"",
    "the key (permit) has no unique index",
    "create unique index"
)]
#[case::no_lineage(
    "create table permit_log (permit text, n integer, holder text, fee numeric(8,2), changed timestamptz)",
    "lineage = true",
    "_source: not there; lineage = true wants it",
    "add column \"_batch\" bigint"
)]
#[case::computed(
    "create table permit_log (permit text, n integer generated always as (1) stored, holder text, fee numeric(8,2), changed timestamptz)",
    "",
    "n: the store computes it",
    ""
)]
#[case::view("create view permit_log as select 1 as n", "", "is a view", "")]
fn a_table_that_does_not_fit_is_said_before_the_first_row(
    #[case] made: &str,
    #[case] keys: &str,
    #[case] said: &str,
    #[case] statement: &str,
) {
    let Some(database) = Database::new() else { return };
    database.rows(made);
    let project = tables::project(&database, &database.address());
    let pipeline = match keys {
        "@schema" => one_landing("").replace("\"permit_log\"", "\"office.permit_log\""),
        keys => one_landing(keys),
    };
    project.write("pipelines/permits.toml", pipeline);
    project.append("depots/a.jsonl", Expected::default().lines(100, 20));
    let (out, err) = project.expect(3, &["check"]);
    // Columns of the difference are wrapped at the end of a line.
    let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(flat(&err).contains(said), "{out}\n{err}");
    assert!(flat(&out).contains(statement), "{out}");
    let (_, err) = project.expect(3, RUN);
    assert!(flat(&err).contains(said) && flat(&err).contains(statement), "{err}");
    let report: serde_json::Value = {
        let output = project.run(&["check", "--output", "json"]);
        serde_json::from_slice(&output.stdout).unwrap()
    };
    assert_eq!(report["tables"][0]["fits"], false);
    assert!(!project.path(".sluice/spool").exists(), "nothing was read");
}

#[test]
fn a_right_that_is_missing_is_said_with_the_grant() {
    let Some(database) = Database::new() else { return };
    let user = format!("clerk_{}", std::process::id());
    database.rows(&format!("create table permit_log ({COLUMNS}); create role {user} login"));
    let project = tables::project(&database, &database.address());
    let toml = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    project.write("sluice.toml", toml.replace("user = \"sluice\"", &format!("user = \"{user}\"")));
    project.write("pipelines/permits.toml", one_landing(""));
    let (out, err) = project.expect(3, &["check"]);
    assert!(err.contains("this user may not insert there"), "{err}");
    assert!(out.contains(&format!("grant insert on \"permit_log\" to \"{user}\"")), "{out}");
    database.rows(&format!("drop owned by {user}; drop role {user}"));
}

#[test]
fn check_applies_what_it_has_shown_and_nothing_is_narrowed() {
    let Some(database) = Database::new() else { return };
    database
        .rows("create table permit_log (permit text, n smallint, fee numeric(12,1), changed timestamptz, old text)");
    database.rows("insert into permit_log values ('P1', 7, 12345678901.5, now(), 'kept')");
    let project = tables::project(&database, &database.address());
    project.write("pipelines/permits.toml", one_landing(""));
    let (_, err) = project.expect(3, &["check", "--apply"]);
    assert!(err.contains("there is no terminal to ask on"), "{err}");
    assert_eq!(database.rows("select count(*) from information_schema.columns where table_name = 'permit_log'"), ["5"]);
    let (_, err) = project.expect(0, &["check", "--apply", "--yes"]);
    assert!(err.contains("3 statements run"), "{err}");
    assert_eq!(
        database.rows("select permit, n, fee, old, holder is null from permit_log"),
        ["P1\t7\t12345678901.50\tkept\tt"]
    );
    project.append("depots/a.jsonl", Expected::default().lines(100, 20));
    project.expect(0, RUN);
    assert_eq!(database.rows("select count(*) from permit_log"), ["21"]);
}

#[test]
fn run_makes_what_is_missing_where_the_landing_says_so() {
    let Some(database) = Database::new() else { return };
    let project = tables::project(&database, &database.address());
    project.write("pipelines/permits.toml", one_landing("create = true"));
    let mut expected = Expected::default();
    project.append("depots/a.jsonl", expected.lines(100, 20));
    let (_, err) = project.expect(0, RUN);
    assert!(err.contains("made \"permit_log\" in toll") && err.contains("made sluice_lane"), "{err}");
    // A new column is added in the same way, and takes null.
    let wider = one_landing("create = true").replace("fee, changed\"", "fee, changed, action\"");
    project.write("pipelines/permits.toml", wider);
    project.append("depots/a.jsonl", expected.lines(200, 20));
    let (_, err) = project.expect(0, RUN);
    assert!(err.contains("added columns to \"permit_log\": action"), "{err}");
    assert_eq!(database.rows("select count(*), count(action) from permit_log"), ["40\t20"]);
}

/// 37 of 100,000 rows break a constraint; they become rejects with the database's reason, also after a crash between
/// the commit of the store and the ledger's.
#[rstest]
#[case::undisturbed("")]
#[case::killed_after_the_store("publish.table_committed:1")]
#[case::killed_before_the_rejects("refused.before:1")]
#[case::killed_after_the_rejects("refused.kept:1")]
fn of_many_rows_just_the_refused_are_rejects(#[case] kill: &str) {
    if !kill.is_empty() && !cfg!(feature = "failpoints") {
        return;
    }
    let Some(database) = Database::new() else { return };
    database.rows(&format!("create table permit_log ({COLUMNS}, constraint berths check (n % 2703 <> 11))"));
    let project = tables::project(&database, &database.address());
    let pipeline = one_landing("").replace("rows = 100,", "rows = 50_000,");
    project.write("pipelines/permits.toml", pipeline);
    project.append("depots/a.jsonl", Expected::default().lines(0, 100_000));
    if !kill.is_empty() {
        let output = project.command(RUN).env("SLUICE_KILL_AT", kill).output().unwrap();
        assert_eq!(std::os::unix::process::ExitStatusExt::signal(&output.status), Some(9), "{kill} was not reached");
    }
    project.expect(0, RUN);
    let refused = (0..100_000).filter(|n| n % 2703 == 11).count();
    assert_eq!(refused, 37);
    assert_eq!(database.rows("select count(*), count(distinct n) from permit_log"), ["99963\t99963"]);
    let report = project.json(&["rejects", "permits"]);
    assert_eq!(report["total"], 37, "{report}");
    let first = &report["newest"][0];
    assert_eq!((&first["reason"], &first["station"]), (&"refused".into(), &"permit.log".into()), "{first}");
    assert!(first["message"].as_str().unwrap().contains("violates check constraint \"berths\""), "{first}");
    let ledger = project.json(&["ledger", "permits"])["batches"].clone();
    let rejected: u64 = ledger.as_array().unwrap().iter().map(|b| b["rejected"].as_u64().unwrap()).sum();
    assert_eq!(rejected, 37);
}

#[test]
fn refused_rows_are_retried_once_the_table_is_fixed() {
    let Some(database) = Database::new() else { return };
    database.rows(&LOG_TABLE.replace("action text not null, ", ""));
    let project = tables::project(&database, &database.address());
    project.write("pipelines/permits.toml", one_landing(""));
    project.append("depots/a.jsonl", Expected::default().lines(0, 200));
    project.expect(0, RUN);
    assert_eq!(database.rows("select count(*) from permit_log"), ["197"]);
    database.rows("alter table permit_log drop constraint fee_paid");
    project.expect(0, &["rejects", "permits", "--retry", "--yes"]);
    assert_eq!(database.rows("select count(*), count(distinct n) from permit_log"), ["200\t200"]);
    assert_eq!(project.json(&["rejects", "permits"])["total"], 0);
}

#[test]
fn a_mirror_waits_with_a_refused_row_until_the_table_is_fixed() {
    let Some(database) = Database::new() else { return };
    database.rows(&format!("create table permit_log ({COLUMNS}, _batch bigint, _source text, _position bigint, primary key (permit), constraint fee_paid check (n <> 105))"));
    let project = tables::project(&database, &database.address());
    let mirror = one_landing("mode = \"mirror\"\nkey = \"permit\"\nchange = \"'updated'\"");
    project.write("pipelines/permits.toml", &mirror);
    project.append("depots/a.jsonl", Expected::default().lines(100, 20));
    let (_, err) = project.expect(4, RUN);
    assert!(err.contains("refuses a row of batch 1") && err.contains("refused = \"skip\""), "{err}");
    assert_eq!(database.rows("select count(*) from permit_log"), ["0"]);
    database.rows("alter table permit_log drop constraint fee_paid");
    project.expect(0, RUN);
    assert_eq!(database.rows("select count(*) from permit_log where n = 105"), ["1"]);
}

#[test]
fn a_replay_replaces_rows_that_report_their_batch() {
    let Some(database) = Database::new() else { return };
    let project = tables::project(&database, &database.address());
    let text = one_landing("create = true\nlineage = true");
    project.write("pipelines/permits.toml", &text);
    project.append("depots/a.jsonl", Expected::default().lines(100, 300));
    project.expect(0, RUN);
    project.write("pipelines/permits.toml", text.replace("permit, n, holder,", "permit, n, upper(holder) as holder,"));
    project.expect(0, &["replay", "permits", "--batches", "2-3", "--yes"]);
    let found = database
        .rows("select count(*), count(distinct n), count(*) filter (where holder like 'HOLDER%') from permit_log");
    assert_eq!(found, ["300\t300\t200"]);
    let peeked = project.json(&["peek", "permits.permit.log"]);
    assert_eq!(peeked["rows"], 300);
    for batch in peeked["batches"].as_array().unwrap() {
        assert_eq!(batch["rows"], batch["there"], "{batch}");
    }
    // Without lineage a replay cannot know which rows to replace.
    project.write("pipelines/permits.toml", one_landing("create = true"));
    let (_, err) = project.expect(3, &["replay", "permits", "--batches", "2-3", "--yes"]);
    assert!(err.contains("lineage = true"), "{err}");
}

#[test]
fn a_replay_takes_the_rejects_of_refused_rows_away_with_their_batch() {
    let Some(database) = Database::new() else { return };
    database.rows(&format!(
        "create table permit_log ({COLUMNS}, _batch bigint, _source text, _position bigint, constraint fee_paid check (n % 97 <> 5))"
    ));
    let project = tables::project(&database, &database.address());
    project.write("pipelines/permits.toml", one_landing("lineage = true"));
    project.append("depots/a.jsonl", Expected::default().lines(0, 300));
    project.expect(0, RUN);
    assert_eq!(project.json(&["rejects", "permits"])["total"], 4);
    database.rows("alter table permit_log drop constraint fee_paid, add constraint few check (n <> 102)");
    project.expect(0, &["replay", "permits", "--batches", "1-3", "--yes"]);
    // These rows have landed and are no longer rejects: a second retry would land them twice.
    let rejects = project.json(&["rejects", "permits"]);
    assert_eq!(rejects["total"], 1, "{rejects}");
    assert!(rejects["newest"][0]["message"].as_str().unwrap().contains("few"));
    database.rows("alter table permit_log drop constraint few");
    project.expect(0, &["rejects", "permits", "--retry", "--yes"]);
    assert_eq!(database.rows("select count(*), count(distinct n) from permit_log"), ["300\t300"]);
}

#[rstest]
#[case("mode = \"upsert\"", "needs the key `key`")]
#[case("mode = \"upsert\"\nkey = \"permitt\"", "did you mean `permit`?")]
#[case("mode = \"mirror\"\nkey = \"permit\"", "needs to know the kind of each change")]
#[case("key = \"permit\"", "does nothing in mode = \"append\"")]
#[case("mode = \"upsert\"\nkey = \"permit\"\nversion = \"holder\"", "`holder` is text")]
#[case("mode = \"upsertt\"", "did you mean `upsert`")]
#[case("change = \"'updated'\"", "belongs to mirror and changes")]
fn keys_that_do_not_go_together_are_said(#[case] keys: &str, #[case] said: &str) {
    let project = TestProject::empty();
    project.write(
        "sluice.toml",
        "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n[connection.toll]\nurl = \"sqlite:tolls.db\"\n",
    );
    project.write("pipelines/permits.toml", one_landing(keys));
    let (_, err) = project.expect(3, &["check", "--offline"]);
    assert!(err.contains(said), "{err}");
}

#[test]
fn a_server_that_is_away_at_the_start_is_said_with_its_address() {
    let project = TestProject::empty();
    project.write(
        "sluice.toml",
        "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n[connection.toll]\nurl = \"postgres://127.0.0.1:1/tarrow\"\n",
    );
    std::fs::create_dir_all(project.path("depots")).unwrap();
    project.write("pipelines/permits.toml", one_landing(""));
    let (_, err) = project.expect(5, RUN);
    assert!(err.contains("toll at 127.0.0.1:1 does not answer"), "{err}");
    let (_, err) = project.expect(3, &["check"]);
    assert!(err.contains("toll at 127.0.0.1:1 does not answer"), "{err}");
}

#[test]
fn an_sqlite_file_needs_no_server() {
    let project = TestProject::empty();
    project.write(
        "sluice.toml",
        "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n[connection.toll]\nurl = \"sqlite:data/tolls.db\"\n",
    );
    std::fs::create_dir_all(project.path("depots")).unwrap();
    project.write(
        "pipelines/permits.toml",
        PIPELINE.replace("table   = \"permit_log\"", "table = \"permit_log\"\ncreate = true"),
    );
    project.append("depots/a.jsonl", Expected::default().lines(0, 250));
    project.expect(0, RUN);
    assert_eq!(project.json(&["peek", "permits.permit.log"])["rows"], 250);
    let (out, _) = project.expect(0, &["peek", "permits.permit.latest", "--columns", "permit, n", "--when", "n > 240"]);
    assert!(out.contains("permit"), "{out}");
}

#[test]
fn a_draft_into_a_database_runs_as_it_is() {
    let project = TestProject::empty();
    project.write(
        "sluice.toml",
        "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n[connection.toll]\nurl = \"sqlite:tolls.db\"\n",
    );
    std::fs::create_dir_all(project.path("depots")).unwrap();
    project.append("depots/a.jsonl", Expected::default().lines(0, 50));
    project.expect(0, &["draft", "permits", "depots/a.jsonl", "--land-in", "toll"]);
    project.expect(0, RUN);
    assert_eq!(project.json(&["peek", "permits.permit.toll"])["rows"], 50);
}

#[test]
fn emit_changes_rows_of_a_table() {
    let Some(database) = Database::new() else { return };
    database.rows("create table passage (passage_id text primary key, lock_id text, draught_cm integer, note text)");
    let project = tables::project(&database, &database.address());
    let into = ["emit", "passages", "--into", "toll:passage", "--count", "400", "--updates", "30%", "--deletes", "20%"];
    let reported = project.json(&into);
    let changes: Vec<i64> = reported["changes"].as_array().unwrap().iter().map(|n| n.as_i64().unwrap()).collect();
    assert!(changes.iter().all(|n| *n > 20), "{changes:?}");
    assert_eq!(database.rows("select count(*), count(note) from passage"), [format!("{}\t0", changes[0] - changes[2])]);
    let (_, err) = project.expect(5, &["emit", "passages", "--into", "toll:passages", "--count", "1"]);
    assert!(err.contains("did you mean `passage`?"), "{err}");
}

#[test]
fn a_password_is_proven_over_an_encrypted_connection_and_never_shown() {
    let Some(mut database) = Database::on_own_server() else { return };
    if !std::process::Command::new("openssl").arg("version").output().is_ok_and(|o| o.status.success()) {
        return;
    }
    let mut server = database.server.take().unwrap();
    let project = tables::project(&database, &database.address());
    server.encrypt(&project.path("office.pem"));
    database.server = Some(server);
    database.wait();
    database.rows("create role clerk login password 'gate-7'; grant all on schema public to clerk");
    let address = database.address().replace("127.0.0.1", "localhost");
    let connection = |more: &str| {
        format!(
            "[project]\nname = \"tarrow\"\n[connection.depots]\nurl = \"file:depots\"\n[connection.toll]\nurl = \"postgres://{address}/postgres\"\nuser = \"clerk\"\npassword = {{ env = \"OFFICE\" }}\n{more}"
        )
    };
    project.write("pipelines/permits.toml", one_landing("create = true"));
    project.append("depots/a.jsonl", Expected::default().lines(100, 20));
    let run = |password: &str, more: &str| {
        project.write("sluice.toml", connection(more));
        let output = project.command(RUN).env("OFFICE", password).output().unwrap();
        let err = String::from_utf8(output.stderr).unwrap();
        assert!(!err.contains(password), "{err}");
        (output.status.code().unwrap(), err)
    };
    let trusting = "tls = true\nauthority = \"office.pem\"\n";
    let (code, err) = run("gate-8", trusting);
    assert!(code == 5 && err.contains("rejected the login: password authentication failed"), "{code} {err}");
    let (code, err) = run("gate-7", "tls = true\n");
    assert!(code != 0 && err.contains("certificate"), "{code} {err}");
    let (code, err) = run("gate-7", trusting);
    assert_eq!(code, 0, "{err}");
    assert_eq!(database.rows("select count(*) from permit_log"), ["20"]);
}
