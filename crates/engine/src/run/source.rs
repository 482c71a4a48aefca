//! Sources: where a run begins.

use std::{ffi::CString, os::unix::ffi::OsStrExt};

use skellin_plan::Action;
use skellin_store::Entry;

use super::{
    look::{Taken, doubted, skeleton, take_over},
    pool::Pool,
    report::Change,
    task::{FileTask, From, Parent, Task, new_directory},
};
use crate::{
    cause::Cause,
    error::{EngineError, Result},
    event::Event,
    metadata::Sort,
    sources::{FarFile, Origin, Trouble},
};

/// Puts the sources on the stack; how many there are.
pub(super) fn start(pool: &Pool<'_>) -> Result<usize> {
    pool.tasks.expect_roots(pool.sources.len());
    let (mut begun, mut unreached) = (0, None);
    for number in 0..pool.sources.len() {
        let path = &pool.sources[number].path;
        let real = path.canonicalize().unwrap_or_else(|_| path.clone());
        if let Some(ours) = pool.keep_out_paths.iter().find(|ours| real.starts_with(ours)) {
            let text = format!(
                "source {} is inside {}, which belongs to Skellin; it is excluded",
                path.display(),
                ours.display()
            );
            pool.events.event(Event::Note(text));
            pool.root_done(number, None);
            continue;
        }
        match begin_source(pool, number) {
            Ok(Begun::Task(task)) => {
                begun += 1;
                pool.tasks.push([task]);
            }
            Ok(Begun::Finished(entry)) => {
                begun += 1;
                pool.root_done(number, entry.map(|entry| *entry));
            }
            Err(unread) => {
                let cause = match unread {
                    Unread::Because(cause) => cause,
                    Unread::Way(failure) => {
                        let cause = Cause::other(failure.to_string());
                        unreached.get_or_insert(failure);
                        cause
                    }
                };
                pool.exception(path.as_os_str().as_bytes(), cause);
                pool.root_done(number, None);
            }
        }
    }
    match unreached {
        // Nothing but hosts that are away: that is what has to be told.
        Some(failure) if begun == 0 => Err(failure),
        _ => Ok(begun),
    }
}

/// How a source begins.
enum Begun<'s> {
    /// With something to do.
    Task(Task<'s>),
    /// It is finished: unchanged, or skipped.
    Finished(Option<Box<Entry>>),
}

/// Why a source cannot be read.
enum Unread {
    /// For this reason.
    Because(Cause),
    /// Its host cannot be asked.
    Way(EngineError),
}

impl std::convert::From<Trouble> for Unread {
    fn from(trouble: Trouble) -> Self {
        match trouble.of_the_way() {
            Ok(failure) => Self::Way(failure),
            Err(trouble) => Self::Because(trouble.cause(false)),
        }
    }
}

/// Begins a source.
fn begin_source<'s>(pool: &Pool<'s>, number: usize) -> Result<Begun<'s>, Unread> {
    let path = &pool.sources[number].path;
    let bytes = path.as_os_str().as_bytes();
    let because = |words: &str| Unread::Because(Cause::other(words));
    let filter = pool.filters[number].as_ref().map_err(|cause| Unread::Because(cause.clone()))?;
    let origin = filter.origin();
    // A source that is a symbolic link means what it points to.
    let facts = origin.facts(path, true)?;
    let is_directory = facts.sort() == Sort::Directory;
    let verdict = filter.source(bytes, &facts, &pool.owners);
    let enter = is_directory && filter.may_take_below(verdict, bytes);
    if verdict.action == Action::Skip && !enter {
        pool.counts.count(Change::Skipped, bytes, 0, verdict.rule);
        return Ok(Begun::Finished(None));
    }
    let base = root_entry(pool, number);
    if is_directory {
        // Opened at once: a source that cannot be read is told before anything else.
        let source_dir = origin.open(path)?;
        let parent = Parent::Root(number);
        let directory =
            new_directory(CString::default(), bytes.to_vec(), number, verdict, parent, base);
        directory.held.put(source_dir);
        return Ok(Begun::Task(Task::Directory(directory)));
    }
    if facts.sort() != Sort::File {
        return Err(because("a source must be a file or a directory"));
    }
    let (from, leaf) = match origin {
        Origin::Here => {
            let real = path.canonicalize().ok();
            let parts = real.as_ref().and_then(|real| real.parent().zip(real.file_name()));
            let (above, leaf) = parts.ok_or_else(|| because("cannot resolve its path"))?;
            (
                From::SourceDir(origin.open(above)?),
                CString::new(leaf.as_bytes()).unwrap_or_default(),
            )
        }
        Origin::Far(files, _) => (From::Far(FarFile::source(files)), CString::default()),
    };
    let change = if base.is_some() { Change::Changed } else { Change::New };
    let mut read_again = None;
    match base.map(|base| take_over(pool, &facts, base)) {
        Some(Ok(Taken::Over(unchanged))) => {
            pool.counts.count(Change::Same, bytes, unchanged.size(), verdict.rule);
            return Ok(Begun::Finished(Some(unchanged)));
        }
        Some(Ok(Taken::Not(base))) => read_again = doubted(&facts, *base),
        Some(Err(_)) | None => {}
    }
    let entry = skeleton(pool, &facts, pool.sources[number].name.clone(), Vec::new());
    let task = FileTask {
        parent: Parent::Root(number),
        from,
        name: leaf,
        path: bytes.to_vec(),
        entry,
        change,
        doubted: read_again,
        rule: verdict.rule,
        facts,
        fetched: None,
    };
    Ok(Begun::Task(Task::File(Box::new(task))))
}

/// The source as the base snapshot has it.
fn root_entry(pool: &Pool<'_>, number: usize) -> Option<Entry> {
    let base = pool.comparison.base()?;
    let path = pool.sources[number].path.as_os_str().as_bytes();
    let source = base.sources.iter().find(|source| source.path.as_slice() == path)?;
    pool.store.entry(base.root_page(pool.store), &source.name).ok().flatten()
}
