//! `sluice rehearse --against landed`: what would be different of all that has landed, had it been read under the edited file?
//!
//! The events are read again from their source, batch by batch, and go through two files: the one under which the reading that decided
//! about them was sealed, and the edited one. Exactly the rows of the first have landed, so no store is asked; what others have changed
//! there since is not seen.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use serde_json::json;
use sluice_core::batch::{BatchName, LaneId, Ranges, Readings, first_of};
use sluice_core::event::{Chunk, Position};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{Read, ReadLimit};
use sluice_core::ledger::{BatchQuery, BatchRecord, BatchState, Ledger};
use sluice_core::plan::{ArrivalPlan, Plan};
use sluice_core::problem::SourceText;
use sluice_core::rehearse::compare::{EventResult, ExpectedDifference, Key, compare, outcome};
use sluice_core::rehearse::{Rehearsal, rehearse};
use sluice_core::run::Stop;
use sluice_core::units::{show_count, show_many};
use sluice_core::values::time::show_timestamp;

use super::expected::{documents, listed};
use crate::args::{Arguments, OutputKind, RehearseArgs};
use crate::exit::Exit;
use crate::output::table::{Align, Table, screen_width};
use crate::output::{self, style};
use crate::progress::Counting;
use crate::project::{LoadedPipeline, Project};

/// Bytes that are compared at a time.
const CHUNK: u64 = 256 << 10;

/// So many differences are kept to be shown.
const KEPT: usize = 200;

/// What became of the rows of one landing.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Sums {
    same: u64,
    differ: u64,
    /// Rows that landed and would not land any more.
    gone: u64,
    /// Rows that did not land and would.
    added: u64,
}

#[derive(Default)]
struct Found {
    events: u64,
    batches: u64,
    /// First and last of their numbers.
    numbers: Option<(u64, u64)>,
    landings: BTreeMap<String, Sums>,
    first: Vec<ExpectedDifference>,
    /// What was not compared, and why, with the number of batches.
    left_out: BTreeMap<String, u64>,
    stopped: bool,
}

impl Found {
    fn differs(&self) -> bool {
        self.landings.values().any(|sums| sums.differ + sums.gone + sums.added > 0)
    }

    fn leave_out(&mut self, why: impl Into<String>) {
        *self.left_out.entry(why.into()).or_default() += 1;
    }
}

pub(super) fn against(
    arguments: &Arguments,
    args: &RehearseArgs,
    project: &Project,
    pipeline: &LoadedPipeline,
    only: Option<usize>,
    stop: &Stop,
) -> Outcome<Exit> {
    let plan = &pipeline.plan;
    plan.read_secrets(project.surroundings().secrets.as_ref())?;
    let ledger = sluice_connect::ledgers::open(&project.root, &project.config.ledger)?;
    let all = ledger.batches(&plan.pipeline, BatchQuery::default())?;
    let compared = Comparison {
        project,
        name: &pipeline.config.source.name,
        plan,
        ledger: ledger.as_ref(),
        readings: Readings::new(&all),
        only: only.map(|place| plan.landings[place].label.as_str()),
        stop,
        old: BTreeMap::new(),
    };
    let is_meant = |b: &&BatchRecord| {
        let in_time =
            args.since.is_none_or(|since| b.opened_at >= since) && args.until.is_none_or(|until| b.opened_at < until);
        in_time && !b.lane.is_out_of_order() && matches!(b.state, BatchState::Settled | BatchState::Adopted)
    };
    let mut batches: Vec<&BatchRecord> = all.iter().filter(is_meant).collect();
    batches.sort_by_key(|batch| batch.opened);
    if batches.is_empty() {
        let when = args.since.map_or(String::new(), |since| format!(" since {}", show_timestamp(since)));
        return Err(Failure::new(
            sluice_core::failure::FailureKind::Configuration,
            format!("no batch of {} has settled{when}", plan.pipeline),
        )
        .with_help(format!("see which there are: sluice ledger {}", plan.pipeline)));
    }
    let found = compared.all(&batches)?;
    let exit = match (found.stopped, found.differs()) {
        (true, _) => Exit::Interrupted,
        (false, true) => Exit::Findings,
        (false, false) => Exit::Fine,
    };
    match arguments.output {
        OutputKind::Json => output::json("against", as_json(&plan.pipeline, &found)),
        OutputKind::Text => output::print(&as_text(&plan.pipeline, &found)),
    }
    Ok(exit)
}

/// A file that batches were sealed under.
struct OldFile {
    pipeline: LoadedPipeline,
    project: Project,
}

struct Comparison<'a> {
    project: &'a Project,
    /// The name of the pipeline's file.
    name: &'a str,
    plan: &'a Plan,
    ledger: &'a dyn Ledger,
    readings: Readings<'a>,
    only: Option<&'a str>,
    stop: &'a Stop,
    /// By the digest of the texts; None where it cannot be read any more.
    old: BTreeMap<String, Option<OldFile>>,
}

impl Comparison<'_> {
    fn all(mut self, batches: &[&BatchRecord]) -> Outcome<Found> {
        let mut found = Found::default();
        let counting = Counting::new("events compared");
        for batch in batches {
            self.batch(batch, &mut found, &counting)?;
            if found.stopped {
                break;
            }
        }
        counting.finish();
        Ok(found)
    }

    fn batch(&mut self, batch: &BatchRecord, found: &mut Found, counting: &Counting) -> Outcome<()> {
        let first = first_of(batch);
        let mut digests = BTreeSet::new();
        for reading in self.readings.of(&first) {
            match &reading.texts {
                Some(digest) if reading.state != BatchState::Adopted => _ = digests.insert(digest.clone()),
                _ => {
                    found.leave_out("batches that were adopted: the ledger does not know their rows");
                    return Ok(());
                }
            }
        }
        for digest in &digests {
            self.open(digest)?;
        }
        let old: Option<BTreeMap<&str, &OldFile>> =
            digests.iter().map(|digest| Some((digest.as_str(), self.old.get(digest)?.as_ref()?))).collect();
        let Some(old) = old else {
            found.leave_out("batches whose file uses another one, such as a schema, that has changed since");
            return Ok(());
        };
        let Some(base) = batch.texts.as_deref().and_then(|digest| old.get(digest)) else { return Ok(()) };
        let mut read = 0;
        for arrival in &base.pipeline.plan.arrivals {
            let own = batch.ranges.of_arrival(&batch.lane, &arrival.label);
            if own.0.is_empty() {
                continue;
            }
            if arrival.is_list() || arrival.kind.is_feed() {
                found.leave_out(format!("{}: a {} is read once, in its order", arrival.label, arrival.kind.name()));
                continue;
            }
            if self.place(&arrival.label).is_none() {
                found.leave_out(format!("{}: the file has no such arrival any more", arrival.label));
                continue;
            }
            let one = OneBatch { batch, first: &first, old: &old };
            read += self.arrival(&one, base, arrival, &own, found, counting)?;
            if found.stopped {
                return Ok(());
            }
        }
        if read > 0 {
            found.batches += 1;
            found.events += read;
            let (low, high) = found.numbers.unwrap_or((batch.number, batch.number));
            found.numbers = Some((low.min(batch.number), high.max(batch.number)));
        }
        Ok(())
    }

    /// Reads the file that some texts are.
    fn open(&mut self, digest: &str) -> Outcome<()> {
        if self.old.contains_key(digest) {
            return Ok(());
        }
        let texts = self.ledger.texts(digest)?;
        let project = self.project.with_text(&texts.project);
        let mut pipeline = project.load(&SourceText::new(self.name, texts.pipeline)).for_looking();
        let known = self.ledger.known(&self.plan.pipeline)?;
        let is_good = !pipeline.problems.has_errors() && pipeline.plan.recognise(&known).is_ok();
        if is_good {
            pipeline.plan.read_secrets(project.surroundings().secrets.as_ref())?;
        }
        self.old.insert(digest.to_string(), is_good.then_some(OldFile { pipeline, project }));
        Ok(())
    }

    fn place(&self, label: &str) -> Option<usize> {
        self.plan.arrivals.iter().position(|arrival| arrival.label == label)
    }

    /// Reads again what a batch had of an arrival; gives the number of events.
    fn arrival(
        &self,
        one: &OneBatch<'_>,
        base: &OldFile,
        arrival: &ArrivalPlan,
        own: &Ranges,
        found: &mut Found,
        counting: &Counting,
    ) -> Outcome<u64> {
        let around = base.project.surroundings();
        let mut reader = match arrival.view(&around).and_then(|intake| intake.ranges(own)) {
            Ok(reader) => reader,
            Err(failure) => {
                found.leave_out(format!(
                    "{}: the source does not have its events any more: {}",
                    arrival.label, failure.message
                ));
                return Ok(0);
            }
        };
        let mut read = 0;
        loop {
            if self.stop.is_settling() {
                found.stopped = true;
                return Ok(read);
            }
            match reader.read(ReadLimit { records: u64::MAX, bytes: CHUNK, ends: false })? {
                Read::Chunk(chunk) => {
                    read += chunk.records;
                    self.chunk(one, &arrival.label, &chunk, found)?;
                    counting.at(found.events + read);
                }
                Read::CaughtUp => return Ok(read),
                Read::Halt(failure) | Read::Stuck(failure) => {
                    found.leave_out(format!(
                        "{}: the source does not have its events any more: {}",
                        arrival.label, failure.message
                    ));
                    return Ok(read);
                }
                Read::Away(message) => return Err(Failure::away(message)),
                Read::Pending => {}
            }
        }
    }

    fn chunk(&self, one: &OneBatch<'_>, label: &str, chunk: &Chunk, found: &mut Found) -> Outcome<()> {
        let now = one.batch.opened_at;
        let through = |plan: &Plan| -> Outcome<Option<Rehearsal>> {
            let place = plan.arrivals.iter().position(|arrival| arrival.label == label);
            place.map(|place| rehearse(plan, [(place, chunk)], now)).transpose()
        };
        let Some(is) = through(self.plan)? else { return Ok(()) };
        let mut was = BTreeMap::new();
        for (digest, old) in one.old {
            if let Some(rehearsal) = through(&old.pipeline.plan)? {
                was.insert(*digest, (&old.pipeline.plan, rehearsal));
            }
        }
        let labels = self.labels(was.values().map(|(plan, _)| *plan));
        // Most rows are the same, column by column.
        if let (1, Some((plan, rehearsal))) = (was.len(), was.values().next()) {
            let unequal: Vec<&String> =
                labels.iter().filter(|label| !equal(label, (plan, rehearsal), (self.plan, &is))).collect();
            for label in labels.iter().filter(|label| !unequal.contains(label)) {
                found.landings.entry(label.clone()).or_default().same += rows_of(self.plan, &is, label);
            }
            if unequal.is_empty() {
                return Ok(());
            }
            let unequal: BTreeSet<String> = unequal.into_iter().cloned().collect();
            return self.rows(one, label, &unequal, &was, &is, found);
        }
        self.rows(one, label, &labels, &was, &is, found)
    }

    /// The landings whose rows can be compared one by one.
    fn labels<'p>(&'p self, old: impl Iterator<Item = &'p Plan>) -> BTreeSet<String> {
        let mut labels = BTreeSet::new();
        let mut left = BTreeSet::new();
        for plan in old.chain([self.plan]) {
            let several: BTreeSet<usize> =
                plan.remembered_landings().union(&plan.unfolded_landings()).copied().collect();
            for (place, landing) in plan.landings.iter().enumerate() {
                let into = if several.contains(&place) { &mut left } else { &mut labels };
                into.insert(landing.label.clone());
            }
        }
        labels.retain(|label| !left.contains(label) && self.only.is_none_or(|only| only == label));
        labels
    }

    fn rows(
        &self,
        one: &OneBatch<'_>,
        label: &str,
        labels: &BTreeSet<String>,
        was: &BTreeMap<&str, (&Plan, Rehearsal)>,
        is: &Rehearsal,
        found: &mut Found,
    ) -> Outcome<()> {
        let landed = |outcome: BTreeMap<Key, EventResult>| -> BTreeMap<Key, EventResult> {
            let landed = |(key, result): &(Key, EventResult)| {
                labels.contains(&key.station) && matches!(result, EventResult::Landed { .. })
            };
            outcome.into_iter().filter(landed).collect()
        };
        let now = landed(outcome(self.plan, is));
        let mut before = BTreeMap::new();
        for (digest, (plan, rehearsal)) in was {
            // Of an event that was read several times, the reading that decided last.
            let decided = landed(outcome(plan, rehearsal))
                .into_iter()
                .filter(|(key, _)| one.digest(&self.readings, label, key).is_some_and(|of| of == *digest));
            before.extend(decided);
        }
        for key in before.keys().chain(now.keys()).collect::<BTreeSet<_>>() {
            let sums = found.landings.entry(key.station.clone()).or_default();
            match (before.get(key), now.get(key)) {
                (Some(a), Some(b)) if a == b => sums.same += 1,
                (Some(_), Some(_)) => sums.differ += 1,
                (Some(_), None) => sums.gone += 1,
                _ => sums.added += 1,
            }
        }
        if found.first.len() < KEPT {
            found.first.extend(compare(&before, &now));
            found.first.truncate(KEPT);
        }
        Ok(())
    }
}

/// A batch with the files that its readings were sealed under.
struct OneBatch<'b> {
    batch: &'b BatchRecord,
    first: &'b BatchName,
    old: &'b BTreeMap<&'b str, &'b OldFile>,
}

impl OneBatch<'_> {
    /// The texts under which an event of an arrival was decided about last.
    fn digest<'r>(&self, readings: &Readings<'r>, label: &str, key: &Key) -> Option<&'r str> {
        let lane: &LaneId = &self.batch.lane;
        let is_its = |partition: &str| lane.arrival_of(partition) == (label, key.partition.as_str());
        let partition: Arc<str> =
            self.batch.ranges.0.iter().map(|range| Arc::clone(&range.partition)).find(|p| is_its(p))?;
        let newest = readings.newest(self.first, &key.station, &partition, Position::at(key.position))?;
        newest.texts.as_deref()
    }
}

/// Whether a landing has the same rows of the same records by two plans.
fn equal(label: &str, (old, was): (&Plan, &Rehearsal), (new, is): (&Plan, &Rehearsal)) -> bool {
    let view = |plan: &Plan, rehearsal: &'_ Rehearsal| {
        plan.landings.iter().position(|landing| landing.label == label).map(|place| {
            let view = &rehearsal.landings[place];
            (view.rows.clone(), view.records.clone(), view.folders.clone())
        })
    };
    // Columns of the same names and types, and the same values.
    view(old, was) == view(new, is)
}

fn rows_of(plan: &Plan, rehearsal: &Rehearsal, label: &str) -> u64 {
    let place = plan.landings.iter().position(|landing| landing.label == label);
    place.map_or(0, |place| rehearsal.landings[place].records.len() as u64)
}

fn as_json(name: &str, found: &Found) -> serde_json::Value {
    let landing = |(label, sums): (&String, &Sums)| {
        json!({
            "landing": label, "same": sums.same, "differ": sums.differ, "no_longer": sums.gone, "in_addition": sums.added,
        })
    };
    json!({
        "pipeline": name,
        "events": found.events,
        "batches": found.batches,
        "landings": found.landings.iter().map(landing).collect::<Vec<_>>(),
        "differences": documents(&found.first),
        "left_out": found.left_out.iter().map(|(why, batches)| json!({ "why": why, "batches": batches })).collect::<Vec<_>>(),
        "stopped": found.stopped,
    })
}

fn as_text(name: &str, found: &Found) -> String {
    let mut out = format!(
        "{}: {} in {} compared with what has landed\n",
        style::bold(name),
        show_many(found.events, "event"),
        show_many(found.batches, "batch"),
    );
    if found.stopped {
        out.push_str(&format!("  {} stopped before the end\n", style::warn("!")));
    }
    for (why, batches) in &found.left_out {
        out.push_str(&format!("  {} not compared, of {}: {why}\n", style::warn("!"), show_many(*batches, "batch")));
    }
    if found.landings.is_empty() {
        return out;
    }
    let mut table = Table::new(&[
        ("  landing", Align::Left),
        ("same", Align::Right),
        ("differ", Align::Right),
        ("no longer", Align::Right),
        ("in addition", Align::Right),
    ]);
    let marked = |count: u64| if count == 0 { "0".to_string() } else { style::warn(&show_count(count)) };
    for (label, sums) in &found.landings {
        table.row(vec![
            format!("  {label}"),
            show_count(sums.same),
            marked(sums.differ),
            marked(sums.gone),
            marked(sums.added),
        ]);
    }
    out.push_str(&format!("\n{}", table.render(screen_width())));
    match found.numbers {
        Some((low, high)) if found.differs() => {
            let text = format!("sluice replay {name} --batches {low}-{high} --reason \"…\"");
            out.push_str(&format!("\n{}", listed(&found.first, "landed")));
            out.push_str(&format!("\nto land it this way: {}\n", style::command(&text)));
        }
        _ => out.push_str(&format!("\n{} nothing would be different\n", style::good("✓"))),
    }
    out
}
