//! A name of a directory: what it is, whether it is included, and what became of it since the
//! snapshot before.

use std::{
    ffi::{CStr, CString},
    sync::Arc,
};

use skellin_plan::{Action, Verdict};
use skellin_store::{Below, Body, DeviceKind, Entry, Owner, Recipe};

use super::{
    pool::Pool,
    report::Change,
    task::{Directory, FileTask, From, Hold, Parent, new_directory},
};
use crate::{
    cause::Cause,
    error::Result,
    event::Event,
    metadata::{Facts, Sort, Xattrs},
    path::join,
    sources::SourceDir,
    walk::{Looked, Sameness, Stamps},
};

/// What a name turned out to be.
pub(super) enum Outcome<'s> {
    Entry(Box<Entry>),
    Nothing,
    File(Box<FileTask<'s>>),
    Directory(Arc<Directory<'s>>),
}

/// A name that is met.
pub(super) struct Met<'a, 's> {
    pub pool: &'a Pool<'s>,
    pub directory: &'a Arc<Directory<'s>>,
    pub name: &'a [u8],
    pub base: Option<Entry>,
    pub resume: Option<Entry>,
    pub parent: &'a dyn Fn() -> Parent<'s>,
}

impl<'s> Met<'_, 's> {
    /// Looks what it is and what becomes of it.
    pub fn look(&mut self) -> Result<Outcome<'s>> {
        let (pool, directory) = (self.pool, self.directory);
        // Without rules made ready nothing of a source is gone through.
        let Ok(filter) = &pool.filters[directory.source] else { return Ok(Outcome::Nothing) };
        let looked = directory.source_dir().and_then(|source_dir| {
            let at = (directory.path.as_slice(), directory.verdict);
            let looked = pool.filtering(filter).look(at, &source_dir, self.name)?;
            Ok(looked.map(|looked| (source_dir, looked)))
        });
        let (source_dir, looked) = match looked {
            Ok(Some(looked)) => looked,
            Ok(None) => return Ok(Outcome::Nothing),
            Err(trouble) => {
                pool.trouble(&join(&directory.path, self.name), trouble);
                return Ok(Outcome::Nothing);
            }
        };
        let Looked { name, path, facts, verdict, is_own, is_entered } = looked;
        let is_directory = facts.sort() == Sort::Directory;
        pool.counts.decide(verdict);
        if is_own {
            let text = String::from_utf8_lossy(&path);
            pool.events.event(Event::Note(format!("{text} belongs to Skellin and is excluded")));
        }
        if verdict.action == Action::Skip && !is_entered {
            pool.counts.count(Change::Skipped, &path, facts.size(), verdict.rule);
            if let Some(base) = self.base.take() {
                gone(pool, directory, &base);
            }
            return Ok(Outcome::Nothing);
        }
        // A directory in place of a file, or the other way round, is something else altogether.
        let replaced =
            |base: &mut Entry| matches!(base.body, Body::Directory { .. }) != is_directory;
        if let Some(base) = self.base.take_if(replaced) {
            gone(pool, directory, &base);
        }
        match facts.sort() {
            Sort::Directory => Ok(self.directory(path, name, verdict)),
            Sort::File => self.file(path, (&source_dir, name), &facts, verdict),
            Sort::Socket => {
                pool.counts.sockets.add(1);
                Ok(Outcome::Nothing)
            }
            Sort::Unknown => {
                pool.exception(&path, Cause::other("unknown kind of file"));
                Ok(Outcome::Nothing)
            }
            sort => self.special(&path, (&source_dir, &name), &facts, sort, verdict),
        }
    }

    fn directory(&mut self, path: Vec<u8>, name: CString, verdict: Verdict) -> Outcome<'s> {
        let (source, parent) = (self.directory.source, (self.parent)());
        Outcome::Directory(new_directory(name, path, source, verdict, parent, self.base.take()))
    }

    fn file(
        &mut self,
        path: Vec<u8>,
        (source_dir, name): (&SourceDir, CString),
        facts: &Facts,
        verdict: Verdict,
    ) -> Result<Outcome<'s>> {
        let pool = self.pool;
        let change = if self.base.is_some() { Change::Changed } else { Change::New };
        let mut read_again = None;
        if let Some(base) = self.base.take() {
            match take_over(pool, facts, base)? {
                Taken::Over(entry) => {
                    pool.counts.count(Change::Same, &path, entry.size(), verdict.rule);
                    return Ok(Outcome::Entry(entry));
                }
                Taken::Not(base) => read_again = doubted(facts, *base),
            }
        }
        if let Some(stored) = self.resume.take()
            && let Taken::Over(entry) = take_over(pool, facts, stored)?
        {
            pool.counts.count(change, &path, entry.size(), verdict.rule);
            pool.counts.files.add(1);
            pool.counts.bytes.add(entry.size());
            return Ok(Outcome::Entry(entry));
        }
        let mut entry = skeleton(pool, facts, self.name.to_vec(), Vec::new());
        if pool.session.is_none() {
            // A dry run knows all it wants to know. What is read again only because it was read
            // so soon after its last change most likely holds what it held.
            pool.counts.read.add(facts.size());
            if read_again.is_some() {
                pool.counts.count(Change::Same, &path, facts.size(), verdict.rule);
            } else {
                pool.counts.count(change, &path, facts.size(), verdict.rule);
                pool.draw.pass(&path, facts.size());
                pool.counts.files.add(1);
                pool.counts.bytes.add(facts.size());
            }
            entry.body = Body::File { size: facts.size(), recipe: Recipe::Inline(Vec::new()) };
            if let Err(trouble) = source_dir.can_read(&name) {
                pool.trouble(&path, trouble);
                return Ok(Outcome::Nothing);
            }
            return Ok(Outcome::Entry(Box::new(entry)));
        }
        let parent = (self.parent)();
        let from = From::Directory(Hold::new(self.directory));
        let (rule, facts, fetched, doubted) = (verdict.rule, *facts, None, read_again);
        let task =
            FileTask { parent, from, name, path, entry, change, doubted, rule, facts, fetched };
        Ok(Outcome::File(Box::new(task)))
    }

    fn special(
        &mut self,
        path: &[u8],
        (source_dir, name): (&SourceDir, &CStr),
        facts: &Facts,
        sort: Sort,
        verdict: Verdict,
    ) -> Result<Outcome<'s>> {
        let pool = self.pool;
        let device = |kind| {
            let (major, minor) = facts.numbers;
            Body::Device { kind, major, minor }
        };
        let body = match sort {
            Sort::Link => match source_dir.link(name) {
                Ok(target) => Body::Link(target),
                Err(trouble) => {
                    pool.trouble(path, trouble);
                    return Ok(Outcome::Nothing);
                }
            },
            Sort::Character => device(DeviceKind::Character),
            Sort::Block => device(DeviceKind::Block),
            _ => Body::Pipe,
        };
        let xattrs = source_dir.xattrs_at(name).unwrap_or_else(|cause| {
            pool.exception(path, cause);
            Vec::new()
        });
        let mut entry = skeleton(pool, facts, self.name.to_vec(), xattrs);
        entry.body = body;
        let change = match self.base.take() {
            None => Change::New,
            // The target of a link is read each time, and a device costs nothing to look at.
            Some(base) if (Entry { unsettled: entry.unsettled, ..base.clone() }) == entry => {
                Change::Same
            }
            Some(_) => Change::Changed,
        };
        pool.counts.count(change, path, 0, verdict.rule);
        if change != Change::Same {
            pool.counts.files.add(1);
        }
        Ok(Outcome::Entry(Box::new(entry)))
    }
}

/// A file that an earlier tree has.
pub(super) enum Taken {
    /// It is unchanged, and this is its entry.
    Over(Box<Entry>),
    /// It has to be read; the earlier entry is given back.
    Not(Box<Entry>),
}

/// An unchanged file as an earlier tree has it, if its content can be taken over.
pub(super) fn take_over(pool: &Pool<'_>, facts: &Facts, known: Entry) -> Result<Taken> {
    let mut known = Box::new(known);
    let sameness = Stamps::of_facts(facts).compare(&known);
    let whole = match &mut known.body {
        Body::File { recipe, .. } if sameness == Sameness::Same => {
            pool.comparison.take_over(recipe)?
        }
        _ => false,
    };
    Ok(if whole { Taken::Over(known) } else { Taken::Not(known) })
}

/// What a file held that looks unchanged, and is read again only because it was read so soon after
/// its last change, or because the store has lost what it held. If it still holds that, nobody
/// changed it.
pub(super) fn doubted(facts: &Facts, known: Entry) -> Option<Box<Body>> {
    let sameness = Stamps::of_facts(facts).compare(&known);
    (sameness != Sameness::Different).then(|| Box::new(known.body))
}

/// An entry with everything but its body.
pub(super) fn skeleton(pool: &Pool<'_>, facts: &Facts, name: Vec<u8>, xattrs: Xattrs) -> Entry {
    let owner: Owner = pool.owners.of(facts);
    Entry {
        name,
        mode: facts.mode,
        owner,
        modified: facts.modified(),
        changed: facts.changed(),
        inode: facts.inode,
        links: (facts.links > 1).then(|| facts.identity()),
        unsettled: facts.is_unsettled(),
        xattrs,
        body: Body::Pipe,
    }
}

/// Counts what was in the snapshot before and is there no longer.
pub(super) fn gone(pool: &Pool<'_>, directory: &Directory<'_>, entry: &Entry) {
    let path = join(&directory.path, &entry.name);
    match entry.counted() {
        Below { files: 1, bytes } => pool.counts.count(Change::Gone, &path, bytes, None),
        Below { files, bytes } => {
            pool.counts.count_gone(files.saturating_sub(1));
            if files > 0 {
                pool.counts.count(Change::Gone, &path, bytes, None);
            }
        }
    }
}
