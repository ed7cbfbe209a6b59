//! A row of counts as a small plot of one line.

const LEVELS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

/// One sign for each count, as high as its share of the largest; a blank for nothing.
#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share from 0 to 1")]
pub(crate) fn spark(counts: &[u64]) -> String {
    let most = counts.iter().copied().max().unwrap_or(0);
    let level = |count: u64| match count {
        0 => ' ',
        // The largest has the highest sign, and the smallest one that can be seen.
        count => {
            LEVELS[((count as f64 / most as f64 * LEVELS.len() as f64).ceil() as usize).clamp(1, LEVELS.len()) - 1]
        }
    };
    counts.iter().map(|count| level(*count)).collect()
}

#[cfg(test)]
mod tests {
    use super::spark;
    use rstest::rstest;

    #[rstest]
    #[case(&[], "")]
    #[case(&[0, 0], "  ")]
    #[case(&[1, 2, 3, 4, 5, 6, 7, 8, 0], "▁▂▃▄▅▆▇█ ")]
    #[case(&[1, 1_000_000], "▁█")]
    #[case(&[u64::MAX], "█")]
    fn counts_are_as_high_as_their_share(#[case] counts: &[u64], #[case] expected: &str) {
        assert_eq!(spark(counts), expected);
    }
}
