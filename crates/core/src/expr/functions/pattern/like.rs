//! `like` and `ilike`: `%` is any text, `_` any character.

use memchr::memmem;

use super::{Arguments, Prepared};
use crate::expr::Expr;
use crate::expr::column::{Column, map_boolean};

const OPEN_END: &str = "the pattern ends with its escape character";

/// A piece of a pattern between two `%`.
#[derive(Debug)]
struct Piece {
    /// Texts, with one character of any kind between each two.
    texts: Vec<String>,
}

/// A pattern, cut at its `%`.
#[derive(Debug)]
pub(crate) struct LikePattern {
    pieces: Vec<Piece>,
    /// Whether case is ignored: pieces are in lower case.
    any_case: bool,
}

impl LikePattern {
    /// Cuts a pattern. `escape` takes the meaning of the character after it away.
    fn read(pattern: &str, escape: Option<char>, any_case: bool) -> Result<Self, String> {
        let empty = || Piece { texts: vec![String::new()] };
        let mut pieces = vec![empty()];
        let lowered = if any_case { pattern.to_lowercase() } else { String::new() };
        let mut chars = if any_case { lowered.chars() } else { pattern.chars() };
        while let Some(c) = chars.next() {
            let last = pieces.last_mut().expect("there is always one");
            match c {
                c if Some(c) == escape => {
                    let next = chars.next().ok_or(OPEN_END)?;
                    last.texts.last_mut().expect("there is always one").push(next);
                }
                '%' => pieces.push(empty()),
                '_' => last.texts.push(String::new()),
                c => last.texts.last_mut().expect("there is always one").push(c),
            }
        }
        Ok(Self { pieces, any_case })
    }

    /// Whether a text is one that the pattern means. `lowered` is a buffer.
    fn matches(&self, text: &str, lowered: &mut String) -> bool {
        if !self.any_case {
            return self.fits(text);
        }
        lowered.clear();
        match text.is_ascii() {
            true => lowered.extend(text.bytes().map(|b| char::from(b.to_ascii_lowercase()))),
            false => lowered.push_str(&text.to_lowercase()),
        }
        self.fits(lowered)
    }

    fn fits(&self, text: &str) -> bool {
        let [first, rest @ ..] = self.pieces.as_slice() else { return false };
        let Some(mut left) = first.at_start(text) else { return false };
        let Some((last, middle)) = rest.split_last() else { return left.is_empty() };
        // The earliest find of each piece leaves most room for the next ones.
        for piece in middle {
            match piece.find(left) {
                Some(after) => left = after,
                None => return false,
            }
        }
        last.at_end(left)
    }
}

impl Piece {
    /// What is left of a text that begins with the piece.
    fn at_start<'t>(&self, text: &'t str) -> Option<&'t str> {
        let mut rest = text;
        for (i, part) in self.texts.iter().enumerate() {
            if i > 0 {
                let mut chars = rest.chars();
                chars.next()?;
                rest = chars.as_str();
            }
            rest = rest.strip_prefix(part.as_str())?;
        }
        Some(rest)
    }

    /// What is left after the first place at which the piece stands.
    fn find<'t>(&self, text: &'t str) -> Option<&'t str> {
        if let [only] = self.texts.as_slice() {
            return memmem::find(text.as_bytes(), only.as_bytes()).map(|at| &text[at + only.len()..]);
        }
        let starts = text.char_indices().map(|(at, _)| at).chain([text.len()]);
        starts.filter_map(|at| self.at_start(&text[at..])).next()
    }

    /// Whether a text ends with the piece.
    fn at_end(&self, text: &str) -> bool {
        if let [only] = self.texts.as_slice() {
            return text.ends_with(only.as_str());
        }
        let length: usize = self.texts.iter().map(|t| t.chars().count()).sum::<usize>() + self.texts.len() - 1;
        let Some(skipped) = text.chars().count().checked_sub(length) else { return false };
        let at = text.char_indices().nth(skipped).map_or(text.len(), |(at, _)| at);
        self.at_start(&text[at..]).is_some_and(str::is_empty)
    }
}

/// Makes a constant pattern ready.
pub(super) fn prepare(arguments: &[Expr], any_case: bool) -> Result<Prepared, String> {
    let escape = match arguments.get(2) {
        None => Some('\\'),
        Some(escape) => match escape.as_text() {
            Some(text) => escape_of(&text)?,
            None => return Ok(Prepared::Nothing),
        },
    };
    let Some(pattern) = arguments[1].as_text() else { return Ok(Prepared::Nothing) };
    LikePattern::read(&pattern, escape, any_case).map(|pattern| Prepared::Like(pattern.into()))
}

/// The escape character; none where the text is empty.
pub(super) fn escape_of(text: &str) -> Result<Option<char>, String> {
    let mut chars = text.chars();
    match (chars.next(), chars.next()) {
        (found, None) => Ok(found),
        _ => Err(format!("an escape character is one character, `{text}` has more")),
    }
}

pub(super) fn like(a: &Arguments<'_>, any_case: bool) -> Column {
    let mut lowered = String::new();
    map_boolean(&a.all(), a.rows, |row| match a.prepared {
        Prepared::Like(pattern) => Ok(pattern.matches(a.text(0, row), &mut lowered)),
        _ => {
            let escape = if a.columns.len() > 2 { escape_of(a.text(2, row))? } else { Some('\\') };
            Ok(LikePattern::read(a.text(1, row), escape, any_case)?.matches(a.text(0, row), &mut lowered))
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("", "", true)]
    #[case("", "%", true)]
    #[case("a", "", false)]
    #[case("low", "low", true)]
    #[case("low lock", "low%", true)]
    #[case("low lock", "%lock", true)]
    #[case("low lock", "%w l%", true)]
    #[case("low lock", "l%k", true)]
    #[case("lo", "lo%lo", false)]
    #[case("ababab", "%ab%ab", true)]
    #[case("abab", "%ab%ab%ab", false)]
    #[case("閘門", "__", true)]
    #[case("閘門", "_", false)]
    #[case("閘門x", "%_x", true)]
    #[case("x", "%_x", false)]
    #[case("aXbXc", "%X_X%", true)]
    #[case("aXXc", "%X_X%", false)]
    #[case("100%", "100\\%", true)]
    #[case("1000", "100\\%", false)]
    #[case("a_b", "a\\_b", true)]
    #[case("aab", "a\\_b", false)]
    fn patterns(#[case] text: &str, #[case] pattern: &str, #[case] expected: bool) {
        assert_eq!(LikePattern::read(pattern, Some('\\'), false).unwrap().fits(text), expected);
    }

    /// The definition, by recursion: what the fast way is compared with.
    fn by_definition(text: &[char], pattern: &[char]) -> bool {
        match pattern {
            [] => text.is_empty(),
            ['%', rest @ ..] => (0..=text.len()).any(|at| by_definition(&text[at..], rest)),
            ['_', rest @ ..] => !text.is_empty() && by_definition(&text[1..], rest),
            [c, rest @ ..] => text.first() == Some(c) && by_definition(&text[1..], rest),
        }
    }

    proptest::proptest! {
        #[test]
        fn patterns_mean_what_they_are_defined_to(text in "[ab門]{0,8}", pattern in "[ab門%_]{0,7}") {
            let chars = |text: &str| text.chars().collect::<Vec<_>>();
            let found = LikePattern::read(&pattern, Some('\\'), false).unwrap().fits(&text);
            proptest::prop_assert_eq!(found, by_definition(&chars(&text), &chars(&pattern)));
        }
    }
}
