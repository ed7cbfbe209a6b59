//! How long to wait before a pipeline that failed is tried again.

use std::time::Duration;

use sluice_core::failure::{Failure, FailureKind};

/// Pauses that grow with every failure, from one second to five minutes.
#[derive(Debug, Default)]
pub(super) struct Pauses {
    failures: u32,
}

/// A run that has lasted this long was not a failure from its beginning: pauses are short again.
const GOOD: Duration = Duration::from_secs(300);

/// The longest pause.
const LONGEST: u64 = 300;

impl Pauses {
    /// The pause after a run that has lasted so long. `nudge`, from 0 to 1, spreads pipelines that failed at the same moment.
    pub(super) fn after(&mut self, lasted: Duration, nudge: f64) -> Duration {
        if lasted >= GOOD {
            self.failures = 0;
        }
        let whole = 1_u64.checked_shl(self.failures).unwrap_or(LONGEST).min(LONGEST);
        self.failures = (self.failures + 1).min(32);
        Duration::from_secs(whole).mul_f64(1.0 + nudge.clamp(0.0, 1.0) / 4.0)
    }

    /// How often in a row it has failed.
    pub(super) fn failures(&self) -> u32 {
        self.failures
    }
}

/// Whether a failure may be over after a while, without anybody doing something to the pipeline.
pub(super) fn may_pass(failure: &Failure) -> bool {
    failure.passing || matches!(failure.kind, FailureKind::Unreachable | FailureKind::InUse)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn pauses_grow_up_to_the_longest() {
        let mut pauses = Pauses::default();
        let seconds: Vec<u64> = (0..12).map(|_| pauses.after(Duration::ZERO, 0.0).as_secs()).collect();
        assert_eq!(seconds, [1, 2, 4, 8, 16, 32, 64, 128, 256, 300, 300, 300]);
        assert_eq!(pauses.failures(), 12);
        (0..100).for_each(|_| assert_eq!(pauses.after(Duration::ZERO, 0.0).as_secs(), 300));
        assert_eq!(pauses.after(GOOD, 0.0).as_secs(), 1);
        assert_eq!(pauses.after(Duration::ZERO, 1.0), Duration::from_millis(2500));
    }

    #[rstest]
    #[case(Failure::unreachable("x"), true)]
    #[case(Failure::away("x"), true)]
    #[case(Failure::new(FailureKind::InUse, "x"), true)]
    #[case(Failure::new(FailureKind::Configuration, "x"), false)]
    #[case(Failure::new(FailureKind::BadData, "x"), false)]
    #[case(Failure::findings("x"), false)]
    #[case(Failure::internal("x"), false)]
    fn only_what_may_pass_is_tried_again(#[case] failure: Failure, #[case] expected: bool) {
        assert_eq!(may_pass(&failure), expected);
    }
}
