//! Writing what is no directory: under another name first, then moved into place.

use std::{
    ffi::CString,
    os::fd::{AsFd, OwnedFd},
    sync::{Arc, atomic::Ordering},
};

use rustix::{
    fs::{
        AtFlags, FileType, Mode, OFlags, fstatvfs, ftruncate, makedev, mknodat, openat, symlinkat,
        unlinkat,
    },
    io::{Errno, pwrite},
};
use skellin_store::{Body, ChunkRef, DeviceKind, Entry, Item, Recipe};

use super::{
    Existing, Shared,
    ahead::Ahead,
    already,
    drafts::{Workshop, Workshops},
    dress::{Dress, apply, apply_in},
    failure::{Failure, failed},
    groups::{self, Identity, identity_of},
    own::draft_name,
    target::{OpenDirectory, put_in_place},
};
use crate::{
    cause::{Cause, CauseKind},
    locked::locked,
};

/// A path to restore that is no directory.
pub(super) struct Job<'a> {
    /// `None` in a dry run, where it is not there.
    pub directory: Option<Arc<OpenDirectory<'a>>>,
    pub entry: Entry,
    pub path: Vec<u8>,
    /// Whether its content is sent under another name.
    pub is_repeated: bool,
}

/// Restores one path, whatever becomes of it.
pub(super) fn one<'a>(shared: &Shared<'a>, workshops: &Workshops<'a>, job: &Job<'a>) {
    let outcome = CString::new(job.entry.name.clone())
        .map_err(|_| Failure::Path(Cause::other("its name contains a NUL byte")))
        .and_then(|name| place(shared, workshops, job, &name));
    match outcome {
        Ok(Some(identity)) => {
            shared.count(&shared.restored);
            shared.restored_bytes.fetch_add(job.entry.size(), Ordering::Relaxed);
            groups::restored(shared, &job.entry, &job.path, identity);
        }
        Ok(None) => {}
        Err(Failure::NoRoom) => {
            let facts = job.directory.as_ref().and_then(|at| fstatvfs(at.as_fd()).ok());
            let words = skellin_place::why_full(facts.as_ref());
            shared.exception(&job.path, Cause::new(CauseKind::NoRoom, words));
        }
        Err(Failure::Path(cause)) => shared.exception(&job.path, cause),
        Err(Failure::Unreadable(error)) => shared.unreadable(&job.path, &error),
        Err(Failure::All(error)) => shared.fail(error.into()),
        Err(Failure::Stopped) => {}
    }
}

/// Puts a path in place; what it is then, or none if it was left.
fn place<'a>(
    shared: &Shared<'a>,
    workshops: &Workshops<'a>,
    job: &Job<'a>,
    name: &CString,
) -> Result<Option<Identity>, Failure> {
    let there = job.directory.as_ref().is_some_and(|directory| directory.has(name));
    if there
        && shared.request.existing != Existing::Leave
        && let Some(directory) = &job.directory
        && let Some(identity) = already::right(shared, directory.as_fd(), name, &job.entry)?
    {
        shared.count(&shared.same);
        shared.bytes.fetch_add(job.entry.size(), Ordering::Relaxed);
        groups::restored(shared, &job.entry, &job.path, identity);
        return Ok(None);
    }
    if there {
        shared.note_in_the_way(&job.path);
    }
    if there && shared.request.existing == Existing::Leave {
        if let Some(directory) = &job.directory {
            groups::left(shared, directory.as_fd(), name, &job.entry, &job.path);
        }
        shared.count(&shared.left);
        return Ok(None);
    }
    if shared.request.dry_run {
        match (there, shared.request.existing) {
            (true, Existing::Replace) => shared.count(&shared.replaced),
            (true, Existing::Rename) => shared.count(&shared.renamed),
            _ => {}
        }
        return Ok(Some((0, 0)));
    }
    let Some(directory) = &job.directory else {
        return Err(Failure::Path(Cause::new(CauseKind::Missing, "its directory is missing")));
    };
    locked(&shared.current).clone_from(&job.path);
    let workshop = directory.workshop(workshops).map_err(failed)?;
    directory.touch(&workshop);
    let draft = draft_name().map_err(failed)?;
    let made = make(shared, &workshop, &draft, &job.entry, &job.path);
    let placed = made.and_then(|()| {
        // Only what has more names is asked for by it.
        let identity = match job.entry.links {
            Some(_) => identity_of(&workshop, &draft).map_err(failed)?,
            None => (0, 0),
        };
        let placed = put_in_place(shared, &workshop, &draft, directory, name);
        let placed = placed.map_err(Failure::Path)?;
        if !placed {
            shared.count(&shared.left);
        }
        Ok(placed.then_some(identity))
    });
    if !matches!(placed, Ok(Some(_))) {
        // The first failure counts; there may be nothing to remove.
        let _ = unlinkat(&*workshop, &draft, AtFlags::empty());
    }
    placed
}

fn make(
    shared: &Shared<'_>,
    workshop: &Workshop<'_>,
    draft: &CString,
    entry: &Entry,
    path: &[u8],
) -> Result<(), Failure> {
    let at = workshop.as_fd();
    let applied = match &entry.body {
        Body::File { size, recipe } => {
            let flags =
                OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let file = openat(at, draft, flags, Mode::RUSR | Mode::WUSR).map_err(failed)?;
            let (written, ends_in_hole) = write_content(shared, &file, recipe)?;
            if ends_in_hole {
                ftruncate(&file, written).map_err(failed)?;
            }
            if written != *size {
                let words = format!("its content has {written} bytes, not {size}");
                return Err(Failure::Path(Cause::other(words)));
            }
            apply(shared, file.as_fd(), entry, Dress::All)
        }
        Body::Link(target) => {
            symlinkat(target.as_slice(), at, draft).map_err(failed)?;
            apply_in(shared, workshop, draft, entry)
        }
        Body::Pipe => {
            mknodat(at, draft, FileType::Fifo, Mode::RUSR | Mode::WUSR, 0).map_err(failed)?;
            apply_in(shared, workshop, draft, entry)
        }
        Body::Device { kind, major, minor } => {
            let sort = match kind {
                DeviceKind::Character => FileType::CharacterDevice,
                DeviceKind::Block => FileType::BlockDevice,
            };
            mknodat(at, draft, sort, Mode::RUSR | Mode::WUSR, makedev(*major, *minor)).map_err(
                |error| match error {
                    Errno::PERM => {
                        let words = "only root can create devices";
                        Failure::Path(Cause::new(CauseKind::Denied, words))
                    }
                    error => failed(error),
                },
            )?;
            apply_in(shared, workshop, draft, entry)
        }
        Body::Directory { .. } => Ok(()),
    };
    // Content that is there without all that belongs to it is better than no content.
    if let Err(cause) = applied {
        shared.exception(path, cause);
    }
    Ok(())
}

/// Writes the pieces of a file; holes stay holes. The bytes it stands for, and whether the last of them
/// are a hole.
fn write_content(
    shared: &Shared<'_>,
    file: &OwnedFd,
    recipe: &Recipe,
) -> Result<(u64, bool), Failure> {
    let (mut at, mut ends_in_hole) = (0u64, false);
    let mut ahead = Ahead::new(shared.store, recipe);
    let mut run = Vec::new();
    while let Some(item) = ahead.next()? {
        if shared.is_stopped() {
            return Err(Failure::Stopped);
        }
        ends_in_hole = matches!(item, Item::Hole(_));
        match item {
            Item::Hole(length) => {
                at = at.checked_add(length).ok_or_else(too_long)?;
                shared.bytes.fetch_add(length, Ordering::Relaxed);
            }
            Item::Chunk(chunk) => {
                run.clear();
                run.push(chunk);
                ahead.neighbours(&mut run)?;
                at = write_run(shared, file, &run, at)?;
            }
        }
    }
    Ok((at, ends_in_hole))
}

/// Writes chunks that lie beside each other in the store, at once if they are where they should be;
/// where the next belongs.
fn write_run(
    shared: &Shared<'_>,
    file: &OwnedFd,
    run: &[ChunkRef],
    mut at: u64,
) -> Result<u64, Failure> {
    let end = |at: u64, chunk: &ChunkRef| at.checked_add(chunk.length.into()).ok_or_else(too_long);
    let to = run.iter().try_fold(at, end)?;
    let at_once = shared.store.chunks(run, |bytes| write_all(file, bytes, at))?;
    if let Some(written) = at_once {
        written.map_err(failed)?;
        shared.bytes.fetch_add(to - at, Ordering::Relaxed);
        return Ok(to);
    }
    for chunk in run {
        let written = shared.store.chunk(chunk, |bytes| write_all(file, bytes, at))?;
        written.map_err(failed)?;
        at = end(at, chunk)?;
        shared.bytes.fetch_add(chunk.length.into(), Ordering::Relaxed);
    }
    Ok(at)
}

fn too_long() -> Failure {
    Failure::Path(Cause::other("its content is longer than any file can be"))
}

fn write_all(file: &OwnedFd, mut bytes: &[u8], mut at: u64) -> Result<(), Errno> {
    while !bytes.is_empty() {
        match pwrite(file, bytes, at) {
            Ok(0) => return Err(Errno::IO),
            Ok(written) => {
                bytes = &bytes[written..];
                at += written as u64;
            }
            Err(Errno::INTR) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}
