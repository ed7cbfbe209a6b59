//! Binds SQL syntax to the columns of a scope and gives every part a type, before anything runs.

mod aggregates;
mod calls;
mod kinds;
mod nodes;
mod operators;
mod special;
mod star;
mod temporal;
mod unknown;

use sqlparser::ast::{self, Spanned as _, Value};
use sqlparser::keywords::Keyword;
use sqlparser::tokenizer::{Span, Token, TokenWithSpan};

use super::literal::number_literal;
use super::{CompareOp, Expr, Node, ScopeColumn};
use crate::config::EmbeddedText;
use crate::context::{HEADERS, plain, renamed};
use crate::problem::{Place, Problem, Problems};
use crate::sql::SqlText;
use crate::types::SqlType;

pub use aggregates::BoundCall;
use aggregates::Calls;
use nodes::{balanced, boolean, convert, is_null, limited, not};

/// One column of a select list.
#[derive(Clone, Debug)]
pub struct SelectItem {
    /// Its name.
    pub name: String,
    /// What it computes.
    pub expr: Expr,
    /// Where it stands.
    pub place: Place,
    /// How it is written.
    pub text: String,
}

impl SelectItem {
    /// A column of the scope as it is. It stands nowhere in a file.
    pub fn of_column(index: usize, column: &crate::columns::OutputColumn) -> Self {
        Self {
            name: column.name.clone(),
            expr: Expr::of_column(index, column.ty, column.nullable, column.limit),
            place: Place::new(&crate::problem::SourceText::new("", ""), 0..0),
            text: column.name.clone(),
        }
    }
}

/// A condition, and the parts of it that all must be true.
#[derive(Clone, Debug)]
pub struct Condition {
    /// The whole.
    pub expr: Expr,
    /// What `and` joins, each with its text in one spelling; one part where there is no `and`.
    pub parts: Vec<(String, Expr)>,
}

/// Binds a condition; None where it has a mistake.
pub fn bind_condition(text: &EmbeddedText, scope: &[ScopeColumn], problems: &mut Problems) -> Option<Condition> {
    let sql = SqlText::new(text, problems);
    let piece = sql.whole();
    if piece.is_empty() {
        return None;
    }
    if let Some(problem) = too_long(&sql, &piece) {
        problems.add(problem);
        return None;
    }
    let mut parser = SqlText::parser(&piece);
    let parsed = match parser.parse_expr() {
        Ok(parsed) => parsed,
        Err(error) => {
            problems.add(sql.syntax_problem(&error, &piece));
            return None;
        }
    };
    if let Some(problem) = sql.leftover_problem(&parser) {
        problems.add(problem);
        return None;
    }
    let mut binder = Binder { sql: &sql, piece: &piece, scope, problems, depth: 0, calls: None };
    let expr = binder.bind(&parsed)?;
    let expr = binder.typed_as(expr, SqlType::Boolean);
    if expr.ty != SqlType::Boolean {
        binder.mismatch(parsed.span(), format!("a condition must be boolean, this is {}", expr.ty), None);
        return None;
    }
    // What is wrong was said with the whole.
    let mut said = Problems::new();
    let mut binder = Binder { sql: &sql, piece: &piece, scope, problems: &mut said, depth: 0, calls: None };
    let mut parts = Vec::new();
    for part in and_parts(&parsed) {
        let bound = binder.bind(part)?;
        parts.push((part.to_string(), binder.typed_as(bound, SqlType::Boolean)));
    }
    Some(Condition { expr, parts })
}

/// Refuses what has so many operators that its tree could be too deep for the parser, which works through it by recursion.
fn too_long(sql: &SqlText<'_>, piece: &[TokenWithSpan]) -> Option<Problem> {
    let is_operator = |token: &&TokenWithSpan| match &token.token {
        Token::Word(word) => matches!(word.keyword, Keyword::AND | Keyword::OR | Keyword::NOT | Keyword::IS),
        Token::Comma | Token::LParen | Token::RParen | Token::Number(..) | Token::SingleQuotedString(_) => false,
        Token::Whitespace(_) => false,
        _ => true,
    };
    (piece.iter().filter(is_operator).count() > MAX_OPERATORS).then(|| {
        let message = format!("this expression has more than {MAX_OPERATORS} operators");
        Problem::error("unsupported", message, sql.piece_place(piece))
            .with_help("use a list, x in (1, 2, 3), or compute parts of it in a made event")
    })
}

/// What `and` joins at the top of a condition.
fn and_parts(syntax: &ast::Expr) -> Vec<&ast::Expr> {
    let (mut parts, mut open) = (Vec::new(), vec![syntax]);
    while let Some(syntax) = open.pop() {
        match syntax {
            ast::Expr::Nested(inner) => open.push(inner),
            ast::Expr::BinaryOp { left, op: ast::BinaryOperator::And, right } => open.extend([&**right, &**left]),
            other => parts.push(other),
        }
    }
    parts
}

/// Binds a select list. Items with a mistake become problems; the others are returned.
pub fn bind_select(text: &EmbeddedText, scope: &[ScopeColumn], problems: &mut Problems) -> Vec<SelectItem> {
    bind_items(text, scope, scope.len(), false, None, problems).0
}

/// Binds a select list in which a star stands for the first so many columns of the scope.
pub fn bind_columns(
    text: &EmbeddedText,
    scope: &[ScopeColumn],
    star: usize,
    problems: &mut Problems,
) -> Vec<SelectItem> {
    bind_items(text, scope, star, false, None, problems).0
}

/// Binds a select list whose items may go without a name: such an item is named by its text.
pub fn bind_parts(text: &EmbeddedText, scope: &[ScopeColumn], problems: &mut Problems) -> Vec<SelectItem> {
    bind_items(text, scope, 0, true, None, problems).0
}

/// Binds a select list over groups: `scope` are the columns of a group. Aggregate functions are bound over the columns of its
/// events; each one is a further column after those of the scope, in the order in which they are returned.
pub fn bind_grouped(
    text: &EmbeddedText,
    scope: &[ScopeColumn],
    events: &[ScopeColumn],
    problems: &mut Problems,
) -> (Vec<SelectItem>, Vec<BoundCall>) {
    let calls = Calls { events, first: scope.len(), found: Vec::new() };
    let (items, calls) = bind_items(text, scope, 0, false, Some(calls), problems);
    (items, calls.map_or_else(Vec::new, |calls| calls.found))
}

/// Binds a select list over the columns of several events, each named `EVENT.COLUMN`. `events` are the events with the
/// places of their columns that `EVENT.*` stands for.
pub fn bind_joined(
    text: &EmbeddedText,
    scope: &[ScopeColumn],
    events: &[(&str, std::ops::Range<usize>)],
    problems: &mut Problems,
) -> Vec<SelectItem> {
    bind_all(text, scope, Stars { plain: 0, events }, false, None, problems).0
}

/// What a star stands for.
#[derive(Clone, Copy)]
struct Stars<'a> {
    /// So many columns of the scope, from the first on.
    plain: usize,
    /// The columns of the events of a join.
    events: &'a [(&'a str, std::ops::Range<usize>)],
}

fn bind_items<'a>(
    text: &EmbeddedText,
    scope: &'a [ScopeColumn],
    star: usize,
    nameless: bool,
    calls: Option<Calls<'a>>,
    problems: &mut Problems,
) -> (Vec<SelectItem>, Option<Calls<'a>>) {
    bind_all(text, scope, Stars { plain: star, events: &[] }, nameless, calls, problems)
}

fn bind_all<'a>(
    text: &EmbeddedText,
    scope: &'a [ScopeColumn],
    stars: Stars<'_>,
    nameless: bool,
    mut calls: Option<Calls<'a>>,
    problems: &mut Problems,
) -> (Vec<SelectItem>, Option<Calls<'a>>) {
    let sql = SqlText::new(text, problems);
    let mut items: Vec<SelectItem> = Vec::new();
    for piece in sql.pieces(problems) {
        let mut binder = Binder { sql: &sql, piece: &piece, scope, problems, depth: 0, calls };
        let bound = binder.select_item(stars, nameless);
        calls = binder.calls;
        for item in bound {
            if items.iter().any(|i| i.name.eq_ignore_ascii_case(&item.name)) {
                problems.add(
                    Problem::error("name.taken", format!("two columns are named `{}`", item.name), item.place)
                        .with_label("the second one")
                        .with_help("give one of them another name with `as`"),
                );
                continue;
            }
            items.push(item);
        }
    }
    (items, calls)
}

/// The name of a column of a join without that of its event.
fn own_name(name: &str) -> &str {
    name.split_once('.').map_or(name, |(_, own)| own)
}

/// Expressions within each other: deeper ones are refused rather than risk the stack.
const MAX_DEPTH: usize = 100;

/// Operators of one expression.
const MAX_OPERATORS: usize = 500;

struct Binder<'a, 's> {
    sql: &'a SqlText<'a>,
    piece: &'a [TokenWithSpan],
    scope: &'s [ScopeColumn],
    problems: &'a mut Problems,
    /// How many expressions the one that is bound stands in.
    depth: usize,
    /// The aggregate functions so far, where they are allowed.
    calls: Option<Calls<'s>>,
}

impl Binder<'_, '_> {
    fn place(&self, span: Span) -> Place {
        self.sql.place(span, self.piece)
    }

    fn mismatch(&mut self, span: Span, message: String, help: Option<&str>) {
        let mut problem =
            Problem::error("type.mismatch", message, self.place(span)).with_label("types do not go together");
        if let Some(help) = help {
            problem = problem.with_help(help);
        }
        self.problems.add(problem);
    }

    fn unsupported(&mut self, span: Span, what: &str, help: &str) {
        let place = self.place(span);
        self.problems.add(Problem::error("unsupported", what.to_string(), place).with_help(help));
    }

    fn select_item(&mut self, stars: Stars<'_>, nameless: bool) -> Vec<SelectItem> {
        if let Some(problem) = too_long(self.sql, self.piece) {
            self.problems.add(problem);
            return Vec::new();
        }
        let mut parser = SqlText::parser(self.piece);
        let parsed = match parser.parse_select_item() {
            Ok(parsed) => parsed,
            Err(error) => {
                self.problems.add(self.sql.syntax_problem(&error, self.piece));
                return Vec::new();
            }
        };
        if let Some(problem) = self.sql.leftover_problem(&parser) {
            self.problems.add(problem);
            return Vec::new();
        }
        let (syntax, name, span) = match parsed {
            ast::SelectItem::UnnamedExpr(expr) => {
                let span = expr.span();
                (expr, None, span)
            }
            ast::SelectItem::ExprWithAlias { expr, alias } => (expr, Some(alias.value), alias.span),
            ast::SelectItem::Wildcard(_) if !stars.events.is_empty() => {
                let place = self.sql.piece_place(self.piece);
                let all: Vec<String> = stars.events.iter().map(|(event, _)| format!("{event}.*")).collect();
                self.problems.add(
                    Problem::error("unsupported", "a star needs the name of an event here", place)
                        .with_help(format!("write: {}", all.join(", "))),
                );
                return Vec::new();
            }
            ast::SelectItem::Wildcard(options) => return self.all_columns(0..stars.plain, options),
            ast::SelectItem::QualifiedWildcard(ast::SelectItemQualifiedWildcardKind::ObjectName(name), options)
                if !stars.events.is_empty() =>
            {
                return self.all_columns_of(stars, &name, options);
            }
            ast::SelectItem::ExprWithAliases { .. } | ast::SelectItem::QualifiedWildcard(..) => {
                let place = self.sql.piece_place(self.piece);
                self.problems.add(
                    Problem::error("unsupported", "a column cannot be written like this", place)
                        .with_help("write: expression as name, or * for all columns"),
                );
                return Vec::new();
            }
        };
        let Some(expr) = self.bind(&syntax) else { return Vec::new() };
        let name = name.or_else(|| expr.as_column().map(|i| self.name_of(i, stars, nameless)));
        let name = name.or_else(|| nameless.then(|| self.sql.piece_text(self.piece).trim().to_string()));
        let Some(name) = name else {
            let text = self.sql.piece_text(self.piece);
            self.problems.add(
                Problem::error("key.missing", "this column needs a name", self.sql.piece_place(self.piece))
                    .with_help(format!("write: {text} as name")),
            );
            return Vec::new();
        };
        let expr = self.typed_as(expr, SqlType::Text);
        if expr.ty.is_within_expressions() {
            let help = match expr.ty {
                SqlType::Interval => "take its seconds, extract(epoch from …), or cast it to text",
                _ => "name its zone, … at time zone 'UTC', or cast it to text",
            };
            let message = format!("a column cannot have the type {}", expr.ty);
            self.problems.add(Problem::error("type.mismatch", message, self.place(span)).with_help(help));
            return Vec::new();
        }
        vec![SelectItem { name, expr, place: self.place(span), text: self.sql.piece_text(self.piece).to_string() }]
    }

    /// The name of a column that is given none. What copies all headers of a message needs a name that no header has.
    fn name_of(&self, column: usize, stars: Stars<'_>, is_part: bool) -> String {
        let name = &self.scope[column].name;
        if !stars.events.is_empty() {
            return plain(own_name(name)).to_string();
        }
        if is_part && name == HEADERS { name.clone() } else { plain(name).to_string() }
    }

    /// Gives a bare null a type.
    fn typed_as(&self, expr: Expr, ty: SqlType) -> Expr {
        if expr.ty == SqlType::Null { convert(expr, ty) } else { expr }
    }

    fn bind(&mut self, syntax: &ast::Expr) -> Option<Expr> {
        if self.depth >= MAX_DEPTH {
            let help = "compute parts of it as fields of a made event, or use a list: x in (1, 2, 3)";
            self.unsupported(syntax.span(), &format!("this expression is nested more than {MAX_DEPTH} deep"), help);
            return None;
        }
        self.depth += 1;
        let bound = self.bind_inner(syntax);
        self.depth -= 1;
        bound
    }

    fn bind_inner(&mut self, syntax: &ast::Expr) -> Option<Expr> {
        match syntax {
            ast::Expr::Identifier(ident) => self.column(&ident.value, ident.span),
            ast::Expr::CompoundIdentifier(parts) => {
                let name: Vec<&str> = parts.iter().map(|p| p.value.as_str()).collect();
                self.column(&name.join("."), syntax.span())
            }
            ast::Expr::Value(value) => self.literal(&value.value, value.span),
            ast::Expr::Nested(inner) => self.bind(inner),
            ast::Expr::UnaryOp { op, expr } => self.unary(*op, expr, syntax.span()),
            ast::Expr::BinaryOp { left, op, right } => self.binary(left, op, right, syntax.span()),
            ast::Expr::IsNull(inner) => Some(is_null(self.bind(inner)?)),
            ast::Expr::IsNotNull(inner) => Some(not(is_null(self.bind(inner)?))),
            ast::Expr::IsTrue(inner) => self.truth(inner, true, false),
            ast::Expr::IsNotTrue(inner) => self.truth(inner, true, true),
            ast::Expr::IsFalse(inner) => self.truth(inner, false, false),
            ast::Expr::IsNotFalse(inner) => self.truth(inner, false, true),
            ast::Expr::IsUnknown(inner) => Some(is_null(self.condition(inner)?)),
            ast::Expr::IsNotUnknown(inner) => Some(not(is_null(self.condition(inner)?))),
            ast::Expr::Between { expr, negated, low, high } => {
                let above = self.compare(CompareOp::GreaterOrEqual, expr, low, syntax.span());
                let below = self.compare(CompareOp::LessOrEqual, expr, high, syntax.span());
                let both = boolean(Node::And, above?, below?);
                Some(if *negated { not(both) } else { both })
            }
            ast::Expr::InList { expr, list, negated } => {
                let bound: Vec<_> =
                    list.iter().map(|item| self.compare(CompareOp::Equal, expr, item, syntax.span())).collect();
                let bound: Option<Vec<Expr>> = bound.into_iter().collect();
                let any = balanced(Node::Or, bound?)?;
                Some(if *negated { not(any) } else { any })
            }
            ast::Expr::Case { operand, conditions, else_result, case_token: _, end_token: _ } => {
                self.case(operand.as_deref(), conditions, else_result.as_deref(), syntax.span())
            }
            ast::Expr::Cast { kind, expr, data_type, format } => {
                if format.is_some() {
                    let help = "formats belong in the contract: fields = \"passed_at timestamptz format '%d.%m.%Y'\"";
                    self.unsupported(syntax.span(), "a cast takes no format", help);
                    return None;
                }
                self.cast(kind, expr, data_type, syntax.span())
            }
            ast::Expr::TypedString(ast::TypedString { data_type, value, uses_odbc_syntax }) => {
                if *uses_odbc_syntax {
                    self.unsupported(syntax.span(), "a constant is not written in braces", "write: date '2026-07-01'");
                    return None;
                }
                let (target, limit) = self.sql_type(data_type, syntax.span())?;
                let text = text_of(&value.value)?;
                if let Some(limit) = limit.filter(|limit| limit.reads_constants()) {
                    return self.constant_of(&text, limit, value.span);
                }
                let literal = self.coerce_literal(&Expr::text_literal(&text), target, value.span)?;
                Some(limited(literal, limit, false))
            }
            // The last two say how it was written.
            ast::Expr::Substring { expr, substring_from, substring_for, special: _, shorthand: _ } => {
                // Without a place it begins at the first character.
                let first = ast::Expr::value(Value::Number("1".into(), false));
                let mut arguments: Vec<&ast::Expr> = vec![expr, substring_from.as_deref().unwrap_or(&first)];
                arguments.extend(substring_for.as_deref());
                if substring_from.is_none() && substring_for.is_none() {
                    arguments.truncate(1);
                }
                self.call("substring", &arguments, syntax.span())
            }
            ast::Expr::Trim { expr, trim_where: None, trim_what: None, trim_characters: None } => {
                self.call("trim", &[expr], syntax.span())
            }
            ast::Expr::Function(function) => self.function(function),
            other => self.special(other),
        }
    }

    fn column(&mut self, name: &str, span: Span) -> Option<Expr> {
        let exact = self.scope.iter().position(|c| c.name == name);
        let folded = || self.scope.iter().position(|c| c.name.eq_ignore_ascii_case(name));
        if let Some(index) = exact.or_else(folded) {
            let column = &self.scope[index];
            return Some(Expr::of_column(index, column.ty, column.nullable, column.limit));
        }
        let place = self.place(span);
        let of_events = self.calls.as_ref().map_or(&[][..], |calls| calls.events);
        if of_events.iter().any(|c| c.name.eq_ignore_ascii_case(name)) {
            self.problems.add(
                Problem::error("name.unknown", format!("`{name}` has many values in a group"), place)
                    .with_label("neither in `group` nor in an aggregate function")
                    .with_help(format!("add it to `group`, or take one value: any_value({name}), max({name})")),
            );
            return None;
        }
        // Columns of the origin began with `_` before.
        let sought = renamed(name).map_or_else(|| name.to_string(), str::to_string);
        self.problems.add(
            Problem::error("name.unknown", format!("there is no column `{name}`"), place)
                .with_label("binds to nothing")
                .with_nearest(&sought, "columns", self.scope.iter().map(|c| c.name.as_str())),
        );
        None
    }

    fn literal(&mut self, value: &Value, span: Span) -> Option<Expr> {
        match value {
            Value::Number(text, _) => {
                let literal = number_literal(text);
                if literal.is_none() {
                    self.unsupported(span, "this number has more digits than any type holds", "38 digits is the most");
                }
                literal
            }
            Value::Boolean(value) => Some(Expr::literal(
                std::sync::Arc::new(arrow_array::BooleanArray::from(vec![*value])),
                SqlType::Boolean,
            )),
            Value::Null => Some(Expr::null()),
            other => match text_of(other) {
                Some(text) => Some(Expr::text_literal(&text)),
                None => {
                    self.unsupported(
                        span,
                        "this spelling of a constant is not known here",
                        "write text in single quotes",
                    );
                    None
                }
            },
        }
    }
}

fn text_of(value: &Value) -> Option<String> {
    match value {
        Value::SingleQuotedString(text) | Value::EscapedStringLiteral(text) | Value::NationalStringLiteral(text) => {
            Some(text.clone())
        }
        Value::DollarQuotedString(text) => Some(text.value.clone()),
        _ => None,
    }
}
