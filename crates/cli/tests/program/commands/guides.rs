//! Every guide is followed to the letter: its files, its users with only their rights, its commands.

use crate::common::TestProject;
use crate::common::{feeds_mariadb, tables, topics};

/// The fenced blocks of a guide: what stands behind the fence, and the text.
fn blocks(guide: &str) -> Vec<(String, String)> {
    let (mut found, mut open): (Vec<(String, String)>, Option<usize>) = (Vec::new(), None);
    for line in guide.lines() {
        let bare = line.trim_start();
        match (bare.strip_prefix("```"), open) {
            (Some(info), None) => {
                found.push((info.to_string(), String::new()));
                open = Some(line.len() - bare.len());
            }
            (Some(_), Some(_)) => open = None,
            (None, Some(indent)) => {
                let text = &mut found.last_mut().unwrap().1;
                text.push_str(line.get(indent..).unwrap_or_default());
                text.push('\n');
            }
            (None, None) => {}
        }
    }
    assert!(open.is_none());
    found
}

/// Does what a guide says; `admin` runs SQL at the source or at the store. The addresses are those of the test's servers,
/// which are on this machine and do not encrypt.
fn follow(guide: &str, addresses: &[(&str, &str)], admin: impl Fn(&str, &str)) -> TestProject {
    let project = TestProject::empty();
    let mut commands = 0;
    for (info, text) in blocks(guide) {
        match info.split_once(' ') {
            Some(("sql", place)) => admin(place, &text),
            Some(("toml" | "text", file)) => {
                let mut text = text.replace("tls      = true\n", "");
                for (written, real) in addresses {
                    text = text.replace(written, real);
                }
                project.write(file, text);
            }
            None if info == "sh" => {
                for line in text.lines() {
                    let arguments: Vec<&str> = line.strip_prefix("sluice ").unwrap().split_whitespace().collect();
                    let mut command = project.command(&arguments);
                    let change_me = ["TOLL_OFFICE", "WAREHOUSE"].map(|name| (name, "CHANGE-ME"));
                    for (name, password) in change_me.into_iter().chain([("LOCK_BROKER", "gate-7"), ("TOLLS", "")]) {
                        command.env(format!("{name}_PASSWORD"), password);
                    }
                    let output = command.output().unwrap();
                    let said = [output.stdout, output.stderr].map(|bytes| String::from_utf8(bytes).unwrap()).concat();
                    assert!(output.status.success(), "{line}\n{said}");
                    // The tables that `create` will make are the only warning.
                    let warns = |l: &&str| l.starts_with("! line") && !l.contains(": there is no t");
                    assert_eq!(said.lines().filter(warns).count(), 0, "{line}\n{said}");
                    commands += 1;
                }
            }
            _ => assert_eq!(info, "text", "a block that the test does not know"),
        }
    }
    assert!(commands >= 3, "a guide has commands");
    project
}

#[test]
fn files() {
    let project = follow(include_str!("../../../../../docs/guides/files.md"), &[], |_, _| unreachable!());
    assert_eq!(crate::common::visible_files(&project.path("archive/weighings/2026/04/01")).len(), 1);
}

#[test]
fn sqlite() {
    let project = follow(include_str!("../../../../../docs/guides/sqlite.md"), &[], |_, _| unreachable!());
    let desk = rusqlite::Connection::open(project.path("desk.db")).unwrap();
    let found: (i64, i64) =
        desk.query_row("select count(*), max(gross_kg) from weighing", [], |r| Ok((r.get(0)?, r.get(1)?))).unwrap();
    assert_eq!(found, (2, 18_500));
}

#[test]
fn kafka() {
    let broker = topics::StandIn::start(&["--topic", "lock.passages:4", "--user", "sluice"]);
    let address = [("broker.tarrow.example:9092", broker.address.as_str())];
    let project = follow(include_str!("../../../../../docs/guides/kafka.md"), &address, |_, _| unreachable!());
    assert!(!crate::common::visible_files(&project.path("archive/passages")).is_empty());
}

#[test]
fn postgres() {
    let Some(server) = tables::Database::on_own_server() else { return };
    server.rows("create database office");
    server.rows("create database warehouse");
    let of = |database: &str| format!("{}/{database}", server.url.rsplit_once('/').unwrap().0);
    let address = server.address();
    let project = follow(
        include_str!("../../../../../docs/guides/postgres.md"),
        &[("db.tarrow.example:5432", &address)],
        |place, sql| {
            let database = if place == "at the source" { "office" } else { "warehouse" };
            tables::psql(&of(database), sql);
        },
    );
    assert_eq!(tables::psql(&of("warehouse"), "select count(*) from landed.permit"), ["1000"]);
    drop(project);
}

#[test]
fn mariadb() {
    let Some(office) = feeds_mariadb::Office::on_own_server(1) else { return };
    office.sql("mysql", "create database office; create database warehouse");
    let address = office.address();
    follow(
        include_str!("../../../../../docs/guides/mariadb.md"),
        &[("db.tarrow.example:3306", &address)],
        |place, sql| {
            let database = if place == "at the source" { "office" } else { "warehouse" };
            office.sql(database, sql);
        },
    );
    assert_eq!(office.sql("warehouse", "select count(*) from permit").trim(), "1000");
}

#[test]
fn clickhouse() {
    let Ok(address) = std::env::var("SLUICE_TEST_CLICKHOUSE") else {
        assert!(std::env::var_os("SLUICE_TEST_SERVICES").is_none(), "SLUICE_TEST_CLICKHOUSE is not set");
        return eprintln!("skipped: SLUICE_TEST_CLICKHOUSE is not set");
    };
    let database = format!("guide_{}", std::process::id());
    let ask = |sql: &str| {
        let url = format!("http://{address}/");
        let output = std::process::Command::new("curl").args(["-sf", "--data-binary", sql, &url]).output().unwrap();
        assert!(output.status.success(), "{sql}: {output:?}");
        String::from_utf8(output.stdout).unwrap()
    };
    ask(&format!("create database {database}"));
    let place = format!("{address}/{database}");
    let addresses = [("db.tarrow.example:8123/warehouse", place.as_str())];
    follow(include_str!("../../../../../docs/guides/clickhouse.md"), &addresses, |_, _| unreachable!());
    assert_eq!(ask(&format!("select count() from {database}.weighing")).trim(), "2");
    ask(&format!("drop database {database}"));
}
