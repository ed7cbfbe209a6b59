//! Binds SQL syntax to the columns of a scope and gives every part a type, before anything runs.

mod calls;
mod operators;

use sqlparser::ast::{self, Spanned as _, Value};
use sqlparser::tokenizer::{Span, TokenWithSpan};

use super::literal::number_literal;
use super::{CompareOp, Expr, Node, ScopeColumn};
use crate::config::EmbeddedText;
use crate::problem::{Place, Problem, Problems};
use crate::sql::SqlText;
use crate::types::SqlType;

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
    pub fn of_column(index: usize, column: &crate::plan::OutputColumn) -> Self {
        Self {
            name: column.name.clone(),
            expr: Expr::new(Node::Column(index), column.ty, column.nullable),
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
    let mut binder = Binder { sql: &sql, piece: &piece, scope, problems };
    let expr = binder.bind(&parsed)?;
    let expr = binder.typed_as(expr, SqlType::Boolean);
    if expr.ty != SqlType::Boolean {
        binder.mismatch(parsed.span(), format!("a condition must be boolean, this is {}", expr.ty), None);
        return None;
    }
    // What is wrong was said with the whole.
    let mut said = Problems::new();
    let mut binder = Binder { sql: &sql, piece: &piece, scope, problems: &mut said };
    let mut parts = Vec::new();
    for part in and_parts(&parsed) {
        let bound = binder.bind(part)?;
        parts.push((part.to_string(), binder.typed_as(bound, SqlType::Boolean)));
    }
    Some(Condition { expr, parts })
}

/// What `and` joins at the top of a condition.
fn and_parts(syntax: &ast::Expr) -> Vec<&ast::Expr> {
    match syntax {
        ast::Expr::Nested(inner) => and_parts(inner),
        ast::Expr::BinaryOp { left, op: ast::BinaryOperator::And, right } => {
            [and_parts(left), and_parts(right)].concat()
        }
        other => vec![other],
    }
}

/// Binds a select list. Items with a mistake become problems; the others are returned.
pub fn bind_select(text: &EmbeddedText, scope: &[ScopeColumn], problems: &mut Problems) -> Vec<SelectItem> {
    bind_items(text, scope, scope.len(), false, problems)
}

/// Binds a select list in which a star stands for the first so many columns of the scope.
pub fn bind_columns(
    text: &EmbeddedText,
    scope: &[ScopeColumn],
    star: usize,
    problems: &mut Problems,
) -> Vec<SelectItem> {
    bind_items(text, scope, star, false, problems)
}

/// Binds a select list whose items may go without a name: such an item is named by its text.
pub fn bind_parts(text: &EmbeddedText, scope: &[ScopeColumn], problems: &mut Problems) -> Vec<SelectItem> {
    bind_items(text, scope, 0, true, problems)
}

fn bind_items(
    text: &EmbeddedText,
    scope: &[ScopeColumn],
    star: usize,
    nameless: bool,
    problems: &mut Problems,
) -> Vec<SelectItem> {
    let sql = SqlText::new(text, problems);
    let mut items: Vec<SelectItem> = Vec::new();
    for piece in sql.pieces(problems) {
        let mut binder = Binder { sql: &sql, piece: &piece, scope, problems };
        for item in binder.select_item(star, nameless) {
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
    items
}

struct Binder<'a> {
    sql: &'a SqlText<'a>,
    piece: &'a [TokenWithSpan],
    scope: &'a [ScopeColumn],
    problems: &'a mut Problems,
}

impl Binder<'_> {
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

    fn select_item(&mut self, star: usize, nameless: bool) -> Vec<SelectItem> {
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
            ast::SelectItem::Wildcard(_) => return self.all_columns(star),
            _ => {
                self.unsupported(Span::empty(), "this form of a column is not known here", "write: expression as name");
                return Vec::new();
            }
        };
        let Some(expr) = self.bind(&syntax) else { return Vec::new() };
        let name = name.or_else(|| expr.as_column().map(|i| self.scope[i].name.clone()));
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
        vec![SelectItem { name, expr, place: self.place(span), text: self.sql.piece_text(self.piece).to_string() }]
    }

    fn all_columns(&self, star: usize) -> Vec<SelectItem> {
        let place = self.sql.piece_place(self.piece);
        let item = |(i, c): (usize, &ScopeColumn)| SelectItem {
            name: c.name.clone(),
            expr: Expr::new(Node::Column(i), c.ty, c.nullable),
            place: place.clone(),
            text: c.name.clone(),
        };
        self.scope.iter().take(star).enumerate().map(item).collect()
    }

    /// Gives a bare null a type.
    fn typed_as(&self, expr: Expr, ty: SqlType) -> Expr {
        if expr.ty == SqlType::Null { convert(expr, ty) } else { expr }
    }

    fn bind(&mut self, syntax: &ast::Expr) -> Option<Expr> {
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
                let any = bound?.into_iter().reduce(|a, b| boolean(Node::Or, a, b))?;
                Some(if *negated { not(any) } else { any })
            }
            ast::Expr::Case { operand, conditions, else_result, .. } => {
                self.case(operand.as_deref(), conditions, else_result.as_deref(), syntax.span())
            }
            ast::Expr::Cast { kind, expr, data_type, .. } => self.cast(kind, expr, data_type, syntax.span()),
            ast::Expr::TypedString(typed) => {
                let target = self.sql_type(&typed.data_type, syntax.span())?;
                let text = Expr::text_literal(&text_of(&typed.value.value)?);
                self.coerce_literal(&text, target, typed.value.span)
            }
            ast::Expr::Substring { expr, substring_from, substring_for, .. } => {
                let arguments: Vec<&ast::Expr> = [Some(expr), substring_from.as_ref(), substring_for.as_ref()]
                    .into_iter()
                    .flatten()
                    .map(AsRef::as_ref)
                    .collect();
                self.call("substring", &arguments, syntax.span())
            }
            ast::Expr::Trim { expr, trim_where: None, trim_what: None, trim_characters: None } => {
                self.call("trim", &[expr], syntax.span())
            }
            ast::Expr::Function(function) => self.function(function),
            other => {
                let help = "the manual lists what expressions can do; transforms of several events are made events";
                self.unsupported(other.span(), "this part of SQL is not known here", help);
                None
            }
        }
    }

    fn column(&mut self, name: &str, span: Span) -> Option<Expr> {
        let exact = self.scope.iter().position(|c| c.name == name);
        let folded = || self.scope.iter().position(|c| c.name.eq_ignore_ascii_case(name));
        if let Some(index) = exact.or_else(folded) {
            let column = &self.scope[index];
            return Some(Expr::new(Node::Column(index), column.ty, column.nullable));
        }
        let place = self.place(span);
        self.problems.add(
            Problem::error("name.unknown", format!("there is no column `{name}`"), place)
                .with_label("binds to nothing")
                .with_nearest(name, "columns", self.scope.iter().map(|c| c.name.as_str())),
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

/// Casts where the type differs.
fn convert(expr: Expr, ty: SqlType) -> Expr {
    if expr.ty == ty {
        return expr;
    }
    let nullable = expr.nullable;
    Expr::new(Node::Cast { inner: Box::new(expr), lenient: false }, ty, nullable)
}

fn boolean(make: fn(Box<Expr>, Box<Expr>) -> Node, left: Expr, right: Expr) -> Expr {
    let nullable = left.nullable || right.nullable;
    Expr::new(make(Box::new(left), Box::new(right)), SqlType::Boolean, nullable)
}

fn not(inner: Expr) -> Expr {
    let nullable = inner.nullable;
    Expr::new(Node::Not(Box::new(inner)), SqlType::Boolean, nullable)
}

fn is_null(inner: Expr) -> Expr {
    Expr::new(Node::IsNull(Box::new(inner)), SqlType::Boolean, false)
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
