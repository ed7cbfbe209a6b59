//! Casts and calls of functions.

use sqlparser::ast::{self, CastKind, DataType, Spanned as _};
use sqlparser::tokenizer::Span;

use super::kinds::shared_limit;
use super::{Binder, convert, limited};
use crate::contract::sql_type;
use crate::expr::functions::{self, CALL_SYNTAX, Function, Parameter, Prepared};
use crate::expr::own::OwnFunction;
use crate::expr::{ArithmeticOp, Call, CompareOp, Expr, Node, cast};
use crate::limit::{Limit, shown};
use crate::problem::Problem;
use crate::state::AGGREGATES;
use crate::types::SqlType;
use crate::units::show_many;

impl Binder<'_, '_> {
    pub(super) fn sql_type(&mut self, data_type: &DataType, span: Span) -> Option<(SqlType, Option<Limit>)> {
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
        let (bound, (ty, limit)) = (bound?, ty?);
        if !cast::exists(bound.ty, ty) {
            self.mismatch(span, format!("there is no cast from {} to {ty}", bound.ty), None);
            return None;
        }
        if !Self::kinds_can_be_cast(&bound, ty, limit) {
            let message = format!("there is no cast from {} to {}", shown(bound.ty, bound.limit), shown(ty, limit));
            self.mismatch(span, message, None);
            return None;
        }
        if let (Some(Limit::List(_)), SqlType::Text) = (limit, bound.ty) {
            let lenient = matches!(kind, CastKind::TryCast | CastKind::SafeCast);
            return Some(Expr { ty, ..limited(bound, limit, lenient) });
        }
        if limit == Some(Limit::Time) && !matches!(bound.ty, SqlType::Text | SqlType::Null) {
            return self.clock_of(bound, span);
        }
        let lenient = matches!(kind, CastKind::TryCast | CastKind::SafeCast);
        if cast::rounds(bound.ty, ty) {
            let place = self.place(span);
            self.problems.add(
                Problem::warning("cast.lossy", format!("a cast from {} to {ty} rounds", bound.ty), place)
                    .with_help("use round(…) to round"),
            );
        }
        // A cast to the wider type takes the limit away.
        let bound = Expr { limit: bound.limit.filter(|_| bound.ty == ty && limit.is_some()), ..bound };
        let nullable = bound.nullable || lenient;
        let cast = match bound.ty == ty {
            true => bound,
            false => Expr::new(Node::Cast { inner: Box::new(bound), lenient }, ty, nullable),
        };
        Some(limited(cast, limit, lenient))
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
                _ if functions::find(&name.to_lowercase()).is_none()
                    && self.sql.functions().find(&name.to_lowercase()).is_none() =>
                {
                    return self.call(&name, &[], span);
                }
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
            "now" | "current_timestamp" if arguments.is_empty() => {
                return Some(Expr::new(Node::Now, SqlType::Timestamptz, false));
            }
            "current_date" if arguments.is_empty() => {
                return Some(convert(Expr::new(Node::Now, SqlType::Timestamptz, false), SqlType::Date));
            }
            "coalesce" if !arguments.is_empty() => {
                let items = self.of_one_type(arguments, span)?;
                let (ty, nullable) = (items[0].ty, items.iter().all(|i| i.nullable));
                let limit = shared_limit(&items);
                return Some(Expr { limit, ..Expr::new(Node::Coalesce(items), ty, nullable) });
            }
            "greatest" | "least" if !arguments.is_empty() => {
                let items = self.of_one_type(arguments, span)?;
                if items[0].ty == SqlType::Json {
                    self.mismatch(span, "json values cannot be compared".into(), Some("cast them to text"));
                    return None;
                }
                let nullable = items.iter().all(|i| i.nullable);
                let function = if lower == "greatest" { &functions::GREATEST } else { &functions::LEAST };
                let limit = shared_limit(&items);
                return self.built(function, items, span).map(|expr| Expr { nullable, limit, ..expr });
            }
            "nullif" if arguments.len() == 2 => {
                let (value, other) = (self.bind(arguments[0]), self.bind(arguments[1]));
                let spans = (arguments[0].span(), arguments[1].span());
                // The value has the type in which both are compared.
                let (value, other) = self.side_by_side(value?, spans.0, other?, spans.1, span)?;
                let (ty, limit, nullable) = (value.ty, value.limit, value.nullable || other.nullable);
                let compared = Node::Compare(CompareOp::Equal, Box::new(value.clone()), Box::new(other));
                let same = Expr::new(compared, SqlType::Boolean, nullable);
                let branches = vec![(same, convert(Expr::null(), ty))];
                return Some(Expr { limit, ..Expr::new(Node::Case(branches, Box::new(value)), ty, true) });
            }
            // The operator %, as SQL spells it too.
            "mod" if arguments.len() == 2 => {
                let (left, right) = (self.bind(arguments[0]), self.bind(arguments[1]));
                return self.arithmetic(ArithmeticOp::Remainder, left?, right?, span);
            }
            "mod" => {
                let message = format!("`mod` takes two numbers, not {}", show_many(arguments.len() as u64, "argument"));
                self.mismatch(span, message, Some("mod(7, 3) is 7 % 3"));
                return None;
            }
            // What lies between the beginning of the present day and a moment.
            "age" if arguments.len() == 1 => {
                let today = convert(Expr::new(Node::Now, SqlType::Timestamptz, false), SqlType::Date);
                let moment = self.bind(arguments[0])?;
                let function = functions::find("age")?;
                return self.arguments(function, vec![today, moment], &[span, arguments[0].span()], span);
            }
            "coalesce" | "nullif" | "greatest" | "least" => {
                let takes = if lower == "nullif" { "two values" } else { "one value or more" };
                let message = format!("`{lower}` takes {takes}, not {}", arguments.len());
                self.problems.add(Problem::error("type.mismatch", message, self.place(span)));
                return None;
            }
            _ => {}
        }
        if let Some(own) = self.sql.functions().find(&lower) {
            return self.own_function(own, arguments, span);
        }
        let Some(function) = functions::find(&lower) else {
            let aggregates = AGGREGATES.iter().map(|a| a.name).filter(|_| self.calls.is_some());
            let own = self.sql.functions().all().map(|f| f.name.as_str());
            let known =
                functions::functions().map(|f| f.name).chain(CALL_SYNTAX.iter().copied()).chain(aggregates).chain(own);
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
        let spans: Vec<Span> = arguments.iter().map(|a| a.span()).collect();
        let mut bound = bound?;
        if function.name == "to_char" && bound.first().is_some_and(|first| first.ty.is_numeric()) {
            return self.arguments(&functions::NUMBER_TO_CHAR, bound, &spans, span);
        }
        // It is written as extract(field from value) as well, and has the same fields then.
        if function.name == "date_part" && bound.len() == 2 && bound[0].as_text().is_some() {
            let (value, word) = (bound.pop()?, bound.pop()?);
            return self.field(word, value, spans[1], span);
        }
        self.arguments(function, bound, &spans, span)
    }

    /// A call of a function of the project: its expression, written out over the arguments.
    fn own_function(&mut self, own: &OwnFunction, arguments: &[&ast::Expr], span: Span) -> Option<Expr> {
        if arguments.len() != own.arguments.len() {
            let takes = show_many(own.arguments.len() as u64, "argument");
            let message = format!("`{}` takes {takes}, not {}", own.name, arguments.len());
            self.mismatch(span, message, Some(&own.signature()));
            return None;
        }
        for secret in own.secrets() {
            self.sql.functions().use_secret(&secret);
        }
        let mut bound = Vec::with_capacity(arguments.len());
        for (syntax, (name, ty, limit)) in arguments.iter().zip(&own.arguments) {
            let argument = self.bind(syntax)?;
            if let Some(limit) = limit {
                bound.push(self.of_kind((&own.name, &own.signature()), argument, *limit, syntax.span())?);
                continue;
            }
            let argument = self.typed_as(argument, *ty);
            // A number that does not fit makes a reject of its event; one that would be rounded needs a word about it.
            let fits = argument.ty.is_numeric() && ty.is_numeric() && !cast::rounds(argument.ty, *ty);
            if argument.ty != *ty && !fits && !(argument.ty.fits_into(*ty) && *ty != SqlType::Text) {
                let message = format!("`{}` takes {ty} as its argument {name}, not {}", own.name, argument.ty);
                self.mismatch(syntax.span(), message, Some(&format!("cast it: {syntax}::{ty}")));
                return None;
            }
            bound.push(convert(argument, *ty));
        }
        let written = own.over(&bound);
        if written.is_none() {
            let help = "compute parts of it as fields of a made event";
            self.unsupported(span, "with its functions written out, this expression has too many parts", help);
        }
        written
    }

    fn of_one_type(&mut self, arguments: &[&ast::Expr], span: Span) -> Option<Vec<Expr>> {
        let bound: Vec<_> = arguments.iter().map(|a| self.bind(a)).collect();
        let bound: Option<Vec<Expr>> = bound.into_iter().collect();
        self.one_type(bound?, span)
    }

    pub(super) fn arguments(
        &mut self,
        function: &'static Function,
        bound: Vec<Expr>,
        spans: &[Span],
        span: Span,
    ) -> Option<Expr> {
        let (least, most) = (function.parameters.len(), function.parameters.len() + function.optional.len());
        if bound.len() < least || (bound.len() > most && !function.repeats) {
            let message = format!("`{}` does not take {} arguments", function.name, bound.len());
            self.mismatch(span, message, Some(function.signature));
            return None;
        }
        let last = function.optional.last().or(function.parameters.last());
        let function = Self::of_bytes(function, &bound);
        let mut arguments = Vec::with_capacity(bound.len());
        // Where the list comes from a text, its items decide; where it is null, they are texts.
        let item = match bound.first().and_then(|first| first.limit) {
            Some(Limit::List(item)) => item,
            _ => SqlType::Text,
        };
        for (i, argument) in bound.into_iter().enumerate() {
            let parameter = function.parameters.iter().chain(function.optional).nth(i);
            let parameter = *parameter.or(last)?;
            arguments.push(match parameter {
                Parameter::List => {
                    let limit = argument.limit.filter(|limit| matches!(limit, Limit::List(_)));
                    self.of_kind(
                        (function.name, function.signature),
                        argument,
                        limit.unwrap_or(Limit::List(item)),
                        spans[i],
                    )?
                }
                Parameter::Item => self.item((function.name, function.signature), argument, item, spans[i])?,
                _ => self.argument(function, parameter, argument, spans[i])?,
            });
        }
        self.built(function, arguments, span)
    }

    /// A call whose arguments have their types.
    pub(super) fn built(&mut self, function: &'static Function, arguments: Vec<Expr>, span: Span) -> Option<Expr> {
        let prepared = match function.prepare.map_or(Ok(Prepared::Nothing), |prepare| prepare(&arguments)) {
            Ok(Prepared::Nothing) => self.secret_among(function, &arguments),
            Ok(prepared) => prepared,
            Err(reason) => {
                let place = self.place(span);
                // A shell has uses of its own for the signs of operators.
                let is_word = function.name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
                let named = if is_word { function.name } else { "functions" };
                self.problems.add(
                    Problem::error("value.type", reason, place)
                        .with_label("cannot be computed")
                        .with_help(format!("what it takes: sluice manual {named}")),
                );
                return None;
            }
        };
        let nullable = function.nullable || (!function.skips_nulls && arguments.iter().any(|a| a.nullable));
        let (ty, limit) = ((function.result)(&arguments), (function.limit)(&arguments));
        Some(Expr { limit, ..Expr::new(Node::Call(Call { function, prepared, arguments }), ty, nullable) })
    }

    pub(super) fn argument(
        &mut self,
        function: &Function,
        parameter: Parameter,
        argument: Expr,
        span: Span,
    ) -> Option<Expr> {
        let ty = argument.ty;
        let own = argument.limit.filter(|limit| limit.is_own());
        let named = (function.name, function.signature);
        let wanted = match parameter {
            Parameter::Bytes => return self.of_kind(named, argument, Limit::Bytea, span),
            Parameter::Clock => return self.of_kind(named, argument, Limit::Time, span),
            Parameter::List => return self.of_kind(named, argument, Limit::List(SqlType::Text), span),
            Parameter::Item => return Some(argument),
            // A list is JSON as well.
            Parameter::Json if matches!(own, Some(Limit::List(_))) => return Some(Expr { limit: None, ..argument }),
            Parameter::AsJson if own.is_some() => {
                return self.as_json(Expr { limit: None, ..argument }, span);
            }
            // A time of day is spelled as texts are.
            Parameter::Text if own == Some(Limit::Time) => return Some(Expr { limit: None, ..argument }),
            _ if own.is_some() => {
                let kind = own.map_or_else(String::new, |limit| limit.to_string());
                let message = format!("`{}` does not take {kind}", function.name);
                self.mismatch(span, message, Some("cast it to text, or spell bytes with encode(x, 'hex')"));
                return None;
            }
            Parameter::Text => return Some(convert(argument, SqlType::Text)),
            Parameter::AsJson => return self.as_json(argument, span),
            Parameter::Constant if argument.as_text().is_some() => return Some(argument),
            Parameter::Constant => "a constant text",
            Parameter::TextOrNumber if ty.is_numeric() => return Some(convert(argument, SqlType::Double)),
            Parameter::TextOrNumber if matches!(ty, SqlType::Text | SqlType::Null) => {
                return Some(convert(argument, SqlType::Text));
            }
            Parameter::TextOrNumber => "a text or a number",
            Parameter::KeyOrPlace if ty.is_whole() || ty == SqlType::Text => return Some(argument),
            Parameter::KeyOrPlace => "a name as text, or a place as a whole number",
            Parameter::Number if ty.is_numeric() => return Some(argument),
            Parameter::Number if ty == SqlType::Null => return Some(convert(argument, SqlType::Double)),
            Parameter::Double if ty.is_numeric() || ty == SqlType::Null => {
                return Some(convert(argument, SqlType::Double));
            }
            Parameter::Number | Parameter::Double => "a number",
            Parameter::Whole if ty.is_whole() => return Some(argument),
            Parameter::Whole if ty == SqlType::Null => return Some(convert(argument, SqlType::Integer)),
            Parameter::Whole => "a whole number",
            Parameter::Json if matches!(ty, SqlType::Json | SqlType::Null) => {
                return Some(convert(argument, SqlType::Json));
            }
            Parameter::Json if argument.as_text().is_some() => {
                return self.coerce_literal(&argument, SqlType::Json, span);
            }
            Parameter::Json => "a json value: cast(… as json)",
            Parameter::Interval if ty == SqlType::Interval => return Some(argument),
            Parameter::Interval if argument.as_text().is_some() => {
                return self.coerce_literal(&argument, SqlType::Interval, span);
            }
            Parameter::Interval => "an interval, such as interval '15 minutes'",
            Parameter::Temporal if ty.is_moment() || ty == SqlType::Interval => return Some(argument),
            Parameter::Temporal => "a date, a moment or an interval",
            Parameter::Moment => match ty {
                SqlType::Timestamp | SqlType::Timestamptz => return Some(argument),
                SqlType::Date | SqlType::Null => return Some(convert(argument, SqlType::Timestamptz)),
                SqlType::Text if argument.as_text().is_some() => {
                    return self.coerce_literal(&argument, SqlType::Timestamptz, span);
                }
                _ => "a timestamptz",
            },
            Parameter::Secret => return self.secret(argument, span),
            Parameter::Word(words) => return self.word(function, words, &argument, span),
        };
        let message = format!("`{}` takes {wanted} here, not {ty}", function.name);
        self.mismatch(span, message, Some(function.signature));
        None
    }

    /// A value of a kind, which a constant is read as.
    fn of_kind(&mut self, (name, signature): (&str, &str), argument: Expr, limit: Limit, span: Span) -> Option<Expr> {
        if argument.limit == Some(limit) {
            return Some(argument);
        }
        if argument.ty == SqlType::Null {
            return Some(Expr { limit: Some(limit), ..convert(argument, limit.base()) });
        }
        if let Some(text) = argument.as_text().filter(|_| argument.limit.is_none()) {
            return self.constant_of(&text, limit, span);
        }
        let message = format!("`{name}` takes {limit} here, not {}", shown(argument.ty, argument.limit));
        self.mismatch(span, message, Some(signature));
        None
    }

    /// A value as an item of a list.
    fn item(&mut self, (name, signature): (&str, &str), argument: Expr, item: SqlType, span: Span) -> Option<Expr> {
        match argument.ty {
            ty if ty == item && argument.limit.is_none_or(|limit| !limit.is_own()) => Some(argument),
            SqlType::Null => Some(convert(argument, item)),
            SqlType::Text if argument.as_text().is_some() && argument.limit.is_none() => {
                self.coerce_literal(&argument, item, span)
            }
            ty if item != SqlType::Text && ty.fits_into(item) => Some(convert(argument, item)),
            ty => {
                let message = format!("`{name}` takes {item} here, not {}", shown(ty, argument.limit));
                self.mismatch(span, message, Some(signature));
                None
            }
        }
    }

    /// The name of a secret that the project declares.
    fn secret(&mut self, argument: Expr, span: Span) -> Option<Expr> {
        let place = self.place(span);
        let help = "write its name in single quotes, and declare it in sluice.toml: [secret.NAME] from = { env = \"VARIABLE\" }";
        let Some(name) = argument.as_text() else {
            self.problems.add(
                Problem::error("type.mismatch", "a secret is named by a constant text", place)
                    .with_label("which secret?")
                    .with_help(help),
            );
            return None;
        };
        if self.sql.functions().use_secret(&name).is_some() {
            return Some(argument);
        }
        let names: Vec<&str> = self.sql.functions().secret_names().collect();
        let problem = Problem::error("name.unknown", format!("sluice.toml declares no secret `{name}`"), place)
            .with_label("binds to nothing");
        self.problems.add(match names.is_empty() {
            true => problem.with_help(help),
            false => problem.with_nearest(&name, "secrets", names),
        });
        None
    }

    /// The secret that a call uses.
    fn secret_among(&self, function: &Function, arguments: &[Expr]) -> Prepared {
        let place = function.parameters.iter().position(|parameter| *parameter == Parameter::Secret);
        let name = place.and_then(|place| arguments.get(place)?.as_text());
        let secret = name.and_then(|name| self.sql.functions().use_secret(&name));
        secret.map_or(Prepared::Nothing, Prepared::Secret)
    }

    fn word(
        &mut self,
        function: &Function,
        words: &'static [&'static str],
        argument: &Expr,
        span: Span,
    ) -> Option<Expr> {
        let word = argument.as_text().unwrap_or_default().to_lowercase();
        if words.contains(&word.as_str()) {
            return Some(Expr::text_literal(&word));
        }
        // PostgreSQL takes the plural of one and the singular of the other.
        let other = word.strip_suffix('s').map_or_else(|| format!("{word}s"), str::to_string);
        if words.contains(&other.as_str()) {
            return Some(Expr::text_literal(&other));
        }
        let place = self.place(span);
        self.problems.add(
            Problem::error("value.type", format!("`{}` needs a known word here", function.name), place).with_nearest(
                &word,
                "words",
                words.iter().copied(),
            ),
        );
        None
    }

    /// A value as JSON: a number as it is, a text as a string.
    fn as_json(&mut self, argument: Expr, span: Span) -> Option<Expr> {
        match argument.ty {
            SqlType::Json => Some(argument),
            SqlType::Null => Some(convert(argument, SqlType::Json)),
            ty if ty.is_numeric() || ty == SqlType::Boolean => Some(convert(argument, SqlType::Json)),
            _ => {
                let text = convert(argument, SqlType::Text);
                self.built(&functions::TO_JSON_TEXT, vec![text], span)
            }
        }
    }
}
