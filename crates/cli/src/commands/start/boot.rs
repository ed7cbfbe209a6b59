//! `sluice start --at-boot`: a unit for systemd.

use std::path::{Path, PathBuf};

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};

use crate::args::{Arguments, OutputKind};
use crate::exit::Exit;
use crate::output::{self, style};
use crate::project::Project;

/// The first line of a unit: what was written by hand is left alone.
const MARK: &str = "# Written by `sluice start --at-boot`.";

/// Where a unit lies, and how it is switched on.
struct UnitPlace {
    folder: PathBuf,
    /// Whether it belongs to the user and not to the machine.
    is_own: bool,
}

pub(super) fn at_boot(arguments: &Arguments, project: &Project) -> Outcome<Exit> {
    let place = UnitPlace::find()?;
    let name = format!("sluice-{}.service", project.config.name);
    let path = place.folder.join(&name);
    let program = std::env::current_exe()
        .map_err(|e| Failure::unreachable(format!("the path of this program cannot be found: {e}")))?;
    let text = unit(&project.config.name, &project.root, &program, place.is_own);
    let is_there = write(&path, &project.root, &text)?;
    let user = if place.is_own { "--user " } else { "" };
    let commands = [
        (format!("systemctl {user}daemon-reload"), "make systemd read it"),
        (format!("systemctl {user}enable --now {name}"), "start it now and whenever the machine starts"),
        ("loginctl enable-linger".to_string(), "also when you are not logged in"),
    ];
    let commands = &commands[..if place.is_own { 3 } else { 2 }];
    if arguments.output == OutputKind::Json {
        let lines: Vec<&str> = commands.iter().map(|(command, _)| command.as_str()).collect();
        output::json("start", json!({ "unit": path, "written": !is_there, "next": lines }));
        return Ok(Exit::Fine);
    }
    let verb = if is_there { "exists already" } else { "written" };
    let mut out = format!("{} {verb}\n\nnext:\n", path.display());
    let width = commands.iter().map(|(command, _)| command.len()).max().unwrap_or(0);
    for (command, why) in commands {
        out.push_str(&format!("  {}  {}\n", style::command(&format!("{command:width$}")), style::dim(why)));
    }
    out.push_str(&format!(
        "\nEnvironment variables for secrets are read from {}, one NAME=value per line.\n",
        environment(&project.root).display()
    ));
    output::print(&out);
    Ok(Exit::Fine)
}

impl UnitPlace {
    fn find() -> Outcome<Self> {
        let variable = |name| std::env::var_os(name).map(PathBuf::from);
        Self::of(rustix::process::geteuid().is_root(), variable("XDG_CONFIG_HOME"), variable("HOME"))
    }

    fn of(is_root: bool, config: Option<PathBuf>, home: Option<PathBuf>) -> Outcome<Self> {
        if is_root {
            return Ok(Self { folder: "/etc/systemd/system".into(), is_own: false });
        }
        let config = config.or_else(|| home.map(|home| home.join(".config")));
        let config = config.filter(|path| path.is_absolute()).ok_or_else(|| {
            Failure::new(FailureKind::Configuration, "the folder for units is not known: HOME is not set")
                .with_help("set HOME to your folder")
        })?;
        Ok(Self { folder: config.join("systemd/user"), is_own: true })
    }
}

fn environment(root: &Path) -> PathBuf {
    root.join(".sluice/environment")
}

/// The unit, with words between @ signs in the place of what differs. `run --all` settles when it gets SIGTERM; commands find it
/// like a process that `start` has made.
const UNIT: &str = include_str!("../../../../../packaging/sluice.service");

fn unit(project: &str, root: &Path, program: &Path, is_own: bool) -> String {
    let target = if is_own { "default.target" } else { "multi-user.target" };
    let by_hand = |line: &&str| !line.starts_with("# By hand: ");
    let lines = UNIT.lines().filter(by_hand).map(|line| {
        // One after the other: what a folder is called is not looked at again.
        let words: [(&str, &dyn Fn() -> String); 5] = [
            ("@NAME@", &|| project.to_string()),
            ("@FOLDER@", &|| plain(root)),
            ("@FOLDER_QUOTED@", &|| quoted(root)),
            ("@PROGRAM@", &|| quoted(program)),
            ("@TARGET@", &|| target.to_string()),
        ];
        let mut out = String::new();
        let mut rest = line;
        while let Some((at, word, text)) =
            words.iter().filter_map(|(word, text)| Some((rest.find(word)?, word, text))).min_by_key(|(at, ..)| *at)
        {
            out.push_str(&rest[..at]);
            out.push_str(&text());
            rest = &rest[at + word.len()..];
        }
        out + rest + "\n"
    });
    lines.collect()
}

/// A path as a whole value: only the sign of systemd's own variables is doubled.
fn plain(path: &Path) -> String {
    path.display().to_string().replace('%', "%%")
}

/// A path as one word of a command line.
fn quoted(path: &Path) -> String {
    let text = plain(path).replace('\\', "\\\\").replace('"', "\\\"").replace('$', "$$");
    format!("\"{text}\"")
}

/// Writes the unit; true where the same is there already. One that this program did not write, or wrote for another project, is
/// left alone.
fn write(path: &Path, root: &Path, text: &str) -> Outcome<bool> {
    if root.display().to_string().contains(['\n', '\r']) {
        return Err(Failure::new(
            FailureKind::Configuration,
            "systemd does not accept a folder with a line break in its name",
        ));
    }
    match std::fs::read_to_string(path) {
        Ok(there) if there == text => return Ok(true),
        Ok(there) => {
            let of_this = there.starts_with(MARK) && there.contains(&format!("WorkingDirectory={}\n", plain(root)));
            if !of_this {
                return Err(Failure::new(
                    FailureKind::Configuration,
                    format!("{} exists and does not belong to this project; nothing was changed", path.display()),
                )
                .with_help("give this project another name in sluice.toml, or remove that file"));
            }
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
        Err(error) => return Err(Failure::io("read", path, &error)),
    }
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder).map_err(|e| Failure::io("make the folder", folder, &e))?;
    }
    std::fs::write(path, text).map_err(|e| Failure::io("write", path, &e))?;
    Ok(false)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(true, None, None, Some("/etc/systemd/system"))]
    #[case(false, None, Some("/home/vale"), Some("/home/vale/.config/systemd/user"))]
    #[case(false, Some("/conf"), Some("/home/vale"), Some("/conf/systemd/user"))]
    #[case(false, None, None, None)]
    #[case(false, Some("conf"), None, None)]
    fn a_unit_lies_where_systemd_looks(
        #[case] is_root: bool,
        #[case] config: Option<&str>,
        #[case] home: Option<&str>,
        #[case] folder: Option<&str>,
    ) {
        match (UnitPlace::of(is_root, config.map(Into::into), home.map(Into::into)), folder) {
            (Ok(place), Some(folder)) => assert_eq!((place.folder, place.is_own), (folder.into(), !is_root)),
            (found, expected) => {
                assert_eq!(found.map_err(|f| f.kind).err(), expected.is_none().then_some(FailureKind::Configuration))
            }
        }
    }

    #[test]
    fn nothing_is_left_to_fill_in() {
        let text = unit("tarrow", Path::new("/srv/@NAME@"), Path::new("/usr/bin/sluice"), false);
        assert!(text.starts_with(MARK) && text.contains("WantedBy=multi-user.target\n"), "{text}");
        assert_eq!(text.matches('@').count(), 2 * text.matches("/srv/@NAME@").count(), "{text}");
        assert!(text.contains("Description=Sluice: the pipelines of tarrow\n"), "{text}");
    }

    #[test]
    fn paths_are_written_as_systemd_reads_them() {
        let text = unit("tarrow", Path::new("/srv/a 100% \"lock\" $x"), Path::new("/usr/bin/sluice"), true);
        assert!(text.contains("WorkingDirectory=/srv/a 100%% \"lock\" $x\n"), "{text}");
        assert!(text.contains("--project \"/srv/a 100%% \\\"lock\\\" $$x\" run --all"), "{text}");
    }

    #[test]
    fn what_others_wrote_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("units/sluice-tarrow.service");
        let (root, program) = (Path::new("/srv/tarrow"), Path::new("/usr/bin/sluice"));
        let text = unit("tarrow", root, program, false);
        assert!(!write(&path, root, &text).unwrap());
        assert!(write(&path, root, &text).unwrap());
        // A new place of the program.
        assert!(!write(&path, root, &unit("tarrow", root, Path::new("/opt/sluice"), false)).unwrap());
        assert!(
            write(&path, Path::new("/srv/other"), "text")
                .unwrap_err()
                .message
                .contains("does not belong to this project")
        );
        std::fs::write(&path, "[Unit]\n").unwrap();
        assert!(write(&path, root, &text).is_err());
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "[Unit]\n");
    }
}
