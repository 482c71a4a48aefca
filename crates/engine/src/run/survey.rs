//! Counting what there is, so that a first run can say how much is left.

use std::{os::unix::ffi::OsStrExt, sync::atomic::Ordering};

use skellin_plan::Action;

use super::pool::Pool;
use crate::{
    metadata::Sort,
    walk::{Looked, through},
};

/// Walks all sources by the rules and adds up files and bytes. Errors are the run's to report.
pub(super) fn count(pool: &Pool<'_>) {
    for (number, source) in pool.sources.iter().enumerate() {
        let Ok(filter) = &pool.filters[number] else { continue };
        let Ok(facts) = filter.origin().facts(&source.path, true) else { continue };
        let verdict = filter.source(source.path.as_os_str().as_bytes(), &facts, &pool.owners);
        let mut visit = |Looked { facts, verdict, .. }: &Looked| {
            let counts = verdict.action == Action::Take
                && !matches!(facts.sort(), Sort::Directory | Sort::Socket);
            if counts {
                pool.counts.survey.files.add(1);
                pool.counts.survey.bytes.add(if facts.sort() == Sort::File {
                    facts.size()
                } else {
                    0
                });
            }
            !pool.is_stopped()
        };
        through(pool.filtering(filter), &source.path, verdict, &mut visit);
        if pool.is_stopped() {
            return;
        }
    }
    pool.counts.survey.is_done.store(true, Ordering::SeqCst);
}
