//! What happens before a run reads anything: sealed batches are finished, lanes are taken over, and each landing's own
//! record is compared with the ledger.

use std::collections::BTreeSet;

use super::committer::{store_away, wait};
use super::replay::replay_lock;
use super::{Landings, Observer, RunEvent, Stop, open_landings};
use crate::batch::{LaneId, Sealed};
use crate::fail_points::reach;
use crate::failure::{Failure, FailureKind, Outcome};
use crate::ledger::{BatchQuery, BatchRecord, BatchState, Ledger, TakenLane};
use crate::plan::Meeting;
use crate::plan::{LedgerName, Plan, SealedTexts, Surroundings, load};
use crate::problem::{Problems, SourceText};
use crate::reject::REJECTS;

/// Finishes the sealed batches of a pipeline, under the texts that they were sealed with. Returns how many.
pub(super) fn finish_sealed(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    observer: &dyn Observer,
    stop: &Stop,
) -> Outcome<u64> {
    let mut unfinished = ledger.unfinished(&plan.pipeline)?;
    if ledger.holder(&replay_lock(&plan.pipeline))?.is_some() {
        // Another process reads again what had been read: its batches are its own.
        unfinished.retain(|(sealed, _)| !sealed.identity.lane.is_out_of_order());
    }
    finish(unfinished, &plan.pipeline, around, ledger, observer, stop)
}

/// Finishes the sealed batches of replays alone.
pub(super) fn finish_replay_batches(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    observer: &dyn Observer,
    stop: &Stop,
) -> Outcome<u64> {
    let mut unfinished = ledger.unfinished(&plan.pipeline)?;
    unfinished.retain(|(sealed, _)| sealed.identity.lane.is_out_of_order());
    finish(unfinished, &plan.pipeline, around, ledger, observer, stop)
}

fn finish(
    unfinished: Vec<(Sealed, SealedTexts)>,
    pipeline: &str,
    around: &Surroundings,
    ledger: &dyn Ledger,
    observer: &dyn Observer,
    stop: &Stop,
) -> Outcome<u64> {
    if unfinished.is_empty() {
        return Ok(0);
    }
    reach("recover.before");
    let known = ledger.known(pipeline)?;
    let mut opened: Vec<(SealedTexts, Landings)> = Vec::new();
    let count = unfinished.len() as u64;
    for (sealed, texts) in unfinished {
        if !opened.iter().any(|(t, _)| *t == texts) {
            let landings = open_landings(&sealed_plan(&texts, around, &known)?, around)?;
            opened.push((texts.clone(), landings));
        }
        let landings = opened.iter().find(|(t, _)| *t == texts).map(|(_, l)| l);
        let landings = landings.ok_or_else(|| Failure::internal("sealed texts were just opened"))?;
        let lane = sealed.identity.lane.clone();
        let again = |landing: &str, failure: &Failure| {
            observer.on(store_away(&lane, landing, failure));
            wait(stop)
        };
        sealed.land(ledger, landings, &again, &|_, _| {})?.settle(ledger)?;
        observer.on(RunEvent::StoreBack(lane));
    }
    reach("recover.after");
    observer.on(RunEvent::Recovered(count));
    Ok(count)
}

/// The plan that a batch was sealed with, its landings under the names that the ledger has for them.
pub(super) fn sealed_plan(texts: &SealedTexts, around: &Surroundings, known: &[LedgerName]) -> Outcome<Plan> {
    let project = SourceText::new("sealed sluice.toml", texts.project.clone());
    let pipeline = SourceText::new("sealed pipeline", texts.pipeline.clone());
    let mut problems = Problems::new();
    let mut plan = load(&project, &pipeline, &around.registry, &mut problems);
    if problems.has_errors() {
        let first = problems.into_sorted().into_iter().find(|p| p.severity == crate::problem::Severity::Error);
        let reason = first.map(|p| p.to_string()).unwrap_or_default();
        return Err(Failure::new(
            FailureKind::Configuration,
            format!("a sealed batch cannot be finished, since its pipeline text is not understood any more: {reason}"),
        )
        .with_help("finish it with the version of sluice that sealed it, then update"));
    }
    // Whether its arrivals are the present ones does not matter: nothing is read.
    let _ = plan.recognise(known);
    Ok(plan)
}

/// Clears what was left open in lanes that the pipeline had once and has no more.
pub(super) fn leave_old_lanes(plan: &Plan, ledger: &dyn Ledger, landings: &Landings) -> Outcome<()> {
    let present = lanes_of(plan);
    for lane in ledger.lanes(&plan.pipeline)?.iter().filter(|l| !present.contains(l)) {
        take_lane(plan, ledger, landings, lane)?;
    }
    Ok(())
}

/// Takes a lane over and clears what was staged and never sealed. Its landings have been compared before.
pub(super) fn take_lane(plan: &Plan, ledger: &dyn Ledger, landings: &Landings, lane: &LaneId) -> Outcome<TakenLane> {
    let taken = ledger.take_lane(&plan.pipeline, lane)?;
    for landing in landings.values() {
        landing.discard(ledger.id(), lane, &[])?;
    }
    Ok(taken)
}

/// The lanes of a plan.
pub(super) fn lanes_of(plan: &Plan) -> Vec<LaneId> {
    let of = |meeting: Meeting<'_>| {
        let first = meeting.first();
        (0..first.lanes).map(|n| LaneId::new(&first.label, n)).collect::<Vec<_>>()
    };
    plan.meetings().into_iter().flat_map(of).collect()
}

/// The lanes that the pipeline has or ever had, by the ledger and by the records of its landings: a new ledger knows
/// nothing of lanes that were more.
pub(super) fn all_lanes(plan: &Plan, ledger: &dyn Ledger, landings: &Landings) -> Outcome<Vec<LaneId>> {
    let mut lanes: BTreeSet<LaneId> = lanes_of(plan).into_iter().collect();
    lanes.extend(ledger.lanes(&plan.pipeline)?);
    for landing in landings.values() {
        let is_ours =
            |lane: &LaneId| !lane.is_out_of_order() && plan.arrivals.iter().any(|a| a.label == lane.arrival());
        lanes.extend(landing.lanes()?.into_iter().filter(is_ours));
    }
    Ok(lanes.into_iter().collect())
}

/// Compares what landings have with what the ledger has sealed, before anything is touched. Gives what does not agree:
/// a landing that holds more than the ledger, or batches of another ledger.
pub(super) fn compare(plan: &Plan, ledger: &dyn Ledger, landings: &Landings) -> Outcome<Option<String>> {
    let mut names: Vec<&String> = landings.keys().collect();
    // Rejects last: what a landing says of its rows is easier to act upon.
    names.sort_by_key(|name| (name.as_str() == REJECTS, *name));
    for lane in &all_lanes(plan, ledger, landings)? {
        let sealed = ledger.last_sealed(&plan.pipeline, lane)?;
        for name in &names {
            let Some(noted) = landings[*name].noted(lane)? else { continue };
            let foreign = noted.ledger != ledger.id();
            if (!foreign && noted.number <= sealed) || is_adopted(ledger, &plan.pipeline, lane, noted.number, name)? {
                continue;
            }
            return Ok(Some(match foreign {
                true => format!(
                    "the landing {name} holds batches of another ledger (up to batch {} of lane {lane}){}",
                    noted.number,
                    landings[*name].apart().map_or_else(String::new, |how| format!("; {how}"))
                ),
                false => format!(
                    "the landing {name} holds batch {} of lane {lane}, but the ledger ends at batch {sealed}",
                    noted.number
                ),
            }));
        }
    }
    // A replay that the ledger does not know has landed after a backup was made.
    for name in names {
        for lane in landings[name].lanes()?.iter().filter(|lane| lane.is_out_of_order()) {
            let sealed = ledger.last_sealed(&plan.pipeline, lane)?;
            if let Some(noted) = landings[name].noted(lane)?.filter(|noted| noted.number > sealed) {
                return Ok(Some(format!(
                    "the landing {name} holds batch {} of lane {lane}, a replay that the ledger does not know",
                    noted.number
                )));
            }
        }
    }
    Ok(None)
}

/// To a new ledger, a landing that holds nothing in a store where another one of the pipeline has a record may be that
/// one under a new name: reading from the beginning would land everything twice.
pub(super) fn refuse_renamed(plan: &Plan, ledger: &dyn Ledger, landings: &Landings) -> Outcome<()> {
    if !ledger.lanes(&plan.pipeline)?.is_empty() {
        return Ok(());
    }
    let prefix = format!("{}.", plan.pipeline);
    let is_ours = |label: &str| plan.landings.iter().any(|l| l.label == label) || label == REJECTS;
    for landing in &plan.landings {
        let recorded = landings[&landing.label].recorded()?;
        let own = format!("{prefix}{}", landing.label);
        let other = recorded.iter().filter_map(|name| name.strip_prefix(&prefix)).find(|label| !is_ours(label));
        if let Some(other) = other.filter(|_| !recorded.contains(&own)) {
            return Err(Failure::findings(format!(
                "{} holds nothing, but the same store holds batches of {other}, which the pipeline file does not have: it \
                 may be the same landing under a new name, and this ledger is new",
                landing.label
            ))
            .with_help(format!(
                "nothing was read. Give the event and the landing their old names, `sluice run {} --adopt`, and rename them \
                 afterwards; or land elsewhere; or remove what {other} has landed, with its record in the store",
                plan.pipeline
            )));
        }
    }
    Ok(())
}

/// The failure of a comparison.
pub(super) fn disagree(plan: &Plan, what: String) -> Failure {
    Failure::findings(what).with_help(format!(
        "nothing was touched. A ledger was lost or restored from a backup, or a second checkout writes here: restore \
         the right ledger, land elsewhere, or continue after what has landed with `sluice run {} --adopt`",
        plan.pipeline
    ))
}

/// Whether the ledger took over a batch of a landing before.
fn is_adopted(ledger: &dyn Ledger, pipeline: &str, lane: &LaneId, number: u64, landing: &str) -> Outcome<bool> {
    let known = ledger.batches(pipeline, BatchQuery { number: Some(number), last: None })?;
    // Batches that an older version adopted do not name their landings.
    let holds = |b: &BatchRecord| {
        let of = b.landings.iter().find(|l| l.landing == landing);
        b.landings.is_empty() || of.is_some_and(|l| l.landed_at.is_some())
    };
    Ok(known.iter().any(|b| b.lane == *lane && b.state == BatchState::Adopted && holds(b)))
}
