//! Shows how a run gets on: a line on a terminal, or a log where there is none.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use sluice_core::batch::LaneId;
use sluice_core::drift::Drift;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::{LaneReader, Read, ReadLimit};
use sluice_core::printable;
use sluice_core::run::busy::Work;
use sluice_core::run::{BatchSummary, Observer, RunEvent, RunReport};
use sluice_core::units::{show_count, show_duration, show_many, show_size};

use crate::crew::figures::Figures;
use crate::crew::one::Seen;
use crate::{log, output};

/// One line on standard error that says what has been read and landed. Nothing where that is not a terminal.
pub(crate) struct RunProgress {
    bar: ProgressBar,
    pipeline: String,
    started: Instant,
    seen: Mutex<ProgressState>,
    /// What counts it too.
    figures: Option<Arc<Figures>>,
}

#[derive(Default)]
struct ProgressState {
    records: u64,
    bytes: u64,
    batches: u64,
    /// Of each lane that has reported: whether it has read everything there is.
    caught_up: HashMap<LaneId, bool>,
    /// The lanes whose source does not answer, and those whose batch waits for a store.
    sources_away: HashMap<LaneId, Away>,
    stores_away: HashMap<LaneId, Away>,
}

/// Something that does not answer.
struct Away {
    /// What it said.
    message: String,
    since: Instant,
}

impl ProgressState {
    fn has_caught_up(&self) -> bool {
        !self.caught_up.is_empty() && self.caught_up.values().all(|caught_up| *caught_up)
    }
}

impl RunProgress {
    pub(crate) fn new(pipeline: &str, seen: Seen<'_>) -> Self {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(10));
        let bar = match seen.bars {
            Some(bars) => bars.add(bar),
            None => bar,
        };
        bar.set_style(
            ProgressStyle::with_template("{spinner} {msg}").unwrap_or_else(|_| ProgressStyle::default_spinner()),
        );
        Self {
            bar,
            pipeline: pipeline.into(),
            started: Instant::now(),
            seen: Mutex::new(ProgressState::default()),
            figures: seen.figures.cloned(),
        }
    }

    /// Takes the line away.
    pub(crate) fn finish(&self) {
        self.bar.finish_and_clear();
    }

    /// Logs that the run begins.
    pub(crate) fn log_start(&self) {
        if log::is_on() {
            tracing::info!(pipeline = %self.pipeline, process = std::process::id(), "run started");
        }
    }

    /// Logs how the run ended: what it did, and why it stopped where it was not asked to.
    pub(crate) fn log_end(&self, report: Option<&RunReport>, why: Option<&Failure>) {
        if !log::is_on() {
            return;
        }
        let pipeline = self.pipeline.as_str();
        let seconds = self.started.elapsed().as_secs_f64();
        if let Some(failure) = why {
            let help = failure.help.as_deref().unwrap_or_default();
            tracing::error!(%pipeline, reason = %failure.message, %help, seconds, "run stopped");
        }
        if let Some(report) = report {
            let RunReport { batches, read, rejected, caught_up, .. } = report;
            tracing::info!(%pipeline, batches, read, rejected, caught_up, seconds, "run ended");
        }
    }

    /// Shows a text of its own line, or logs it.
    fn say(&self, text: &str, is_warning: bool) {
        let pipeline = self.pipeline.as_str();
        match (log::is_on(), is_warning) {
            (true, true) => tracing::warn!(%pipeline, "{text}"),
            (true, false) => tracing::info!(%pipeline, "{text}"),
            (false, _) => self.bar.suspend(|| output::note(&format!("{text}\n"))),
        }
    }

    fn log_batch(&self, batch: &BatchSummary) {
        if !log::is_on() {
            return;
        }
        let BatchSummary { identity, read, bytes, rejected, landed, took, .. } = batch;
        let (pipeline, seconds) = (self.pipeline.as_str(), took.as_secs_f64());
        let (lane, number) = (&identity.lane, identity.number);
        match rejected {
            0 => tracing::info!(%pipeline, %lane, number, read, bytes, rejected, landed, seconds, "batch settled"),
            _ => {
                tracing::warn!(%pipeline, %lane, number, read, bytes, rejected, landed, seconds, "batch settled, with rejects")
            }
        }
    }

    /// Says once that something does not answer, however many lanes wait for it.
    fn away(&self, known: &mut HashMap<LaneId, Away>, lane: LaneId, landing: Option<&str>, message: String) {
        if known.contains_key(&lane) {
            return;
        }
        if known.values().all(|other| other.message != message) {
            let text = format!("{message}; waiting, nothing is lost");
            match (log::is_on(), landing) {
                (true, Some(landing)) => tracing::warn!(pipeline = %self.pipeline, %lane, landing, "{text}"),
                (true, None) => {
                    tracing::warn!(pipeline = %self.pipeline, %lane, arrival = lane.arrival(), "{text}");
                }
                (false, _) => self.say(&text, true),
            }
        }
        known.insert(lane, Away { message, since: Instant::now() });
    }

    /// Says that what a lane waited for answers again, once nothing else waits for it.
    fn back(&self, known: &mut HashMap<LaneId, Away>, lane: &LaneId) {
        let Some(away) = known.remove(lane) else { return };
        if known.values().all(|other| other.message != away.message) {
            self.say(
                &format!("it answers again after {}; the run continues", show_duration(away.since.elapsed())),
                false,
            );
        }
    }

    fn draw(&self, seen: &ProgressState) {
        if self.bar.is_hidden() {
            return;
        }
        let seconds = self.started.elapsed().as_secs_f64().max(0.001);
        let rate = sluice_core::units::show_size(per_second(seen.bytes, seconds));
        let away = seen.sources_away.values().chain(seen.stores_away.values()).min_by_key(|away| away.since);
        let state = match away {
            Some(Away { message, since }) => format!(" · {message}; waiting for {}", show_duration(since.elapsed())),
            None if seen.has_caught_up() => " · caught up, waiting for more".into(),
            None => String::new(),
        };
        let text = format!(
            "{}: {} events read · {} · {rate}/s · {} settled{state}",
            self.pipeline,
            show_count(seen.records),
            show_size(seen.bytes),
            show_many(seen.batches, "batch"),
        );
        self.bar.set_message(printable::line(&text).into_owned());
        self.bar.tick();
    }
}

/// A rate as a whole number.
#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a positive rate for showing")]
pub(crate) fn per_second(count: u64, seconds: f64) -> u64 {
    (count as f64 / seconds.max(1e-9)).min(1e18) as u64
}

impl Observer for RunProgress {
    fn busy(&self, lane: &LaneId, work: Work, time: Duration) {
        if let Some(figures) = &self.figures {
            figures.busy(lane, work, time);
        }
    }

    fn on(&self, event: RunEvent) {
        if let Some(figures) = &self.figures {
            figures.note(&event);
        }
        let mut seen = self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        match event {
            RunEvent::Notice(text) => self.say(&text, false),
            // At a terminal, the table of rejects at the end shows such values.
            RunEvent::Drift { drift: Drift::Unfit, .. } if !log::is_on() => {}
            RunEvent::Drift { event, message, .. } => self.say(&format!("{event}: {message}"), true),
            RunEvent::Recovered(count) => {
                self.say(&format!("finished {} that an earlier run had sealed", show_many(count, "batch")), false);
            }
            RunEvent::Read { lane, records, bytes } => {
                seen.records += records;
                seen.bytes += bytes;
                tracing::debug!(pipeline = %self.pipeline, %lane, records, bytes, "events read");
                self.back(&mut seen.sources_away, &lane);
                seen.caught_up.insert(lane, false);
            }
            RunEvent::Settled(batch) => {
                seen.batches += 1;
                self.log_batch(&batch);
            }
            RunEvent::CaughtUp(lane) => {
                self.back(&mut seen.sources_away, &lane);
                let known = seen.caught_up.insert(lane.clone(), true) == Some(true);
                if !known && log::is_on() {
                    tracing::info!(pipeline = %self.pipeline, %lane, "caught up");
                }
            }
            RunEvent::SourceAway { lane, message } => self.away(&mut seen.sources_away, lane, None, message),
            RunEvent::StoreAway { lane, landing, message } => {
                self.away(&mut seen.stores_away, lane, Some(&landing), message);
            }
            RunEvent::StoreBack(lane) => self.back(&mut seen.stores_away, &lane),
        }
        self.draw(&seen);
    }
}

/// A count on standard error while something long is read. Nothing where that is not a terminal.
pub(crate) struct Counting {
    bar: ProgressBar,
    what: &'static str,
}

impl Counting {
    pub(crate) fn new(what: &'static str) -> Self {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(10));
        bar.set_style(
            ProgressStyle::with_template("{spinner} {msg}").unwrap_or_else(|_| ProgressStyle::default_spinner()),
        );
        Self { bar, what }
    }

    /// Shows how far it is.
    pub(crate) fn at(&self, count: u64) {
        self.bar.set_message(format!("{} {}", show_count(count), self.what));
        self.bar.tick();
    }

    /// Takes the line away.
    pub(crate) fn finish(&self) {
        self.bar.finish_and_clear();
    }
}

/// A reader that shows how much it has read.
pub(crate) struct CountingReader<'r> {
    inner: &'r mut dyn LaneReader,
    counting: Counting,
    read: u64,
}

impl<'r> CountingReader<'r> {
    pub(crate) fn new(inner: &'r mut dyn LaneReader) -> Self {
        Self { inner, counting: Counting::new("events looked at"), read: 0 }
    }
}

impl LaneReader for CountingReader<'_> {
    fn read(&mut self, limit: ReadLimit) -> Outcome<Read> {
        let read = self.inner.read(limit)?;
        if let Read::Chunk(chunk) = &read {
            self.read += chunk.records;
            self.counting.at(self.read);
        }
        Ok(read)
    }

    fn remarks(&self) -> Vec<String> {
        self.inner.remarks()
    }
}

impl Drop for CountingReader<'_> {
    fn drop(&mut self) {
        self.counting.finish();
    }
}
