//! The screen: pipelines above, the chosen one below.

use ratatui::Frame;
use ratatui::layout::{Alignment, Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Cell, Paragraph, Row as TableRow, Sparkline, Table, TableState};
use sluice_core::units::show_count;

use super::ansi;
use super::looking::{Page, Snapshot};
use super::view::View;

/// The most lines of the list, with its heading.
const LIST: u16 = 12;

/// Lines of the plot, where there is room.
const PLOT: u16 = 5;

/// Fewer columns leave out the small plots; still fewer, lag and rejects.
const WIDE: u16 = 116;
const NARROW: u16 = 76;

/// A screen with fewer lines has no plot.
const HIGH: u16 = 30;

pub(super) fn draw(frame: &mut Frame<'_>, snapshot: &Snapshot, view: &mut View) {
    let area = frame.area();
    let count = u16::try_from(snapshot.rows.len()).unwrap_or(LIST);
    let list = (count + 1).min(LIST).min(area.height / 2);
    let has_plot = area.height >= HIGH && snapshot.rows.get(view.index(snapshot)).is_some_and(|row| row.has_moved());
    let plot = if has_plot { PLOT + 1 } else { 0 };
    let [top, rows, gap, chart, tabs, page, bottom] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Length(list),
        Constraint::Length(1),
        Constraint::Length(plot),
        Constraint::Length(1),
        Constraint::Min(0),
        Constraint::Length(1),
    ])
    .areas(area);
    heading(frame, top, snapshot);
    pipelines(frame, rows, snapshot, view);
    rule(frame, gap);
    if has_plot {
        hour(frame, chart, snapshot, view);
    }
    pages(frame, tabs, view.page);
    text(frame, page, snapshot, view);
    let keys = " ↑↓ pipeline   tab page   PgUp PgDn scroll   q leave";
    frame.render_widget(Paragraph::new(keys).style(dim()), bottom);
}

fn dim() -> Style {
    Style::default().add_modifier(Modifier::DIM)
}

fn bold() -> Style {
    Style::default().add_modifier(Modifier::BOLD)
}

fn heading(frame: &mut Frame<'_>, area: Rect, snapshot: &Snapshot) {
    let left = Line::from(vec![
        Span::raw(" "),
        Span::styled(snapshot.project.clone(), bold()),
        Span::styled(format!("   {}", snapshot.process), dim()),
    ]);
    frame.render_widget(Paragraph::new(left), area);
    let right = match &snapshot.error {
        Some(error) => Line::styled(format!("{error} "), Style::default().fg(Color::Red)),
        None => Line::styled(format!("{} UTC ", snapshot.time), dim()),
    };
    frame.render_widget(Paragraph::new(right).alignment(Alignment::Right), area);
}

fn rule(frame: &mut Frame<'_>, area: Rect) {
    frame.render_widget(Paragraph::new("─".repeat(usize::from(area.width))).style(dim()), area);
}

/// Columns of the list, as wide as they need to be.
fn widths(snapshot: &Snapshot, room: u16) -> [Constraint; 6] {
    let longest = |least: usize, texts: &mut dyn Iterator<Item = usize>| {
        u16::try_from(texts.max().unwrap_or(0).max(least)).unwrap_or(u16::MAX)
    };
    let name = longest(8, &mut snapshot.rows.iter().map(|row| row.name.chars().count())).min(28);
    let state =
        longest(5, &mut snapshot.rows.iter().map(|row| plain(&row.state))).min(if room < WIDE { 22 } else { 40 });
    // What matters least goes first.
    let with = |least: u16, width: u16| Constraint::Length(if room < least { 0 } else { width });
    [
        Constraint::Length(name + 1),
        Constraint::Length(state.min(room.saturating_sub(name + 3))),
        with(60, 10),
        with(WIDE, 30),
        with(NARROW, 22),
        with(NARROW, 9),
    ]
}

/// The length of a coloured text as it is seen.
fn plain(text: &str) -> usize {
    ansi::lines(text, false).first().map_or(0, Line::width)
}

fn pipelines(frame: &mut Frame<'_>, area: Rect, snapshot: &Snapshot, view: &View) {
    let right = |text: String| Cell::from(Line::from(text).alignment(Alignment::Right));
    let heading = TableRow::new(vec![
        Cell::from(" pipeline"),
        Cell::from("state"),
        right("events/s".into()),
        Cell::from("last 30 minutes"),
        right("behind".into()),
        right("rejects".into()),
    ])
    .style(dim());
    let one = |row: &super::looking::Row| {
        let state = ansi::lines(&row.state, snapshot.with_colours).into_iter().next().unwrap_or_default();
        let mark = if row.is_alarmed { "!" } else { " " };
        TableRow::new(vec![
            Cell::from(Line::from(vec![
                Span::styled(mark, if snapshot.with_colours { Style::default().fg(Color::Red) } else { bold() }),
                Span::raw(row.name.clone()),
            ])),
            Cell::from(state),
            right(row.rate.clone()),
            Cell::from(Line::styled(row.spark.clone(), dim())),
            right(row.behind.clone()),
            right(row.rejects.clone()),
        ])
    };
    let table = Table::new(snapshot.rows.iter().map(one), widths(snapshot, area.width))
        .header(heading)
        .column_spacing(if area.width < NARROW { 1 } else { 2 })
        .highlight_symbol("▸")
        .row_highlight_style(bold());
    let mut state = TableState::default().with_selected(Some(view.index(snapshot)));
    frame.render_stateful_widget(table, area, &mut state);
}

/// Events of each of the last 60 minutes, the present one at the right.
fn hour(frame: &mut Frame<'_>, area: Rect, snapshot: &Snapshot, view: &View) {
    let Some(row) = snapshot.rows.get(view.index(snapshot)) else { return };
    let [labels, plot] = Layout::horizontal([Constraint::Length(18), Constraint::Min(0)]).areas(area);
    let most = row.minutes.iter().copied().max().unwrap_or(0);
    let mut side = vec![Line::from(format!(" {}", show_count(most)))];
    side.extend((0..PLOT.saturating_sub(2)).map(|_| Line::default()));
    side.push(Line::from(" events a minute"));
    frame.render_widget(Paragraph::new(side).style(dim()), labels);
    let [bars, axis] = Layout::vertical([Constraint::Length(PLOT), Constraint::Length(1)]).areas(plot);
    // Two columns a minute, where there is room.
    let wide = usize::from((plot.width / 60).clamp(1, 2));
    // A process that is younger has fewer minutes.
    let missing = std::iter::repeat_n(0, 60_usize.saturating_sub(row.minutes.len()));
    let minutes = missing.chain(row.minutes.iter().copied());
    let values: Vec<u64> = minutes.flat_map(|count| std::iter::repeat_n(count, wide)).collect();
    let style = if snapshot.with_colours { Style::default().fg(Color::Cyan) } else { Style::default() };
    frame.render_widget(Sparkline::default().data(&values).max(most.max(1)).style(style), bars);
    let width = values.len();
    let text = format!("{:<w$}{:>r$}", "an hour ago", "now", w = width.saturating_sub(3), r = 3.min(width));
    frame.render_widget(Paragraph::new(text).style(dim()), axis);
}

fn pages(frame: &mut Frame<'_>, area: Rect, page: Page) {
    let mut spans = vec![Span::raw(" ")];
    for one in Page::ALL {
        let style = if *one == page { bold().add_modifier(Modifier::UNDERLINED) } else { dim() };
        spans.push(Span::styled(one.word(), style));
        spans.push(Span::raw("   "));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

fn text(frame: &mut Frame<'_>, area: Rect, snapshot: &Snapshot, view: &mut View) {
    let lines = ansi::lines(&snapshot.page, snapshot.with_colours);
    view.lines = u16::try_from(lines.len()).unwrap_or(u16::MAX);
    view.height = area.height;
    view.scroll = view.scroll.min(view.lines.saturating_sub(view.height));
    frame.render_widget(Paragraph::new(lines).scroll((view.scroll, 0)), area);
    let below = view.lines.saturating_sub(view.scroll + view.height);
    if below > 0 && area.height > 0 {
        let last = Rect { y: area.y + area.height - 1, height: 1, ..area };
        let more = Line::styled(format!("{below} more lines: PgDn "), dim());
        frame.render_widget(Paragraph::new(more).alignment(Alignment::Right), last);
    }
}

#[cfg(test)]
mod tests {
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    use super::super::looking::Row;
    use super::*;

    fn drawn(snapshot: &Snapshot, view: &mut View, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        view.bound(snapshot);
        terminal.draw(|frame| draw(frame, snapshot, view)).unwrap();
        let buffer = terminal.backend().buffer().clone();
        let line = |y: u16| (0..width).map(|x| buffer[(x, y)].symbol().to_string()).collect::<String>();
        (0..height).map(|y| format!("{}\n", line(y).trim_end())).collect()
    }

    fn snapshot() -> Snapshot {
        let row = |name: &str, state: &str, minutes: Vec<u64>| Row {
            name: name.into(),
            state: state.into(),
            rate: "1,204".into(),
            spark: "▁▂▃".into(),
            minutes,
            behind: "12 events · 3 s".into(),
            rejects: "7".into(),
            is_alarmed: name == "tolls",
        };
        Snapshot {
            project: "tarrow".into(),
            process: "background process 7".into(),
            time: "12:00:05".into(),
            rows: vec![row("permits", "\u{1b}[32mruns\u{1b}[0m", vec![1, 2, 3]), row("tolls", "stopped", Vec::new())],
            page: (1..=40).map(|n| format!("line {n}\n")).collect(),
            ..Snapshot::default()
        }
    }

    #[test]
    fn all_parts_stand_on_a_large_screen() {
        let (snapshot, mut view) = (snapshot(), View::default());
        let text = drawn(&snapshot, &mut view, 120, 40);
        for part in [
            "tarrow",
            "background process 7",
            "12:00:05 UTC",
            "permits",
            "runs",
            "1,204",
            "12 events · 3 s",
            "!tolls",
            "stopped",
            "events a minute",
            "an hour ago",
            "status",
            "batches",
            "line 1\n",
            "more lines: PgDn",
            "q leave",
        ] {
            assert!(text.contains(part), "{part}\n{text}");
        }
    }

    /// However small: it draws, and says the most important.
    #[test]
    fn any_size_can_be_drawn() {
        let (snapshot, mut view) = (snapshot(), View::default());
        for (width, height) in [(1, 1), (5, 3), (20, 5), (40, 10), (79, 24), (100, 29), (300, 100)] {
            let text = drawn(&snapshot, &mut view, width, height);
            assert_eq!(text.lines().count(), usize::from(height));
            if width >= 40 {
                assert!(text.contains("permits"), "{text}");
            }
            drawn(&Snapshot::default(), &mut view, width, height);
        }
    }

    #[test]
    fn an_error_is_shown_instead_of_the_time() {
        let broken = Snapshot { error: Some("the ledger cannot be read".into()), ..snapshot() };
        let text = drawn(&broken, &mut View::default(), 120, 40);
        assert!(text.contains("the ledger cannot be read") && !text.contains("12:00:05"), "{text}");
    }
}
