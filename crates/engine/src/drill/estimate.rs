//! How long a restore of everything would take, from what a sample took.

use super::sample::{Group, Groups};

/// A share of the restore: what it was, how many seconds it took, and how many more until that was on
/// the disk.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Taken {
    pub group: Group,
    pub seconds: f64,
    pub synced: f64,
}

/// Seconds for all of it: small files by their number, long ones by their bytes; never less than it takes
/// to go through the tree. What the disk takes in the end grows with the bytes of long files; of small
/// ones it is much the same for few and for many. None if nothing was restored that tells.
pub(super) fn whole(totals: Groups, small: Taken, large: Taken, walk: f64) -> Option<f64> {
    let by_bytes = |taken: Taken| {
        let seconds = taken.seconds + taken.synced;
        (taken.group.bytes > 0).then(|| seconds / taken.group.bytes as f64)
    };
    let per_file = (small.group.files > 0).then(|| small.seconds / small.group.files as f64);
    // Where one kind was not met, the other says what there is to say.
    let of_small = match (totals.small.files, per_file, by_bytes(large)) {
        (0, ..) => Some(0.0),
        (files, Some(each), _) => Some(files as f64 * each),
        (_, None, rate) => rate.map(|rate| totals.small.bytes as f64 * rate),
    };
    let of_large = match (totals.large.bytes, by_bytes(large), by_bytes(small)) {
        (0, ..) => Some(0.0),
        (bytes, Some(rate), _) | (bytes, None, Some(rate)) => Some(bytes as f64 * rate),
        (_, None, None) => None,
    };
    Some((of_small? + of_large?).max(walk) + small.synced)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn group(files: u64, bytes: u64) -> Group {
        Group { files, bytes }
    }

    #[test]
    fn small_files_count_and_long_ones_weigh() {
        let totals = Groups { small: group(10_000, 5_000_000), large: group(10, 1_000_000_000) };
        let small = Taken { group: group(100, 60_000), seconds: 0.01, synced: 0.2 };
        let large = Taken { group: group(2, 100_000_000), seconds: 0.4, synced: 0.1 };
        let near = |found: Option<f64>, wanted: f64| {
            assert!(found.is_some_and(|found| (found - wanted).abs() < 1e-9), "{found:?} {wanted}");
        };
        near(whole(totals, small, large, 0.1), 1.0 + 5.0 + 0.2);
        near(whole(totals, small, large, 60.0), 60.2);
        let none = Taken::default();
        near(whole(totals, none, large, 0.0), 5.0 + 0.025);
        near(whole(Groups::default(), none, none, 0.2), 0.2);
        assert_eq!(whole(totals, none, none, 0.2), None, "nothing was tried");
    }
}
