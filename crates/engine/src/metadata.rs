//! What a file system says of a path.

use std::{
    collections::HashMap,
    ffi::CStr,
    os::fd::{AsFd, AsRawFd, BorrowedFd},
    sync::{Arc, Mutex, PoisonError},
};

use rustix::{
    fs::{AtFlags, Stat, fgetxattr, flistxattr, lgetxattr, llistxattr, statat},
    io::Errno,
};
use skellin_store::{Moment, Owner};

/// Extended attributes of one path are taken up to so many bytes.
const MOST_XATTR_BYTES: usize = 1 << 20;

/// What kind of thing a path is, sockets included.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Sort {
    File,
    Directory,
    Link,
    Pipe,
    Character,
    Block,
    Socket,
    Unknown,
}

/// The state of a path.
pub(crate) struct Facts {
    pub stat: Stat,
}

impl Facts {
    /// Of a name in a directory, not following links.
    pub fn at(directory: BorrowedFd<'_>, name: &CStr) -> Result<Self, Errno> {
        Ok(Self { stat: statat(directory, name, AtFlags::SYMLINK_NOFOLLOW)? })
    }

    /// Of a full path; `follow`: whether a link means what it points to.
    pub fn of_path(path: &std::path::Path, follow: bool) -> Result<Self, Errno> {
        let flags = if follow { AtFlags::empty() } else { AtFlags::SYMLINK_NOFOLLOW };
        Ok(Self { stat: statat(rustix::fs::CWD, path, flags)? })
    }

    /// Of an open file.
    pub fn of(file: BorrowedFd<'_>) -> Result<Self, Errno> {
        Ok(Self { stat: rustix::fs::fstat(file)? })
    }

    pub fn sort(&self) -> Sort {
        use rustix::fs::FileType;
        match FileType::from_raw_mode(self.stat.st_mode) {
            FileType::RegularFile => Sort::File,
            FileType::Directory => Sort::Directory,
            FileType::Symlink => Sort::Link,
            FileType::Fifo => Sort::Pipe,
            FileType::CharacterDevice => Sort::Character,
            FileType::BlockDevice => Sort::Block,
            FileType::Socket => Sort::Socket,
            FileType::Unknown => Sort::Unknown,
        }
    }

    pub fn size(&self) -> u64 {
        self.stat.st_size.try_into().unwrap_or(0)
    }

    /// Whether it may have holes: it occupies less than its size.
    pub fn may_have_holes(&self) -> bool {
        u64::try_from(self.stat.st_blocks).unwrap_or(0).saturating_mul(512) < self.size()
    }

    #[allow(clippy::unnecessary_cast, reason = "the width of these fields differs by architecture")]
    pub fn modified(&self) -> Moment {
        Moment { seconds: self.stat.st_mtime as i64, nanos: self.stat.st_mtime_nsec as u32 }
    }

    #[allow(clippy::unnecessary_cast, reason = "the width of these fields differs by architecture")]
    pub fn changed(&self) -> Moment {
        Moment { seconds: self.stat.st_ctime as i64, nanos: self.stat.st_ctime_nsec as u32 }
    }

    /// Device and inode.
    pub fn identity(&self) -> (u64, u64) {
        (self.stat.st_dev, self.stat.st_ino)
    }
}

/// Names of users and groups, looked up once each.
#[derive(Default)]
pub(crate) struct Owners(Mutex<HashMap<(u32, u32), Owner>>);

impl Owners {
    pub fn of(&self, facts: &Facts) -> Owner {
        let ids = (facts.stat.st_uid, facts.stat.st_gid);
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known
            .entry(ids)
            .or_insert_with(|| {
                let user = uzers::get_user_by_uid(ids.0);
                let group = uzers::get_group_by_gid(ids.1);
                let text = |name: &std::ffi::OsStr| name.to_str().map(Arc::from);
                Owner {
                    uid: ids.0,
                    gid: ids.1,
                    user: user.and_then(|user| text(user.name())),
                    group: group.and_then(|group| text(group.name())),
                }
            })
            .clone()
    }
}

/// Names and values of extended attributes, sorted by name.
pub(crate) type Xattrs = Vec<(Vec<u8>, Vec<u8>)>;

/// Extended attributes of an open file or directory.
pub(crate) fn xattrs_of(file: BorrowedFd<'_>) -> Result<Xattrs, String> {
    read_xattrs(|buffer| flistxattr(file, buffer), |name, buffer| fgetxattr(file, name, buffer))
}

/// Extended attributes of a name in a directory, not following links.
pub(crate) fn xattrs_at(directory: BorrowedFd<'_>, name: &CStr) -> Result<Xattrs, String> {
    // There is no call relative to a directory; its path under /proc serves as one.
    let mut path = format!("/proc/self/fd/{}/", directory.as_raw_fd()).into_bytes();
    path.extend_from_slice(name.to_bytes());
    read_xattrs(|buffer| llistxattr(&*path, buffer), |name, buffer| lgetxattr(&*path, name, buffer))
}

fn read_xattrs(
    list: impl Fn(&mut [u8]) -> Result<usize, Errno>,
    get: impl Fn(&CStr, &mut [u8]) -> Result<usize, Errno>,
) -> Result<Xattrs, String> {
    let failed = |error: Errno| format!("its extended attributes cannot be read: {error}");
    let mut buffer = vec![0; 256];
    let names = loop {
        match list(&mut buffer) {
            Ok(length) => break buffer[..length].to_vec(),
            Err(Errno::RANGE) if buffer.len() < MOST_XATTR_BYTES => {
                buffer.resize(buffer.len() * 8, 0);
            }
            // File systems without attributes, and paths that vanished, have none.
            Err(Errno::NOTSUP | Errno::NOSYS | Errno::NOENT | Errno::PERM) => return Ok(Vec::new()),
            Err(error) => return Err(failed(error)),
        }
    };
    let (mut found, mut total) = (Vec::new(), 0);
    for name in names.split_inclusive(|b| *b == 0) {
        let Ok(name) = CStr::from_bytes_with_nul(name) else { continue };
        let value = loop {
            match get(name, &mut buffer) {
                Ok(length) => break Some(buffer[..length].to_vec()),
                Err(Errno::RANGE) if buffer.len() < MOST_XATTR_BYTES => {
                    buffer.resize(buffer.len() * 8, 0);
                }
                // Removed since it was listed, or for other eyes (security.* of another user).
                Err(Errno::NODATA | Errno::ACCESS | Errno::PERM | Errno::NOTSUP) => break None,
                Err(error) => return Err(failed(error)),
            }
        };
        let Some(value) = value else { continue };
        total += name.to_bytes().len() + value.len();
        if total > MOST_XATTR_BYTES {
            return Err("its extended attributes are larger than 1 MiB".to_owned());
        }
        found.push((name.to_bytes().to_vec(), value));
    }
    found.sort_unstable();
    Ok(found)
}

/// Borrowed form of any descriptor.
pub(crate) fn fd(file: &impl AsFd) -> BorrowedFd<'_> {
    file.as_fd()
}
