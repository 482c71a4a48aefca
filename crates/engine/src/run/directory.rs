//! Directories of the source: read in windows of names, met with the snapshot before, and put
//! together bottom-up.

use std::sync::Arc;

use skellin_plan::Action;
use skellin_store::{Body, Entry, Fingerprint, Needs, PageRef};

use super::{
    look::{Met, Outcome, gone, skeleton},
    pool::Pool,
    report::Change,
    task::{Directory, Parent, Progress, Task},
};
use crate::{
    error::Result,
    event::Event,
    ground::Trouble,
    locked::locked,
    names::Names,
    path::join,
    walk::{Beside, Sameness, Stamps},
};

/// Names that are in work at a time in one directory.
const WINDOW: usize = 1024;

fn directory_root(entry: &Entry) -> Option<PageRef> {
    match &entry.body {
        Body::Directory { root, .. } => Some(*root),
        _ => None,
    }
}

/// Opens a directory and learns what it is and what is in it.
fn open_and_list<'s>(
    pool: &Pool<'s>,
    directory: &Directory<'s>,
    state: &mut Progress<'s>,
) -> Result<(), Trouble> {
    let ground = directory.ground()?;
    let facts = ground.facts()?;
    let before = state.before.take();
    let stamps = Stamps::of_facts(&facts);
    let same = before.as_ref().filter(|before| stamps.compare(before) == Sameness::Same);
    let xattrs = match same {
        Some(before) => before.xattrs.clone(),
        None => ground.xattrs().unwrap_or_else(|reason| {
            pool.exception(&directory.path, &reason);
            Vec::new()
        }),
    };
    let name = directory.path.rsplit(|b| *b == b'/').next().unwrap_or_default().to_vec();
    let mut entry = skeleton(pool, &facts, name, xattrs);
    entry.links = None;
    state.entry = Some(entry);
    state.base = Beside::new(pool.store, before.as_ref().and_then(directory_root));
    state.resume = Beside::new(pool.store, pool.comparison.resume_point(&directory.path));
    let (names, failure) = ground.names(usize::MAX);
    if let Some(why) = failure {
        pool.exception(&directory.path, &format!("cannot list it completely: {why}"));
    }
    for (name, why) in ground.unfit() {
        pool.exception(&join(&directory.path, name.as_bytes()), why);
    }
    state.names = names;
    Ok(())
}

/// Goes on with a directory: the next windows, until one has work for others, or the end.
pub(super) fn advance<'s>(pool: &Pool<'s>, directory: Arc<Directory<'s>>) -> Result<()> {
    let mut next = Some(directory);
    while let Some(directory) = next.take() {
        if pool.is_stopped() {
            return Ok(());
        }
        if let Some((parent, entry)) = windows(pool, &directory)? {
            next = settle(pool, parent, entry);
        }
    }
    Ok(())
}

/// An entry is finished, or turned out to be none.
pub(super) fn complete<'s>(
    pool: &Pool<'s>,
    parent: Parent<'s>,
    entry: Option<Entry>,
) -> Result<()> {
    match settle(pool, parent, entry) {
        Some(directory) => advance(pool, directory),
        None => Ok(()),
    }
}

/// Hands an entry to its parent; the parent, if that was the last its window waited for.
fn settle<'s>(
    pool: &Pool<'s>,
    parent: Parent<'s>,
    entry: Option<Entry>,
) -> Option<Arc<Directory<'s>>> {
    match parent {
        Parent::Root(number) => {
            pool.root_done(number, entry);
            None
        }
        Parent::Directory(directory, slot) => {
            let mut state = locked(&directory.state);
            if let Some(place) = state.window.get_mut(slot) {
                *place = entry;
            }
            state.pending -= 1;
            let last = state.pending == 0;
            drop(state);
            last.then_some(directory)
        }
    }
}

/// Works through windows until one is left with others; `Some` when the directory is finished.
fn windows<'s>(
    pool: &Pool<'s>,
    directory: &Arc<Directory<'s>>,
) -> Result<Option<(Parent<'s>, Option<Entry>)>> {
    let mut guard = locked(&directory.state);
    let state = &mut *guard;
    pool.set_current(&directory.path);
    if state.entry.is_none() && directory.is_too_deep(pool.deepest) {
        let reason = format!(
            "more than {} directories deep, the limit of open files; raise it (ulimit -n)",
            pool.deepest
        );
        pool.exception(&directory.path, &reason);
        return Ok(Some((directory.parent.clone(), None)));
    }
    if state.entry.is_none()
        && let Err(trouble) = open_and_list(pool, directory, state)
    {
        pool.trouble(&directory.path, trouble);
        return Ok(Some((directory.parent.clone(), None)));
    }
    loop {
        if pool.is_stopped() {
            return Ok(None);
        }
        for entry in std::mem::take(&mut state.window).into_iter().flatten() {
            let counted = entry.counted();
            state.below.files += counted.files;
            state.below.bytes += counted.bytes;
            state.holds_any = true;
            if let Some(session) = pool.session {
                state.builder.push(&**session, &entry)?;
            }
        }
        let names = &state.names;
        let count = names.len();
        let upto = (state.next + WINDOW).min(count);
        if state.next == upto {
            while let Some(entry) = known(pool, state.base.next()) {
                gone(pool, directory, &entry);
            }
            return finish(pool, directory, state).map(Some);
        }
        pool.set_current(&directory.path);
        let (mut files, mut directories) = (Vec::new(), Vec::new());
        // One more than there are, so that nobody thinks the window is done while it is filled.
        state.pending = 1;
        for number in state.next..upto {
            let name = names.get(number);
            let base = state.base.meet(name, |entry| gone(pool, directory, entry));
            let (base, resume) = (known(pool, base), known(pool, state.resume.meet(name, |_| {})));
            let slot = state.window.len();
            let parent = || Parent::Directory(Arc::clone(directory), slot);
            let mut met = Met { pool, directory, name, base, resume, parent: &parent };
            match met.look()? {
                Outcome::Entry(entry) => state.window.push(Some(*entry)),
                Outcome::Nothing => {}
                Outcome::File(task) => {
                    state.window.push(None);
                    state.pending += 1;
                    files.push(Task::File(task));
                }
                Outcome::Directory(below) => {
                    state.window.push(None);
                    state.pending += 1;
                    directories.push(Task::Directory(below));
                }
            }
        }
        state.next = upto;
        if upto == count {
            directory.held.release();
        }
        state.pending -= 1;
        if state.pending > 0 {
            // The stack is taken from its end: files first, which frees memory soonest.
            directories.reverse();
            files.reverse();
            drop(guard);
            pool.push(directories.into_iter().chain(files));
            return Ok(None);
        }
    }
}

/// What an earlier tree has. What cannot be compared is read again.
fn known(pool: &Pool<'_>, met: Result<Option<Entry>>) -> Option<Entry> {
    met.unwrap_or_else(|error| {
        pool.events.event(Event::Note(format!("{error}; reading those files again")));
        None
    })
}

fn finish<'s>(
    pool: &Pool<'s>,
    directory: &Directory<'s>,
    state: &mut Progress<'s>,
) -> Result<(Parent<'s>, Option<Entry>)> {
    state.names = Names::default();
    if directory.verdict.action == Action::Skip && !state.holds_any {
        // It was entered for what might be taken below it, and there was nothing.
        pool.count(Change::Skipped, &directory.path, 0, directory.verdict.rule);
        return Ok((directory.parent.clone(), None));
    }
    let (root, needs) = match pool.session {
        Some(session) => {
            let (root, needs) = std::mem::take(&mut state.builder).finish(&**session)?;
            session.checkpoint(&directory.path, &root)?;
            (root, needs)
        }
        None => (PageRef::unplaced(Fingerprint([0; 32])), Needs::default()),
    };
    let body = Body::Directory { root, needs, below: state.below };
    let entry = state.entry.take().map(|entry| Entry { body, ..entry });
    Ok((directory.parent.clone(), entry))
}
