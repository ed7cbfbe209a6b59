//! Arithmetic of dates, moments and intervals.

use sqlparser::tokenizer::Span;

use super::{Binder, convert};
use crate::expr::functions::{self, Function};
use crate::expr::literal::number_literal;
use crate::expr::{ArithmeticOp, Expr};
use crate::types::SqlType;

impl Binder<'_, '_> {
    /// An operator with a date, a moment or an interval on a side.
    pub(super) fn temporal(&mut self, op: ArithmeticOp, left: Expr, right: Expr, span: Span) -> Option<Expr> {
        use ArithmeticOp::{Add, Divide, Multiply, Subtract};
        use SqlType::{Date, Interval};
        let is_interval = |e: &Expr| e.ty == Interval || e.as_text().is_some() || e.ty == SqlType::Null;
        let of = |binder: &mut Self, function: &'static Function, a: Expr, b: Expr| {
            binder.arguments(function, vec![a, b], &[span, span], span)
        };
        match (op, left.ty, right.ty) {
            (Add, a, _) if (a.is_moment() || a == Interval) && is_interval(&right) => {
                let right = self.as_interval(right, span)?;
                of(self, &functions::ADD_INTERVAL, left, right)
            }
            (Add, _, b) if b.is_moment() && is_interval(&left) => self.temporal(Add, right, left, span),
            (Add, _, Interval) if is_interval(&left) => self.temporal(Add, right, left, span),
            (Subtract, a, Interval) if a.is_moment() || is_interval(&left) => {
                let left = if a.is_moment() { left } else { self.as_interval(left, span)? };
                let negative = of(self, &functions::SCALE_INTERVAL, right, number_literal("-1")?)?;
                of(self, &functions::ADD_INTERVAL, left, negative)
            }
            (Add, Date, b) if b.is_whole() => of(self, &functions::ADD_DAYS, left, right),
            (Add, a, Date) if a.is_whole() => of(self, &functions::ADD_DAYS, right, left),
            (Subtract, Date, b) if b.is_whole() => {
                let zero = convert(number_literal("0")?, SqlType::Bigint);
                let negative = self.arithmetic(Subtract, zero, right, span)?;
                of(self, &functions::ADD_DAYS, left, negative)
            }
            (Subtract, Date, Date) => of(self, &functions::BETWEEN_DAYS, left, right),
            (Subtract, a, b) if a == b && a.is_moment() => of(self, &functions::BETWEEN_MOMENTS, left, right),
            (Subtract, a, SqlType::Text) if a.is_moment() && right.as_text().is_some() => {
                let right = self.coerce_literal(&right, a, span)?;
                self.temporal(Subtract, left, right, span)
            }
            (Subtract, SqlType::Text, b) if b.is_moment() && left.as_text().is_some() => {
                let left = self.coerce_literal(&left, b, span)?;
                self.temporal(Subtract, left, right, span)
            }
            (Multiply, Interval, b) if b.is_numeric() => of(self, &functions::SCALE_INTERVAL, left, right),
            (Multiply, a, Interval) if a.is_numeric() => of(self, &functions::SCALE_INTERVAL, right, left),
            (Divide, Interval, b) if b.is_numeric() => {
                let one = convert(number_literal("1")?, SqlType::Double);
                let share = self.arithmetic(Divide, one, convert(right, SqlType::Double), span)?;
                of(self, &functions::SCALE_INTERVAL, left, share)
            }
            _ => {
                let message = format!("this operator does not take {} and {}", left.ty, right.ty);
                let help =
                    "moments take intervals: passed_at + interval '5 minutes'; dates also take whole days: day + 1";
                self.mismatch(span, message, Some(help));
                None
            }
        }
    }

    pub(super) fn as_interval(&mut self, expr: Expr, span: Span) -> Option<Expr> {
        match expr.as_text() {
            Some(_) => self.coerce_literal(&expr, SqlType::Interval, span),
            None => Some(convert(expr, SqlType::Interval)),
        }
    }
}
