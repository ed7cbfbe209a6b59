//! Work at random on a source while runs follow it and are killed.

use std::process::Stdio;
use std::time::Duration;

use crate::common::TestProject;

/// The run that takes everything there is.
pub const RUN: &[&str] = &["run", "office", "--until-caught-up"];

/// Numbers at random, so that a seed gives the same everywhere.
pub struct Random(u64);

impl Random {
    pub fn of(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15))
    }

    pub fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }

    pub fn pick<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[usize::try_from(self.below(all.len() as u64)).unwrap()]
    }

    /// Whether something that happens once in so many times happens now.
    pub fn once_in(&mut self, times: u64) -> bool {
        self.below(times) == 0
    }
}

/// The seeds to try: `SLUICE_FEED_WORK` sets how many, `SLUICE_FEED_WORK_SEED` the first one.
pub fn seeds(default: u64) -> std::ops::Range<u64> {
    let number = |name: &str, default: u64| std::env::var(name).ok().and_then(|n| n.parse().ok()).unwrap_or(default);
    let first = number("SLUICE_FEED_WORK_SEED", 1);
    first..first + number("SLUICE_FEED_WORK", default)
}

/// Work is done while a run follows it that is killed so many milliseconds afterwards, or while none does.
pub fn follow(project: &TestProject, killed_after: Option<u64>, work: impl FnOnce()) {
    let start = || project.command(&["run", "office"]).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let run = killed_after.map(|pause| (pause, start()));
    work();
    let Some((pause, mut run)) = run else { return };
    std::thread::sleep(Duration::from_millis(pause));
    let ended = run.try_wait().unwrap();
    let _ = run.kill();
    let output = run.wait_with_output().unwrap();
    assert!(ended.is_none(), "{}", String::from_utf8_lossy(&output.stderr));
}

/// One round of [`follow`] at random; then perhaps all is read. Gives whether it was.
pub fn round(project: &TestProject, random: &mut Random, work: impl FnOnce()) -> bool {
    let killed_after = random.once_in(2).then(|| random.below(1_200));
    if let Some(pause) = killed_after {
        eprintln!("-- while a run follows, which is killed after {pause} ms");
    }
    follow(project, killed_after, work);
    let is_read = random.once_in(2);
    if is_read {
        eprintln!("-- then all is read");
        project.expect(0, RUN);
    }
    is_read
}
