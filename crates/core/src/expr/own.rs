//! Functions that a project declares: an expression over arguments, typed where it is declared, and written out where it is called.

use std::sync::{Arc, Mutex, PoisonError};

use super::functions::{self, CALL_SYNTAX, Prepared};
use super::secrets::ExpressionSecret;
use super::{Call, Expr, Node, ScopeColumn, bind_parts};
use crate::config::{OptionSpec, Options, ValueKind};
use crate::contract::parse_fields;
use crate::limit::{Limit, shown};
use crate::problem::{Place, Problem, Problems};
use crate::sql::is_call;
use crate::state::AGGREGATES;
use crate::types::SqlType;
use crate::values::bytes::BytesSpelling;

/// Keys of `[function.NAME]` of sluice.toml.
pub const FUNCTION_OPTIONS: &[OptionSpec] = &[
    OptionSpec::optional("about", ValueKind::Text, "what it is for, in one line; shown by `sluice manual functions`"),
    OptionSpec::optional(
        "arguments",
        ValueKind::Sql,
        "the names and types of its arguments: \"kg integer, rate decimal(6,2)\"",
    ),
    OptionSpec::required(
        "expression",
        ValueKind::Sql,
        "what it computes from its arguments; it may call functions that are declared above it",
    ),
];

/// Parts of an expression, its functions written out, at most.
const MOST_PARTS: u64 = 5_000;

/// Expressions within each other, functions written out, at most.
const MOST_DEEP: u64 = 300;

/// A function of the project.
#[derive(Debug)]
pub struct OwnFunction {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub about: String,
    /// The names and types of its arguments.
    pub arguments: Vec<(String, SqlType, Option<Limit>)>,
    /// What it computes, over its arguments as columns.
    expr: Expr,
}

impl OwnFunction {
    /// How it is called, and what it gives.
    pub fn signature(&self) -> String {
        let arguments: Vec<String> =
            self.arguments.iter().map(|(name, ty, limit)| format!("{name} {}", shown(*ty, *limit))).collect();
        format!("{}({}) → {}", self.name, arguments.join(", "), shown(self.expr.ty, self.expr.limit))
    }

    /// The names of the secrets that it uses.
    pub(super) fn secrets(&self) -> Vec<String> {
        fn collect(expr: &Expr, found: &mut Vec<String>) {
            if let Node::Call(Call { prepared: Prepared::Secret(secret), .. }) = &expr.node {
                found.push(secret.name.clone());
            }
            expr.for_each_part(&mut |part| collect(part, found));
        }
        let mut found = Vec::new();
        collect(&self.expr, &mut found);
        found
    }

    /// The expression with arguments in their places; None where it would become too large.
    pub(super) fn over(&self, arguments: &[Expr]) -> Option<Expr> {
        let of = |index: usize| arguments.get(index).map_or((1, 1), size);
        let (parts, depth) = measure(&self.expr, &of);
        (parts <= MOST_PARTS && depth <= MOST_DEEP).then(|| {
            let place = |index: usize| arguments.get(index).cloned().unwrap_or_else(Expr::null);
            replace(&self.expr, &place)
        })
    }
}

/// What a project declares for expressions: functions, in the order of their declarations, and secrets.
#[derive(Clone, Debug, Default)]
pub struct OwnFunctions {
    functions: Vec<Arc<OwnFunction>>,
    secrets: Vec<Arc<ExpressionSecret>>,
    /// The secrets that expressions which were bound use.
    used: Arc<Mutex<Vec<Arc<ExpressionSecret>>>>,
}

impl OwnFunctions {
    /// All functions.
    pub fn all(&self) -> impl Iterator<Item = &OwnFunction> {
        self.functions.iter().map(AsRef::as_ref)
    }

    /// The same for one pipeline, whose use of secrets is noted apart from that of others.
    #[must_use]
    pub(crate) fn for_pipeline(&self) -> Self {
        Self { used: Arc::default(), ..self.clone() }
    }

    pub(crate) fn declare_secret(&mut self, secret: ExpressionSecret) {
        self.secrets.push(Arc::new(secret));
    }

    /// The names of all secrets.
    pub(crate) fn secret_names(&self) -> impl Iterator<Item = &str> {
        self.secrets.iter().map(|secret| secret.name.as_str())
    }

    /// The secret of a name, which is used from now on.
    pub(crate) fn use_secret(&self, name: &str) -> Option<Arc<ExpressionSecret>> {
        let secret = self.secrets.iter().find(|secret| secret.name == name)?;
        let mut used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        if used.iter().all(|known| known.name != name) {
            used.push(Arc::clone(secret));
        }
        Some(Arc::clone(secret))
    }

    /// The secrets that are used.
    pub(crate) fn used_secrets(&self) -> Vec<Arc<ExpressionSecret>> {
        self.used.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The one of a name, in lower case.
    pub fn find(&self, name: &str) -> Option<&OwnFunction> {
        self.all().find(|function| function.name == name)
    }

    /// Declares one more.
    pub(crate) fn declare(&mut self, name: &str, name_place: &Place, options: &Options, problems: &mut Problems) {
        if let Some(problem) = self.refuse_name(name, name_place) {
            problems.add(problem);
            return;
        }
        let mut arguments = Vec::new();
        for field in options.sql("arguments").map_or_else(Vec::new, |text| parse_fields(text, problems)) {
            let is_narrowed = field.limit.is_some_and(|limit| !limit.is_own());
            let is_spelled = field.format.is_some() || field.spelling != BytesSpelling::default();
            if field.not_null || is_spelled || is_narrowed || field.path != [field.name.clone()] {
                problems.add(
                    Problem::error(
                        "type.mismatch",
                        format!("argument `{}` has more than a type", field.name),
                        field.place,
                    )
                    .with_help("write a name and a type: kg integer"),
                );
                return;
            }
            arguments.push((field.name, field.ty, field.limit));
        }
        let Some(text) = options.sql("expression") else { return };
        let column = |(name, ty, limit): &(String, SqlType, Option<Limit>)| {
            let (name, ty, limit) = (name.clone(), *ty, *limit);
            ScopeColumn { name, ty, nullable: true, limit }
        };
        let scope: Vec<ScopeColumn> = arguments.iter().map(column).collect();
        let mut items = bind_parts(text, &scope, problems);
        let about = options.text("about").unwrap_or_default();
        match (items.pop(), items.is_empty()) {
            (Some(item), true) => {
                let function = OwnFunction { name: name.into(), about, arguments, expr: item.expr };
                self.functions.push(Arc::new(function));
            }
            (Some(_), false) => problems.add(
                Problem::error("syntax.sql", format!("`{name}` computes one value, not a list"), text.whole())
                    .with_help("declare a function for each"),
            ),
            // What is wrong with it was reported.
            (None, _) => {}
        }
    }

    fn refuse_name(&self, name: &str, place: &Place) -> Option<Problem> {
        let is_plain = name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
        if !is_plain {
            let message = format!("`{name}` cannot be the name of a function");
            let help = "a function is called by lower-case letters, digits and _";
            return Some(Problem::error("value.type", message, place.clone()).with_help(help));
        }
        let is_built_in = functions::find(name).is_some()
            || CALL_SYNTAX.contains(&name)
            || AGGREGATES.iter().any(|aggregate| aggregate.name == name);
        if is_built_in {
            let message = format!("there is a function `{name}` already");
            let help = format!("give yours another name; sluice manual {name} explains that one");
            return Some(Problem::error("name.taken", message, place.clone()).with_help(help));
        }
        if !is_call(name) {
            let message = format!("`{name}` means something else in SQL");
            let help = "give the function another name";
            return Some(Problem::error("name.taken", message, place.clone()).with_help(help));
        }
        None
    }
}

/// How many parts an expression has, and how deep they stand within each other.
fn size(expr: &Expr) -> (u64, u64) {
    measure(expr, &|_| (1, 1))
}

/// The same, with columns that are as large as `of` says.
fn measure(expr: &Expr, of: &dyn Fn(usize) -> (u64, u64)) -> (u64, u64) {
    if let Node::Column(index) = expr.node {
        return of(index);
    }
    let (mut parts, mut depth) = (1_u64, 0_u64);
    expr.for_each_part(&mut |part| {
        let (inner, deep) = measure(part, of);
        parts = parts.saturating_add(inner);
        depth = depth.max(deep);
    });
    (parts, depth.saturating_add(1))
}

/// The expression with another one in the place of each column.
fn replace(expr: &Expr, place: &dyn Fn(usize) -> Expr) -> Expr {
    if let Node::Column(index) = expr.node {
        return place(index);
    }
    expr.map_parts(&|part| replace(part, place))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use crate::config::{PipelineConfig, ProjectConfig};
    use crate::kinds::Registry;
    use crate::problem::{Problems, SourceText};

    fn read(functions: &str) -> (ProjectConfig, Vec<String>) {
        let source = SourceText::new("sluice.toml", format!("project = {{ name = \"t\" }}\n{functions}"));
        let mut problems = Problems::new();
        let config = ProjectConfig::read(&source, &Registry::default(), &mut problems);
        (config, problems.into_sorted().into_iter().map(|p| p.message).collect())
    }

    const TOLL: &str = "[function.toll]\narguments = \"kg integer, rate decimal(6,2)\"\nexpression = \"round(kg / 1000.0 * rate, 2)\"\n";

    #[test]
    fn they_are_typed_where_they_are_declared() {
        let twice =
            "[function.twice]\nabout = \"both ways\"\narguments = \"kg integer\"\nexpression = \"toll(kg, 2) * 2\"\n";
        let (config, problems) = read(&format!("{TOLL}{twice}"));
        assert_eq!(problems, Vec::<String>::new());
        let signatures: Vec<String> = config.functions.all().map(super::OwnFunction::signature).collect();
        assert!(signatures[0].starts_with("toll(kg integer, rate decimal(6,2)) → decimal("), "{signatures:?}");
        assert!(signatures[1].starts_with("twice(kg integer) → decimal("), "{signatures:?}");
    }

    #[test]
    fn those_above_can_be_called_whatever_their_names() {
        let (config, problems) = read("[function.b]\nexpression = \"1\"\n[function.a]\nexpression = \"b() + 1\"\n");
        assert_eq!((problems, config.functions.all().count()), (Vec::<String>::new(), 2));
    }

    #[rstest]
    #[case("[function.round]\nexpression = \"1\"\n", "there is a function `round` already")]
    #[case("[function.not]\nexpression = \"1\"\n", "`not` means something else in SQL")]
    #[case("[function.interval]\nexpression = \"1\"\n", "`interval` means something else in SQL")]
    #[case("[function.null]\nexpression = \"1\"\n", "`null` means something else in SQL")]
    #[case("[function.count]\nexpression = \"1\"\n", "there is a function `count` already")]
    #[case("[function.Toll]\nexpression = \"1\"\n", "`Toll` cannot be the name of a function")]
    #[case("[function.a]\nexpression = \"b()\"\n[function.b]\nexpression = \"1\"\n", "there is no function `b`")]
    #[case("[function.a]\nexpression = \"a()\"\n", "there is no function `a`")]
    #[case("[function.a]\nexpression = \"x + 1\"\n", "there is no column `x`")]
    #[case("[function.a]\nexpression = \"1, 2\"\n", "`a` computes one value, not a list")]
    #[case(
        "[function.a]\narguments = \"x integer not null\"\nexpression = \"x\"\n",
        "argument `x` has more than a type"
    )]
    #[case("[function.a]\narguments = \"x nosuch\"\nexpression = \"x\"\n", "nosuch")]
    #[case("[function.a]\nargs = \"x integer\"\nexpression = \"1\"\n", "has no key `args`")]
    #[case("[function.a]\nabout = \"x\"\n", "requires the key `expression`")]
    fn mistakes_are_found(#[case] functions: &str, #[case] expected: &str) {
        let (_, problems) = read(functions);
        assert!(problems.iter().any(|p| p.contains(expected)), "{problems:?}");
    }

    #[test]
    fn a_pipeline_uses_the_secrets_of_the_functions_that_it_calls() {
        let declared = "[secret.vessels]\nfrom = { env = \"V\" }\n[secret.others]\nfrom = { file = \"o\" }\n\
                        [function.hidden]\narguments = \"t text\"\nexpression = \"left(hmac_sha256(t, 'vessels'), 12)\"\n";
        let (project, problems) = read(declared);
        assert_eq!(problems, Vec::<String>::new());
        let used_by = |columns: &str| {
            let text = format!(
                "pipeline = \"p\"\n[event.e]\nfields = \"name text\"\n[event.e.arrives]\nat = \"x\"\n\
                 [event.e.lands.l]\nat = \"screen\"\ncolumns = \"{columns}\"\n"
            );
            let source = SourceText::new("p.toml", text);
            let mut problems = Problems::new();
            let config = PipelineConfig::read(&source, &project, &Registry::default(), &mut problems);
            let texts = crate::plan::SealedTexts { project: String::new(), pipeline: String::new() };
            crate::plan::resolve(&config, texts, &mut problems);
            let used: Vec<String> = config.functions.used_secrets().iter().map(|s| s.name.clone()).collect();
            (used, problems.into_sorted().into_iter().map(|p| p.message).collect::<Vec<_>>())
        };
        assert_eq!(used_by("hidden(name) as n").0, ["vessels"]);
        assert_eq!(used_by("hmac_sha256(name, 'others') as n").0, ["others"]);
        assert_eq!(used_by("name").0, Vec::<String>::new());
        for (columns, expected) in [
            ("hmac_sha256(name, 'vesels') as n", "sluice.toml declares no secret `vesels`"),
            ("hmac_sha256(name, name) as n", "a secret is named by a constant text"),
        ] {
            let (_, problems) = used_by(columns);
            assert!(problems.iter().any(|p| p.contains(expected)), "{columns}: {problems:?}");
        }
    }

    /// What a chain of functions writes out grows without bound: it is refused before it is written.
    #[test]
    fn what_would_become_too_large_is_refused() {
        let mut text = String::from("[function.f0]\narguments = \"x bigint\"\nexpression = \"x + x\"\n");
        for n in 1..40 {
            text.push_str(&format!(
                "[function.f{n}]\narguments = \"x bigint\"\nexpression = \"f{}(x) + f{}(x)\"\n",
                n - 1,
                n - 1
            ));
        }
        let (config, problems) = read(&text);
        assert!(problems.iter().any(|p| p.contains("with its functions written out")), "{problems:?}");
        assert!(config.functions.all().count() < 15);
    }

    #[test]
    fn pipelines_call_them() {
        let (project, _) = read(TOLL);
        let problems_of = |columns: &str| {
            let text = format!(
                "pipeline = \"p\"\n[event.e]\nfields = \"kg integer, name text\"\n[event.e.arrives]\nat = \"x\"\n\
                 [event.e.lands.l]\nat = \"screen\"\ncolumns = \"{columns}\"\n"
            );
            let source = SourceText::new("p.toml", text);
            let mut problems = Problems::new();
            let config = PipelineConfig::read(&source, &project, &Registry::default(), &mut problems);
            let texts = crate::plan::SealedTexts { project: String::new(), pipeline: String::new() };
            let plan = crate::plan::resolve(&config, texts, &mut problems);
            (plan, problems.into_sorted().into_iter().map(|p| p.message).collect::<Vec<_>>())
        };
        for (columns, expected) in [
            ("toll(kg) as t", "`toll` takes 2 arguments, not 1"),
            ("toll(name, 2) as t", "`toll` takes integer as its argument kg, not text"),
            ("tol(kg, 2) as t", "there is no function `tol`"),
        ] {
            let (_, problems) = problems_of(columns);
            assert!(problems.iter().any(|p| p.contains(expected)), "{columns}: {problems:?}");
        }
    }
}
