//! PostgreSQL's binary form of exact numbers: groups of four digits to the base 10,000, as `numeric_send` in the
//! server's `src/backend/utils/adt/numeric.c` writes them.

const NEGATIVE: u16 = 0x4000;

/// Writes `value / 10^scale` without its length. `scale` is at most 38.
pub(super) fn write(out: &mut Vec<u8>, value: i128, scale: u8) {
    let scale = u32::from(scale);
    // The digits after the point fill whole groups.
    let groups_after = scale.div_ceil(4);
    let pad = groups_after * 4 - scale;
    let mut rest = value.unsigned_abs();
    let mut groups = [0_u16; 12];
    let mut count = 0;
    let mut push = |group: u128| {
        groups[count] = u16::try_from(group).unwrap_or(0);
        count += 1;
    };
    if pad > 0 {
        let unit = 10_u128.pow(4 - pad);
        push((rest % unit) * 10_u128.pow(pad));
        rest /= unit;
    }
    while rest > 0 {
        push(rest % 10_000);
        rest /= 10_000;
    }
    let after = usize::try_from(groups_after).unwrap_or(0);
    // Groups of zeros at either end are not written.
    let first = groups[..count].iter().position(|g| *g != 0).unwrap_or(count);
    let weight = i16::try_from(count).unwrap_or(0) - i16::try_from(after).unwrap_or(0) - 1;
    let written = &groups[first..count];
    let last = written.iter().rposition(|g| *g != 0).map_or(0, |i| i + 1);
    let (written, weight) = (&written[..last], weight - i16::try_from(written.len() - last).unwrap_or(0));
    out.extend_from_slice(&u16::try_from(written.len()).unwrap_or(0).to_be_bytes());
    out.extend_from_slice(&(if written.is_empty() { 0 } else { weight }).to_be_bytes());
    out.extend_from_slice(&(if value < 0 { NEGATIVE } else { 0 }).to_be_bytes());
    out.extend_from_slice(&u16::try_from(scale).unwrap_or(0).to_be_bytes());
    for group in written.iter().rev() {
        out.extend_from_slice(&group.to_be_bytes());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn words(value: i128, scale: u8) -> Vec<i32> {
        let mut out = Vec::new();
        write(&mut out, value, scale);
        out.chunks(2).map(|b| i32::from(i16::from_be_bytes([b[0], b[1]]))).collect()
    }

    // Count of groups, weight, sign, digits after the point, groups; as the server sends them.
    #[rstest]
    #[case(0, 2, &[0, 0, 0, 2])]
    #[case(12345, 2, &[2, 0, 0, 2, 123, 4500])]
    #[case(-5, 2, &[1, -1, 0x4000, 2, 500])]
    #[case(100_000_000, 0, &[1, 2, 0, 0, 1])]
    #[case(1_000_100_000_000, 4, &[2, 2, 0, 4, 1, 1])]
    #[case(1, 8, &[1, -2, 0, 8, 1])]
    #[case(99_999_999_999_999_999_999_999_999_999_999_999_999, 0, &[10, 9, 0, 0, 99, 9999, 9999, 9999, 9999, 9999, 9999, 9999, 9999, 9999])]
    #[case(1, 38, &[1, -10, 0, 38, 100])]
    fn numbers_are_grouped(#[case] value: i128, #[case] scale: u8, #[case] expected: &[i32]) {
        assert_eq!(words(value, scale), expected);
    }
}
