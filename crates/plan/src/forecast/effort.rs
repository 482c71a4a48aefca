//! How long a run will take, told from those that have been.

/// What a run had to do, or will have.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Effort {
    /// Paths to look at.
    pub files: u64,
    /// Bytes to read.
    pub bytes: u64,
}

/// A span of time in which a run will end.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Expected {
    /// The most likely time, in seconds.
    pub seconds: f64,
    /// The shortest and the longest that the past makes likely, in seconds.
    pub range: (f64, f64),
}

/// The time a run will take, by runs of the same plan: what they had to do, and how many seconds
/// that took. `None` if they tell nothing.
///
/// A path and a byte have a price each in seconds; the prices are those that fit the runs best,
/// each run counting by how far off it is in proportion (least squares, neither price below
/// zero).
#[must_use]
pub fn expect(past: &[(Effort, f64)], ahead: Effort) -> Option<Expected> {
    let runs: Vec<(f64, f64, f64)> = past
        .iter()
        .filter(|(effort, seconds)| *seconds > 0.0 && effort.files + effort.bytes > 0)
        .map(|(effort, seconds)| (effort.files as f64, effort.bytes as f64, *seconds))
        .collect();
    if runs.is_empty() {
        return None;
    }
    let prices = fit(&runs);
    let price = |files: f64, bytes: f64| prices.0 * files + prices.1 * bytes;
    let seconds = price(ahead.files as f64, ahead.bytes as f64);
    // How far off the prices were before is how far off they may be again.
    let mut off: Vec<f64> = runs
        .iter()
        .map(|(files, bytes, seconds)| seconds / price(*files, *bytes).max(f64::MIN_POSITIVE))
        .filter(|off| off.is_finite())
        .collect();
    off.sort_by(f64::total_cmp);
    let at = |share: f64| off.get(((off.len() - 1) as f64 * share).round() as usize).copied();
    let range = (seconds * at(0.1)?.min(1.0), seconds * at(0.9)?.max(1.0));
    Some(Expected { seconds, range })
}

/// The prices of a path and of a byte.
fn fit(runs: &[(f64, f64, f64)]) -> (f64, f64) {
    let (mut ff, mut fb, mut bb, mut f, mut b) = (0.0, 0.0, 0.0, 0.0, 0.0);
    for (files, bytes, seconds) in runs {
        let (files, bytes) = (files / seconds, bytes / seconds);
        ff += files * files;
        fb += files * bytes;
        bb += bytes * bytes;
        f += files;
        b += bytes;
    }
    let alone = |sum: f64, square: f64| if square > 0.0 { sum / square } else { 0.0 };
    let determinant = ff * bb - fb * fb;
    if determinant > 1e-9 * ff * bb {
        let prices = ((f * bb - b * fb) / determinant, (b * ff - f * fb) / determinant);
        if prices.0 >= 0.0 && prices.1 >= 0.0 {
            return prices;
        }
    }
    // One of them explains it alone: the one that leaves less unexplained.
    let (by_files, by_bytes) = (alone(f, ff), alone(b, bb));
    let missed = |prices: (f64, f64)| -> f64 {
        let off = |(files, bytes, seconds): &(f64, f64, f64)| {
            (1.0 - (prices.0 * files + prices.1 * bytes) / seconds).powi(2)
        };
        runs.iter().map(off).sum()
    };
    if missed((by_files, 0.0)) <= missed((0.0, by_bytes)) {
        (by_files, 0.0)
    } else {
        (0.0, by_bytes)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn runs_that_keep_to_prices_foretell_exactly(
            per_file in 1e-7..1e-3f64,
            per_byte in 1e-10..1e-7f64,
            efforts in proptest::collection::vec((1..1_000_000u64, 0..1_000_000_000_000u64), 3..20),
            ahead in (1..1_000_000u64, 0..1_000_000_000_000u64),
        ) {
            let seconds =
                |(files, bytes): (u64, u64)| per_file * files as f64 + per_byte * bytes as f64;
            let effort = |(files, bytes)| Effort { files, bytes };
            let past: Vec<_> =
                efforts.iter().map(|one| (effort(*one), seconds(*one))).collect();
            let expected = expect(&past, effort(ahead)).expect("they tell");
            // Where all runs were alike, only what is like them can be told.
            let varied = efforts.iter().any(|(files, bytes)| {
                let share = |files: u64, bytes: u64| files as f64 * per_file / seconds((files, bytes));
                (share(*files, *bytes) - share(efforts[0].0, efforts[0].1)).abs() > 0.01
            });
            if varied {
                let right = seconds(ahead);
                prop_assert!((expected.seconds - right).abs() < right * 0.01, "{expected:?} {right}");
            }
            prop_assert!(expected.range.0 <= expected.seconds * 1.000_001);
            prop_assert!(expected.range.1 >= expected.seconds * 0.999_999);
        }
    }

    #[test]
    fn nothing_is_foretold_from_nothing_and_scatter_widens_the_range() {
        let effort = |files, bytes| Effort { files, bytes };
        assert_eq!(expect(&[], effort(1, 1)), None);
        assert_eq!(expect(&[(effort(0, 0), 1.0), (effort(5, 5), 0.0)], effort(1, 1)), None);
        let past: Vec<_> =
            (1..=20).map(|n| (effort(1000, 0), if n % 2 == 0 { 8.0 } else { 12.0 })).collect();
        let expected = expect(&past, effort(2000, 0)).expect("they tell");
        assert!(expected.range.0 < 17.0 && expected.range.1 > 23.0, "{expected:?}");
        // More bytes than ever, and no run to tell what they cost: the paths alone count.
        assert!(expect(&past, effort(1000, 1 << 40)).expect("they tell").seconds < 12.0);
    }
}
