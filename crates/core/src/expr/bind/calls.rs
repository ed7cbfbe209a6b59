//! Casts and calls of functions.

use sqlparser::ast::{self, CastKind, DataType, Spanned as _};
use sqlparser::tokenizer::Span;

use super::{Binder, convert};
use crate::contract::sql_type;
use crate::expr::functions::{self, CALL_SYNTAX, FUNCTIONS, Parameter};
use crate::expr::{CompareOp, Expr, Node, cast};
use crate::problem::Problem;
use crate::state::AGGREGATES;
use crate::types::SqlType;

impl Binder<'_, '_> {
    pub(super) fn sql_type(&mut self, data_type: &DataType, span: Span) -> Option<SqlType> {
        match sql_type(data_type, self.place(span)) {
            Ok(ty) => Some(ty),
            Err(problem) => {
                self.problems.add(*problem);
                None
            }
        }
    }

    pub(super) fn cast(
        &mut self,
        kind: &CastKind,
        inner: &ast::Expr,
        data_type: &DataType,
        span: Span,
    ) -> Option<Expr> {
        let (bound, ty) = (self.bind(inner), self.sql_type(data_type, span));
        let (bound, ty) = (bound?, ty?);
        if !cast::exists(bound.ty, ty) {
            self.mismatch(span, format!("there is no cast from {} to {ty}", bound.ty), None);
            return None;
        }
        let lenient = matches!(kind, CastKind::TryCast | CastKind::SafeCast);
        if cast::rounds(bound.ty, ty) {
            let place = self.place(span);
            self.problems.add(
                Problem::warning("cast.lossy", format!("a cast from {} to {ty} rounds", bound.ty), place)
                    .with_help("use round(…) to round"),
            );
        }
        let nullable = bound.nullable || lenient;
        Some(Expr::new(Node::Cast { inner: Box::new(bound), lenient }, ty, nullable))
    }

    pub(super) fn function(&mut self, syntax: &ast::Function) -> Option<Expr> {
        let ast::Function { name, uses_odbc_syntax, parameters, args, within_group, filter, null_treatment, over } =
            syntax;
        let (span, name) = (name.span(), name.to_string());
        if let Some(aggregate) = super::aggregates::find(&name) {
            return self.aggregate(aggregate, syntax);
        }
        let clauses = [
            ("braces", *uses_odbc_syntax),
            ("a second list of arguments", !matches!(parameters, ast::FunctionArguments::None)),
            ("within group", !within_group.is_empty()),
            ("filter", filter.is_some()),
            ("ignore nulls", null_treatment.is_some()),
            ("over", over.is_some()),
        ];
        let list: &[ast::FunctionArg] = match args {
            ast::FunctionArguments::None => &[],
            ast::FunctionArguments::List(ast::FunctionArgumentList { duplicate_treatment, args, clauses }) => {
                if duplicate_treatment.is_some() || !clauses.is_empty() {
                    let what =
                        format!("`{name}` is computed for each row: distinct, order by and the like are not known");
                    self.unsupported(span, &what, "pass plain expressions");
                    return None;
                }
                args
            }
            ast::FunctionArguments::Subquery(_) => {
                self.unsupported(span, "a query is not allowed here", "pass plain expressions");
                return None;
            }
        };
        if let Some((clause, _)) = clauses.into_iter().find(|(_, is_used)| *is_used) {
            let what = format!("`{name}` is computed for each row: it takes no {clause}");
            self.unsupported(span, &what, "windows and aggregates are not known in expressions");
            return None;
        }
        let mut arguments = Vec::with_capacity(list.len());
        for argument in list {
            match argument {
                ast::FunctionArg::Unnamed(ast::FunctionArgExpr::Expr(expr)) => arguments.push(expr),
                // What is no function takes no argument either.
                _ if functions::find(&name.to_lowercase()).is_none() => return self.call(&name, &[], span),
                _ => {
                    self.unsupported(span, "this form of an argument is not known here", "pass plain expressions");
                    return None;
                }
            }
        }
        self.call(&name, &arguments, span)
    }

    pub(super) fn call(&mut self, name: &str, arguments: &[&ast::Expr], span: Span) -> Option<Expr> {
        let lower = name.to_lowercase();
        match lower.as_str() {
            "now" if arguments.is_empty() => return Some(Expr::new(Node::Now, SqlType::Timestamptz, false)),
            "coalesce" if !arguments.is_empty() => {
                let bound: Vec<_> = arguments.iter().map(|a| self.bind(a)).collect();
                let bound: Option<Vec<Expr>> = bound.into_iter().collect();
                let items = self.one_type(bound?, span)?;
                let (ty, nullable) = (items[0].ty, items.iter().all(|i| i.nullable));
                return Some(Expr::new(Node::Coalesce(items), ty, nullable));
            }
            "nullif" if arguments.len() == 2 => {
                let (value, other) = (self.bind(arguments[0]), self.bind(arguments[1]));
                let spans = (arguments[0].span(), arguments[1].span());
                // The value has the type in which both are compared.
                let (value, other) = self.side_by_side(value?, spans.0, other?, spans.1, span)?;
                let (ty, nullable) = (value.ty, value.nullable || other.nullable);
                let compared = Node::Compare(CompareOp::Equal, Box::new(value.clone()), Box::new(other));
                let same = Expr::new(compared, SqlType::Boolean, nullable);
                let branches = vec![(same, convert(Expr::null(), ty))];
                return Some(Expr::new(Node::Case(branches, Box::new(value)), ty, true));
            }
            "coalesce" | "nullif" => {
                let takes = if lower == "nullif" { "two values" } else { "one value or more" };
                let message = format!("`{lower}` takes {takes}, not {}", arguments.len());
                self.problems.add(Problem::error("type.mismatch", message, self.place(span)));
                return None;
            }
            _ => {}
        }
        let Some(function) = functions::find(&lower) else {
            let aggregates = AGGREGATES.iter().map(|a| a.name).filter(|_| self.calls.is_some());
            let known = FUNCTIONS.iter().map(|f| f.name).chain(CALL_SYNTAX.iter().copied()).chain(aggregates);
            let place = self.place(span);
            self.problems.add(
                Problem::error("name.unknown", format!("there is no function `{name}`"), place)
                    .with_label("unknown function")
                    .with_nearest(&lower, "functions", known),
            );
            return None;
        };
        let bound: Vec<_> = arguments.iter().map(|a| self.bind(a)).collect();
        let bound: Option<Vec<Expr>> = bound.into_iter().collect();
        self.arguments(function, bound?, arguments, span)
    }

    pub(super) fn arguments(
        &mut self,
        function: &'static functions::Function,
        bound: Vec<Expr>,
        syntax: &[&ast::Expr],
        span: Span,
    ) -> Option<Expr> {
        let (least, most) = (function.parameters.len(), function.parameters.len() + function.optional.len());
        if bound.len() < least || (bound.len() > most && !function.repeats) {
            let message = format!("`{}` does not take {} arguments", function.name, bound.len());
            self.mismatch(span, message, Some(function.signature));
            return None;
        }
        let mut arguments = Vec::with_capacity(bound.len());
        for (i, argument) in bound.into_iter().enumerate() {
            let parameter = function.parameters.iter().chain(function.optional).nth(i);
            let parameter = *parameter.or(function.parameters.last())?;
            arguments.push(self.argument(function, parameter, argument, syntax[i].span())?);
        }
        let types: Vec<SqlType> = arguments.iter().map(|a| a.ty).collect();
        let nullable = function.nullable || (function.name != "concat" && arguments.iter().any(|a| a.nullable));
        Some(Expr::new(Node::Call(function, arguments), (function.result)(&types), nullable))
    }

    pub(super) fn argument(
        &mut self,
        function: &functions::Function,
        parameter: Parameter,
        argument: Expr,
        span: Span,
    ) -> Option<Expr> {
        let fits = match parameter {
            Parameter::Any => return Some(argument),
            Parameter::Text => return Some(convert(argument, SqlType::Text)),
            Parameter::Number => argument.ty.is_numeric(),
            Parameter::Whole => argument.ty.is_whole(),
            Parameter::Time => match argument.ty {
                SqlType::Date | SqlType::Null => return Some(convert(argument, SqlType::Timestamptz)),
                SqlType::Timestamptz => true,
                SqlType::Text if argument.as_text().is_some() => {
                    return self.coerce_literal(&argument, SqlType::Timestamptz, span);
                }
                _ => false,
            },
            Parameter::Word(words) => {
                let word = argument.as_text().unwrap_or_default().to_lowercase();
                if words.contains(&word.as_str()) {
                    return Some(argument);
                }
                let place = self.place(span);
                self.problems.add(
                    Problem::error("value.type", format!("`{}` needs a known word here", function.name), place)
                        .with_nearest(&word, "words", words.iter().copied()),
                );
                return None;
            }
        };
        if fits {
            return Some(argument);
        }
        let wanted = if parameter == Parameter::Time { "a timestamptz" } else { "a number" };
        let message = format!("`{}` takes {wanted} here, not {}", function.name, argument.ty);
        self.mismatch(span, message, Some(function.signature));
        None
    }
}

/// The operator `||`, evaluated like a function.
pub(super) static JOIN: functions::Function = functions::Function {
    name: "||",
    signature: "text || text → text",
    about: "Two texts, one after the other.",
    example: "'a' || 'b'",
    gives: "ab",
    nulls: "null if either is null",
    parameters: &[Parameter::Text, Parameter::Text],
    optional: &[],
    repeats: false,
    result: |_| SqlType::Text,
    nullable: false,
    compute: functions::join,
};
