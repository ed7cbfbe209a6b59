//! Landing kind `screen`: rows as a table or as JSON Lines on standard output, for looking.
//!
//! A terminal keeps no record, so after a crash in the middle of printing a batch is printed again: at least once.

mod publish;
mod stage;

use std::io::Write;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::columns::OutputColumn;
use sluice_core::config::{ConnectionConfig, OptionSpec, Options, ValueKind};
use sluice_core::durable::Disk;
use sluice_core::failure::Outcome;
use sluice_core::kinds::{
    BatchOrder, Holdings, Landing, LandingKind, NotedBatch, Published, Settings, Stage, StagedWork,
};
use sluice_core::problem::Problem;

use super::spool;

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default("format", ValueKind::Choice(&["table", "jsonl"]), "table", "how rows are written"),
    OptionSpec::with_default(
        "cut",
        ValueKind::Integer { min: 0, max: 10_000 },
        "0",
        "table: cells are cut to this many characters; 0 never cuts",
    ),
];

/// Whether rows are printed on standard error.
static ELSEWHERE: AtomicBool = AtomicBool::new(false);

/// From now on rows are printed on standard error: standard output is for a report that programs read.
pub fn print_on_standard_error() {
    ELSEWHERE.store(true, Ordering::Relaxed);
}

/// The kind.
pub struct Screen;

impl LandingKind for Screen {
    fn name(&self) -> &'static str {
        "screen"
    }

    fn scheme(&self) -> &'static str {
        "screen"
    }

    fn about(&self) -> &'static str {
        "standard output, for looking: whole rows as a table or as JSON Lines"
    }

    fn guarantee(&self) -> &'static str {
        "at least once: a batch is printed again after a crash in the middle of it"
    }

    fn options(&self) -> &'static [OptionSpec] {
        OPTIONS
    }

    fn exclusive_place(&self, _: &ConnectionConfig, _: &Options) -> Option<String> {
        None
    }

    fn check(&self, _: &Settings, _: &[OutputColumn]) -> Vec<Problem> {
        Vec::new()
    }

    fn open(&self, settings: &Settings, label: &str, _: &[OutputColumn]) -> Outcome<Box<dyn Landing>> {
        let cut = usize::try_from(settings.options.integer("cut")).unwrap_or(0);
        Ok(Box::new(ScreenLanding {
            spool: settings.work.join("spool").join(label),
            as_table: settings.options.text("format").as_deref() != Some("jsonl"),
            cut: (cut > 0).then_some(cut),
            disk: Disk::private(),
            out: match ELSEWHERE.load(Ordering::Relaxed) {
                true => Arc::new(Mutex::new(std::io::stderr())),
                false => Arc::new(Mutex::new(std::io::stdout())),
            },
        }))
    }
}

struct ScreenLanding {
    spool: PathBuf,
    as_table: bool,
    cut: Option<usize>,
    disk: Disk,
    /// Standard output, but for tests.
    out: Arc<Mutex<dyn Write + Send>>,
}

impl ScreenLanding {
    fn path(&self, batch: &BatchIdentity) -> PathBuf {
        spool::path(&self.spool, batch)
    }
}

impl Landing for ScreenLanding {
    fn noted(&self, _: &LaneId) -> Outcome<Option<NotedBatch>> {
        Ok(None)
    }

    fn holdings(&self, _: &[LaneId]) -> Outcome<Holdings> {
        Ok(Holdings::default())
    }

    fn stage(&self, batch: &BatchIdentity, _: &BatchOrder) -> Outcome<Box<dyn Stage>> {
        let path = self.path(batch);
        stage::ScreenStage::create(path, self.as_table, self.cut, self.disk.clone())
    }

    fn discard(&self, ledger: &str, lane: &LaneId, keep: &[u64]) -> Outcome<()> {
        spool::discard(&self.spool, ledger, lane, keep, &self.disk)
    }

    fn publish(&self, batch: &BatchIdentity, _: &Ranges, work: &StagedWork) -> Outcome<Published> {
        let mut out = self.out.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        publish::print(&spool::sealed(&self.spool, batch), work, &mut *out)?;
        Ok(Published::default())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::landings::suite::{self, Store};

    struct ScreenStore {
        folder: tempfile::TempDir,
        shown: Arc<Mutex<Vec<u8>>>,
        as_table: bool,
    }

    impl Store for ScreenStore {
        fn landing(&self) -> Box<dyn Landing> {
            Box::new(ScreenLanding {
                spool: self.folder.path().into(),
                as_table: self.as_table,
                cut: None,
                disk: Disk::default(),
                out: self.shown.clone(),
            })
        }

        fn visible(&self) -> Vec<String> {
            let shown = String::from_utf8(self.shown.lock().unwrap().clone()).unwrap();
            let text = |line: &str| match serde_json::from_str::<serde_json::Value>(line) {
                Ok(value) => value["text"].as_str().unwrap().to_string(),
                Err(_) => line.split(' ').next().unwrap().to_string(),
            };
            let is_row = |text: &String| text != "text" && !text.starts_with('─');
            let mut rows: Vec<String> = shown.lines().map(text).filter(is_row).collect();
            rows.sort();
            rows
        }

        fn has_record(&self) -> bool {
            false
        }
    }

    #[rstest]
    fn the_shared_suite(
        #[values(true, false)] as_table: bool,
        #[values(
            suite::rows_appear_when_published,
            suite::publishing_twice_lands_once,
            suite::unsealed_work_is_forgotten,
            suite::an_empty_batch_lands,
            suite::ledgers_do_not_touch_each_others_work,
            suite::holdings_report_all_batches
        )]
        test: fn(&dyn Store),
    ) {
        test(&ScreenStore { folder: tempfile::tempdir().unwrap(), shown: Arc::default(), as_table });
    }
}
