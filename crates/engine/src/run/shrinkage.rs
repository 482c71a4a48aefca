//! What a run notices before it makes a snapshot: that much is suddenly gone or different.

use std::{os::unix::ffi::OsStrExt, path::PathBuf, sync::atomic::Ordering};

use skellin_store::Entry;

use super::pool::Pool;

/// With fewer files than this in the snapshot before, only sources that are empty count.
const FEWEST: u64 = 20;
/// With fewer than this, changes do not count: small sets often change as a whole.
const FEWEST_CHANGED: u64 = 100;

/// Much that is suddenly gone or different.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shrinkage {
    /// Files in the snapshot before.
    pub before: u64,
    /// How many of them are gone.
    pub gone: u64,
    /// How many of them changed.
    pub changed: u64,
    /// Sources that held files and hold none now, or are not there.
    pub empty: Vec<PathBuf>,
}

impl Shrinkage {
    /// In words.
    #[must_use]
    pub fn words(&self) -> String {
        let mut parts: Vec<String> = self
            .empty
            .iter()
            .map(|source| format!("{} is suddenly empty or not there", source.display()))
            .collect();
        let share = |count: u64| (count * 100).checked_div(self.before).unwrap_or(100);
        for (count, what) in [(self.gone, "gone"), (self.changed, "changed")] {
            if count > 0 {
                parts.push(format!(
                    "{count} of {} files are {what} ({}%)",
                    self.before,
                    share(count)
                ));
            }
        }
        parts.join("; ")
    }
}

/// Looks whether a plan's limit is passed; `roots` are the sources as they were found.
pub(super) fn notice(
    pool: &Pool<'_>,
    limit: Option<u8>,
    roots: &[(usize, Entry)],
) -> Option<Shrinkage> {
    let (limit, base) = (u64::from(limit?), pool.comparison.base()?);
    let mut empty = Vec::new();
    for source in &base.sources {
        let path = source.path.as_slice();
        let number = pool.sources.iter().position(|own| own.path.as_os_str().as_bytes() == path);
        // What the plan no longer names is no loss.
        let Some(number) = number else { continue };
        // That it cannot be read here only costs this warning.
        let before = pool.store.entry(base.root_page(pool.store), &source.name).ok().flatten();
        let files = |entry: &Entry| entry.counted().files;
        let now =
            roots.iter().find(|(root, _)| *root == number).map_or(0, |(_, entry)| files(entry));
        if now == 0 && before.is_some_and(|before| files(&before) > 0) {
            empty.push(pool.sources[number].path.clone());
        }
    }
    let load = |counter: &std::sync::atomic::AtomicU64| counter.load(Ordering::Relaxed);
    let (gone, changed) = (load(&pool.counts.gone), load(&pool.counts.changed));
    let before = base.files;
    let many = |count: u64, fewest: u64| before >= fewest && count * 100 > before * limit;
    let trips = !empty.is_empty() || many(gone, FEWEST) || many(changed, FEWEST_CHANGED);
    trips.then_some(Shrinkage { before, gone, changed, empty })
}
