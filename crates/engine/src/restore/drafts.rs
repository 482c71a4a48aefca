//! Where what is restored is made and dressed before it is moved to its name: a directory of our own
//! that nobody else may enter, one on each mounted file system for each writer. Whoever may write to the
//! destination can neither swap what is in it nor lead an attribute to something else.
//!
//! It is locked for as long as the restore lives, and holds a list of the directories that have not
//! got their mode, owner and times yet, for a restore that follows one which was killed.

use std::{
    collections::HashMap,
    ffi::CString,
    os::fd::{AsFd, BorrowedFd, OwnedFd},
    sync::{Arc, Mutex, Weak},
    thread::ThreadId,
};

use rustix::{
    fs::{AtFlags, FlockOperation, Mode, StatxFlags, flock, fstat, mkdirat, statx, unlinkat},
    io::Errno,
};

use super::{
    own::{open_own, random_name},
    unfinished::List,
};
use crate::locked::locked;

/// A mount, by its number and its device's.
type Mount = (u64, u32, u32);

/// An open directory of the destination, which outlives what is made in it.
pub(super) trait Home: AsFd + Send + Sync {
    /// Gives it what belongs to it now: the process ends before it is let go of.
    fn finish_now(&self);
}

/// One directory of our own.
pub(super) struct Workshop<'a> {
    handle: OwnedFd,
    name: CString,
    /// Directories that are not finished.
    pub list: Arc<List>,
    /// The directory it lies in, which gets its times after this is gone.
    home: Arc<dyn Home + 'a>,
}

impl AsFd for Workshop<'_> {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.handle.as_fd()
    }
}

impl Drop for Workshop<'_> {
    fn drop(&mut self) {
        // Empty unless a draft could not be removed: then it is swept by the next restore.
        self.list.remove(self.handle.as_fd());
        let _ = unlinkat(self.home.as_fd(), &self.name, AtFlags::REMOVEDIR);
    }
}

/// All of a restore, made when they are first needed; and the directories that are not finished.
#[derive(Default)]
pub(super) struct Workshops<'a> {
    made: Mutex<HashMap<(Mount, ThreadId), Arc<Workshop<'a>>>>,
    open: Mutex<Open<'a>>,
}

/// Open directories; those that are let go of are forgotten now and then.
#[derive(Default)]
struct Open<'a> {
    directories: Vec<Weak<dyn Home + 'a>>,
    full: usize,
}

impl<'a> Workshops<'a> {
    /// Notes that a directory is open.
    pub fn note_open(&self, directory: Weak<dyn Home + 'a>) {
        let mut open = locked(&self.open);
        if open.directories.len() >= open.full {
            open.directories.retain(|directory| directory.strong_count() > 0);
            open.full = 2 * open.directories.len().max(64);
        }
        open.directories.push(directory);
    }

    /// Gives every open directory what belongs to it, since the process is about to end.
    pub fn finish_now(&self) {
        let open = locked(&self.open);
        open.directories.iter().filter_map(Weak::upgrade).for_each(|one| one.finish_now());
    }

    /// The one from which things can be moved into a directory.
    pub fn beside(&self, directory: Arc<dyn Home + 'a>) -> Result<Arc<Workshop<'a>>, Errno> {
        let facts = statx(directory.as_fd(), c"", AtFlags::EMPTY_PATH, StatxFlags::MNT_ID)?;
        let mount = (facts.stx_mnt_id, facts.stx_dev_major, facts.stx_dev_minor);
        // Two that make things in one directory wait for each other each time.
        let key = (mount, std::thread::current().id());
        let mut known = locked(&self.made);
        if let Some(workshop) = known.get(&key) {
            return Ok(Arc::clone(workshop));
        }
        let workshop = Arc::new(make(directory)?);
        known.insert(key, Arc::clone(&workshop));
        Ok(workshop)
    }
}

fn make<'a>(home: Arc<dyn Home + 'a>) -> Result<Workshop<'a>, Errno> {
    // A restore beside this one may take it for one of the dead before it is locked.
    for _ in 0..8 {
        let name = random_name()?;
        mkdirat(home.as_fd(), &name, Mode::RWXU)?;
        let handle = match open_own(home.as_fd(), &name) {
            Err(Errno::NOENT) => continue,
            other => other?,
        };
        // Where nothing can be locked, nobody takes it for dead either.
        let _ = flock(&handle, FlockOperation::NonBlockingLockExclusive);
        if fstat(&handle)?.st_nlink > 0 {
            return Ok(Workshop { handle, name, list: Arc::default(), home });
        }
    }
    Err(Errno::NOENT)
}
