//! What a worker does: it takes tasks until none is left.

use skellin_store::{Body, ContentWriter};

use super::{
    directory, file,
    pool::{Linked, MOST_LINKED, Pool, Waited},
    report::Change,
    task::{FileTask, Task},
};
use crate::error::Result;
use crate::locked::locked;

/// A worker's way into the store; none in a rehearsal.
type Writer<'s> = Option<ContentWriter<Box<FileTask<'s>>>>;

/// Works until nothing is left.
pub(super) fn work(pool: &Pool<'_>) {
    if let Err(error) = try_work(pool) {
        pool.stop(Some(error));
    }
}

fn try_work(pool: &Pool<'_>) -> Result<()> {
    let mut writer = match pool.session {
        Some(session) => Some(ContentWriter::new(session)?),
        None => None,
    };
    let mut buffer = Vec::new();
    while let Some(task) = next_task(pool, &mut writer)? {
        match task {
            Task::Directory(directory) => directory::advance(pool, directory)?,
            Task::File(task) => file::store(pool, *task, &mut writer, &mut buffer)?,
        }
        hand_over(pool, &mut writer)?;
    }
    match &mut writer {
        Some(writer) if !pool.is_stopped() => Ok(writer.close()?),
        _ => Ok(()),
    }
}

/// The next task. A worker that finds none, and to whom none will come from another host, seals its
/// open block first: somebody may wait for the files in it.
fn next_task<'s>(pool: &Pool<'s>, writer: &mut Writer<'s>) -> Result<Option<Task<'s>>> {
    loop {
        if let Some(task) = pool.take_task() {
            return Ok(Some(task));
        }
        let holds_back = writer.as_ref().is_some_and(ContentWriter::is_waiting);
        match pool.wait_for_task(holds_back) {
            Waited::Task(task) => return Ok(Some(task)),
            Waited::End => return Ok(None),
            Waited::Nothing => {
                if let Some(open) = writer {
                    open.flush()?;
                    hand_over(pool, writer)?;
                }
            }
        }
    }
}

/// Hands finished files to their directories.
fn hand_over<'s>(pool: &Pool<'s>, writer: &mut Writer<'s>) -> Result<()> {
    let Some(writer) = writer else { return Ok(()) };
    for (task, content) in writer.take_done() {
        let FileTask { parent, mut entry, change, doubted, path, rule, .. } = *task;
        if let Some(identity) = entry.links {
            let mut linked = locked(&pool.linked);
            if linked.len() < MOST_LINKED {
                let (changed, recipe) = (entry.changed, content.recipe.clone());
                linked.insert(identity, Linked { changed, size: content.size, recipe });
            }
        }
        entry.body = Body::File { size: content.size, recipe: content.recipe };
        let is_same = doubted.is_some_and(|before| before.same_content(&entry.body));
        pool.count_read(if is_same { Change::Same } else { change }, &path, entry.size(), rule);
        directory::complete(pool, parent, Some(entry))?;
    }
    Ok(())
}
