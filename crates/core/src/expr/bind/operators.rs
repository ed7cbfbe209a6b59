//! Operators, comparisons, logic and case.

use sqlparser::ast::{self, BinaryOperator, Spanned as _, UnaryOperator, Value};
use sqlparser::tokenizer::Span;

use super::kinds::shared_limit;
use super::{Binder, balanced, convert, not};
use crate::expr::functions;
use crate::expr::literal::{decimal_literal, number_literal, text_as};
use crate::expr::{ArithmeticOp, CompareOp, Expr, Node, arithmetic};
use crate::limit::Limit;
use crate::types::SqlType;

impl Binder<'_, '_> {
    pub(super) fn unary(&mut self, op: UnaryOperator, inner: &ast::Expr, span: Span) -> Option<Expr> {
        match op {
            UnaryOperator::Not => {
                let bound = self.condition(inner)?;
                Some(not(bound))
            }
            UnaryOperator::Plus => self.bind(inner),
            UnaryOperator::Minus => {
                if let ast::Expr::Value(value) = inner
                    && let Value::Number(text, _) = &value.value
                {
                    return number_literal(&format!("-{text}"));
                }
                let bound = self.bind(inner)?;
                if bound.ty == SqlType::Interval {
                    let factor = number_literal("-1")?;
                    return self.arguments(&functions::SCALE_INTERVAL, vec![bound, factor], &[span, span], span);
                }
                let zero = number_literal("0")?;
                self.arithmetic(ArithmeticOp::Subtract, zero, bound, span)
            }
            UnaryOperator::BitwiseNot => {
                let bound = self.bind(inner)?;
                self.arguments(&functions::BIT_NOT, vec![bound], &[inner.span()], span)
            }
            _ => {
                self.unsupported(span, "this operator is not known here", "known: + - ~ and not");
                None
            }
        }
    }

    pub(super) fn binary(
        &mut self,
        left: &ast::Expr,
        op: &BinaryOperator,
        right: &ast::Expr,
        span: Span,
    ) -> Option<Expr> {
        let compare = match op {
            BinaryOperator::Eq => Some(CompareOp::Equal),
            BinaryOperator::NotEq => Some(CompareOp::NotEqual),
            BinaryOperator::Lt => Some(CompareOp::Less),
            BinaryOperator::LtEq => Some(CompareOp::LessOrEqual),
            BinaryOperator::Gt => Some(CompareOp::Greater),
            BinaryOperator::GtEq => Some(CompareOp::GreaterOrEqual),
            _ => None,
        };
        if let Some(compare) = compare {
            return self.compare(compare, left, right, span);
        }
        let arithmetic = match op {
            BinaryOperator::Plus => Some(ArithmeticOp::Add),
            BinaryOperator::Minus => Some(ArithmeticOp::Subtract),
            BinaryOperator::Multiply => Some(ArithmeticOp::Multiply),
            BinaryOperator::Divide => Some(ArithmeticOp::Divide),
            BinaryOperator::Modulo => Some(ArithmeticOp::Remainder),
            _ => None,
        };
        if let Some(arithmetic) = arithmetic {
            let (left, right) = (self.bind(left), self.bind(right));
            return self.arithmetic(arithmetic, left?, right?, span);
        }
        match op {
            BinaryOperator::And | BinaryOperator::Or => {
                let make = if *op == BinaryOperator::And { Node::And } else { Node::Or };
                let parts: Vec<Option<Expr>> =
                    chain(left, op, right).into_iter().map(|part| self.condition(part)).collect();
                balanced(make, parts.into_iter().collect::<Option<Vec<_>>>()?)
            }
            _ => self.as_function(left, op, right, span),
        }
    }

    pub(super) fn arithmetic(&mut self, op: ArithmeticOp, left: Expr, right: Expr, span: Span) -> Option<Expr> {
        let (left, right) = match [&left, &right].iter().any(|e| e.limit == Some(Limit::Time)) {
            true => match self.clock(op, left, right, span) {
                Ok(found) => return found,
                Err(sides) => *sides,
            },
            false => (left, right),
        };
        if [&left, &right].iter().any(|e| e.ty.is_moment() || e.ty == SqlType::Interval) {
            return self.temporal(op, left, right, span);
        }
        let left = self.typed_as(left, right.ty);
        let right = self.typed_as(right, left.ty);
        let decimal = |e: &Expr| matches!(e.ty, SqlType::Decimal { .. });
        let (left, right) = match (decimal(&left), decimal(&right)) {
            (true, false) => (left, exact_literal(right)),
            (false, true) => (exact_literal(left), right),
            _ => (left, right),
        };
        let Some(ty) = arithmetic::result_type(op, left.ty, right.ty) else {
            let message = format!("this operator takes numbers, not {} and {}", left.ty, right.ty);
            self.mismatch(span, message, Some("cast one side: cast(x as decimal(12,2))"));
            return None;
        };
        let nullable = left.nullable || right.nullable;
        let side = |e: Expr| match ty {
            SqlType::Decimal { .. } => match e.ty.as_decimal() {
                Some((precision, scale)) => convert(e, SqlType::Decimal { precision, scale }),
                None => e,
            },
            _ => convert(e, ty),
        };
        Some(Expr::new(Node::Arithmetic(op, Box::new(side(left)), Box::new(side(right))), ty, nullable))
    }

    pub(super) fn compare(&mut self, op: CompareOp, left: &ast::Expr, right: &ast::Expr, span: Span) -> Option<Expr> {
        let (l, r) = (self.bind(left), self.bind(right));
        let (l, r) = (l?, r?);
        let (l, r) = self.side_by_side(l, left.span(), r, right.span(), span)?;
        let nullable = l.nullable || r.nullable;
        Some(Expr::new(Node::Compare(op, Box::new(l), Box::new(r)), SqlType::Boolean, nullable))
    }

    /// Brings two expressions to one type; a quoted literal takes the type of the other side.
    pub(super) fn side_by_side(
        &mut self,
        l: Expr,
        l_span: Span,
        r: Expr,
        r_span: Span,
        span: Span,
    ) -> Option<(Expr, Expr)> {
        let [l, r] = <[Expr; 2]>::try_from(self.of_one_kind(vec![l, r], &[l_span, r_span])?).ok()?;
        if l.as_text().is_some() && !matches!(r.ty, SqlType::Text | SqlType::Null) {
            let ty = r.ty;
            return Some((self.coerce_literal(&l, ty, l_span)?, r));
        }
        if r.as_text().is_some() && !matches!(l.ty, SqlType::Text | SqlType::Null) {
            let ty = l.ty;
            return Some((l, self.coerce_literal(&r, ty, r_span)?));
        }
        match l.ty.common(r.ty) {
            Some(SqlType::Null) => Some((convert(l, SqlType::Boolean), convert(r, SqlType::Boolean))),
            Some(SqlType::Json) => {
                self.mismatch(span, "json values cannot be compared".into(), Some("cast them to text"));
                None
            }
            Some(ty) => Some((convert(l, ty), convert(r, ty))),
            None => {
                let message = format!("{} and {} cannot be combined", l.ty, r.ty);
                self.mismatch(span, message, Some("cast one side to the type of the other"));
                None
            }
        }
    }

    pub(super) fn coerce_literal(&mut self, literal: &Expr, ty: SqlType, span: Span) -> Option<Expr> {
        let text = literal.as_text()?;
        let read = text_as(&text, ty);
        if read.is_none() {
            self.mismatch(span, format!("'{text}' is no {ty}"), None);
        }
        read
    }

    pub(super) fn condition(&mut self, syntax: &ast::Expr) -> Option<Expr> {
        let bound = self.bind(syntax)?;
        let bound = self.typed_as(bound, SqlType::Boolean);
        if bound.ty != SqlType::Boolean {
            self.mismatch(syntax.span(), format!("this must be boolean, but it is {}", bound.ty), None);
            return None;
        }
        Some(bound)
    }

    pub(super) fn truth(&mut self, inner: &ast::Expr, wanted: bool, negated: bool) -> Option<Expr> {
        let inner = self.condition(inner)?;
        let expr = Expr::new(Node::IsTruth(Box::new(inner), wanted), SqlType::Boolean, false);
        Some(if negated { not(expr) } else { expr })
    }

    pub(super) fn case(
        &mut self,
        operand: Option<&ast::Expr>,
        conditions: &[ast::CaseWhen],
        otherwise: Option<&ast::Expr>,
        span: Span,
    ) -> Option<Expr> {
        let mut whens = Vec::new();
        let mut values = Vec::new();
        for branch in conditions {
            let when = match operand {
                Some(operand) => self.compare(CompareOp::Equal, operand, &branch.condition, branch.condition.span()),
                None => self.condition(&branch.condition),
            };
            let value = self.bind(&branch.result);
            whens.push(when?);
            values.push(value?);
        }
        values.push(match otherwise {
            Some(otherwise) => self.bind(otherwise)?,
            None => Expr::null(),
        });
        let mut values = self.one_type(values, span)?;
        let limit = shared_limit(&values);
        let otherwise = values.pop()?;
        let (ty, nullable) = (otherwise.ty, otherwise.nullable || values.iter().any(|v| v.nullable));
        let branches = whens.into_iter().zip(values).collect();
        Some(Expr { limit, ..Expr::new(Node::Case(branches, Box::new(otherwise)), ty, nullable) })
    }

    /// Brings several expressions to one type.
    pub(super) fn one_type(&mut self, values: Vec<Expr>, span: Span) -> Option<Vec<Expr>> {
        let values = self.of_one_kind(values, &[span])?;
        let mut common = SqlType::Null;
        for value in &values {
            let Some(ty) = common.common(value.ty) else {
                let message = format!("{common} and {} cannot be combined", value.ty);
                self.mismatch(span, message, Some("cast the values to one type"));
                return None;
            };
            common = ty;
        }
        let ty = if common == SqlType::Null { SqlType::Text } else { common };
        let limit = shared_limit(&values);
        let typed = |v: Expr| {
            let limit = if v.ty == ty { v.limit } else { limit };
            Expr { limit, ..convert(v, ty) }
        };
        Some(values.into_iter().map(typed).collect())
    }
}

/// What one operator joins, from left to right, however long the chain is.
fn chain<'s>(left: &'s ast::Expr, op: &BinaryOperator, right: &'s ast::Expr) -> Vec<&'s ast::Expr> {
    let mut parts = vec![right];
    let mut rest = left;
    while let ast::Expr::BinaryOp { left, op: inner, right } = rest
        && inner == op
    {
        parts.push(right);
        rest = left;
    }
    parts.push(rest);
    parts.reverse();
    parts
}

/// A whole constant as a decimal with no more digits than it has.
fn exact_literal(expr: Expr) -> Expr {
    use arrow_array::cast::AsArray as _;
    use arrow_array::types::{Int32Type, Int64Type};
    match (&expr.node, expr.ty) {
        (Node::Literal(array), SqlType::Integer) => {
            decimal_literal(array.as_primitive::<Int32Type>().value(0).into(), 0)
        }
        (Node::Literal(array), SqlType::Bigint) => {
            decimal_literal(array.as_primitive::<Int64Type>().value(0).into(), 0)
        }
        _ => expr,
    }
}
