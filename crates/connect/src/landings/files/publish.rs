//! Gives staged files their final names. May be called again after a crash at any point.

use std::collections::BTreeSet;
use std::path::Path;

use sluice_core::batch::{BatchIdentity, Ranges};
use sluice_core::fail_points::reach;
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::StagedWork;

use super::record::LandedLine;
use super::stage::StagedFiles;
use super::{FilesLanding, begun};

pub(super) fn publish(
    landing: &FilesLanding,
    batch: &BatchIdentity,
    ranges: &Ranges,
    work: &StagedWork,
) -> Outcome<()> {
    let staged = StagedFiles::read(work)?;
    let record = landing.record(&batch.lane);
    if record.last()?.is_some_and(|noted| noted.ledger == batch.ledger && noted.number >= batch.number) {
        // All of it was done before a crash; only the ledger does not know yet.
        return clear(landing, batch, &staged);
    }
    reach("publish.before");
    if !staged.files.is_empty() || !staged.removes.is_empty() {
        begun::keep(landing, batch, ranges, StagedFiles::read(work)?)?;
        reach("publish.begun");
    }
    make_visible(landing, batch, &staged)?;
    if let Some((shape, _)) = landing.typed.as_ref().filter(|_| !staged.files.is_empty()) {
        shape.keep(&batch.lane, &landing.records(), &landing.disk)?;
    }
    record.add(&LandedLine::new(batch, ranges, &staged))?;
    reach("publish.recorded");
    clear(landing, batch, &staged)
}

/// Gives the staged files their names, and takes away those that they replace.
pub(super) fn make_visible(landing: &FilesLanding, batch: &BatchIdentity, staged: &StagedFiles) -> Outcome<()> {
    let mut folders: BTreeSet<&Path> = BTreeSet::new();
    let finals: Vec<_> =
        staged.files.iter().map(|f| (landing.root.join(&f.staged), landing.root.join(&f.path))).collect();
    for (from, to) in &finals {
        if let Some(folder) = to.parent() {
            landing.disk.make_folders(folder)?;
            folders.insert(folder);
        }
        if from.exists() {
            landing.disk.rename(from, to)?;
            reach("publish.file_renamed");
        } else if !to.exists() {
            return Err(Failure::findings(format!("{batch}: its staged file {} is missing", from.display()))
                .with_help(
                    "it was removed from the hidden folder .sluice; put it back, or restore the folder from a backup",
                ));
        }
    }
    let gone: Vec<_> = staged.removes.iter().map(|path| landing.root.join(path)).collect();
    for path in &gone {
        landing.disk.remove_file(path)?;
        reach("publish.file_removed");
        folders.extend(path.parent());
    }
    for folder in folders {
        landing.disk.sync_folder(folder)?;
    }
    reach("publish.folders_synced");
    Ok(())
}

/// Removes every file of a batch that is given up, and those that it would have replaced.
pub(super) fn withdraw(landing: &FilesLanding, batch: &BatchIdentity, work: &StagedWork) -> Outcome<()> {
    let staged = StagedFiles::read(work)?;
    let paths = staged.files.iter().map(|f| &f.path).chain(&staged.removes);
    let visible: Vec<_> = paths.map(|path| landing.root.join(path)).filter(|path| path.exists()).collect();
    for path in &visible {
        landing.disk.remove_file(path)?;
    }
    for folder in visible.iter().filter_map(|path| path.parent()).collect::<BTreeSet<_>>() {
        landing.disk.sync_folder(folder)?;
    }
    begun::forget(landing, &batch.lane)?;
    clear(landing, batch, &staged)
}

pub(super) fn clear(landing: &FilesLanding, batch: &BatchIdentity, staged: &StagedFiles) -> Outcome<()> {
    let own = landing.staging(&batch.ledger, &batch.lane).join(batch.number.to_string());
    // Work of older versions was staged elsewhere.
    let others = staged.files.iter().filter_map(|f| Path::new(&f.staged).parent().map(Path::to_path_buf));
    for folder in std::iter::once(own).chain(others).collect::<BTreeSet<_>>() {
        landing.disk.remove_tree(&landing.root.join(folder))?;
    }
    Ok(())
}
