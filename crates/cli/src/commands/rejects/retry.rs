//! Trying rejects again: they are read again from their source, under the pipeline as it is now.

use std::collections::{BTreeMap, HashMap};

use sluice_core::batch::{BatchName, Range, Ranges, Readings, first_of};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{BatchQuery, BatchRecord, Ledger};
use sluice_core::plan::Plan;
use sluice_core::run::replay::{Portion, Work, replay_hold};
use sluice_core::units::show_many;

use super::RejectLine;
use crate::args::{Arguments, RejectsArgs};
use crate::commands::replay::execute;
use crate::commands::run::{refuse_mistakes, refuse_uncertain};
use crate::confirm::confirm;
use crate::exit::Exit;
use crate::output;
use crate::project::{LoadedPipeline, Project};

/// How the ledger names a replay of rejects.
const WHAT: &str = "rejects";

/// The batches of the ledger, by which it is known whether a reject still stands.
#[derive(Default)]
pub(super) struct Record {
    batches: Vec<BatchRecord>,
}

impl Record {
    /// Reads what the ledger knows.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub(super) fn read(ledger: &dyn Ledger, pipeline: &str) -> Outcome<Self> {
        Ok(Self { batches: ledger.batches(pipeline, BatchQuery::default())? })
    }

    /// How rejects stand.
    pub(super) fn standing(&self) -> Standing<'_> {
        let by_name = self.batches.iter().map(|b| ((b.lane.as_str(), b.number), b)).collect();
        Standing { by_name, readings: Readings::new(&self.batches), seen: HashMap::new() }
    }
}

/// Which rejects still stand: no later reading has decided about their events.
pub(super) struct Standing<'r> {
    by_name: HashMap<(&'r str, u64), &'r BatchRecord>,
    readings: Readings<'r>,
    /// Events of batches that were read more than once, each with the place of its newest reject.
    seen: HashMap<(BatchName, String, u64, String), u64>,
}

impl<'r> Standing<'r> {
    /// The batch that rejected an event; None where the ledger does not know it.
    fn batch(&self, reject: &RejectLine) -> Option<&'r BatchRecord> {
        self.by_name.get(&(reject.lane.as_str(), reject.batch)).copied()
    }

    /// The landings for which a reject still stands; None where the ledger does not know its batch.
    pub(super) fn open_for(&self, reject: &RejectLine) -> Option<Vec<&'r str>> {
        let batch = self.batch(reject)?;
        let is_landing = batch.landings.iter().any(|l| l.landing == reject.station);
        let station = is_landing.then_some(reject.station.as_str());
        Some(self.readings.open_for(batch, station, &reject.partition, Position::at(reject.position)))
    }

    /// Whether another reading has decided about the event since.
    pub(super) fn is_over(&self, reject: &RejectLine) -> bool {
        self.open_for(reject).is_some_and(|landings| landings.is_empty())
    }

    /// Whether the same event was rejected at the same station by another reading that also still stands, for another
    /// landing, and has been counted before. Asked once for each reject.
    pub(super) fn is_counted(&mut self, reject: &RejectLine) -> bool {
        let Some(batch) = self.batch(reject) else { return false };
        let first = first_of(batch);
        if self.readings.of(&first).len() < 2 {
            return false;
        }
        let key = (first, reject.partition.clone(), reject.position, reject.station.clone());
        self.seen.insert(key, batch.opened).is_some()
    }
}

/// Reads the rejects again.
///
/// # Errors
/// Where a source does not hold them any more, or a store fails.
pub(super) fn retry(
    arguments: &Arguments,
    args: &RejectsArgs,
    project: &Project,
    pipeline: &LoadedPipeline,
    rejects: &[RejectLine],
) -> Outcome<Exit> {
    refuse_mistakes(project, pipeline)?;
    refuse_uncertain(pipeline)?;
    let name = &pipeline.config.name;
    let ledger = sluice_connect::ledgers::open(&project.root, &project.config.ledger)?;
    let _hold = ledger.hold(&replay_hold(name))?;
    let record = Record::read(ledger.as_ref(), name)?;
    let portions = portions(&pipeline.plan, rejects, &record.standing())?;
    if portions.is_empty() {
        output::note("there is nothing to try again\n");
        return Ok(Exit::Fine);
    }
    output::note(&format!(
        "{} to read again, in {}; what is good now lands, the others are rejected anew\n",
        show_many(rejects.len() as u64, "reject"),
        show_many(portions.len() as u64, "batch"),
    ));
    if !confirm("try them again?", args.yes)? {
        output::note("nothing was read again\n");
        return Ok(Exit::Fine);
    }
    let all: Vec<usize> = (0..pipeline.plan.landings.len()).collect();
    let what = match &args.reason {
        Some(reason) => format!("{WHAT} by {reason}"),
        None => WHAT.to_string(),
    };
    let work = Work { portions: &portions, into: &all, what: &what, reason: "" };
    execute(arguments, project, pipeline, ledger.as_ref(), &work)
}

/// One batch for each first batch and each set of landings that its rejected events are still open for.
fn portions(plan: &Plan, rejects: &[RejectLine], standing: &Standing<'_>) -> Outcome<Vec<Portion>> {
    let mut groups: BTreeMap<(BatchName, Vec<usize>), Vec<(&RejectLine, &BatchRecord)>> = BTreeMap::new();
    let mut events: HashMap<(BatchName, &str, u64), Vec<usize>> = HashMap::new();
    for reject in rejects {
        let (batch, open) = standing.batch(reject).zip(standing.open_for(reject)).ok_or_else(|| {
            Failure::findings(format!("the ledger does not know batch {} of lane {}", reject.batch, reject.lane))
                .with_help("its rejects were made under another ledger; restore that one")
        })?;
        let key = (first_of(batch), reject.partition.as_str(), reject.position);
        events.entry(key).or_default().extend(landings(plan, reject, &open)?);
    }
    // An event that several landings rejected is read once for all of them.
    for reject in rejects {
        let Some(batch) = standing.batch(reject) else { continue };
        let key = (first_of(batch), reject.partition.as_str(), reject.position);
        let Some(mut into) = events.remove(&key) else { continue };
        into.sort_unstable();
        into.dedup();
        groups.entry((first_of(batch), into)).or_default().push((reject, batch));
    }
    let mut portions = Vec::new();
    for ((first, into), rejects) in groups {
        let arrival = plan.arrivals.iter().find(|a| a.label == first.0.arrival());
        let messages = arrival.is_some_and(|a| a.kind.has_messages());
        let mut ranges: Vec<Range> = rejects.iter().map(|(reject, batch)| range(reject, batch, messages)).collect();
        ranges.sort_by(|a, b| (&a.partition, a.from).cmp(&(&b.partition, b.from)));
        portions.push(Portion {
            first,
            whole: false,
            expected: Some(ranges.len() as u64),
            ranges: Ranges(ranges),
            now: rejects.first().map_or(0, |(_, batch)| batch.opened_at),
            into: Some(into),
        });
    }
    Ok(portions)
}

/// Where a rejected event stands in its source.
fn range(reject: &RejectLine, batch: &BatchRecord, messages: bool) -> Range {
    let read = batch.ranges.0.iter().find(|r| *r.partition == *reject.partition);
    Range {
        partition: reject.partition.as_str().into(),
        from: Position::at(reject.position),
        to: Position::at(reject.position + if messages { 1 } else { reject.length.max(1) }),
        // Of a topic, the guard is about the last message of the batch, not about this one.
        identity: read.filter(|_| !messages).map_or_else(String::new, |r| r.identity.clone()),
    }
}

/// The landings of the plan, by their places, that a rejected event is open for.
fn landings(plan: &Plan, reject: &RejectLine, open: &[&str]) -> Outcome<Vec<usize>> {
    let reachable: Vec<usize> = match plan.events.iter().position(|e| e.name == reject.station) {
        Some(made) => plan.landings_of(made),
        None => (0..plan.landings.len()).collect(),
    };
    let found: Vec<usize> =
        reachable.into_iter().filter(|place| open.contains(&plan.landings[*place].label.as_str())).collect();
    if found.is_empty() {
        let message = format!(
            "{} has none of the landings any more that batch {} of lane {} was read for ({})",
            plan.pipeline,
            reject.batch,
            reject.lane,
            open.join(", ")
        );
        return Err(Failure::new(FailureKind::Configuration, message).with_help(
            "bring one back into the pipeline file, or read the batch into another: sluice replay … --into",
        ));
    }
    Ok(found)
}
