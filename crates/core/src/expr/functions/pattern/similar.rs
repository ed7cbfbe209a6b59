//! `similar to`: the regular expressions of standard SQL, which mean a whole text. `%` is any text, `_` any character.

use super::like::escape_of;
use super::{Pattern, Prepared};
use crate::expr::Expr;

/// Makes a constant pattern ready.
pub(super) fn prepare(arguments: &[Expr]) -> Result<Prepared, String> {
    let escape = match arguments.get(2).map(Expr::as_text) {
        None => Some('\\'),
        Some(text) => escape_of(&text.unwrap_or_default())?,
    };
    let pattern = arguments[1].as_text().ok_or("the pattern must be a constant text")?;
    let translated = translate(&pattern, escape)?;
    Pattern::of_crate(&translated, "").map(|pattern| Prepared::Pattern(pattern.into()))
}

fn translate(pattern: &str, escape: Option<char>) -> Result<String, String> {
    let mut out = String::from("^(?:");
    let mut chars = pattern.chars();
    let mut in_set = false;
    while let Some(c) = chars.next() {
        match c {
            c if Some(c) == escape => {
                let next = chars.next().ok_or("the pattern ends with its escape character")?;
                out.push_str(&regex::escape(next.encode_utf8(&mut [0; 4])));
            }
            '[' if !in_set => {
                in_set = true;
                out.push('[');
            }
            ']' if in_set => {
                in_set = false;
                out.push(']');
            }
            c if in_set => {
                if matches!(c, '[' | '&' | '~' | '\\') {
                    out.push('\\');
                }
                out.push(c);
            }
            '%' => out.push_str(".*"),
            '_' => out.push('.'),
            '(' => out.push_str("(?:"),
            '|' | '*' | '+' | '?' | '{' | '}' | ')' => out.push(c),
            c => out.push_str(&regex::escape(c.encode_utf8(&mut [0; 4]))),
        }
    }
    out.push_str(")$");
    Ok(out)
}
