//! What a worker does: it takes tasks until none is left.

use skellin_store::ContentWriter;

use super::{
    directory, file, parts,
    pool::Pool,
    scheduler::Waited,
    stored::{Tag, finished},
    task::Task,
};
use crate::error::Result;

/// A worker's way into the store; none in a dry run.
type Writer<'s> = Option<ContentWriter<Tag<'s>>>;

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
            Task::Part(long) => parts::advance(pool, &long, &mut writer, &mut buffer)?,
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
        if let Some(task) = pool.tasks.take() {
            return Ok(Some(task));
        }
        let holds_back = writer.as_ref().is_some_and(ContentWriter::is_waiting);
        pool.activity.end();
        match pool.tasks.wait_for_task(holds_back) {
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

/// Hands finished files to their directories, and finished parts to their files.
fn hand_over<'s>(pool: &Pool<'s>, writer: &mut Writer<'s>) -> Result<()> {
    let Some(writer) = writer else { return Ok(()) };
    for (tag, content) in writer.take_done() {
        match tag {
            Tag::File(task) => finished(pool, *task, content)?,
            Tag::Part(part) => parts::stored(pool, *part, content)?,
        }
    }
    Ok(())
}
