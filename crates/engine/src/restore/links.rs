//! Files with several names: the content is written once, the other names are linked to it when
//! all content is there.

use std::{
    ffi::CString,
    os::fd::AsFd,
    sync::{Arc, atomic::Ordering},
};

use crossbeam_channel::Receiver;
use rustix::fs::{AtFlags, futimens, linkat, statat};
use skellin_store::Entry;

use super::{
    Existing, Shared,
    drafts::Workshops,
    groups::{First, identity_of},
    own::draft_name,
    target::{OpenDirectory, is_there, put_in_place},
    unfinished::times_of,
    whereabouts::parent_of,
    write::{self, Job},
};
use crate::{
    cause::{Cause, CauseKind},
    error::Result,
    locked::locked,
};

/// What became of a further name.
enum Placed {
    Restored,
    /// Something else has the name and stays.
    Left,
    /// It is a name of that file already.
    Same,
}

impl Placed {
    fn of(is_restored: bool) -> Self {
        if is_restored { Self::Restored } else { Self::Left }
    }
}

/// Restores what comes, until nothing more does.
pub(super) fn work<'a>(
    shared: &'a Shared<'a>,
    workshops: &Workshops<'a>,
    jobs: &Receiver<Vec<Job<'a>>>,
) {
    for job in jobs.into_iter().flatten() {
        // What is still in the channel after a stop is let go of unwritten.
        match (shared.is_stopped(), job.is_repeated) {
            (true, _) => {}
            (false, true) => repeated(shared, workshops, &job),
            (false, false) => write::one(shared, workshops, &job),
        }
    }
}

/// A name whose content is sent under another: it is linked if that is there, and put off else.
fn repeated<'a>(shared: &'a Shared<'a>, workshops: &Workshops<'a>, job: &Job<'a>) {
    let mut links = locked(&shared.links);
    let Some(first) = links.first(&job.entry) else {
        return links.repeated.push((job.path.clone(), job.entry.clone()));
    };
    drop(links);
    if let Some(directory) = &job.directory
        && let Err(error) = make(shared, workshops, directory, &first, (&job.entry, &job.path))
    {
        shared.fail(error);
    }
}

/// Links the names that were put off, now that all content is there.
pub(super) fn finish<'a>(shared: &'a Shared<'a>, workshops: &Workshops<'a>) -> Result<()> {
    let repeated = std::mem::take(&mut locked(&shared.links).repeated);
    for (path, entry) in repeated {
        if shared.is_stopped() {
            return Ok(());
        }
        let Some(directory) = parent_of(shared, &path)? else {
            shared.exception(&path, Cause::new(CauseKind::Missing, "its directory does not exist"));
            continue;
        };
        let first = locked(&shared.links).first(&entry);
        match first {
            Some(first) => make(shared, workshops, &directory, &first, (&entry, &path))?,
            None => own_content(shared, workshops, &directory, (&entry, &path)),
        }
    }
    Ok(())
}

/// Links a name to the first of its content.
fn make<'a>(
    shared: &'a Shared<'a>,
    workshops: &Workshops<'a>,
    directory: &Arc<OpenDirectory<'a>>,
    first: &First,
    (entry, path): (&Entry, &[u8]),
) -> Result<()> {
    match link(shared, workshops, directory, first, entry)? {
        Some(Ok(Placed::Restored)) => {
            shared.count(&shared.restored);
            shared.bytes.fetch_add(entry.size(), Ordering::Relaxed);
            shared.restored_bytes.fetch_add(entry.size(), Ordering::Relaxed);
        }
        Some(Ok(Placed::Left)) => shared.count(&shared.left),
        Some(Ok(Placed::Same)) => shared.count(&shared.same),
        Some(Err(cause)) => shared.exception(path, cause),
        None => own_content(shared, workshops, directory, (entry, path)),
    }
    Ok(())
}

/// The first name of a file was left or failed, or the file system links nothing: a file of its own has
/// the same content.
fn own_content<'a>(
    shared: &'a Shared<'a>,
    workshops: &Workshops<'a>,
    directory: &Arc<OpenDirectory<'a>>,
    (entry, path): (&Entry, &[u8]),
) {
    let (directory, entry, path) = (Some(Arc::clone(directory)), entry.clone(), path.to_vec());
    write::one(shared, workshops, &Job { directory, entry, path, is_repeated: false });
}

/// Links a name; `None` if that is not possible here.
fn link<'a>(
    shared: &'a Shared<'a>,
    workshops: &Workshops<'a>,
    directory: &Arc<OpenDirectory<'a>>,
    first: &First,
    entry: &Entry,
) -> Result<Option<Result<Placed, Cause>>> {
    let Some(from) = parent_of(shared, &first.path())? else { return Ok(None) };
    let (Ok(first_name), Ok(name)) = (CString::new(first.name()), CString::new(entry.name.clone()))
    else {
        return Ok(None);
    };
    let at = directory.as_fd();
    let there = statat(at, &name, AtFlags::SYMLINK_NOFOLLOW);
    if there.is_ok_and(|there| (there.st_dev, there.st_ino) == first.identity) {
        return Ok(Some(Ok(Placed::Same)));
    }
    if is_there(at, &name) && shared.request.existing == Existing::Leave {
        return Ok(Some(Ok(Placed::Left)));
    }
    let before = times_of(at).ok();
    let (Ok(workshop), Ok(draft)) = (workshops.beside(Arc::clone(directory) as _), draft_name())
    else {
        return Ok(None);
    };
    directory.touch(&workshop);
    if linkat(from.as_fd(), &first_name, &*workshop, &draft, AtFlags::empty()).is_err() {
        return Ok(None);
    }
    // Whoever may write where the first name is could have put something else there.
    let is_it = identity_of(&workshop, &draft).is_ok_and(|linked| linked == first.identity);
    let placed = match is_it {
        true => Some(put_in_place(shared, &workshop, &draft, directory, &name)),
        false => None,
    };
    // Renaming one of two names of the same file to the other does nothing and leaves both.
    let _ = rustix::fs::unlinkat(&*workshop, &draft, AtFlags::empty());
    let Some(placed) = placed.map(|placed| placed.map(Placed::of)) else { return Ok(None) };
    if let Some(before) = before {
        // The directory has got its times already; linking has moved them.
        let _ = futimens(at, &before);
    }
    Ok(Some(placed))
}
