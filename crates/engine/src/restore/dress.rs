//! Owner, mode, attributes and times of what is restored, set on descriptors, or on names in a
//! directory of our own.

use std::{
    ffi::CString,
    os::fd::{AsFd, AsRawFd, BorrowedFd},
};

use rustix::{
    fs::{
        AtFlags, Gid, Mode, Timespec, Timestamps, Uid, XattrFlags, chmodat, chownat, fchmod,
        fchown, fsetxattr, futimens, lsetxattr, utimensat,
    },
    io::Errno,
};
use skellin_store::{Entry, Moment};

use super::{Shared, drafts::Workshop};
use crate::cause::{Cause, CauseKind};

fn timestamps(entry: &Entry) -> Timestamps {
    let Moment { seconds, nanos } = entry.modified;
    let time = Timespec { tv_sec: seconds, tv_nsec: nanos.into() };
    Timestamps { last_access: time, last_modification: time }
}

/// What could not be set of a path.
#[derive(Default)]
struct Unset(Vec<(&'static str, Errno)>);

impl Unset {
    fn note(&mut self, what: &'static str, result: Result<(), Errno>) {
        if let Err(error) = result {
            self.0.push((what, error));
        }
    }

    fn cause(&self) -> Result<(), Cause> {
        if self.0.is_empty() {
            return Ok(());
        }
        let each = self.0.iter().map(|(what, error)| format!("cannot set its {what}: {error}"));
        Err(Cause::new(CauseKind::Incomplete, each.collect::<Vec<_>>().join("; ")))
    }
}

/// Which of it is to be set.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Dress {
    All,
    /// All but whose it is.
    KeepOwner,
    /// Its times, since something was put into it; the rest was as it should be.
    Times,
}

/// Gives an open file or directory its owner, mode, attributes and times. The error says what it lacks.
pub(super) fn apply(
    shared: &Shared<'_>,
    file: BorrowedFd<'_>,
    entry: &Entry,
    dress: Dress,
) -> Result<(), Cause> {
    let mut unset = Unset::default();
    let mut note = |what, result| unset.note(what, result);
    if dress == Dress::Times {
        note("times", futimens(file, &timestamps(entry)));
        return unset.cause();
    }
    if shared.is_root && dress == Dress::All {
        let (user, group) = (Uid::from_raw(entry.owner.uid), Gid::from_raw(entry.owner.gid));
        note("owner", fchown(file, Some(user), Some(group)));
    }
    for (name, value) in &entry.xattrs {
        note(
            "extended attributes",
            ignore_unsupported(
                fsetxattr(file, name.as_slice(), value, XattrFlags::empty()),
                shared,
            ),
        );
    }
    // After the owner, since a change of owner clears set-user-id.
    note("mode", fchmod(file, Mode::from_raw_mode(entry.mode)));
    note("times", futimens(file, &timestamps(entry)));
    unset.cause()
}

/// As [`apply`], for what cannot be opened: links, pipes, devices. They have names in a directory
/// that nobody else may enter, so that a name is what it was a moment ago.
pub(super) fn apply_in(
    shared: &Shared<'_>,
    workshop: &Workshop<'_>,
    name: &CString,
    entry: &Entry,
) -> Result<(), Cause> {
    let mut unset = Unset::default();
    let mut note = |what, result| unset.note(what, result);
    let (at, flags) = (workshop.as_fd(), AtFlags::SYMLINK_NOFOLLOW);
    if shared.is_root {
        let (user, group) = (Uid::from_raw(entry.owner.uid), Gid::from_raw(entry.owner.gid));
        note("owner", chownat(at, name, Some(user), Some(group), flags));
    }
    let path = [format!("/proc/self/fd/{}/", at.as_raw_fd()).as_bytes(), name.as_bytes()].concat();
    for (attribute, value) in &entry.xattrs {
        let set = lsetxattr(path.as_slice(), attribute.as_slice(), value, XattrFlags::empty());
        note("extended attributes", ignore_unsupported(set, shared));
    }
    if entry.kind() != skellin_store::Kind::Link {
        note("mode", chmodat(at, name, Mode::from_raw_mode(entry.mode), AtFlags::empty()));
    }
    note("times", utimensat(at, name, &timestamps(entry), flags));
    unset.cause()
}

/// Attributes that only root may set are silently not set where root is not at work.
fn ignore_unsupported(result: Result<(), Errno>, shared: &Shared<'_>) -> Result<(), Errno> {
    match result {
        Err(Errno::PERM | Errno::ACCESS) if !shared.is_root => Ok(()),
        other => other,
    }
}
