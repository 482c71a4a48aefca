//! The destination: every step below it goes from one open directory to the next, never through
//! a symbolic link, so that no snapshot can lead outside.

use std::{
    ffi::{CStr, CString},
    os::{
        fd::{AsFd, BorrowedFd, OwnedFd},
        unix::ffi::OsStrExt,
    },
    path::Path,
    sync::{Arc, OnceLock, Weak},
};

use rustix::{
    fs::{
        AtFlags, CWD, Mode, OFlags, RenameFlags, StatVfsMountFlags, StatxFlags, fstat, fstatvfs,
        mkdirat, openat, renameat, renameat_with, statat, statx, unlinkat,
    },
    io::Errno,
};
use skellin_store::Entry;

use super::{
    Destination, Existing, Extra, Shared, descend,
    drafts::{Home, Workshop, Workshops},
    dress::{Dress, apply},
    own::{DirectoryId, draft_name, id_of},
    removing,
    unfinished::List,
};
use crate::{
    cause::{Cause, CauseKind},
    error::{EngineError, Result},
};

/// A directory of the destination. When the last that holds it lets go, everything in it is
/// written, and it gets its own mode, owner and times.
pub(super) struct OpenDirectory<'a> {
    shared: &'a Shared<'a>,
    handle: OwnedFd,
    /// Path in the source, for messages.
    path: Vec<u8>,
    /// What it is to be in the end, as far as that is ours to say.
    finish: Option<(Entry, Dress)>,
    /// Whether it was there and is left as it is.
    stays: bool,
    /// Whether this restore has made it: nothing can be in the way in it.
    is_new: bool,
    /// Where things are made before they are moved into it.
    workshop: OnceLock<Weak<Workshop<'a>>>,
    /// Where it is listed as unfinished, once it is changed.
    listed: OnceLock<Option<(Arc<List>, DirectoryId)>>,
    /// How many directories lie above it, all of which are open with it.
    depth: usize,
    /// Keeps the directories above open until this one is done.
    parent: Option<Arc<OpenDirectory<'a>>>,
}

impl Drop for OpenDirectory<'_> {
    fn drop(&mut self) {
        let Some((entry, dress)) = self.finish.take() else { return };
        if let Err(cause) = apply(self.shared, self.handle.as_fd(), &entry, dress)
            && !self.is_read_only_mount()
        {
            self.shared.exception(&self.path, cause);
        }
        if let Some((list, id)) = self.listed.get().and_then(Option::as_ref) {
            list.end(id);
        }
        if let Some(id) = id_of(&self.handle) {
            self.shared.leftovers.finished(&id);
        }
    }
}

impl OpenDirectory<'_> {
    /// Whether a file system is mounted on it that nobody can write to, as on `/sys` in some containers:
    /// the directory itself is out of reach below that.
    fn is_read_only_mount(&self) -> bool {
        let mount = |handle: &OwnedFd| {
            statx(handle, c"", AtFlags::EMPTY_PATH, StatxFlags::MNT_ID)
                .map(|facts| facts.stx_mnt_id)
        };
        let Some(parent) = &self.parent else { return false };
        let is_mounted = match (mount(&self.handle), mount(&parent.handle)) {
            (Ok(own), Ok(above)) => own != above,
            _ => false,
        };
        let is_read_only = fstatvfs(&self.handle)
            .is_ok_and(|facts| facts.f_flag.contains(StatVfsMountFlags::RDONLY));
        is_mounted && is_read_only
    }

    /// Whether it was there and is left as it is.
    pub fn stays(&self) -> bool {
        self.stays
    }

    /// Whether something in it has a name.
    pub fn has(&self, name: &CString) -> bool {
        !self.is_new && is_there(self.as_fd(), name)
    }

    /// Something is about to be put into it.
    pub fn touch(&self, workshop: &Workshop<'_>) {
        if self.finish.is_some() {
            self.listed.get_or_init(|| {
                let id = id_of(&self.handle)?;
                workshop.list.begin(workshop.as_fd(), &id);
                Some((Arc::clone(&workshop.list), id))
            });
        }
    }
}

impl Home for OpenDirectory<'_> {
    fn finish_now(&self) {
        if let Some((entry, dress)) = &self.finish {
            // Nobody is left to hear the reason; the next restore tries again.
            let _ = apply(self.shared, self.handle.as_fd(), entry, *dress);
        }
    }
}

impl AsFd for OpenDirectory<'_> {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.handle.as_fd()
    }
}

fn dup(handle: &OwnedFd) -> Option<OwnedFd> {
    rustix::io::fcntl_dupfd_cloexec(handle, 0).ok()
}

fn open(at: BorrowedFd<'_>, name: &CStr) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    openat(at, name, flags, Mode::empty())
}

impl<'a> OpenDirectory<'a> {
    /// The directory in which the tree begins; `None` in a dry run where it is not there.
    ///
    /// One that was named is the user's word, so links in its path count. One that a snapshot names
    /// is reached from the top without following any but those that were agreed to.
    pub fn root(shared: &'a Shared<'a>, path: &Path) -> Result<Option<Arc<Self>>> {
        let request = shared.request;
        let handle = match request.destination {
            Destination::Directory(_) => {
                if request.dry_run && !path.is_dir() {
                    return Ok(None);
                }
                if !request.dry_run {
                    std::fs::create_dir_all(path)
                        .map_err(|error| EngineError::local("make the directory", path, error))?;
                }
                let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
                openat(CWD, path, flags, Mode::empty())
                    .map_err(|error| EngineError::local("open the directory", path, error))?
            }
            Destination::InPlace => match descend::from_top(path, request)? {
                Some(handle) => handle,
                None => return Ok(None),
            },
        };
        let path = path.as_os_str().as_bytes().to_vec();
        Ok(Some(Arc::new(Self::new(shared, handle, path, None))))
    }

    /// The same directory, which becomes what the snapshot says unless what is there is kept.
    pub fn become_it(self: Arc<Self>, entry: &Entry) -> Arc<Self> {
        let request = self.shared.request;
        let Some(handle) = dup(&self.handle) else { return self };
        let mut it = Self::new(self.shared, handle, self.path.clone(), None);
        it.stays = request.existing == Existing::Leave;
        it.finish = (!request.dry_run && !it.stays).then(|| (entry.clone(), Dress::All));
        Arc::new(it)
    }

    /// A directory below that is there already and stays as it is.
    pub fn existing(self: &Arc<Self>, name: &[u8]) -> Option<Arc<Self>> {
        let handle = open(self.handle.as_fd(), &CString::new(name).ok()?).ok()?;
        Some(Arc::new(Self::new(self.shared, handle, self.path.clone(), Some(self))))
    }

    fn new(
        shared: &'a Shared<'a>,
        handle: OwnedFd,
        path: Vec<u8>,
        parent: Option<&Arc<Self>>,
    ) -> Self {
        let depth = parent.map_or(0, |parent| parent.depth + 1);
        Self {
            shared,
            handle,
            path,
            finish: None,
            stays: true,
            is_new: false,
            workshop: OnceLock::new(),
            listed: OnceLock::new(),
            depth,
            parent: parent.cloned(),
        }
    }

    /// The workshop from which things are moved into it.
    pub fn workshop(
        self: &Arc<Self>,
        workshops: &Workshops<'a>,
    ) -> Result<Arc<Workshop<'a>>, Errno> {
        if let Some(known) = self.workshop.get().and_then(Weak::upgrade) {
            return Ok(known);
        }
        let workshop = workshops.beside(Arc::clone(self) as _)?;
        // Not held here: it lets go of its own directory last.
        let _ = self.workshop.set(Arc::downgrade(&workshop));
        Ok(workshop)
    }

    /// Looks for what restores that were killed have left in it.
    pub fn look_for_leftovers(&self) {
        if !self.shared.request.dry_run {
            self.shared.leftovers.look(self.handle.as_fd());
        }
    }

    /// A directory below, made if it is not there. `selected`: it is to become what the snapshot
    /// says even if it was there. `Ok(None)`: it is not there, and in a dry run stays so.
    pub fn below(
        self: &Arc<Self>,
        workshops: &Workshops<'a>,
        entry: &Entry,
        path: &[u8],
        selected: bool,
    ) -> Result<Option<Arc<Self>>, Cause> {
        let shared = self.shared;
        let request = shared.request;
        let name = CString::new(entry.name.clone())
            .map_err(|_| Cause::other("its name contains a NUL byte"))?;
        if self.depth >= shared.deepest {
            return Err(Cause::too_deep(shared.deepest));
        }
        let mut made = None;
        let handle = loop {
            match open(self.handle.as_fd(), &name) {
                Ok(handle) => break handle,
                Err(Errno::NOENT) if request.dry_run => return Ok(None),
                Err(Errno::NOENT) => match self.make(workshops, &name) {
                    Ok((handle, listed)) => {
                        made = Some(listed);
                        break handle;
                    }
                    // Somebody else has made it in between.
                    Err(Errno::EXIST) => {}
                    Err(Errno::NOSPC | Errno::DQUOT) => {
                        let words = skellin_place::why_full_at(&self.handle);
                        return Err(Cause::new(CauseKind::NoRoom, words));
                    }
                    Err(error) => return Err(Cause::of("cannot create it", error)),
                },
                Err(Errno::NOTDIR | Errno::LOOP) => match request.existing {
                    Existing::Leave => {
                        let words = "something other than a directory is in the way";
                        return Err(Cause::new(CauseKind::InTheWay, words));
                    }
                    _ if request.dry_run => return Ok(None),
                    Existing::Replace => {
                        unlinkat(&self.handle, &name, AtFlags::empty()).map_err(|error| {
                            Cause::of("cannot remove what is in the way", error)
                        })?;
                        shared.count(&shared.replaced);
                    }
                    Existing::Rename => set_aside(shared, self.handle.as_fd(), &name)?,
                },
                Err(error) => return Err(Cause::of("cannot open it", error)),
            }
        };
        let finish = match (&made, selected && request.existing != Existing::Leave) {
            _ if request.dry_run => None,
            (Some(_), _) => Some(Dress::All),
            // A restore that was killed has made it.
            (None, _) if self.is_left_unfinished(&handle) => Some(Dress::All),
            (None, true) => self.dress_of(&handle, entry, path),
            // One that was interrupted has finished it so far: what is put into it now must not leave
            // it with another time.
            (None, false) => is_as_it_was(shared, &handle, entry).then_some(Dress::Times),
        };
        let mut below = Self::new(shared, handle, path.to_vec(), Some(self));
        below.finish = finish.map(|dress| (entry.clone(), dress));
        let is_new = made.is_some();
        below.is_new = is_new;
        below.stays = !is_new && request.existing == Existing::Leave;
        if let Some(listed) = made {
            below.listed = OnceLock::from(listed);
        }
        let below = Arc::new(below);
        if !is_new {
            below.look_for_leftovers();
        }
        workshops.note_open(Arc::downgrade(&below) as _);
        Ok(Some(below))
    }

    fn is_left_unfinished(&self, handle: &OwnedFd) -> bool {
        id_of(handle).is_some_and(|id| self.shared.leftovers.has(&id))
    }

    /// Makes a directory where nobody else can touch it, and moves it to its name.
    fn make(self: &Arc<Self>, workshops: &Workshops<'a>, name: &CStr) -> Result<Made, Errno> {
        let workshop = self.workshop(workshops)?;
        self.touch(&workshop);
        let draft = draft_name()?;
        mkdirat(&*workshop, &draft, Mode::RWXU)?;
        let made = open(workshop.as_fd(), &draft).and_then(|handle| {
            // Before it has its name, so that one that has it is in the list.
            let listed = id_of(&handle).map(|id| {
                workshop.list.begin(workshop.as_fd(), &id);
                (Arc::clone(&workshop.list), id)
            });
            match renameat_with(&*workshop, &draft, &self.handle, name, RenameFlags::NOREPLACE) {
                // A file system that knows no such flag does not replace a directory by one either
                // unless it is empty.
                Err(Errno::INVAL | Errno::NOSYS) => {
                    renameat(&*workshop, &draft, &self.handle, name)?;
                }
                other => other?,
            }
            Ok((handle, listed))
        });
        if made.is_err() {
            let _ = unlinkat(&*workshop, &draft, AtFlags::REMOVEDIR);
        }
        made
    }

    /// What may be set of a directory that was there. Who may write to the directory above could have
    /// put any other of ours in its place, which then must not change hands.
    fn dress_of(&self, handle: &OwnedFd, entry: &Entry, path: &[u8]) -> Option<Dress> {
        let shared = self.shared;
        let (Ok(there), Ok(above)) = (fstat(handle), fstat(&self.handle)) else { return None };
        let own = rustix::process::geteuid().as_raw();
        let nobody_else = (above.st_uid == own || above.st_uid == 0) && above.st_mode & 0o022 == 0;
        let same = (there.st_uid, there.st_gid) == (entry.owner.uid, entry.owner.gid);
        match (same || nobody_else || !shared.is_root, there.st_uid == entry.owner.uid) {
            (true, _) => Some(Dress::All),
            (false, true) => Some(Dress::KeepOwner),
            (false, false) => {
                let words = format!(
                    "owned by {}, not {}: left so, because others can write to the directory above",
                    there.st_uid, entry.owner.uid
                );
                shared.exception(path, Cause::new(CauseKind::Incomplete, words));
                None
            }
        }
    }
}

/// A directory that was made, and where it is listed as unfinished.
type Made = (OwnedFd, Option<(Arc<List>, DirectoryId)>);

/// Whether a directory has the mode, the time and, where that is ours to say, the owner that the
/// snapshot says.
fn is_as_it_was(shared: &Shared<'_>, handle: &OwnedFd, entry: &Entry) -> bool {
    let Ok(there) = fstat(handle) else { return false };
    let owner = (there.st_uid, there.st_gid) == (entry.owner.uid, entry.owner.gid);
    (owner || !shared.is_root)
        && there.st_mode & 0o7777 == entry.mode & 0o7777
        && there.st_mtime == entry.modified.seconds
        && there.st_mtime_nsec == u64::from(entry.modified.nanos)
}

/// Moves what is in the way to another name.
pub(super) fn set_aside(
    shared: &Shared<'_>,
    at: BorrowedFd<'_>,
    name: &CString,
) -> Result<(), Cause> {
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
            Err(error) => return Err(Cause::of("cannot rename what is in the way", error)),
        }
    }
}

/// Whether something has a name, links included.
pub(super) fn is_there(at: BorrowedFd<'_>, name: &CString) -> bool {
    statat(at, name, AtFlags::SYMLINK_NOFOLLOW).is_ok()
}

/// Whether a directory lists a name just so: where case is ignored, what has it may be spelled otherwise.
fn is_listed(at: BorrowedFd<'_>, name: &CString) -> bool {
    let (names, trouble) = crate::names::read_names(at, usize::MAX);
    trouble.is_some() || names.find(name.as_bytes()).is_some()
}

/// Moves a finished draft to its name. `Ok(false)`: something is there and is left.
pub(super) fn put_in_place(
    shared: &Shared<'_>,
    workshop: &Workshop<'_>,
    draft: &CString,
    directory: &OpenDirectory<'_>,
    name: &CString,
) -> Result<bool, Cause> {
    let at = directory.as_fd();
    let is_replaced = |error: Errno| {
        shared.request.existing == Existing::Replace
            && matches!(shared.request.extra, Extra::Remove { .. })
            && matches!(error, Errno::ISDIR | Errno::NOTEMPTY)
    };
    let moved = |error: Errno| match error {
        Errno::ISDIR | Errno::NOTEMPTY => {
            Cause::new(CauseKind::InTheWay, "a directory is in the way")
        }
        error => Cause::of("cannot move it into place", error),
    };
    let mut tries = 0;
    loop {
        match renameat_with(workshop, draft, at, name, RenameFlags::NOREPLACE) {
            Ok(()) => return Ok(true),
            // A file system that knows no such flag: a look before is all that is left.
            Err(Errno::INVAL | Errno::NOSYS) if !is_there(at, name) => {
                return renameat(workshop, draft, at, name).map(|()| true).map_err(moved);
            }
            Err(Errno::EXIST) if directory.is_new && !is_listed(at, name) => {
                let words =
                    "another path of the snapshot has this name: the file system ignores case";
                return Err(Cause::new(CauseKind::InTheWay, words));
            }
            Err(Errno::EXIST | Errno::INVAL | Errno::NOSYS) => match shared.request.existing {
                Existing::Leave => return Ok(false),
                Existing::Replace => {
                    match renameat(workshop, draft, at, name) {
                        // What the directory was is to be again, whatever lies there.
                        Err(error) if is_replaced(error) && tries < 8 => {
                            removing::remove_tree(shared, at, name)?;
                            tries += 1;
                            continue;
                        }
                        renamed => renamed.map_err(moved)?,
                    }
                    shared.count(&shared.replaced);
                    return Ok(true);
                }
                Existing::Rename if tries < 8 => set_aside(shared, at, name)?,
                Existing::Rename => {
                    let words = "its name is taken again and again";
                    return Err(Cause::new(CauseKind::InTheWay, words));
                }
            },
            Err(error) => return Err(moved(error)),
        }
        tries += 1;
    }
}

/// Has the system write out what was restored, so that a power cut takes nothing back. The error
/// says why it could not.
pub(super) fn sync(root: &OpenDirectory<'_>) -> Result<(), Errno> {
    rustix::fs::syncfs(root)
}
