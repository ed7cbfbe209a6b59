//! Looks after silent partitions: the client may have lost an answer, the broker its data.

use std::time::{Duration, Instant};

use sluice_core::failure::{Failure, Outcome};
use sluice_core::units::show_many;

use super::assigned::Assigned;
use super::proof::{Prover, begins_as_before, recreated};
use super::reader::{expired, seek};
use crate::broker::{Broker, Consumer};

/// How long a partition may be quiet before its bounds are asked for, and how often they are.
const QUIET: Duration = Duration::from_secs(4);

/// How long the broker may take for an answer.
const PATIENCE: Duration = Duration::from_secs(2);

/// How often messages that were read are looked at again although nothing comes, in units of [`QUIET`].
const PROOFS: u32 = 8;

/// What was found.
pub(super) enum QuietFound {
    /// Nothing that matters.
    Well,
    /// What was read so far settles, then reading ends.
    Halt(Failure),
    /// The broker does not answer.
    Away(Failure),
}

/// When it looked, and what it saw.
pub(super) struct Quiet {
    looked: Instant,
    /// When somebody last read.
    read: Instant,
    rounds: u32,
    proves: bool,
    stalled: Option<String>,
}

impl Default for Quiet {
    fn default() -> Self {
        Self { looked: Instant::now(), read: Instant::now(), rounds: 0, proves: false, stalled: None }
    }
}

impl Quiet {
    /// The next look is now, with a proof.
    pub(super) fn is_due(&mut self) {
        self.rounds = PROOFS;
        self.looked = Instant::now().checked_sub(QUIET).unwrap_or(self.looked);
    }

    /// Whether it is time to look at messages again that were read, once.
    pub(super) fn proves(&mut self) -> bool {
        std::mem::take(&mut self.proves)
    }

    /// That nothing comes although something is there.
    pub(super) fn stalled(&self, parts: &[Assigned]) -> Option<String> {
        self.stalled.clone().filter(|_| parts.iter().any(|p| !p.at_end && p.heard.elapsed() >= QUIET))
    }

    /// Looks, when it is time to; None where it is not.
    ///
    /// # Errors
    /// Where a partition is not the one that was read.
    pub(super) fn look(
        &mut self,
        broker: &Broker,
        consumer: &Consumer,
        parts: &mut [Assigned],
        prover: &mut Prover,
    ) -> Outcome<Option<QuietFound>> {
        // Nothing is heard while nobody asks: a store that holds the run up is not a silence of the broker.
        if std::mem::replace(&mut self.read, Instant::now()).elapsed() > QUIET / 2 {
            parts.iter_mut().for_each(|part| part.heard = Instant::now());
        }
        if self.looked.elapsed() < QUIET {
            return Ok(None);
        }
        self.looked = Instant::now();
        let is_quiet = |p: &&mut Assigned| !p.is_done() && (p.heard.elapsed() >= QUIET || self.rounds >= PROOFS);
        let mut quiet: Vec<&mut Assigned> = parts.iter_mut().filter(is_quiet).collect();
        self.rounds += 1;
        if self.rounds >= PROOFS {
            (self.rounds, self.proves) = (0, true);
        }
        let named: Vec<_> = quiet.iter().map(|p| p.partition.named()).collect();
        let bounds = match broker.bounds_there(consumer, &named, PATIENCE) {
            Ok(bounds) => bounds,
            Err(failure) if failure.passing => return Ok(Some(QuietFound::Away(failure))),
            Err(failure) => return Err(failure),
        };
        let mut stalled = None;
        for (part, bounds) in quiet.iter_mut().zip(bounds) {
            // A topic that is gone is noticed by looking at all of them.
            let Some((low, high)) = bounds else { continue };
            begins_as_before(&part.name, part.proven_to, part.began_at, low)?;
            if part.position < low {
                return Ok(Some(QuietFound::Halt(expired(&part.name, part.position, low))));
            }
            if part.position > high && !prover.reaches_position(part)? {
                return Err(recreated(
                    &part.name,
                    part.proven_to,
                    "the partition ends before it now",
                    Some((low, high)),
                ));
            }
            // Marks of transactions make an end that no message reaches: it is asked for once.
            if high > part.position && (!part.at_end || high != part.known_end) {
                if !part.at_end && high == part.known_end {
                    stalled.get_or_insert_with(|| {
                        let events = show_many(high - part.position, "event");
                        let from = part.position;
                        format!("{} has {events} from offset {from} on, but {} sends none", part.name, broker.shown())
                    });
                }
                part.known_end = high;
                seek(consumer, part);
            }
        }
        self.stalled = stalled;
        Ok(Some(QuietFound::Well))
    }
}
