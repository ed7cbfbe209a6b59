//! Another server takes over, and the log is read over an encrypted connection with a password.

use crate::common::feeds;
use crate::common::feeds::Office;
use crate::common::running::Running;
use crate::common::tables::{Database, OwnServer, psql};

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

/// A source on a server of its own, and a target on that of all tests.
fn office(seed: u64) -> Option<(Office, OwnServer)> {
    let (target, mut source) = (Database::new()?, Database::on_own_server()?);
    let server = source.server.take().unwrap();
    Some((Office::between(&source.url, target, seed), server))
}

#[test]
fn a_standby_that_has_all_that_was_read_takes_over_without_a_gap() {
    let Some((mut office, mut server)) = office(3) else { return };
    let project = office.project(&feeds::pipeline(""));
    project.expect(0, RUN);
    // While no run reads.
    assert!(office.change(10, false));
    server.stop();
    server.take_over();
    assert!(office.change(10, false));
    project.expect(0, RUN);
    office.check_mirrors();
    // While a run reads.
    let mut running = Running::following(&project, &["run", "office"]);
    assert!(office.change(10, false));
    server.stop();
    server.take_over();
    assert!(office.change(10, false));
    std::thread::sleep(std::time::Duration::from_secs(2));
    let still_runs = running.goes_on();
    let (_, said) = running.settle();
    assert!(still_runs, "the run gave up: {said}");
    project.expect(0, RUN);
    assert_eq!(psql(&office.source, "select timeline_id from pg_control_checkpoint()"), ["3"]);
    office.check_mirrors();
    office.check_logs();
}

#[test]
fn a_standby_that_lacks_what_was_read_stops_the_run() {
    let Some((mut office, mut server)) = office(4) else { return };
    let project = office.project(&feeds::pipeline(""));
    project.expect(0, RUN);
    server.stop();
    server.keep_copy();
    server.start();
    assert!(office.change(30, false));
    project.expect(0, RUN);
    server.stop();
    server.take_copy();
    server.take_over();
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("timeline 2 of its log, which branched off at"), "{said}");
    assert!(said.contains("a standby took over that did not have all that had been read"), "{said}");
    project.expect(0, &["positions", "office", "--set", "earliest", "--reason", "a standby took over", "--yes"]);
    project.expect(0, RUN);
    office.check_mirrors();
    assert!(office.change(10, false));
    project.expect(0, RUN);
    office.check_mirrors();
}

#[test]
fn a_server_that_was_set_up_again_is_another_one() {
    let (Some((office, _server)), Some((other, _other))) = (office(5), office(6)) else { return };
    let project = office.project(&feeds::pipeline(""));
    project.expect(0, RUN);
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    let place = |office: &Office| office.source.split('@').nth(1).unwrap().to_string();
    project.write("sluice.toml", text.replace(&place(&office), &place(&other)));
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("is another server than the one that was read"), "{said}");
}

#[test]
fn the_log_is_read_over_tls_with_a_password() {
    let Some((mut office, mut server)) = office(7) else { return };
    let sql = "create role clerk login replication superuser password 'lock 7'";
    psql(&office.source, sql);
    let project = office.project(&feeds::pipeline(""));
    server.encrypt(&project.path("authority.pem"));
    let answers = || feeds::script(&office.source, "select 1");
    assert!((0..300).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(100));
        answers()
    }));
    let text = std::fs::read_to_string(project.path("sluice.toml")).unwrap();
    let (head, rest) = text.split_once("[connection.office]").unwrap();
    let (own, rest) = rest.split_once("user = \"sluice\"").unwrap();
    let login = "user = \"clerk\"\npassword = { file = \"secret\" }\ntls = true\nauthority = \"authority.pem\"";
    let own = own.replace("127.0.0.1", "localhost");
    project.write("sluice.toml", format!("{head}[connection.office]{own}{login}{rest}"));
    project.write("secret", "lock 8");
    let (_, said) = project.expect(5, RUN);
    assert!(said.contains("rejected the login") && !said.contains("lock 8"), "{said}");
    project.write("secret", "lock 7");
    project.expect(0, RUN);
    assert!(office.change(10, false));
    project.expect(0, RUN);
    office.check_mirrors();
}
