//! Where what is restored is made and dressed before it is moved to its name: a directory of our own
//! that nobody else may enter, one on each mounted file system. Whoever may write to the
//! destination can neither swap what is in it nor lead an attribute to something else.
//!
//! It is locked for as long as the restore lives, and holds a list of the directories that have not
//! got their mode, owner and times yet, for a restore that follows one which was killed.

use std::{
    collections::HashMap,
    ffi::{CStr, CString},
    os::fd::{AsFd, BorrowedFd, OwnedFd},
    sync::{Arc, Mutex, Weak},
};

use rustix::{
    fs::{
        AtFlags, FlockOperation, Mode, OFlags, StatxFlags, flock, fstat, mkdirat, openat, statx,
        unlinkat,
    },
    io::Errno,
};

use super::{
    target::OpenDirectory,
    unfinished::{DirectoryId, List},
};
use crate::locked::locked;

/// What begins like this in a destination is ours.
const PREFIX: &str = ".skellin-";
/// Random bytes in such a name.
const RANDOM: usize = 10;

/// A mount, by its number and its device's.
type Mount = (u64, u32, u32);

/// An open directory of the destination, which outlives what is made in it.
pub(super) trait Home: AsFd + Send + Sync {}

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
    by_mount: Mutex<HashMap<Mount, Arc<Workshop<'a>>>>,
    open: Mutex<Open<'a>>,
}

/// Open directories; those that are let go of are forgotten now and then.
#[derive(Default)]
struct Open<'a> {
    directories: Vec<Weak<OpenDirectory<'a>>>,
    full: usize,
}

impl<'a> Workshops<'a> {
    /// Notes that a directory is open.
    pub fn note_open(&self, directory: &Arc<OpenDirectory<'a>>) {
        let mut open = locked(&self.open);
        if open.directories.len() >= open.full {
            open.directories.retain(|directory| directory.strong_count() > 0);
            open.full = 2 * open.directories.len().max(64);
        }
        open.directories.push(Arc::downgrade(directory));
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
        let mut known = locked(&self.by_mount);
        if let Some(workshop) = known.get(&mount) {
            return Ok(Arc::clone(workshop));
        }
        let workshop = Arc::new(make(directory)?);
        known.insert(mount, Arc::clone(&workshop));
        Ok(workshop)
    }
}

fn make<'a>(home: Arc<dyn Home + 'a>) -> Result<Workshop<'a>, Errno> {
    // A restore beside this one may take it for one of the dead before it is locked.
    for _ in 0..8 {
        let name = random_name().map_err(|_| Errno::IO)?;
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

/// Opens a directory that only this account may enter: somebody who may write beside it could have
/// put another in its place.
pub(super) fn open_own(at: BorrowedFd<'_>, name: &CStr) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let handle = openat(at, name, flags, Mode::empty())?;
    let facts = fstat(&handle)?;
    let is_own = facts.st_uid == rustix::process::geteuid().as_raw();
    if is_own && facts.st_mode & 0o077 == 0 { Ok(handle) } else { Err(Errno::PERM) }
}

/// A name nobody else uses.
pub(super) fn random_name() -> Result<CString, String> {
    let mut random = [0; RANDOM];
    getrandom::fill(&mut random).map_err(|error| error.to_string())?;
    CString::new(format!("{PREFIX}{}", skellin_store::hex(&random)))
        .map_err(|error| error.to_string())
}

/// Whether a name is one that restores give.
pub(super) fn is_ours(name: &[u8]) -> bool {
    let digits = name.strip_prefix(PREFIX.as_bytes()).unwrap_or_default();
    let is_digit = |byte: &u8| byte.is_ascii_digit() || (b'a'..=b'f').contains(byte);
    digits.len() == 2 * RANDOM && digits.iter().all(is_digit)
}

/// A directory of the destination, told from others that were there before or come after it.
pub(super) fn id_of(directory: impl AsFd) -> Result<DirectoryId, Errno> {
    let facts =
        statx(directory, c"", AtFlags::EMPTY_PATH, StatxFlags::BASIC_STATS | StatxFlags::BTIME)?;
    let has_birth = StatxFlags::from_bits_retain(facts.stx_mask).contains(StatxFlags::BTIME);
    let born = if has_birth { (facts.stx_btime.tv_sec, facts.stx_btime.tv_nsec) } else { (0, 0) };
    let device = (u64::from(facts.stx_dev_major) << 32) | u64::from(facts.stx_dev_minor);
    Ok(DirectoryId { device, inode: facts.stx_ino, born })
}
