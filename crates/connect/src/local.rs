//! Folders of `file:` connections.

use std::path::{Component, Path, PathBuf};

use sluice_core::config::ConnectionConfig;

/// The folder of a connection; a relative one starts at the project.
pub fn folder(root: &Path, connection: &ConnectionConfig) -> PathBuf {
    root.join(plain(&connection.target))
}

/// A path without `.` parts and doubled slashes, so that two spellings of one place are equal.
pub fn plain(path: &str) -> PathBuf {
    let mut out = PathBuf::new();
    for part in Path::new(path).components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir if out.file_name().is_some() => {
                out.pop();
            }
            part => out.push(part),
        }
    }
    if out.as_os_str().is_empty() { PathBuf::from(".") } else { out }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("archive", "archive")]
    #[case("./archive//x/", "archive/x")]
    #[case("a/../b", "b")]
    #[case("../up", "../up")]
    #[case(".", ".")]
    fn one_place_has_one_spelling(#[case] path: &str, #[case] expected: &str) {
        assert_eq!(plain(path), PathBuf::from(expected));
    }
}
