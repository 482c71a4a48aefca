//! What sources lie on: directories of this machine, and of other hosts, looked at in the same way.

mod far;

use std::{
    ffi::{CStr, OsStr},
    os::{
        fd::{AsFd, OwnedFd},
        unix::ffi::OsStrExt,
    },
    path::Path,
    sync::Arc,
};

use rustix::{
    fs::{AtFlags, CWD, Mode, OFlags, openat, readlinkat, statat},
    io::Errno,
};
use skellin_place::{FarFiles, PlaceError, PlaceErrorKind};

pub(crate) use far::{FarDirectory, FarFile};

use crate::{
    cause::{Cause, CauseKind},
    error::EngineError,
    metadata::{Facts, Xattrs, xattrs_at, xattrs_of},
    names::{Names, read_names},
};

/// Where a source lies.
#[derive(Clone, Debug)]
pub(crate) enum Origin {
    /// On this machine.
    Here,
    /// On another host; with the number of bytes of a full path that name the source itself.
    Far(Arc<dyn FarFiles>, usize),
}

/// Why a path of a source cannot be looked at.
#[derive(Debug)]
pub(crate) enum Trouble {
    Here(Errno),
    Far(PlaceError),
}

impl From<Errno> for Trouble {
    fn from(error: Errno) -> Self {
        Self::Here(error)
    }
}

impl From<PlaceError> for Trouble {
    fn from(error: PlaceError) -> Self {
        Self::Far(error)
    }
}

impl Trouble {
    /// Whether there is no such path.
    pub fn is_not_there(&self) -> bool {
        match self {
            Self::Here(error) => matches!(*error, Errno::NOENT | Errno::NOTDIR),
            Self::Far(error) => error.is_not_found(),
        }
    }

    /// Why. `met`: whether it was there a moment ago.
    pub fn cause(&self, met: bool) -> Cause {
        match self {
            Self::Here(error) => match *error {
                Errno::LOOP => Cause::vanished(),
                _ if self.is_not_there() => {
                    if met {
                        Cause::vanished()
                    } else {
                        Cause::missing()
                    }
                }
                Errno::ACCESS | Errno::PERM => Cause::denied(),
                other => Cause::of("cannot read it", other),
            },
            Self::Far(error) if error.is_not_found() && met => Cause::vanished(),
            Self::Far(error) => {
                let kind = match error.kind {
                    PlaceErrorKind::NotFound | PlaceErrorKind::Missing => CauseKind::Missing,
                    PlaceErrorKind::Refused => CauseKind::Denied,
                    _ => CauseKind::Other,
                };
                Cause::new(kind, error.reason())
            }
        }
    }

    /// What stops all work: the way to the host failed.
    pub fn of_the_way(self) -> Result<EngineError, Self> {
        match self {
            Self::Far(error) if error.is_of_the_way() => Ok(error.into()),
            other => Err(other),
        }
    }

    /// As a failure to look at a path.
    pub fn on(self, path: &Path) -> EngineError {
        match self {
            Self::Here(error) => EngineError::local("read", path, error),
            Self::Far(error) => error.into(),
        }
    }
}

impl Origin {
    /// The path on the other host, from the source on.
    fn below(source: usize, path: &[u8]) -> Result<&str, Trouble> {
        let rest = path.get(source..).unwrap_or_default();
        let rest = rest.strip_prefix(b"/").unwrap_or(rest);
        // Names of other hosts are text; what is none was never told by one.
        std::str::from_utf8(rest).map_err(|_| Trouble::Here(Errno::NOENT))
    }

    /// What a full path is; `follow`: whether a link means what it points to.
    pub fn facts(&self, path: &Path, follow: bool) -> Result<Facts, Trouble> {
        match self {
            Self::Here => Ok(Facts::of_path(path, follow)?),
            Self::Far(files, source) => {
                let below = Self::below(*source, path.as_os_str().as_bytes())?;
                Ok(Facts::far(&files.facts(below)?))
            }
        }
    }

    /// Opens a directory by its full path; a link means what it points to.
    pub fn open(&self, path: &Path) -> Result<SourceDir, Trouble> {
        match self {
            Self::Here => Ok(SourceDir::Here(open_directory(CWD, path.as_os_str(), true)?)),
            Self::Far(files, source) => {
                let below = Self::below(*source, path.as_os_str().as_bytes())?;
                let facts = Facts::far(&files.facts(below)?);
                let directory = FarDirectory::open(files, below.to_owned(), facts)?;
                Ok(SourceDir::Far(Box::new(directory)))
            }
        }
    }

    /// A piece of a file of another host, by its full path.
    pub fn part(&self, path: &[u8], offset: u64, length: u64) -> Option<Vec<u8>> {
        let Self::Far(files, source) = self else { return None };
        let below = Self::below(*source, path).ok()?;
        files.part(below, offset, length).ok().map(|part| part.bytes)
    }

    /// Whether each look takes a way to another host.
    pub fn is_far(&self) -> bool {
        matches!(self, Self::Far(..))
    }
}

/// An open directory of a source.
pub(crate) enum SourceDir {
    Here(OwnedFd),
    Far(Box<FarDirectory>),
}

impl SourceDir {
    /// What it is itself.
    pub fn facts(&self) -> Result<Facts, Trouble> {
        match self {
            Self::Here(handle) => Ok(Facts::of(handle.as_fd())?),
            Self::Far(directory) => Ok(directory.facts),
        }
    }

    /// The names in it: all, or as many as are read first; and why there may be more.
    pub fn names(&self, most: usize) -> (Names, Option<Errno>) {
        match self {
            Self::Here(handle) => read_names(handle.as_fd(), most),
            Self::Far(directory) => (directory.first_names(most), None),
        }
    }

    /// Names in it that no snapshot can hold, with the reasons.
    pub fn unfit(&self) -> &[(String, &'static str)] {
        match self {
            Self::Here(_) => &[],
            Self::Far(directory) => &directory.unfit,
        }
    }

    /// What a name in it is.
    pub fn look(&self, name: &CStr) -> Result<Facts, Trouble> {
        match self {
            Self::Here(handle) => Ok(Facts::at(handle.as_fd(), name)?),
            Self::Far(directory) => directory.look(name),
        }
    }

    /// Opens a directory in it, which may not be a link.
    pub fn open(&self, name: &CStr) -> Result<Self, Trouble> {
        match self {
            Self::Here(handle) => {
                let name = OsStr::from_bytes(name.to_bytes());
                Ok(Self::Here(open_directory(handle.as_fd(), name, false)?))
            }
            Self::Far(directory) => Ok(Self::Far(Box::new(directory.below(name)?))),
        }
    }

    /// Whether a directory in it holds a name.
    pub fn holds(&self, name: &CStr, marker: &str) -> bool {
        match self {
            Self::Here(handle) => {
                let inside = [name.to_bytes(), b"/", marker.as_bytes()].concat();
                let inside = OsStr::from_bytes(&inside);
                statat(handle, inside, AtFlags::SYMLINK_NOFOLLOW).is_ok()
            }
            Self::Far(directory) => directory.holds(name, marker),
        }
    }

    /// What a link in it points to.
    pub fn link(&self, name: &CStr) -> Result<Vec<u8>, Trouble> {
        match self {
            Self::Here(handle) => Ok(readlinkat(handle, name, Vec::new())?.into_bytes()),
            Self::Far(directory) => directory.link(name),
        }
    }

    /// Its own extended attributes.
    pub fn xattrs(&self) -> Result<Xattrs, Cause> {
        match self {
            Self::Here(handle) => xattrs_of(handle.as_fd()),
            Self::Far(_) => Ok(Vec::new()),
        }
    }

    /// Extended attributes of a name in it.
    pub fn xattrs_at(&self, name: &CStr) -> Result<Xattrs, Cause> {
        match self {
            Self::Here(handle) => xattrs_at(handle.as_fd(), name),
            Self::Far(_) => Ok(Vec::new()),
        }
    }

    /// Whether a file in it could be opened. On another host only opening tells.
    pub fn can_read(&self, name: &CStr) -> Result<(), Trouble> {
        use rustix::fs::{Access, accessat};
        let Self::Here(handle) = self else { return Ok(()) };
        let flags = AtFlags::EACCESS | AtFlags::SYMLINK_NOFOLLOW;
        match accessat(handle, name, Access::READ_OK, flags) {
            // An older kernel does not know the flags; opening tells as well.
            Err(Errno::NOSYS | Errno::INVAL | Errno::NOTSUP) => {
                Ok(open_file(handle.as_fd(), name).map(drop)?)
            }
            other => Ok(other?),
        }
    }
}

/// Opens a directory.
fn open_directory(at: impl AsFd, name: &OsStr, follow: bool) -> Result<OwnedFd, Errno> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    openat(at, name, if follow { flags } else { flags | OFlags::NOFOLLOW }, Mode::empty())
}

/// Opens a file for reading.
pub(crate) fn open_file(at: impl AsFd, name: &CStr) -> Result<OwnedFd, Errno> {
    // Without blocking: it may have become a pipe since it was looked at.
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    // Reading should leave no trace, but only the owner may ask for that.
    match openat(&at, name, flags | OFlags::NOATIME, Mode::empty()) {
        Err(Errno::PERM) => openat(&at, name, flags, Mode::empty()),
        other => other,
    }
}
