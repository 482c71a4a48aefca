//! What lies below a restored directory and is not in the snapshot, removed so that the directory is
//! what it was. Everything is met from one open directory to the next, as in the restore itself.
//!
//! What stays: what the rules of the plan exclude, and so no snapshot holds; sockets; other file
//! systems; directories of our own; and all of a directory of which the store cannot say everything.

use std::{
    collections::HashSet,
    ffi::{CStr, CString, OsStr},
    os::{
        fd::{AsFd, BorrowedFd},
        unix::ffi::OsStrExt,
    },
    path::Path,
};

use rustix::fs::{AtFlags, FileType, futimens, statat};
use skellin_plan::{Action, RuleSet, Verdict};
use skellin_store::{Body, PageRef};

use super::{
    Destination, Extra, MOST_EXCEPTIONS, Shared, own::is_ours, removing, unfinished::times_of,
    whereabouts::itself,
};
use crate::{
    cause::{Cause, CauseKind},
    error::{EngineError, Result},
    filter::Filter,
    history::Located,
    locked::locked,
    metadata::Owners,
    names::Names,
    path::join,
    sources::{Origin, SourceDir, Trouble},
    walk::{Beside, Filtering},
};

/// Removes what the snapshot does not have below each restored directory, if that was asked for and
/// everything else went well enough to go on.
pub(super) fn remove(shared: &Shared<'_>) -> Result<()> {
    let Extra::Remove { by } = shared.request.extra else { return Ok(()) };
    let in_place = *shared.request.destination == Destination::InPlace;
    for located in shared.request.paths {
        if shared.is_stopped() {
            return Ok(());
        }
        let rules = by.filter(|_| in_place).map(|plan| &plan.rules);
        below(shared, located, rules)?;
    }
    Ok(())
}

/// A directory that is gone through beside what it was.
struct Frame<'s> {
    directory: SourceDir,
    names: Names,
    next: usize,
    before: Beside<'s>,
    path: Vec<u8>,
    verdict: Verdict,
}

impl<'s> Frame<'s> {
    fn new(
        shared: &Shared<'s>,
        directory: SourceDir,
        before: Option<PageRef>,
        (path, verdict): (Vec<u8>, Verdict),
    ) -> Self {
        let (names, _) = directory.names(usize::MAX);
        let before = Beside::new(shared.store, before);
        Self { directory, names, next: 0, before, path, verdict }
    }

    fn handle(&self) -> Option<BorrowedFd<'_>> {
        match &self.directory {
            SourceDir::Here(handle) => Some(handle.as_fd()),
            SourceDir::Far(_) => None,
        }
    }
}

/// By what the names of a restored directory are judged: the rules of its plan, or none.
struct Judge<'a> {
    filter: Option<(Filter, Owners)>,
    keep: &'a HashSet<(u64, u64)>,
}

/// What a name is to be.
enum Judged {
    /// It is what the snapshot would have, had it been there.
    Included,
    /// It stays; something below it may be included.
    Entered(Verdict),
    Stays,
}

impl Judge<'_> {
    /// The verdict on a restored directory, by way of those above it.
    fn start(&self, shared: &Shared<'_>, located: &Located) -> Result<Verdict> {
        let Some((filter, owners)) = &self.filter else { return Ok(Verdict::TAKEN) };
        let source = &shared.request.snapshot.sources[located.source];
        let path = Path::new(OsStr::from_bytes(&source.path));
        let failed = |trouble: Trouble| trouble.on(path);
        let filtering = Filtering { filter, owners, keep_out: self.keep };
        filtering.verdict_at(path, &located.path).map_err(failed)
    }

    fn judge(&self, frame: &Frame<'_>, name: &[u8]) -> Result<(Judged, Verdict), Trouble> {
        let Some((filter, owners)) = &self.filter else {
            return Ok((Judged::Included, Verdict::TAKEN));
        };
        let filtering = Filtering { filter, owners, keep_out: self.keep };
        let at = (frame.path.as_slice(), frame.verdict);
        let Some(looked) = filtering.look(at, &frame.directory, name)? else {
            return Ok((Judged::Stays, frame.verdict));
        };
        let judged = match (looked.verdict.action, looked.is_entered) {
            (Action::Take, _) => Judged::Included,
            (Action::Skip, true) => Judged::Entered(looked.verdict),
            (Action::Skip, false) => Judged::Stays,
        };
        Ok((judged, looked.verdict))
    }
}

fn below(shared: &Shared<'_>, located: &Located, rules: Option<&RuleSet>) -> Result<()> {
    let Body::Directory { root, .. } = located.entry.body else { return Ok(()) };
    let Some(directory) = itself(shared, located)? else { return Ok(()) };
    let handle = rustix::io::fcntl_dupfd_cloexec(directory.as_fd(), 0);
    let handle = handle
        .map_err(|error| EngineError::local("open", OsStr::from_bytes(&located.path), error))?;
    let source = &shared.request.snapshot.sources[located.source];
    let source = Path::new(OsStr::from_bytes(&source.path));
    let now = jiff::Timestamp::now().as_millisecond();
    let filter = rules.map(|rules| Filter::new(rules, Origin::Here, source, now)).transpose()?;
    let judge =
        Judge { filter: filter.map(|filter| (filter, Owners::default())), keep: &shared.keep };
    let verdict = judge.start(shared, located)?;
    let at = (located.path.clone(), verdict);
    let mut frames = vec![Frame::new(shared, SourceDir::Here(handle), Some(root), at)];
    while let Some(frame) = frames.last_mut() {
        if shared.is_stopped() {
            return Ok(());
        }
        if frame.next == frame.names.len() {
            frames.pop();
            continue;
        }
        let name = frame.names.get(frame.next).to_vec();
        frame.next += 1;
        let was = match frame.before.meet(&name, |_| {}) {
            Ok(was) => was,
            // What was here is not known: nothing more goes.
            Err(EngineError::Store(error)) if error.is_unreadable() => {
                shared.unreadable(&frame.path, &error);
                frame.next = frame.names.len();
                continue;
            }
            Err(error) => return Err(error),
        };
        let was = was.map(|entry| match entry.body {
            Body::Directory { root, .. } => Some(root),
            _ => None,
        });
        let deeper = match met(shared, frame, &judge, &name, was) {
            Ok(deeper) => deeper,
            Err(cause) => {
                shared.exception(&join(&frame.path, &name), cause);
                None
            }
        };
        match deeper {
            Some(_) if frames.len() >= shared.deepest => {
                let path = join(&frames[frames.len() - 1].path, &name);
                shared.exception(&path, Cause::too_deep(shared.deepest));
            }
            deeper => frames.extend(deeper),
        }
    }
    Ok(())
}

/// A name that is there: gone into if it was there and is a directory; removed if it was not there and is
/// included.
fn met<'s>(
    shared: &Shared<'s>,
    frame: &Frame<'s>,
    judge: &Judge<'_>,
    name: &[u8],
    was: Option<Option<PageRef>>,
) -> Result<Option<Frame<'s>>, Cause> {
    let path = join(&frame.path, name);
    let Ok(c_name) = CString::new(name) else { return Ok(None) };
    let judged = match judge.judge(frame, name) {
        Err(trouble) if trouble.is_not_there() => return Ok(None),
        judged => judged.map_err(|trouble| trouble.cause(true))?,
    };
    let enter = |root, verdict| {
        let opened = frame.directory.open(&c_name).map_err(|trouble| trouble.cause(true))?;
        let is_own = opened.facts().is_ok_and(|facts| judge.keep.contains(&facts.identity()));
        if is_own {
            return Ok(None);
        }
        Ok(Some(Frame::new(shared, opened, root, (path.clone(), verdict))))
    };
    match (was, judged) {
        (Some(Some(root)), (_, verdict)) => match enter(Some(root), verdict) {
            // Something else has its name, which the restore has told of.
            Err(_) => Ok(None),
            entered => entered,
        },
        (Some(None), _) | (None, (Judged::Stays, _)) => Ok(None),
        (None, (Judged::Entered(verdict), _)) => enter(None, verdict),
        (None, (Judged::Included, _)) => {
            let Some(handle) = frame.handle() else { return Ok(None) };
            if is_kept_aside(shared, name) || is_ours(name) {
                return Ok(None);
            }
            if is_case_blind(handle, &frame.names, &c_name) {
                let words = "not in the snapshot, but this file system ignores case: kept";
                return Err(Cause::new(CauseKind::InTheWay, words));
            }
            let before = times_of(handle).ok();
            let is_gone = extra(shared, handle, &c_name, &path)?;
            if let Some(before) = before.filter(|_| is_gone && !shared.request.dry_run) {
                let _ = futimens(handle, &before);
            }
            Ok(None)
        }
    }
}

/// Whether this restore has put something aside under this name.
fn is_kept_aside(shared: &Shared<'_>, name: &[u8]) -> bool {
    let mark = format!(".kept-{}", shared.request.stamp);
    name.windows(mark.len()).any(|part| part == mark.as_bytes())
}

/// Whether the file system takes names that differ in case for the same: then the name of something that is
/// in the snapshot may be spelled otherwise here.
fn is_case_blind(at: BorrowedFd<'_>, names: &Names, name: &CStr) -> bool {
    let flip = |byte: &u8| match byte.is_ascii_lowercase() {
        true => byte.to_ascii_uppercase(),
        false => byte.to_ascii_lowercase(),
    };
    let flipped: Vec<u8> = name.to_bytes().iter().map(flip).collect();
    if flipped == name.to_bytes() || names.find(&flipped).is_some() {
        return false;
    }
    statat(at, flipped.as_slice(), AtFlags::SYMLINK_NOFOLLOW).is_ok()
}

/// Something that is not in the snapshot; whether it is gone, or would be.
fn extra(shared: &Shared<'_>, at: BorrowedFd<'_>, name: &CStr, path: &[u8]) -> Result<bool, Cause> {
    let Ok(there) = statat(at, name, AtFlags::SYMLINK_NOFOLLOW) else { return Ok(false) };
    if FileType::from_raw_mode(there.st_mode) == FileType::Socket {
        return Ok(false);
    }
    let is_gone = removing::tree(shared, at, (name, &there), path)?;
    if is_gone {
        let mut extras = locked(&shared.extras);
        if extras.len() < MOST_EXCEPTIONS {
            extras.push(path.to_vec());
        }
    }
    Ok(is_gone)
}
