//! What a file system that is full lacks.

use std::os::fd::AsFd;

use rustix::fs::{StatVfs, fstatvfs};

/// Without a free inode no file can be made, however many bytes are free (statvfs(3)).
const NO_INODES: &str = "no free inodes left";
const NO_BYTES: &str = "no space left";

/// Why a file system takes nothing more, in words.
#[must_use]
pub fn why_full(facts: Option<&StatVfs>) -> &'static str {
    let lacks = facts.is_some_and(|facts| lacks_inodes(facts.f_files, facts.f_favail));
    if lacks { NO_INODES } else { NO_BYTES }
}

/// As [`why_full`], of the file system something lies on.
#[must_use]
pub fn why_full_at(file: impl AsFd) -> &'static str {
    why_full(fstatvfs(file).ok().as_ref())
}

/// Whether inodes are counted and none is free.
pub(crate) fn lacks_inodes(all: u64, free: u64) -> bool {
    all > 0 && free == 0
}
