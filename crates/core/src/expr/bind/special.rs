//! Syntax of SQL that is computed by functions: patterns, ways into JSON, fields of moments, bits.

use sqlparser::ast::{self, BinaryOperator, Spanned as _, TrimWhereField};
use sqlparser::tokenizer::Span;

use super::kinds::as_length;
use super::{Binder, boolean, is_null, not, unknown};
use crate::expr::functions::{self, Function};
use crate::expr::{CompareOp, Expr, Node};
use crate::limit::Limit;
use crate::types::SqlType;

impl Binder<'_, '_> {
    /// Syntax that has no node of its own.
    pub(super) fn special(&mut self, syntax: &ast::Expr) -> Option<Expr> {
        let span = syntax.span();
        match syntax {
            ast::Expr::Like { negated, any: false, expr, pattern, escape_char } => {
                self.pattern(&functions::LIKE, (expr, pattern, escape_char.as_deref()), *negated, span)
            }
            ast::Expr::ILike { negated, any: false, expr, pattern, escape_char } => {
                self.pattern(&functions::ILIKE, (expr, pattern, escape_char.as_deref()), *negated, span)
            }
            ast::Expr::SimilarTo { negated, expr, pattern, escape_char } => {
                self.pattern(&functions::SIMILAR, (expr, pattern, escape_char.as_deref()), *negated, span)
            }
            ast::Expr::IsDistinctFrom(left, right) => self.distinct(left, right, span),
            ast::Expr::IsNotDistinctFrom(left, right) => self.distinct(left, right, span).map(not),
            ast::Expr::Extract { field, syntax: _, expr } => {
                let word = Expr::text_literal(&field.to_string().to_lowercase());
                let value = self.bind(expr)?;
                self.field(word, value, expr.span(), span)
            }
            ast::Expr::AtTimeZone { timestamp, time_zone } => self.at_time_zone(timestamp, time_zone, span),
            ast::Expr::Interval(interval) => self.interval(interval, span),
            ast::Expr::Ceil { expr, field } if is_plain(field) => self.call("ceil", &[expr], span),
            ast::Expr::Floor { expr, field } if is_plain(field) => self.call("floor", &[expr], span),
            ast::Expr::Position { expr, r#in } => self.call("strpos", &[r#in, expr], span),
            ast::Expr::Overlay { expr, overlay_what, overlay_from, overlay_for } => {
                self.overlay(expr, overlay_what, overlay_from, overlay_for.as_deref(), span)
            }
            ast::Expr::Trim { expr, trim_where, trim_what, trim_characters: None } => {
                let name = match trim_where {
                    None | Some(TrimWhereField::Both) => "btrim",
                    Some(TrimWhereField::Leading) => "ltrim",
                    Some(TrimWhereField::Trailing) => "rtrim",
                };
                let mut arguments: Vec<&ast::Expr> = vec![expr];
                arguments.extend(trim_what.as_deref());
                self.call(name, &arguments, span)
            }
            ast::Expr::Trim { expr, trim_where: None, trim_what: None, trim_characters: Some(characters) }
                if characters.len() == 1 =>
            {
                self.call("btrim", &[expr, &characters[0]], span)
            }
            ast::Expr::CompoundFieldAccess { root, access_chain } => self.subscript(root, access_chain, span),
            ast::Expr::Array(array) => self.list(&array.elem, span),
            ast::Expr::AnyOp { left, compare_op, right, is_some: _ } => {
                self.quantified((left, compare_op, right), false, span)
            }
            ast::Expr::AllOp { left, compare_op, right } => self.quantified((left, compare_op, right), true, span),
            other => {
                let (what, help) = unknown::unknown_syntax(other);
                self.unsupported(span, &what, help);
                None
            }
        }
    }

    /// Operators that are computed by functions.
    pub(super) fn as_function(
        &mut self,
        left: &ast::Expr,
        op: &BinaryOperator,
        right: &ast::Expr,
        span: Span,
    ) -> Option<Expr> {
        let (function, negated) = match op {
            BinaryOperator::StringConcat => (&functions::JOIN, false),
            BinaryOperator::PGRegexMatch => (&functions::MATCHES, false),
            BinaryOperator::PGRegexNotMatch => (&functions::MATCHES, true),
            BinaryOperator::PGRegexIMatch => (&functions::MATCHES_ANY_CASE, false),
            BinaryOperator::PGRegexNotIMatch => (&functions::MATCHES_ANY_CASE, true),
            BinaryOperator::PGLikeMatch => (&functions::LIKE, false),
            BinaryOperator::PGNotLikeMatch => (&functions::LIKE, true),
            BinaryOperator::PGILikeMatch => (&functions::ILIKE, false),
            BinaryOperator::PGNotILikeMatch => (&functions::ILIKE, true),
            BinaryOperator::Arrow => (&functions::AT, false),
            BinaryOperator::LongArrow => (&functions::AT_TEXT, false),
            BinaryOperator::HashArrow => (&functions::AT_PATH, false),
            BinaryOperator::HashLongArrow => (&functions::AT_PATH_TEXT, false),
            BinaryOperator::PGStartsWith => return self.call("starts_with", &[left, right], span),
            // In PostgreSQL this sign is the power.
            BinaryOperator::BitwiseXor => return self.call("power", &[left, right], span),
            BinaryOperator::BitwiseAnd => return self.bits(&functions::BIT_AND, left, right, span),
            BinaryOperator::BitwiseOr => return self.bits(&functions::BIT_OR, left, right, span),
            BinaryOperator::PGBitwiseXor => return self.bits(&functions::BIT_XOR, left, right, span),
            BinaryOperator::PGBitwiseShiftLeft => (&functions::SHIFT_LEFT, false),
            BinaryOperator::PGBitwiseShiftRight => (&functions::SHIFT_RIGHT, false),
            other => {
                let help =
                    "known: + - * / % ^ || = <> < <= > >= and or like ilike ~ ~* !~ !~* -> ->> #> #>> & | # << >>";
                self.unsupported(span, &format!("the operator `{other}` is not known here"), help);
                return None;
            }
        };
        let (bound, spans) = ([self.bind(left), self.bind(right)], [left.span(), right.span()]);
        let bound: Option<Vec<Expr>> = bound.into_iter().collect();
        let found = self.arguments(function, bound?, &spans, span)?;
        Some(if negated { not(found) } else { found })
    }

    /// `&`, `|` and `#`: both sides have one type.
    fn bits(&mut self, function: &'static Function, left: &ast::Expr, right: &ast::Expr, span: Span) -> Option<Expr> {
        let (l, r) = (self.bind(left), self.bind(right));
        let both = self.one_type(vec![l?, r?], span)?;
        self.arguments(function, both, &[left.span(), right.span()], span)
    }

    fn pattern(
        &mut self,
        function: &'static Function,
        (text, pattern, escape): (&ast::Expr, &ast::Expr, Option<&ast::Expr>),
        negated: bool,
        span: Span,
    ) -> Option<Expr> {
        let syntax: Vec<&ast::Expr> = [text, pattern].into_iter().chain(escape).collect();
        let bound: Vec<Option<Expr>> = syntax.iter().map(|part| self.bind(part)).collect();
        let spans: Vec<Span> = syntax.iter().map(|part| part.span()).collect();
        let found = self.arguments(function, bound.into_iter().collect::<Option<_>>()?, &spans, span)?;
        Some(if negated { not(found) } else { found })
    }

    /// Whether two values differ, where null is a value like others.
    fn distinct(&mut self, left: &ast::Expr, right: &ast::Expr, span: Span) -> Option<Expr> {
        let (l, r) = (self.bind(left), self.bind(right));
        let (l, r) = self.side_by_side(l?, left.span(), r?, right.span(), span)?;
        let one_is_null = boolean(Node::Or, is_null(l.clone()), is_null(r.clone()));
        let nulls = [is_null(l.clone()), is_null(r.clone())].map(Box::new);
        let [left_is_null, right_is_null] = nulls;
        let differ =
            Expr::new(Node::Compare(CompareOp::NotEqual, left_is_null, right_is_null), SqlType::Boolean, false);
        let compared = Expr::new(Node::Compare(CompareOp::NotEqual, Box::new(l), Box::new(r)), SqlType::Boolean, true);
        let branches = vec![(one_is_null, differ)];
        Some(Expr::new(Node::Case(branches, Box::new(compared)), SqlType::Boolean, false))
    }

    fn overlay(
        &mut self,
        text: &ast::Expr,
        new: &ast::Expr,
        from: &ast::Expr,
        count: Option<&ast::Expr>,
        span: Span,
    ) -> Option<Expr> {
        let syntax: Vec<&ast::Expr> = [text, new, from].into_iter().chain(count).collect();
        let bound: Vec<Option<Expr>> = syntax.iter().map(|part| self.bind(part)).collect();
        let spans: Vec<Span> = syntax.iter().map(|part| part.span()).collect();
        self.arguments(&functions::OVERLAY, bound.into_iter().collect::<Option<_>>()?, &spans, span)
    }

    /// A constant interval: `interval '5 minutes'`, `interval '5' minute`.
    fn interval(&mut self, syntax: &ast::Interval, span: Span) -> Option<Expr> {
        let ast::Interval { value, leading_field, leading_precision, last_field, fractional_seconds_precision } =
            syntax;
        if leading_precision.is_some() || last_field.is_some() || fractional_seconds_precision.is_some() {
            self.unsupported(span, "this form of an interval is not known here", "write: interval '1 day 2 hours'");
            return None;
        }
        let bound = self.bind(value)?;
        let text = bound.as_text().or_else(|| match &bound.node {
            Node::Literal(_) if bound.ty.is_whole() => Some(value.to_string()),
            _ => None,
        });
        let Some(text) = text else {
            self.unsupported(span, "an interval is a constant", "multiply one: interval '1 minute' * minutes");
            return None;
        };
        let text = match leading_field {
            Some(field) => format!("{text} {field}"),
            None => text,
        };
        self.coerce_literal(&Expr::text_literal(&text), SqlType::Interval, span)
    }

    /// A field of a moment or an interval.
    pub(super) fn field(&mut self, word: Expr, value: Expr, value_span: Span, span: Span) -> Option<Expr> {
        let is_clock = value.limit == Some(Limit::Time);
        let value = match value.as_text() {
            _ if is_clock => as_length(value),
            Some(_) => self.coerce_literal(&value, SqlType::Timestamptz, value_span)?,
            None => value,
        };
        let name = word.as_text().unwrap_or_default();
        let lacks = |fields: &[&str]| fields.contains(&name.as_str());
        let missing = match value.ty {
            _ if is_clock => name != "epoch" && !lacks(functions::FIELDS_OF_TIME),
            SqlType::Date => lacks(functions::FIELDS_OF_TIME),
            SqlType::Interval => lacks(functions::FIELDS_OF_CALENDAR),
            _ => false,
        };
        if missing {
            let kind = if is_clock { Limit::Time.to_string() } else { value.ty.to_string() };
            self.mismatch(span, format!("a value of the type {kind} has no {name}"), None);
            return None;
        }
        let function = functions::find("date_part")?;
        self.arguments(function, vec![word, value], &[span, value_span], span)
    }

    fn at_time_zone(&mut self, moment: &ast::Expr, zone: &ast::Expr, span: Span) -> Option<Expr> {
        let (value, name) = (self.bind(moment), self.bind(zone));
        let (value, name) = (value?, name?);
        let function = if value.ty == SqlType::Timestamp { &functions::MOMENT_OF } else { &functions::LOCAL_TIME };
        self.arguments(function, vec![value, name], &[moment.span(), zone.span()], span)
    }
}

/// Whether `ceil` and `floor` stand without a field or a scale.
fn is_plain(field: &ast::CeilFloorKind) -> bool {
    matches!(field, ast::CeilFloorKind::DateTimeField(ast::DateTimeField::NoDateTime))
}
