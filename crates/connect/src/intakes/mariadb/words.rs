//! The words of a statement in the log, which has it as it was written: comments, quotes and all.

use std::iter::Peekable;
use std::str::Chars;

/// One word.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Word {
    /// A keyword, a name without quotes, or a number.
    Plain(String),
    /// A name in quotes.
    Name(String),
    /// A text.
    Text,
    /// Any other character.
    Sign(char),
}

impl Word {
    /// Whether it is a keyword.
    pub(super) fn is(&self, word: &str) -> bool {
        matches!(self, Self::Plain(plain) if plain.eq_ignore_ascii_case(word))
    }

    /// It as a name.
    pub(super) fn name(&self) -> Option<&str> {
        match self {
            Self::Plain(name) | Self::Name(name) => Some(name),
            Self::Text | Self::Sign(_) => None,
        }
    }
}

/// What a session is set to, as far as it changes what a statement means.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Modes {
    /// Double quotes hold names.
    pub ansi_quotes: bool,
    /// A backslash in a text means itself.
    pub plain_backslash: bool,
}

impl Modes {
    /// From the bits of `sql_mode`, as the log has them.
    pub(super) fn of(bits: u64) -> Self {
        Self { ansi_quotes: bits & 4 != 0, plain_backslash: bits & 0x10_0000 != 0 }
    }
}

/// Cuts a statement into words. Comments are none, but for those whose contents a server executes.
pub(super) fn words(text: &str, modes: Modes) -> Vec<Word> {
    let mut words = Vec::new();
    let mut characters = text.chars().peekable();
    // The end of a comment that is executed means nothing.
    let mut executed = 0;
    while let Some(c) = characters.next() {
        match (c, characters.peek().copied()) {
            (c, _) if c.is_whitespace() => {}
            ('`', _) => words.push(Word::Name(quoted(&mut characters, '`', true))),
            ('"', _) if modes.ansi_quotes => words.push(Word::Name(quoted(&mut characters, '"', true))),
            ('\'' | '"', _) => {
                quoted(&mut characters, c, modes.plain_backslash);
                words.push(Word::Text);
            }
            ('#', _) => line(&mut characters),
            ('-', Some('-')) if starts_comment(&characters) => line(&mut characters),
            ('/', Some('*')) => {
                characters.next();
                match is_executed(&mut characters) {
                    true => executed += 1,
                    false => comment(&mut characters),
                }
            }
            ('*', Some('/')) if executed > 0 => {
                characters.next();
                executed -= 1;
            }
            (c, _) if is_plain(c) => {
                let mut word = String::from(c);
                while let Some(next) = characters.next_if(|c| is_plain(*c)) {
                    word.push(next);
                }
                words.push(Word::Plain(word));
            }
            (c, _) => words.push(Word::Sign(c)),
        }
    }
    words
}

fn is_plain(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '$' | '@')
}

/// What stands up to a quote; a doubled one is one.
fn quoted(characters: &mut Peekable<Chars<'_>>, quote: char, plain_backslash: bool) -> String {
    let mut text = String::new();
    while let Some(c) = characters.next() {
        match c {
            '\\' if !plain_backslash => text.extend(characters.next()),
            c if c == quote => match characters.next_if_eq(&quote) {
                Some(_) => text.push(quote),
                None => break,
            },
            c => text.push(c),
        }
    }
    text
}

fn line(characters: &mut Peekable<Chars<'_>>) {
    characters.by_ref().find(|c| *c == '\n');
}

/// Whether a second dash and white space follow.
fn starts_comment(characters: &Peekable<Chars<'_>>) -> bool {
    let mut ahead = characters.clone();
    ahead.next();
    ahead.next().is_none_or(char::is_whitespace)
}

fn comment(characters: &mut Peekable<Chars<'_>>) {
    let mut last = ' ';
    for c in characters.by_ref() {
        if last == '*' && c == '/' {
            return;
        }
        last = c;
    }
}

/// Whether the contents of a comment that begins here are executed: those of `/*!` and `/*M!`, with the least version of the
/// server behind it. Servers of MariaDB leave out what asks for MySQL 5.7 or later.
fn is_executed(characters: &mut Peekable<Chars<'_>>) -> bool {
    let own = characters.next_if(|c| matches!(c, 'M' | 'm')).is_some();
    if characters.next_if_eq(&'!').is_none() {
        return false;
    }
    let mut version = String::new();
    while version.len() < 6
        && let Some(digit) = characters.next_if(char::is_ascii_digit)
    {
        version.push(digit);
    }
    let version: u32 = version.parse().unwrap_or(0);
    own || !(50_700..100_000).contains(&version)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("truncate/**/table`a``b`", "truncate table [a`b]")]
    #[case("a -- b 'c\n d--e", "a d - - e")]
    #[case("a # b\nc", "a c")]
    #[case("insert 'it''s \\' x', \"y\" z", "insert ' , ' z")]
    #[case("/*! truncate */ t /* no */ /*!50003 x*/ /*M!100100 y */ /*!80000 not*/", "truncate t x y")]
    #[case("a.b,c;", "a . b , c ;")]
    #[case("größe é", "größe é")]
    #[case("'open", "'")]
    fn statements_are_cut_into_words(#[case] text: &str, #[case] expected: &str) {
        let shown = |word: &Word| match word {
            Word::Plain(word) => word.clone(),
            Word::Name(name) => format!("[{name}]"),
            Word::Text => "'".into(),
            Word::Sign(c) => c.to_string(),
        };
        let found: Vec<String> = words(text, Modes::default()).iter().map(shown).collect();
        assert_eq!(found.join(" "), expected);
    }

    #[test]
    fn modes_change_what_quotes_and_backslashes_mean() {
        let ansi = Modes::of(4 | 0x10_0000);
        assert_eq!(words("\"t\" 'a\\'", ansi), [Word::Name("t".into()), Word::Text]);
        assert_eq!(words("\"t\" 'a\\''", Modes::of(0)), [Word::Text, Word::Text]);
    }
}
