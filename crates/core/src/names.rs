//! Names, and the nearest right name for a wrong one.

/// Whether a name can serve for a pipeline, event, landing or connection.
pub fn is_valid(name: &str) -> bool {
    let mut chars = name.chars();
    chars.next().is_some_and(|c| c.is_ascii_alphabetic())
        && name.len() <= 63
        && chars.all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '_')
}

/// A name from outside as it may be shown, on one line.
pub fn shown(name: &str) -> String {
    crate::printable::line(name).into_owned()
}

/// The nearest of `known` to `wrong`, if one is near enough to be meant.
pub fn nearest<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = wrong.to_lowercase();
    let score = |name: &str| strsim::normalized_damerau_levenshtein(&lower, &name.to_lowercase());
    known
        .into_iter()
        .map(|name| (score(name), name))
        .filter(|(score, _)| *score >= 0.55)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, name)| name)
}

/// Words that lead from a wrong name to a right one: the nearest, else the list of what there is.
pub fn remedy<'a>(wrong: &str, what: &str, known: impl IntoIterator<Item = &'a str>) -> Option<String> {
    let known: Vec<&str> = known.into_iter().collect();
    if let Some(name) = nearest(wrong, known.iter().copied()) {
        return Some(format!("did you mean `{name}`?"));
    }
    match known.len() {
        0 => None,
        n if n <= 16 => Some(format!("known {what}: {}", known.join(", "))),
        _ => Some(format!("known {what}: {}, …", known[..16].join(", "))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("archvie", Some("archive"))]
    #[case("ARCHIVE", Some("archive"))]
    #[case("depot-file", Some("depot-files"))]
    #[case("zzz", None)]
    fn nearest_name(#[case] wrong: &str, #[case] expected: Option<&str>) {
        assert_eq!(nearest(wrong, ["archive", "depot-files", "screen"]), expected);
    }

    #[rstest]
    #[case("public.Schleuse 7", "public.Schleuse 7")]
    #[case("a\u{1b}[2Jb\nc", "a␛[2Jb⏎c")]
    #[case("a\u{202e}b", "a·b")]
    fn names_from_outside_are_shown_without_harm(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(shown(name), expected);
    }

    #[rstest]
    #[case("lock-broker", true)]
    #[case("a_1", true)]
    #[case("1a", false)]
    #[case("", false)]
    #[case("a b", false)]
    #[case("a/b", false)]
    fn valid_names(#[case] name: &str, #[case] valid: bool) {
        assert_eq!(is_valid(name), valid);
    }

    #[test]
    fn far_names_get_the_list() {
        assert_eq!(remedy("zzz", "connections", ["archive"]).unwrap(), "known connections: archive");
        assert_eq!(remedy("zzz", "connections", []), None);
    }
}
