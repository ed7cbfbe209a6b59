//! `sluice init`: a project to start from.

use std::fs;
use std::io::Write as _;
use std::path::Path;

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};
use sluice_core::names;

use crate::args::{Arguments, InitArgs, OutputKind};
use crate::exit::Exit;
use crate::output::{self, style};
use crate::project::PROJECT_FILE;

const PROJECT: &str = include_str!("../../templates/sluice.toml");
const IGNORED: &str =
    "# Sluice's own: ledger, staging, locks\n.sluice/\n# rejects hold the bytes of real events\nrejects/\n";

pub(crate) fn init(arguments: &Arguments, args: &InitArgs) -> Outcome<Exit> {
    let folder = &args.folder;
    let name = match &args.name {
        Some(name) if names::is_valid(name) => name.clone(),
        Some(name) => {
            return Err(Failure::new(FailureKind::Configuration, format!("`{name}` cannot be the name of a project"))
                .with_help("a name starts with a letter and holds letters, digits, - and _, 63 at most"));
        }
        None => name_of(folder),
    };
    if folder.join(PROJECT_FILE).exists() {
        return Err(Failure::new(
            FailureKind::Configuration,
            format!("{} is there already; nothing was changed", folder.join(PROJECT_FILE).display()),
        )
        .with_help("look at it with `sluice`, or name another folder"));
    }
    write_schemas(folder)?;
    let made = write_project(folder, &PROJECT.replace("PROJECT_NAME", &name), &[], &["inbox"])?;
    if arguments.output == OutputKind::Json {
        output::json("init", json!({ "project": name, "folder": folder, "made": made }));
        return Ok(Exit::Fine);
    }
    let mut out = format!("{} is ready. Made:\n", style::bold(&name));
    for file in &made {
        out.push_str(&format!("  {file}\n"));
    }
    out.push_str("\nnext:\n");
    if folder != Path::new(".") {
        out.push_str(&format!("  {}\n", style::command(&format!("cd {}", folder.display()))));
    }
    out.push_str(&format!(
        "  {}             {}\n  {}  {}\n  {}           {}\n",
        style::command("sluice peek FILE"),
        style::dim("what do its events look like? JSON Lines, CSV, Parquet"),
        style::command("sluice draft PIPELINE FILE "),
        style::dim("a pipeline file made from them"),
        style::command("sluice manual WORD"),
        style::dim("every key, type and function"),
    ));
    output::print(&out);
    Ok(Exit::Fine)
}

/// Lays the JSON Schemas into the project, where the first line of each file points editors to.
fn write_schemas(folder: &Path) -> Outcome<()> {
    let place = folder.join(".sluice").join("schema");
    sluice_core::private::make_folders(&place)?;
    for (name, text) in crate::manual::schemas() {
        let path = place.join(name);
        sluice_core::private::write(&path, text)?;
    }
    Ok(())
}

fn name_of(folder: &Path) -> String {
    let full = folder.canonicalize().unwrap_or_else(|_| folder.to_path_buf());
    let name: String = full
        .file_name()
        .map(|n| {
            n.to_string_lossy()
                .chars()
                .map(|c| if c.is_ascii_alphanumeric() || c == '-' || c == '_' { c } else { '-' })
                .collect()
        })
        .unwrap_or_default();
    if names::is_valid(&name) { name } else { "project".into() }
}

/// Writes the files of a project; returns their names. Files that are there already are left as they are.
pub(crate) fn write_project(
    folder: &Path,
    project: &str,
    pipelines: &[(&str, &str)],
    folders: &[&str],
) -> Outcome<Vec<String>> {
    let mut made = Vec::new();
    for sub in ["pipelines"].iter().chain(folders) {
        let path = folder.join(sub);
        fs::create_dir_all(&path).map_err(|e| Failure::io("make the folder", &path, &e))?;
    }
    let mut write = |name: String, text: &str| -> Outcome<()> {
        let path = folder.join(&name);
        match fs::File::options().write(true).create_new(true).open(&path) {
            Ok(mut file) => {
                file.write_all(text.as_bytes()).map_err(|e| Failure::io("write", &path, &e))?;
                made.push(name);
                Ok(())
            }
            Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(()),
            Err(error) => Err(Failure::io("make", &path, &error)),
        }
    };
    write(PROJECT_FILE.into(), project)?;
    for (name, text) in pipelines {
        write(format!("pipelines/{name}"), text)?;
    }
    write(".gitignore".into(), IGNORED)?;
    made.extend(folders.iter().map(|f| format!("{f}/")));
    Ok(made)
}
