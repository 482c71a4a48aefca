//! How deep trees are gone into, by the number of files that may be open.

/// Deeper than this no tree is gone into, however many files may be open.
const DEEPEST: usize = 4096;

/// So deep a tree is gone into: each directory on the way may be open, and one tree may not use up
/// what others need. Half of the descriptors there are, for as many paths as are gone at a time.
pub(crate) fn deepest(workers: usize) -> usize {
    let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile).current;
    let limit = usize::try_from(limit.unwrap_or(u64::MAX)).unwrap_or(usize::MAX);
    (limit / 2 / workers.max(1)).min(DEEPEST)
}
