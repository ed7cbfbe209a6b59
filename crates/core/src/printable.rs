//! Text from outside, made safe to show: a terminal obeys some characters instead of printing them.
//!
//! Control characters move the cursor, write to the clipboard or change the window's title (ECMA-48, and the private
//! sequences of terminals). Bidirectional controls (Unicode Annex 9) make text read in another order than it stands.
//! Each of them is replaced by a character that can be seen.

use std::borrow::Cow;
use std::fmt::Write as _;

/// Whether a terminal prints a character, and prints it where it stands. Line ends and tabs are not among these.
pub fn is_harmless(c: char) -> bool {
    // Joiners (U+200C, U+200D) stay: scripts and emoji need them.
    !c.is_control()
        && !matches!(c,
            '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// The character to show for one that is not harmless.
fn picture(c: char) -> char {
    match c {
        '\u{0}'..='\u{1f}' => char::from_u32(0x2400 + u32::from(c)).unwrap_or('·'),
        '\u{7f}' => '\u{2421}',
        _ => '·',
    }
}

/// A character as [`text`] shows it.
pub fn shown(c: char) -> char {
    if is_harmless(c) || matches!(c, '\n' | '\t') { c } else { picture(c) }
}

/// A text with its line ends and tabs; all else that is not harmless is replaced by a visible character.
pub fn text(text: &str) -> Cow<'_, str> {
    if text.chars().all(|c| shown(c) == c) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.chars().map(shown).collect())
}

/// A text on one line: line ends and tabs are replaced by visible characters too.
pub fn line(text: &str) -> Cow<'_, str> {
    if text.chars().all(is_harmless) {
        return Cow::Borrowed(text);
    }
    let visible = |c: char| match c {
        '\n' => '⏎',
        '\t' => '⇥',
        c if is_harmless(c) => c,
        c => picture(c),
    };
    Cow::Owned(text.chars().map(visible).collect())
}

/// JSON text with the same meaning in which every character that is not harmless is written as `\u…`.
///
/// `json` is valid JSON. Outside its strings only blanks and line ends are not printed, and these stay.
pub fn json(json: &str) -> Cow<'_, str> {
    let stays = |c: char| is_harmless(c) || matches!(c, '\n' | '\r' | '\t');
    if json.chars().all(stays) {
        return Cow::Borrowed(json);
    }
    let mut out = String::with_capacity(json.len() + 32);
    for c in json.chars() {
        if stays(c) {
            out.push(c);
            continue;
        }
        let mut units = [0; 2];
        for unit in c.encode_utf16(&mut units) {
            let _ = write!(out, "\\u{unit:04x}");
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("plain text, 閘門, 🚢, न्‍या", "plain text, 閘門, 🚢, न्‍या")]
    #[case("two\nlines\tand a tab", "two\nlines\tand a tab")]
    #[case("\u{1b}]52;c;aGk=\u{7}", "␛]52;c;aGk=␇")]
    #[case("\u{9b}2J", "·2J")]
    #[case("over\rwritten\u{8}\u{7f}", "over␍written␈␡")]
    #[case("gate\u{202e}txt.exe", "gate·txt.exe")]
    #[case("tag\u{e0041}\u{2066}\u{feff}", "tag···")]
    fn texts(#[case] given: &str, #[case] expected: &str) {
        assert_eq!(text(given), expected);
    }

    #[test]
    fn a_line_stays_one_line() {
        assert_eq!(line("a\nb\tc\u{1b}d"), "a⏎b⇥c␛d");
        assert!(matches!(line("a b"), Cow::Borrowed(_)));
    }

    #[test]
    fn every_character_is_harmless_or_replaced_by_one_that_is() {
        for c in '\u{0}'..=char::MAX {
            let seen = line(c.encode_utf8(&mut [0; 4])).into_owned();
            assert!(seen.chars().all(is_harmless), "{c:?} is shown as {seen:?}");
        }
    }

    #[test]
    fn json_keeps_its_meaning() {
        let value = serde_json::json!({ "a\u{9b}": "\u{202e}\u{1b}\u{7f}\u{e0041} 閘", "b": [1, null] });
        let given = serde_json::to_string_pretty(&value).unwrap();
        let safe = json(&given);
        assert!(safe.chars().all(|c| is_harmless(c) || c == '\n'), "{safe}");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&safe).unwrap(), value);
    }
}
