//! Runs a pipeline: each lane reads, decodes, stages and commits in threads of its own, joined by bounded channels.
//!
//! reader → workers (decode and transform, one a core) → stager (in order again) → committer. While one batch is being
//! committed the next is already read; what waits between the threads is bounded, so memory does not grow with the
//! input.

mod adopt;
pub mod busy;
mod committer;
mod gather;
pub mod give_up;
mod meeting;
mod observe;
mod processor;
mod reader;
pub mod rebuild;
mod recover;
pub mod replay;
pub mod retry;
mod stager;
mod stop;
mod throttled;

use std::collections::{BTreeMap, HashMap};
use std::sync::Mutex;
use std::sync::atomic::AtomicU64;

use crossbeam_channel::bounded;

use crate::batch::{BatchMarks, LaneId, StationCount};
use crate::drift::FieldHistory;
use crate::failure::{Failure, FailureKind, Outcome};
use crate::flow::{Memory, station_names};
use crate::kinds::{Fits, Intake, Landing};
use crate::ledger::{BatchQuery, Ledger, TakenLane};
use crate::plan::Meeting;
use crate::plan::{BatchFolders, LedgerNameKind, Plan, Surroundings};
use crate::reject::REJECTS;
use crate::state::LaneState;
use crate::threads::spawn_scoped;
use crate::throttle::Throttle;
use crate::units::show_count;
use meeting::{MeetingReader, Pace};
use std::sync::Arc;

pub use observe::{BatchSummary, LandedSummary, Observer, RejectKey, RunEvent};
pub use processor::Processor;
pub use stop::Stop;

/// How far to run.
#[derive(Clone, Copy, Debug, Default)]
pub struct RunLimit {
    /// Stop when everything there is has been read.
    pub caught_up: bool,
    /// Stop after this many batches.
    pub batches: Option<u64>,
    /// Take over what a landing holds beyond the ledger, instead of refusing.
    pub adopt: bool,
}

/// What a run did.
#[derive(Clone, Debug, Default)]
pub struct RunReport {
    /// Batches settled, finished ones not counted.
    pub batches: u64,
    /// Batches of an earlier run that were finished first.
    pub recovered: u64,
    /// Events read.
    pub read: u64,
    /// Bytes read.
    pub bytes: u64,
    /// Events rejected.
    pub rejected: u64,
    /// What each station did, in the order of the plan.
    pub counts: Vec<StationCount>,
    /// Rejects by station, reason and field.
    pub rejects: BTreeMap<RejectKey, u64>,
    /// How often fields had no value.
    pub nulls: NullCounts,
    /// Whether every lane read to its present end.
    pub caught_up: bool,
    /// What stays unread although the run has caught up, in words.
    pub remarks: Vec<String>,
    /// Why the run stopped before its end, where it did.
    pub limit: Option<Failure>,
}

/// For each event that was read, by its place in the plan: how many good events had no value in each field.
#[derive(Clone, Debug, Default)]
pub struct NullCounts(BTreeMap<usize, Vec<u64>>);

impl NullCounts {
    fn add(&mut self, event: usize, nulls: &[u64]) {
        let sums = self.0.entry(event).or_default();
        sums.resize(nulls.len(), 0);
        sums.iter_mut().zip(nulls).for_each(|(sum, n)| *sum += n);
    }
}

impl NullCounts {
    fn merge(&mut self, others: &Self) {
        others.0.iter().for_each(|(event, nulls)| self.add(*event, nulls));
    }
}

impl RunReport {
    /// What two runs of a pipeline did, one after the other. How often fields had no value is reported for the later one.
    #[must_use]
    pub fn and_then(mut self, later: Self) -> Self {
        for count in &later.counts {
            match self.counts.iter_mut().find(|c| c.station == count.station) {
                Some(sum) => sum.add(count),
                None => self.counts.push(count.clone()),
            }
        }
        let mut rejects = self.rejects;
        later.rejects.into_iter().for_each(|(key, count)| *rejects.entry(key).or_default() += count);
        let mut remarks = self.remarks;
        remarks.extend(later.remarks.into_iter().filter(|r| !remarks.contains(r)).collect::<Vec<_>>());
        Self {
            batches: self.batches + later.batches,
            recovered: self.recovered + later.recovered,
            read: self.read + later.read,
            bytes: self.bytes + later.bytes,
            rejected: self.rejected + later.rejected,
            counts: self.counts,
            rejects,
            nulls: later.nulls,
            caught_up: later.caught_up,
            remarks,
            limit: later.limit,
        }
    }

    /// Fields of contracts that had no value in any of the events: probably names that bind to nothing. Each comes as
    /// event, field and the path where it was looked for. A few events prove nothing and give no field.
    pub fn never_filled(&self, plan: &Plan) -> Vec<(String, String, String)> {
        const ENOUGH: u64 = 20;
        let mut found = Vec::new();
        for (event, nulls) in &self.nulls.0 {
            let event = &plan.events[*event];
            let good = self.counts.iter().find(|c| c.station == event.name).map_or(0, |c| c.output);
            // The columns of a change feed were bound to those of its table; deletes have but a key.
            let looked_at = good >= ENOUGH && !event.context.is_of_changes();
            let Some(contract) = event.contract.as_ref().filter(|_| looked_at) else { continue };
            for (field, nulls) in contract.fields.iter().zip(nulls) {
                if *nulls == good {
                    found.push((event.name.clone(), field.name.clone(), field.path.join(".")));
                }
            }
        }
        found
    }
}

/// Everything that the threads of a run share.
struct Shared<'a> {
    plan: &'a Plan,
    ledger: &'a dyn Ledger,
    landings: Landings,
    fits: Fits,
    /// By the arrival's name in the ledger.
    intakes: HashMap<String, Box<dyn Intake>>,
    observer: &'a dyn Observer,
    stop: &'a Stop,
    until: RunLimit,
    tickets: AtomicU64,
    /// The epoch of each lane, as this run took it over.
    epochs: HashMap<LaneId, u64>,
    failure: Mutex<Option<Failure>>,
    report: Mutex<RunReport>,
    fields: Mutex<FieldHistory>,
}

impl Shared<'_> {
    /// Notes the first failure and makes every thread leave.
    fn fail(&self, failure: Failure) {
        let mut first = self.failure.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        first.get_or_insert(failure);
        self.stop.abort();
    }

    /// Does the work of one thread. Where it breaks down, every other thread leaves too: none waits for ever.
    fn guarded(&self, work: impl FnOnce()) {
        if std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).is_err() {
            self.fail(Failure::internal("a thread of the run broke down; its message stands above").with_help(
                "this is a fault of the program, please report it; what was sealed is finished by the next run",
            ));
        }
    }

    /// Adds a remark to the report, once.
    fn remark(&self, remark: String) {
        let mut report = self.report();
        if !report.remarks.contains(&remark) {
            report.remarks.push(remark);
        }
    }

    fn epoch(&self, lane: &LaneId) -> Outcome<u64> {
        self.epochs.get(lane).copied().ok_or_else(|| Failure::internal(format!("lane {lane} was never taken")))
    }

    fn report(&self) -> std::sync::MutexGuard<'_, RunReport> {
        self.report.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// Runs a pipeline until `until`, until `stop`, or until something fails. The caller has locked the pipeline.
///
/// # Errors
/// Where a source, a store or the ledger fails. What was sealed by then is finished by the next run.
pub fn run(
    plan: &Plan,
    around: &Surroundings,
    ledger: &dyn Ledger,
    until: RunLimit,
    stop: &Stop,
    observer: &dyn Observer,
) -> Outcome<RunReport> {
    let landings = open_landings(plan, around)?;
    for notice in landings.values().flat_map(|landing| landing.notices()) {
        observer.on(RunEvent::Notice(notice));
    }
    recover::refuse_renamed(plan, ledger, &landings)?;
    if let Some(what) = recover::compare(plan, ledger, &landings)? {
        if !until.adopt {
            return Err(recover::disagree(plan, what));
        }
        for notice in adopt::adopt(plan, around, ledger, &landings)? {
            observer.on(RunEvent::Notice(notice));
        }
    }
    hint_at_new_landings(plan, ledger, observer)?;
    ledger.note_known(&plan.pipeline, &plan.known(), None)?;
    let recovered = recover::finish_sealed(plan, around, ledger, observer, stop)?;
    replay::catch_up(&plan.pipeline, around, ledger, stop, observer)?;
    recover::leave_old_lanes(plan, ledger, &landings)?;
    let meetings = plan.meetings();
    let mut taken_lanes = Vec::new();
    for meeting in &meetings {
        for number in 0..meeting.first().lanes {
            let lane = LaneId::new(&meeting.first().label, number);
            taken_lanes.push((meeting, number, recover::take_lane(plan, ledger, &landings, &lane)?));
        }
    }
    refuse_moved_stations(plan, ledger)?;
    refuse_unseen_rows(plan, ledger)?;
    // What was sealed needs no secret to land; what is read does.
    plan.read_secrets(around.secrets.as_ref())?;
    // All sources are opened before any is read: a missing one is said before something moves.
    let mut intakes = HashMap::new();
    for arrival in &plan.arrivals {
        let intake = arrival.open(around)?;
        let known = ledger.positions(&plan.pipeline, &arrival.label)?;
        let has_begun = ledger.has_begun(&plan.pipeline, &arrival.label)?;
        ledger.begin(&plan.pipeline, &arrival.label, &intake.starts(&known, has_begun)?)?;
        intakes.insert(arrival.label.clone(), intake);
    }
    let mut lanes = Vec::new();
    let mut epochs = HashMap::new();
    let own = (!plan.rate.is_open()).then(|| Arc::new(Throttle::new(plan.rate)));
    for (meeting, number, taken) in taken_lanes {
        let mut readers = Vec::new();
        let waited = Arc::default();
        for arrival in &meeting.arrivals {
            let positions = ledger.positions(&plan.pipeline, &arrival.label)?;
            let reader = intakes[&arrival.label].lane(number, arrival.lanes, positions)?;
            let rate = arrival.connection.rate();
            let shared = (!rate.is_open()).then(|| around.throttles.of(&arrival.connection.name, rate));
            let reader = throttled::limited(reader, own.iter().cloned().chain(shared), &waited);
            readers.push((arrival.label.clone(), meeting.is_reference(plan, arrival), reader));
        }
        let pace = Pace::new(readers.len());
        let source = MeetingReader::over(&taken.lane, readers, Arc::clone(&pace));
        epochs.insert(taken.lane.clone(), taken.epoch);
        let state = LaneState { ledger, pipeline: &plan.pipeline, lane: taken.lane.clone() };
        let memory = Memory::open(plan, &meeting.arrivals, Box::new(state))?;
        lanes.push((meeting, taken, (source, waited), (memory, pace)));
    }
    let shared = Shared {
        plan,
        ledger,
        fits: fits_of(&landings),
        landings,
        intakes,
        observer,
        stop,
        until,
        tickets: AtomicU64::new(until.batches.unwrap_or(u64::MAX)),
        epochs,
        failure: Mutex::new(None),
        fields: Mutex::new(FieldHistory::new(ledger.fields(&plan.pipeline)?)),
        report: Mutex::new(RunReport { recovered, caught_up: true, ..RunReport::default() }),
    };
    let cores = std::thread::available_parallelism().map_or(2, usize::from);
    let workers = plan.cores.unwrap_or(cores / lanes.len().max(1)).max(1);
    std::thread::scope(|scope| {
        for (meeting, taken, source, memory) in lanes {
            let shared = &shared;
            let name = taken.lane.to_string();
            spawn_scoped(scope, &name, move || run_lane(shared, meeting, taken, source, memory, workers));
        }
    });
    let failure = shared.failure.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    let mut report = shared.report.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    let names = station_names(plan);
    report.counts.sort_by_key(|count| names.iter().position(|name| *name == count.station));
    match failure {
        // The batch has landed with its rejects: what was done is reported, then why it stopped.
        Some(failure) if failure.kind == FailureKind::BadData => report.limit = Some(failure),
        Some(failure) => return Err(failure),
        None => {}
    }
    Ok(report)
}

/// Says that a landing which was added to a pipeline that has run gets new rows alone, and how to fill it.
fn hint_at_new_landings(plan: &Plan, ledger: &dyn Ledger, observer: &dyn Observer) -> Outcome<()> {
    let known = ledger.known(&plan.pipeline)?;
    let newest = ledger.batches(&plan.pipeline, BatchQuery { last: Some(50), number: None })?;
    let Some(last) = newest.iter().map(|b| b.number).max().filter(|_| !known.is_empty()) else { return Ok(()) };
    let remembered = plan.remembered_landings();
    for (place, landing) in plan.landings.iter().enumerate() {
        if known.iter().any(|k| k.kind == LedgerNameKind::Landing && k.name == landing.label) {
            continue;
        }
        let label = &landing.label;
        // What a station gave before can be given again where it was there.
        let above = plan.remembering().filter(|(event, _)| plan.events_below(&[*event]).contains(&landing.event));
        let above: Vec<&str> = above.map(|(event, _)| plan.events[event].name.as_str()).collect();
        let has_all = |marks: &BatchMarks| above.iter().all(|name| marks.stations.contains_key(*name));
        let was_there = newest.iter().filter_map(|batch| batch.marks.as_ref()).any(has_all);
        let earlier = match remembered.contains(&place) && !was_there {
            true => "earlier events are not counted in it".to_string(),
            false => {
                let batches = format!("--batches 1-{last} --landing {label}");
                format!("to add earlier rows: sluice replay {} {batches}", plan.pipeline)
            }
        };
        observer.on(RunEvent::Notice(format!("{label} is a new landing and gets rows from now on; {earlier}")));
    }
    Ok(())
}

/// What a station remembers is kept with its lane. Where events have come to meet others, or do so no more, the lane is
/// another one, and the station would begin with nothing although its events have been read.
fn refuse_moved_stations(plan: &Plan, ledger: &dyn Ledger) -> Outcome<()> {
    let kept = ledger.state_stations(&plan.pipeline)?;
    for meeting in plan.meetings() {
        let below = plan.events_below(&meeting.events());
        for (event, _) in plan.remembering().filter(|(event, _)| below.contains(event)) {
            let name = &plan.events[event].name;
            let label = &meeting.first().label;
            let of_other = |(lane, station): &&(LaneId, String)| station == name && lane.arrival() != label;
            if let Some((lane, _)) = kept.iter().find(of_other) {
                return Err(Failure::findings(format!(
                    "`{name}` remembers events of lane {lane}, and its events are read by lane {label}.0 now"
                ))
                .with_help(
                    "events that are joined share a lane. Give the event another name, which starts with an empty \
                     state, or undo the change in the file",
                ));
            }
        }
    }
    Ok(())
}

/// A reference that comes to a pipeline whose rows have been read already would not know them, and say so nowhere.
fn refuse_unseen_rows(plan: &Plan, ledger: &dyn Ledger) -> Outcome<()> {
    for meeting in plan.meetings() {
        let lane = LaneId::new(&meeting.first().label, 0);
        // A list is read whole by each run.
        for arrival in meeting.arrivals.iter().filter(|arrival| !arrival.is_list()) {
            for event in arrival.events() {
                let new = plan.looked_up_by(event).into_iter().find_map(|made| {
                    let name = &plan.events[made].name;
                    match ledger.station_state(&plan.pipeline, &lane, name) {
                        Ok(None) => Some(Ok(name)),
                        Ok(Some(_)) => None,
                        Err(failure) => Some(Err(failure)),
                    }
                });
                let Some(name) = new.transpose()? else { continue };
                let rows = &plan.events[event].name;
                let batches = ledger.batches(&plan.pipeline, BatchQuery::default())?;
                let read: u64 =
                    batches.iter().flat_map(|b| &b.counts).filter(|c| c.station == *rows).map(|c| c.input).sum();
                if read > 0 {
                    return Err(Failure::findings(format!(
                        "`{name}` looks up rows of `{rows}`, of which {} were read before it was there: it would not find them",
                        show_count(read)
                    ))
                    .with_help(match arrival.kind.is_feed() {
                        true => "write it, and the events that it is made of, into a pipeline of their own: that one loads the table"
                            .to_string(),
                        false => format!(
                            "write an event for it beside `{rows}` that arrives from the same place under another name, and look up \
                             its rows: it is read from its beginning"
                        ),
                    }));
                }
            }
        }
    }
    Ok(())
}

/// Opened landings by their names in the ledger.
type Landings = HashMap<String, Box<dyn Landing>>;

/// Opens every landing of a plan, and that of its rejects.
fn open_landings(plan: &Plan, around: &Surroundings) -> Outcome<Landings> {
    let mut landings = HashMap::new();
    for landing in &plan.landings {
        landings.insert(landing.label.clone(), landing.open(around, &plan.pipeline)?);
    }
    landings.insert(REJECTS.to_string(), around.registry.open_rejects(&around.root, &plan.pipeline)?);
    Ok(landings)
}

/// What the landings know beforehand of the rows that they take.
fn fits_of(landings: &Landings) -> Fits {
    landings.iter().filter_map(|(label, landing)| Some((label.clone(), landing.fit(None)?))).collect()
}

fn run_lane(
    shared: &Shared<'_>,
    meeting: &Meeting<'_>,
    taken: TakenLane,
    (source, waited): (Box<dyn crate::kinds::LaneReader>, Arc<throttled::Waited>),
    (memory, pace): (Option<Memory<'_>>, Arc<Pace>),
    workers: usize,
) {
    let (task_in, task_out) = bounded(workers + 1);
    let (done_in, done_out) = bounded(workers + 1);
    let (staged_in, staged_out) = bounded(1);
    let committer_lane = taken.lane.clone();
    let lane = &committer_lane;
    let remembers = memory.is_some();
    let folders = BatchFolders::default();
    let folders = &folders;
    std::thread::scope(|scope| {
        spawn_scoped(scope, "reader", move || {
            shared.guarded(|| reader::Reader::new(shared, taken.clone(), source, task_in, (remembers, waited)).run());
        });
        for _ in 0..workers {
            let (tasks, done) = (task_out.clone(), done_in.clone());
            spawn_scoped(scope, "worker", move || {
                shared.guarded(|| {
                    processor::work(shared, (lane, workers), (&meeting.arrivals, folders), &tasks, &done);
                });
            });
        }
        drop((task_out, done_in));
        let events = meeting.events();
        spawn_scoped(scope, "stager", move || {
            shared.guarded(|| {
                stager::Stager::new(shared, (lane, events), (memory, pace), folders, staged_in).run(&done_out)
            });
        });
        spawn_scoped(scope, "committer", move || {
            shared.guarded(|| committer::commit_all(shared, lane, &staged_out));
        });
    });
}
