//! Aggregate functions in a select list over groups.

use sqlparser::ast::{self, Spanned as _};
use sqlparser::tokenizer::Span;

use super::Binder;
use crate::expr::{Expr, Node, ScopeColumn};
use crate::limit::Limit;
use crate::problem::Problem;
use crate::state::{AGGREGATES, Aggregate, AggregateCall, AggregateKind, LONGEST_LIST};
use crate::types::SqlType;
use crate::units::show_count;

/// One call of an aggregate function, over the columns of events.
#[derive(Clone, Debug)]
pub struct BoundCall {
    /// The function.
    pub kind: AggregateKind,
    /// The argument; None for `count(*)`.
    pub argument: Option<Expr>,
    /// The condition after `filter`, where there is one.
    pub filter: Option<Expr>,
    /// The constant after the argument, for functions that have one.
    pub share: f64,
    /// Of a list, how many values it has at most.
    pub most: Option<usize>,
    /// How it is written, in one spelling.
    pub text: String,
}

/// The calls of a select list.
pub(super) struct Calls<'a> {
    /// The columns of events.
    pub events: &'a [ScopeColumn],
    /// The place of the first call among the columns of a group.
    pub first: usize,
    /// The calls so far, each once.
    pub found: Vec<BoundCall>,
}

/// The aggregate function of a name.
pub(super) fn find(name: &str) -> Option<&'static Aggregate> {
    AGGREGATES.iter().find(|a| a.name.eq_ignore_ascii_case(name))
}

/// The function, its argument, its condition, and the constants after the argument.
type AggregateParts = (AggregateKind, Option<Expr>, Option<Expr>, (f64, Option<usize>));

impl Binder<'_, '_> {
    /// Binds a call of an aggregate function.
    pub(super) fn aggregate(&mut self, function: &'static Aggregate, syntax: &ast::Function) -> Option<Expr> {
        let span = syntax.name.span();
        let Some(mut calls) = self.calls.take() else {
            let what = format!("`{}` is an aggregate function: it needs a group of events", function.name);
            self.unsupported(span, &what, "write it into `columns` of a made event that has a `window`");
            return None;
        };
        let group = std::mem::replace(&mut self.scope, calls.events);
        let bound = self.aggregate_parts(function, syntax, span);
        self.scope = group;
        let found = bound.map(|(kind, argument, filter, (share, most))| {
            let result = AggregateCall::result_of(kind, argument.as_ref().map(|a| a.ty));
            let limit = argument.as_ref().and_then(|a| a.limit).filter(|_| kind.gives_one_of_its_values());
            // One name of it gives JSON, the other a list of SQL.
            let list =
                argument.as_ref().filter(|a| function.name == "array_agg" && a.limit.is_none_or(|l| !l.is_own()));
            let limit = limit.or_else(|| Limit::list_of(list?.ty));
            let text = syntax.to_string();
            let known = calls.found.iter().position(|call| call.text == text);
            let place = known.unwrap_or_else(|| {
                calls.found.push(BoundCall { kind, argument, filter, share, most, text });
                calls.found.len() - 1
            });
            let is_count = matches!(kind, AggregateKind::Count | AggregateKind::CountDistinct);
            Expr { limit, ..Expr::new(Node::Column(calls.first + place), result, !is_count) }
        });
        self.calls = Some(calls);
        found
    }

    /// The argument and the condition of a call, over the columns of events.
    fn aggregate_parts(
        &mut self,
        function: &'static Aggregate,
        syntax: &ast::Function,
        span: Span,
    ) -> Option<AggregateParts> {
        let ast::Function { name: _, uses_odbc_syntax, parameters, args, within_group, filter, null_treatment, over } =
            syntax;
        let is_plain = !uses_odbc_syntax
            && matches!(parameters, ast::FunctionArguments::None)
            && within_group.is_empty()
            && null_treatment.is_none()
            && over.is_none();
        let mut kind = function.kind;
        let (mut share, mut limit) = (0.0, None);
        let argument = match args {
            ast::FunctionArguments::List(list) if is_plain && list.clauses.is_empty() => {
                match list.duplicate_treatment {
                    Some(ast::DuplicateTreatment::Distinct) if kind == AggregateKind::Count => {
                        kind = AggregateKind::CountDistinct;
                    }
                    None => {}
                    Some(_) => {
                        let what = format!("`{}` does not know `distinct`", function.name);
                        self.unsupported(span, &what, "only count(distinct x) does");
                        return None;
                    }
                }
                list.args.as_slice()
            }
            _ => &[],
        };
        let count_all = kind == AggregateKind::Count;
        let argument = match argument {
            [ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Wildcard)] if count_all => None,
            [ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(expr))] if kind != AggregateKind::Percentile => {
                Some(self.aggregated(function, expr)?)
            }
            [
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(expr)),
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(of)),
            ] if kind == AggregateKind::Percentile => {
                let Some(found) = of.to_string().parse().ok().filter(|share| (0.0..=1.0).contains(share)) else {
                    let message = format!("the share of `{}` is a number from 0 to 1", function.name);
                    self.mismatch(of.span(), message, Some(function.form));
                    return None;
                };
                share = found;
                Some(self.aggregated(function, expr)?)
            }
            [
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(expr)),
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(most)),
            ] if kind == AggregateKind::List => {
                limit = most.to_string().parse::<usize>().ok().filter(|most| (1..=LONGEST_LIST).contains(most));
                if limit.is_none() {
                    let message =
                        format!("`{}` gives from 1 to {} values", function.name, show_count(LONGEST_LIST as u64));
                    self.mismatch(most.span(), message, Some(function.form));
                    return None;
                }
                Some(self.aggregated(function, expr)?)
            }
            _ => {
                let place = self.place(span);
                self.problems.add(
                    Problem::error("type.mismatch", format!("`{}` is not called like this", function.name), place)
                        .with_help(format!("write: {}", function.form)),
                );
                return None;
            }
        };
        let filter = match filter {
            Some(condition) => {
                let bound = self.bind(condition)?;
                let bound = self.typed_as(bound, SqlType::Boolean);
                if bound.ty != SqlType::Boolean {
                    let message = format!("a condition must be boolean, this is {}", bound.ty);
                    self.mismatch(condition.span(), message, None);
                    return None;
                }
                Some(bound)
            }
            None => None,
        };
        Some((kind, argument, filter, (share, limit)))
    }

    fn aggregated(&mut self, function: &'static Aggregate, syntax: &ast::Expr) -> Option<Expr> {
        let bound = self.bind(syntax)?;
        let bound = self.typed_as(bound, SqlType::Text);
        if !AggregateCall::takes(function.kind, bound.ty) {
            let message = format!("`{}` does not take {}", function.name, bound.ty);
            self.mismatch(syntax.span(), message, Some(function.form));
            return None;
        }
        Some(bound)
    }
}
