//! Trying rejects again: they are read again from their source, under the pipeline as it is now.

use std::collections::{BTreeMap, HashMap};

use sluice_core::batch::{LaneId, Range, Ranges};
use sluice_core::event::Position;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::ledger::{BatchQuery, BatchRecord, Ledger};
use sluice_core::plan::Plan;
use sluice_core::run::replay::{Portion, Work, replay_hold};
use sluice_core::units::show_many;

use super::RejectLine;
use crate::args::{Arguments, RejectsArgs};
use crate::commands::replay::execute;
use crate::commands::run::refuse_mistakes;
use crate::confirm::confirm;
use crate::exit::Exit;
use crate::output;
use crate::project::{LoadedPipeline, Project};

/// How the ledger names a replay of rejects.
const WHAT: &str = "rejects";

/// Which events were tried again, by lane, partition, position and station; each with the number of the last try.
#[derive(Default)]
pub(super) struct Tried(HashMap<(String, String, u64, String), u64>);

impl Tried {
    /// Reads what the ledger knows.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub(super) fn read(ledger: &dyn Ledger, pipeline: &str) -> Outcome<Self> {
        let mut tried = HashMap::new();
        let replays = ledger.replays(pipeline)?;
        let numbers: Vec<u64> = replays.iter().filter(|r| r.what.starts_with(WHAT)).map(|r| r.number).collect();
        if numbers.is_empty() {
            return Ok(Self::default());
        }
        for batch in ledger.batches(pipeline, BatchQuery::default())? {
            let Some((lane, number)) = aside(batch.lane.as_str()).filter(|(_, n)| numbers.contains(n)) else {
                continue;
            };
            for range in &batch.ranges.0 {
                for count in &batch.counts {
                    let key = (lane.to_string(), range.partition.to_string(), range.from.major, count.station.clone());
                    let last = tried.entry(key).or_insert(number);
                    *last = number.max(*last);
                }
            }
        }
        Ok(Self(tried))
    }

    /// Whether a reject was tried again after it was made.
    pub(super) fn is_tried(&self, reject: &RejectLine) -> bool {
        let (lane, made) = aside(&reject.lane).unwrap_or((&reject.lane, 0));
        let key = (lane.to_string(), reject.partition.clone(), reject.position, station(reject).to_string());
        self.0.get(&key).is_some_and(|last| *last > made)
    }
}

/// The station in the ledger's words: the contract's is the event.
fn station(reject: &RejectLine) -> &str {
    if reject.station == sluice_core::reject::CONTRACT { &reject.event } else { &reject.station }
}

/// The main lane and the replay's number.
fn aside(lane: &str) -> Option<(&str, u64)> {
    let (main, number) = lane.split_once('~')?;
    Some((main, number.parse().ok()?))
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
    let name = &pipeline.config.name;
    let ledger = sluice_connect::ledgers::open(&project.root, &project.config.ledger)?;
    let _hold = ledger.hold(&replay_hold(name))?;
    let batches = ledger.batches(name, BatchQuery::default())?;
    let portions = portions(&pipeline.plan, rejects, &batches)?;
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

/// One batch for each batch and station that rejected.
fn portions(plan: &Plan, rejects: &[RejectLine], batches: &[BatchRecord]) -> Outcome<Vec<Portion>> {
    let mut groups: BTreeMap<(String, u64, String), Vec<&RejectLine>> = BTreeMap::new();
    for reject in rejects {
        groups.entry((reject.lane.clone(), reject.batch, station(reject).to_string())).or_default().push(reject);
    }
    let mut portions = Vec::new();
    for ((lane, number, station), rejects) in groups {
        let batch = batches.iter().find(|b| b.lane.as_str() == lane && b.number == number);
        let batch = batch.ok_or_else(|| {
            Failure::findings(format!("the ledger does not know batch {number} of lane {lane}"))
                .with_help("its rejects were made under another ledger; restore that one")
        })?;
        let identity = |partition: &str| {
            let range = batch.ranges.0.iter().find(|r| *r.partition == *partition);
            range.map_or(String::new(), |r| r.identity.clone())
        };
        let is_topic = |plan: &Plan| {
            let arrival = plan.arrivals.iter().find(|a| a.label == batch.lane.arrival());
            arrival.is_some_and(|a| a.kind.has_messages())
        };
        let messages = is_topic(plan);
        let mut ranges: Vec<Range> = rejects
            .iter()
            .map(|r| Range {
                partition: r.partition.as_str().into(),
                from: Position::at(r.position),
                to: Position::at(r.position + if messages { 1 } else { r.length.max(1) }),
                // Of a topic, the guard is about the last message of the batch, not about this one.
                identity: if messages { String::new() } else { identity(&r.partition) },
            })
            .collect();
        ranges.sort_by(|a, b| (&a.partition, a.from).cmp(&(&b.partition, b.from)));
        ranges.dedup();
        let main = aside(&lane).map_or(lane.as_str(), |(main, _)| main);
        portions.push(Portion {
            lane: LaneId::named(main),
            due: Some(ranges.len() as u64),
            ranges: Ranges(ranges),
            now: batch.opened_at,
            stead: None,
            into: Some(landings(plan, &station)?),
        });
    }
    Ok(portions)
}

/// The landings that a reject of a station did not reach.
fn landings(plan: &Plan, station: &str) -> Outcome<Vec<usize>> {
    if let Some(landing) = plan.landings.iter().position(|l| l.label == station) {
        return Ok(vec![landing]);
    }
    let event = plan.events.iter().position(|e| e.name == station).ok_or_else(|| {
        Failure::new(FailureKind::Configuration, format!("{} has no `{station}` any more", plan.pipeline))
            .with_help("bring it back into the pipeline file, or pass over its rejects")
    })?;
    Ok(plan.landings_of(event))
}
