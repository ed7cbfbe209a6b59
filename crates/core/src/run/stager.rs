//! Puts processed chunks back in order and stages them, batch by batch.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crossbeam_channel::{Receiver, Sender};

use super::busy::{Spent, Work, measured};
use super::gather::BatchBuilder;
use super::meeting::Pace;
use super::processor::{FlowResults, Processed, ProcessedTask};
use super::reader::Question;
use super::{NullCounts, RejectKey, Shared};
use crate::batch::{BatchIdentity, LaneId, Staged};
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::flow::{Ending, Memory, Walk};
use crate::formats::MissingFields;
use crate::kinds::BatchOrder;
use crate::plan::BatchFolders;

/// A staged batch with what the report wants to know of it.
pub(super) struct StagedHandover {
    pub staged: Staged,
    pub rejects: BTreeMap<RejectKey, u64>,
    /// How often fields had no value.
    pub nulls: NullCounts,
}

pub(super) struct Stager<'a> {
    shared: &'a Shared<'a>,
    lane: &'a LaneId,
    events: Vec<usize>,
    staged: Sender<StagedHandover>,
    folders: &'a BatchFolders,
    /// The stations of the lane that remember.
    memory: Option<Memory<'a>>,
    pace: Arc<Pace>,
    batch: Option<BatchBuilder<'a>>,
    /// Whether the first rows of this run have been staged.
    started: bool,
}

impl<'a> Stager<'a> {
    pub(super) fn new(
        shared: &'a Shared<'a>,
        (lane, events): (&'a LaneId, Vec<usize>),
        (memory, pace): (Option<Memory<'a>>, Arc<Pace>),
        folders: &'a BatchFolders,
        staged: Sender<StagedHandover>,
    ) -> Self {
        Self { shared, lane, events, staged, folders, memory, pace, batch: None, started: false }
    }

    pub(super) fn run(mut self, done: &Receiver<(u64, ProcessedTask)>) {
        let mut early: BTreeMap<u64, ProcessedTask> = BTreeMap::new();
        let mut next = 0;
        for (sequence, result) in done {
            early.insert(sequence, result);
            while let Some(result) = early.remove(&next) {
                next += 1;
                if self.shared.stop.is_aborting() {
                    return;
                }
                if let Err(failure) = self.take(result) {
                    return self.shared.fail(failure);
                }
            }
        }
    }

    fn take(&mut self, done: ProcessedTask) -> Outcome<()> {
        match done {
            ProcessedTask::Open(identity, order, opened_at) => self.open(identity, order, opened_at),
            ProcessedTask::Processed(processed) => self.rows(*processed),
            ProcessedTask::Ask(question) => {
                let Question { caught_up, unread, answer } = question;
                let closes = self.memory.as_mut().is_some_and(|memory| memory.would_close(caught_up, &unread));
                // A reader that has left needs no answer.
                let _ = answer.send(closes);
                Ok(())
            }
            ProcessedTask::End { caught_up } => self.end(caught_up),
        }
    }

    fn open(&mut self, identity: BatchIdentity, order: BatchOrder, opened_at: i64) -> Outcome<()> {
        let into = self.events.iter().flat_map(|event| self.shared.plan.landings_of(*event));
        let into: Vec<usize> = into.collect::<BTreeSet<_>>().into_iter().collect();
        let is_feed = self.events.iter().any(|e| self.shared.plan.events[*e].context.is_of_changes());
        self.batch = Some(BatchBuilder::open(
            self.shared.plan,
            &self.shared.landings,
            &into,
            (identity, order),
            opened_at,
            is_feed,
        )?);
        Ok(())
    }

    fn rows(&mut self, mut processed: Processed) -> Outcome<()> {
        let Some(batch) = &mut self.batch else { return Err(Failure::internal("rows came before their batch")) };
        if let Some(lacks) = processed.lacks.as_ref().filter(|lacks| !lacks.all) {
            self.shared.remark(missing_fields(&processed.chunk.partition, lacks));
        }
        batch.add_range(&processed)?;
        let (waiting, times) = (std::mem::take(&mut processed.waiting), std::mem::take(&mut processed.times));
        let (chunk, unread) = (Arc::clone(&processed.chunk), processed.unread.clone());
        let is_spoiled = chunk.list.is_some() && !processed.rejects.is_empty();
        batch.add(processed)?;
        if let Some(memory) = &mut self.memory {
            let walk = walk(self.shared, self.folders, batch);
            let mut results = FlowResults::new(self.shared.plan);
            if is_spoiled {
                memory.note_rejects(&chunk.partition);
            }
            let of = (&chunk.partition, chunk.list);
            measured(self.shared.observer, self.lane, Work::Remembering, || {
                memory.take(&walk, of, &times, &unread, waiting, &mut results)
            })?;
            self.pace.note(memory.newest());
            batch.add_results(results)?;
        }
        batch.spent.tell(self.shared.observer, self.lane);
        if !std::mem::replace(&mut self.started, true) {
            reach("stage.first_rows");
        }
        Ok(())
    }

    fn end(&mut self, caught_up: bool) -> Outcome<()> {
        let Some(mut batch) = self.batch.take() else {
            return Err(Failure::internal("a batch ended that was not open"));
        };
        if let Some(memory) = &mut self.memory {
            let walk = walk(self.shared, self.folders, &batch);
            let mut results = FlowResults::new(self.shared.plan);
            let ending = if caught_up { Ending::CaughtUp } else { Ending::Batch };
            let plan = self.shared.plan;
            let number = batch.identity.number;
            batch.state = measured(self.shared.observer, self.lane, Work::Remembering, || {
                memory.end(&walk, ending, &mut results, |results| {
                    batch.add_results(std::mem::replace(results, FlowResults::new(plan)))
                })?;
                memory.changes(walk.now, number)
            })?;
            batch.marks = Some(memory.take_marks());
        }
        let (rejects, nulls) = (std::mem::take(&mut batch.rejects), std::mem::take(&mut batch.nulls));
        batch.rejects.clone_from(&rejects);
        let mut spent = Spent::default();
        let staged = batch.finish(None, &mut spent, |_, work| Ok(work))?;
        spent.tell(self.shared.observer, self.lane);
        // Where the committer has gone, a failure is on its way.
        let _ = self.staged.send(StagedHandover { staged, rejects, nulls });
        Ok(())
    }
}

fn walk<'a>(shared: &'a Shared<'a>, folders: &'a BatchFolders, batch: &BatchBuilder<'_>) -> Walk<'a> {
    Walk { plan: shared.plan, fits: &shared.fits, folders, now: batch.opened_at }
}

/// Fields that a header row does not name are null in every row below it.
fn missing_fields(partition: &str, lacks: &MissingFields) -> String {
    let fields: Vec<String> = lacks.fields.iter().map(|field| format!("`{field}`")).collect();
    format!("the header row of {partition} does not name {}: null in all of its rows", fields.join(", "))
}
