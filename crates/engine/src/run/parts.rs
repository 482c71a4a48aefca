//! Long files: cut and stored by several workers at the same time, into the chunks that one alone would
//! make.
//!
//! Where a chunk may end is told by the 64 bytes before, wherever it began, so that two who begin at
//! different places soon cut at the same ones. A worker begins a little before its part, and stores
//! from the first cut in it on. When the parts are put together each has to begin where the one
//! before has ended; one that does not is cut again from there.

use std::{
    collections::BTreeMap,
    num::NonZeroU64,
    os::fd::OwnedFd,
    sync::{Arc, Mutex},
};

use rustix::{
    fs::{Advice, SeekFrom, fadvise, seek},
    io::{Errno, pread},
};
use skellin_store::{Content, ContentWriter, Item, Recipe, RecipeBuilder};

use super::{
    directory::complete,
    long::{Done, LongFile, PartTag, Piece, Progress},
    pool::Pool,
    stored::{Tag, changed_since, finished},
    task::{FileTask, Task},
};
use crate::{error::Result, locked::locked, metadata::Facts, sources::Trouble};

/// A part has so many times the bytes of the longest chunk: 64 MiB, as stores are made.
const PART: u64 = 512;
/// A worker begins so many times the longest chunk before its part.
const LEAD: u64 = 16;
/// Read at a time, in bytes.
const PIECE: u64 = 512 << 10;
/// So many workers read one file: each at its own place, between which a disk has to go to and fro.
const MOST_READERS: usize = 4;
/// So much of a part is asked of the disk at once, in bytes.
const ADVANCE: u64 = 8 << 20;
/// Parts that may be done before those in front of them are.
const MOST_AHEAD: usize = 64;
/// Where a part begins of which nobody knows that yet.
const NOWHERE: u64 = u64::MAX;
/// A file with more parts and holes is read by one worker.
const MOST_PIECES: usize = 1 << 18;

/// Whether several workers share the file.
pub(super) fn is_long(pool: &Pool<'_>, facts: &Facts) -> bool {
    let part = PART * pool.store.chunker().longest() as u64;
    pool.workers > 1 && facts.size() >= 2 * part
}

/// Shares a file among the workers; gives it back if it has too many holes for that.
pub(super) fn share<'s>(
    pool: &Pool<'s>,
    task: FileTask<'s>,
    file: OwnedFd,
    facts: &Facts,
) -> std::result::Result<(), Box<(FileTask<'s>, OwnedFd)>> {
    let part = PART * pool.store.chunker().longest() as u64;
    let Some(pieces) = pieces(&file, facts, part) else {
        return Err(Box::new((task, file)));
    };
    let tokens = pool.workers.min(pieces.len()).min(MOST_READERS);
    let long = Arc::new(LongFile {
        file,
        facts: *facts,
        path: task.path.clone(),
        pieces,
        progress: Mutex::new(Progress {
            task: Some(Box::new(task)),
            next: 0,
            joined: 0,
            at: 0,
            waiting: BTreeMap::new(),
            again: false,
            parked: 0,
            recipe: RecipeBuilder::default(),
            size: 0,
        }),
    });
    pool.tasks.push((0..tokens).map(|_| Task::Part(Arc::clone(&long))));
    Ok(())
}

/// The pieces of a file; none if there are too many.
fn pieces(file: &OwnedFd, facts: &Facts, part: u64) -> Option<Vec<Piece>> {
    let size = facts.size();
    let mut pieces = Vec::new();
    let data = |from: u64, end: u64, pieces: &mut Vec<Piece>| {
        let mut at = from;
        while at < end {
            // The last one is not much shorter than the others.
            let to = if end - at < 2 * part { end } else { at + part };
            pieces.push(Piece::Data { from: at, to, begins: at == from, end });
            at = to;
        }
    };
    let mut at = 0;
    while at < size {
        if pieces.len() > MOST_PIECES {
            return None;
        }
        if !facts.may_have_holes() {
            data(at, size, &mut pieces);
            break;
        }
        let begins = match seek(file, SeekFrom::Data(at)) {
            Ok(begins) => begins.min(size),
            // Nothing but a hole is left.
            Err(Errno::NXIO) => size,
            // A file system that tells no holes.
            Err(_) => {
                data(at, size, &mut pieces);
                break;
            }
        };
        if begins > at {
            pieces.push(Piece::Hole(begins - at));
        }
        if begins == size {
            break;
        }
        let end = match seek(file, SeekFrom::Hole(begins)) {
            Ok(end) if end > begins => end.min(size),
            _ => size,
        };
        data(begins, end, &mut pieces);
        at = end;
    }
    Some(pieces)
}

/// Takes the next piece of a long file, and the one after it next.
pub(super) fn advance<'s>(
    pool: &Pool<'s>,
    long: &Arc<LongFile<FileTask<'s>>>,
    writer: &mut Option<ContentWriter<Tag<'s>>>,
    buffer: &mut Vec<u8>,
) -> Result<()> {
    let Some(writer) = writer else { return Ok(()) };
    let (number, known) = {
        let mut progress = locked(&long.progress);
        if progress.task.is_none() || pool.is_stopped() {
            return Ok(());
        }
        if progress.again {
            progress.again = false;
            (progress.joined, Some(progress.at))
        } else if progress.next == long.pieces.len() {
            return Ok(());
        } else if progress.next >= progress.joined + MOST_AHEAD {
            progress.parked += 1;
            return Ok(());
        } else {
            progress.next += 1;
            (progress.next - 1, None)
        }
    };
    match long.pieces[number] {
        Piece::Hole(length) => {
            pool.counts.bytes.add(length);
            let items = vec![Item::Hole(length)];
            join(pool, long, number, Done { start: 0, end: 0, items, is_short: false })?;
        }
        Piece::Data { from, to, begins, end } => {
            let mut cutter = Cutter { pool, long, buffer, end };
            let start = match known {
                Some(at) => Ok(Some(at)),
                None if begins => Ok(Some(from)),
                None => cutter.first_cut(from)?,
            };
            let stored = match start {
                Ok(None) => {
                    let done = Done { start: NOWHERE, end: from, items: vec![], is_short: false };
                    join(pool, long, number, done)?;
                    pool.tasks.push([Task::Part(Arc::clone(long))]);
                    return Ok(());
                }
                Ok(Some(start)) => {
                    let tag = PartTag {
                        long: Arc::clone(long),
                        number,
                        start,
                        end: start,
                        is_short: false,
                    };
                    writer.begin_part(Tag::Part(Box::new(tag)));
                    cutter.store(start, to, known.is_none(), writer)?
                }
                Err(trouble) => Err(trouble),
            };
            match stored {
                Ok(Ended { at, is_short }) if !pool.is_stopped() => {
                    if let Some(Tag::Part(part)) = writer.last_file() {
                        (part.end, part.is_short) = (at, is_short);
                    }
                    writer.end_file()?;
                }
                Ok(_) => drop(writer.drop_file()),
                Err(trouble) => {
                    writer.drop_file();
                    return fail(pool, long, trouble);
                }
            }
        }
    }
    pool.tasks.push([Task::Part(Arc::clone(long))]);
    Ok(())
}

/// A part has its place in the store.
pub(super) fn stored<'s>(
    pool: &Pool<'s>,
    part: PartTag<FileTask<'s>>,
    content: Content,
) -> Result<()> {
    let Recipe::Inline(items) = content.recipe else { return Ok(()) };
    let PartTag { long, number, start, end, is_short } = part;
    join(pool, &long, number, Done { start, end, items, is_short })
}

/// Puts what is done to what came before it, as far as it goes.
fn join<'s>(
    pool: &Pool<'s>,
    long: &Arc<LongFile<FileTask<'s>>>,
    number: usize,
    done: Done,
) -> Result<()> {
    let Some(session) = pool.session else { return Ok(()) };
    let mut progress = locked(&long.progress);
    let progress_ref = &mut *progress;
    if progress_ref.task.is_none() {
        return Ok(());
    }
    progress_ref.waiting.insert(number, done);
    while let Some(done) = progress_ref.waiting.remove(&progress_ref.joined) {
        if let Piece::Data { from, begins, .. } = long.pieces[progress_ref.joined] {
            let wanted = if begins { from } else { progress_ref.at };
            if done.start != wanted {
                progress_ref.again = true;
                progress_ref.at = wanted;
                drop(progress);
                pool.tasks.push([Task::Part(Arc::clone(long))]);
                return Ok(());
            }
            progress_ref.at = done.end;
        }
        for item in done.items {
            progress_ref.size += match &item {
                Item::Chunk(chunk) => u64::from(chunk.length),
                Item::Hole(length) => *length,
            };
            progress_ref.recipe.push(&**session, item)?;
        }
        progress_ref.joined =
            if done.is_short { long.pieces.len() } else { progress_ref.joined + 1 };
    }
    let parked = std::mem::take(&mut progress_ref.parked);
    if progress_ref.joined < long.pieces.len() {
        drop(progress);
        pool.tasks.push((0..parked).map(|_| Task::Part(Arc::clone(long))));
        return Ok(());
    }
    let Some(mut task) = progress_ref.task.take() else { return Ok(()) };
    let recipe = std::mem::take(&mut progress_ref.recipe).finish(&**session)?;
    let size = progress_ref.size;
    drop(progress);
    pool.counts.files.add(1);
    if let Some(changed) = changed_since(&long.file, &long.facts) {
        pool.exception(&long.path, changed);
        task.entry.unsettled = true;
    }
    finished(pool, *task, Content { recipe, size, new_bytes: 0 })
}

/// The file cannot be read to its end.
fn fail<'s>(pool: &Pool<'s>, long: &LongFile<FileTask<'s>>, trouble: Trouble) -> Result<()> {
    let Some(task) = locked(&long.progress).task.take() else { return Ok(()) };
    match trouble.of_the_way() {
        Ok(failure) => pool.stop(Some(failure)),
        Err(trouble) => {
            let cause = trouble.cause(true).within("cannot read it completely");
            pool.exception(&long.path, cause);
        }
    }
    complete(pool, task.parent, None)
}

/// Where cutting has ended.
struct Ended {
    at: u64,
    is_short: bool,
}

/// Cuts a stretch of the file.
struct Cutter<'a, 's> {
    pool: &'a Pool<'s>,
    long: &'a LongFile<FileTask<'s>>,
    buffer: &'a mut Vec<u8>,
    /// Where the data ends.
    end: u64,
}

impl<'s> Cutter<'_, 's> {
    /// The first cut at or behind a place, by one who begins a little before it; nothing if all cuts
    /// on the way were made because a chunk can be no longer: then others would be made elsewhere.
    fn first_cut(&mut self, at: u64) -> Result<std::result::Result<Option<u64>, Trouble>> {
        let longest = self.pool.store.chunker().longest();
        let mut was_found = false;
        let ended = self.cut(at - LEAD * longest as u64, &mut |end, chunk| {
            was_found = was_found || chunk.len() < longest;
            Ok(end < at)
        })?;
        Ok(ended.map(|ended| was_found.then_some(ended.at)))
    }

    /// Stores from a cut up to the first one at or behind a place, or to the end.
    fn store(
        &mut self,
        from: u64,
        to: u64,
        is_counted: bool,
        writer: &mut ContentWriter<Tag<'s>>,
    ) -> Result<std::result::Result<Ended, Trouble>> {
        if from >= to {
            return Ok(Ok(Ended { at: from, is_short: false }));
        }
        let pool = self.pool;
        self.cut(from, &mut |end, chunk| {
            writer.chunk(chunk)?;
            pool.counts.read.add(chunk.len() as u64);
            if is_counted {
                pool.counts.bytes.add(chunk.len() as u64);
            }
            Ok(end < to)
        })
    }

    /// Hands each chunk from a place on to `each`, with where it ends, as long as that says so.
    fn cut(
        &mut self,
        from: u64,
        each: &mut dyn FnMut(u64, &[u8]) -> Result<bool>,
    ) -> Result<std::result::Result<Ended, Trouble>> {
        let chunker = self.pool.store.chunker();
        let capacity = PIECE as usize + 2 * chunker.longest();
        self.buffer.resize(capacity.max(self.buffer.len()), 0);
        let (mut at, mut filled, mut advised) = (from, 0usize, from);
        loop {
            if self.pool.is_stopped() {
                return Ok(Ok(Ended { at, is_short: false }));
            }
            self.pool.activity.begin(&self.long.path);
            let offset = at + filled as u64;
            let room = (self.end - offset).min(PIECE) as usize;
            if offset + room as u64 > advised {
                advised = offset + ADVANCE;
                // Advice that is not taken costs time, no more.
                let length = NonZeroU64::new(ADVANCE);
                let _ = fadvise(&self.long.file, offset, length, Advice::WillNeed);
            }
            let got = match read(&self.long.file, &mut self.buffer[filled..filled + room], offset) {
                Ok(got) => got,
                Err(error) => return Ok(Err(error.into())),
            };
            filled += got;
            let is_short = got == 0 && room > 0;
            let last = is_short || offset + got as u64 == self.end;
            let mut start = 0;
            while let Some(length) = chunker.cut(&self.buffer[start..filled], last) {
                let chunk = &self.buffer[start..start + length];
                start += length;
                at += length as u64;
                if !each(at, chunk)? {
                    return Ok(Ok(Ended { at, is_short: false }));
                }
            }
            if last {
                return Ok(Ok(Ended { at, is_short }));
            }
            self.buffer.copy_within(start..filled, 0);
            filled -= start;
        }
    }
}

fn read(file: &OwnedFd, room: &mut [u8], offset: u64) -> rustix::io::Result<usize> {
    loop {
        match pread(file, &mut *room, offset) {
            Err(Errno::INTR) => {}
            other => return other,
        }
    }
}
