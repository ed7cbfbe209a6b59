//! What somebody looks at: which pipeline, which page, and how far down.

use ratatui::crossterm::event::KeyCode;

use super::looking::{Page, Snapshot};

/// The choice of who looks.
#[derive(Default)]
pub(super) struct View {
    /// The pipeline, by its name: lists may grow and shrink.
    name: Option<String>,
    pub(super) page: Page,
    /// The first line of the page that is shown.
    pub(super) scroll: u16,
    /// Lines that one step of a page passes; set by who draws.
    pub(super) height: u16,
    /// Lines of the page; set by who draws.
    pub(super) lines: u16,
}

impl View {
    /// The place of the chosen pipeline in the list.
    pub(super) fn index(&self, snapshot: &Snapshot) -> usize {
        let place = |name: &String| snapshot.rows.iter().position(|row| row.name == *name);
        self.name.as_ref().and_then(place).unwrap_or(0)
    }

    /// Its name.
    pub(super) fn selected(&self, snapshot: &Snapshot) -> Option<String> {
        snapshot.rows.get(self.index(snapshot)).map(|row| row.name.clone())
    }

    /// Keeps what is shown within what there is.
    pub(super) fn bound(&mut self, snapshot: &Snapshot) {
        self.name = self.selected(snapshot);
        self.scroll = self.scroll.min(self.lines.saturating_sub(self.height));
    }

    /// Follows a key; whether anything has changed.
    pub(super) fn press(&mut self, key: KeyCode, snapshot: &Snapshot) -> bool {
        let (index, last) = (self.index(snapshot), snapshot.rows.len().saturating_sub(1));
        let most = self.lines.saturating_sub(self.height);
        match key {
            KeyCode::Up | KeyCode::Char('k') => self.choose(index.saturating_sub(1), snapshot),
            KeyCode::Down | KeyCode::Char('j') => self.choose((index + 1).min(last), snapshot),
            KeyCode::Home => self.choose(0, snapshot),
            KeyCode::End => self.choose(last, snapshot),
            KeyCode::Tab | KeyCode::Right => self.turn(self.page.next()),
            KeyCode::BackTab | KeyCode::Left => self.turn(self.page.before()),
            KeyCode::PageDown | KeyCode::Char(' ') => self.scroll = (self.scroll + self.height.max(1)).min(most),
            KeyCode::PageUp => self.scroll = self.scroll.saturating_sub(self.height.max(1)),
            _ => return false,
        }
        true
    }

    fn choose(&mut self, index: usize, snapshot: &Snapshot) {
        let name = snapshot.rows.get(index).map(|row| row.name.clone());
        if name != self.name {
            (self.name, self.scroll) = (name, 0);
        }
    }

    fn turn(&mut self, page: Page) {
        (self.page, self.scroll) = (page, 0);
    }
}

#[cfg(test)]
mod tests {
    use super::super::looking::Row;
    use super::*;

    fn snapshot(names: &[&str]) -> Snapshot {
        let row = |name: &&str| Row { name: (*name).to_string(), ..Row::default() };
        Snapshot { rows: names.iter().map(row).collect(), ..Snapshot::default() }
    }

    #[test]
    fn keys_choose_and_stay_within_the_list() {
        let (mut view, all) = (View::default(), snapshot(&["permits", "tolls", "weighings"]));
        view.bound(&all);
        for (key, expected) in [
            (KeyCode::Up, "permits"),
            (KeyCode::Down, "tolls"),
            (KeyCode::Char('j'), "weighings"),
            (KeyCode::Down, "weighings"),
            (KeyCode::Home, "permits"),
            (KeyCode::End, "weighings"),
        ] {
            assert!(view.press(key, &all));
            assert_eq!(view.selected(&all).as_deref(), Some(expected));
        }
        // One that is gone leaves the first; an empty list leaves none.
        let fewer = snapshot(&["permits"]);
        view.bound(&fewer);
        assert_eq!(view.selected(&fewer).as_deref(), Some("permits"));
        view.bound(&snapshot(&[]));
        assert!(view.press(KeyCode::Down, &snapshot(&[])));
        assert_eq!(view.selected(&snapshot(&[])), None);
        assert!(!view.press(KeyCode::Char('x'), &all));
    }

    #[test]
    fn pages_turn_in_a_circle_and_scroll_within_their_lines() {
        let (mut view, all) = (View::default(), snapshot(&["permits"]));
        (view.height, view.lines) = (10, 25);
        for expected in [10, 15, 15] {
            view.press(KeyCode::PageDown, &all);
            assert_eq!(view.scroll, expected);
        }
        let first = view.page;
        for _ in 0..Page::ALL.len() {
            view.press(KeyCode::Tab, &all);
            assert_eq!(view.scroll, 0);
        }
        assert_eq!(view.page, first);
        view.press(KeyCode::BackTab, &all);
        view.press(KeyCode::Tab, &all);
        assert_eq!(view.page, first);
        (view.scroll, view.lines) = (15, 12);
        view.bound(&all);
        assert_eq!(view.scroll, 2);
    }
}
