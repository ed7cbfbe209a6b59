//! Puts processed chunks back in order and stages them, batch by batch.

use std::collections::BTreeMap;

use crossbeam_channel::{Receiver, Sender};

use super::gather::BatchBuilder;
use super::processor::{Processed, ProcessedTask};
use super::{NullCounts, RejectKey, Shared};
use crate::batch::{BatchIdentity, Staged};
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::formats::MissingFields;
use crate::kinds::BatchOrder;

/// A staged batch with what the report wants to know of it.
pub(super) struct StagedHandover {
    pub staged: Staged,
    pub rejects: BTreeMap<RejectKey, u64>,
    /// How often fields had no value.
    pub nulls: NullCounts,
}

pub(super) struct Stager<'a> {
    shared: &'a Shared<'a>,
    events: Vec<usize>,
    staged: Sender<StagedHandover>,
    batch: Option<BatchBuilder<'a>>,
    /// Whether the first rows of this run have been staged.
    started: bool,
}

impl<'a> Stager<'a> {
    pub(super) fn new(shared: &'a Shared<'a>, events: Vec<usize>, staged: Sender<StagedHandover>) -> Self {
        Self { shared, events, staged, batch: None, started: false }
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
            ProcessedTask::End => self.end(),
        }
    }

    fn open(&mut self, identity: BatchIdentity, order: BatchOrder, opened_at: i64) -> Outcome<()> {
        let into: Vec<usize> = self.events.iter().flat_map(|e| self.shared.plan.landings_of(*e)).collect();
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

    fn rows(&mut self, processed: Processed) -> Outcome<()> {
        let Some(batch) = &mut self.batch else { return Err(Failure::internal("rows came before their batch")) };
        if let Some(lacks) = processed.lacks.as_ref().filter(|lacks| !lacks.all) {
            self.shared.remark(missing_fields(&processed.chunk.partition, lacks));
        }
        batch.add_range(&processed)?;
        batch.add(processed)?;
        if !std::mem::replace(&mut self.started, true) {
            reach("stage.first_rows");
        }
        Ok(())
    }

    fn end(&mut self) -> Outcome<()> {
        let Some(mut batch) = self.batch.take() else {
            return Err(Failure::internal("a batch ended that was not open"));
        };
        let (rejects, nulls) = (std::mem::take(&mut batch.rejects), std::mem::take(&mut batch.nulls));
        batch.rejects.clone_from(&rejects);
        let staged = batch.finish(None, |_, work| Ok(work))?;
        // Where the committer has gone, a failure is on its way.
        let _ = self.staged.send(StagedHandover { staged, rejects, nulls });
        Ok(())
    }
}

/// Fields that a header row does not name are null in every row below it.
fn missing_fields(partition: &str, lacks: &MissingFields) -> String {
    let fields: Vec<String> = lacks.fields.iter().map(|field| format!("`{field}`")).collect();
    format!("the header row of {partition} does not name {}: null in all of its rows", fields.join(", "))
}
