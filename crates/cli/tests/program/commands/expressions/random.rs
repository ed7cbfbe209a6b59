//! Expressions at random.

/// Expressions within each other, at random; a seed gives the same everywhere.
struct Random(u64);

impl Random {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n
    }

    fn pick(&mut self, all: &[&str]) -> String {
        all[usize::try_from(self.below(all.len() as u64)).unwrap()].to_string()
    }

    /// Decimals are not divided here: how many digits a quotient has differs, and the rest of an expression shows it.
    fn number(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["i", "j", "m", "0", "1", "-1", "7", "2.5"]);
        }
        let (a, b) = (self.number(depth - 1), self.number(depth - 1));
        match self.below(10) {
            0..=3 => format!("({a} {} {b})", self.pick(&["+", "-", "*"])),
            4 => {
                format!("({} {} {})", self.pick(&["i", "j", "7"]), self.pick(&["/", "%"]), self.pick(&["j", "i", "2"]))
            }
            5 => format!("abs({a})"),
            6 => format!("coalesce({a}, {b})"),
            // Of two constants PostgreSQL computes it beforehand, and with it whatever it stands in.
            7 => format!("nullif({a}, j)"),
            8 => format!("case when {} then {a} else {b} end", self.truth(depth - 1)),
            _ => format!("length({})", self.text(depth - 1)),
        }
    }

    fn text(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["t", "u", "''", "'x'", "'船é'"]);
        }
        let (a, b) = (self.text(depth - 1), self.text(depth - 1));
        match self.below(8) {
            0 => format!("({a} || {b})"),
            1 => format!("lower({a})"),
            2 => format!("upper({a})"),
            3 => format!("trim({a})"),
            4 => {
                format!("substring({a}, {}, {})", self.pick(&["1", "2", "-1", "j"]), self.pick(&["0", "1", "3", "100"]))
            }
            5 => format!("replace({a}, {b}, '-')"),
            6 => format!("coalesce({a}, {b})"),
            _ => format!("case when {} then {a} else {b} end", self.truth(depth - 1)),
        }
    }

    fn truth(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["o", "i > 0", "t = u", "m is null", "j in (0, 2, null)", "day > date '1970-01-01'"]);
        }
        let (a, b) = (self.truth(depth - 1), self.truth(depth - 1));
        match self.below(8) {
            0 => format!("({a} and {b})"),
            1 => format!("({a} or {b})"),
            2 => format!("(not {a})"),
            3 => format!("({a} is not true)"),
            4 => format!(
                "({} {} {})",
                self.number(depth - 1),
                self.pick(&["<", "=", "<>", ">="]),
                self.number(depth - 1)
            ),
            5 => format!("({} < {})", self.text(depth - 1), self.text(depth - 1)),
            6 => format!("({} in ({}, {}))", self.number(depth - 1), self.number(0), self.number(0)),
            _ => format!("({} between {} and {})", self.number(depth - 1), self.number(0), self.number(0)),
        }
    }
}

/// `SLUICE_EXPRESSIONS` sets how many are tried, `SLUICE_EXPRESSIONS_SEED` where they begin.
pub(super) fn expressions() -> Vec<String> {
    let number = |name: &str, default: u64| std::env::var(name).ok().and_then(|n| n.parse().ok()).unwrap_or(default);
    let mut random = Random(number("SLUICE_EXPRESSIONS_SEED", 1).wrapping_mul(0x9e37_79b9_7f4a_7c15));
    let one = |_| match random.below(3) {
        0 => random.number(3),
        1 => random.text(3),
        _ => random.truth(3),
    };
    (0..number("SLUICE_EXPRESSIONS", 20_000)).map(one).collect()
}
