//! Walking what is to be restored: directories are made on the way, the rest goes to the writers.

use std::{
    os::{fd::AsFd, unix::ffi::OsStrExt},
    path::PathBuf,
    sync::Arc,
};

use rustix::fs::{AtFlags, statat};
use skellin_store::{Body, Entry, Met, StoreError, TreeWalk};

use super::{
    Destination, Shared,
    batches::Batches,
    drafts::Workshops,
    groups, room,
    target::{OpenDirectory, sync},
    whereabouts::{named, start},
    write::Job,
};
use crate::{
    cause::Cause, error::Result, event::Event, history::Located, locked::locked, path::join,
};

/// The bits by which a file runs as its owner or group.
const SET_ID: u32 = 0o6000;

/// Whether a source of the snapshot lies on another host.
pub(super) fn is_of_another_host(shared: &Shared<'_>, source: usize) -> bool {
    let sources = &shared.request.snapshot.sources;
    sources.get(source).is_some_and(|source| !source.path.starts_with(b"/"))
}

/// Has everything written out, root by root; what cannot be is an exception of its root.
pub(super) fn sync_roots(shared: &Shared<'_>) {
    let mut synced: Vec<PathBuf> = Vec::new();
    for located in shared.request.paths {
        let Ok((root, _)) = start(shared, located) else { continue };
        if synced.contains(&root) {
            continue;
        }
        if let Ok(Some(directory)) = OpenDirectory::root(shared, &root)
            && let Err(error) = sync(&directory)
        {
            let cause = Cause::of("restored files may not be on the disk yet", error);
            shared.exception(root.as_os_str().as_bytes(), cause);
        }
        synced.push(root);
    }
}

/// Restores every selected path.
pub(super) fn all<'a>(
    shared: &'a Shared<'a>,
    workshops: &Workshops<'a>,
    jobs: &mut Batches<'a, '_>,
) -> Result<()> {
    let mut last: Option<Beside<'a, '_>> = None;
    for located in shared.request.paths {
        if shared.is_stopped() {
            return Ok(());
        }
        let is_beside = |last: &&Beside<'a, '_>| {
            let (own, its) = (located.parts.split_last(), last.located.parts.split_last());
            let above = own.zip(its).is_some_and(|((_, own), (_, its))| own == its);
            above && located.source == last.located.source
        };
        if !(located.entry.size() <= room::SMALL
            && last.as_ref().is_some_and(|last| is_beside(&last)))
        {
            room::replace(shared, workshops, located)?;
        }
        if let Some(last) = last.as_ref().filter(is_beside) {
            let mut entry = located.entry.clone();
            entry.name = named(shared, entry.name);
            let first = (last.directory.clone(), entry, located.path.clone());
            tree(shared, workshops, first, located.source, jobs)?;
            continue;
        }
        last =
            one(shared, workshops, located, jobs)?.map(|directory| Beside { located, directory });
    }
    Ok(())
}

/// A path that was restored, with the directory it lies in: those beside it need not look for that.
struct Beside<'a, 'l> {
    located: &'l Located,
    directory: Option<Arc<OpenDirectory<'a>>>,
}

/// An entry that was asked for; `None` if the store cannot say, which is an exception of its path.
fn known(
    shared: &Shared<'_>,
    entry: Result<Option<Entry>, StoreError>,
    path: &[u8],
) -> Result<Option<Option<Entry>>> {
    match entry {
        Ok(entry) => Ok(Some(entry)),
        Err(error) if error.is_unreadable() => {
            shared.unreadable(path, &error);
            Ok(None)
        }
        Err(error) => Err(error.into()),
    }
}

/// Restores a path; the directory it lies in, if that was reached.
fn one<'a>(
    shared: &'a Shared<'a>,
    workshops: &Workshops<'a>,
    located: &Located,
    jobs: &mut Batches<'a, '_>,
) -> Result<Option<Option<Arc<OpenDirectory<'a>>>>> {
    let (root, name) = start(shared, located)?;
    let mut directory = OpenDirectory::root(shared, &root)?;
    if let Some(directory) = &directory {
        directory.look_for_leftovers();
    }
    let source = &shared.request.snapshot.sources[located.source];
    let snapshot_root = shared.request.snapshot.root_page(shared.store);
    let mut path = source.path.to_vec();
    let Some(mut entry) = known(shared, shared.store.entry(snapshot_root, &source.name), &path)?
    else {
        return Ok(None);
    };
    // The directories above a selected path are made if need be, and else left alone.
    for (number, part) in located.parts.iter().enumerate() {
        let Some(above) = entry.take() else { return Ok(None) };
        let is_source = number == 0;
        let above =
            Entry { name: if is_source { name.clone() } else { above.name.clone() }, ..above };
        // The top of the file system is open already.
        if !(is_source && name.is_empty()) {
            let at = directory.as_ref();
            directory = match open_below(shared, workshops, at, (&above, &path), false) {
                Some(directory) => directory,
                None => return Ok(None),
            };
        }
        entry = match above.body {
            Body::Directory { root, .. } => {
                match known(shared, shared.store.entry(root, part), &join(&path, part))? {
                    Some(entry) => entry,
                    None => return Ok(None),
                }
            }
            _ => None,
        };
        path = join(&path, part);
    }
    let Some(mut entry) = entry else { return Ok(None) };
    if located.parts.is_empty() {
        entry.name = name;
    }
    if !entry.name.is_empty() {
        entry.name = named(shared, entry.name);
    }
    tree(shared, workshops, (directory.clone(), entry, path), located.source, jobs)?;
    Ok(Some(directory))
}

/// Whether a directory in place is one of our own.
fn is_our_own(shared: &Shared<'_>, parent: Option<&Arc<OpenDirectory<'_>>>, entry: &Entry) -> bool {
    let in_place = *shared.request.destination == Destination::InPlace;
    let Some(parent) = parent.filter(|_| in_place && !shared.keep.is_empty()) else { return false };
    let there = statat(parent.as_fd(), entry.name.as_slice(), AtFlags::SYMLINK_NOFOLLOW);
    there.is_ok_and(|there| shared.keep.contains(&(there.st_dev, there.st_ino)))
}

/// A directory below another; `None` if it has to be passed over.
fn open_below<'a>(
    shared: &Shared<'a>,
    workshops: &Workshops<'a>,
    parent: Option<&Arc<OpenDirectory<'a>>>,
    (entry, path): (&Entry, &[u8]),
    selected: bool,
) -> Option<Option<Arc<OpenDirectory<'a>>>> {
    if !Entry::is_name(&entry.name) {
        shared.exception(path, Cause::other("its name would lead outside"));
        return None;
    }
    let Some(parent) = parent else { return Some(None) };
    match parent.below(workshops, entry, path, selected) {
        Ok(directory) => Some(directory),
        Err(cause) => {
            shared.exception(path, cause);
            None
        }
    }
}

/// Restores an entry and everything below it.
fn tree<'a>(
    shared: &'a Shared<'a>,
    workshops: &Workshops<'a>,
    first: (Option<Arc<OpenDirectory<'a>>>, Entry, Vec<u8>),
    source: usize,
    jobs: &mut Batches<'a, '_>,
) -> Result<()> {
    // With each directory where it is made; nothing in a dry run, where it is not there.
    let mut walk: TreeWalk<'a, Option<Arc<OpenDirectory<'a>>>> = TreeWalk::new(shared.store);
    let mut next = Some(first);
    let is_far = is_of_another_host(shared, source);
    loop {
        if shared.is_stopped() {
            return Ok(());
        }
        if let Some((parent, mut entry, path)) = next.take() {
            if is_far && entry.mode & SET_ID != 0 && !shared.request.keep_set_id {
                // Who holds another host decides what is in its files: they run as nobody else here.
                entry.mode &= !SET_ID;
                shared.count(&shared.set_id);
            }
            if let Body::Directory { root, .. } = entry.body {
                if is_our_own(shared, parent.as_ref(), &entry) {
                    let path = String::from_utf8_lossy(&path);
                    let note = format!("{path} belongs to Skellin and stays as it is");
                    shared.request.events.event(Event::Note(note));
                    continue;
                }
                let opened = match entry.name.is_empty() && path == b"/" {
                    true => Some(parent.map(|top| top.become_it(&entry))),
                    false => open_below(shared, workshops, parent.as_ref(), (&entry, &path), true),
                };
                if let Some(directory) = opened {
                    // One that was there and stays as it is was not restored.
                    let stays = directory.as_ref().is_some_and(|directory| directory.stays());
                    if !stays {
                        shared.count(&shared.restored);
                    }
                    walk.enter(root, path, directory);
                }
            } else if !Entry::is_name(&entry.name) {
                shared.exception(&path, Cause::other("its name would lead outside"));
            } else if locked(&shared.done).contains(&path) {
                // It was done before for want of room.
            } else {
                let is_repeated = groups::is_repeated(shared, &entry);
                if !jobs.push(Job { directory: parent, entry, path, is_repeated }) {
                    return Ok(());
                }
            }
        }
        match walk.advance()? {
            None => return Ok(()),
            Some(Met::Entry(entry)) => {
                let path = walk.path_of(&entry.name);
                let parent = walk.top().and_then(|open| open.with.clone());
                next = Some((parent, entry, path));
            }
            Some(Met::Left(_)) => {}
            Some(Met::Lost(node, error)) => shared.unreadable(&node.path, &error),
        }
    }
}
