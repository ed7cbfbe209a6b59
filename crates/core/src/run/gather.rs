//! A batch while it is being staged: its rows go to the landings, its counts are added up.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Instant;

use arrow_array::{ArrayRef, RecordBatch, StringArray};

use super::busy::Spent;
use super::processor::{FlowResults, Processed};
use super::{NullCounts, RejectKey};
use crate::batch::{BatchIdentity, BatchMarks, LandingWork, Ranges, Reread, Staged, StationCount};
use crate::columns::OutputColumn;
use crate::drift::SeenFields;
use crate::event::LandingRows;
use crate::failure::{Failure, FailureKind, Outcome};
use crate::formats::MissingFields;
use crate::kinds::{BatchOrder, Landing, Stage};
use crate::plan::transform::schema_of;
use crate::plan::{LandingPlan, Plan};
use crate::reject::REJECTS;
use crate::reject::{CONTRACT, Reject};
use crate::state::StationChanges;
use crate::types::SqlType;

/// A landing, with its stage once that is open.
type Part = (String, Option<Box<dyn Stage>>);

/// The batch.
pub(super) struct BatchBuilder<'a> {
    plan: &'a Plan,
    pub identity: BatchIdentity,
    order: BatchOrder,
    pub opened_at: i64,
    /// Whether its rows are changes of a feed.
    is_feed: bool,
    ranges: Ranges,
    counts: Vec<StationCount>,
    pub read: u64,
    bytes: u64,
    pub rejects: BTreeMap<RejectKey, u64>,
    pub nulls: NullCounts,
    /// Which fields the events had, by the event's place in the plan.
    fields: BTreeMap<usize, SeenFields>,
    /// In the order of the plan, the rejects' last.
    stages: Vec<Part>,
    landings: &'a HashMap<String, Box<dyn Landing>>,
    all_rejects: bool,
    /// What stations that remember changed.
    pub state: Vec<StationChanges>,
    /// Where they stand at its end.
    pub marks: Option<BatchMarks>,
    /// The stations at which rows do not arrive, since nothing is remembered where events are read again.
    unreached: BTreeSet<String>,
    /// What staging took.
    pub spent: Spent,
}

impl<'a> BatchBuilder<'a> {
    /// Begins to stage a batch into landings of the plan, by their places, and its rejects. Of a change feed, which may
    /// have many tables, only landings that get rows take part.
    pub(super) fn open(
        plan: &'a Plan,
        landings: &'a HashMap<String, Box<dyn Landing>>,
        into: &[usize],
        (identity, order): (BatchIdentity, BatchOrder),
        opened_at: i64,
        is_feed: bool,
    ) -> Outcome<Self> {
        let mut stages = Vec::new();
        for label in into.iter().map(|i| plan.landings[*i].label.as_str()).chain([REJECTS]) {
            let stage = if is_feed { None } else { Some(landings[label].stage(&identity, &order)?) };
            stages.push((label.to_string(), stage));
        }
        Ok(Self {
            plan,
            identity,
            order,
            opened_at,
            is_feed,
            ranges: Ranges::default(),
            counts: Vec::new(),
            read: 0,
            bytes: 0,
            rejects: BTreeMap::new(),
            nulls: NullCounts::default(),
            fields: BTreeMap::new(),
            stages,
            landings,
            all_rejects: false,
            state: Vec::new(),
            marks: None,
            unreached: BTreeSet::new(),
            spent: Spent::default(),
        })
    }

    /// Notes the ranges that will be read, where they are known before.
    pub(super) fn set_ranges(&mut self, ranges: Ranges) {
        self.ranges = ranges;
    }

    /// Keeps rejects of landings that take no part, too: those that another batch has lost.
    pub(super) fn keep_all_rejects(&mut self, all: bool) {
        self.all_rejects = all;
    }

    /// Leaves out stations that remember, and all that comes after them.
    pub(super) fn leave_out_remembered(&mut self) {
        let events = self.plan.remembered_events();
        let names = events.iter().map(|event| self.plan.events[*event].name.clone());
        let landings = self.plan.remembered_landings();
        self.unreached = names.chain(landings.iter().map(|place| self.plan.landings[*place].label.clone())).collect();
    }

    /// Notes the range of a chunk.
    pub(super) fn add_range(&mut self, processed: &Processed) -> Outcome<()> {
        self.ranges.add(&processed.chunk).map_err(Failure::internal)
    }

    /// Adds what became of a chunk.
    ///
    /// # Errors
    /// Where a landing fails, or the header row of a partition names none of the event's fields.
    pub(super) fn add(&mut self, processed: Processed) -> Outcome<()> {
        if let Some(lacks) = processed.lacks.as_ref().filter(|lacks| lacks.all) {
            return Err(no_field(&processed.chunk.partition, lacks));
        }
        self.read += processed.chunk.records;
        self.bytes += processed.bytes;
        self.add_fields(&processed);
        self.add_parts(&processed.counts, processed.rows, &processed.rejects)
    }

    /// Adds which fields the events had. The columns of a change feed were bound to those of its table.
    fn add_fields(&mut self, processed: &Processed) {
        for found in &processed.fields {
            self.nulls.add(found.event, &found.nulls);
            let event = &self.plan.events[found.event];
            let Some(contract) = event.contract.as_ref().filter(|_| !event.context.is_of_changes()) else { continue };
            let seen = self.fields.entry(found.event).or_default();
            seen.add(&processed.chunk, contract, found.events, &found.nulls, &found.unknown);
        }
        let event = processed.fields.first().and_then(|found| self.fields.get_mut(&found.event));
        if let Some(seen) = event {
            processed.rejects.iter().for_each(|(_, reject)| seen.add_reject(reject));
        }
    }

    /// Adds what became of rows that came out of stations which remember.
    ///
    /// # Errors
    /// Where a landing fails.
    pub(super) fn add_results(&mut self, results: FlowResults<'_>) -> Outcome<()> {
        self.add_parts(&results.counts, results.landings, &results.rejects)
    }

    fn add_parts(
        &mut self,
        counts: &[StationCount],
        rows: Vec<(usize, Vec<LandingRows>)>,
        rejects: &[(String, Reject)],
    ) -> Outcome<()> {
        let staged = |label: &str, stages: &[Part]| stages.iter().any(|(l, _)| l == label);
        let is_landing = |label: &str| self.plan.landings.iter().any(|l| l.label == label);
        // A landing that takes no part has no count.
        let takes_part = |station: &str| {
            !self.unreached.contains(station) && (!is_landing(station) || staged(station, &self.stages))
        };
        let all_rejects = self.all_rejects;
        let counts = counts.iter().filter_map(|count| match takes_part(&count.station) {
            true => Some(count.clone()),
            false if all_rejects && count.rejected > 0 && !self.unreached.contains(&count.station) => {
                Some(StationCount {
                    input: count.rejected,
                    rejected: count.rejected,
                    ..StationCount::new(count.station.as_str())
                })
            }
            false => None,
        });
        for count in counts.collect::<Vec<_>>() {
            match self.counts.iter_mut().find(|c| c.station == count.station) {
                Some(known) => known.add(&count),
                None => self.counts.push(count),
            }
        }
        for (landing, parts) in rows {
            let label = self.plan.landings[landing].label.as_str();
            let Some(place) = self.stages.iter().position(|(l, _)| l == label) else { continue };
            let started = Instant::now();
            for part in parts {
                self.stage(place)?.write(part)?;
            }
            self.spent.add(label, started.elapsed());
        }
        self.stop_at_mirrors(rejects)?;
        let mut lines = String::new();
        let mut ends = Vec::new();
        for (event, reject) in
            rejects.iter().filter(|(_, r)| all_rejects || !is_landing(&r.station) || staged(&r.station, &self.stages))
        {
            if self.unreached.contains(&*reject.station) {
                continue;
            }
            reject.write_line(&mut lines, event, self.identity.lane.as_str(), self.identity.number);
            ends.push(lines.len());
            let key = (Arc::clone(&reject.station), reject.reason.word(), reject.field.clone());
            *self.rejects.entry(key).or_default() += 1;
        }
        if !ends.is_empty() {
            self.stage(self.stages.len() - 1)?.write(reject_rows(&lines, &ends))?;
        }
        Ok(())
    }

    /// Changes of a source that cannot land in a mirror of it stop the run before their batch, or the two would not be equal any more.
    fn stop_at_mirrors(&self, rejects: &[(String, Reject)]) -> Outcome<()> {
        for (event, reject) in rejects.iter().filter(|_| self.is_feed) {
            let Some(index) = self.plan.events.iter().position(|e| e.name == *event) else { continue };
            let reached = self.plan.landings_of(index).into_iter().map(|place| &self.plan.landings[place]);
            let stops = |l: &&LandingPlan| {
                l.stops_at_refused() && [CONTRACT, l.label.as_str(), event].contains(&&*reject.station)
            };
            let Some(landing) = reached.into_iter().find(stops) else { continue };
            let field = reject.field.as_ref().map_or(String::new(), |field| format!(" {field}:"));
            let message = format!(
                "a change of {event} cannot land in {}, read from {} at {}:{field} {}",
                landing.label, reject.partition, reject.position, reject.message
            );
            return Err(Failure::new(FailureKind::BadData, message).with_help(
                "a mirror without it would not equal its source, so nothing of the batch lands: correct the contract (text takes \
                 every value) or write refused = \"skip\" into the landing, and run again",
            ));
        }
        Ok(())
    }

    fn stage(&mut self, place: usize) -> Outcome<&mut dyn Stage> {
        let (label, stage) = &mut self.stages[place];
        if stage.is_none() {
            *stage = Some(self.landings[label.as_str()].stage(&self.identity, &self.order)?);
        }
        match stage {
            Some(stage) => Ok(stage.as_mut()),
            None => Err(Failure::internal("a stage was just opened")),
        }
    }

    /// Ends staging. `settle_in` may change the work of a landing before it is sealed.
    pub(super) fn finish(
        mut self,
        reread: Option<Reread>,
        spent: &mut Spent,
        settle_in: impl Fn(&str, crate::kinds::StagedWork) -> Outcome<crate::kinds::StagedWork>,
    ) -> Outcome<Staged> {
        let mut works = Vec::with_capacity(self.stages.len());
        for (landing, stage) in self.stages {
            let Some(stage) = stage else {
                check_landed(&self.counts, &landing, 0)?;
                continue;
            };
            let started = Instant::now();
            let work = stage.finish()?;
            spent.add(&landing, started.elapsed());
            check_landed(&self.counts, &landing, work.rows + work.merged)?;
            if let Some(count) = self.counts.iter_mut().find(|c| c.station == landing) {
                count.output -= work.merged;
                count.merged += work.merged;
            }
            let work = settle_in(&landing, work)?;
            works.push(LandingWork { landing, work, landed: false });
        }
        let name = |event: usize| self.plan.events[event].name.clone();
        let fields = self.fields.into_iter().map(|(event, seen)| (name(event), seen)).collect();
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
            reread,
            state: self.state,
            marks: self.marks,
            fields,
        })
    }
}

/// A header row without any of the fields: another delimiter, or another file. Its rows would be nothing but nulls.
fn no_field(partition: &str, lacks: &MissingFields) -> Failure {
    let quoted = |names: &[String]| {
        let shown: Vec<String> = names.iter().take(8).map(|name| format!("`{name}`")).collect();
        shown.join(", ") + if names.len() > 8 { ", …" } else { "" }
    };
    let message = format!(
        "the header row of {partition} names none of the event's fields: it names {}, and the contract expects {}",
        quoted(&lacks.names),
        quoted(&lacks.fields),
    );
    // One column whose name holds what other programs put between names.
    let other = match lacks.names.as_slice() {
        [only] => [";", "\t", "|", ","].into_iter().find(|delimiter| only.contains(delimiter)),
        _ => None,
    };
    let help = match other {
        Some(delimiter) => format!("its values seem to be separated otherwise: csv = {{ delimiter = {delimiter:?} }}"),
        None => {
            "take the file out of the folder, narrow `match`, or name the columns in the contract with `from`".into()
        }
    };
    Failure::new(FailureKind::BadData, message).with_help(format!("nothing of this batch has landed; {help}"))
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
    let schema = schema_of(&[OutputColumn { name: "line".into(), ty: SqlType::Json, nullable: false, limit: None }]);
    let batch = RecordBatch::try_new(schema, vec![column]).expect("one text column");
    LandingRows { origin: None, marks: None, folder: "".into(), batch }
}
