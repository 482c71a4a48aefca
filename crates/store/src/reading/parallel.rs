//! The same done with each of many, some of them at the same time.

use std::sync::atomic::{AtomicUsize, Ordering};

/// So many requests to a far place are under way at a time.
pub(crate) const AT_ONCE: usize = 16;

/// Does something with each, up to so many at a time.
pub(crate) fn side_by_side<T: Sync>(many: &[T], at_once: usize, each: impl Fn(&T) + Sync) {
    let next = AtomicUsize::new(0);
    let work = || {
        while let Some(one) = many.get(next.fetch_add(1, Ordering::Relaxed)) {
            each(one);
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..many.len().min(at_once) {
            scope.spawn(work);
        }
        work();
    });
}
