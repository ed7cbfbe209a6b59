//! Which files there are.

use std::collections::HashSet;
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use glob::{MatchOptions, Pattern};
use sha2::{Digest as _, Sha256};
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::kinds::Settings;
use sluice_core::run::Stop;

use crate::local;

const MATCHING: MatchOptions =
    MatchOptions { case_sensitive: true, require_literal_separator: true, require_literal_leading_dot: true };

/// Looks for the files of an arrival.
#[derive(Clone)]
pub(super) struct Scan {
    folder: PathBuf,
    pattern: Pattern,
    /// Whether symbolic links count as what they lead to.
    follows_links: bool,
    /// The only file to find, for looking at it alone.
    only: Option<String>,
    stop: Arc<Stop>,
}

/// What a look at the folder found.
#[derive(Debug, Default)]
pub(super) struct Found {
    /// The files that match, by name, each with its path.
    pub files: Vec<(String, PathBuf)>,
    /// Symbolic links that were passed over.
    pub links: Vec<String>,
    /// Folders that cannot be listed, and why.
    pub closed: Vec<(String, std::io::Error)>,
}

impl Scan {
    /// Reads the settings; the error says what is wrong with the pattern.
    pub(super) fn new(settings: &Settings) -> Result<Self, String> {
        let text = settings.options.text("match").unwrap_or_default();
        let pattern = Pattern::new(&text).map_err(|e| format!("`match` is not a valid pattern: {}", e.msg))?;
        Ok(Self {
            folder: local::folder(&settings.root, &settings.connection),
            pattern,
            follows_links: settings.options.flag("follow_links"),
            only: None,
            stop: Arc::clone(&settings.stop),
        })
    }

    /// One file, whatever its name.
    pub(super) fn of_file(path: &Path) -> Self {
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned());
        Self {
            folder: path.parent().map(PathBuf::from).unwrap_or_default(),
            pattern: Pattern::default(),
            follows_links: true,
            only: Some(name.unwrap_or_default()),
            stop: Arc::default(),
        }
    }

    /// The same, for one of its files.
    pub(super) fn only(&self, name: &str) -> Self {
        Self { only: Some(name.into()), ..self.clone() }
    }

    /// The files that match, by name, each with its path. Hidden files and folders are passed over.
    pub(super) fn files(&self) -> Outcome<Vec<(String, PathBuf)>> {
        self.look().map(|found| found.files)
    }

    /// Looks at the folder and those below it. Hidden files and folders are passed over, and symbolic links unless they
    /// are followed; no folder is looked at twice.
    ///
    /// # Errors
    /// Where the folder itself cannot be listed, or somebody asked to leave.
    pub(super) fn look(&self) -> Outcome<Found> {
        let mut found = Found::default();
        if let Some(name) = &self.only {
            found.files.push((name.clone(), self.path(name)));
            return Ok(found);
        }
        let mut seen = HashSet::new();
        let mut folders = vec![(String::new(), self.folder.clone())];
        let mut count = 0_u64;
        while let Some((prefix, folder)) = folders.pop() {
            if self.follows_links && !std::fs::metadata(&folder).is_ok_and(|data| seen.insert((data.dev(), data.ino())))
            {
                continue;
            }
            let entries = match std::fs::read_dir(&folder) {
                Ok(entries) => entries,
                Err(error) if prefix.is_empty() => return Err(Failure::io("list the folder", &folder, &error)),
                Err(error) => {
                    found.closed.push((prefix, error));
                    continue;
                }
            };
            let mut below = Vec::new();
            for entry in entries {
                count += 1;
                if count.is_multiple_of(256) && self.stop.is_settling() {
                    return Err(Failure::new(FailureKind::Interrupted, "stopped while looking for files"));
                }
                let entry = entry.map_err(|e| Failure::io("list the folder", &folder, &e))?;
                self.entry(&prefix, &entry, &mut below, &mut found);
            }
            // A folder itself comes before links to it.
            below.sort_by(|a: &(bool, String, PathBuf), b| b.cmp(a));
            folders.extend(below.into_iter().map(|(_, name, path)| (name, path)));
        }
        found.files.sort();
        Ok(found)
    }

    fn entry(
        &self,
        prefix: &str,
        entry: &std::fs::DirEntry,
        below: &mut Vec<(bool, String, PathBuf)>,
        found: &mut Found,
    ) {
        // A name that is not UTF-8 cannot be written down in the ledger.
        let Ok(name) = entry.file_name().into_string() else { return };
        if name.starts_with('.') {
            return;
        }
        let (name, path) = (format!("{prefix}{name}"), entry.path());
        let is_link = entry.file_type().is_ok_and(|ty| ty.is_symlink());
        if is_link && !self.follows_links {
            found.links.push(name);
            return;
        }
        // A followed link counts as what it leads to; one that leads nowhere is not a file.
        match std::fs::metadata(&path) {
            Ok(data) if data.is_dir() => below.push((is_link, format!("{name}/"), path)),
            Ok(data) if data.is_file() && self.matches(&name) => found.files.push((name, path)),
            _ => {}
        }
    }

    /// Whether the pattern takes a name.
    pub(super) fn matches(&self, name: &str) -> bool {
        match &self.only {
            Some(only) => only == name,
            None => self.pattern.matches_with(name, MATCHING),
        }
    }

    /// All files of the folder and those below it, whether they match or not: where one may be under a new name.
    ///
    /// # Errors
    /// Where somebody asked to leave.
    pub(super) fn everything(&self) -> Outcome<Vec<(String, PathBuf)>> {
        let all = Self { pattern: Pattern::new("**/*").unwrap_or_default(), only: None, ..self.clone() };
        all.look().map(|found| found.files)
    }

    /// The path of a file.
    pub(super) fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    /// Whether somebody asked to leave.
    pub(super) fn is_stopping(&self) -> bool {
        self.stop.is_settling()
    }

    /// Waits, but not beyond somebody's asking.
    pub(super) fn wait(&self, duration: std::time::Duration) {
        self.stop.wait(duration);
    }
}

/// The lane of a file: a digest of its name, so that it stays the same whatever else is there.
pub(super) fn lane_of(name: &str, lanes: u32) -> u32 {
    let digest = Sha256::digest(name.as_bytes());
    u32::from_le_bytes([digest[0], digest[1], digest[2], digest[3]]) % lanes.max(1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_keep_their_lane_and_all_lanes_are_used() {
        let lanes: Vec<u32> = (0..100).map(|i| lane_of(&format!("depot-{i}.jsonl"), 4)).collect();
        assert_eq!(lanes[7], lane_of("depot-7.jsonl", 4));
        assert!((0..4).all(|lane| lanes.contains(&lane)));
    }
}
