//! Some real events against the contract and through the landings: likely mistakes that types alone do not show.

use std::collections::{BTreeSet, HashMap, HashSet};

use arrow_array::Array as _;
use arrow_array::cast::AsArray as _;
use arrow_array::types::TimestampMicrosecondType;
use sluice_core::config::EventConfig;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Fits;
use sluice_core::plan::Plan;
use sluice_core::problem::{Problem, Problems};
use sluice_core::rehearse::{Rehearsal, StopCause, reasons, rehearse_fitting};
use sluice_core::reject::Reason;
use sluice_core::run::Stop;
use sluice_core::sample::take;
use sluice_core::types::SqlType;
use sluice_core::units::{show_count, show_many};
use sluice_core::values::time::show_timestamp;

use crate::output::rows::value_text;
use crate::output::times;
use crate::project::{LoadedPipeline, Project};

/// A few events prove nothing about what is always so.
const ENOUGH: usize = 20;

/// Clocks may differ by so many microseconds.
const CLOCKS: i64 = 300_000_000;

/// What was looked at of one event.
pub(super) struct SampledEvent {
    pub pipeline: String,
    pub event: String,
    pub events: u64,
    pub rejected: u64,
}

impl SampledEvent {
    pub(super) fn describe(&self) -> String {
        match (self.events, self.rejected) {
            (0, _) => "no event there yet".into(),
            (n, 0) => format!("{} looked at, all good", show_many(n, "event")),
            (n, bad) => format!("{} looked at, {} rejected", show_many(n, "event"), show_count(bad)),
        }
    }
}

/// Looks at events of each arrival of a pipeline.
pub(super) fn look(
    project: &Project,
    pipeline: &LoadedPipeline,
    events: u64,
    found: &mut Problems,
) -> Outcome<Vec<SampledEvent>> {
    let plan = &pipeline.plan;
    let around = project.surroundings();
    plan.read_secrets(around.secrets.as_ref())?;
    let mut chunks = Vec::new();
    for (index, arrival) in plan.arrivals.iter().enumerate() {
        let mut reader = arrival.view(&around)?.sample(events)?;
        let sample = take(reader.as_mut(), events, None, &Stop::new())?;
        chunks.extend(sample.chunks.into_iter().map(|chunk| (index, chunk)));
    }
    // A store that cannot be reached is reported elsewhere.
    let fits: Fits =
        plan.landings.iter().filter_map(|l| Some((l.label.clone(), l.fit(&around).ok().flatten()?))).collect();
    let rehearsal = rehearse_fitting(plan, chunks.iter().map(|(i, c)| (*i, c)), times::now(), &fits)?;
    let looker = SampleChecker { pipeline, plan, rehearsal: &rehearsal };
    looker.rejects(found);
    for (index, event) in plan.events.iter().enumerate() {
        let Some(config) = pipeline.config.events.iter().find(|e| e.name == event.name) else { continue };
        looker.nulls(index, found);
        looker.key(index, config, found);
        looker.time(index, config, found);
    }
    looker.folders(found);
    let arriving = plan.events.iter().filter(|e| e.contract.is_some());
    Ok(arriving
        .map(|event| {
            let count = rehearsal.counts.iter().find(|c| c.station == event.name);
            SampledEvent {
                pipeline: plan.pipeline.clone(),
                event: event.name.clone(),
                events: count.map_or(0, |c| c.input),
                rejected: count.map_or(0, |c| c.rejected),
            }
        })
        .collect())
}

/// A sample that could not be taken: what is wrong outside is not a mistake of the file.
pub(super) fn unreadable(pipeline: &LoadedPipeline, failure: &Failure) -> Problem {
    let help = failure.help.clone().unwrap_or_else(|| "look again, or leave the events alone with --offline".into());
    let place = pipeline.config.name_place.clone();
    match failure.kind {
        // A run would stop with it as well.
        FailureKind::Configuration => Problem::error("place.missing", failure.message.clone(), place),
        _ => {
            let message = format!("its events cannot be looked at: {}", failure.message);
            Problem::warning("place.missing", message, place)
        }
    }
    .with_help(help)
}

struct SampleChecker<'a> {
    pipeline: &'a LoadedPipeline,
    plan: &'a Plan,
    rehearsal: &'a Rehearsal,
}

impl SampleChecker<'_> {
    /// How to look at a record of the sample.
    fn follow(&self, record: usize) -> String {
        let (name, all) = (&self.plan.pipeline, &self.rehearsal.records);
        if all[record].is_made {
            return format!("sluice rehearse {name} shows what would land");
        }
        let sampled = self.rehearsal.arrived().iter().filter(|r| r.arrival == all[record].arrival).count();
        let number = record + 1;
        format!("follow one: sluice rehearse {name} --events {} --trace {number}", sampled.max(number))
    }

    /// What would be rejected, at the field or column at fault.
    fn rejects(&self, found: &mut Problems) {
        for count in &self.rehearsal.counts {
            for (fate, rejected, first) in reasons(self.rehearsal, &count.station) {
                let StopCause::Rejected { reason, field, message } = fate else { continue };
                let event = self.plan.events.iter().find(|e| e.name == count.station);
                let contract = event.and_then(|e| e.contract.as_ref());
                let declared = contract.and_then(|c| c.fields.iter().find(|f| Some(&f.name) == field.as_ref()));
                let place = declared.map_or_else(|| self.station_place(&count.station), |f| f.place.clone());
                let what = field.map(|f| format!("{f}: ")).unwrap_or_default();
                let events = format!("{} of {}", show_count(rejected), show_many(count.input, "event"));
                let help = match reason {
                    Reason::LATE => format!("raise `late` if such events should count; {}", self.follow(first)),
                    _ => self.follow(first),
                };
                found.add(
                    Problem::warning(
                        "sample.rejects",
                        format!("{events} would be rejected ({}): {what}{message}", reason.word()),
                        place,
                    )
                    .with_label(reason.word())
                    .with_help(help),
                );
            }
        }
    }

    fn station_place(&self, station: &str) -> sluice_core::problem::Place {
        let events = &self.pipeline.config.events;
        let landings =
            events.iter().flat_map(|e| e.landings.iter().map(move |l| (format!("{}.{}", e.name, l.name), l)));
        let landing = landings.into_iter().find(|(label, _)| label == station).map(|(_, l)| l.place.clone());
        let event = || events.iter().find(|e| e.name == station).map(|e| e.place.clone());
        landing.or_else(event).unwrap_or_else(|| self.pipeline.config.name_place.clone())
    }

    fn nulls(&self, index: usize, found: &mut Problems) {
        let event = &self.plan.events[index];
        let rows = &self.rehearsal.events[index].rows;
        let Some(contract) = &event.contract else { return };
        if rows.num_rows() < ENOUGH {
            return;
        }
        for (field, column) in contract.fields.iter().zip(rows.columns()) {
            if column.null_count() == rows.num_rows() {
                let path = sluice_core::contract::join_path(&field.path);
                found.add(
                    Problem::warning(
                        "sample.null",
                        format!(
                            "`{}` had no value in any of {}",
                            field.name,
                            show_many(rows.num_rows() as u64, "event")
                        ),
                        field.place.clone(),
                    )
                    .with_label("always null")
                    .with_help(format!(
                        "is `{path}` the right name? sluice peek {}.{} lists the names there are",
                        self.plan.pipeline, event.name
                    )),
                );
            }
        }
    }

    fn key(&self, index: usize, config: &EventConfig, found: &mut Problems) {
        let event = &self.plan.events[index];
        let rows = &self.rehearsal.events[index].rows;
        if event.key.is_empty() {
            return;
        }
        let mut seen = HashSet::new();
        let (mut doubled, mut without, mut first) = (0, 0, None);
        for row in 0..rows.num_rows() {
            let values: Option<Vec<String>> = event.key.iter().map(|c| value_text(rows, *c, row)).collect();
            match values {
                None => without += 1,
                Some(values) => {
                    if !seen.insert(values.clone()) {
                        doubled += 1;
                        first.get_or_insert(values.join(", "));
                    }
                }
            }
        }
        if let Some(first) = first {
            found.add(
                Problem::warning(
                    "sample.key",
                    format!("{} share their key with another event, such as {first}", show_many(doubled, "event")),
                    config.key.place.clone(),
                )
                .with_label("not unique")
                .with_help("name more fields: key = [\"FIELD\", \"FIELD\"]"),
            );
        }
        if without > 0 {
            found.add(
                Problem::warning(
                    "sample.key",
                    format!("{} have a key that is null", show_many(without, "event")),
                    config.key.place.clone(),
                )
                .with_help("a key must never be null"),
            );
        }
    }

    fn time(&self, index: usize, config: &EventConfig, found: &mut Problems) {
        let event = &self.plan.events[index];
        let (Some(column), Some(time)) = (event.time, &config.time) else { return };
        if event.columns[column].ty != SqlType::Timestamptz {
            return;
        }
        let rows = &self.rehearsal.events[index].rows;
        let values = rows.column(column).as_primitive::<TimestampMicrosecondType>();
        let limit = self.rehearsal.now + CLOCKS;
        let late: Vec<i64> = values.iter().flatten().filter(|v| *v > limit).collect();
        let Some(latest) = late.iter().max() else { return };
        found.add(
            Problem::warning(
                "sample.time",
                format!(
                    "{} of {} lie in the future, the latest at {}",
                    show_count(late.len() as u64),
                    show_many(rows.num_rows() as u64, "event"),
                    show_timestamp(*latest)
                ),
                time.place.clone(),
            )
            .with_label("in the future")
            .with_help("is its format right? epoch_s, epoch_ms and epoch_us differ by a factor of 1000; a text without a zone is read as UTC"),
        );
    }

    /// Paths that give nearly every row a folder of its own.
    fn folders(&self, found: &mut Problems) {
        const MANY: usize = 50;
        let mut named: HashMap<usize, BTreeSet<&str>> = HashMap::new();
        for (index, view) in self.rehearsal.landings.iter().enumerate() {
            named.insert(index, view.folders.iter().map(AsRef::as_ref).collect());
        }
        for (index, landing) in self.plan.landings.iter().enumerate() {
            let rows = self.rehearsal.landings[index].records.len();
            let folders = named[&index].len();
            if folders >= MANY && folders * 10 > rows {
                found.add(
                    Problem::warning(
                        "sample.folders",
                        format!(
                            "{} make {}, each with a file of its own",
                            show_many(rows as u64, "row"),
                            show_many(folders as u64, "folder")
                        ),
                        landing.options.place_of("path"),
                    )
                    .with_label("too fine")
                    .with_help(
                        "leave out the column with the many values, or cut time more coarsely: {COLUMN:%Y/%m/%d}",
                    ),
                );
            }
        }
    }
}
