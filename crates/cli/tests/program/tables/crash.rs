//! Kills the real program, its database server, and the connection between them while rows are appended, upserted and
//! mirrored; the tables must equal an independent computation.
//!
//! Needs the feature `failpoints` and PostgreSQL, which `scripts/test` sets up.
#![cfg(feature = "failpoints")]

use std::os::unix::process::ExitStatusExt as _;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::TestProject;
use crate::common::running::{Running, stopped_at};
use crate::common::tables;
use crate::common::tables::{Cut, Database, Expected, LOG_TABLE, cutting_proxy};
use rstest::rstest;
use sluice_core::fail_points::{COMMON, REFUSALS, TABLES};

const RUN: &[&str] = &["run", "permits", "--until-caught-up"];

fn kill_at(project: &TestProject, point: &str, count: u32) {
    let output = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:{count}")).output().unwrap();
    assert_eq!(output.status.signal(), Some(9), "{point}:{count} was not reached: {output:?}");
}

#[test]
fn killed_at_every_point_every_change_is_there_once() {
    for point in COMMON.iter().chain(TABLES).chain(REFUSALS) {
        let Some(database) = Database::new() else { return };
        database.rows(LOG_TABLE);
        let project = tables::project(&database, &database.address());
        let mut expected = Expected::default();
        let is_recovery = point.starts_with("recover.");
        // The batch has three landings; each one is hit.
        for count in 1..=3 {
            let from = i64::from(count) * 1000;
            // One file: the order of the changes of a key is that of its partition.
            project.append("depots/a.jsonl", expected.lines(from, 450));
            if is_recovery {
                kill_at(&project, "seal.after", 1);
            }
            let once = is_recovery || *point == "stage.first_rows";
            kill_at(&project, point, if once { 1 } else { count });
        }
        project.expect(0, RUN);
        expected.check(&project, &database);
    }
}

#[rstest]
#[case(31, 25)]
#[case(32, 25)]
fn killed_at_random_every_change_is_there_once(#[case] seed: u64, #[case] kills: u32) {
    let Some(database) = Database::new() else { return };
    database.rows(LOG_TABLE);
    let project = tables::project(&database, &database.address());
    let mut expected = Expected::default();
    project.append("depots/a.jsonl", expected.lines(0, 1500));
    let started = Instant::now();
    project.expect(0, RUN);
    let mut whole = u64::try_from(started.elapsed().as_micros()).unwrap();
    let (mut random, mut killed, mut round) = (seed, 0, 0);
    while killed < kills {
        round += 1;
        assert!(round <= 8 * i64::from(kills), "only {killed} of {round} were killed while they worked");
        project.append("depots/a.jsonl", expected.lines(round * 10_000, 500));
        let mut child = project.command(RUN).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        std::thread::sleep(Duration::from_micros((random >> 33) % whole));
        let _ = child.kill();
        let hit = child.wait().unwrap().signal() == Some(9);
        killed += u32::from(hit);
        whole = if hit { whole + whole / 8 } else { (whole - whole / 4).max(2_000) };
    }
    project.expect(0, RUN);
    expected.check(&project, &database);
}

/// The run continues without help, whatever its server does.
#[test]
fn a_server_that_crashes_under_load_ten_times_loses_and_doubles_nothing() {
    let Some(mut database) = Database::on_own_server() else { return };
    database.rows(LOG_TABLE);
    let project = tables::project(&database, &database.address());
    let mut expected = Expected::default();
    project.append("depots/a.jsonl", expected.lines(0, 300));
    project.expect(0, RUN);
    project.append("depots/a.jsonl", expected.lines(5_000, 10));
    // A run ends when its server is missing at the start; it waits only for a server that fails later.
    let mut running = Running::following(&project, &["run", "permits"]);
    let mut server = database.server.take().unwrap();
    for round in 1..=10 {
        project.append("depots/a.jsonl", expected.lines(round * 10_000, 2_000));
        std::thread::sleep(Duration::from_millis(120 + 37 * u64::try_from(round).unwrap()));
        server.crash(Duration::from_millis(200));
    }
    database.server = Some(server);
    database.wait();
    std::thread::sleep(Duration::from_millis(800));
    let still_runs = running.goes_on();
    let (_, said) = running.settle();
    assert!(still_runs, "the run gave up: {said}");
    assert!(said.contains("waiting, nothing is lost"), "{said}");
    project.expect(0, RUN);
    expected.check(&project, &database);
}

#[rstest]
fn a_connection_that_is_cut_is_found_again(
    #[values(Cut::InCopy, Cut::BeforeCommit, Cut::AfterCommit)] cut: Cut,
    // The first commit is that of the table of deleted keys.
    #[values(2, 3, 4, 6)] number: u32,
) {
    let Some(database) = Database::new() else { return };
    database.rows(LOG_TABLE);
    let address = cutting_proxy(database.address(), cut, number);
    let project = tables::project(&database, &address);
    let mut expected = Expected::default();
    project.append("depots/a.jsonl", expected.lines(0, 450));
    let (_, said) = project.expect(0, RUN);
    assert!(said.contains("waiting, nothing is lost") && said.contains("it answers again"), "{said}");
    expected.check(&project, &database);
}

/// A process that slept through a takeover must not land the work that it had started.
#[rstest]
fn a_zombie_lands_nothing_twice(
    #[values("publish.before", "publish.table_noted", "publish.table_loaded")] point: &str,
) {
    if Database::new().is_none() {
        return;
    }
    let (project, (database, expected), mut zombie) = stopped_at(RUN, &format!("{point}:1"), || {
        let database = Database::new().unwrap();
        database.rows(LOG_TABLE);
        let project = tables::project(&database, &database.address());
        let mut expected = Expected::default();
        project.append("depots/a.jsonl", expected.lines(0, 150));
        (project, (database, expected))
    });
    std::fs::remove_dir_all(project.path(".sluice/ledger.locks")).unwrap();
    // The server ends what the zombie has open; a rival waits for it until then.
    database.rows(
        "select pg_terminate_backend(pid) from pg_stat_activity \
         where application_name = 'sluice' and datname = current_database()",
    );
    project.expect(0, RUN);
    let _ = std::process::Command::new("kill").args(["-CONT", &zombie.id().to_string()]).status();
    let _ = zombie.wait().unwrap();
    project.expect(0, RUN);
    expected.check(&project, &database);
}
