//! Our own coloured text as lines of the screen.

use ratatui::style::{Color, Modifier, Style};
use ratatui::text::{Line, Span};

/// The lines of a text that [`crate::output::opened`] gave: it holds no other sequences than colours.
pub(super) fn lines(text: &str, with_colours: bool) -> Vec<Line<'static>> {
    text.lines().map(|line| one(line, with_colours)).collect()
}

fn one(line: &str, with_colours: bool) -> Line<'static> {
    let mut spans = Vec::new();
    let mut style = Style::default();
    let mut rest = line;
    while let Some((before, after)) = rest.split_once("\u{1b}[") {
        if !before.is_empty() {
            spans.push(Span::styled(before.to_string(), style));
        }
        let (codes, after) = after.split_once('m').unwrap_or((after, ""));
        codes.split(';').for_each(|code| style = styled(style, code, with_colours));
        rest = after;
    }
    if !rest.is_empty() {
        spans.push(Span::styled(rest.to_string(), style));
    }
    Line::from(spans)
}

fn styled(style: Style, code: &str, with_colours: bool) -> Style {
    let colour = |colour: Color| if with_colours { style.fg(colour) } else { style };
    match code {
        "1" => style.add_modifier(Modifier::BOLD),
        "2" => style.add_modifier(Modifier::DIM),
        "7" => style.add_modifier(Modifier::REVERSED),
        "31" => colour(Color::Red),
        "32" => colour(Color::Green),
        "33" => colour(Color::Yellow),
        "36" => colour(Color::Cyan),
        _ => Style::default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn colours_become_styles() {
        let found = lines("a \u{1b}[1m\u{1b}[31mred\u{1b}[0m b\n\u{1b}[2mdim\u{1b}[0m", true);
        assert_eq!(found.len(), 2);
        let texts: Vec<&str> = found[0].spans.iter().map(|span| span.content.as_ref()).collect();
        assert_eq!(texts, ["a ", "red", " b"]);
        let red = Style::default().fg(Color::Red).add_modifier(Modifier::BOLD);
        assert_eq!((found[0].spans[1].style, found[0].spans[2].style), (red, Style::default()));
        let plain = lines("\u{1b}[31mred\u{1b}[0m", false);
        assert_eq!(plain[0].spans[0].style, Style::default());
        // Cut off within a sequence.
        assert_eq!(lines("a\u{1b}[3", true)[0].spans.len(), 1);
    }
}
