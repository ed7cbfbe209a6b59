//! The way out for sealed batches that a landing cannot publish: their events become rejects, so that the pipeline
//! continues and nothing is lost.
//!
//! Each batch is tried once more first. The events come from the landing's own spool where it has one; else they are
//! read again from the source, as the pipeline stood when the batch was sealed.

use std::sync::Arc;

use super::meeting::MeetingReader;
use super::recover::sealed_plan;
use super::{Landings, Processor, open_landings};
use crate::batch::{BatchIdentity, Ranges, Readings, Sealed, first_of};
use crate::fail_points::reach;
use crate::failure::{Failure, Outcome};
use crate::flow::LaneFlow;
use crate::kinds::{Fits, Read, ReadLimit, RefusedRow, StagedWork};
use crate::ledger::{BatchQuery, Ledger};
use crate::plan::Meeting;
use crate::plan::{BatchFolders, Plan, Surroundings};
use crate::reject::REJECTS;
use crate::reject::{self, Reason};

/// What was done with one landing of a batch.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GivenUpLanding {
    /// The batch.
    pub batch: BatchIdentity,
    /// The landing.
    pub landing: String,
    /// Why it could not be published.
    pub why: String,
    /// Events that became rejects.
    pub events: u64,
}

/// Finishes the sealed batches of a pipeline, making rejects of what a landing cannot publish. The caller has locked
/// the pipeline and its replays.
///
/// # Errors
/// Where a store is away, so that waiting may help; where the events can neither be read from a spool nor from their
/// source; where the ledger or the rejects cannot be written. What was done by then stays done.
pub fn give_up(pipeline: &str, around: &Surroundings, ledger: &dyn Ledger) -> Outcome<Vec<GivenUpLanding>> {
    let known = ledger.known(pipeline)?;
    let mut done = Vec::new();
    for (sealed, texts) in ledger.unfinished(pipeline)? {
        let plan = sealed_plan(&texts, around, &known)?;
        let landings = open_landings(&plan, around)?;
        let one = Batch { plan: &plan, around, ledger, landings: &landings, sealed: &sealed };
        for taken in sealed.works.iter().filter(|w| !w.landed) {
            done.extend(one.landing(&taken.landing, &taken.work)?);
        }
        ledger.settle(&sealed.identity)?;
    }
    Ok(done)
}

struct Batch<'a> {
    plan: &'a Plan,
    around: &'a Surroundings,
    ledger: &'a dyn Ledger,
    landings: &'a Landings,
    sealed: &'a Sealed,
}

impl Batch<'_> {
    /// Publishes the work of one landing, or makes rejects of its events.
    fn landing(&self, name: &str, work: &StagedWork) -> Outcome<Option<GivenUpLanding>> {
        let (batch, ranges) = (&self.sealed.identity, &self.sealed.ranges);
        let landing = self.landings.get(name).ok_or_else(|| Failure::internal(format!("no landing {name}")))?;
        let why = match landing.publish(batch, ranges, work) {
            // Rows that the store refuses become rejects as in any run.
            Ok(published) => {
                self.keep(name, &published.refused, Reason::REFUSED)?;
                let refused = published.refused.len() as u64;
                self.ledger.landed(batch, name, refused, published.unmerged)?;
                return Ok(None);
            }
            Err(failure) if failure.passing || name == REJECTS => return Err(failure),
            Err(failure) => failure.message,
        };
        let (mut events, is_spooled) = match landing.staged_events(batch, work)? {
            Some(events) => (events, true),
            None => (self.events_of(name, work, ranges)?, false),
        };
        if is_spooled && self.replaces_rows(name)? {
            return Err(Failure::findings(format!(
                "{name} cannot publish {batch}: {why}; its events cannot become rejects, because it is a replay and the \
                 rows that it replaces are still there"
            ))
            .with_help("nothing was changed; fix what keeps the landing from publishing, then run again"));
        }
        let count = events.len() as u64;
        if count < work.rows {
            return Err(Failure::findings(format!(
                "{name} cannot publish {batch}: {why}; and only {count} of its {} events can still be read",
                work.rows
            ))
            .with_help("nothing was changed; restore the source, or fix what keeps the landing from publishing"));
        }
        events.iter_mut().for_each(|event| event.message.clone_from(&why));
        // What can be read again goes first, so that a crash in between cannot leave rows beside their rejects. A spool
        // is the only place of its events and stays until they are kept.
        if !is_spooled {
            landing.withdraw(batch, work)?;
            reach("give_up.withdrawn");
        }
        self.keep(name, &events, Reason::UNFINISHED)?;
        reach("give_up.kept");
        self.ledger.landed(batch, name, count, count - work.rows)?;
        reach("give_up.landed");
        Ok(Some(GivenUpLanding { batch: batch.clone(), landing: name.into(), why, events: count }))
    }

    /// Whether the batch would have replaced rows of earlier readings in a landing.
    fn replaces_rows(&self, landing: &str) -> Outcome<bool> {
        let batch = &self.sealed.identity;
        let all = self.ledger.batches(&batch.pipeline, BatchQuery::default())?;
        let own = all.iter().find(|b| b.lane == batch.lane && b.number == batch.number);
        let Some(own) = own.filter(|own| own.whole && own.first.is_some()) else { return Ok(false) };
        Ok(Readings::new(&all).in_landing(&first_of(own), landing).iter().any(|b| b.opened < own.opened))
    }

    /// Keeps rejects, durable before the ledger counts them.
    fn keep(&self, landing: &str, events: &[RefusedRow], reason: Reason) -> Outcome<()> {
        let Some(rejects) = self.landings.get(REJECTS).filter(|_| !events.is_empty()) else { return Ok(()) };
        let batch = &self.sealed.identity;
        let place = self.plan.landings.iter().find(|l| l.label == landing);
        let event = place.map_or("", |l| self.plan.events[l.event].name.as_str());
        let lines = reject::lines_of(events, (event, landing), batch, reason);
        rejects.keep_refused(batch, landing, &lines)
    }

    /// The events of a batch whose rows would land in a landing, read again from their source one by one.
    fn events_of(&self, landing: &str, work: &StagedWork, ranges: &Ranges) -> Outcome<Vec<RefusedRow>> {
        let remembered = self.plan.remembered_landings();
        if remembered.iter().any(|place| self.plan.landings[*place].label == landing) {
            return Err(Failure::findings(format!(
                "{landing} gets rows from a station that remembers events: they cannot be found again in the source"
            ))
            .with_help(
                "nothing was changed; the batch stays sealed, and the next run finishes it once the cause is gone",
            ));
        }
        let lane = &self.sealed.identity.lane;
        let meeting = Meeting::of_batch(self.plan, lane, ranges)?;
        let mut reader = MeetingReader::ranges((self.plan, &meeting), self.around, lane, ranges)?;
        let mut decoder = LaneFlow::new(self.plan, &meeting.arrivals)?;
        // The rows are looked for that were staged then, whatever the store says today.
        let staged = self.landings.get(landing).and_then(|l| l.fit(Some(work)));
        let fits: Fits = staged.map(|fit| (landing.to_string(), fit)).into_iter().collect();
        let folders = BatchFolders::default();
        self.plan.read_secrets(self.around.secrets.as_ref())?;
        let mut processor = Processor::new(self.plan, &meeting.arrivals, &fits, &folders)?;
        let mut found = Vec::new();
        loop {
            match reader.read(ReadLimit { records: 1, bytes: 1 << 20, ends: false })? {
                Read::Chunk(chunk) => {
                    let span = decoder.decode(&chunk).iter().find_map(|arrived| arrived.spans.first().copied());
                    let position = span.map(|span| chunk.position_at(span.start));
                    let bytes = span.map(|span| span.of(&chunk.bytes).to_vec());
                    let partition = Arc::clone(&chunk.partition);
                    let processed = processor.process(chunk, 0);
                    let lands = processed.counts.iter().any(|c| c.station == landing && c.output > 0);
                    if let (true, Some(position), Some(bytes)) = (lands, position, bytes) {
                        found.push(RefusedRow { partition, position, column: None, message: String::new(), bytes });
                    }
                }
                Read::CaughtUp => return Ok(found),
                Read::Halt(failure) | Read::Stuck(failure) => return Err(failure),
                Read::Pending => {}
                Read::Away(what) => return Err(Failure::away(what)),
            }
        }
    }
}
