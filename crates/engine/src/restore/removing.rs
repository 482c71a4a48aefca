//! Paths removed with all below them, from one open directory to the next.

use std::{
    ffi::{CStr, CString},
    os::fd::{AsFd, BorrowedFd, OwnedFd},
};

use rustix::{
    fs::{
        AtFlags, FileType, Mode, OFlags, Stat, StatxFlags, fstat, openat, statat, statx, unlinkat,
    },
    io::Errno,
};

use super::Shared;
use crate::{
    cause::Cause,
    names::{Names, read_names},
    path::join,
};

/// Removes a directory that is in the way of something else.
pub(super) fn remove_tree(
    shared: &Shared<'_>,
    at: BorrowedFd<'_>,
    name: &CString,
) -> Result<(), Cause> {
    let there = statat(at, name, AtFlags::SYMLINK_NOFOLLOW)
        .map_err(|error| Cause::of("cannot look at what is in the way", error))?;
    tree(shared, at, (name, &there), name.to_bytes()).map(drop)
}

/// A directory that is being removed.
struct Removing {
    handle: OwnedFd,
    name: CString,
    names: Names,
    next: usize,
    path: Vec<u8>,
    /// Something in it stays, and so does it.
    stays: bool,
}

fn mount_of(directory: impl AsFd) -> Result<u64, Errno> {
    let facts = statx(directory, c"", AtFlags::EMPTY_PATH, StatxFlags::MNT_ID)?;
    Ok(facts.stx_mnt_id)
}

/// Removes a path with all below it; whether it is gone, or in a dry run would be.
pub(super) fn tree(
    shared: &Shared<'_>,
    at: BorrowedFd<'_>,
    (name, there): (&CStr, &Stat),
    path: &[u8],
) -> Result<bool, Cause> {
    if FileType::from_raw_mode(there.st_mode) != FileType::Directory {
        return one(shared, at, name, AtFlags::empty()).map(|()| true);
    }
    let mount = mount_of(at).map_err(|error| Cause::of("cannot look at it", error))?;
    let open = |at: BorrowedFd<'_>, name: &CStr, path: Vec<u8>| -> Result<Removing, Cause> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let failed = |error| Cause::of("cannot remove it", error);
        let handle = openat(at, name, flags, Mode::empty()).map_err(failed)?;
        let facts = fstat(&handle).map_err(failed)?;
        if shared.keep.contains(&(facts.st_dev, facts.st_ino)) {
            return Err(Cause::other("not in the snapshot, but Skellin needs it: kept"));
        }
        if mount_of(&handle).map_err(failed)? != mount {
            return Err(Cause::other("not in the snapshot, but another file system: kept"));
        }
        let (names, _) = read_names(handle.as_fd(), usize::MAX);
        Ok(Removing { handle, name: name.to_owned(), names, next: 0, path, stays: false })
    };
    let mut stack = vec![open(at, name, path.to_vec())?];
    loop {
        if shared.is_stopped() {
            return Ok(false);
        }
        let depth = stack.len();
        let Some(top) = stack.last_mut() else { return Ok(true) };
        if top.next < top.names.len() {
            let Ok(name) = CString::new(top.names.get(top.next)) else { return Ok(false) };
            top.next += 1;
            let Ok(there) = statat(&top.handle, &name, AtFlags::SYMLINK_NOFOLLOW) else { continue };
            let path = join(&top.path, name.to_bytes());
            let done = match FileType::from_raw_mode(there.st_mode) {
                FileType::Directory if depth >= shared.deepest => {
                    Err(Cause::too_deep(shared.deepest))
                }
                FileType::Directory => open(top.handle.as_fd(), &name, path.clone()).map(Some),
                _ => one(shared, top.handle.as_fd(), &name, AtFlags::empty()).map(|()| None),
            };
            match done {
                Ok(below) => stack.extend(below),
                Err(cause) => {
                    top.stays = true;
                    shared.exception(&path, cause);
                }
            }
            continue;
        }
        let Some(done) = stack.pop() else { return Ok(true) };
        let above = stack.last().map_or(at, |above| above.handle.as_fd());
        let removed = match done.stays {
            true => Err(None),
            false => one(shared, above, &done.name, AtFlags::REMOVEDIR).map_err(Some),
        };
        if let Err(cause) = removed {
            if let Some(cause) = cause {
                shared.exception(&done.path, cause);
            }
            match stack.last_mut() {
                Some(above) => above.stays = true,
                None => return Ok(false),
            }
        }
    }
}

fn one(shared: &Shared<'_>, at: BorrowedFd<'_>, name: &CStr, how: AtFlags) -> Result<(), Cause> {
    if !shared.request.dry_run {
        match unlinkat(at, name, how) {
            Ok(()) | Err(Errno::NOENT) => {}
            Err(error) => return Err(Cause::of("cannot remove it", error)),
        }
    }
    shared.count(&shared.removed);
    Ok(())
}
