//! SQL texts cut into pieces: a select list or column definitions are split at their commas, so that a mistake in one
//! piece does not hide those in the others. Syntax is sqlparser's; every place leads back to the file.

mod dialect;

use std::ops::Range;

use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Location, Span, Token, TokenWithSpan, Tokenizer};

use crate::config::EmbeddedText;
use crate::expr::own::OwnFunctions;
use crate::problem::{Place, Problem, Problems};
use dialect::OurDialect;

static DIALECT: OurDialect = OurDialect;

/// A SQL text with its tokens.
pub struct SqlText<'a> {
    text: &'a EmbeddedText,
    line_starts: Vec<usize>,
    tokens: Vec<TokenWithSpan>,
}

/// Whether a name with an argument in parentheses is a call of a function of that name, and not something else of SQL.
pub(crate) fn is_call(name: &str) -> bool {
    let text = format!("{name}(x)");
    let parsed = Parser::new(&DIALECT).try_with_sql(&text).and_then(|mut parser| parser.parse_expr());
    matches!(parsed, Ok(sqlparser::ast::Expr::Function(call)) if call.name.to_string() == name)
}

/// `trim(leading from text)` takes blanks away. The parser knows `trim(leading ' ' from text)` alone: the blank is written
/// where it is meant.
fn with_trimmed_blanks(tokens: Vec<TokenWithSpan>) -> Vec<TokenWithSpan> {
    let is_word = |token: &TokenWithSpan, words: &[&str]| match &token.token {
        Token::Word(word) => {
            word.quote_style.is_none() && words.iter().any(|known| word.value.eq_ignore_ascii_case(known))
        }
        _ => false,
    };
    let mut out: Vec<TokenWithSpan> = Vec::with_capacity(tokens.len());
    for token in tokens {
        let side = out.last().is_some_and(|last| is_word(last, &["leading", "trailing", "both"]));
        let before = out.len() - usize::from(side);
        let opens = |place: usize| out.get(place).is_some_and(|open| open.token == Token::LParen);
        let begins = before >= 2 && opens(before - 1) && is_word(&out[before - 2], &["trim"]);
        if begins && is_word(&token, &["from"]) {
            out.push(TokenWithSpan { token: Token::SingleQuotedString(" ".into()), span: token.span });
        }
        out.push(token);
    }
    out
}

/// The tokens between two commas.
pub type Piece = Vec<TokenWithSpan>;

impl<'a> SqlText<'a> {
    /// The functions that the project declares.
    pub(crate) fn functions(&self) -> &'a OwnFunctions {
        self.text.functions()
    }

    /// Cuts a text into tokens; a mistake becomes a problem and no tokens.
    pub fn new(text: &'a EmbeddedText, problems: &mut Problems) -> Self {
        let line_starts = std::iter::once(0).chain(text.text.match_indices('\n').map(|(i, _)| i + 1)).collect();
        let mut sql = Self { text, line_starts, tokens: Vec::new() };
        match Tokenizer::new(&DIALECT, &text.text).tokenize_with_location() {
            Ok(tokens) => {
                let blank = |t: &TokenWithSpan| matches!(t.token, Token::Whitespace(_) | Token::EOF);
                sql.tokens = with_trimmed_blanks(tokens.into_iter().filter(|t| !blank(t)).collect());
            }
            Err(error) => {
                let start = sql.offset(error.location);
                problems.add(
                    Problem::error("syntax.sql", error.message.clone(), text.place(start..start + 1))
                        .with_label("here"),
                );
            }
        }
        sql
    }

    fn offset(&self, location: Location) -> usize {
        let line = usize::try_from(location.line).unwrap_or(1).saturating_sub(1);
        let column = usize::try_from(location.column).unwrap_or(1).saturating_sub(1);
        let Some(start) = self.line_starts.get(line) else { return self.text.text.len() };
        let rest = &self.text.text[*start..];
        start + rest.char_indices().nth(column).map_or(rest.len(), |(i, _)| i)
    }

    fn range(&self, span: Span) -> Range<usize> {
        let start = self.offset(span.start);
        start..self.offset(span.end).max(start)
    }

    /// The place of a span in the file, or of `piece` where the syntax tree has none.
    pub fn place(&self, span: Span, piece: &[TokenWithSpan]) -> Place {
        if span.start.line == 0 { self.piece_place(piece) } else { self.text.place(self.range(span)) }
    }

    /// The place of a whole piece.
    pub fn piece_place(&self, piece: &[TokenWithSpan]) -> Place {
        match (piece.first(), piece.last()) {
            (Some(first), Some(last)) => self.text.place(self.range(first.span).start..self.range(last.span).end),
            _ => self.text.whole(),
        }
    }

    /// The text of a piece as it was written.
    pub fn piece_text(&self, piece: &[TokenWithSpan]) -> &str {
        match (piece.first(), piece.last()) {
            (Some(first), Some(last)) => &self.text.text[self.range(first.span).start..self.range(last.span).end],
            _ => "",
        }
    }

    /// Splits at the commas that stand outside parentheses. A comma at the very end is allowed.
    pub fn pieces(&self, problems: &mut Problems) -> Vec<Piece> {
        let mut pieces: Vec<Piece> = vec![Vec::new()];
        let mut depth = 0_i32;
        for token in &self.tokens {
            match token.token {
                Token::LParen | Token::LBracket => depth += 1,
                Token::RParen | Token::RBracket => depth -= 1,
                Token::SemiColon => continue,
                Token::Comma if depth <= 0 => {
                    if pieces.last().is_some_and(Vec::is_empty) {
                        let place = self.text.place(self.range(token.span));
                        problems.add(
                            Problem::error("syntax.sql", "nothing stands before this comma", place)
                                .with_label("one comma too many"),
                        );
                    }
                    pieces.push(Vec::new());
                    continue;
                }
                _ => {}
            }
            if let Some(piece) = pieces.last_mut() {
                piece.push(token.clone());
            }
        }
        pieces.retain(|p| !p.is_empty());
        pieces
    }

    /// All tokens as one piece, without a closing semicolon.
    pub fn whole(&self) -> Piece {
        self.tokens.iter().filter(|t| t.token != Token::SemiColon).cloned().collect()
    }

    /// A parser for one piece.
    pub fn parser(piece: &[TokenWithSpan]) -> Parser<'static> {
        Parser::new(&DIALECT).with_tokens_with_locations(piece.to_vec())
    }

    /// A parser's mistake as a problem at its place.
    pub fn syntax_problem(&self, error: &ParserError, piece: &[TokenWithSpan]) -> Problem {
        let text = match error {
            ParserError::TokenizerError(m) | ParserError::ParserError(m) => m.as_str(),
            ParserError::RecursionLimitExceeded => "this is nested too deeply",
        };
        let (message, place) = match text.rsplit_once(" at Line: ") {
            Some((message, location)) => (message, self.error_place(location)),
            None => (text, None),
        };
        // At its end the text gives no place; the last token is the nearest.
        let end = piece.last().map(|t| self.text.place(self.range(t.span)));
        let (message, help) = in_our_words(message.trim());
        let problem = Problem::error("syntax.sql", message, place.or(end).unwrap_or_else(|| self.text.whole()))
            .with_label("unexpected here");
        match help {
            Some(help) => problem.with_help(help),
            None => problem,
        }
    }

    fn error_place(&self, location: &str) -> Option<Place> {
        let (line, column) = location.split_once(", Column: ")?;
        let location = Location { line: line.parse().ok()?, column: column.trim().parse().ok()? };
        let token = self.tokens.iter().find(|t| t.span.start == location)?;
        Some(self.text.place(self.range(token.span)))
    }

    /// A problem for tokens that are left over after a whole piece was understood.
    pub fn leftover_problem(&self, parser: &Parser<'_>) -> Option<Problem> {
        let token = parser.peek_token();
        if token.token == Token::EOF {
            return None;
        }
        let place = self.text.place(self.range(token.span));
        Some(
            Problem::error("syntax.sql", format!("`{}` does not belong here", token.token), place)
                .with_label("unexpected here")
                .with_help("is a comma missing before it?"),
        )
    }
}

/// The parser's message in words that say what to do.
fn in_our_words(message: &str) -> (String, Option<&'static str>) {
    if let Some(rest) = message.strip_prefix("Expected: ")
        && let Some((expected, found)) = rest.rsplit_once(", found: ")
    {
        let found = if found == "EOF" { "the end".to_string() } else { format!("`{found}`") };
        return (format!("expected {}, found {found}", expected.trim_matches('\'')), None);
    }
    if message.starts_with("No infix parser for token") {
        return ("this word or sign does not belong here".into(), Some("is a comma or an operator missing before it?"));
    }
    if message.starts_with("Unterminated") {
        return (message.replacen("Unterminated", "this is not closed:", 1), None);
    }
    (message.to_string(), None)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::problem::SourceText;

    /// Embeds a SQL text in a file, as the pipeline reader does.
    pub(crate) fn embed(sql: &str) -> EmbeddedText {
        let source = SourceText::new("p.toml", format!("k = '''{sql}'''"));
        let end = source.text.len();
        EmbeddedText::new(&source, 4..end, sql)
    }

    fn pieces(sql: &str) -> (Vec<String>, Problems) {
        let text = embed(sql);
        let mut problems = Problems::new();
        let sql = SqlText::new(&text, &mut problems);
        let pieces = sql.pieces(&mut problems);
        (pieces.iter().map(|p| sql.piece_text(p).to_string()).collect(), problems)
    }

    #[test]
    fn splits_at_outer_commas_only() {
        let (found, problems) = pieces("a, cast(b as decimal(6,2)) as c,\n concat(d, ',', e) -- x, y\n,");
        assert_eq!(found, ["a", "cast(b as decimal(6,2)) as c", "concat(d, ',', e)"]);
        assert!(problems.is_empty());
    }

    #[test]
    fn an_empty_piece_is_a_problem() {
        let (found, problems) = pieces("a,, b");
        assert_eq!(found, ["a", "b"]);
        assert!(problems.has_errors());
    }

    #[test]
    fn an_open_quote_is_a_problem_at_its_place() {
        let (_, problems) = pieces("a,\n 'open");
        let problem = problems.iter().next().unwrap();
        let place = problem.place.as_ref().unwrap();
        assert_eq!(place.source.line_column(place.span.start), (2, 2));
    }
}
