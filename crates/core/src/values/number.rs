//! Whole numbers, decimals and floating-point numbers from text and back.

use std::fmt::Write as _;

/// Powers of ten up to 10^38, the largest that an `i128` holds.
pub const POWERS: [i128; 39] = {
    let mut powers = [1_i128; 39];
    let mut i = 1;
    while i < 39 {
        powers[i] = powers[i - 1] * 10;
        i += 1;
    }
    powers
};

/// Whether a text is a number by JSON's grammar, after RFC 8259.
pub fn is_number(token: &[u8]) -> bool {
    let digits = |rest: &[u8]| rest.iter().take_while(|b| b.is_ascii_digit()).count();
    let mut rest = token.strip_prefix(b"-").unwrap_or(token);
    let whole = digits(rest);
    if whole == 0 || (whole > 1 && rest[0] == b'0') {
        return false;
    }
    rest = &rest[whole..];
    if let Some(fraction) = rest.strip_prefix(b".") {
        let count = digits(fraction);
        if count == 0 {
            return false;
        }
        rest = &fraction[count..];
    }
    if let [b'e' | b'E', exponent @ ..] = rest {
        let exponent = match exponent {
            [b'+' | b'-', unsigned @ ..] => unsigned,
            _ => exponent,
        };
        let count = digits(exponent);
        return count > 0 && count == exponent.len();
    }
    rest.is_empty()
}

/// Parses a whole number. Spellings with a point or exponent count where their value is whole: `12.0`, `1.2e1`.
pub fn parse_whole(text: &[u8]) -> Option<i64> {
    let (negative, digits) = sign(text);
    if digits.is_empty() || digits.len() > 19 || !digits.iter().all(u8::is_ascii_digit) {
        return i64::try_from(parse_decimal(text, 0)?).ok();
    }
    let mut value: i64 = 0;
    for digit in digits {
        let digit = i64::from(digit - b'0');
        // Counting downwards holds the least value too.
        value = value.checked_mul(10)?.checked_sub(digit)?;
    }
    if negative { Some(value) } else { value.checked_neg() }
}

/// Parses a decimal into units of `10^-scale`. None where it has more digits than that, or is not a number.
pub fn parse_decimal(text: &[u8], scale: u8) -> Option<i128> {
    let (negative, text) = sign(text);
    let exponent_at = text.iter().position(|b| matches!(b, b'e' | b'E'));
    let (mantissa, exponent) = match exponent_at {
        Some(at) => (&text[..at], parse_exponent(&text[at + 1..])?),
        None => (text, 0),
    };
    let point = mantissa.iter().position(|b| *b == b'.').unwrap_or(mantissa.len());
    let (whole, fraction) = (&mantissa[..point], mantissa.get(point + 1..).unwrap_or_default());
    if whole.is_empty() && fraction.is_empty() {
        return None;
    }
    let mut value: i128 = 0;
    for digit in whole.iter().chain(fraction) {
        if !digit.is_ascii_digit() {
            return None;
        }
        value = value.checked_mul(10)?.checked_add(i128::from(digit - b'0'))?;
    }
    let shift = i64::from(scale) + exponent - i64::try_from(fraction.len()).ok()?;
    let value = shift_exactly(value, shift)?;
    Some(if negative { -value } else { value })
}

/// Parses a decimal into units of `10^-scale`, rounding halves away from zero. None where it is not a number, or too large.
pub fn parse_decimal_rounded(text: &[u8], scale: u8) -> Option<i128> {
    if let Some(exact) = parse_decimal(text, scale) {
        return Some(exact);
    }
    let (negative, text) = sign(text);
    let exponent_at = text.iter().position(|b| matches!(b, b'e' | b'E'));
    let (mantissa, exponent) = match exponent_at {
        Some(at) => (&text[..at], parse_exponent(&text[at + 1..])?),
        None => (text, 0),
    };
    let point = mantissa.iter().position(|b| *b == b'.').unwrap_or(mantissa.len());
    let digits: Vec<u8> =
        mantissa[..point].iter().chain(mantissa.get(point + 1..).unwrap_or_default()).copied().collect();
    if digits.is_empty() || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    // So many of the digits stand before the last place that is kept; the next one decides.
    let kept = i64::try_from(point).ok()? + exponent + i64::from(scale);
    let Ok(kept) = usize::try_from(kept) else { return Some(0) };
    let at = |i: usize| digits.get(i).map_or(0, |d| i128::from(d - b'0'));
    let mut value: i128 = 0;
    for i in 0..kept {
        value = value.checked_mul(10)?.checked_add(at(i))?;
        if i >= digits.len() && value == 0 {
            break;
        }
    }
    value = value.checked_add(i128::from(at(kept) >= 5))?;
    Some(if negative { -value } else { value })
}

fn sign(text: &[u8]) -> (bool, &[u8]) {
    match text {
        [b'-', rest @ ..] => (true, rest),
        [b'+', rest @ ..] => (false, rest),
        _ => (false, text),
    }
}

fn parse_exponent(text: &[u8]) -> Option<i64> {
    let (negative, digits) = sign(text);
    if digits.is_empty() || digits.len() > 4 || !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let value = digits.iter().fold(0, |v, d| v * 10 + i64::from(d - b'0'));
    Some(if negative { -value } else { value })
}

/// Multiplies by a power of ten; None where digits would be lost or the value grows too large.
fn shift_exactly(value: i128, shift: i64) -> Option<i128> {
    if value == 0 {
        return Some(0);
    }
    let power = *POWERS.get(usize::try_from(shift.unsigned_abs()).ok()?)?;
    if shift >= 0 { value.checked_mul(power) } else { (value % power == 0).then_some(value / power) }
}

/// Changes the scale of a decimal, rounding halves away from zero. None on overflow.
pub fn rescale(value: i128, from: u8, to: u8) -> Option<i128> {
    if to >= from {
        return value.checked_mul(POWERS[usize::from(to - from)]);
    }
    Some(divide_rounded(value, POWERS[usize::from(from - to)]))
}

/// Changes the scale of a decimal without losing digits. None where digits other than zero would be lost, and on overflow.
pub fn rescale_exactly(value: i128, from: u8, to: u8) -> Option<i128> {
    shift_exactly(value, i64::from(to) - i64::from(from))
}

/// The double that is nearest to a decimal.
pub fn decimal_to_double(value: i128, scale: u8) -> f64 {
    /// Whole numbers up to 2^53 and powers of ten up to 10^22 are doubles themselves: their quotient is rounded once.
    const EXACT: u128 = 1 << 53;
    const EXACT_POWER: u8 = 22;
    if value.unsigned_abs() <= EXACT && scale <= EXACT_POWER {
        return value as f64 / POWERS[usize::from(scale)] as f64;
    }
    format!("{value}e-{scale}").parse().unwrap_or(f64::NAN)
}

/// A double by its shortest decimal spelling, as a whole number times a power of ten. None where it is not finite.
pub fn double_to_units(value: f64) -> Option<(i128, i64)> {
    let spelled = format!("{value:e}");
    let (mantissa, exponent) = spelled.split_once('e')?;
    let fraction = mantissa.split_once('.').map_or(0, |(_, fraction)| fraction.len());
    let lowest = exponent.parse::<i64>().ok()? - i64::try_from(fraction).ok()?;
    Some((mantissa.replace('.', "").parse().ok()?, lowest))
}

/// A double as a decimal of a scale, by its shortest decimal spelling, halves away from zero: 1.005 becomes 1.01. None where it
/// is not finite or too large.
pub fn double_to_decimal(value: f64, scale: u8) -> Option<i128> {
    let (units, lowest) = double_to_units(value)?;
    let shift = lowest + i64::from(scale);
    match usize::try_from(shift) {
        Ok(up) if units != 0 => units.checked_mul(*POWERS.get(up)?),
        Ok(_) => Some(0),
        Err(_) => match POWERS.get(usize::try_from(shift.unsigned_abs()).ok()?) {
            Some(power) => Some(divide_rounded(units, *power)),
            None => Some(0),
        },
    }
}

/// Divides, rounding halves away from zero. `divisor` is not zero.
pub fn divide_rounded(value: i128, divisor: i128) -> i128 {
    let (quotient, remainder) = (value / divisor, value % divisor);
    let half_or_more = remainder.unsigned_abs() >= divisor.unsigned_abs() - remainder.unsigned_abs();
    match half_or_more && remainder != 0 {
        true if (value < 0) == (divisor < 0) => quotient + 1,
        true => quotient - 1,
        false => quotient,
    }
}

/// Whether a decimal has at most `precision` digits.
pub fn fits_precision(value: i128, precision: u8) -> bool {
    value.unsigned_abs() < POWERS[usize::from(precision.min(38))].unsigned_abs()
}

/// Writes a decimal of a scale.
pub fn write_decimal(out: &mut String, value: i128, scale: u8) {
    if scale == 0 {
        let _ = write!(out, "{value}");
        return;
    }
    let power = POWERS[usize::from(scale)].unsigned_abs();
    let (whole, fraction) = (value.unsigned_abs() / power, value.unsigned_abs() % power);
    let minus = if value < 0 { "-" } else { "" };
    let _ = write!(out, "{minus}{whole}.{fraction:0width$}", width = usize::from(scale));
}

/// Parses a floating-point number. `NaN`, `Infinity` and `-Infinity` are some in just this spelling, in which databases send
/// them and we write them; other words are none. Neither is a number whose size is beyond that of a double.
pub fn parse_double(text: &[u8]) -> Option<f64> {
    match text {
        b"NaN" => return Some(f64::NAN),
        b"Infinity" => return Some(f64::INFINITY),
        b"-Infinity" => return Some(f64::NEG_INFINITY),
        _ => {}
    }
    let numeric = |b: &u8| b.is_ascii_digit() || matches!(b, b'+' | b'-' | b'.' | b'e' | b'E');
    if !text.iter().all(numeric) {
        return None;
    }
    let value: f64 = std::str::from_utf8(text).ok()?.parse().ok()?;
    // A number that is too small must not become zero in silence.
    let is_lost =
        value == 0.0 && text.iter().take_while(|b| !matches!(b, b'e' | b'E')).any(|b| (b'1'..=b'9').contains(b));
    (value.is_finite() && !is_lost).then_some(value)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("0", Some(0))]
    #[case("-12", Some(-12))]
    #[case("9223372036854775807", Some(i64::MAX))]
    #[case("-9223372036854775808", Some(i64::MIN))]
    #[case("9223372036854775808", None)]
    #[case("12.0", Some(12))]
    #[case("1.2e1", Some(12))]
    #[case("12.5", None)]
    #[case("", None)]
    #[case("1x", None)]
    #[case("-", None)]
    fn whole_numbers(#[case] text: &str, #[case] expected: Option<i64>) {
        assert_eq!(parse_whole(text.as_bytes()), expected);
    }

    #[rstest]
    #[case("12.34", 2, Some(1234))]
    #[case("12.3", 2, Some(1230))]
    #[case("12.340", 2, Some(1234))]
    #[case("12.345", 2, None)]
    #[case("-0.5", 1, Some(-5))]
    #[case("1e-2", 2, Some(1))]
    #[case("1e3", 0, Some(1000))]
    #[case(".5", 1, Some(5))]
    #[case("0e9999", 2, Some(0))]
    #[case("1e99", 2, None)]
    #[case(".", 2, None)]
    fn decimals(#[case] text: &str, #[case] scale: u8, #[case] expected: Option<i128>) {
        assert_eq!(parse_decimal(text.as_bytes(), scale), expected);
    }

    #[rstest]
    #[case(1234, 2, "12.34")]
    #[case(-5, 2, "-0.05")]
    #[case(7, 0, "7")]
    fn written_decimals(#[case] value: i128, #[case] scale: u8, #[case] text: &str) {
        let mut out = String::new();
        write_decimal(&mut out, value, scale);
        assert_eq!(out, text);
        assert_eq!(parse_decimal(out.as_bytes(), scale), Some(value));
    }

    #[rstest]
    #[case(1.005, 2, Some(101))]
    #[case(0.125, 2, Some(13))]
    #[case(-0.125, 2, Some(-13))]
    #[case(2.5, 0, Some(3))]
    #[case(1e-300, 6, Some(0))]
    #[case(1e30, 2, Some(100_000_000_000_000_000_000_000_000_000_000))]
    #[case(1e300, 2, None)]
    #[case(f64::NAN, 2, None)]
    #[case(f64::INFINITY, 2, None)]
    #[case(0.0, 38, Some(0))]
    fn doubles_become_decimals_by_their_shortest_spelling(
        #[case] value: f64,
        #[case] scale: u8,
        #[case] expected: Option<i128>,
    ) {
        assert_eq!(double_to_decimal(value, scale), expected);
    }

    #[rstest]
    #[case(123_456_789_012_345_678, 17)]
    #[case(1, 38)]
    #[case(-99_999_999_999_999_999_999_999_999_999_999_999_999, 10)]
    #[case(9_007_199_254_740_993, 3)]
    #[case(35, 1)]
    fn decimals_become_the_nearest_double(#[case] value: i128, #[case] scale: u8) {
        let mut text = String::new();
        write_decimal(&mut text, value, scale);
        assert_eq!(decimal_to_double(value, scale), text.parse::<f64>().unwrap());
    }

    #[rstest]
    #[case(1200, 3, 1, Some(12))]
    #[case(1234, 3, 1, None)]
    #[case(12, 0, 2, Some(1200))]
    fn rescaling_exactly_loses_nothing(
        #[case] value: i128,
        #[case] from: u8,
        #[case] to: u8,
        #[case] expected: Option<i128>,
    ) {
        assert_eq!(rescale_exactly(value, from, to), expected);
    }

    #[rstest]
    #[case(125, 2, 1, Some(13))]
    #[case(-125, 2, 1, Some(-13))]
    #[case(124, 2, 1, Some(12))]
    #[case(12, 0, 2, Some(1200))]
    #[case(i128::MAX, 0, 2, None)]
    fn rescaling_rounds_halves_away_from_zero(
        #[case] value: i128,
        #[case] from: u8,
        #[case] to: u8,
        #[case] expected: Option<i128>,
    ) {
        assert_eq!(rescale(value, from, to), expected);
    }

    #[rstest]
    #[case("1.005", 2, Some(101))]
    #[case("-1.005", 2, Some(-101))]
    #[case("1.0049999999999999999999999999999999999999999", 2, Some(100))]
    #[case("0.5", 0, Some(1))]
    #[case("-.5", 0, Some(-1))]
    #[case("4e-1", 0, Some(0))]
    #[case("5e-1", 0, Some(1))]
    #[case("50e-9", 2, Some(0))]
    #[case("1234.5e-1", 1, Some(1235))]
    #[case("99999999999999999999999999999999999999.5", 0, Some(100_000_000_000_000_000_000_000_000_000_000_000_000))]
    #[case("1e400", 0, None)]
    #[case("0e400", 0, Some(0))]
    #[case("1.x5", 0, None)]
    #[case(".", 0, None)]
    #[case("1e", 0, None)]
    fn decimals_are_rounded_to_their_scale(#[case] text: &str, #[case] scale: u8, #[case] expected: Option<i128>) {
        assert_eq!(parse_decimal_rounded(text.as_bytes(), scale), expected);
    }

    #[rstest]
    #[case("1.5", Some(1.5))]
    #[case("1e400", None)]
    #[case("1e-400", None)]
    #[case("-0.0001e-400", None)]
    #[case("1e-320", Some(1e-320))]
    #[case("0e-400", Some(0.0))]
    #[case("-0.000", Some(-0.0))]
    #[case("inf", None)]
    #[case("nan", None)]
    #[case("infinity", None)]
    #[case("Infinity", Some(f64::INFINITY))]
    #[case("-Infinity", Some(f64::NEG_INFINITY))]
    fn doubles(#[case] text: &str, #[case] expected: Option<f64>) {
        assert_eq!(parse_double(text.as_bytes()), expected);
    }

    #[test]
    fn what_is_no_number_is_a_double() {
        assert!(parse_double(b"NaN").unwrap().is_nan());
    }

    proptest::proptest! {
        #[test]
        fn whole_numbers_survive_text(n: i64) {
            proptest::prop_assert_eq!(parse_whole(n.to_string().as_bytes()), Some(n));
        }

        #[test]
        fn any_bytes_are_parsed_without_panic(bytes: Vec<u8>, scale in 0_u8..=38) {
            let _ = (parse_whole(&bytes), parse_decimal(&bytes, scale), parse_double(&bytes));
        }
    }
}
