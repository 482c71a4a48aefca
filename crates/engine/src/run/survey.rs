//! Counting what there is, so that a first run can say how much is left.

use std::{
    ffi::CString,
    os::{fd::OwnedFd, unix::ffi::OsStrExt},
    sync::atomic::Ordering,
};

use rustix::fs::{CWD, Dir, Mode, OFlags, openat};
use skellin_plan::{Action, Verdict};

use super::{
    pool::{Pool, add},
    task::join,
};
use crate::metadata::{Facts, Sort, fd};

/// Walks all sources by the rules and adds up files and bytes. Errors are the run's to report.
pub(super) fn count(pool: &Pool<'_>) {
    for (number, source) in pool.sources.iter().enumerate() {
        let bytes = source.path.as_os_str().as_bytes().to_vec();
        let verdict = pool.matchers[number].source(&bytes, true);
        let Some(handle) = open(&bytes) else { continue };
        let mut stack = vec![(handle, bytes, verdict)];
        while let Some((handle, path, verdict)) = stack.pop() {
            if pool.is_stopped() {
                return;
            }
            look(pool, number, &handle, &path, verdict, &mut stack);
        }
    }
    pool.survey_done.store(true, Ordering::SeqCst);
}

fn open(path: &[u8]) -> Option<OwnedFd> {
    let path = CString::new(path).ok()?;
    openat(CWD, &*path, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty()).ok()
}

fn look(
    pool: &Pool<'_>,
    number: usize,
    handle: &OwnedFd,
    path: &[u8],
    verdict: Verdict,
    stack: &mut Vec<(OwnedFd, Vec<u8>, Verdict)>,
) {
    let matcher = &pool.matchers[number];
    let Ok(entries) = Dir::read_from(handle) else { return };
    for entry in entries {
        let Ok(entry) = entry else { return };
        let name = entry.file_name();
        if matches!(name.to_bytes(), b"." | b"..") {
            continue;
        }
        let Ok(facts) = Facts::at(fd(handle), name) else { continue };
        let below = join(path, name.to_bytes());
        let is_directory = facts.sort() == Sort::Directory;
        let verdict = matcher.below(verdict, &below, is_directory);
        let taken = verdict.action == Action::Take;
        if is_directory {
            let enter = taken || matcher.may_take_below(verdict, &below);
            if enter && !pool.keep_out.contains(&facts.identity()) {
                let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                if let Ok(handle) = openat(handle, name, flags, Mode::empty()) {
                    stack.push((handle, below, verdict));
                }
            }
        } else if taken && facts.sort() != Sort::Socket {
            add(&pool.survey_files, 1);
            if facts.sort() == Sort::File {
                add(&pool.survey_bytes, facts.size());
            }
        }
    }
}
