//! Kills the real program while it moves events from a topic into files and into another topic, at every named point
//! and at random; an independent client then reads what is committed.
//!
//! Needs the feature `failpoints`, which `scripts/test` sets, and kcat.
#![cfg(feature = "failpoints")]

use std::os::unix::process::ExitStatusExt as _;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::common::running::stopped_at;
use crate::common::topics;
use crate::common::topics::{StandIn, has, keyed, produce};
use crate::common::{Expected, TestProject};
use rstest::rstest;
use sluice_core::fail_points::{COMMON, FILES, TOPICS};

const RUN: &[&str] = &["run", "weighings", "--until-caught-up"];
const SETUP: &[&str] = &["--topic", "depot.weighings:3", "--topic", "depot.landed:2"];

fn kill_at(project: &TestProject, point: &str, count: u32) {
    let output = project.command(RUN).env("SLUICE_KILL_AT", format!("{point}:{count}")).output().unwrap();
    assert_eq!(output.status.signal(), Some(9), "{point}:{count} was not reached: {output:?}");
}

fn check(project: &TestProject, broker: &StandIn, expected: &Expected) {
    project.expect(0, RUN);
    expected.check(project);
    let landed = topics::tickets(&broker.address, "depot.landed");
    let strange: Vec<_> = landed.iter().filter(|(t, n)| expected.archive.get(*t) != Some(n)).take(5).collect();
    assert!(strange.is_empty(), "doubled or strange: {strange:?}");
    assert_eq!(landed.len(), expected.archive.len(), "something is missing in the topic");
}

/// Works on all items, some at a time: most of the time is spent waiting.
fn side_by_side<T: Send + Sync>(items: &[T], work: impl Fn(&T) + Sync) {
    let next = std::sync::atomic::AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..5 {
            scope.spawn(|| {
                while let Some(item) = items.get(next.fetch_add(1, std::sync::atomic::Ordering::SeqCst)) {
                    work(item);
                }
            });
        }
    });
}

#[test]
fn killed_at_every_point_every_event_lands_exactly_once_in_files_and_in_a_topic() {
    if !has("kcat") {
        return;
    }
    let points: Vec<&str> = COMMON.iter().chain(FILES).chain(TOPICS).copied().collect();
    side_by_side(&points, |point| {
        let broker = StandIn::start(SETUP);
        let project = topics::project(&broker.address, &topics::pipeline(true));
        let mut expected = Expected::default();
        for count in 1..=2 {
            produce(&broker.address, "depot.weighings", &keyed(&expected.lines(count * 400, 400)), &[]);
            if point.starts_with("recover.") {
                kill_at(&project, "seal.after", 1);
            }
            let once = point.starts_with("recover.") || *point == "stage.first_rows";
            kill_at(&project, point, if once { 1 } else { count });
        }
        check(&project, &broker, &expected);
    });
}

#[test]
fn killed_a_hundred_times_at_random_every_event_lands_exactly_once() {
    if !has("kcat") {
        return;
    }
    side_by_side(&[21, 22, 23, 24, 25], |seed| killed_at_random(*seed, 20));
}

fn killed_at_random(seed: u64, kills: u32) {
    let broker = StandIn::start(SETUP);
    let project = topics::project(&broker.address, &topics::pipeline(true));
    let mut expected = Expected::default();
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(0, 1000)), &[]);
    let started = Instant::now();
    project.expect(0, RUN);
    let mut whole = u64::try_from(started.elapsed().as_micros()).unwrap();
    let (mut random, mut killed, mut round) = (seed, 0, 0);
    while killed < kills {
        round += 1;
        assert!(round <= 8 * kills, "only {killed} of {round} were killed while they worked");
        produce(&broker.address, "depot.weighings", &keyed(&expected.lines(round * 1000, 600)), &[]);
        let mut child = project.command(RUN).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        // Events keep coming while it works.
        produce(&broker.address, "depot.weighings", &keyed(&expected.lines(round * 1000 + 600, 200)), &[]);
        random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        std::thread::sleep(Duration::from_micros((random >> 33) % whole));
        let _ = child.kill();
        let hit = child.wait().unwrap().signal() == Some(9);
        killed += u32::from(hit);
        whole = if hit { whole + whole / 8 } else { (whole - whole / 4).max(2_000) };
    }
    check(&project, &broker, &expected);
}

/// A process that slept through a takeover must not commit the work that it had started.
#[rstest]
fn a_zombie_cannot_land(
    #[values("publish.before", "publish.topic_begun", "publish.topic_sent", "publish.topic_noted")] point: &str,
) {
    if !has("kcat") {
        return;
    }
    let point = format!("{point}:{}", if point == "publish.before" { 3 } else { 1 });
    let (project, (broker, mut expected), mut zombie) = stopped_at(RUN, &point, || {
        let broker = StandIn::start(SETUP);
        let project = topics::project(&broker.address, &topics::pipeline(true));
        let mut expected = Expected::default();
        produce(&broker.address, "depot.weighings", &keyed(&expected.lines(0, 350)), &[]);
        (project, (broker, expected))
    });
    // Its lock is a lock of this machine: a second checkout on another machine would not see it.
    std::fs::remove_dir_all(project.path(".sluice/ledger.locks")).unwrap();
    project.expect(0, RUN);
    let _ = std::process::Command::new("kill").args(["-CONT", &zombie.id().to_string()]).status();
    let output = zombie.wait().unwrap();
    assert!(!output.success(), "the zombie must notice that it was replaced");
    produce(&broker.address, "depot.weighings", &keyed(&expected.lines(1000, 100)), &[]);
    project.expect(0, RUN);
    let landed = topics::tickets(&broker.address, "depot.landed");
    assert_eq!(landed, expected.archive);
}
