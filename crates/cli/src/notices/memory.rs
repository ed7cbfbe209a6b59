//! What was seen of pipelines before: since when one is silent, what does not answer since when, how many rejects within an hour.

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use sluice_core::config::notice::Condition;
use sluice_core::drift::{Drift, FieldHistory};
use sluice_core::failure::Outcome;
use sluice_core::ledger::{BatchQuery, BatchRecord, Ledger};
use sluice_core::notice::{Observed, Subject};

use super::rules::Rules;
use crate::crew::{Doing, MemberReport};

/// Batches of earlier processes that are looked at.
const EARLIER: u64 = 1_000;

/// Rejects are kept in steps of so many microseconds.
const STEP: i64 = 1_000_000;

/// A pipeline that failed works again after so many microseconds without another failure, where nothing shows it earlier.
const CALM: i64 = 60_000_000;

/// A value that did not fit is told for so long: a day, in microseconds.
const RECENT: i64 = 24 * 3_600 * 1_000_000;

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
    fn before(pipeline: &str, is_open: bool, ledger: &dyn Ledger, now: i64) -> Self {
        let batches = ledger.batches(pipeline, BatchQuery { last: Some(EARLIER), number: None }).unwrap_or_default();
        let read = |batch: &&BatchRecord| batch.read > 0 && !batch.lane.is_out_of_order();
        let last_read = batches.iter().filter(read).filter_map(|batch| batch.settled_at).max();
        let rejects = batches.iter().filter(|batch| batch.rejected > 0);
        let mut rejects: Vec<(i64, u64)> = rejects.filter_map(|b| Some((b.settled_at?, b.rejected))).collect();
        rejects.sort_unstable();
        Self {
            read: 0,
            last_read: last_read.unwrap_or(now),
            rejected: 0,
            rejects: rejects.into(),
            away: BTreeMap::new(),
            behind_since: None,
            // What an earlier process told of is over once this one has seen it work.
            failed: is_open.then_some((now, 0, 0)),
            drifts: None,
        }
    }

    fn note(&mut self, report: &MemberReport, now: i64) {
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
    /// Notes how pipelines stand now. `is_open` says of which of them a notice is open.
    pub(super) fn note(
        &mut self,
        reports: &[MemberReport],
        is_open: &dyn Fn(&str) -> bool,
        ledger: &dyn Ledger,
        now: i64,
    ) {
        for report in reports {
            let known = self.0.entry(report.pipeline.clone());
            let before = || Seen::before(&report.pipeline, is_open(&report.pipeline), ledger, now);
            known.or_insert_with(before).note(report, now);
        }
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
        ledger: &dyn Ledger,
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
        let history = FieldHistory::new(ledger.fields(pipeline)?);
        let mut found = BTreeMap::new();
        let events = loaded.plan.events.iter().filter_map(|event| Some((&event.name, event.contract.as_ref()?)));
        for (event, contract) in events {
            let all = history.events(event);
            for record in history.fields(event) {
                let is_recent = record.unfit_at.is_some_and(|at| now - at < RECENT);
                for drift in record.drifts(contract, all) {
                    let field = sluice_core::names::shown(&record.field);
                    let what = match drift {
                        Drift::New => format!("{event}: new field {field}, which the contract does not name"),
                        Drift::Gone => format!("{event}: field {field} has no values any more"),
                        Drift::Unfit if is_recent => format!("{event}: values of field {field} do not fit its type"),
                        Drift::Unfit => continue,
                    };
                    found.insert(format!("{event}.{}.{drift:?}", record.field), what);
                }
            }
        }
        seen.drifts = Some((report.moved.batches, found.clone()));
        Ok(Some(found))
    }
}

#[cfg(test)]
#[path = "memory_tests.rs"]
mod tests;
