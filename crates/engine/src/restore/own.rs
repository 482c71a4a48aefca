//! Names that restores give in a destination, and directories that are known again.

use std::{
    collections::HashSet,
    ffi::{CStr, CString},
    os::{
        fd::{AsFd, BorrowedFd, OwnedFd},
        unix::fs::MetadataExt,
    },
    path::PathBuf,
    sync::atomic::{AtomicU64, Ordering},
};

use rustix::{
    fs::{AtFlags, Mode, OFlags, StatxFlags, fstat, openat, statx},
    io::Errno,
};

/// Directories by device and inode.
pub(super) fn identities(paths: &[PathBuf]) -> HashSet<(u64, u64)> {
    let facts = paths.iter().filter_map(|path| std::fs::metadata(path).ok());
    facts.map(|facts| (facts.dev(), facts.ino())).collect()
}

/// What begins like this in a destination is ours.
const PREFIX: &str = ".skellin-";
/// Random bytes in such a name.
const RANDOM: usize = 10;

/// A directory by device, inode and time of birth, as far as the file system tells that.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) struct DirectoryId {
    pub device: u64,
    pub inode: u64,
    pub born: (i64, u32),
}

impl DirectoryId {
    pub fn line(&self, sign: char) -> String {
        let Self { device, inode, born } = self;
        format!("{sign} {device} {inode} {} {}\n", born.0, born.1)
    }

    pub fn parse(line: &str) -> Option<(bool, Self)> {
        let mut parts = line.split(' ');
        let begins = match parts.next()? {
            "+" => true,
            "-" => false,
            _ => return None,
        };
        let id = Self {
            device: parts.next()?.parse().ok()?,
            inode: parts.next()?.parse().ok()?,
            born: (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?),
        };
        Some((begins, id))
    }
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
pub(super) fn random_name() -> Result<CString, Errno> {
    let mut random = [0; RANDOM];
    getrandom::fill(&mut random).map_err(|_| Errno::IO)?;
    CString::new(format!("{PREFIX}{}", skellin_store::hex(&random))).map_err(|_| Errno::INVAL)
}

/// A name for something in a directory of our own, where nobody else gives names.
pub(super) fn draft_name() -> Result<CString, Errno> {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    CString::new(format!("{PREFIX}{number:0width$x}", width = 2 * RANDOM)).map_err(|_| Errno::INVAL)
}

/// Whether a name is one that restores give.
pub(super) fn is_ours(name: &[u8]) -> bool {
    let digits = name.strip_prefix(PREFIX.as_bytes()).unwrap_or_default();
    let is_digit = |byte: &u8| byte.is_ascii_digit() || (b'a'..=b'f').contains(byte);
    digits.len() == 2 * RANDOM && digits.iter().all(is_digit)
}

/// A directory of the destination, told from others that were there before or come after it; none if
/// that cannot be told.
pub(super) fn id_of(directory: impl AsFd) -> Option<DirectoryId> {
    let wanted = StatxFlags::BASIC_STATS | StatxFlags::BTIME;
    let facts = statx(directory, c"", AtFlags::EMPTY_PATH, wanted).ok()?;
    let has_birth = StatxFlags::from_bits_retain(facts.stx_mask).contains(StatxFlags::BTIME);
    let born = if has_birth { (facts.stx_btime.tv_sec, facts.stx_btime.tv_nsec) } else { (0, 0) };
    let device = (u64::from(facts.stx_dev_major) << 32) | u64::from(facts.stx_dev_minor);
    Some(DirectoryId { device, inode: facts.stx_ino, born })
}
