//! Files that are there whole or not at all.

use std::path::Path;

use sluice_core::failure::{Failure, Outcome};

/// Writes a file beside its place and puts it there; its folder is made where it is missing.
///
/// # Errors
/// Where it cannot be written.
pub(crate) fn write(path: &Path, text: &str) -> Outcome<()> {
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder).map_err(|e| Failure::io("make the folder", folder, &e))?;
    }
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let hidden = path.with_file_name(format!(".{name}.{}.part", std::process::id()));
    let written = std::fs::write(&hidden, text).and_then(|()| std::fs::rename(&hidden, path));
    written.inspect_err(|_| _ = std::fs::remove_file(&hidden)).map_err(|e| Failure::io("write", path, &e))
}
