//! What workers store under, and what becomes of a file when its content has its place in the store.

use std::os::fd::OwnedFd;

use skellin_store::{Body, Content};

use super::{
    directory::complete,
    long::PartTag,
    pool::{Linked, MOST_LINKED, Pool},
    report::Change,
    task::FileTask,
};
use crate::{
    cause::{Cause, CauseKind},
    error::Result,
    locked::locked,
    metadata::{Facts, fd},
};

/// What a worker stores under.
pub(super) enum Tag<'s> {
    File(Box<FileTask<'s>>),
    Part(Box<PartTag<FileTask<'s>>>),
}

/// A file's content has its place in the store: its entry goes to its directory.
pub(super) fn finished<'s>(pool: &Pool<'s>, task: FileTask<'s>, content: Content) -> Result<()> {
    let FileTask { parent, mut entry, change, doubted, path, rule, .. } = task;
    if let Some(identity) = entry.links {
        let mut linked = locked(&pool.linked);
        if linked.len() < MOST_LINKED {
            let (changed, recipe) = (entry.changed, content.recipe.clone());
            linked.insert(identity, Linked { changed, size: content.size, recipe });
        }
    }
    entry.body = Body::File { size: content.size, recipe: content.recipe };
    let is_same = doubted.is_some_and(|before| before.same_content(&entry.body));
    pool.counts.count_read(if is_same { Change::Same } else { change }, &path, entry.size(), rule);
    complete(pool, parent, Some(entry))
}

/// What became of an open file since, if it is not what it was.
pub(super) fn changed_since(file: &OwnedFd, facts: &Facts) -> Option<Cause> {
    how_changed(Facts::of(fd(file)).ok(), facts, true)
}

pub(super) fn how_changed(after: Option<Facts>, facts: &Facts, whole: bool) -> Option<Cause> {
    match after {
        Some(after) if after.is_same_state(facts) && whole => None,
        Some(after) if after.size() > facts.size() => {
            let words = "it grew while it was read; the content up to then is stored";
            Some(Cause::new(CauseKind::Moving, words))
        }
        _ => {
            let words = "it changed while it was read; what was read is stored";
            Some(Cause::new(CauseKind::Moving, words))
        }
    }
}
