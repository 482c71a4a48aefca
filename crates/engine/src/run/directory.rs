//! Directories of the source: read in windows of names, met with the snapshot before, and put
//! together bottom-up.

use std::sync::Arc;

use skellin_plan::Action;
use skellin_store::{Body, Entry, PageRef};

use super::{
    look::{Met, Outcome, gone, skeleton},
    pool::Pool,
    report::Change,
    task::{Directory, Parent, Progress, Task},
};
use crate::{
    cause::Cause,
    error::Result,
    event::Event,
    locked::locked,
    names::Names,
    path::join,
    sources::Trouble,
    walk::{Assembled, Beside, Sameness, Stamps, WINDOW},
};

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
    let source_dir = directory.source_dir()?;
    let facts = source_dir.facts()?;
    let before = state.before.take();
    let stamps = Stamps::of_facts(&facts);
    let same = before.as_ref().filter(|before| stamps.compare(before) == Sameness::Same);
    let xattrs = match same {
        Some(before) => before.xattrs.clone(),
        None => source_dir.xattrs().unwrap_or_else(|cause| {
            pool.exception(&directory.path, cause);
            Vec::new()
        }),
    };
    let name = directory.path.rsplit(|b| *b == b'/').next().unwrap_or_default().to_vec();
    let mut entry = skeleton(pool, &facts, name, xattrs);
    entry.links = None;
    state.entry = Some(entry);
    state.base = Beside::new(pool.store, before.as_ref().and_then(directory_root));
    state.resume = Beside::new(pool.store, pool.comparison.resume_point(&directory.path));
    let (names, failure) = source_dir.names(usize::MAX);
    if let Some(error) = failure {
        pool.exception(&directory.path, Cause::of("cannot list it completely", error));
    }
    for (name, why) in source_dir.unfit() {
        pool.exception(&join(&directory.path, name.as_bytes()), Cause::other(*why));
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
            let last = state.assembly.fill(slot, entry);
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
    pool.activity.begin(&directory.path);
    if state.entry.is_none() && directory.is_too_deep(pool.deepest) {
        pool.exception(&directory.path, Cause::too_deep(pool.deepest));
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
        state.assembly.take_window(pool.session)?;
        let names = &state.names;
        let count = names.len();
        let upto = (state.next + WINDOW).min(count);
        if state.next == upto {
            while let Some(entry) = known(pool, state.base.next()) {
                gone(pool, directory, &entry);
            }
            return finish(pool, directory, state).map(Some);
        }
        pool.activity.begin(&directory.path);
        let (mut files, mut directories) = (Vec::new(), Vec::new());
        // One more than there are, so that nobody thinks the window is done while it is filled.
        state.assembly.hold();
        for number in state.next..upto {
            let name = names.get(number);
            let base = state.base.meet(name, |entry| gone(pool, directory, entry));
            let (base, resume) = (known(pool, base), known(pool, state.resume.meet(name, |_| {})));
            let slot = state.assembly.next_place();
            let parent = || Parent::Directory(Arc::clone(directory), slot);
            let mut met = Met { pool, directory, name, base, resume, parent: &parent };
            match met.look()? {
                Outcome::Entry(entry) => state.assembly.put(*entry),
                Outcome::Nothing => {}
                Outcome::File(task) => {
                    state.assembly.reserve();
                    files.push(Task::File(task));
                }
                Outcome::Directory(below) => {
                    state.assembly.reserve();
                    directories.push(Task::Directory(below));
                }
            }
        }
        state.next = upto;
        if upto == count {
            directory.held.release();
        }
        if !state.assembly.release() {
            // The stack is taken from its end: files first, which frees memory soonest.
            directories.reverse();
            files.reverse();
            drop(guard);
            pool.tasks.push(directories.into_iter().chain(files));
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
    if directory.verdict.action == Action::Skip && !state.assembly.holds_any() {
        // It was entered for what might be taken below it, and there was nothing.
        pool.counts.count(Change::Skipped, &directory.path, 0, directory.verdict.rule);
        return Ok((directory.parent.clone(), None));
    }
    let Assembled { root, needs, below } =
        std::mem::take(&mut state.assembly).finish(pool.session)?;
    if let Some(session) = pool.session {
        session.checkpoint(&directory.path, &root)?;
    }
    let body = Body::Directory { root, needs, below };
    let entry = state.entry.take().map(|entry| Entry { body, ..entry });
    Ok((directory.parent.clone(), entry))
}
