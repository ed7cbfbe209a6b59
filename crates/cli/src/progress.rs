//! Shows on a terminal how a run gets on.

use std::sync::Mutex;
use std::time::Instant;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use sluice_core::failure::Outcome;
use sluice_core::kinds::{LaneReader, Read, ReadLimit};
use sluice_core::printable;
use sluice_core::run::{Observer, RunEvent};
use sluice_core::units::{show_count, show_duration, show_many, show_size};

use crate::output;

/// One line on standard error that says what has been read and landed. Nothing where that is no terminal.
pub(crate) struct RunProgress {
    bar: ProgressBar,
    pipeline: String,
    started: Instant,
    seen: Mutex<Seen>,
}

#[derive(Default)]
struct Seen {
    records: u64,
    bytes: u64,
    batches: u64,
    caught_up: bool,
    /// The source and the store, where they do not answer: what they said, and since when.
    source_away: Option<(String, Instant)>,
    store_away: Option<(String, Instant)>,
}

impl RunProgress {
    pub(crate) fn new(pipeline: &str) -> Self {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(10));
        bar.set_style(
            ProgressStyle::with_template("{spinner} {msg}").unwrap_or_else(|_| ProgressStyle::default_spinner()),
        );
        Self { bar, pipeline: pipeline.into(), started: Instant::now(), seen: Mutex::new(Seen::default()) }
    }

    /// Takes the line away.
    pub(crate) fn finish(&self) {
        self.bar.finish_and_clear();
    }

    /// Says once that something does not answer.
    fn away(&self, known: &mut Option<(String, Instant)>, what: String) {
        if known.is_none() {
            self.bar.suspend(|| output::note(&format!("{what}; waiting, nothing is lost\n")));
            *known = Some((what, Instant::now()));
        }
    }

    /// Says that what was away answers again.
    fn back(&self, known: &mut Option<(String, Instant)>) {
        if let Some((_, since)) = known.take() {
            let text = format!("it answers again after {}; going on", show_duration(since.elapsed()));
            self.bar.suspend(|| output::note(&format!("{text}\n")));
        }
    }

    fn draw(&self, seen: &Seen) {
        let seconds = self.started.elapsed().as_secs_f64().max(0.001);
        let rate = sluice_core::units::show_size(per_second(seen.bytes, seconds));
        let state = match seen.source_away.as_ref().or(seen.store_away.as_ref()) {
            Some((what, since)) => format!(" · {what}; waiting for {}", show_duration(since.elapsed())),
            None if seen.caught_up => " · caught up, waiting for more".into(),
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
    fn on(&self, event: RunEvent) {
        let mut seen = self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        match event {
            RunEvent::Notice(text) => self.bar.suspend(|| output::note(&format!("{text}\n"))),
            RunEvent::Recovered(count) => {
                let text = format!("finished {} that an earlier run had sealed", show_many(count, "batch"));
                self.bar.suspend(|| output::note(&format!("{text}\n")));
            }
            RunEvent::Read { records, bytes } => {
                seen.records += records;
                seen.bytes += bytes;
                seen.caught_up = false;
                self.back(&mut seen.source_away);
            }
            RunEvent::Settled(_) => seen.batches += 1,
            RunEvent::CaughtUp => {
                seen.caught_up = true;
                self.back(&mut seen.source_away);
            }
            RunEvent::SourceAway(what) => self.away(&mut seen.source_away, what),
            RunEvent::StoreAway(what) => self.away(&mut seen.store_away, what),
            RunEvent::StoreBack => self.back(&mut seen.store_away),
        }
        self.draw(&seen);
    }
}

/// A count on standard error while something long is read. Nothing where that is no terminal.
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
