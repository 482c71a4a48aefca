//! The few file operations a directory place stands on, as a trait, so that tests can put a disk
//! under it that forgets what was not synced.

use std::{
    fmt::Debug,
    fs::{self, File},
    io::{self, Read, Seek, SeekFrom, Write},
    os::{
        fd::OwnedFd,
        unix::fs::{DirBuilderExt, FileExt},
    },
    path::{Component, Path, PathBuf},
    sync::OnceLock,
    time::{SystemTime, UNIX_EPOCH},
};

use rustix::{
    fs::{
        AtFlags, CWD, Dir, FileType, FlockOperation, Mode, OFlags, RenameFlags, flock, fstat,
        fstatfs, fsync, linkat, mkdirat, openat, renameat, renameat_with, statat, unlinkat,
    },
    io::Errno,
};

use crate::{
    Extent,
    own::{open_folder, open_plain_at, read_up_to},
};

/// A file being written.
pub trait DiskFile: Send {
    /// Appends bytes.
    ///
    /// # Errors
    /// As the disk says.
    fn append(&mut self, bytes: &[u8]) -> io::Result<()>;
    /// Returns once the content is on the medium.
    ///
    /// # Errors
    /// As the disk says.
    fn sync(&mut self) -> io::Result<()>;
}

/// A file system, reduced to what a directory place needs.
pub trait Disk: Send + Sync + Debug {
    /// Begins a file that must not exist yet.
    ///
    /// # Errors
    /// As the disk says.
    fn begin(&self, path: &Path) -> io::Result<Box<dyn DiskFile>>;
    /// Renames a file, never over another one.
    ///
    /// # Errors
    /// `AlreadyExists`, or as the disk says.
    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()>;
    /// Returns once the names in a directory are on the medium.
    ///
    /// # Errors
    /// As the disk says.
    fn sync_folder(&self, path: &Path) -> io::Result<()>;
    /// Makes a directory, which may exist.
    ///
    /// # Errors
    /// As the disk says.
    fn make_folder(&self, path: &Path) -> io::Result<()>;
    /// Whether a directory is there.
    fn has_folder(&self, path: &Path) -> bool;
    /// Reads a part of a file.
    ///
    /// # Errors
    /// As the disk says; `UnexpectedEof` if a range reaches past the end.
    fn read(&self, path: &Path, extent: Extent, into: &mut Vec<u8>) -> io::Result<()>;
    /// Hands over name, size and age in seconds of every plain file in a directory.
    ///
    /// # Errors
    /// As the disk says.
    fn list(&self, path: &Path, each: &mut dyn FnMut(&str, u64, u64)) -> io::Result<()>;
    /// Removes a file.
    ///
    /// # Errors
    /// As the disk says.
    fn remove(&self, path: &Path) -> io::Result<()>;
    /// Begins a file that must not exist yet and is held as long as it is open, so that others can tell
    /// whether it is still being written. Nothing where locks do not tell of all who write there.
    ///
    /// # Errors
    /// As the disk says.
    fn begin_held(&self, path: &Path) -> io::Result<Option<Box<dyn DiskFile>>> {
        let _ = path;
        Ok(None)
    }
    /// Whether it is certain that nobody writes a file any more that was begun held.
    fn is_abandoned(&self, path: &Path) -> bool {
        let _ = path;
        false
    }
}

/// The operating system's own. Everything is done relative to the directory it was opened on and
/// its folders, which are never reached through a link: whoever may write there leads it nowhere.
#[derive(Debug)]
pub struct SystemDisk {
    root: PathBuf,
    /// Device and inode of the directory, once it was seen: another one in its place is not it.
    identity: OnceLock<(u64, u64)>,
}

impl SystemDisk {
    /// The file system at a directory, which need not be there yet.
    #[must_use]
    pub fn new(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into(), identity: OnceLock::new() }
    }

    /// The root, opened. It is the user's word, so a link may lead to it.
    fn root(&self) -> io::Result<OwnedFd> {
        let root = open_folder(CWD, &self.root, true)?;
        let facts = fstat(&root)?;
        let identity = (facts.st_dev, facts.st_ino);
        if *self.identity.get_or_init(|| identity) != identity {
            let why = format!("{} is another directory now", self.root.display());
            return Err(io::Error::new(io::ErrorKind::NotFound, why));
        }
        Ok(root)
    }

    /// A folder below the root, or the root itself.
    fn folder(&self, path: &Path) -> io::Result<OwnedFd> {
        let below = path.strip_prefix(&self.root).map_err(|_| io::ErrorKind::InvalidInput)?;
        let mut at = self.root()?;
        for part in below.components() {
            let Component::Normal(name) = part else {
                return Err(io::ErrorKind::InvalidInput.into());
            };
            at = open_folder(&at, Path::new(name), false)?;
        }
        Ok(at)
    }

    /// The folder a file lies in, and its name there.
    fn at<'p>(&self, path: &'p Path) -> io::Result<(OwnedFd, &'p Path)> {
        let parts = path.parent().zip(path.file_name());
        let (folder, leaf) = parts.ok_or(io::ErrorKind::InvalidInput)?;
        Ok((self.folder(folder)?, Path::new(leaf)))
    }
}

/// What the name of a file begins with until it is locked.
pub(crate) const UNLOCKED: &str = "~";

/// Whether a file system is of this machine alone, so that its locks tell of all who write there: ext2 to
/// ext4, XFS, Btrfs, F2FS, ZFS, bcachefs, tmpfs, overlays, FAT, exFAT, NTFS (magic numbers of statfs(2)).
fn is_local(folder: &OwnedFd) -> bool {
    const LOCAL: [u64; 12] = [
        0xEF53,
        0x2FC1_2FC1,
        0xCA45_1A4E,
        0x794C_7630,
        0x5846_5342,
        0x9123_683E,
        0xF2F5_2010,
        0x0102_1994,
        0x4D44,
        0x2011_BAB0,
        0x5346_544E,
        0x7366_746E,
    ];
    // The type of this number differs between processors; its low half is what is defined.
    fstatfs(folder).is_ok_and(|facts| LOCAL.contains(&(facts.f_type as u64 & 0xFFFF_FFFF)))
}

impl DiskFile for File {
    fn append(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.write_all(bytes)
    }

    fn sync(&mut self) -> io::Result<()> {
        self.sync_data()
    }
}

impl Disk for SystemDisk {
    fn begin(&self, path: &Path) -> io::Result<Box<dyn DiskFile>> {
        let (folder, leaf) = self.at(path)?;
        let flags =
            OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let file = openat(folder, leaf, flags, Mode::RUSR | Mode::WUSR)?;
        Ok(Box::new(File::from(file)))
    }

    fn rename_new(&self, from: &Path, to: &Path) -> io::Result<()> {
        let ((from, old), (to, new)) = (self.at(from)?, self.at(to)?);
        match renameat_with(&from, old, &to, new, RenameFlags::NOREPLACE) {
            // Some file systems do not know the flag; a hard link refuses to replace as well.
            Err(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => {
                match linkat(&from, old, &to, new, AtFlags::empty()) {
                    Ok(()) => Ok(unlinkat(&from, old, AtFlags::empty())?),
                    Err(Errno::EXIST) => Err(Errno::EXIST.into()),
                    // Nor hard links (FAT): names are random, so a look before is all there is.
                    Err(_) if statat(&to, new, AtFlags::SYMLINK_NOFOLLOW).is_ok() => {
                        Err(Errno::EXIST.into())
                    }
                    Err(_) => Ok(renameat(&from, old, &to, new)?),
                }
            }
            other => Ok(other?),
        }
    }

    fn sync_folder(&self, path: &Path) -> io::Result<()> {
        // The directory above the root is no folder of ours, but holds its name.
        let folder = match path.starts_with(&self.root) {
            true => self.folder(path)?,
            false => open_folder(CWD, path, true)?,
        };
        Ok(fsync(folder)?)
    }

    fn make_folder(&self, path: &Path) -> io::Result<()> {
        if path == self.root {
            return fs::DirBuilder::new().recursive(true).mode(0o700).create(path);
        }
        let (folder, leaf) = self.at(path)?;
        match mkdirat(&folder, leaf, Mode::RWXU) {
            // What is there has to be a folder that no link leads to.
            Err(Errno::EXIST) => open_folder(&folder, leaf, false).map(drop),
            other => Ok(other?),
        }
    }

    fn has_folder(&self, path: &Path) -> bool {
        match path.starts_with(&self.root) {
            true => self.folder(path).is_ok(),
            false => path.is_dir(),
        }
    }

    fn read(&self, path: &Path, extent: Extent, into: &mut Vec<u8>) -> io::Result<()> {
        let (folder, leaf) = self.at(path)?;
        let mut file = open_plain_at(folder, leaf).map_err(|error| match error.kind() {
            // A link or a pipe is no object, and a listing shows none either.
            io::ErrorKind::InvalidInput => io::ErrorKind::NotFound.into(),
            _ => error,
        })?;
        match extent {
            Extent::Within(most) => {
                *into = read_up_to(file, most)?;
                Ok(())
            }
            Extent::Tail(length) => {
                let size = file.metadata()?.len();
                file.seek(SeekFrom::Start(size.saturating_sub(length)))?;
                into.clear();
                file.take(length).read_to_end(into).map(drop)
            }
            Extent::Range { offset, length } => {
                // The length may come from a damaged record: never allocate past the file's end.
                if file.metadata()?.len() < offset.saturating_add(length) {
                    return Err(io::ErrorKind::UnexpectedEof.into());
                }
                // What is in the buffer is written over; only what it grows by is cleared.
                into.resize(usize::try_from(length).map_err(io::Error::other)?, 0);
                file.read_exact_at(into, offset)
            }
        }
    }

    fn list(&self, path: &Path, each: &mut dyn FnMut(&str, u64, u64)) -> io::Result<()> {
        let folder = self.folder(path)?;
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs();
        for entry in Dir::read_from(&folder)? {
            let entry = entry?;
            let facts = match statat(&folder, entry.file_name(), AtFlags::SYMLINK_NOFOLLOW) {
                Ok(facts) => facts,
                // Deleted since the directory was read.
                Err(Errno::NOENT) => continue,
                Err(error) => return Err(error.into()),
            };
            let is_file = FileType::from_raw_mode(facts.st_mode) == FileType::RegularFile;
            if let (true, Ok(name)) = (is_file, entry.file_name().to_str()) {
                let age = now.saturating_sub(u64::try_from(facts.st_mtime).unwrap_or(0));
                each(name, u64::try_from(facts.st_size).unwrap_or(0), age);
            }
        }
        Ok(())
    }

    fn begin_held(&self, path: &Path) -> io::Result<Option<Box<dyn DiskFile>>> {
        let (folder, leaf) = self.at(path)?;
        if !is_local(&folder) {
            return Ok(None);
        }
        // It has its name only once it is locked: who finds it unlocked knows that its writer is dead.
        let mut unlocked = std::ffi::OsString::from(UNLOCKED);
        unlocked.push(leaf);
        let flags =
            OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let file = openat(&folder, &*unlocked, flags, Mode::RUSR | Mode::WUSR)?;
        let named = flock(&file, FlockOperation::NonBlockingLockExclusive)
            .and_then(|()| renameat(&folder, &*unlocked, &folder, leaf));
        if let Err(error) = named {
            let _ = unlinkat(&folder, &*unlocked, AtFlags::empty());
            return Err(error.into());
        }
        Ok(Some(Box::new(File::from(file))))
    }

    fn is_abandoned(&self, path: &Path) -> bool {
        let Ok((folder, leaf)) = self.at(path) else { return false };
        let is_free = |file: File| flock(&file, FlockOperation::NonBlockingLockShared).is_ok();
        is_local(&folder) && open_plain_at(folder, leaf).is_ok_and(is_free)
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        let (folder, leaf) = self.at(path)?;
        Ok(unlinkat(folder, leaf, AtFlags::empty())?)
    }
}
