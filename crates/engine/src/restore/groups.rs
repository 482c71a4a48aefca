//! Files with several names: which content is being sent under some name already.

use std::{
    collections::{HashMap, HashSet},
    ffi::CString,
    os::fd::BorrowedFd,
    sync::Arc,
};

use rustix::{
    fs::{AtFlags, FileType, statat},
    io::Errno,
};
use skellin_store::{Body, Entry};

use super::{Shared, drafts::Workshop};
use crate::{locked::locked, path::join};

/// Device, inode and kind: names of different kinds are no names of one thing, whatever a snapshot says.
type Group = (u64, u64, u8);
/// The group a name belongs to, if it is one of several.
fn group_of(entry: &Entry) -> Option<Group> {
    let (device, inode) = entry.links?;
    Some((device, inode, entry.kind() as u8))
}

/// Device and inode of what was written.
pub(super) type Identity = (u64, u64);

/// What a draft is.
pub(super) fn identity_of(workshop: &Workshop<'_>, draft: &CString) -> Result<Identity, Errno> {
    let facts = statat(workshop, draft, AtFlags::SYMLINK_NOFOLLOW)?;
    Ok((facts.st_dev, facts.st_ino))
}

/// Where the content of a group is: the directory, by a path that can be opened again, the name in it,
/// and what was written there.
#[derive(Clone)]
pub(super) struct First {
    directory: Arc<[u8]>,
    name: Box<[u8]>,
    pub identity: Identity,
}

impl First {
    /// Its full path in the source.
    pub fn path(&self) -> Vec<u8> {
        join(&self.directory, &self.name)
    }

    pub fn name(&self) -> &[u8] {
        &self.name
    }
}

/// What is known of files with several names.
#[derive(Default)]
pub(super) struct Links {
    /// Groups whose content is being written under some name.
    begun: HashSet<Group>,
    written: HashMap<Group, First>,
    /// The directory of the group that was written last: those beside each other share it.
    directory: Option<Arc<[u8]>>,
    /// Names whose content is still being written under another: as many as writers have work waiting.
    pub repeated: Vec<(Vec<u8>, Entry)>,
}

impl Links {
    /// Where the content of a file was written under its first name.
    pub fn first(&self, entry: &Entry) -> Option<First> {
        self.written.get(&group_of(entry)?).cloned()
    }

    fn write(&mut self, group: Group, path: &[u8], identity: Identity) {
        let at = path.iter().rposition(|byte| *byte == b'/').unwrap_or(0);
        let (above, name) = (&path[..at], &path[at + 1..]);
        let known = self.directory.take().filter(|known| **known == *above);
        let directory = known.unwrap_or_else(|| Arc::from(above));
        self.directory = Some(Arc::clone(&directory));
        let first = First { directory, name: name.into(), identity };
        self.written.entry(group).or_insert(first);
    }
}

/// Whether a file's content is already being sent under another name.
pub(super) fn is_repeated(shared: &Shared<'_>, entry: &Entry) -> bool {
    // Links and pipes have several names as well as files do.
    let (Some(group), false) = (group_of(entry), shared.request.dry_run) else {
        return false;
    };
    !locked(&shared.links).begun.insert(group)
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
    if let Some(group) = group_of(entry) {
        locked(&shared.links).write(group, path, identity);
    }
}
