//! A MariaDB server crashes, forgets its log, or is set up again, while its table is followed.

use std::time::Duration;

use crate::common::feeds_mariadb::Office;
use crate::common::running::Running;

const RUN: &[&str] = &["run", "office", "--until-caught-up"];

/// The run continues without help, whatever its server does, which is source and landing.
#[test]
fn a_server_that_is_killed_ten_times_while_the_source_changes() {
    let Some(mut office) = Office::on_own_server(11) else { return };
    let mut server = office.server.take().unwrap();
    let project = office.project();
    project.expect(0, &["run", "office", "--stop-after", "2"]);
    let mut running = Running::following(&project, &["run", "office"]);
    for round in 1..=10 {
        // Changes that the server had not committed before it was killed did not happen.
        let changes = std::thread::spawn(move || (office.change(40, 0), office));
        std::thread::sleep(Duration::from_millis(150 + 61 * round));
        server.crash(Duration::from_millis(200));
        (_, office) = changes.join().unwrap();
        office.wait();
    }
    std::thread::sleep(Duration::from_millis(1500));
    let still_runs = running.goes_on();
    let (_, said) = running.settle();
    assert!(still_runs, "the run gave up: {said}");
    project.expect(0, RUN);
    office.check();
}

#[test]
fn log_that_was_purged_before_it_was_read_stops_the_run() {
    let Some(mut office) = Office::on_own_server(12) else { return };
    let project = office.project();
    project.expect(0, RUN);
    assert!(office.change(5, 0));
    office.sql("mysql", "flush binary logs; flush binary logs");
    let now = office.sql("mysql", "show master status").split('\t').next().unwrap().to_string();
    // The server keeps log files that a connection still reads; it needs some time to notice that ours has ended.
    let purged = (0..100).any(|_| {
        std::thread::sleep(Duration::from_millis(100));
        office.sql("mysql", &format!("purge binary logs to '{now}'; show binary logs")).starts_with(&now)
    });
    assert!(purged);
    assert!(office.change(5, 0));
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("unread log was deleted") && said.contains(&now), "{said}");
    assert!(said.contains("--set earliest"), "{said}");
    project.expect(0, &["positions", "office", "--set", "earliest", "--reason", "purged", "--yes"]);
    project.expect(0, RUN);
    office.check();
}

#[test]
fn a_log_that_starts_again_under_the_same_names_is_another_one() {
    let Some(mut office) = Office::on_own_server(13) else { return };
    let project = office.project();
    project.expect(0, RUN);
    let position = office.sql("mysql", "show master status");
    let at: u64 = position.split('\t').nth(1).unwrap().parse().unwrap();
    office.sql("mysql", "reset master");
    for round in 0..200 {
        assert!(office.change(20, 0));
        let now = office.sql("mysql", "show master status");
        if now.split('\t').nth(1).unwrap().parse::<u64>().unwrap() > at + 10_000 {
            break;
        }
        assert!(round < 199, "the new log does not grow to {at}");
    }
    let (_, said) = project.expect(6, RUN);
    assert!(said.contains("unread log was deleted"), "{said}");
    project.expect(0, &["positions", "office", "--set", "earliest", "--reason", "set up again", "--yes"]);
    project.expect(0, RUN);
    office.check();
}
