//! Files with several names: which content is being sent under some name already.

use std::{
    collections::{HashMap, HashSet},
    ffi::CString,
    os::fd::BorrowedFd,
};

use rustix::{
    fs::{AtFlags, FileType, statat},
    io::Errno,
};
use skellin_store::{Body, Entry};

use super::{Shared, drafts::Workshop};
use crate::locked::locked;

type Group = (u64, u64);
/// Device and inode of what was written.
pub(super) type Identity = (u64, u64);

/// What a draft is.
pub(super) fn identity_of(workshop: &Workshop<'_>, draft: &CString) -> Result<Identity, Errno> {
    let facts = statat(workshop, draft, AtFlags::SYMLINK_NOFOLLOW)?;
    Ok((facts.st_dev, facts.st_ino))
}

/// What is known of files with several names.
#[derive(Default)]
pub(super) struct Links {
    /// Groups whose content is being written under some name.
    begun: HashSet<Group>,
    /// Where the content of a group is, as a path below its source that can be opened again, and
    /// what was written there.
    pub written: HashMap<Group, (Vec<u8>, Identity)>,
    /// Names to be linked.
    pub repeated: Vec<(Vec<u8>, Entry)>,
}

/// Whether a file's content is already being sent under another name; the name is remembered.
pub(super) fn is_repeated(shared: &Shared<'_>, entry: &Entry, path: &[u8]) -> bool {
    // Links and pipes have several names as well as files do.
    let (Some(group), false) = (entry.links, shared.request.dry_run) else {
        return false;
    };
    let mut links = locked(&shared.links);
    let repeated = !links.begun.insert(group);
    if repeated {
        links.repeated.push((path.to_vec(), entry.clone()));
    }
    repeated
}

/// A path was there and was left. If it is what a restore before this one has written, other names
/// can be linked to it.
pub(super) fn left(
    shared: &Shared<'_>,
    at: BorrowedFd<'_>,
    name: &CString,
    entry: &Entry,
    path: &[u8],
) {
    if entry.links.is_none() || shared.request.dry_run {
        return;
    }
    let Ok(there) = statat(at, name, AtFlags::SYMLINK_NOFOLLOW) else { return };
    let owner = (there.st_uid, there.st_gid) == (entry.owner.uid, entry.owner.gid);
    let is_it = matches!(entry.body, Body::File { .. })
        && FileType::from_raw_mode(there.st_mode) == FileType::RegularFile
        && u64::try_from(there.st_size).is_ok_and(|size| size == entry.size())
        && there.st_mode & 0o7777 == entry.mode & 0o7777
        && (there.st_mtime, there.st_mtime_nsec)
            == (entry.modified.seconds, u64::from(entry.modified.nanos))
        && (owner || !shared.is_root);
    if is_it {
        restored(shared, entry, path, (there.st_dev, there.st_ino));
    }
}

/// A path was written: names of the same group can be linked to it.
pub(super) fn restored(shared: &Shared<'_>, entry: &Entry, path: &[u8], identity: Identity) {
    if let Some(group) = entry.links {
        locked(&shared.links).written.entry(group).or_insert_with(|| (path.to_vec(), identity));
    }
}
