//! The manual as pages of Markdown, for docs/reference.

use std::fmt::Write as _;

use clap::CommandFactory as _;
use sluice_core::config::schema::{pipeline_schema, project_schema};

use super::{CHAPTERS, Entry, entries};
use crate::args::Arguments;

/// File names and their text.
pub(crate) fn pages() -> Vec<(String, String)> {
    let all = entries();
    let mut pages: Vec<(String, String)> =
        CHAPTERS.iter().map(|(name, about)| (format!("{name}.md"), chapter(name, about, &all))).collect();
    pages.push(("commands.md".into(), commands()));
    pages.push(("README.md".into(), index()));
    pages.extend(schemas());
    pages
}

/// The JSON Schemas of the files, by the names that the scaffolded project points to.
pub(crate) fn schemas() -> Vec<(String, String)> {
    let registry = sluice_connect::registry();
    let text = |schema| serde_json::to_string_pretty(&schema).unwrap_or_default() + "\n";
    vec![
        ("project.schema.json".into(), text(project_schema(&registry))),
        ("pipeline.schema.json".into(), text(pipeline_schema(&registry))),
    ]
}

fn heading(title: &str, about: &str) -> String {
    format!("<!-- Made by `sluice manual --pages`; edit the tables in the code. -->\n\n# {title}: {about}\n")
}

fn index() -> String {
    let mut out = heading("Reference", "made from the code");
    out.push_str("\n| page | what it holds |\n| --- | --- |\n");
    let _ = writeln!(out, "| [commands](commands.md) | every command with its options |");
    for (name, about) in CHAPTERS {
        let _ = writeln!(out, "| [{name}]({name}.md) | {about} |");
    }
    for (name, _) in schemas() {
        let _ = writeln!(out, "| [{name}]({name}) | a JSON Schema for editors; `init` lays it into a project |");
    }
    out
}

fn chapter(name: &str, about: &str, all: &[Entry]) -> String {
    let mut out = heading(name, about);
    let mut context = None;
    for entry in all.iter().filter(|e| e.chapter == name) {
        if context != Some(&entry.context) {
            context = Some(&entry.context);
            match entry.context.is_empty() {
                true => out.push('\n'),
                false => {
                    let _ = write!(out, "\n## {}\n\n", entry.context);
                }
            }
        }
        let _ = write!(out, "- `{}`: {}", entry.form, entry.about);
        for note in &entry.notes {
            let _ = write!(out, "; {note}");
        }
        out.push('\n');
    }
    out
}

fn commands() -> String {
    let mut out = heading("commands", "every command with its options");
    let mut root = Arguments::command().term_width(100);
    root.build();
    let _ = write!(out, "\n## sluice\n\n```text\n{}\n```\n", trimmed(&root.render_long_help().to_string()));
    below(&mut out, &mut root, "sluice");
    out
}

/// The commands below one, each with those below it.
fn below(out: &mut String, command: &mut clap::Command, before: &str) {
    for command in command.get_subcommands_mut() {
        let name = format!("{before} {}", command.get_name());
        let help = command.render_long_help().to_string();
        let _ = write!(out, "\n## {name}\n\n```text\n{}\n```\n", trimmed(&help));
        below(out, command, &name);
    }
}

fn trimmed(help: &str) -> String {
    help.lines().map(str::trim_end).collect::<Vec<_>>().join("\n").trim_end().to_string()
}
