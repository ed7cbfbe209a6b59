//! Files and folders that hold real events are for their owner alone: folders get the mode 0700, files 0600.

use std::fs::{DirBuilder, File, OpenOptions};
use std::io::{self, Write as _};
use std::path::Path;

use crate::failure::{Failure, Outcome};

/// Names of the folders below a project in which real events and positions are kept.
const FOLDERS: [&str; 2] = [".sluice", "rejects"];

/// Options that make a file for its owner alone, where they make one.
pub fn options() -> OpenOptions {
    let mut options = File::options();
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options
}

/// Makes a folder for its owner alone. The one above it is there.
///
/// # Errors
/// As [`std::fs::create_dir`].
pub fn make_folder(path: &Path) -> io::Result<()> {
    builder().create(path)
}

/// Makes a folder and those above it, each for its owner alone.
///
/// # Errors
/// Where the file system refuses.
pub fn make_folders(path: &Path) -> Outcome<()> {
    builder().recursive(true).create(path).map_err(|e| Failure::io("make the folder", path, &e))
}

fn builder() -> DirBuilder {
    let mut builder = DirBuilder::new();
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder
}

/// Makes an empty file for its owner alone, or empties it.
///
/// # Errors
/// Where the file system refuses.
pub fn create(path: &Path) -> Outcome<File> {
    options().write(true).create(true).truncate(true).open(path).map_err(|e| Failure::io("make", path, &e))
}

/// Writes a whole file for its owner alone.
///
/// # Errors
/// Where the file system refuses.
pub fn write(path: &Path, bytes: impl AsRef<[u8]>) -> Outcome<()> {
    create(path)?.write_all(bytes.as_ref()).map_err(|e| Failure::io("write", path, &e))
}

/// Takes the rights of other users from the folders of a project that hold events. Gives those that had been open.
///
/// What lies inside is out of reach with its folder. A folder of another owner is left as it is.
pub fn tighten(root: &Path) -> Vec<&'static str> {
    FOLDERS.into_iter().filter(|name| tighten_folder(&root.join(name))).collect()
}

#[cfg(unix)]
fn tighten_folder(path: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt as _;
    let Ok(found) = std::fs::symlink_metadata(path) else { return false };
    let mode = found.permissions().mode();
    let is_open = found.is_dir() && mode & 0o077 != 0;
    is_open && std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode & 0o700)).is_ok()
}

#[cfg(not(unix))]
fn tighten_folder(_: &Path) -> bool {
    false
}

#[cfg(test)]
#[cfg(unix)]
mod tests {
    use std::os::unix::fs::PermissionsExt as _;

    use super::*;

    fn mode(path: &Path) -> u32 {
        std::fs::metadata(path).unwrap().permissions().mode() & 0o777
    }

    #[test]
    fn folders_and_files_are_for_their_owner_alone() {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("a/b");
        make_folders(&folder).unwrap();
        create(&folder.join("rows")).unwrap();
        assert_eq!([mode(&root.path().join("a")), mode(&folder), mode(&folder.join("rows"))], [0o700, 0o700, 0o600]);
    }

    #[test]
    fn open_folders_are_closed_once() {
        let root = tempfile::tempdir().unwrap();
        let rejects = root.path().join("rejects");
        std::fs::create_dir(&rejects).unwrap();
        std::fs::set_permissions(&rejects, std::fs::Permissions::from_mode(0o755)).unwrap();
        assert_eq!(tighten(root.path()), ["rejects"]);
        assert_eq!(mode(&rejects), 0o700);
        assert!(tighten(root.path()).is_empty());
    }
}
