//! Functions of numbers.

mod bits;
mod double;
mod extreme;
mod layout;
mod round;

use super::{Arguments, Function, Parameter, Prepared};
use crate::expr::Expr;
use crate::expr::column::{Column, map_primitive};
use crate::types::SqlType;
pub(in crate::expr) use bits::{BIT_AND, BIT_NOT, BIT_OR, BIT_XOR, SHIFT_LEFT, SHIFT_RIGHT};
pub(in crate::expr) use extreme::{GREATEST, LEAST};
pub(crate) use layout::NumberLayout;
pub(in crate::expr) use layout::TO_CHAR;
use round::{Toward, round_type};

const ONE: &[Parameter] = &[Parameter::Number];
const DOUBLE: &[Parameter] = &[Parameter::Double];
const DOUBLE_2: &[Parameter] = &[Parameter::Double, Parameter::Double];
const AS_DOUBLE: fn(&[Expr]) -> SqlType = |_| SqlType::Double;

/// A function of one floating-point number.
macro_rules! double {
    ($name:literal, $about:literal, $example:literal, $gives:literal, $compute:expr) => {
        Function {
            name: $name,
            signature: concat!($name, "(number) → double precision"),
            about: $about,
            example: $example,
            gives: $gives,
            parameters: DOUBLE,
            result: AS_DOUBLE,
            compute: |a| double::of_one(a, $compute),
            ..Function::PLAIN
        }
    };
}

/// Functions of numbers.
pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "abs",
        signature: "abs(number) → the same type",
        about: "The number without its sign.",
        example: "abs(-12)",
        gives: "12",
        parameters: ONE,
        result: |arguments| arguments[0].ty,
        compute: round::abs,
        ..Function::PLAIN
    },
    double!("acos", "The angle whose cosine this is, in radians.", "acos(1)", "0", double::acos),
    double!("asin", "The angle whose sine this is, in radians.", "asin(0)", "0", double::asin),
    double!("atan", "The angle whose tangent this is, in radians.", "atan(0)", "0", |x| Ok(x.atan())),
    Function {
        name: "atan2",
        signature: "atan2(y, x) → double precision",
        about: "The angle whose tangent is y / x, in radians.",
        example: "atan2(0, 1)",
        gives: "0",
        parameters: DOUBLE_2,
        result: AS_DOUBLE,
        compute: |a| double::of_two(a, |y, x| Ok(y.atan2(x))),
        ..Function::PLAIN
    },
    double!("cbrt", "The cube root.", "cbrt(27)", "3", |x| Ok(x.cbrt())),
    Function {
        name: "ceil",
        signature: "ceil(number) → the same kind of number",
        about: "The smallest whole number that is not less.",
        example: "ceil(-12.5)",
        gives: "-12",
        parameters: ONE,
        result: |arguments| round_type(&arguments.iter().map(|a| a.ty).collect::<Vec<_>>()),
        compute: |a| round::round(a, Toward::Ceiling),
        ..Function::PLAIN
    },
    double!("cos", "The cosine of an angle in radians.", "cos(0)", "1", double::cos),
    double!(
        "degrees",
        "An angle in radians as degrees.",
        "degrees(0)",
        "0",
        |x| Ok(x / (std::f64::consts::PI / 180.0))
    ),
    double!("exp", "e to the power of the number.", "exp(0)", "1", double::exp),
    Function {
        name: "floor",
        signature: "floor(number) → the same kind of number",
        about: "The largest whole number that is not more.",
        example: "floor(-12.5)",
        gives: "-13",
        parameters: ONE,
        result: |arguments| round_type(&arguments.iter().map(|a| a.ty).collect::<Vec<_>>()),
        compute: |a| round::round(a, Toward::Floor),
        ..Function::PLAIN
    },
    double!("ln", "The natural logarithm.", "ln(1)", "0", double::ln),
    Function {
        name: "log",
        signature: "log([base,] number) → double precision",
        about: "The logarithm to a base, 10 by default.",
        example: "log(2, 64)",
        gives: "6",
        parameters: DOUBLE,
        optional: DOUBLE,
        result: AS_DOUBLE,
        compute: |a| match a.columns.len() {
            1 => double::of_one(a, double::log10),
            _ => double::of_two(a, double::log),
        },
        ..Function::PLAIN
    },
    Function {
        name: "pi",
        signature: "pi() → double precision",
        about: "The ratio of a circle's circumference to its diameter.",
        example: "pi()",
        gives: "3.141592653589793",
        nulls: "never null",
        parameters: &[],
        result: AS_DOUBLE,
        compute: |_| double::constant(std::f64::consts::PI),
        ..Function::PLAIN
    },
    Function {
        name: "power",
        signature: "power(base, exponent) → double precision",
        about: "The base to the power of the exponent. Also written base ^ exponent.",
        example: "power(2, 10)",
        gives: "1024",
        parameters: DOUBLE_2,
        result: AS_DOUBLE,
        compute: |a| double::of_two(a, double::power),
        ..Function::PLAIN
    },
    double!(
        "radians",
        "An angle in degrees as radians.",
        "radians(0)",
        "0",
        |x| Ok(x * (std::f64::consts::PI / 180.0))
    ),
    Function {
        name: "round",
        signature: "round(number [, digits]) → the same kind of number",
        about: "The nearest number with so many digits after the point, 0 by default; halves go away from zero.",
        example: "round(12.345, 2)",
        gives: "12.350",
        parameters: ONE,
        optional: &[Parameter::Whole],
        result: |arguments| round_type(&arguments.iter().map(|a| a.ty).collect::<Vec<_>>()),
        compute: |a| round::round(a, Toward::Nearest),
        ..Function::PLAIN
    },
    Function {
        name: "sign",
        signature: "sign(number) → the same type",
        about: "-1, 0 or 1: whether the number is below, at or above zero.",
        example: "sign(-12.5)",
        gives: "-1.0",
        parameters: ONE,
        result: |arguments| arguments[0].ty,
        compute: round::sign,
        ..Function::PLAIN
    },
    double!("sin", "The sine of an angle in radians.", "sin(0)", "0", double::sin),
    double!("sqrt", "The square root.", "sqrt(144)", "12", double::sqrt),
    double!("tan", "The tangent of an angle in radians.", "tan(0)", "0", double::tan),
    Function {
        name: "to_hex",
        signature: "to_hex(number) → text",
        about: "A whole number in hexadecimal digits; a negative one as its bits.",
        example: "to_hex(255)",
        gives: "ff",
        parameters: &[Parameter::Whole],
        compute: bits::to_hex,
        ..Function::PLAIN
    },
    Function {
        name: "trunc",
        signature: "trunc(number [, digits]) → the same kind of number",
        about: "The number cut to so many digits after the point, 0 by default.",
        example: "trunc(12.987, 1)",
        gives: "12.900",
        parameters: ONE,
        optional: &[Parameter::Whole],
        result: |arguments| round_type(&arguments.iter().map(|a| a.ty).collect::<Vec<_>>()),
        compute: |a| round::round(a, Toward::Zero),
        ..Function::PLAIN
    },
    Function {
        name: "width_bucket",
        signature: "width_bucket(number, low, high, count) → integer",
        about: "The number of the bucket among so many of equal width from low to high; 0 below them, count + 1 above.",
        example: "width_bucket(180, 0, 400, 4)",
        gives: "2",
        parameters: &[Parameter::Double, Parameter::Double, Parameter::Double, Parameter::Whole],
        result: |_| SqlType::Integer,
        compute: width_bucket,
        ..Function::PLAIN
    },
];

/// The bucket of a number, after the definition in SQL:2003, 6.27.
fn width_bucket(a: &Arguments<'_>) -> Column {
    map_primitive::<arrow_array::types::Int32Type>(&a.all(), a.rows, SqlType::Integer, |row| {
        let [value, low, high] = [0, 1, 2].map(|i: usize| a.columns[i].double_at(row));
        let count = i32::try_from(a.whole(3, row)).ok().filter(|count| *count > 0 && *count < i32::MAX);
        let count = count.ok_or("width_bucket: there must be a bucket or more, and fewer than 2147483647")?;
        if value.is_nan() || !low.is_finite() || !high.is_finite() || low == high {
            return Err("width_bucket: the borders must be numbers, and not equal".into());
        }
        let (value, low, high) = if low < high { (value, low, high) } else { (-value, -low, -high) };
        Ok(Some(match value {
            value if value < low => 0,
            value if value >= high => count + 1,
            value => {
                let share = (value - low) / (high - low);
                // Rounding may bring a number just below the border to it.
                double::whole(share * f64::from(count)).unwrap_or(0).min(count - 1) + 1
            }
        }))
    })
}
