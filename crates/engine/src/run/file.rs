//! Files of the source: read, cut, and handed to the store.

use std::{
    os::fd::{AsFd, OwnedFd},
    sync::atomic::Ordering,
};

use rustix::{
    fs::{SeekFrom, seek},
    io::{Errno, pread},
};
use skellin_store::{Body, ContentWriter, Entry};

use super::{
    directory::complete,
    look::{cannot_read, skeleton},
    pool::{Pool, add, locked},
    task::{FileTask, From, open_file},
};
use crate::{
    error::Result,
    metadata::{Facts, Sort, fd, xattrs_of},
};

/// Read at a time, in bytes.
const PIECE: usize = 512 << 10;

/// Reads a file into the store. Its entry is handed over when its content has a place.
pub(super) fn store<'s>(
    pool: &Pool<'s>,
    mut task: FileTask<'s>,
    writer: &mut Option<ContentWriter<Box<FileTask<'s>>>>,
    buffer: &mut Vec<u8>,
) -> Result<()> {
    let Some(writer) = writer else {
        pool.count(task.change, &task.path, 0, task.rule);
        return complete(pool, task.parent, Some(task.entry));
    };
    pool.set_current(&task.path);
    let opened = match &task.from {
        From::Directory(directory) => directory.handle().and_then(|at| open_file(at, &task.name)),
        From::Handle(handle) => open_file(handle.as_fd(), &task.name),
    };
    let opened = opened.map_err(|error| cannot_read(error, true)).and_then(|file| {
        let facts = Facts::of(fd(&file)).map_err(|error| cannot_read(error, true))?;
        match facts.sort() {
            Sort::File => Ok((file, facts)),
            _ => Err("it was replaced while the run went by".to_owned()),
        }
    });
    let (file, facts) = match opened {
        Ok(opened) => opened,
        Err(reason) => {
            pool.exception(&task.path, &reason);
            return complete(pool, task.parent, None);
        }
    };
    let xattrs = xattrs_of(fd(&file)).unwrap_or_else(|reason| {
        pool.exception(&task.path, &reason);
        Vec::new()
    });
    task.entry = skeleton(pool, &facts, std::mem::take(&mut task.entry.name), xattrs);
    if let Some(entry) = linked_before(pool, &task.entry, &facts) {
        pool.count(task.change, &task.path, facts.size(), task.rule);
        add(&pool.counts.files, 1);
        add(&pool.counts.bytes, facts.size());
        return complete(pool, task.parent, Some(entry));
    }
    // What takes long to read is named again and again, beside what others read.
    let path = (facts.size() > PIECE as u64).then(|| task.path.clone());
    writer.begin_file(Box::new(task));
    let mut reader = Reader { pool, buffer, path };
    let read = reader.read_all(&file, &facts, writer)?;
    let task = writer.last_file();
    let Some(task) = task else { return Ok(()) };
    match read {
        Ok(()) if pool.is_stopped() => {
            writer.drop_file();
            Ok(())
        }
        Ok(()) => {
            add(&pool.counts.files, 1);
            let after = Facts::of(fd(&file)).ok();
            let quiet = after.is_some_and(|after| {
                after.changed() == facts.changed()
                    && after.modified() == facts.modified()
                    && after.size() == facts.size()
            });
            if !quiet {
                pool.exception(&task.path, "it changed while it was read; what was read is stored");
                task.entry.unsettled = true;
            }
            Ok(writer.end_file()?)
        }
        Err(error) => {
            pool.exception(&task.path, &format!("it cannot be read to its end: {error}"));
            match writer.drop_file() {
                Some(task) => complete(pool, task.parent, None),
                None => Ok(()),
            }
        }
    }
}

/// The entry of a file whose content was read under another of its names.
fn linked_before(pool: &Pool<'_>, entry: &Entry, facts: &Facts) -> Option<Entry> {
    let identity = entry.links?;
    let linked = locked(&pool.linked);
    let known = linked.get(&identity)?;
    if known.changed != facts.changed() || known.size != facts.size() || entry.unsettled {
        return None;
    }
    let body = Body::File { size: known.size, recipe: known.recipe.clone() };
    Some(Entry { body, ..entry.clone() })
}

struct Reader<'a, 's> {
    pool: &'a Pool<'s>,
    buffer: &'a mut Vec<u8>,
    /// Its path, if it is large.
    path: Option<Vec<u8>>,
}

impl<'s> Reader<'_, 's> {
    /// Reads a file piece by piece. The outer error is the store's, the inner the file's.
    fn read_all(
        &mut self,
        file: &OwnedFd,
        facts: &Facts,
        writer: &mut ContentWriter<Box<FileTask<'s>>>,
    ) -> Result<Result<(), Errno>> {
        if !facts.may_have_holes() {
            return self.read_extent(file, 0, u64::MAX, writer);
        }
        let (mut at, size) = (0, facts.size());
        while at < size {
            let data = match seek(file, SeekFrom::Data(at)) {
                Ok(data) => data.min(size),
                // Nothing but a hole is left.
                Err(Errno::NXIO) => size,
                // A file system that tells no holes.
                Err(_) => return self.read_extent(file, at, u64::MAX, writer),
            };
            if data > at {
                writer.hole(data - at);
                add(&self.pool.counts.bytes, data - at);
            }
            if data == size {
                break;
            }
            let end = match seek(file, SeekFrom::Hole(data)) {
                Ok(end) if end > data => end.min(size),
                _ => size,
            };
            if let Err(error) = self.read_extent(file, data, end - data, writer)? {
                return Ok(Err(error));
            }
            at = end;
        }
        Ok(Ok(()))
    }

    fn read_extent(
        &mut self,
        file: &OwnedFd,
        from: u64,
        length: u64,
        writer: &mut ContentWriter<Box<FileTask<'s>>>,
    ) -> Result<Result<(), Errno>> {
        let chunker = self.pool.store.chunker();
        let capacity = PIECE.max(chunker.longest()) + chunker.longest();
        self.buffer.resize(capacity, 0);
        let (mut filled, mut read) = (0usize, 0u64);
        loop {
            if self.pool.is_stopped() {
                return Ok(Ok(()));
            }
            let room = (capacity - filled).min(PIECE) as u64;
            let wanted = room.min(length - read) as usize;
            let got = match wanted {
                0 => 0,
                _ => match pread(file, &mut self.buffer[filled..filled + wanted], from + read) {
                    Ok(got) => got,
                    Err(Errno::INTR) => continue,
                    Err(error) => return Ok(Err(error)),
                },
            };
            if let Some(path) = &self.path {
                self.pool.set_current(path);
            }
            read += got as u64;
            filled += got;
            self.pool.counts.read.fetch_add(got as u64, Ordering::Relaxed);
            self.pool.counts.bytes.fetch_add(got as u64, Ordering::Relaxed);
            let last = got == 0;
            let mut start = 0;
            while let Some(cut) = chunker.cut(&self.buffer[start..filled], last) {
                writer.chunk(&self.buffer[start..start + cut])?;
                start += cut;
            }
            self.buffer.copy_within(start..filled, 0);
            filled -= start;
            if last {
                return Ok(Ok(()));
            }
        }
    }
}
