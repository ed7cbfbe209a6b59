//! `sluice positions`: where are we in every partition, how far behind, and when does unread data expire?

mod recognise;
mod set;
mod show;

pub(crate) use show::{forecast, long, misplaced_text, waiting_text};

use sluice_connect::ledgers;
use sluice_core::failure::Outcome;
use sluice_core::forecast::Backlog;
use sluice_core::kinds::{Misplaced, PartitionPosition, PartitionState};
use sluice_core::ledger::{BatchQuery, BatchRecord, BatchState, Ledger};

use crate::args::{Arguments, OutputKind, PositionsArgs};
use crate::crew::one::refuse_mistakes;
use crate::exit::Exit;
use crate::output::times;
use crate::pipeline_state::PipelineState;
use crate::project::{LoadedPipeline, Project};

/// Batches that the pace of reading is taken from.
const RECENT: usize = 20;

/// One arrival with all of its partitions.
pub(crate) struct Standing {
    pub label: String,
    pub place: String,
    pub kind: &'static str,
    /// Whether it is read whole again and again.
    pub is_list: bool,
    pub positions: Vec<PartitionPosition>,
    pub states: Vec<PartitionState>,
    /// Events that are read in a second while the pipeline runs, by its recent batches.
    pub pace: f64,
    /// Bytes of an event, on average.
    pub event_bytes: Option<f64>,
    /// Of a log: how many bytes of it an event takes, on average.
    pub log_bytes: Option<f64>,
}

impl Standing {
    /// Of a list, how it stands, in words: nothing of it is ever behind.
    pub(crate) fn list_text(&self) -> Option<String> {
        let last = self.positions.iter().map(|known| known.position.minor).max();
        let readings = || last.map_or("not read yet".to_string(), |last| format!("reading {last} was the last one"));
        self.is_list.then(|| format!("a list, which each run reads whole; {}", readings()))
    }

    pub(super) fn position(&self, partition: &str) -> Option<&PartitionPosition> {
        self.positions.iter().find(|p| *p.partition == *partition)
    }

    /// Partitions whose position the source does not hold, each with what is wrong.
    pub(crate) fn misplaced(&self) -> Vec<(String, Misplaced)> {
        let one = |state: &PartitionState| {
            let found = state.misplaced(self.position(&state.partition)?)?;
            Some((state.partition.to_string(), found))
        };
        self.states.iter().filter_map(one).collect()
    }

    /// Unread events and bytes. Where only events are known, bytes are estimated from what was read.
    pub(crate) fn behind(&self) -> (Option<u64>, Option<u64>) {
        let sum = |of: fn(&PartitionState) -> Option<u64>| {
            self.states.iter().map(of).try_fold(0, |sum: u64, n| n.map(|n| sum + n)).filter(|_| !self.states.is_empty())
        };
        let events = sum(|s| s.events);
        (events, sum(|s| s.bytes).or_else(|| estimate(events?, self.event_bytes?)))
    }

    /// The whole as one backlog: the oldest unread event is the first to expire.
    pub(crate) fn backlog(&self) -> Option<Backlog> {
        let (events, _) = self.behind();
        let now = times::now();
        let oldest = self.states.iter().filter_map(|s| s.oldest_unread).min();
        let seconds = |micros: i64| micros.max(0) as f64 / 1e6;
        Some(Backlog {
            behind: events?,
            age: oldest.map_or(0.0, |at| seconds(now - at)),
            kept: self
                .states
                .iter()
                .filter(|s| s.oldest_unread.is_some())
                .filter_map(|s| s.retention)
                .min()
                .map(seconds),
            arriving: self.states.iter().filter_map(|s| s.arrived_last_hour).sum::<u64>() as f64 / 3_600.0,
        })
    }
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "an estimate for people")]
fn estimate(events: u64, bytes: f64) -> Option<u64> {
    Some((events as f64 * bytes) as u64)
}

pub(crate) fn positions(arguments: &Arguments, args: &PositionsArgs) -> Outcome<Exit> {
    let project = Project::need(arguments.project.as_deref())?;
    let pipeline = project.pipeline(&args.pipeline)?;
    refuse_mistakes(&project, &pipeline)?;
    let ledger = ledgers::open(&project.root, &project.config.ledger)?;
    if args.changes {
        show::changes(arguments, &pipeline.config.name, &ledger.position_changes(&pipeline.config.name)?);
        return Ok(Exit::Fine);
    }
    if let Some(choice) = recognise::asked(args)? {
        return recognise::choose(arguments, args, &pipeline, ledger.as_ref(), &choice);
    }
    if !args.set.is_empty() {
        return set::set(arguments, args, &project, &pipeline, ledger.as_ref());
    }
    let standings = standings(&project, &pipeline, ledger.as_ref())?;
    let holder = ledger.holder(&pipeline.config.name)?;
    let state = PipelineState::in_ledger(ledger.as_ref(), &pipeline.config.name)?;
    match arguments.output {
        OutputKind::Json => show::as_json(&pipeline.config.name, &state, holder.as_ref(), &standings),
        OutputKind::Text => show::as_text(&pipeline.config.name, &state, &standings),
    }
    Ok(Exit::Fine)
}

/// Every arrival of a pipeline as it stands.
pub(crate) fn standings(project: &Project, pipeline: &LoadedPipeline, ledger: &dyn Ledger) -> Outcome<Vec<Standing>> {
    let around = project.surroundings();
    let name = &pipeline.config.name;
    let batches = ledger.batches(name, BatchQuery { last: Some(200), number: None })?;
    let mut found = Vec::new();
    for arrival in &pipeline.plan.arrivals {
        let positions = ledger.positions(name, &arrival.label)?;
        let states = arrival.view(&around)?.states(&positions)?;
        let is_own =
            |b: &&BatchRecord| b.reads(&arrival.label) && !b.lane.is_out_of_order() && b.state == BatchState::Settled;
        let recent: Vec<&BatchRecord> = batches.iter().rev().filter(is_own).take(RECENT).collect();
        let read: u64 = recent.iter().map(|b| b.read).sum();
        let bytes: u64 = recent.iter().map(|b| b.bytes).sum();
        let took = |b: &&BatchRecord| b.settled_at.map_or(0, |at| (at - b.opened_at).max(0));
        let took: i64 = recent.iter().map(took).sum();
        found.push(Standing {
            label: arrival.label.clone(),
            place: arrival.connection.name.clone(),
            kind: arrival.kind.name(),
            is_list: arrival.is_list(),
            positions,
            states,
            pace: if took > 0 { read as f64 * 1e6 / took as f64 } else { 0.0 },
            log_bytes: log_bytes(&recent),
            event_bytes: (read > 0).then(|| bytes as f64 / read as f64),
        });
    }
    Ok(found)
}

/// How far positions went in some batches, for each event. Rows that were loaded take nothing of a log.
fn log_bytes(batches: &[&BatchRecord]) -> Option<f64> {
    // No change takes less, nor does a batch go over more than a file of a log.
    const LEAST: f64 = 32.0;
    const MOST: f64 = (1_u64 << 32) as f64;
    let one = |batch: &&BatchRecord| {
        let went = batch.ranges.0.iter().map(|r| r.to.major.saturating_sub(r.from.major)).sum::<u64>() as f64;
        (went >= LEAST * batch.read as f64 && went < MOST && batch.read > 0).then_some((went, batch.read as f64))
    };
    let (went, read) = batches.iter().filter_map(one).fold((0.0, 0.0), |sum, one| (sum.0 + one.0, sum.1 + one.1));
    (read > 0.0).then_some(went / read)
}
