//! What a batch is about to make visible, kept before the first file gets its name. Whoever takes over after the ledger
//! was lost can then bring to an end what was begun; without it, files would stand in the folder that no record names.

use std::fs;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use sluice_core::batch::{BatchIdentity, LaneId, Ranges};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::NotedBatch;

use super::record::LandedLine;
use super::stage::StagedFiles;
use super::{FilesLanding, publish};

/// What the names of these files end in; what stands before it is the lane.
pub(super) const BEGUN: &str = ".begun";

/// The version of the file's form.
const VERSION: u32 = 1;

/// The last batch of a lane that was begun to be published.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct BegunBatch {
    version: u32,
    pipeline: String,
    #[serde(flatten)]
    pub noted: NotedBatch,
    staged: StagedFiles,
}

fn place(landing: &FilesLanding, lane: &LaneId) -> PathBuf {
    landing.records().join(format!("{lane}{BEGUN}"))
}

/// Keeps what is about to happen; on return it is durable.
pub(super) fn keep(landing: &FilesLanding, batch: &BatchIdentity, ranges: &Ranges, staged: StagedFiles) -> Outcome<()> {
    let noted = NotedBatch { ledger: batch.ledger.clone(), number: batch.number, ranges: ranges.clone() };
    let begun = BegunBatch { version: VERSION, pipeline: batch.pipeline.clone(), noted, staged };
    let bytes = serde_json::to_vec(&begun).map_err(|e| Failure::internal(format!("a batch cannot be noted: {e}")))?;
    let place = place(landing, &batch.lane);
    let is_new = !place.exists();
    if is_new {
        landing.disk.make_folders(&landing.records())?;
    }
    landing.disk.write_file(&place, &bytes)?;
    if is_new {
        landing.disk.sync_folder(&landing.records())?;
    }
    Ok(())
}

/// The batch of a lane that was begun and that its record does not name.
pub(super) fn unfinished(landing: &FilesLanding, lane: &LaneId) -> Outcome<Option<BegunBatch>> {
    let path = place(landing, lane);
    let bytes = match fs::read(&path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(Failure::io("read", &path, &error)),
    };
    // What a crash tore was not followed by anything.
    let Ok(begun) = serde_json::from_slice::<BegunBatch>(&bytes) else { return Ok(None) };
    if begun.version > VERSION {
        let message = format!("the record {} was written by a newer version of sluice", path.display());
        return Err(Failure::findings(message).with_help("use that version"));
    }
    let last = landing.record(lane).last()?;
    let is_done = last.is_some_and(|l| l.ledger == begun.noted.ledger && l.number >= begun.noted.number);
    let exists = |path: &String| landing.root.join(path).exists();
    let is_there = begun.staged.files.iter().all(|f| exists(&f.staged) || exists(&f.path));
    Ok(Some(begun).filter(|_| !is_done && is_there))
}

/// Forgets what was begun, once nothing of it is visible.
pub(super) fn forget(landing: &FilesLanding, lane: &LaneId) -> Outcome<()> {
    let place = place(landing, lane);
    if !place.exists() {
        return Ok(());
    }
    landing.disk.remove_file(&place)?;
    landing.disk.sync_folder(&landing.records())
}

/// Brings to an end what a ledger that is lost had begun.
pub(super) fn finish(landing: &FilesLanding, lane: &LaneId) -> Outcome<()> {
    let Some(BegunBatch { pipeline, noted, staged, .. }) = unfinished(landing, lane)? else { return Ok(()) };
    let batch = BatchIdentity { ledger: noted.ledger, pipeline, lane: lane.clone(), number: noted.number };
    publish::make_visible(landing, &batch, &staged)?;
    landing.record(lane).add(&LandedLine::new(&batch, &noted.ranges, &staged))?;
    publish::clear(landing, &batch, &staged)
}
