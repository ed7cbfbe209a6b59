//! What was seen of pipelines before: since when one is silent, what does not answer since when, how many rejects within an hour.

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use sluice_connect::ledgers::sqlite::SqliteLedger;
use sluice_core::config::notice::Condition;
use sluice_core::drift::Drift;
use sluice_core::failure::Outcome;
use sluice_core::ledger::Ledger as _;
use sluice_core::notice::{Observed, Subject};

use super::rules::Rules;
use crate::commands::ledger::fields::{FieldDrift, drifts};
use crate::crew::{Doing, MemberReport};

/// Rejects are kept in steps of so many microseconds.
const STEP: i64 = 1_000_000;

/// A pipeline that failed works again after so many microseconds without another failure, where nothing shows it earlier.
const CALM: i64 = 60_000_000;

/// All pipelines.
#[derive(Default)]
pub(super) struct Memory(BTreeMap<String, Seen>);

/// One pipeline.
struct Seen {
    read: u64,
    /// When an event was read last; when it was first looked at, where none ever was.
    last_read: i64,
    rejected: u64,
    /// When events were rejected, and how many.
    rejects: VecDeque<(i64, u64)>,
    /// What does not answer, each with the time since when.
    away: BTreeMap<String, i64>,
    /// Since when it has not read everything.
    behind_since: Option<i64>,
    /// Since when it has failed: the time, and what it had read and settled.
    failed: Option<(i64, u64, u64)>,
    /// Changed fields, and the number of batches when they were looked up.
    drifts: Option<(u64, BTreeMap<String, String>)>,
}

impl Seen {
    /// What earlier processes left in the ledger.
    ///
    /// # Errors
    /// Where it cannot be read.
    fn before(pipeline: &str, is_open: bool, ledger: &SqliteLedger, (from, now): (i64, i64)) -> Outcome<Self> {
        Ok(Self {
            read: 0,
            last_read: ledger.last_read(pipeline)?.unwrap_or(now),
            rejected: 0,
            rejects: ledger.rejected_since(pipeline, from)?.into(),
            away: BTreeMap::new(),
            behind_since: None,
            // What an earlier process told of is over once this one has seen it work.
            failed: is_open.then_some((now, 0, 0)),
            drifts: None,
        })
    }

    /// Rejects before `from` are forgotten: no rule counts them.
    fn note(&mut self, report: &MemberReport, (from, now): (i64, i64)) {
        let moved = &report.moved;
        // A pipeline that was started again counts from zero.
        if moved.read != self.read {
            (self.read, self.last_read) = (moved.read, now);
        }
        let rejected = moved.rejected.checked_sub(self.rejected).unwrap_or(moved.rejected);
        self.rejected = moved.rejected;
        if rejected > 0 {
            match self.rejects.back_mut().filter(|(at, _)| now - *at < STEP) {
                Some((_, count)) => *count += rejected,
                None => self.rejects.push_back((now, rejected)),
            }
        }
        while self.rejects.front().is_some_and(|(at, _)| *at < from) {
            self.rejects.pop_front();
        }
        let mut away: Vec<&String> = if report.doing == Doing::Runs { moved.away.iter().collect() } else { Vec::new() };
        if let Doing::Waits { reason, .. } = &report.doing {
            away.push(reason);
        }
        self.away.retain(|known, _| away.contains(&known));
        for what in away {
            self.away.entry(what.clone()).or_insert(now);
        }
        let rests = matches!(report.doing, Doing::Rests { .. }) || (report.doing == Doing::Runs && moved.caught_up);
        self.behind_since = if rests { None } else { self.behind_since.or(Some(now)) };
        match (&report.doing, self.failed) {
            (Doing::Waits { .. } | Doing::Stopped { .. }, _) => self.failed = Some((now, moved.read, moved.batches)),
            (Doing::Rests { .. } | Doing::Queues, _) => self.failed = None,
            (Doing::Runs, Some((since, read, batches))) => {
                let moves = moved.caught_up || moved.read != read || moved.batches != batches;
                if moves || now - since > CALM {
                    self.failed = None;
                }
            }
            _ => {}
        }
    }
}

impl Memory {
    /// Notes how pipelines stand now. `is_open` says of which of them a notice is open; rejects are counted over the time `within`, the
    /// longest of all rules.
    ///
    /// # Errors
    /// Where a pipeline is new and the ledger cannot be read.
    pub(super) fn note(
        &mut self,
        reports: &[MemberReport],
        is_open: &dyn Fn(&str) -> bool,
        ledger: &SqliteLedger,
        (within, now): (Duration, i64),
    ) -> Outcome<()> {
        let from = now.saturating_sub(i64::try_from(within.as_micros()).unwrap_or(i64::MAX));
        for report in reports {
            let name = &report.pipeline;
            if !self.0.contains_key(name) {
                self.0.insert(name.clone(), Seen::before(name, is_open(name), ledger, (from, now))?);
            }
            if let Some(seen) = self.0.get_mut(name) {
                seen.note(report, (from, now));
            }
        }
        Ok(())
    }

    /// Since when a pipeline has not read everything.
    pub(super) fn behind_since(&self, pipeline: &str) -> Option<i64> {
        self.0.get(pipeline)?.behind_since
    }

    /// What a condition needs to know of a pipeline; what sources know is left out.
    pub(super) fn observed(&mut self, condition: Condition, report: &MemberReport, now: i64) -> Observed {
        let mut found = Observed::default();
        let Some(seen) = self.0.get_mut(&report.pipeline) else { return found };
        let since = |at: i64| Duration::from_micros(u64::try_from(now - at).unwrap_or(0));
        match condition {
            Condition::Silent(_) if !report.doing.is_over() => found.silent = Some(since(seen.last_read)),
            Condition::Rejects(_, within) => {
                let from = now.saturating_sub(i64::try_from(within.as_micros()).unwrap_or(i64::MAX));
                found.rejects = Some(seen.rejects.iter().filter(|(at, _)| *at >= from).map(|(_, count)| count).sum());
            }
            Condition::Unreachable(_) if !matches!(report.doing, Doing::Stopped { .. } | Doing::Settles) => {
                // While it is tried again nobody knows what answers.
                let is_known = !seen.away.is_empty() || seen.failed.is_none();
                let away = seen.away.iter().map(|(what, at)| (what.clone(), since(*at)));
                found.away = is_known.then(|| away.collect());
            }
            Condition::Stopped => {
                found.failure = match &report.doing {
                    Doing::Stopped { reason } => Some(Subject::Stopped { reason: reason.clone() }),
                    Doing::Waits { failures, reason, .. } => {
                        Some(Subject::Fails { times: *failures, reason: reason.clone() })
                    }
                    Doing::Runs | Doing::Rests { .. } | Doing::Queues => {
                        seen.failed.is_none().then_some(Subject::Works)
                    }
                    Doing::Settles | Doing::Ended => None,
                };
            }
            _ => {}
        }
        found
    }

    /// How fields of a pipeline's events have changed, by event and field. Looked up again after a batch.
    pub(super) fn drifts(
        &mut self,
        pipeline: &str,
        report: &MemberReport,
        rules: &Rules,
        ledger: &SqliteLedger,
        now: i64,
    ) -> Outcome<Option<BTreeMap<String, String>>> {
        let Some(seen) = self.0.get_mut(pipeline) else { return Ok(None) };
        if let Some((batches, drifts)) = &seen.drifts
            && *batches == report.moved.batches
        {
            return Ok(Some(drifts.clone()));
        }
        let Some(loaded) = rules.pipelines.iter().find(|loaded| loaded.config.name == pipeline) else {
            return Ok(None);
        };
        let mut found = BTreeMap::new();
        for FieldDrift { event, field, drift, .. } in drifts(&loaded.plan, ledger.fields(pipeline)?, now) {
            let shown = sluice_core::names::shown(&field);
            // Without an example: people are told elsewhere, where values do not belong.
            let what = match drift {
                Drift::New => format!("{event}: new field {shown}, which the contract does not name"),
                Drift::Gone => format!("{event}: field {shown} has no values any more"),
                Drift::Unfit => format!("{event}: values of field {shown} do not fit its type"),
            };
            found.insert(format!("{event}.{field}.{drift:?}"), what);
        }
        seen.drifts = Some((report.moved.batches, found.clone()));
        Ok(Some(found))
    }
}

#[cfg(test)]
#[path = "memory_tests.rs"]
mod tests;
