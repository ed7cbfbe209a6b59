//! The last step of every text before a terminal, a pipe or a log: only colours that this program set get through.
//!
//! Values, names and messages from outside are mixed with our own words long before they are printed. So our colours
//! carry a secret number that nobody outside can know, and [`open`] replaces every other control character.

use std::borrow::Cow;
use std::hash::{BuildHasher as _, RandomState};
use std::sync::LazyLock;

use sluice_core::printable;

/// The last parameter of our own colours; another one in each process, and never printed.
static SECRET: LazyLock<String> =
    LazyLock::new(|| format!(";{}m", 1_000_000_000 + RandomState::new().hash_one("colours") % 9_000_000_000));

/// The length of a colour sequence `ESC [ digits and semicolons m` at the start of a text.
fn sequence(text: &str) -> Option<usize> {
    let inner = text.strip_prefix("\u{1b}[")?;
    let end = inner.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    inner[end..].starts_with('m').then_some(end + 3)
}

/// Marks all colours of a text as ours. The text holds nothing from outside, or was opened before.
pub(crate) fn own(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 16);
    let mut rest = text;
    while let Some(at) = rest.find('\u{1b}') {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        let length = sequence(rest).unwrap_or(1);
        match length {
            1 => out.push('\u{1b}'),
            _ => out.push_str(&format!("{}{}", &rest[..length - 1], *SECRET)),
        }
        rest = &rest[length..];
    }
    out.push_str(rest);
    out
}

/// The text as it may be printed: our colours as a terminal knows them, and no other control character.
pub(crate) fn open(text: &str) -> Cow<'_, str> {
    if !text.contains('\u{1b}') {
        return printable::text(text);
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('\u{1b}') {
        out.push_str(&printable::text(&rest[..at]));
        rest = &rest[at..];
        let ours = sequence(rest).filter(|length| rest[..*length].ends_with(SECRET.as_str()));
        match ours {
            Some(length) => out.push_str(&format!("{}m", &rest[..length - SECRET.len()])),
            None => out.push(printable::shown('\u{1b}')),
        }
        rest = &rest[ours.unwrap_or(1)..];
    }
    out.push_str(&printable::text(rest));
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::output::style;

    #[test]
    fn our_colours_get_through_and_none_from_outside() {
        let text = format!("{} \u{1b}[31mred\u{1b}[0m {}", style::bad("ours"), style::dim("\u{1b}[8mhidden"));
        let expected = "\u{1b}[1m\u{1b}[31mours\u{1b}[0m ␛[31mred␛[0m \u{1b}[2m␛[8mhidden\u{1b}[0m";
        assert_eq!(open(&text), expected);
    }

    #[rstest]
    #[case("\u{1b}", "␛")]
    #[case("\u{1b}[", "␛[")]
    #[case("\u{1b}[1", "␛[1")]
    #[case("\u{1b}[1;2;3000000000m", "␛[1;2;3000000000m")]
    #[case("\u{1b}\u{1b}[m\n\u{9d}0;title\u{7}", "␛␛[m\n·0;title␇")]
    #[case("閘\u{1b}閘", "閘␛閘")]
    fn sequences_that_are_not_ours_are_shown(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(open(text), expected);
    }

    #[test]
    fn a_text_can_be_opened_and_owned_again() {
        let once = open(&style::good("7")).into_owned();
        assert_eq!(open(&own(&once)), once);
        assert_eq!(own("no colours"), "no colours");
    }
}
