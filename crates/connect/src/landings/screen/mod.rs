//! Landing kind `screen`: rows as a table or as JSON Lines on standard output, for looking.
//!
//! A terminal keeps no record, so after a crash in the middle of printing a batch is printed again: at least once.

mod publish;
mod stage;

use std::path::PathBuf;

use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::config::{ConnectionConfig, OptionSpec, Options, ValueKind};
use sluice_core::durable::Disk;
use sluice_core::failure::Outcome;
use sluice_core::kinds::{HeldBatch, Landing, LandingKind, Settings, Stage, StagedWork};
use sluice_core::plan::OutputColumn;
use sluice_core::problem::Problem;

const OPTIONS: &[OptionSpec] = &[
    OptionSpec::with_default("format", ValueKind::Choice(&["table", "jsonl"]), "table", "how rows are written"),
    OptionSpec::with_default(
        "cut",
        ValueKind::Integer { min: 0, max: 10_000 },
        "0",
        "table: cells are cut to this many characters; 0 never cuts",
    ),
];

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

    fn open(&self, settings: &Settings, label: &str) -> Outcome<Box<dyn Landing>> {
        let cut = usize::try_from(settings.options.integer("cut")).unwrap_or(0);
        Ok(Box::new(ScreenLanding {
            spool: settings.work.join("spool").join(label),
            as_table: settings.options.text("format").as_deref() != Some("jsonl"),
            cut: (cut > 0).then_some(cut),
            disk: Disk::default(),
        }))
    }
}

struct ScreenLanding {
    spool: PathBuf,
    as_table: bool,
    cut: Option<usize>,
    disk: Disk,
}

impl ScreenLanding {
    fn path(&self, lane: &LaneId, number: u64) -> PathBuf {
        self.spool.join(lane.as_str()).join(number.to_string())
    }
}

impl Landing for ScreenLanding {
    fn held(&self, _: &LaneId) -> Outcome<Option<HeldBatch>> {
        Ok(None)
    }

    fn stage(&self, batch: &BatchIdentity) -> Outcome<Box<dyn Stage>> {
        let path = self.path(&batch.lane, batch.number);
        stage::ScreenStage::create(path, self.as_table, self.cut, self.disk.clone())
    }

    fn discard(&self, lane: &LaneId, keep: &[u64]) -> Outcome<()> {
        let folder = self.spool.join(lane.as_str());
        let Ok(entries) = std::fs::read_dir(&folder) else { return Ok(()) };
        for entry in entries.flatten() {
            let number = entry.file_name().to_str().and_then(|n| n.parse::<u64>().ok());
            if !number.is_some_and(|n| keep.contains(&n)) {
                let _ = std::fs::remove_file(entry.path());
            }
        }
        Ok(())
    }

    fn publish(&self, batch: &BatchIdentity, _: &Ranges, work: &StagedWork) -> Outcome<()> {
        publish::print(&self.path(&batch.lane, batch.number), work)
    }
}
