//! PostgreSQL's spelling of regular expressions in that of the crate `regex`. What has another meaning there is rewritten; what
//! the crate does not have, such as looking back, stays as it is and is refused by it.

/// The pattern as the crate takes it.
pub(super) fn translate(pattern: &str) -> String {
    let mut out = String::with_capacity(pattern.len() + 8);
    let mut chars = pattern.chars().peekable();
    while let Some(c) = chars.next() {
        match c {
            '\\' => match chars.next() {
                Some('y') => out.push_str("\\b"),
                Some('Y') => out.push_str("\\B"),
                Some('m') => out.push_str("\\b{start}"),
                Some('M') => out.push_str("\\b{end}"),
                Some('Z') => out.push_str("\\z"),
                Some(other) => out.extend(['\\', other]),
                None => out.push('\\'),
            },
            '[' => bracket(&mut chars, &mut out),
            c => out.push(c),
        }
    }
    out
}

/// A set in brackets, whose opening one was read. The crate knows sets within sets and operators between them; PostgreSQL does not.
fn bracket(chars: &mut std::iter::Peekable<std::str::Chars<'_>>, out: &mut String) {
    out.push('[');
    if chars.next_if_eq(&'^').is_some() {
        out.push('^');
    }
    // A bracket that stands first closes nothing.
    if chars.next_if_eq(&']').is_some() {
        out.push_str("\\]");
    }
    while let Some(c) = chars.next() {
        match c {
            ']' => return out.push(']'),
            '\\' => {
                out.push('\\');
                out.extend(chars.next());
            }
            '[' if chars.peek() == Some(&':') => {
                let name: String = chars.by_ref().take_while(|c| *c != ']').collect();
                out.push_str(&class(&name));
            }
            '[' | '&' | '~' => out.extend(['\\', c]),
            c => out.push(c),
        }
    }
}

/// A class of characters, `:alpha:`, by Unicode: those of the crate are of ASCII alone.
fn class(name: &str) -> String {
    match name {
        ":alpha:" => "\\p{Alphabetic}".into(),
        ":digit:" => "\\d".into(),
        ":alnum:" => "\\p{Alphabetic}\\d".into(),
        ":upper:" => "\\p{Uppercase}".into(),
        ":lower:" => "\\p{Lowercase}".into(),
        ":space:" => "\\s".into(),
        ":word:" => "\\w".into(),
        other => format!("[{other}]"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("^a+$", "^a+$")]
    #[case("\\mlow\\M", "\\b{start}low\\b{end}")]
    #[case("\\ylow\\y", "\\blow\\b")]
    #[case("[[:alpha:]_-]", "[\\p{Alphabetic}_-]")]
    #[case("[^[:punct:]]", "[^[:punct:]]")]
    #[case("[]a]", "[\\]a]")]
    #[case("[^]a]", "[^\\]a]")]
    #[case("[a&&b[]", "[a\\&\\&b\\[]")]
    #[case("[\\d.]+", "[\\d.]+")]
    fn spellings(#[case] pattern: &str, #[case] expected: &str) {
        assert_eq!(translate(pattern), expected);
        assert!(::regex::Regex::new(expected).is_ok());
    }
}
