//! `sluice manual`: what is each kind, option, type, function, reason and code?

use std::path::Path;

use serde_json::json;
use sluice_core::failure::{Failure, FailureKind, Outcome};

use crate::args::{Arguments, ManualArgs, OutputKind};
use crate::exit::Exit;
use crate::manual::{CHAPTERS, Entry, SearchFound, entries, man_pages, own_functions, pages, search};
use crate::output::problems::wrap;
use crate::output::table::screen_width;
use crate::output::{self, style};
use crate::project::Project;

pub(crate) fn manual(arguments: &Arguments, args: &ManualArgs) -> Outcome<Exit> {
    if let Some(folder) = &args.pages {
        return write_pages(folder, pages().into_iter().map(|(name, text)| (name, text.into_bytes())));
    }
    if let Some(folder) = &args.man {
        return write_pages(folder, man_pages());
    }
    if let Some(name) = &args.shape {
        return super::shape::shape(arguments, name, args.form);
    }
    let mut all = entries();
    // What the manual says holds without a project, and with one that has mistakes.
    if let Ok(Some(project)) = Project::find(arguments.project.as_deref()) {
        all.extend(own_functions(&project));
    }
    let word = args.words.join(" ");
    let found = if word.is_empty() { SearchFound::Chapter(Vec::new()) } else { search(&all, &word) };
    if found == SearchFound::Nothing {
        return Err(Failure::new(FailureKind::Configuration, format!("the manual knows nothing of `{word}`"))
            .with_help("`sluice manual` lists the chapters; a part of a word will do"));
    }
    match arguments.output {
        OutputKind::Json => as_json(&all, &found, word.is_empty()),
        OutputKind::Text if word.is_empty() => chapters(&all),
        OutputKind::Text => as_text(&word, &found),
    }
    Ok(Exit::Fine)
}

fn chapters(all: &[Entry]) {
    let mut out = String::from("look up a chapter, a name, or any word:\n\n");
    for (name, about) in CHAPTERS {
        let count = all.iter().filter(|e| e.chapter == *name).count();
        let command = style::command(&format!("sluice manual {name:<11}"));
        out.push_str(&format!("  {command}  {:>3}  {about}\n", count));
    }
    out.push_str(&format!(
        "\n  {}  one function\n  {}  every entry that speaks of it\n",
        style::command("sluice manual date_trunc "),
        style::command("sluice manual \"time\"     "),
    ));
    output::print(&out);
}

fn as_text(word: &str, found: &SearchFound) {
    let (entries, first) = match found {
        SearchFound::Chapter(entries) | SearchFound::Named(entries) => (entries, String::new()),
        SearchFound::Near(entries) => (entries, format!("nothing is named `{word}`; the nearest:\n\n")),
        SearchFound::Mentioned(entries) => (entries, format!("nothing is named `{word}`; these speak of it:\n\n")),
        SearchFound::Nothing => return,
    };
    let mut out = first;
    let mut context = "";
    for entry in entries {
        if entry.context != context {
            context = &entry.context;
            out.push_str(&format!("{}\n", style::dim(context)));
        }
        // Notes hold examples, whose blanks count; explanations are folded at the edge of the screen.
        let about = wrap(&entry.about, screen_width().saturating_sub(7), 0).join("\n      ");
        out.push_str(&format!("  {}\n      {about}\n", style::bold(&entry.form)));
        for note in &entry.notes {
            out.push_str(&format!("      {}\n", style::dim(note)));
        }
    }
    output::print(&out);
}

fn as_json(all: &[Entry], found: &SearchFound, everything: bool) {
    let entries = match found {
        _ if everything => all,
        SearchFound::Chapter(e) | SearchFound::Named(e) | SearchFound::Near(e) | SearchFound::Mentioned(e) => e,
        SearchFound::Nothing => &[],
    };
    let entries: Vec<_> = entries
        .iter()
        .map(|e| {
            json!({
                "chapter": e.chapter, "context": e.context, "name": e.name, "form": e.form, "about": e.about,
                "notes": e.notes,
            })
        })
        .collect();
    output::json("manual", json!({ "entries": entries }));
}

fn write_pages(folder: &Path, pages: impl IntoIterator<Item = (String, Vec<u8>)>) -> Outcome<Exit> {
    std::fs::create_dir_all(folder).map_err(|e| Failure::io("make the folder", folder, &e))?;
    for (name, text) in pages {
        let path = folder.join(name);
        std::fs::write(&path, text).map_err(|e| Failure::io("write", &path, &e))?;
    }
    Ok(Exit::Fine)
}
