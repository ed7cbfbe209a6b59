//! Colours. They vanish where the output is not a terminal, and under NO_COLOR.

use anstyle::{AnsiColor, Style};

use super::gate;

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const GOOD: Style = AnsiColor::Green.on_default();
const WARN: Style = AnsiColor::Yellow.on_default();
const BAD: Style = AnsiColor::Red.on_default().bold();
const MARKED: Style = AnsiColor::Yellow.on_default().invert();
const COMMAND: Style = AnsiColor::Cyan.on_default();

fn paint(style: Style, text: &str) -> String {
    format!("{}{text}{}", gate::own(&style.to_string()), gate::own(&format!("{style:#}")))
}

/// What matters most.
pub(crate) fn bold(text: &str) -> String {
    paint(BOLD, text)
}

/// What matters least.
pub(crate) fn dim(text: &str) -> String {
    paint(DIM, text)
}

/// All is well.
pub(crate) fn good(text: &str) -> String {
    paint(GOOD, text)
}

/// Worth a look.
pub(crate) fn warn(text: &str) -> String {
    paint(WARN, text)
}

/// Wrong.
pub(crate) fn bad(text: &str) -> String {
    paint(BAD, text)
}

/// Something to type.
pub(crate) fn command(text: &str) -> String {
    paint(COMMAND, text)
}

/// Changed since it was last seen.
pub(crate) fn marked(text: &str) -> String {
    paint(MARKED, text)
}
