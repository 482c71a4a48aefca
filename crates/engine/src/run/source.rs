//! Sources: where a run begins.

use std::{ffi::CString, os::unix::ffi::OsStrExt, sync::atomic::Ordering};

use rustix::fs::{AtFlags, CWD, statat};
use skellin_plan::Action;
use skellin_store::Entry;

use super::{
    look::{cannot_read, doubted, skeleton, take_over},
    pool::Pool,
    report::Change,
    task::{FileTask, From, Parent, Task, new_directory, open_directory},
};
use crate::{
    error::Result,
    event::Event,
    metadata::{Facts, Sort},
};

/// Puts the sources on the stack; how many there are.
pub(super) fn start(pool: &Pool<'_>) -> Result<usize> {
    pool.roots_left.store(pool.sources.len(), Ordering::SeqCst);
    let mut begun = 0;
    for number in 0..pool.sources.len() {
        let path = &pool.sources[number].path;
        let real = path.canonicalize().unwrap_or_else(|_| path.clone());
        if let Some(ours) = pool.keep_out_paths.iter().find(|ours| real.starts_with(ours)) {
            let text = format!(
                "the source {} lies in {}, which is skellin's own; it is left out",
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
                pool.push([task]);
            }
            Ok(Begun::Finished(entry)) => {
                begun += 1;
                pool.root_done(number, entry.map(|entry| *entry));
            }
            Err(reason) => {
                pool.exception(path.as_os_str().as_bytes(), &reason);
                pool.root_done(number, None);
            }
        }
    }
    Ok(begun)
}

/// How a source begins.
enum Begun<'s> {
    /// With something to do.
    Task(Task<'s>),
    /// It is finished: unchanged, or skipped.
    Finished(Option<Box<Entry>>),
}

/// Begins a source. The error is a reason.
fn begin_source<'s>(pool: &Pool<'s>, number: usize) -> Result<Begun<'s>, String> {
    let path = &pool.sources[number].path;
    let bytes = path.as_os_str().as_bytes();
    let name = CString::new(bytes).map_err(|_| "its path holds a NUL byte".to_owned())?;
    // A source that is a symbolic link means what it points to.
    let stat = statat(CWD, &*name, AtFlags::empty()).map_err(|error| cannot_read(error, false))?;
    let facts = Facts { stat };
    let is_directory = facts.sort() == Sort::Directory;
    let judge = &pool.judges[number];
    let verdict = judge.source(&name, &facts, &pool.owners);
    let enter = is_directory && judge.matcher().may_take_below(verdict, bytes);
    if verdict.action == Action::Skip && !enter {
        pool.count(Change::Skipped, bytes, 0, verdict.rule);
        return Ok(Begun::Finished(None));
    }
    let base = root_entry(pool, number);
    if is_directory {
        // Opened at once: a source that cannot be read is told before anything else.
        let handle = open_directory(CWD, &name, true).map_err(|error| cannot_read(error, true))?;
        let directory =
            new_directory(name, bytes.to_vec(), number, verdict, Parent::Root(number), base);
        let _ = directory.handle.set(handle);
        return Ok(Begun::Task(Task::Directory(directory)));
    }
    if facts.sort() != Sort::File {
        return Err("a source must be a file or a directory".to_owned());
    }
    let above = path.canonicalize().ok().and_then(|real| {
        let above = CString::new(real.parent()?.as_os_str().as_bytes()).ok()?;
        let leaf = CString::new(real.file_name()?.as_bytes()).ok()?;
        Some((above, leaf))
    });
    let (above, leaf) = above.ok_or("its path cannot be resolved")?;
    let handle = open_directory(CWD, &above, true).map_err(|error| cannot_read(error, false))?;
    let change = if base.is_some() { Change::Changed } else { Change::New };
    let doubted = base.as_ref().and_then(|base| doubted(&facts, base));
    let unchanged = base.and_then(|base| take_over(pool, &facts, base, true).ok().flatten());
    if let Some(unchanged) = unchanged {
        pool.count(Change::Same, bytes, unchanged.size(), verdict.rule);
        return Ok(Begun::Finished(Some(Box::new(unchanged))));
    }
    let from = From::Handle(handle);
    let entry = skeleton(pool, &facts, pool.sources[number].name.clone(), Vec::new());
    let parent = Parent::Root(number);
    let task = FileTask {
        parent,
        from,
        name: leaf,
        path: bytes.to_vec(),
        entry,
        change,
        doubted,
        rule: verdict.rule,
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
