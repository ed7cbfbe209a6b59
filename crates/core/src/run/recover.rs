//! What happens before a run reads anything: sealed batches are finished, lanes are taken over, and each landing's own
//! record is compared with the ledger.

use super::committer::wait;
use super::replay::replay_hold;
use super::{Landings, Observer, RunEvent, Stop, open_landings};
use crate::batch::{LaneId, Sealed};
use crate::fail_points::reach;
use crate::failure::{Failure, FailureKind, Outcome};
use crate::ledger::{BatchQuery, BatchState, LaneHold, Ledger};
use crate::plan::{Plan, SealedTexts, Surroundings, load};
use crate::problem::{Problems, SourceText};

/// Finishes the sealed batches of a pipeline, under the texts that they were sealed with. Returns how many.
pub(super) fn finish_sealed(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    observer: &dyn Observer,
    stop: &Stop,
) -> Outcome<u64> {
    let mut unfinished = ledger.unfinished(&plan.pipeline)?;
    if ledger.holder(&replay_hold(&plan.pipeline))?.is_some() {
        // Another process reads again what had been read: its batches are its own.
        unfinished.retain(|(sealed, _)| !sealed.identity.lane.is_aside());
    }
    finish(unfinished, around, ledger, observer, stop)
}

/// Finishes the sealed batches of replays alone.
pub(super) fn finish_aside(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    observer: &dyn Observer,
    stop: &Stop,
) -> Outcome<u64> {
    let mut unfinished = ledger.unfinished(&plan.pipeline)?;
    unfinished.retain(|(sealed, _)| sealed.identity.lane.is_aside());
    finish(unfinished, around, ledger, observer, stop)
}

fn finish(
    unfinished: Vec<(Sealed, SealedTexts)>,
    around: &Surroundings,
    ledger: &dyn Ledger,
    observer: &dyn Observer,
    stop: &Stop,
) -> Outcome<u64> {
    if unfinished.is_empty() {
        return Ok(0);
    }
    reach("recover.before");
    let mut opened: Vec<(SealedTexts, Landings)> = Vec::new();
    let count = unfinished.len() as u64;
    for (sealed, texts) in unfinished {
        if !opened.iter().any(|(t, _)| *t == texts) {
            let landings = open_landings(&sealed_plan(&texts, around)?, around)?;
            opened.push((texts.clone(), landings));
        }
        let landings = opened.iter().find(|(t, _)| *t == texts).map(|(_, l)| l);
        let landings = landings.ok_or_else(|| Failure::internal("sealed texts were just opened"))?;
        let again = |failure: &Failure| {
            observer.on(RunEvent::StoreAway(failure.message.clone()));
            wait(stop)
        };
        sealed.land(ledger, landings, &again)?.settle(ledger)?;
        observer.on(RunEvent::StoreBack);
    }
    reach("recover.after");
    observer.on(RunEvent::Recovered(count));
    Ok(count)
}

fn sealed_plan(texts: &SealedTexts, around: &Surroundings) -> Outcome<Plan> {
    let project = SourceText::new("sealed sluice.toml", texts.project.clone());
    let pipeline = SourceText::new("sealed pipeline", texts.pipeline.clone());
    let mut problems = Problems::new();
    let plan = load(&project, &pipeline, &around.registry, &mut problems);
    if problems.has_errors() {
        let first = problems.into_sorted().into_iter().find(|p| p.severity == crate::problem::Severity::Error);
        let reason = first.map(|p| p.to_string()).unwrap_or_default();
        return Err(Failure::new(
            FailureKind::Configuration,
            format!("a sealed batch cannot be finished, since its pipeline text is not understood any more: {reason}"),
        )
        .with_help("finish it with the version of sluice that sealed it, then update"));
    }
    Ok(plan)
}

/// Clears what was left open in lanes that the pipeline had once and has no more.
pub(super) fn leave_old_lanes(plan: &Plan, ledger: &dyn Ledger, landings: &Landings) -> Outcome<()> {
    let is_present =
        |lane: &LaneId| plan.arrivals.iter().any(|a| (0..a.lanes).any(|number| LaneId::new(&a.label, number) == *lane));
    for lane in ledger.lanes(&plan.pipeline)?.iter().filter(|l| !is_present(l)) {
        ledger.take_lane(&plan.pipeline, lane)?;
        for landing in landings.values() {
            landing.discard(lane, &[])?;
        }
    }
    Ok(())
}

/// Takes a lane over, clears what was staged and never sealed, and compares the landings' records.
pub(super) fn take_lane(
    plan: &Plan,
    ledger: &dyn Ledger,
    landings: &Landings,
    arrival: &str,
    lane: &LaneId,
    adopt: bool,
) -> Outcome<LaneHold> {
    let mut hold = ledger.take_lane(&plan.pipeline, lane)?;
    let mut names: Vec<&String> = landings.keys().collect();
    names.sort();
    for name in names {
        let landing = &landings[name];
        landing.discard(lane, &[])?;
        let Some(held) = landing.held(lane)? else { continue };
        let foreign = held.ledger != ledger.id();
        if (!foreign && held.number < hold.next) || is_adopted(ledger, &plan.pipeline, lane, held.number)? {
            continue;
        }
        if adopt {
            ledger.adopt(&plan.pipeline, arrival, lane, &held)?;
            hold = ledger.take_lane(&plan.pipeline, lane)?;
            continue;
        }
        let what = match foreign {
            true => {
                format!("the landing {name} holds batches of another ledger (up to {} of lane {lane})", held.number)
            }
            false => format!(
                "the landing {name} holds batch {} of lane {lane}, but the ledger ends at {}",
                held.number,
                hold.next - 1
            ),
        };
        return Err(Failure::findings(what).with_help(format!(
            "a ledger was lost, restored from a backup, or belongs to a second checkout; restore the right one, land \
             elsewhere, or go on after what has landed with `sluice run {} --adopt`",
            plan.pipeline
        )));
    }
    Ok(hold)
}

/// Whether the ledger took over a batch from a landing before.
fn is_adopted(ledger: &dyn Ledger, pipeline: &str, lane: &LaneId, number: u64) -> Outcome<bool> {
    let known = ledger.batches(pipeline, BatchQuery { number: Some(number), last: None })?;
    Ok(known.iter().any(|b| b.lane == *lane && b.state == BatchState::Adopted))
}
