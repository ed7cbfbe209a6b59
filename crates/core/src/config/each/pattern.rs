//! Patterns of tables: `NAME` or `SCHEMA.NAME`, where `*` stands for any letters.

/// Whether a pattern names a table.
pub(super) fn matches(pattern: &str, schema: &str, table: &str, own: &str) -> bool {
    match pattern.split_once('.') {
        Some((of_schema, of_table)) => fits(of_schema.as_bytes(), schema.as_bytes()) && fits_text(of_table, table),
        None => schema == own && fits_text(pattern, table),
    }
}

fn fits_text(pattern: &str, text: &str) -> bool {
    fits(pattern.as_bytes(), text.as_bytes())
}

/// Whether a text has the form of a pattern, in which `*` stands for any bytes.
pub(crate) fn fits(pattern: &[u8], text: &[u8]) -> bool {
    let (mut p, mut t) = (0, 0);
    // After the last star: where the pattern goes on, and where the text was then.
    let mut star: Option<(usize, usize)> = None;
    while t < text.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p + 1, t));
                p += 1;
            }
            Some(byte) if *byte == text[t] => (p, t) = (p + 1, t + 1),
            _ => match star {
                Some((after, from)) => {
                    star = Some((after, from + 1));
                    (p, t) = (after, from + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|b| *b == b'*')
}

#[cfg(test)]
mod tests {
    use super::matches;
    use rstest::rstest;

    #[rstest]
    #[case("permit", "office", "permit", true)]
    #[case("permit", "public", "permit", false)]
    #[case("public.permit", "public", "permit", true)]
    #[case("*", "office", "permit", true)]
    #[case("*", "public", "permit", false)]
    #[case("*.*", "public", "permit", true)]
    #[case("office.toll_*", "office", "toll_due", true)]
    #[case("office.toll_*", "office", "toll", false)]
    #[case("*.*_old", "office", "old_permit_old", true)]
    #[case("*.a*b*c", "office", "a_b_b_c", true)]
    #[case("*.a*b*c", "office", "a_c_b", false)]
    fn patterns_name_tables(#[case] pattern: &str, #[case] schema: &str, #[case] table: &str, #[case] takes: bool) {
        assert_eq!(matches(pattern, schema, table, "office"), takes);
    }
}
