//! Reads SQL/JSON paths.

use super::Prepared;
use super::predicate::{Comparison, Operand, Predicate};
use super::reach::{Path, Place, Step};
use crate::expr::Expr;
use crate::expr::functions::pattern::Pattern;
use crate::formats::json::scan::Scanner;

/// Conditions within each other.
const MAX_DEPTH: usize = 32;

/// Reads a constant path.
pub(super) fn prepare(arguments: &[Expr]) -> Result<Prepared, String> {
    let text = arguments[1].as_text().ok_or("the path must be a constant text")?;
    let mut reader = Reader { rest: &text, depth: 0 };
    reader.path().map(|path| Prepared::Path(path.into())).map_err(|wanted| {
        let at = text.len() - reader.rest.len();
        format!("the path is not valid after `{}`: {wanted}", &text[..at])
    })
}

struct Reader<'t> {
    rest: &'t str,
    depth: usize,
}

type Read<T> = Result<T, String>;

impl<'t> Reader<'t> {
    fn blanks(&mut self) {
        self.rest = self.rest.trim_start();
    }

    /// Takes a sign where it stands next.
    fn take(&mut self, sign: &str) -> bool {
        self.blanks();
        match self.rest.strip_prefix(sign) {
            Some(rest) => {
                self.rest = rest;
                true
            }
            None => false,
        }
    }

    fn need(&mut self, sign: &str) -> Read<()> {
        if self.take(sign) { Ok(()) } else { Err(format!("expected `{sign}`")) }
    }

    /// Takes a word where it stands next, whole.
    fn word(&mut self, word: &str) -> bool {
        self.blanks();
        let Some(rest) = self.rest.strip_prefix(word) else { return false };
        if rest.starts_with(|c: char| c.is_alphanumeric() || c == '_') {
            return false;
        }
        self.rest = rest;
        true
    }

    fn path(&mut self) -> Read<Path> {
        if self.word("strict") {
            return Err("paths are lax here; leave `strict` out".into());
        }
        self.word("lax");
        self.need("$")?;
        let steps = self.steps()?;
        self.blanks();
        if !self.rest.is_empty() {
            return Err("expected .name, [place], ? (condition) or the end".into());
        }
        Ok(Path { steps })
    }

    fn steps(&mut self) -> Read<Vec<Step>> {
        let mut steps = Vec::new();
        loop {
            if self.take("?") {
                self.need("(")?;
                steps.push(Step::Filter(self.either()?));
                self.need(")")?;
            } else if self.take("[") {
                steps.push(self.places()?);
            } else if self.take(".") {
                steps.push(self.member()?);
            } else {
                return Ok(steps);
            }
        }
    }

    fn member(&mut self) -> Read<Step> {
        if self.take("*") {
            return match self.rest.starts_with('*') {
                true => Err("`.**` is not known here; name the levels".into()),
                false => Ok(Step::Members),
            };
        }
        self.blanks();
        if self.rest.starts_with('"') {
            return self.string().map(Step::Member);
        }
        let end = self.rest.find(|c: char| !(c.is_alphanumeric() || c == '_' || c == '$')).unwrap_or(self.rest.len());
        let name = &self.rest[..end];
        if name.is_empty() || name.starts_with(|c: char| c.is_ascii_digit()) {
            return Err("expected a name, in double quotes where it has other signs than letters".into());
        }
        self.rest = &self.rest[end..];
        if !self.take("(") {
            return Ok(Step::Member(name.into()));
        }
        self.need(")")?;
        match name {
            "size" => Ok(Step::Size),
            "type" => Ok(Step::Type),
            other => Err(format!("there is no method `{other}`; known are size() and type()")),
        }
    }

    fn places(&mut self) -> Read<Step> {
        if self.take("*") {
            return self.need("]").map(|()| Step::Elements);
        }
        let mut places = Vec::new();
        loop {
            let from = self.place()?;
            let to = if self.word("to") { self.place()? } else { from };
            places.push((from, to));
            if !self.take(",") {
                return self.need("]").map(|()| Step::Places(places));
            }
        }
    }

    fn place(&mut self) -> Read<Place> {
        if self.word("last") {
            let before = if self.take("-") { self.whole()? } else { 0 };
            return Ok(Place::End(before));
        }
        self.whole().map(Place::Start)
    }

    fn whole(&mut self) -> Read<usize> {
        self.blanks();
        let length = self.rest.bytes().take_while(u8::is_ascii_digit).count();
        let found = self.rest[..length].parse().map_err(|_| "expected a place: 0, 1, last or *".to_string())?;
        self.rest = &self.rest[length..];
        Ok(found)
    }

    /// A string in double quotes, as in JSON.
    fn string(&mut self) -> Read<String> {
        self.blanks();
        let mut stream = serde_json::Deserializer::from_str(self.rest).into_iter::<String>();
        match stream.next() {
            Some(Ok(text)) if self.rest.starts_with('"') => {
                self.rest = &self.rest[stream.byte_offset()..];
                Ok(text)
            }
            _ => Err("expected a text in double quotes".into()),
        }
    }

    fn either(&mut self) -> Read<Predicate> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(format!("conditions are nested more than {MAX_DEPTH} deep"));
        }
        let mut left = self.both()?;
        while self.take("||") {
            left = Predicate::Or(Box::new(left), Box::new(self.both()?));
        }
        self.depth -= 1;
        Ok(left)
    }

    fn both(&mut self) -> Read<Predicate> {
        let mut left = self.one()?;
        while self.take("&&") {
            left = Predicate::And(Box::new(left), Box::new(self.one()?));
        }
        Ok(left)
    }

    fn one(&mut self) -> Read<Predicate> {
        self.blanks();
        if self.rest.starts_with('!') && !self.rest.starts_with("!=") {
            self.need("!")?;
            self.need("(")?;
            let inner = self.either()?;
            return self.need(")").map(|()| Predicate::Not(Box::new(inner)));
        }
        if self.word("exists") {
            self.need("(")?;
            let operand = self.operand()?;
            return self.need(")").map(|()| Predicate::Exists(operand));
        }
        if self.take("(") {
            let inner = self.either()?;
            return self.need(")").map(|()| inner);
        }
        let left = self.operand()?;
        if self.word("like_regex") {
            let pattern = self.string()?;
            let flags = if self.word("flag") { self.string()? } else { String::new() };
            return Pattern::read(&pattern, &flags).map(|pattern| Predicate::Matches(left, pattern));
        }
        if self.word("starts") {
            if !self.word("with") {
                return Err("expected `with`".into());
            }
            return self.string().map(|start| Predicate::StartsWith(left, start));
        }
        let op = self.comparison()?;
        Ok(Predicate::Compare(op, left, self.operand()?))
    }

    fn comparison(&mut self) -> Read<Comparison> {
        // The longer ones of one beginning first.
        const ALL: [(&str, Comparison); 8] = [
            ("==", Comparison::Equal),
            ("!=", Comparison::NotEqual),
            ("<>", Comparison::NotEqual),
            ("<=", Comparison::LessOrEqual),
            (">=", Comparison::GreaterOrEqual),
            ("=", Comparison::Equal),
            ("<", Comparison::Less),
            (">", Comparison::Greater),
        ];
        ALL.into_iter()
            .find_map(|(sign, op)| self.take(sign).then_some(op))
            .ok_or_else(|| "expected ==, !=, <, <=, > or >=".into())
    }

    fn operand(&mut self) -> Read<Operand> {
        if self.take("@") {
            return self.steps().map(Operand::Here);
        }
        if self.take("$") {
            return self.steps().map(Operand::Root);
        }
        self.blanks();
        let is_scalar = !self.rest.starts_with(['{', '[']);
        match Scanner::new(self.rest.as_bytes()).skip_value(0) {
            Ok(length) if is_scalar => {
                let json = self.rest.as_bytes()[..length].to_vec();
                self.rest = &self.rest[length..];
                Ok(Operand::Constant(json))
            }
            _ => Err("expected @, $, a number, a text in double quotes, true, false or null".into()),
        }
    }
}
