//! From the top of the file system to where a snapshot says something was, following no link but
//! those that somebody agreed to.

use std::{
    ffi::OsString,
    os::{
        fd::{AsFd, OwnedFd},
        unix::ffi::OsStringExt,
    },
    path::{Component, Path, PathBuf},
};

use rustix::{
    fs::{CWD, Mode, OFlags, mkdirat, openat, readlinkat},
    io::Errno,
};

use super::RestoreRequest;
use crate::error::{EngineError, Result};

/// No path leads through more links.
const MOST_LINKS: usize = 16;

/// A link above the place something is restored to, and what it points to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinkAbove {
    /// Its full path.
    pub link: PathBuf,
    /// What it points to.
    pub target: PathBuf,
}

/// Opens a directory by a full path. Missing ones are made; in a dry run `None` stands for one
/// that is missing.
///
/// # Errors
/// [`EngineError::LinkAbove`] for a link that nobody agreed to.
pub(super) fn from_top(path: &Path, request: &RestoreRequest<'_>) -> Result<Option<OwnedFd>> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let failed = |at: &Path, error: Errno| EngineError::local("open the directory", at, error);
    let open_top =
        || openat(CWD, "/", flags, Mode::empty()).map_err(|error| failed(Path::new("/"), error));
    let (mut handle, mut reached) = (open_top()?, PathBuf::from("/"));
    // What is still to be gone through, the next one last.
    let mut ahead: Vec<OsString> = parts(path);
    let mut links = 0;
    while let Some(name) = ahead.pop() {
        let at = reached.join(&name);
        match openat(&handle, &name, flags, Mode::empty()) {
            Ok(next) => (handle, reached) = (next, at),
            Err(Errno::NOENT) if request.dry_run => return Ok(None),
            Err(Errno::NOENT) => {
                match mkdirat(&handle, &name, Mode::from_raw_mode(0o755)) {
                    Ok(()) | Err(Errno::EXIST) => {}
                    Err(error) => {
                        return Err(EngineError::local("make the directory", at, error));
                    }
                }
                ahead.push(name);
            }
            Err(Errno::LOOP | Errno::NOTDIR) => {
                let target = readlinkat(handle.as_fd(), &name, Vec::new())
                    .map_err(|_| failed(&at, Errno::NOTDIR))?;
                let target = PathBuf::from(OsString::from_vec(target.into_bytes()));
                let agreed =
                    request.through.iter().any(|known| known.link == at && known.target == target);
                links += 1;
                if !agreed || links > MOST_LINKS {
                    return Err(EngineError::LinkAbove { link: at, target });
                }
                if target.components().any(|part| part == Component::ParentDir) {
                    return Err(failed(&at, Errno::LOOP));
                }
                if target.is_absolute() {
                    (handle, reached) = (open_top()?, PathBuf::from("/"));
                }
                ahead.extend(parts(&target));
            }
            Err(error) => return Err(failed(&at, error)),
        }
    }
    Ok(Some(handle))
}

/// The names of a path, the first one last.
fn parts(path: &Path) -> Vec<OsString> {
    let names = path.components().filter_map(|part| match part {
        Component::Normal(name) => Some(name.to_owned()),
        _ => None,
    });
    let mut names: Vec<OsString> = names.collect();
    names.reverse();
    names
}
