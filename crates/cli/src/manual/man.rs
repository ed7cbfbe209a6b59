//! The manual as man pages: a page for each command in section 1, and one for each chapter in section 7.

use clap::CommandFactory as _;
use clap_mangen::Man;
use clap_mangen::roff::{Roff, bold, roman};

use super::{CHAPTERS, Entry, entries};
use crate::args::Arguments;

/// File names and their text.
pub(crate) fn man_pages() -> Vec<(String, Vec<u8>)> {
    let mut root = Arguments::command();
    root.build();
    let mut pages = Vec::new();
    let mut add = |name: &str, command: clap::Command| {
        let mut text = Vec::new();
        // Writing to memory does not fail.
        if Man::new(command).title(name).render(&mut text).is_ok() {
            pages.push((format!("{name}.1"), text));
        }
    };
    for command in root.get_subcommands() {
        add(&format!("sluice-{}", command.get_name()), command.clone());
    }
    add("sluice", root);
    let all = entries();
    pages.extend(CHAPTERS.iter().map(|(name, about)| (format!("sluice-{name}.7"), chapter(name, about, &all))));
    pages
}

fn chapter(name: &str, about: &str, all: &[Entry]) -> Vec<u8> {
    let mut page = Roff::new();
    page.control("TH", [format!("sluice-{name}").as_str(), "7", "", concat!("sluice ", env!("CARGO_PKG_VERSION"))]);
    page.control("SH", ["NAME"]);
    page.text([roman(format!("sluice-{name} - {about}"))]);
    page.control("SH", ["DESCRIPTION"]);
    let mut context = "";
    for entry in all.iter().filter(|e| e.chapter == name) {
        if entry.context != context {
            context = &entry.context;
            page.control("SS", [context]);
        }
        page.control("TP", []);
        page.text([bold(entry.form.as_str())]);
        page.text([roman(entry.about.as_str())]);
        for note in &entry.notes {
            page.control("br", []);
            page.text([roman(note.as_str())]);
        }
    }
    page.control("SH", ["SEE ALSO"]);
    page.text([bold("sluice"), roman("(1), "), bold("sluice-manual"), roman("(1)")]);
    page.render().into_bytes()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_and_chapter_has_its_page() {
        let pages = man_pages();
        let text = |name: &str| {
            let found = pages.iter().find(|(n, _)| n == name).map(|(_, text)| text.clone());
            String::from_utf8(found.unwrap_or_default()).unwrap()
        };
        assert!(text("sluice-rehearse.1").contains(".SH SYNOPSIS"));
        assert!(text("sluice-functions.7").contains("date_trunc"));
        assert!(text("sluice.1").contains("sluice"));
        assert!(pages.iter().all(|(_, text)| text.starts_with(b".ie") || text.windows(3).any(|w| w == b".TH")));
    }
}
