//! A drawing as text of SVG 1.1.

use std::fmt::Write as _;

use sluice_core::printable;

use super::INK;

/// A drawing that grows.
pub(super) struct Svg {
    body: String,
    width: f64,
    height: f64,
}

/// How a text stands at its place.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Anchor {
    /// It begins there.
    Start,
    /// It ends there.
    End,
}

/// How a text looks.
#[derive(Clone, Copy)]
pub(super) struct Face {
    pub(super) size: f64,
    pub(super) colour: &'static str,
    pub(super) bold: bool,
    pub(super) anchor: Anchor,
    /// Whether it has a white edge, to be read above something.
    pub(super) edged: bool,
}

impl Face {
    pub(super) const fn new(size: f64, colour: &'static str) -> Self {
        Self { size, colour, bold: false, anchor: Anchor::Start, edged: false }
    }

    pub(super) const fn bold(self) -> Self {
        Self { bold: true, ..self }
    }

    pub(super) const fn edged(self) -> Self {
        Self { edged: true, ..self }
    }

    pub(super) const fn at(self, anchor: Anchor) -> Self {
        Self { anchor, ..self }
    }
}

/// A text within XML: cleaned, and without what would end it.
pub(crate) fn escape(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in printable::line(text).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            // XML has no such characters, not even escaped.
            '\u{fffe}' | '\u{ffff}' => out.push('\u{fffd}'),
            c => out.push(c),
        }
    }
    out
}

/// A text that is at most so many characters long.
pub(super) fn cut(text: &str, most: usize) -> String {
    match text.char_indices().nth(most) {
        Some(_) => format!("{}…", text.chars().take(most.saturating_sub(1)).collect::<String>()),
        None => text.to_string(),
    }
}

impl Svg {
    pub(super) fn new(width: f64, height: f64) -> Self {
        Self { body: String::new(), width, height }
    }

    pub(super) fn rect(&mut self, (x, y, width, height): (f64, f64, f64, f64), round: f64, fill: &str, stroke: &str) {
        let _ = writeln!(
            self.body,
            "<rect x=\"{x:.1}\" y=\"{y:.1}\" width=\"{width:.1}\" height=\"{height:.1}\" rx=\"{round}\" fill=\"{fill}\" stroke=\"{stroke}\"/>"
        );
    }

    pub(super) fn line(&mut self, (x1, y1): (f64, f64), (x2, y2): (f64, f64), stroke: &str) {
        let _ = writeln!(
            self.body,
            "<line x1=\"{x1:.1}\" y1=\"{y1:.1}\" x2=\"{x2:.1}\" y2=\"{y2:.1}\" stroke=\"{stroke}\" stroke-width=\"1\"/>"
        );
    }

    /// A channel from one place to another.
    pub(super) fn channel(&mut self, (x1, y1): (f64, f64), (x2, y2): (f64, f64), width: f64, stroke: &str) {
        let bend = ((x2 - x1) / 2.0).max(20.0);
        let _ = writeln!(
            self.body,
            "<path d=\"M {x1:.1} {y1:.1} C {:.1} {y1:.1}, {:.1} {y2:.1}, {x2:.1} {y2:.1}\" fill=\"none\" stroke=\"{stroke}\" \
             stroke-width=\"{width:.1}\" stroke-linecap=\"butt\" stroke-opacity=\"0.45\"/>",
            x1 + bend,
            x2 - bend
        );
    }

    pub(super) fn text(&mut self, (x, y): (f64, f64), text: &str, face: Face) {
        let weight = if face.bold { " font-weight=\"600\"" } else { "" };
        let anchor = match face.anchor {
            Anchor::Start => "",
            Anchor::End => " text-anchor=\"end\"",
        };
        let edge = if face.edged { " stroke=\"#ffffff\" stroke-width=\"3\" paint-order=\"stroke\"" } else { "" };
        let _ = writeln!(
            self.body,
            "<text x=\"{x:.1}\" y=\"{y:.1}\" font-size=\"{}\" fill=\"{}\"{weight}{anchor}{edge}>{}</text>",
            face.size,
            face.colour,
            escape(text)
        );
    }

    /// A text that appears when the pointer rests on what `draw` draws.
    pub(super) fn with_title(&mut self, title: &str, draw: impl FnOnce(&mut Self)) {
        let _ = writeln!(self.body, "<g><title>{}</title>", escape(title));
        draw(self);
        self.body.push_str("</g>\n");
    }

    /// The whole drawing; `title` says what it shows.
    pub(super) fn end(self, title: &str) -> String {
        let Self { body, width, height } = self;
        format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{width:.0}\" height=\"{height:.0}\" viewBox=\"0 0 {width:.0} {height:.0}\" \
             font-family=\"'DejaVu Sans', Verdana, sans-serif\" color=\"{INK}\" role=\"img\">\n<title>{}</title>\n\
             <rect width=\"100%\" height=\"100%\" fill=\"#ffffff\"/>\n{body}</svg>\n",
            escape(title)
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_breaks_out_of_a_text() {
        let hostile = "</text><script>alert(1)</script>\" onload=\"x\u{1b}[31m\u{0}\u{ffff}&";
        let text = escape(hostile);
        assert!(!text.contains(['<', '>', '"', '\u{1b}', '\u{0}', '\u{ffff}']), "{text}");
        let mut svg = Svg::new(10.0, 10.0);
        svg.text((1.0, 2.0), hostile, Face::new(12.0, INK));
        svg.with_title(hostile, |_| {});
        let drawn = svg.end(hostile);
        assert!(!drawn.contains("<script"), "{drawn}");
        assert_eq!(drawn.matches("<text").count(), 1);
    }

    #[test]
    fn long_texts_are_cut() {
        assert_eq!(cut("閘門閘門閘門", 4), "閘門閘…");
        assert_eq!(cut("gate", 4), "gate");
    }
}
