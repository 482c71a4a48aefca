//! What a file system says of a path.

use crate::cause::Cause;
use std::{
    collections::HashMap,
    ffi::CStr,
    os::fd::{AsFd, AsRawFd, BorrowedFd},
    sync::{Arc, Mutex, PoisonError},
};

use rustix::{
    fs::{AtFlags, Stat, fgetxattr, flistxattr, lgetxattr, llistxattr, major, minor, statat},
    io::Errno,
};
use skellin_place::{FarFacts, FarKind};
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
#[derive(Clone, Copy, Debug)]
pub(crate) struct Facts {
    sort: Sort,
    /// Permission bits.
    pub mode: u32,
    pub uid: u32,
    pub gid: u32,
    size: u64,
    modified: Moment,
    changed: Moment,
    /// What tells this file, or this state of it, from others beside its times.
    pub inode: u64,
    device: u64,
    /// How many names it has.
    pub links: u64,
    /// Numbers of a device.
    pub numbers: (u32, u32),
    /// Bytes it occupies.
    occupied: u64,
    is_far: bool,
}

impl Facts {
    /// Of a name in a directory, not following links.
    pub fn at(directory: BorrowedFd<'_>, name: &CStr) -> Result<Self, Errno> {
        Ok(Self::new(&statat(directory, name, AtFlags::SYMLINK_NOFOLLOW)?))
    }

    /// Of a full path; `follow`: whether a link means what it points to.
    pub fn of_path(path: &std::path::Path, follow: bool) -> Result<Self, Errno> {
        let flags = if follow { AtFlags::empty() } else { AtFlags::SYMLINK_NOFOLLOW };
        Ok(Self::new(&statat(rustix::fs::CWD, path, flags)?))
    }

    /// Of an open file.
    pub fn of(file: BorrowedFd<'_>) -> Result<Self, Errno> {
        Ok(Self::new(&rustix::fs::fstat(file)?))
    }

    #[allow(clippy::unnecessary_cast, reason = "the width of these fields differs by architecture")]
    fn new(stat: &Stat) -> Self {
        use rustix::fs::FileType;
        let sort = match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => Sort::File,
            FileType::Directory => Sort::Directory,
            FileType::Symlink => Sort::Link,
            FileType::Fifo => Sort::Pipe,
            FileType::CharacterDevice => Sort::Character,
            FileType::BlockDevice => Sort::Block,
            FileType::Socket => Sort::Socket,
            FileType::Unknown => Sort::Unknown,
        };
        Self {
            sort,
            mode: stat.st_mode & 0o7777,
            uid: stat.st_uid,
            gid: stat.st_gid,
            size: stat.st_size.try_into().unwrap_or(0),
            modified: Moment { seconds: stat.st_mtime as i64, nanos: stat.st_mtime_nsec as u32 },
            changed: Moment { seconds: stat.st_ctime as i64, nanos: stat.st_ctime_nsec as u32 },
            inode: stat.st_ino,
            device: stat.st_dev,
            links: stat.st_nlink as u64,
            numbers: (major(stat.st_rdev), minor(stat.st_rdev)),
            occupied: u64::try_from(stat.st_blocks).unwrap_or(0).saturating_mul(512),
            is_far: false,
        }
    }

    /// As another host tells them. What its protocol does not know is as if the file were our own,
    /// made just like that.
    pub fn far(told: &FarFacts) -> Self {
        let sort = match told.kind {
            FarKind::File => Sort::File,
            FarKind::Directory => Sort::Directory,
            FarKind::Link => Sort::Link,
            FarKind::Pipe => Sort::Pipe,
            FarKind::Socket => Sort::Socket,
            FarKind::Other => Sort::Unknown,
        };
        let usual = if sort == Sort::Directory { 0o755 } else { 0o644 };
        let own = || (rustix::process::getuid().as_raw(), rustix::process::getgid().as_raw());
        let (uid, gid) = told.owner.unwrap_or_else(own);
        let modified = Moment { seconds: told.modified, nanos: 0 };
        let tag = told.tag.as_ref().map(|tag| *blake3::hash(tag.as_bytes()).as_bytes());
        let inode = tag.and_then(|tag| tag.first_chunk().copied()).map_or(0, u64::from_le_bytes);
        Self {
            sort,
            mode: told.mode.unwrap_or(usual),
            uid,
            gid,
            size: told.size,
            modified,
            changed: modified,
            inode,
            device: 0,
            links: 1,
            numbers: (0, 0),
            occupied: told.size,
            is_far: true,
        }
    }

    pub fn sort(&self) -> Sort {
        self.sort
    }

    pub fn size(&self) -> u64 {
        self.size
    }

    /// Whether it may have holes: it occupies less than its size.
    pub fn may_have_holes(&self) -> bool {
        self.occupied < self.size
    }

    pub fn modified(&self) -> Moment {
        self.modified
    }

    /// When anything about it changed; where that is not told, when it was modified.
    pub fn changed(&self) -> Moment {
        self.changed
    }

    /// Device and inode.
    pub fn identity(&self) -> (u64, u64) {
        (self.device, self.inode)
    }

    /// Whether it changed so shortly ago that another change might leave the same times behind.
    /// The file system's clock is the machine's, whatever clock the run goes by; that of another
    /// host is hardly off by more than a minute, and tells whole seconds.
    pub fn is_unsettled(&self) -> bool {
        let now =
            std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        let now = i64::try_from(now.as_secs()).unwrap_or(i64::MAX);
        self.changed.seconds >= now.saturating_sub(if self.is_far { 60 } else { 2 })
    }

    /// Whether the content is the same as far as both tell.
    pub fn is_same_state(&self, other: &Self) -> bool {
        (self.size, self.modified, self.changed) == (other.size, other.modified, other.changed)
    }
}

/// Names of users and groups, looked up once each.
#[derive(Default)]
pub(crate) struct Owners(Mutex<HashMap<(u32, u32), Owner>>);

impl Owners {
    pub fn of(&self, facts: &Facts) -> Owner {
        let ids = (facts.uid, facts.gid);
        if facts.is_far {
            // What the numbers mean there is not told.
            return Owner { uid: ids.0, gid: ids.1, user: None, group: None };
        }
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
pub(crate) fn xattrs_of(file: BorrowedFd<'_>) -> Result<Xattrs, Cause> {
    read_xattrs(|buffer| flistxattr(file, buffer), |name, buffer| fgetxattr(file, name, buffer))
}

/// Extended attributes of a name in a directory, not following links.
pub(crate) fn xattrs_at(directory: BorrowedFd<'_>, name: &CStr) -> Result<Xattrs, Cause> {
    // There is no call relative to a directory; its path under /proc serves as one.
    let mut path = format!("/proc/self/fd/{}/", directory.as_raw_fd()).into_bytes();
    path.extend_from_slice(name.to_bytes());
    read_xattrs(|buffer| llistxattr(&*path, buffer), |name, buffer| lgetxattr(&*path, name, buffer))
}

fn read_xattrs(
    list: impl Fn(&mut [u8]) -> Result<usize, Errno>,
    get: impl Fn(&CStr, &mut [u8]) -> Result<usize, Errno>,
) -> Result<Xattrs, Cause> {
    let failed = |error: Errno| Cause::of("cannot read its extended attributes", error);
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
            return Err(Cause::other("its extended attributes are larger than 1 MiB"));
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
