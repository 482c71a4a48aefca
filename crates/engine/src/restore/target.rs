//! The destination: every step below it goes from one open directory to the next, never through
//! a symbolic link, so that no snapshot can lead outside.

use std::{
    ffi::CString,
    os::{
        fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd},
        unix::ffi::OsStrExt,
    },
    path::Path,
    sync::Arc,
};

use rustix::{
    fs::{
        AtFlags, CWD, Gid, Mode, OFlags, RenameFlags, Timespec, Timestamps, Uid, XattrFlags,
        chownat, fchmod, fchown, fsetxattr, futimens, lsetxattr, mkdirat, openat, renameat,
        renameat_with, statat, unlinkat, utimensat,
    },
    io::Errno,
};
use skellin_store::{Entry, Moment};

use super::{Destination, Existing, Shared};
use crate::error::{EngineError, Result};

/// A directory of the destination. When the last that holds it lets go, everything in it is
/// written, and it gets its own mode, owner and times.
pub(super) struct OpenDirectory<'a> {
    shared: &'a Shared<'a>,
    handle: OwnedFd,
    /// Path in the source, for messages.
    path: Vec<u8>,
    /// What it is to be in the end, if that is ours to say.
    finish: Option<Entry>,
    /// Keeps the directories above open until this one is done.
    _parent: Option<Arc<OpenDirectory<'a>>>,
}

impl Drop for OpenDirectory<'_> {
    fn drop(&mut self) {
        if let Some(entry) = self.finish.take()
            && let Err(reason) = apply(self.shared, self.handle.as_fd(), &entry)
        {
            self.shared.exception(&self.path, reason);
        }
    }
}

impl AsFd for OpenDirectory<'_> {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.handle.as_fd()
    }
}

fn open(at: BorrowedFd<'_>, name: &std::ffi::CStr) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    openat(at, name, flags, Mode::empty())
}

impl<'a> OpenDirectory<'a> {
    /// The directory in which the tree begins. It is the user's word, so links in its path count.
    pub fn root(shared: &'a Shared<'a>, path: &Path) -> Result<Arc<Self>> {
        if !shared.request.dry_run {
            std::fs::create_dir_all(path)
                .map_err(|error| EngineError::local("make the directory", path, error))?;
        }
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let handle = openat(CWD, path, flags, Mode::empty())
            .map_err(|error| EngineError::local("open the directory", path, error))?;
        let path = path.as_os_str().as_bytes().to_vec();
        Ok(Arc::new(Self { shared, handle, path, finish: None, _parent: None }))
    }

    /// A directory below that is there already and stays as it is.
    pub fn existing(self: &Arc<Self>, name: &[u8]) -> Option<Arc<Self>> {
        let handle = open(self.handle.as_fd(), &CString::new(name).ok()?).ok()?;
        let (shared, path) = (self.shared, self.path.clone());
        Some(Arc::new(Self { shared, handle, path, finish: None, _parent: Some(Arc::clone(self)) }))
    }

    /// A directory below, made if it is not there. `selected`: it is to become what the snapshot
    /// says even if it was there. `Ok(None)`: it is not there, and in a rehearsal stays so.
    pub fn below(
        self: &Arc<Self>,
        entry: &Entry,
        path: &[u8],
        selected: bool,
    ) -> Result<Option<Arc<Self>>, String> {
        let shared = self.shared;
        let request = shared.request;
        let name = CString::new(entry.name.clone()).map_err(|_| "its name holds a NUL byte")?;
        let mut created = false;
        let handle = loop {
            match open(self.handle.as_fd(), &name) {
                Ok(handle) => break handle,
                Err(Errno::NOENT) if request.dry_run => return Ok(None),
                Err(Errno::NOENT) => {
                    mkdirat(&self.handle, &name, Mode::RWXU)
                        .map_err(|error| format!("it cannot be made: {error}"))?;
                    created = true;
                }
                Err(Errno::NOTDIR | Errno::LOOP) => match request.existing {
                    Existing::Leave => {
                        return Err("something that is no directory is in the way".to_owned());
                    }
                    _ if request.dry_run => return Ok(None),
                    Existing::Replace => {
                        unlinkat(&self.handle, &name, AtFlags::empty()).map_err(|error| {
                            format!("what is in the way cannot be removed: {error}")
                        })?;
                        shared.count(&shared.replaced);
                    }
                    Existing::Rename => set_aside(shared, self.handle.as_fd(), &name)?,
                },
                Err(error) => return Err(format!("it cannot be opened: {error}")),
            }
        };
        let finish =
            (created || (selected && request.existing != Existing::Leave)) && !request.dry_run;
        let finish = finish.then(|| entry.clone());
        Ok(Some(Arc::new(Self {
            shared,
            handle,
            path: path.to_vec(),
            finish,
            _parent: Some(Arc::clone(self)),
        })))
    }
}

/// Moves what is in the way to another name.
pub(super) fn set_aside(
    shared: &Shared<'_>,
    at: BorrowedFd<'_>,
    name: &CString,
) -> Result<(), String> {
    let mut number = 0;
    loop {
        let counter = if number == 0 { String::new() } else { format!("-{number}") };
        let kept = [name.as_bytes(), format!(".kept-{}{counter}", shared.request.stamp).as_bytes()]
            .concat();
        match renameat_with(at, name, at, kept, RenameFlags::NOREPLACE) {
            Ok(()) => {
                shared.count(&shared.renamed);
                return Ok(());
            }
            Err(Errno::EXIST) if number < 1000 => number += 1,
            Err(error) => return Err(format!("what is in the way cannot be renamed: {error}")),
        }
    }
}

/// Whether something has a name, links included.
pub(super) fn is_there(at: BorrowedFd<'_>, name: &CString) -> bool {
    statat(at, name, AtFlags::SYMLINK_NOFOLLOW).is_ok()
}

/// Moves a finished draft to its name. `Ok(false)`: something is there and is left.
pub(super) fn put_in_place(
    shared: &Shared<'_>,
    at: BorrowedFd<'_>,
    draft: &CString,
    name: &CString,
) -> Result<bool, String> {
    let moved = |error: Errno| match error {
        Errno::ISDIR | Errno::NOTEMPTY => "a directory is in the way".to_owned(),
        error => format!("it cannot be moved into place: {error}"),
    };
    let mut tries = 0;
    loop {
        match renameat_with(at, draft, at, name, RenameFlags::NOREPLACE) {
            Ok(()) => return Ok(true),
            // A file system that knows no such flag: a look before is all that is left.
            Err(Errno::INVAL | Errno::NOSYS) if !is_there(at, name) => {
                return renameat(at, draft, at, name).map(|()| true).map_err(moved);
            }
            Err(Errno::EXIST | Errno::INVAL | Errno::NOSYS) => match shared.request.existing {
                Existing::Leave => return Ok(false),
                Existing::Replace => {
                    renameat(at, draft, at, name).map_err(moved)?;
                    shared.count(&shared.replaced);
                    return Ok(true);
                }
                Existing::Rename if tries < 8 => set_aside(shared, at, name)?,
                Existing::Rename => return Err("its name keeps being taken".to_owned()),
            },
            Err(error) => return Err(moved(error)),
        }
        tries += 1;
    }
}

fn timestamps(entry: &Entry) -> Timestamps {
    let Moment { seconds, nanos } = entry.modified;
    let time = Timespec { tv_sec: seconds, tv_nsec: nanos.into() };
    Timestamps { last_access: time, last_modification: time }
}

/// What could not be set of a path.
#[derive(Default)]
struct Unset(Vec<String>);

impl Unset {
    fn note(&mut self, what: &str, result: Result<(), Errno>) {
        if let Err(error) = result {
            self.0.push(format!("its {what} could not be set: {error}"));
        }
    }

    fn reason(&self) -> Result<(), String> {
        if self.0.is_empty() { Ok(()) } else { Err(self.0.join("; ")) }
    }
}

/// Gives an open file or directory its owner, mode, attributes and times. The error is a reason.
pub(super) fn apply(
    shared: &Shared<'_>,
    file: BorrowedFd<'_>,
    entry: &Entry,
) -> Result<(), String> {
    let mut unset = Unset::default();
    let mut note = |what, result| unset.note(what, result);
    if shared.is_root {
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
    unset.reason()
}

/// As [`apply`], for what cannot be opened: links, pipes, devices.
pub(super) fn apply_at(
    shared: &Shared<'_>,
    at: BorrowedFd<'_>,
    name: &CString,
    entry: &Entry,
) -> Result<(), String> {
    let mut unset = Unset::default();
    let mut note = |what, result| unset.note(what, result);
    let flags = AtFlags::SYMLINK_NOFOLLOW;
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
        note(
            "mode",
            rustix::fs::chmodat(at, name, Mode::from_raw_mode(entry.mode), AtFlags::empty()),
        );
    }
    note("times", utimensat(at, name, &timestamps(entry), flags));
    unset.reason()
}

/// Attributes that only root may set are left out without a word where root is not at work.
fn ignore_unsupported(result: Result<(), Errno>, shared: &Shared<'_>) -> Result<(), Errno> {
    match result {
        Err(Errno::PERM | Errno::ACCESS) if !shared.is_root => Ok(()),
        other => other,
    }
}

/// Has the system write out what was restored; a power cut afterwards takes nothing back.
pub(super) fn sync(destination: &Destination) {
    match destination {
        Destination::Directory(path) => {
            if let Ok(handle) = std::fs::File::open(path) {
                // It is written anyway, a little later.
                let _ = rustix::fs::syncfs(&handle);
            }
        }
        Destination::InPlace => rustix::fs::sync(),
    }
}
