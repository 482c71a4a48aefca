//! Where what is restored is made and dressed before it is moved to its name: a directory of our own
//! that nobody else may enter, one on each mounted file system. Whoever may write to the
//! destination can neither swap what is in it nor lead an attribute to something else.

use std::{
    collections::HashMap,
    ffi::CString,
    os::fd::{AsFd, BorrowedFd, OwnedFd},
    sync::{Arc, Mutex},
};

use rustix::{
    fs::{AtFlags, Mode, OFlags, StatxFlags, fstat, mkdirat, openat, statx, unlinkat},
    io::Errno,
};

use crate::locked::locked;

/// What begins like this in a destination is ours.
pub(super) const PREFIX: &str = ".skellin-";

/// A mount, by its number and its device's.
type Mount = (u64, u32, u32);

/// An open directory of the destination, which outlives what is made in it.
pub(super) trait Home: AsFd + Send + Sync {}

/// One directory of our own.
pub(super) struct Workshop<'a> {
    handle: OwnedFd,
    name: CString,
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
        let _ = unlinkat(self.home.as_fd(), &self.name, AtFlags::REMOVEDIR);
    }
}

/// All of a restore, made when they are first needed.
#[derive(Default)]
pub(super) struct Workshops<'a>(Mutex<HashMap<Mount, Arc<Workshop<'a>>>>);

impl<'a> Workshops<'a> {
    /// The one from which things can be moved into a directory.
    pub fn beside(&self, directory: Arc<dyn Home + 'a>) -> Result<Arc<Workshop<'a>>, Errno> {
        let facts = statx(directory.as_fd(), c"", AtFlags::EMPTY_PATH, StatxFlags::MNT_ID)?;
        let mount = (facts.stx_mnt_id, facts.stx_dev_major, facts.stx_dev_minor);
        let mut known = locked(&self.0);
        if let Some(workshop) = known.get(&mount) {
            return Ok(Arc::clone(workshop));
        }
        let workshop = Arc::new(open(directory)?);
        known.insert(mount, Arc::clone(&workshop));
        Ok(workshop)
    }
}

fn open<'a>(home: Arc<dyn Home + 'a>) -> Result<Workshop<'a>, Errno> {
    let name = random_name().map_err(|_| Errno::IO)?;
    mkdirat(home.as_fd(), &name, Mode::RWXU)?;
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let handle = openat(home.as_fd(), &name, flags, Mode::empty())?;
    // Somebody who may write beside it could have put another in its place.
    let facts = fstat(&handle)?;
    let is_own = facts.st_uid == rustix::process::geteuid().as_raw();
    if !is_own || facts.st_mode & 0o077 != 0 {
        return Err(Errno::PERM);
    }
    Ok(Workshop { handle, name, home })
}

/// A name nobody else uses.
pub(super) fn random_name() -> Result<CString, String> {
    let mut random = [0; 10];
    getrandom::fill(&mut random).map_err(|error| error.to_string())?;
    CString::new(format!("{PREFIX}{}", skellin_store::hex(&random)))
        .map_err(|error| error.to_string())
}
