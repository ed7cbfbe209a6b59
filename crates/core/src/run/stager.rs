//! Puts processed chunks back in order and stages them, batch by batch.

use std::collections::BTreeMap;
use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch, StringArray};
use crossbeam_channel::{Receiver, Sender};

use super::processor::{Done, Processed};
use super::{REJECTS, RejectKey, Shared};
use crate::batch::{BatchIdentity, LaneId, Ranges, Staged, StationCount, TakenWork};
use crate::event::LandingRows;
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::kinds::Stage;
use crate::plan::OutputColumn;
use crate::plan::transform::schema_of;
use crate::types::SqlType;

/// A staged batch with what the report wants to know of it.
pub(super) struct Handover {
    pub staged: Staged,
    pub rejects: BTreeMap<RejectKey, u64>,
    /// The event that was read, and for each field of its contract how many good events had no value.
    pub nulls: (usize, Vec<u64>),
}

struct OpenBatch {
    identity: BatchIdentity,
    opened_at: i64,
    ranges: Ranges,
    counts: Vec<StationCount>,
    read: u64,
    bytes: u64,
    rejects: BTreeMap<RejectKey, u64>,
    nulls: Vec<u64>,
    /// In the order of the plan, the rejects' last.
    stages: Vec<(String, Box<dyn Stage>)>,
}

pub(super) struct Stager<'a> {
    shared: &'a Shared<'a>,
    event: usize,
    lane: LaneId,
    staged: Sender<Handover>,
    batch: Option<OpenBatch>,
    /// Whether the first rows of this run have been staged.
    started: bool,
}

impl<'a> Stager<'a> {
    pub(super) fn new(shared: &'a Shared<'a>, event: usize, lane: LaneId, staged: Sender<Handover>) -> Self {
        Self { shared, event, lane, staged, batch: None, started: false }
    }

    pub(super) fn run(mut self, done: &Receiver<(u64, Done)>) {
        let mut early: BTreeMap<u64, Done> = BTreeMap::new();
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

    fn take(&mut self, done: Done) -> Outcome<()> {
        match done {
            Done::Open(identity, opened_at) => self.open(identity, opened_at),
            Done::Processed(processed) => self.rows(*processed),
            Done::End => self.end(),
        }
    }

    /// The landings that rows of this lane can reach: those of its event and of all that is made of it.
    fn landings(&self) -> Vec<usize> {
        let plan = self.shared.plan;
        let mut events = vec![self.event];
        let mut at = 0;
        while at < events.len() {
            events.extend(plan.events[events[at]].makes.iter().map(|(made, _)| *made));
            at += 1;
        }
        events.iter().flat_map(|e| plan.events[*e].landings.iter().copied()).collect()
    }

    fn open(&mut self, identity: BatchIdentity, opened_at: i64) -> Outcome<()> {
        let plan = self.shared.plan;
        let mut stages = Vec::new();
        for label in self.landings().into_iter().map(|i| plan.landings[i].label.as_str()).chain([REJECTS]) {
            stages.push((label.to_string(), self.shared.landings[label].stage(&identity)?));
        }
        self.batch = Some(OpenBatch {
            identity,
            opened_at,
            ranges: Ranges::default(),
            counts: Vec::new(),
            read: 0,
            bytes: 0,
            rejects: BTreeMap::new(),
            nulls: Vec::new(),
            stages,
        });
        Ok(())
    }

    fn rows(&mut self, processed: Processed) -> Outcome<()> {
        let plan = self.shared.plan;
        let Some(batch) = &mut self.batch else { return Err(Failure::internal("rows came before their batch")) };
        batch.ranges.add(&processed.chunk).map_err(Failure::internal)?;
        batch.read += processed.chunk.records;
        batch.bytes += processed.bytes;
        for count in &processed.counts {
            match batch.counts.iter_mut().find(|c| c.station == count.station) {
                Some(known) => known.add(count),
                None => batch.counts.push(count.clone()),
            }
        }
        batch.nulls.resize(processed.nulls.len(), 0);
        batch.nulls.iter_mut().zip(&processed.nulls).for_each(|(sum, n)| *sum += n);
        for (landing, parts) in processed.rows {
            let label = plan.landings[landing].label.as_str();
            let stage = batch.stages.iter_mut().find(|(l, _)| l == label);
            let (_, stage) = stage.ok_or_else(|| Failure::internal(format!("no stage for {label}")))?;
            for part in parts {
                stage.write(part)?;
            }
        }
        if !processed.rejects.is_empty() {
            let mut lines = String::new();
            let mut ends = Vec::with_capacity(processed.rejects.len());
            for (event, reject) in &processed.rejects {
                reject.write_line(&mut lines, event, self.lane.as_str(), batch.identity.number);
                ends.push(lines.len());
                let key = (Arc::clone(&reject.station), reject.reason.word(), reject.field.clone());
                *batch.rejects.entry(key).or_default() += 1;
            }
            if let Some((_, stage)) = batch.stages.last_mut() {
                stage.write(reject_rows(&lines, &ends))?;
            }
        }
        if !std::mem::replace(&mut self.started, true) {
            reach("stage.first_rows");
        }
        Ok(())
    }

    fn end(&mut self) -> Outcome<()> {
        let Some(batch) = self.batch.take() else { return Err(Failure::internal("a batch ended that was not open")) };
        let mut works = Vec::with_capacity(batch.stages.len());
        for (landing, stage) in batch.stages {
            let work = stage.finish()?;
            check_landed(&batch.counts, &landing, work.rows)?;
            works.push(TakenWork { landing, work, landed: false });
        }
        let staged = Staged {
            identity: batch.identity,
            ranges: batch.ranges,
            counts: batch.counts,
            read: batch.read,
            bytes: batch.bytes,
            rejected: batch.rejects.values().sum(),
            opened_at: batch.opened_at,
            works,
            texts: self.shared.plan.texts.clone(),
        };
        // Where the committer has gone, a failure is on its way.
        let _ = self.staged.send(Handover { staged, rejects: batch.rejects, nulls: (self.event, batch.nulls) });
        Ok(())
    }
}

/// What a landing staged must be what its station gave.
fn check_landed(counts: &[StationCount], landing: &str, rows: u64) -> Outcome<()> {
    let expected = match landing {
        REJECTS => counts.iter().map(|c| c.rejected).sum(),
        _ => counts.iter().find(|c| c.station == landing).map_or(0, |c| c.output),
    };
    if expected == rows {
        return Ok(());
    }
    Err(Failure::internal(format!("{landing} staged {rows} rows of {expected}; nothing of this batch has landed")))
}

/// Rejects travel as one column of lines.
fn reject_rows(lines: &str, ends: &[usize]) -> LandingRows {
    let mut start = 0;
    let texts = ends.iter().map(|end| {
        let line = lines[start..*end].trim_end_matches('\n');
        start = *end;
        line
    });
    let column: ArrayRef = Arc::new(StringArray::from_iter_values(texts));
    let schema = schema_of(&[OutputColumn { name: "line".into(), ty: SqlType::Json, nullable: false }]);
    let batch = RecordBatch::try_new(schema, vec![column]).expect("one text column");
    LandingRows { folder: "".into(), batch }
}
