//! The last thread of a lane: seals, lands and settles batches in order.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use crossbeam_channel::Receiver;

use super::busy::{Work, measured};
use super::stager::StagedHandover;
use super::{BatchSummary, LandedSummary, RunEvent, Shared, Stop};
use crate::batch::{BatchIdentity, LandingWork, LaneId, StationCount};
use crate::drift::{SeenFields, batch_name};
use crate::failure::{Failure, FailureKind, Outcome};
use crate::reject::REJECTS;
use crate::reject::Reason;
use crate::units::{show_count, show_share};

/// Commits what is staged until there is no more, or until something fails.
pub(super) fn commit_all(shared: &Shared<'_>, lane: &LaneId, staged: &Receiver<StagedHandover>) {
    for handover in staged {
        if shared.stop.is_aborting() {
            return;
        }
        if let Err(failure) = commit(shared, lane, handover) {
            return shared.fail(failure);
        }
    }
}

fn commit(shared: &Shared<'_>, lane: &LaneId, handover: StagedHandover) -> Outcome<()> {
    let StagedHandover { staged, rejects, nulls } = handover;
    let (read, bytes, rejected, opened_at) = (staged.read, staged.bytes, staged.rejected, staged.opened_at);
    let counts = staged.counts.clone();
    let landings = summaries(&staged.works, &counts);
    let landed: u64 = staged.works.iter().filter(|w| w.landing != REJECTS).map(|w| w.work.rows).sum();
    let epoch = shared.epoch(lane)?;
    let seen = staged.fields.clone();
    let sealed = measured(shared.observer, lane, Work::Recording, || staged.seal(shared.ledger, epoch))?;
    report_drift(shared, &sealed.identity, &seen, opened_at);
    let ranges = sealed.ranges.clone();
    let again = |landing: &str, failure: &Failure| {
        shared.observer.on(store_away(lane, landing, failure));
        wait(shared.stop)
    };
    let spent = |landing: &str, time| shared.observer.busy(lane, Work::Publishing(landing.to_string()), time);
    let mut done = sealed.land(shared.ledger, &shared.landings, &again, &spent)?;
    let refused = std::mem::take(&mut done.refused);
    let settled = measured(shared.observer, lane, Work::Recording, || done.settle(shared.ledger))?;
    let refusals: u64 = refused.iter().map(|r| r.2).sum();
    let (rejected, landed) = (rejected + refusals, landed - refusals);
    shared.observer.on(RunEvent::StoreBack(lane.clone()));
    let arrivals: BTreeSet<&str> = ranges.0.iter().map(|range| lane.arrival_of(&range.partition).0).collect();
    for arrival in arrivals {
        let Some(intake) = shared.intakes.get(arrival) else { continue };
        // The source only shows this to others; the ledger decides.
        if let Err(failure) = intake.settled(&ranges.of_arrival(lane, arrival)) {
            shared.remark(format!("{arrival}: {}", failure.message));
        }
    }
    let mut reasons = Vec::new();
    {
        let mut report = shared.report();
        report.batches += 1;
        report.read += read;
        report.bytes += bytes;
        report.rejected += rejected;
        for count in &counts {
            match report.counts.iter_mut().find(|c| c.station == count.station) {
                Some(known) => known.add(count),
                None => report.counts.push(count.clone()),
            }
        }
        report.nulls.merge(&nulls);
        for (key, count) in rejects {
            reasons.push((Arc::clone(&key.0), key.1, count));
            *report.rejects.entry(key).or_default() += count;
        }
        for (landing, column, count) in refused {
            if let Some(station) = report.counts.iter_mut().find(|c| c.station == landing) {
                station.output -= count;
                station.rejected += count;
            }
            let station: Arc<str> = landing.into();
            reasons.push((Arc::clone(&station), Reason::REFUSED.word(), count));
            *report.rejects.entry((station, Reason::REFUSED.word(), column)).or_default() += count;
        }
    }
    let micros = u64::try_from(chrono::Utc::now().timestamp_micros() - opened_at).unwrap_or(0);
    let number = settled.identity.number;
    shared.observer.on(RunEvent::Settled(BatchSummary {
        identity: settled.identity,
        read,
        bytes,
        rejected,
        landed,
        took: Duration::from_micros(micros),
        landings,
        reasons,
    }));
    if shared.plan.rejects.is_passed(rejected, read) {
        return Err(too_many(shared, lane, number, rejected, read));
    }
    Ok(())
}

/// What each landing gets, rejects left out.
fn summaries(works: &[LandingWork], counts: &[StationCount]) -> Vec<LandedSummary> {
    let one = |work: &LandingWork| LandedSummary {
        landing: work.landing.clone(),
        rows: work.work.rows,
        newest: counts.iter().find(|count| count.station == work.landing).and_then(|count| count.newest),
    };
    works.iter().filter(|work| work.landing != REJECTS).map(one).collect()
}

/// Says what has changed of the fields of events.
fn report_drift(shared: &Shared, batch: &BatchIdentity, seen: &[(String, SeenFields)], at: i64) {
    let mut history = shared.fields.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    let name = batch_name(batch);
    for (event, seen) in seen {
        let contract = shared.plan.events.iter().find(|e| e.name == *event).and_then(|e| e.contract.as_ref());
        let Some(contract) = contract else { continue };
        for (drift, message) in history.add(event, contract, seen, &name, at) {
            shared.observer.on(RunEvent::Drift { event: event.clone(), drift, message });
        }
    }
}

/// A store does not answer.
pub(super) fn store_away(lane: &LaneId, landing: &str, failure: &Failure) -> RunEvent {
    RunEvent::StoreAway { lane: lane.clone(), landing: landing.into(), message: failure.message.clone() }
}

/// Waits before a store is tried again; false where nobody should wait any longer. What is sealed is finished by the
/// next run.
pub(super) fn wait(stop: &Stop) -> bool {
    stop.wait(Duration::from_millis(500));
    !stop.is_settling() && !stop.is_aborting()
}

fn too_many(shared: &Shared<'_>, lane: &LaneId, number: u64, rejected: u64, read: u64) -> Failure {
    let pipeline = &shared.plan.pipeline;
    let message = format!(
        "batch {number} of lane {lane} rejected {} of {} events ({}), more than the limit of {}",
        show_count(rejected),
        show_count(read),
        show_share(rejected as f64 / read.max(1) as f64),
        show_share(shared.plan.rejects.share),
    );
    Failure::new(FailureKind::BadData, message).with_help(format!(
        "the batch has landed and its rejects are kept; look with `sluice rejects {pipeline}`, then fix the source or \
         the contract, or raise rejects = {{ share = …, least = … }} in the pipeline file, and run again"
    ))
}
