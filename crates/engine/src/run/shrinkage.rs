//! What a run notices before it makes a snapshot: that much is suddenly gone or different.

use std::os::unix::ffi::OsStrExt;

use skellin_store::Entry;

use super::{pool::Pool, report::Shrinkage};

/// With fewer files than this in the snapshot before, only sources that are empty count.
const FEWEST: u64 = 20;
/// With fewer than this, changes do not count: small sets often change as a whole.
const FEWEST_CHANGED: u64 = 100;

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
    let counts = pool.counts.file_counts();
    let (gone, changed) = (counts.gone, counts.changed);
    let before = base.files;
    let many = |count: u64, fewest: u64| before >= fewest && count * 100 > before * limit;
    let trips = !empty.is_empty() || many(gone, FEWEST) || many(changed, FEWEST_CHANGED);
    trips.then_some(Shrinkage { before, gone, changed, empty })
}
