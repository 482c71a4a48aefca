//! Files of the source: read, cut, and handed to the store.

use std::os::fd::OwnedFd;

use rustix::{
    fs::{SeekFrom, seek},
    io::{Errno, pread},
};
use skellin_store::{Body, ContentWriter, Entry};

use super::{
    directory::complete,
    look::skeleton,
    parts::{is_long, share},
    pool::Pool,
    stored::{Tag, changed_since, how_changed},
    task::{FileTask, From, Opened},
};
use crate::{
    cause::{Cause, CauseKind},
    error::Result,
    locked::locked,
    metadata::{Facts, Sort, fd, xattrs_of},
    sources::{FarFile, Trouble},
};

/// Read at a time, in bytes.
const PIECE: usize = 512 << 10;

/// Reads a file into the store. Its entry is handed over when its content has a place.
pub(super) fn store<'s>(
    pool: &Pool<'s>,
    mut task: FileTask<'s>,
    writer: &mut Option<ContentWriter<Tag<'s>>>,
    buffer: &mut Vec<u8>,
) -> Result<()> {
    let Some(writer) = writer else {
        pool.counts.count(task.change, &task.path, 0, task.rule);
        return complete(pool, task.parent, Some(task.entry));
    };
    pool.activity.begin(&task.path);
    let opened = task.from.open(&task.name);
    // The task waits for its content's place; its directory need not stay open for that.
    task.from = From::Done;
    let begun = match opened {
        Ok(Opened::Here(file)) => begin_here(pool, &mut task, file),
        Ok(Opened::Far(file)) => begin_far(&mut task, file),
        Err(trouble) => Err(trouble),
    };
    let (mut content, facts) = match begun {
        Ok(begun) => begun,
        Err(trouble) => {
            pool.trouble(&task.path, trouble);
            return complete(pool, task.parent, None);
        }
    };
    if facts.sort() != Sort::File {
        pool.exception(
            &task.path,
            Cause::new(CauseKind::Vanished, "it was replaced during the run"),
        );
        return complete(pool, task.parent, None);
    }
    let xattrs = std::mem::take(&mut task.entry.xattrs);
    task.entry = skeleton(pool, &facts, std::mem::take(&mut task.entry.name), xattrs);
    if let Some(entry) = linked_before(pool, &task.entry, &facts) {
        pool.counts.count(task.change, &task.path, facts.size(), task.rule);
        pool.counts.files.add(1);
        pool.counts.bytes.add(facts.size());
        return complete(pool, task.parent, Some(entry));
    }
    if is_long(pool, &facts) {
        match content {
            Bytes::Here(file) => match share(pool, task, file, &facts) {
                Ok(()) => return Ok(()),
                Err(back) => {
                    let file;
                    (task, file) = *back;
                    content = Bytes::Here(file);
                }
            },
            far @ Bytes::Far(_) => content = far,
        }
    }
    // What takes long to read is named again and again, beside what others read.
    let path = (facts.size() > PIECE as u64).then(|| task.path.clone());
    writer.begin_file(Tag::File(Box::new(task)));
    let mut reader = Reader { pool, buffer, path };
    let read = match &mut content {
        Bytes::Here(file) => reader.read_all(file, &facts, writer)?,
        Bytes::Far(far) => reader.feed(&mut |room| far.fill(room), writer)?,
    };
    let Some(Tag::File(task)) = writer.last_file() else { return Ok(()) };
    match read {
        Ok(()) if pool.is_stopped() => {
            writer.drop_file();
            Ok(())
        }
        Ok(()) => {
            pool.counts.files.add(1);
            if let Some(changed) = content.changed_since(&facts) {
                pool.exception(&task.path, changed);
                task.entry.unsettled = true;
            }
            Ok(writer.end_file()?)
        }
        Err(trouble) => {
            match trouble.of_the_way() {
                Ok(failure) => pool.stop(Some(failure)),
                Err(trouble) => {
                    let cause = trouble.cause(true).within("cannot read it completely");
                    pool.exception(&task.path, cause);
                }
            }
            match writer.drop_file() {
                Some(Tag::File(task)) => complete(pool, task.parent, None),
                _ => Ok(()),
            }
        }
    }
}

/// So much is read of a file that says it is empty: some that the system makes up hold more.
const OF_EMPTY: u64 = 1 << 20;

/// How much of a file is read: what it held when it was met, so that one that grows as fast as it is
/// read ends all the same.
fn length_of(facts: &Facts) -> u64 {
    match facts.size() {
        0 => OF_EMPTY,
        size => size,
    }
}

/// Where a file's bytes come from.
enum Bytes {
    Here(OwnedFd),
    Far(FarContent),
}

impl Bytes {
    /// What became of the file while it was read, if it is not what it was.
    fn changed_since(&self, facts: &Facts) -> Option<Cause> {
        match self {
            Self::Here(file) => changed_since(file, facts),
            Self::Far(far) => {
                let whole = far.given == facts.size();
                how_changed(far.after.or_else(|| whole.then_some(*facts)), facts, whole)
            }
        }
    }
}

/// A file of this machine; its extended attributes are put into its entry.
fn begin_here(
    pool: &Pool<'_>,
    task: &mut FileTask<'_>,
    file: OwnedFd,
) -> Result<(Bytes, Facts), Trouble> {
    let facts = Facts::of(fd(&file))?;
    task.entry.xattrs = xattrs_of(fd(&file)).unwrap_or_else(|cause| {
        pool.exception(&task.path, cause);
        Vec::new()
    });
    Ok((Bytes::Here(file), facts))
}

/// A file of another host, of which the first part may have been fetched.
fn begin_far(task: &mut FileTask<'_>, file: FarFile) -> Result<(Bytes, Facts), Trouble> {
    let first = task.fetched.take().unwrap_or_else(|| file.part(0, file.stride()))?;
    let facts = first.before.as_ref().map_or(task.facts, Facts::far);
    let after = first.after.as_ref().map(Facts::far);
    let ended = (first.bytes.len() as u64) < file.stride();
    let limit = length_of(&facts);
    let far = FarContent { file, part: first.bytes, taken: 0, given: 0, limit, ended, after };
    Ok((Bytes::Far(far), facts))
}

/// A file of another host, read part by part.
struct FarContent {
    file: FarFile,
    part: Vec<u8>,
    /// How much of the part was given.
    taken: usize,
    /// How much of the file was.
    given: u64,
    /// No more of it is given.
    limit: u64,
    /// Whether this is the last part.
    ended: bool,
    after: Option<Facts>,
}

impl FarContent {
    /// Gives the next bytes; none at the end.
    fn fill(&mut self, room: &mut [u8]) -> Result<usize, Trouble> {
        if self.taken == self.part.len() && !self.ended && self.given < self.limit {
            let next = self.file.part(self.given, self.file.stride())?;
            self.ended = (next.bytes.len() as u64) < self.file.stride();
            self.after = next.after.as_ref().map(Facts::far);
            (self.part, self.taken) = (next.bytes, 0);
        }
        let left = &self.part[self.taken..];
        let limit = usize::try_from(self.limit - self.given).unwrap_or(usize::MAX);
        let count = left.len().min(room.len()).min(limit);
        room[..count].copy_from_slice(&left[..count]);
        self.taken += count;
        self.given += count as u64;
        Ok(count)
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
        writer: &mut ContentWriter<Tag<'s>>,
    ) -> Result<Result<(), Trouble>> {
        if !facts.may_have_holes() {
            return self.read_extent(file, 0, length_of(facts), writer);
        }
        let (mut at, size) = (0, facts.size());
        while at < size {
            let data = match seek(file, SeekFrom::Data(at)) {
                Ok(data) => data.min(size),
                // Nothing but a hole is left.
                Err(Errno::NXIO) => size,
                // A file system that tells no holes.
                Err(_) => return self.read_extent(file, at, size - at, writer),
            };
            if data > at {
                writer.hole(data - at);
                self.pool.counts.bytes.add(data - at);
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
        writer: &mut ContentWriter<Tag<'s>>,
    ) -> Result<Result<(), Trouble>> {
        let mut read = 0;
        let mut fill = |room: &mut [u8]| {
            let wanted = usize::try_from(length - read).unwrap_or(usize::MAX).min(room.len());
            let got = loop {
                match pread(file, &mut room[..wanted], from + read) {
                    Err(Errno::INTR) => {}
                    other => break other?,
                }
            };
            read += got as u64;
            Ok(got)
        };
        self.feed(&mut fill, writer)
    }

    /// Cuts what `fill` gives, until it gives nothing more.
    fn feed(
        &mut self,
        fill: &mut dyn FnMut(&mut [u8]) -> Result<usize, Trouble>,
        writer: &mut ContentWriter<Tag<'s>>,
    ) -> Result<Result<(), Trouble>> {
        let chunker = self.pool.store.chunker();
        let capacity = PIECE.max(chunker.longest()) + chunker.longest();
        self.buffer.resize(capacity, 0);
        let mut filled = 0usize;
        loop {
            if self.pool.is_stopped() {
                return Ok(Ok(()));
            }
            let room = (capacity - filled).min(PIECE);
            let got = match fill(&mut self.buffer[filled..filled + room]) {
                Ok(got) => got,
                Err(trouble) => return Ok(Err(trouble)),
            };
            if let Some(path) = &self.path {
                self.pool.activity.begin(path);
            }
            filled += got;
            self.pool.counts.read.add(got as u64);
            self.pool.counts.bytes.add(got as u64);
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
