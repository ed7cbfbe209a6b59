//! Which files there are.

use std::path::PathBuf;

use glob::{MatchOptions, Pattern};
use sha2::{Digest as _, Sha256};
use sluice_core::failure::{Failure, Outcome};
use sluice_core::kinds::Settings;

use crate::local;

const MATCHING: MatchOptions =
    MatchOptions { case_sensitive: true, require_literal_separator: true, require_literal_leading_dot: true };

/// Looks for the files of an arrival.
#[derive(Clone)]
pub(super) struct Scan {
    folder: PathBuf,
    pattern: Pattern,
    /// The only file to find, for looking at it alone.
    only: Option<String>,
}

impl Scan {
    /// Reads the settings; the error says what is wrong with the pattern.
    pub(super) fn new(settings: &Settings) -> Result<Self, String> {
        let text = settings.options.text("match").unwrap_or_default();
        let pattern = Pattern::new(&text).map_err(|e| format!("`match` is not understood: {}", e.msg))?;
        Ok(Self { folder: local::folder(&settings.root, &settings.connection), pattern, only: None })
    }

    /// One file, whatever its name.
    pub(super) fn of_file(path: &std::path::Path) -> Self {
        let name = path.file_name().map(|n| n.to_string_lossy().into_owned());
        Self {
            folder: path.parent().map(PathBuf::from).unwrap_or_default(),
            pattern: Pattern::default(),
            only: Some(name.unwrap_or_default()),
        }
    }

    /// The same, for one of its files.
    pub(super) fn only(&self, name: &str) -> Self {
        Self { only: Some(name.into()), ..self.clone() }
    }

    /// The files that match, by name, each with its path. Hidden files and folders are passed over.
    pub(super) fn files(&self) -> Outcome<Vec<(String, PathBuf)>> {
        if let Some(name) = &self.only {
            return Ok(vec![(name.clone(), self.path(name))]);
        }
        let mut found = Vec::new();
        let mut folders = vec![(String::new(), self.folder.clone())];
        while let Some((prefix, folder)) = folders.pop() {
            let entries = std::fs::read_dir(&folder).map_err(|e| Failure::io("list the folder", &folder, &e))?;
            for entry in entries {
                let entry = entry.map_err(|e| Failure::io("list the folder", &folder, &e))?;
                // A name that is not UTF-8 cannot be written down in the ledger.
                let Ok(name) = entry.file_name().into_string() else { continue };
                if name.starts_with('.') {
                    continue;
                }
                let (name, path) = (format!("{prefix}{name}"), entry.path());
                // Links count as what they lead to; one that leads nowhere is no file.
                match std::fs::metadata(&path) {
                    Ok(data) if data.is_dir() => folders.push((format!("{name}/"), path)),
                    Ok(data) if data.is_file() && self.pattern.matches_with(&name, MATCHING) => {
                        found.push((name, path))
                    }
                    _ => {}
                }
            }
        }
        found.sort();
        Ok(found)
    }

    /// The path of a file.
    pub(super) fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
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
