//! Paths that are what the snapshot says already: they are neither fetched nor written again.

use std::{
    ffi::CString,
    fs::File,
    os::fd::{AsFd, BorrowedFd},
};

use rustix::{
    fs::{AtFlags, FileType, Stat, fstat, major, minor, readlinkat, statat},
    io::Errno,
};
use skellin_store::{Body, Entry};

use super::{Shared, failure::Failure, groups::Identity};
use crate::{
    cause::Cause,
    holds::{Untold, holds},
    metadata::xattrs_of,
    sources::open_file,
};

/// What has a name, if it is what the snapshot says, in all that it says. A file is read for that,
/// but in a dry run, where its size, time, mode and owner are believed.
pub(super) fn right(
    shared: &Shared<'_>,
    at: BorrowedFd<'_>,
    name: &CString,
    entry: &Entry,
) -> Result<Option<Identity>, Failure> {
    let Ok(there) = statat(at, name, AtFlags::SYMLINK_NOFOLLOW) else { return Ok(None) };
    if !is_as_said(shared, &there, entry) {
        return Ok(None);
    }
    let identity = (there.st_dev, there.st_ino);
    let is_right = match &entry.body {
        Body::File { recipe, .. } => {
            let Ok(file) = open_file(at, name) else { return Ok(None) };
            // What has the name now may be something else than a moment ago.
            let is_it = fstat(&file).is_ok_and(|facts| (facts.st_dev, facts.st_ino) == identity);
            if !is_it || xattrs_of(file.as_fd()).is_ok_and(|xattrs| xattrs != entry.xattrs) {
                return Ok(None);
            }
            shared.request.dry_run
                || match holds(shared.store, recipe, File::from(file), shared.request.cancel) {
                    Ok(is_right) => is_right,
                    // What cannot be read is replaced.
                    Err(Untold::Here(_)) => false,
                    Err(Untold::Store(error)) => return Err(error.into()),
                    Err(Untold::Cancelled) => return Err(Failure::Stopped),
                }
        }
        Body::Link(target) => match readlinkat(at, name, Vec::new()) {
            Ok(there) => there.to_bytes() == target.as_slice(),
            Err(Errno::NOENT) => false,
            Err(error) => return Err(Failure::Path(Cause::of("cannot read it", error))),
        },
        Body::Pipe => true,
        Body::Device { major: wanted, minor: number, .. } => {
            (major(there.st_rdev), minor(there.st_rdev)) == (*wanted, *number)
        }
        Body::Directory { .. } => false,
    };
    Ok(is_right.then_some(identity))
}

/// Whether kind, size, time, mode, owner and number of names fit.
fn is_as_said(shared: &Shared<'_>, there: &Stat, entry: &Entry) -> bool {
    use skellin_store::DeviceKind;
    let kind = match &entry.body {
        Body::File { .. } => FileType::RegularFile,
        Body::Link(_) => FileType::Symlink,
        Body::Pipe => FileType::Fifo,
        Body::Device { kind: DeviceKind::Character, .. } => FileType::CharacterDevice,
        Body::Device { kind: DeviceKind::Block, .. } => FileType::BlockDevice,
        Body::Directory { .. } => FileType::Directory,
    };
    let is_file = matches!(entry.body, Body::File { .. });
    let owner = (there.st_uid, there.st_gid) == (entry.owner.uid, entry.owner.gid);
    FileType::from_raw_mode(there.st_mode) == kind
        && (!is_file || u64::try_from(there.st_size).is_ok_and(|size| size == entry.size()))
        && (kind == FileType::Symlink || there.st_mode & 0o7777 == entry.mode & 0o7777)
        && there.st_mtime == entry.modified.seconds
        && there.st_mtime_nsec == u64::from(entry.modified.nanos)
        && (owner || !shared.is_root)
        // A file that shares its content with another name would change with that.
        && (there.st_nlink == 1 || entry.links.is_some())
}
