//! `to_char` of exact numbers, after `NUM_processor` of PostgreSQL's `formatting.c`.

use std::sync::Arc;

use arrow_array::types::Decimal128Type;
use arrow_schema::DataType;

use super::{Arguments, Function, Parameter, Prepared};
use crate::expr::Expr;
use crate::expr::column::{Column, map_text};
use crate::values::number;

/// Digits of a pattern at most, as many as numbers have.
const MOST: usize = 100;

/// A pattern of numbers.
#[derive(Debug, Default)]
pub(crate) struct NumberLayout {
    parts: Vec<Part>,
    /// Digits before and after the point.
    pre: usize,
    post: usize,
    /// Whether it is as short as it can be: `FM`.
    is_short: bool,
    has_point: bool,
    /// The digit before the point from which zeros are written, and the last one that is.
    zero_start: Option<usize>,
    zero_end: usize,
    sign: Sign,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    /// `9`
    Nine,
    /// `0`
    Zero,
    /// `.` or `D`
    Point,
    /// `,` or `G`
    Comma,
    /// `MI`, `PL`, `SG`
    Minus,
    Plus,
    Either,
    Text(String),
}

/// Where the sign stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
enum Sign {
    /// Before the first digit, a blank where it is not negative.
    #[default]
    Plain,
    /// `S`, before the first digit or after the last.
    Before,
    After,
    /// `PR`: in angle brackets.
    Brackets,
    /// In parts of its own; `PL` alone leaves the plain one.
    Own {
        is_plain: bool,
    },
}

impl NumberLayout {
    fn parse(pattern: &str) -> Result<Self, String> {
        let mut layout = Self::default();
        let (mut rest, mut before_sign) = (pattern, None);
        let take = |rest: &mut &str, words: &[&str]| {
            let found = words
                .iter()
                .find(|word| rest.get(..word.len()).is_some_and(|start| start.eq_ignore_ascii_case(word)))?;
            *rest = &rest[found.len()..];
            Some(found.to_string())
        };
        let (mut has_minus, mut has_plus) = (false, false);
        while let Some(c) = rest.chars().next() {
            if let Some(word) = take(&mut rest, &["FM", "MI", "PL", "SG", "PR", "9", "0", ".", "D", ",", "G", "S"]) {
                match word.as_str() {
                    "FM" => layout.is_short = true,
                    "MI" => {
                        has_minus = true;
                        layout.parts.push(Part::Minus);
                    }
                    "PL" => {
                        has_plus = true;
                        layout.parts.push(Part::Plus);
                    }
                    "SG" => {
                        (has_minus, has_plus) = (true, true);
                        layout.parts.push(Part::Either);
                    }
                    "PR" if layout.sign == Sign::Plain => layout.sign = Sign::Brackets,
                    "S" if layout.sign == Sign::Plain && !layout.has_point => {
                        layout.sign = Sign::Before;
                        before_sign = Some(layout.pre);
                    }
                    "S" if layout.sign == Sign::Plain => layout.sign = Sign::After,
                    "PR" | "S" => return Err("the pattern has more than one sign".into()),
                    "." | "D" if layout.has_point => return Err("the pattern has more than one point".into()),
                    "." | "D" => {
                        layout.has_point = true;
                        layout.parts.push(Part::Point);
                    }
                    "," | "G" => layout.parts.push(Part::Comma),
                    digit => layout.digit(digit == "0"),
                }
                continue;
            }
            if let Some(quoted) = rest.strip_prefix('"') {
                let (text, after) = quoted.split_once('"').unwrap_or((quoted, ""));
                layout.parts.push(Part::Text(text.into()));
                rest = after;
                continue;
            }
            if c.is_ascii_alphabetic() || c == '\\' {
                let known = "9 0 . D , G S MI PL SG PR FM, and text in double quotes";
                return Err(format!("`{rest}` is no pattern of numbers that is known here; known: {known}"));
            }
            layout.parts.push(Part::Text(c.into()));
            rest = &rest[c.len_utf8()..];
        }
        if (has_minus || has_plus) && layout.sign != Sign::Plain {
            return Err("the pattern has more than one sign".into());
        }
        if has_minus || has_plus {
            layout.sign = Sign::Own { is_plain: has_plus && !has_minus };
        }
        if layout.sign == Sign::Before && before_sign == Some(layout.pre) && layout.pre > 0 {
            layout.sign = Sign::After;
        }
        match layout.pre + layout.post {
            0 => Err("the pattern has no digit: write 9 or 0 for each".into()),
            digits if digits > MOST => Err(format!("the pattern has more than {MOST} digits")),
            _ => Ok(layout),
        }
    }

    fn digit(&mut self, is_zero: bool) {
        if is_zero && self.zero_start.is_none() && !self.has_point {
            self.zero_start = Some(self.pre);
        }
        if self.has_point {
            self.post += 1;
        } else {
            self.pre += 1;
        }
        if is_zero {
            self.zero_end = self.pre + self.post;
        }
        self.parts.push(if is_zero { Part::Zero } else { Part::Nine });
    }

    /// Writes a number that is given by its digits without a point, so many of them after it.
    fn write(&self, value: i128, scale: u8, out: &mut String) {
        let post = u8::try_from(self.post).unwrap_or(u8::MAX);
        // Digits that the number does not have are zeros.
        let rounded =
            if post < scale { number::rescale(value, scale, post).map(|v| (v, post)) } else { Some((value, scale)) };
        let (value, scale) = rounded.unwrap_or((value, scale));
        let is_negative = value < 0;
        let mut text = String::new();
        number::write_decimal(&mut text, if is_negative { value.saturating_neg() } else { value }, scale);
        let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
        let mut digits = match whole.len() > self.pre {
            true => "#".repeat(self.pre),
            false => whole.to_string(),
        };
        let blanks = self.pre.saturating_sub(digits.len());
        if self.post > 0 || (self.has_point && whole.len() > self.pre) {
            digits.push('.');
            let fill = if whole.len() > self.pre {
                "#".repeat(self.post)
            } else {
                format!("{fraction:0<post$}", post = self.post)
            };
            digits.push_str(&fill);
        }
        Writing::new(self, digits.into_bytes(), blanks, is_negative).write(out);
    }
}

/// A number being written.
struct Writing<'a> {
    layout: &'a NumberLayout,
    digits: Vec<u8>,
    /// Places before the first digit.
    blanks: usize,
    is_negative: bool,
    /// The next digit, and how many places were passed.
    at: usize,
    passed: usize,
    /// The last digit that is written, where zeros at the end are not.
    last: Option<usize>,
    count: usize,
    is_signed: bool,
    has_digit: bool,
}

impl<'a> Writing<'a> {
    fn new(layout: &'a NumberLayout, digits: Vec<u8>, blanks: usize, is_negative: bool) -> Self {
        let mut last = None;
        if layout.is_short
            && let Some(point) = digits.iter().position(|b| *b == b'.')
        {
            let kept = digits.iter().rposition(|b| *b != b'0').filter(|at| *at > point).unwrap_or(point);
            let zero = match layout.zero_end > blanks {
                true => (digits.len() - 1).min(layout.zero_end - blanks),
                false => 0,
            };
            last = Some(kept.max(zero));
        }
        let is_signed = match layout.sign {
            Sign::Own { is_plain } => !is_plain,
            Sign::Before | Sign::After => false,
            _ => !is_negative && layout.is_short,
        };
        let count = (layout.post + layout.pre).saturating_sub(1) + usize::from(!is_signed && blanks == 0);
        Self { layout, digits, blanks, is_negative, at: 0, passed: 0, last, count, is_signed, has_digit: false }
    }

    fn write(mut self, out: &mut String) {
        for part in &self.layout.parts {
            let (negative, short) = (self.is_negative, self.layout.is_short);
            let mut sign = |applies: bool, sign: char| match applies {
                true => out.push(sign),
                false if short => {}
                false => out.push(' '),
            };
            match part {
                Part::Text(text) => out.push_str(text),
                Part::Minus => sign(negative, '-'),
                Part::Plus => sign(!negative, '+'),
                Part::Either => out.push(if negative { '-' } else { '+' }),
                Part::Comma if self.has_digit => out.push(','),
                Part::Comma => sign(false, ','),
                part => self.place(part, out),
            }
        }
    }

    /// Whether the zero before the point is not written: 9.9 makes ` .1` of 0.1.
    fn is_left_out(&self) -> bool {
        self.layout.zero_start.is_none() && self.at == 0 && self.digits.first() == Some(&b'0') && self.layout.post > 0
    }

    fn ends_with_point(&self) -> bool {
        self.last.is_some_and(|last| self.digits.get(last) == Some(&b'.'))
    }

    fn place(&mut self, part: &Part, out: &mut String) {
        let layout = self.layout;
        let begins = self.passed >= self.blanks || layout.zero_start == Some(self.passed);
        if !self.is_signed && begins && (!self.is_left_out() || self.ends_with_point()) {
            self.sign(out);
        }
        let has_zeros = layout.zero_start.is_some_and(|start| start <= self.passed);
        if self.passed < self.blanks {
            match has_zeros {
                true => {
                    out.push('0');
                    self.has_digit = true;
                }
                false if !layout.is_short => out.push(' '),
                false => {}
            }
        } else {
            match self.digits.get(self.at) {
                Some(b'.') => out.push('.'),
                Some(digit) => {
                    if self.last.is_some_and(|last| self.at > last) && *part != Part::Zero {
                        // A zero at the end is left out.
                    } else if self.is_left_out() {
                        match layout.is_short {
                            false => out.push(' '),
                            true if self.ends_with_point() => out.push('0'),
                            true => {}
                        }
                    } else {
                        out.push(char::from(*digit));
                        self.has_digit = true;
                    }
                }
                None => {}
            }
            self.at = (self.at + 1).min(self.digits.len());
        }
        let mut end = self.count + usize::from(self.blanks > 0) + usize::from(layout.has_point);
        if self.last == Some(self.at) {
            end = self.passed;
        }
        if self.passed + 1 == end {
            match layout.sign {
                Sign::Brackets if self.is_negative || !layout.is_short => {
                    out.push(if self.is_negative { '>' } else { ' ' })
                }
                Sign::After => out.push(if self.is_negative { '-' } else { '+' }),
                _ => {}
            }
        }
        self.passed += 1;
    }

    fn sign(&mut self, out: &mut String) {
        match self.layout.sign {
            Sign::Before => out.push(if self.is_negative { '-' } else { '+' }),
            Sign::After => return,
            Sign::Brackets => out.push(if self.is_negative { '<' } else { ' ' }),
            _ if self.is_negative => out.push('-'),
            _ if self.layout.is_short => {}
            _ => out.push(' '),
        }
        self.is_signed = true;
    }
}

/// `to_char` of a number.
pub(in crate::expr) static TO_CHAR: Function = Function {
    name: "to_char",
    signature: "to_char(number, pattern)",
    parameters: &[Parameter::Number, Parameter::Constant],
    prepare: Some(prepare),
    compute: to_char,
    ..Function::PLAIN
};

fn prepare(arguments: &[Expr]) -> Result<Prepared, String> {
    if arguments[0].ty == crate::types::SqlType::Double {
        return Err("to_char takes exact numbers: cast it, x::decimal(12, 2)".into());
    }
    let pattern = arguments[1].as_text().unwrap_or_default();
    NumberLayout::parse(&pattern).map(|layout| Prepared::Number(Arc::new(layout)))
}

fn to_char(a: &Arguments<'_>) -> Column {
    let Prepared::Number(layout) = a.prepared else { unreachable!("bind prepares patterns") };
    let column = &a.columns[0];
    let scale = match column.array.data_type() {
        DataType::Decimal128(_, scale) => u8::try_from(*scale).ok(),
        _ => None,
    };
    let mut text = String::new();
    map_text(&[column], a.rows, |row, out| {
        text.clear();
        match scale {
            Some(scale) => {
                layout.write(column.primitive::<Decimal128Type>().value(column.index(row)), scale, &mut text)
            }
            None => layout.write(column.whole_at(row).into(), 0, &mut text),
        }
        out.extend_from_slice(text.as_bytes());
        Ok(())
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Examples of the chapter on formatting in PostgreSQL's manual; a test of the program compares many more.
    #[rstest]
    #[case(-10, 2, "99.99", "  -.10")]
    #[case(-10, 2, "FM9.99", "-.1")]
    #[case(1, 1, "0.9", " 0.1")]
    #[case(12, 0, "9990999.9", "    0012.0")]
    #[case(12, 0, "FM9990999.9", "0012.")]
    #[case(485, 0, "999", " 485")]
    #[case(-485, 0, "999", "-485")]
    #[case(1485, 0, "9,999", " 1,485")]
    #[case(1485, 1, "999.999", " 148.500")]
    #[case(1485, 1, "FM999.999", "148.5")]
    #[case(1485, 1, "FM999.990", "148.500")]
    #[case(-485, 0, "999S", "485-")]
    #[case(-485, 0, "999MI", "485-")]
    #[case(485, 0, "999MI", "485 ")]
    #[case(485, 0, "FM999MI", "485")]
    #[case(485, 0, "PL999", "+ 485")]
    #[case(-485, 0, "SG999", "-485")]
    #[case(-485, 0, "9SG99", "4-85")]
    #[case(-485, 0, "999PR", "<485>")]
    #[case(485, 0, "\"Good number:\"999", "Good number: 485")]
    #[case(12345, 0, "999", " ###")]
    fn examples_of_the_manual(#[case] value: i128, #[case] scale: u8, #[case] pattern: &str, #[case] expected: &str) {
        let mut out = String::new();
        NumberLayout::parse(pattern).unwrap().write(value, scale, &mut out);
        assert_eq!(out, expected);
    }
}
