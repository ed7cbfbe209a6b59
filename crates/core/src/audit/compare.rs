//! Compares one mirror with its source while both may change.
//!
//! Rows are read from the source under one snapshot, which stands at a place of the log, and then from the mirror.
//! Where they differ, the mirror may be behind, or ahead already. So the rows that differ are read once more: the
//! source again, the mirror after all that stands before the source's place has landed, and the source a second time. A
//! row that is the same at the source both times, and that the mirror has otherwise in between, differs.

use crate::context::with_context;
use crate::event::{Chunk, Position};
use crate::failure::{Failure, Outcome};
use crate::formats::Decoder;
use crate::kinds::{ChangeSupport, LaneReader, Read, ReadLimit, Settings, Stored};
use crate::plan::{ArrivalPlan, EventPlan, LandingPlan, Plan, Surroundings};

use super::{Comparable, Difference, Differing, Row, Rows, Sums, differences};

/// How often rows that change all the time are read again.
const ROUNDS: usize = 4;

const LIMIT: ReadLimit = ReadLimit { records: 10_000, bytes: 4 << 20, ends: false };

/// A mirror of a table, with what is needed to read both sides.
pub struct Mirror<'p> {
    event: &'p EventPlan,
    /// The landing.
    pub landing: &'p LandingPlan,
    /// The arrival of this one table.
    pub arrival: &'p ArrivalPlan,
    /// The part of its rows that is compared.
    pub compared: Comparable,
}

/// Which side is being read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// The table at the source.
    Source,
    /// The table that it lands in.
    Mirror,
}

/// What was found.
#[derive(Clone, Debug, Default)]
pub struct Audited {
    /// Rows at the source that are to be in the mirror.
    pub source: u64,
    /// Rows in the mirror.
    pub mirror: u64,
    /// Rows at the source that cannot be read or computed: they do not land.
    pub rejected: u64,
    /// Rows at the source that do not meet the landing's condition.
    pub filtered: u64,
    /// Rows that differ.
    pub differences: Vec<Difference>,
    /// Rows in parts that differ, beyond those that can be distinguished.
    pub beyond: u64,
    /// Rows that changed each time they were read: nothing can be said about them.
    pub changing: u64,
    /// Whether what differs may be changes that have not landed yet, or that came meanwhile.
    pub unsure: bool,
}

impl Audited {
    /// Whether both sides are the same.
    pub fn is_same(&self) -> bool {
        self.differences.is_empty() && self.beyond == 0
    }
}

impl<'p> Mirror<'p> {
    /// The mirrors of a plan whose feeds are split, each with why it cannot be compared where that is so.
    pub fn of(plan: &'p Plan) -> Vec<(&'p LandingPlan, Result<Self, String>)> {
        let mut found = Vec::new();
        for arrival in plan.arrivals.iter().filter(|a| a.kind.is_feed()) {
            let event = &plan.events[arrival.event];
            let landings = event.landings.iter().map(|place| &plan.landings[*place]);
            for landing in landings.filter(|l| l.kind.takes(&l.options) == ChangeSupport::Mirror) {
                let mirror = Comparable::of(event, landing).map(|compared| Self { event, landing, arrival, compared });
                found.push((landing, mirror));
            }
        }
        found
    }

    /// Reads the source; gives the place of the log at which it was read, and how many rows are not to be in the mirror:
    /// rejected ones, and those that do not meet the condition.
    fn source(&self, around: &Surroundings, mut each: impl FnMut(Row)) -> Outcome<(Position, u64, u64)> {
        let intake = self.arrival.view(around)?;
        let mut reader: Box<dyn LaneReader> =
            intake.rows()?.ok_or_else(|| Failure::internal("a change feed has no rows to read"))?;
        let contract = self.event.contract.as_ref();
        let contract = contract.ok_or_else(|| Failure::internal("an event that arrives has a contract"))?;
        let mut decoder = self.arrival.format()?.decoder(contract);
        let (mut place, mut rejected, mut filtered) = (Position::at(0), 0, 0);
        loop {
            let chunk = match reader.read(LIMIT)? {
                Read::Chunk(chunk) => chunk,
                Read::CaughtUp => return Ok((place, rejected, filtered)),
                Read::Pending => continue,
                Read::Away(what) => return Err(Failure::unreachable(what)),
                Read::Halt(failure) | Read::Stuck(failure) => return Err(failure),
            };
            place = chunk.to;
            if chunk.records > 0 {
                let (bad, left) = self.transform(decoder.as_mut(), &chunk, &mut each)?;
                rejected += bad;
                filtered += left;
            }
        }
    }

    /// The rows of a chunk that would land; gives how many rows are rejected and filtered.
    fn transform(&self, decoder: &mut dyn Decoder, chunk: &Chunk, each: &mut impl FnMut(Row)) -> Outcome<(u64, u64)> {
        let decoded = decoder.decode(chunk);
        let spans = &decoded.rows.spans;
        let rows = with_context(decoded.rows.batch, chunk, spans, &self.event.context, None);
        let result = self.landing.transform.apply(&rows, 0);
        let found = self.compared.rows(&result.batch);
        let found = found.map_err(|name| Failure::internal(format!("{} lacks `{name}`", self.landing.label)))?;
        let key_of = |row: usize| {
            let changes = chunk.changes.as_ref()?;
            let key = changes.at(spans.get(row)?.start)?.key?;
            Some(String::from_utf8_lossy(key.of(&changes.side)).into_owned())
        };
        for (number, row) in found.into_iter().enumerate() {
            let from =
                result.origin.as_ref().and_then(|o| o.get(number)).map_or(Some(number), |n| usize::try_from(*n).ok());
            each(Row { origin: from.and_then(key_of), ..row });
        }
        Ok((decoded.rejects.len() as u64 + result.faults.len() as u64, result.filtered))
    }

    /// Reads the mirror.
    fn landed(&self, around: &Surroundings, mut each: impl FnMut(Row)) -> Outcome<()> {
        let settings: Settings = around.settings(&self.landing.connection, &self.landing.options);
        let rows = self.landing.kind.mirrored(&settings, &self.compared.columns)?;
        let mut rows: Box<dyn Stored> =
            rows.ok_or_else(|| Failure::internal(format!("{} has no rows to compare", self.landing.label)))?;
        while let Some(batch) = rows.next()? {
            let found = self.compared.rows(&batch).map_err(|name| {
                Failure::findings(format!("the table of {} has no column `{name}`", self.landing.label))
                    .with_help("`sluice check` compares the table with the rows that will land")
            })?;
            found.into_iter().for_each(&mut each);
        }
        Ok(())
    }
}

/// Compares a mirror with its source. `has_landed` waits until all that stands before a place has landed, and says whether it
/// has; `reading` hears which side is read, and how many rows of it have been.
///
/// # Errors
/// Where one of the sides cannot be read.
pub fn audit(
    mirror: &Mirror<'_>,
    around: &Surroundings,
    has_landed: &mut dyn FnMut(Position) -> Outcome<bool>,
    reading: &mut dyn FnMut(Side, u64),
) -> Outcome<Audited> {
    let (mut source, mut landed) = (Sums::default(), Sums::default());
    let (_, rejected, filtered) = mirror.source(around, |row| {
        source.add(&row);
        reading(Side::Source, source.rows);
    })?;
    mirror.landed(around, |row| {
        landed.add(&row);
        reading(Side::Mirror, landed.rows);
    })?;
    let found = Audited { source: source.rows, mirror: landed.rows, rejected, filtered, ..Audited::default() };
    let differing = source.differing(&landed);
    if differing.is_empty() {
        return Ok(found);
    }
    settle(mirror, around, &differing, has_landed, found)
}

/// Separates rows that differ from those that have not landed yet.
fn settle(
    mirror: &Mirror<'_>,
    around: &Surroundings,
    differing: &Differing,
    has_landed: &mut dyn FnMut(Position) -> Outcome<bool>,
    mut found: Audited,
) -> Outcome<Audited> {
    let source = |rows: &mut Rows| {
        let (place, ..) = mirror.source(around, |row| {
            if differing.has(&row) {
                rows.add(row);
            }
        })?;
        Ok::<Position, Failure>(place)
    };
    for round in 1..=ROUNDS {
        let (mut before, mut landed, mut after) = (Rows::default(), Rows::default(), Rows::default());
        let place = source(&mut before)?;
        found.unsure = !has_landed(place)?;
        mirror.landed(around, |row| {
            if differing.has(&row) {
                landed.add(row);
            }
        })?;
        let all = differences(&before, &landed);
        found.beyond = before.beyond.max(landed.beyond);
        if found.unsure {
            found.differences = all;
            return Ok(found);
        }
        if !all.is_empty() {
            source(&mut after)?;
        }
        let is_same = |d: &Difference| before.get(&d.key) == after.get(&d.key);
        let (real, changing): (Vec<Difference>, Vec<Difference>) = all.into_iter().partition(is_same);
        found.differences = real;
        found.changing = changing.len() as u64;
        if changing.is_empty() || round == ROUNDS {
            break;
        }
    }
    // Where so much changes that rows cannot be distinguished, nothing is said about them.
    found.unsure = found.beyond > 0 && found.differences.is_empty();
    Ok(found)
}
