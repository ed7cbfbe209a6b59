//! A batch while it is being staged: its rows go to the landings, its counts are added up.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch, StringArray};

use super::processor::Processed;
use super::{REJECTS, RejectKey};
use crate::batch::{BatchIdentity, Ranges, Staged, StationCount, Stead, TakenWork};
use crate::event::LandingRows;
use crate::failure::{Failure, Outcome};
use crate::kinds::{Landing, Stage};
use crate::plan::transform::schema_of;
use crate::plan::{OutputColumn, Plan};
use crate::types::SqlType;

/// The batch.
pub(super) struct Gathering<'a> {
    plan: &'a Plan,
    pub identity: BatchIdentity,
    opened_at: i64,
    ranges: Ranges,
    counts: Vec<StationCount>,
    pub read: u64,
    bytes: u64,
    pub rejects: BTreeMap<RejectKey, u64>,
    pub nulls: Vec<u64>,
    /// In the order of the plan, the rejects' last.
    stages: Vec<(String, Box<dyn Stage>)>,
}

impl<'a> Gathering<'a> {
    /// Begins to stage a batch into landings of the plan, by their places, and its rejects.
    pub(super) fn open(
        plan: &'a Plan,
        landings: &HashMap<String, Box<dyn Landing>>,
        into: &[usize],
        identity: BatchIdentity,
        opened_at: i64,
    ) -> Outcome<Self> {
        let mut stages = Vec::new();
        for label in into.iter().map(|i| plan.landings[*i].label.as_str()).chain([REJECTS]) {
            stages.push((label.to_string(), landings[label].stage(&identity)?));
        }
        Ok(Self {
            plan,
            identity,
            opened_at,
            ranges: Ranges::default(),
            counts: Vec::new(),
            read: 0,
            bytes: 0,
            rejects: BTreeMap::new(),
            nulls: Vec::new(),
            stages,
        })
    }

    /// Notes the ranges that will be read, where they are known before.
    pub(super) fn set_ranges(&mut self, ranges: Ranges) {
        self.ranges = ranges;
    }

    /// Notes the range of a chunk.
    pub(super) fn add_range(&mut self, processed: &Processed) -> Outcome<()> {
        self.ranges.add(&processed.chunk).map_err(Failure::internal)
    }

    /// Adds what became of a chunk.
    pub(super) fn add(&mut self, processed: Processed) -> Outcome<()> {
        self.read += processed.chunk.records;
        self.bytes += processed.bytes;
        let staged = |label: &str, stages: &[(String, Box<dyn Stage>)]| stages.iter().any(|(l, _)| l == label);
        let is_landing = |label: &str| self.plan.landings.iter().any(|l| l.label == label);
        // A landing that takes no part has no count.
        let counts = processed.counts.iter().filter(|c| !is_landing(&c.station) || staged(&c.station, &self.stages));
        for count in counts {
            match self.counts.iter_mut().find(|c| c.station == count.station) {
                Some(known) => known.add(count),
                None => self.counts.push(count.clone()),
            }
        }
        self.nulls.resize(processed.nulls.len(), 0);
        self.nulls.iter_mut().zip(&processed.nulls).for_each(|(sum, n)| *sum += n);
        for (landing, parts) in processed.rows {
            let label = self.plan.landings[landing].label.as_str();
            let Some((_, stage)) = self.stages.iter_mut().find(|(l, _)| l == label) else { continue };
            for part in parts {
                stage.write(part)?;
            }
        }
        let mut lines = String::new();
        let mut ends = Vec::new();
        let rejects = processed.rejects.iter();
        for (event, reject) in rejects.filter(|(_, r)| !is_landing(&r.station) || staged(&r.station, &self.stages)) {
            reject.write_line(&mut lines, event, self.identity.lane.as_str(), self.identity.number);
            ends.push(lines.len());
            let key = (Arc::clone(&reject.station), reject.reason.word(), reject.field.clone());
            *self.rejects.entry(key).or_default() += 1;
        }
        if let Some((_, stage)) = self.stages.last_mut().filter(|_| !ends.is_empty()) {
            stage.write(reject_rows(&lines, &ends))?;
        }
        Ok(())
    }

    /// Ends staging. `settle_in` may change the work of a landing before it is sealed.
    pub(super) fn finish(
        mut self,
        stead: Option<Stead>,
        settle_in: impl Fn(&str, crate::kinds::StagedWork) -> Outcome<crate::kinds::StagedWork>,
    ) -> Outcome<Staged> {
        let mut works = Vec::with_capacity(self.stages.len());
        for (landing, stage) in self.stages {
            let work = stage.finish()?;
            check_landed(&self.counts, &landing, work.rows + work.merged)?;
            if let Some(count) = self.counts.iter_mut().find(|c| c.station == landing) {
                count.output -= work.merged;
                count.merged += work.merged;
            }
            let work = settle_in(&landing, work)?;
            works.push(TakenWork { landing, work, landed: false });
        }
        Ok(Staged {
            identity: self.identity,
            ranges: self.ranges,
            counts: self.counts,
            read: self.read,
            bytes: self.bytes,
            rejected: self.rejects.values().sum(),
            opened_at: self.opened_at,
            works,
            texts: self.plan.texts.clone(),
            stead,
        })
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
    LandingRows { origin: None, folder: "".into(), batch }
}
