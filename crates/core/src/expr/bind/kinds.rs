//! Values of types that are kept as another one but are of their own kind: bytes and times of day are no texts.

use sqlparser::ast::{self, BinaryOperator, Spanned as _};
use sqlparser::tokenizer::Span;

use super::nodes::literal_of;
use super::{Binder, convert};
use crate::expr::functions::{self, Function, Prepared};
use crate::expr::literal::number_literal;
use crate::expr::{ArithmeticOp, Call, CompareOp, Expr, Node};
use crate::limit::{Limit, shown};
use crate::types::SqlType;

impl Binder<'_, '_> {
    /// Values that are to stand side by side: a constant beside a value of a narrower type is read as such a value, and bytes do
    /// not stand beside texts.
    pub(super) fn of_one_kind(&mut self, values: Vec<Expr>, spans: &[Span]) -> Option<Vec<Expr>> {
        let Some(limit) = values.iter().find_map(|v| v.limit.filter(|l| l.reads_constants())) else {
            return Some(values);
        };
        let mut all = Vec::with_capacity(values.len());
        for (i, value) in values.into_iter().enumerate() {
            let span = spans.get(i).or(spans.first()).copied().unwrap_or_else(Span::empty);
            let is_other = value.limit != Some(limit) && value.ty != SqlType::Null;
            all.push(match value.as_text().filter(|_| is_other && value.limit.is_none()) {
                Some(text) => self.constant_of(&text, limit, span)?,
                None if is_other && (limit.is_own() || value.limit.is_some_and(Limit::is_own)) => {
                    let other = shown(value.ty, value.limit);
                    let help = format!("cast one of them: x::{limit}, or x::text");
                    self.mismatch(span, format!("{limit} and {other} cannot be combined"), Some(&help));
                    return None;
                }
                None => value,
            });
        }
        Some(all)
    }

    /// A constant text as a value of a narrower type.
    pub(super) fn constant_of(&mut self, text: &str, limit: Limit, span: Span) -> Option<Expr> {
        let kept = limit.cast_text(text);
        if kept.is_none() {
            self.mismatch(span, format!("'{text}' is no {limit}"), None);
        }
        Some(literal_of(&kept?, limit))
    }

    /// Whether a cast between these exists; where one is of its own kind, few do.
    pub(super) fn kinds_can_be_cast(from: &Expr, to: SqlType, limit: Option<Limit>) -> bool {
        let own = |limit: Option<Limit>| limit.filter(|l| l.is_own());
        match (own(from.limit), own(limit)) {
            (None, None) => true,
            (Some(a), Some(b)) => a == b,
            (Some(Limit::Time), None) if to == SqlType::Interval => true,
            (Some(Limit::List(_)), None) if to == SqlType::Json => true,
            (Some(_), None) => to == SqlType::Text && limit != Some(Limit::Uuid),
            (None, Some(Limit::Time)) => {
                matches!(
                    from.ty,
                    SqlType::Text | SqlType::Null | SqlType::Timestamp | SqlType::Timestamptz | SqlType::Interval
                )
            }
            (None, Some(Limit::List(_))) => matches!(from.ty, SqlType::Text | SqlType::Json | SqlType::Null),
            (None, Some(_)) => matches!(from.ty, SqlType::Text | SqlType::Null),
        }
    }

    /// The time of day of a moment or an interval.
    pub(super) fn clock_of(&mut self, value: Expr, span: Span) -> Option<Expr> {
        self.built(&functions::CLOCK_OF, vec![value], span)
    }

    /// The function that takes bytes, where an argument is bytes.
    pub(super) fn of_bytes(function: &'static Function, arguments: &[Expr]) -> &'static Function {
        let has_bytes = arguments.iter().any(|a| a.limit == Some(Limit::Bytea));
        functions::of_bytes(function.name).filter(|_| has_bytes).unwrap_or(function)
    }

    /// `list[place]`, counted from 1.
    pub(super) fn subscript(&mut self, root: &ast::Expr, access: &[ast::AccessExpr], span: Span) -> Option<Expr> {
        let bound = self.bind(root)?;
        let [ast::AccessExpr::Subscript(ast::Subscript::Index { index })] = access else {
            self.unsupported(span, "this way into a value is not known here", "write: list[1], json -> 'name' -> 0");
            return None;
        };
        let place = self.bind(index)?;
        let Some(Limit::List(item)) = bound.limit else {
            let message = format!("{} has no places", shown(bound.ty, bound.limit));
            self.mismatch(root.span(), message, Some("of json: value -> 0, of text: substring(value, 1, 1)"));
            return None;
        };
        let found = self.arguments(&functions::ITEM, vec![bound, place], &[root.span(), index.span()], span)?;
        Some(convert(found, item))
    }

    /// `array[a, b]`: all items have one type.
    pub(super) fn list(&mut self, items: &[ast::Expr], span: Span) -> Option<Expr> {
        let bound: Vec<Option<Expr>> = items.iter().map(|item| self.bind(item)).collect();
        let bound = self.one_type(bound.into_iter().collect::<Option<_>>()?, span)?;
        let ty = bound.first().map_or(SqlType::Text, |first| first.ty);
        let is_own = bound.iter().any(|item| item.limit.is_some_and(Limit::is_own));
        let Some(limit) = Limit::list_of(ty).filter(|_| !is_own) else {
            let ty = bound.first().map_or_else(String::new, |first| shown(first.ty, first.limit));
            self.mismatch(
                span,
                format!("there are no lists of {ty}"),
                Some("json_build_array(a, b) makes one of JSON"),
            );
            return None;
        };
        let made = self.built(&functions::LIST_OF, bound, span)?;
        Some(Expr { limit: Some(limit), nullable: false, ..made })
    }

    /// `value = any(list)` and `value = all(list)`.
    pub(super) fn quantified(
        &mut self,
        (value, op, list): (&ast::Expr, &BinaryOperator, &ast::Expr),
        is_all: bool,
        span: Span,
    ) -> Option<Expr> {
        let op = match op {
            BinaryOperator::Eq => CompareOp::Equal,
            BinaryOperator::NotEq => CompareOp::NotEqual,
            BinaryOperator::Lt => CompareOp::Less,
            BinaryOperator::LtEq => CompareOp::LessOrEqual,
            BinaryOperator::Gt => CompareOp::Greater,
            BinaryOperator::GtEq => CompareOp::GreaterOrEqual,
            other => {
                let help = "known before any and all: = <> < <= > >=";
                self.unsupported(span, &format!("`{other}` is not known before any and all"), help);
                return None;
            }
        };
        let (bound, of) = (self.bind(value)?, self.bind(list)?);
        // A constant is a list of such values as stand before it.
        let of = match of.as_text().filter(|_| of.limit.is_none()) {
            Some(text) => {
                let item = if bound.ty == SqlType::Null { SqlType::Text } else { bound.ty };
                self.constant_of(&text, Limit::list_of(item)?, list.span())?
            }
            None => of,
        };
        if !matches!(of.limit, Some(Limit::List(_))) && of.ty != SqlType::Null {
            let word = if is_all { "all" } else { "any" };
            let message = format!("`{word}` takes a list here, not {}", shown(of.ty, of.limit));
            self.mismatch(list.span(), message, Some("a list is a field of a type such as text[], or array[1, 2]"));
            return None;
        }
        let found = self.arguments(&functions::QUANTIFIED, vec![of, bound], &[list.span(), value.span()], span)?;
        match found.node {
            Node::Call(call) => {
                let node = Node::Call(Call { prepared: Prepared::Quantified(op, is_all), ..call });
                Some(Expr::new(node, SqlType::Boolean, true))
            }
            node => Some(Expr { node, ..Expr::null() }),
        }
    }

    /// An operator with a time of day on a side; gives the sides back where it is one of moments or intervals after all.
    pub(super) fn clock(
        &mut self,
        op: ArithmeticOp,
        left: Expr,
        right: Expr,
        span: Span,
    ) -> Result<Option<Expr>, Box<(Expr, Expr)>> {
        use ArithmeticOp::{Add, Subtract};
        let is_clock = |e: &Expr| e.limit == Some(Limit::Time);
        let is_length = |e: &Expr| e.ty == SqlType::Interval || (e.as_text().is_some() && !is_clock(e));
        match (op, is_clock(&left), is_clock(&right)) {
            (Add, true, false) if is_length(&right) => Ok(self.moved_clock(left, right, span)),
            (Add, false, true) if is_length(&left) => Ok(self.moved_clock(right, left, span)),
            (Subtract, true, false) if is_length(&right) => {
                let Some(length) = self.as_interval(right, span) else { return Ok(None) };
                let Some(factor) = number_literal("-1") else { return Ok(None) };
                let negative = self.arguments(&functions::SCALE_INTERVAL, vec![length, factor], &[span, span], span);
                Ok(negative.and_then(|negative| self.moved_clock(left, negative, span)))
            }
            (Add, true, true) => {
                self.mismatch(span, "two times of day cannot be added".into(), Some("add an interval to one of them"));
                Ok(None)
            }
            // Beside a moment, and beside each other, they are lengths of time.
            _ => Err(Box::new((as_length(left), as_length(right)))),
        }
    }

    fn moved_clock(&mut self, clock: Expr, length: Expr, span: Span) -> Option<Expr> {
        let length = self.as_interval(length, span)?;
        self.built(&functions::MOVE_CLOCK, vec![clock, length], span)
    }
}

/// A time of day as the length of time since midnight; other values as they are.
pub(super) fn as_length(expr: Expr) -> Expr {
    match expr.limit {
        Some(Limit::Time) => convert(Expr { limit: None, ..expr }, SqlType::Interval),
        _ => expr,
    }
}

/// What narrows all of several values alike.
pub(super) fn shared_limit(values: &[Expr]) -> Option<Limit> {
    let mut limits = values.iter().filter(|v| v.ty != SqlType::Null).map(|v| v.limit);
    let first = limits.next()??;
    limits.all(|limit| limit == Some(first)).then_some(first)
}
