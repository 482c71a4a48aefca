//! One tree copied into another store: directories met with those of the snapshot before, files
//! taken over or cut anew, and all put together bottom-up in windows of names.

use std::{
    collections::{HashMap, VecDeque},
    sync::Arc,
    time::{Duration, Instant},
};

use skellin_store::{
    Body, ContentWriter, Entry, Fingerprint, Item, Met, Needs, PageRef, Recipe, RunId, Session,
    Store, StoreError, TreeWalk,
};

use crate::{
    clock::Cancel,
    error::{EngineError, Result},
    walk::{Assembled, Assembly, Beside, Sameness, Stamps},
};

/// So many files wait for their block at most.
const MOST_WAITING: usize = 4096;
/// So many pieces of a file are looked at ahead, about 3 MiB.
const AHEAD: usize = 64;
/// Cut at a time, in bytes.
const PIECE: usize = 512 << 10;
/// How often progress is told.
const TICK: Duration = Duration::from_millis(100);

/// Directories of the snapshot that was copied last: by what they are in the one store, what they
/// are in the other.
#[derive(Default)]
pub(super) struct Copied {
    directories: HashMap<Fingerprint, (Fingerprint, Needs)>,
    growing: HashMap<Fingerprint, (Fingerprint, Needs)>,
    base: Option<RunId>,
}

impl Copied {
    /// The snapshot is there: the next one compares with it.
    pub fn is_base(&mut self, run: RunId) {
        self.base = Some(run);
        self.directories = std::mem::take(&mut self.growing);
    }
}

/// A directory whose entries are not all there yet.
struct Frame {
    parent: Option<(usize, usize)>,
    /// The directory itself; none for the root.
    entry: Option<(Entry, Fingerprint)>,
    assembly: Assembly,
    ended: bool,
}

/// What goes with a directory that is being gone through.
struct Open<'s> {
    frame: usize,
    base: Beside<'s>,
}

impl Open<'_> {
    /// The entry of this name in the snapshot before.
    fn before(&mut self, name: &[u8]) -> Result<Option<Entry>> {
        match self.base.meet(name, |_| {}) {
            // What cannot be compared is copied.
            Err(EngineError::Store(error)) if error.is_damage() => Ok(None),
            met => met,
        }
    }
}

/// Where a file belongs.
struct Slot {
    frame: usize,
    number: usize,
    entry: Entry,
}

/// Told how many files and bytes are done.
type Told<'a> = dyn Fn(u64, u64) + 'a;

/// The work on one snapshot.
pub(super) struct Copying<'a> {
    from: &'a Store,
    session: &'a Arc<Session>,
    cancel: &'a Cancel,
    copied: &'a mut Copied,
    told: &'a Told<'a>,
    writer: ContentWriter<Slot>,
    frames: HashMap<usize, Frame>,
    next_frame: usize,
    waiting: usize,
    buffer: Vec<u8>,
    files: u64,
    read: u64,
    last_told: Instant,
    root: Option<PageRef>,
}

impl<'a> Copying<'a> {
    pub fn new(
        from: &'a Store,
        session: &'a Arc<Session>,
        cancel: &'a Cancel,
        copied: &'a mut Copied,
        told: &'a Told<'a>,
    ) -> Result<Self> {
        copied.growing.clear();
        Ok(Self {
            from,
            session,
            cancel,
            copied,
            told,
            writer: ContentWriter::new(session)?,
            frames: HashMap::new(),
            next_frame: 0,
            waiting: 0,
            buffer: Vec::new(),
            files: 0,
            read: 0,
            last_told: Instant::now(),
            root: None,
        })
    }

    /// Copies everything below a root; the root in the other store, and the bytes read.
    pub fn go(mut self, root: PageRef) -> Result<(PageRef, u64)> {
        let (from, to) = (self.from, self.session.store());
        let base = self.session.comparison().base().map(|base| base.root_page(to));
        let mut walk = TreeWalk::new(from);
        let open = self.open(None, None, base);
        walk.enter(root, Vec::new(), open);
        while let Some(met) = walk.advance()? {
            if self.cancel.is_cancelled() {
                return Err(StoreError::Cancelled.into());
            }
            let entry = match met {
                Met::Entry(entry) => entry,
                Met::Left(node) => {
                    if let Some(frame) = self.frames.get_mut(&node.with.frame) {
                        frame.ended = true;
                    }
                    self.settle(node.with.frame)?;
                    continue;
                }
                Met::Lost(_, error) => return Err(error.into()),
            };
            let Some(top) = walk.top() else { break };
            let (frame, before) = (top.with.frame, top.with.before(&entry.name)?);
            self.make_room(frame)?;
            if let Some((root, below)) = self.entry(frame, entry, before)? {
                walk.enter(root, Vec::new(), below);
            }
        }
        self.writer.flush()?;
        self.hand_over()?;
        self.writer.close()?;
        let root =
            self.root.ok_or_else(|| StoreError::Stopped("the tree has no root".to_owned()))?;
        Ok((root, self.read))
    }

    fn open<'s>(
        &mut self,
        parent: Option<(usize, usize)>,
        entry: Option<(Entry, Fingerprint)>,
        base: Option<PageRef>,
    ) -> Open<'s>
    where
        'a: 's,
    {
        let frame = self.next_frame;
        self.next_frame += 1;
        self.frames
            .insert(frame, Frame { parent, entry, assembly: Assembly::default(), ended: false });
        let base = Beside::new(self.session.store(), base);
        Open { frame, base }
    }

    /// Lets go of a full window: everything it waits for is finished first.
    fn make_room(&mut self, frame: usize) -> Result<()> {
        let is_full = self.frames.get(&frame).is_some_and(|frame| frame.assembly.is_full());
        if is_full || self.waiting >= MOST_WAITING {
            self.writer.flush()?;
            self.hand_over()?;
        }
        match self.frames.get_mut(&frame) {
            Some(frame) if is_full => frame.assembly.take_window(Some(self.session)),
            _ => Ok(()),
        }
    }

    /// Copies one entry; a directory that has to be gone through is handed back.
    fn entry<'s>(
        &mut self,
        frame: usize,
        mut entry: Entry,
        before: Option<Entry>,
    ) -> Result<Option<(PageRef, Open<'s>)>>
    where
        'a: 's,
    {
        let number = self.frames.get(&frame).map_or(0, |frame| frame.assembly.next_place());
        match entry.body.clone() {
            Body::Directory { root, below, .. } => {
                if let Some((there, needs)) = self.copied_before(&root.fingerprint)? {
                    let copied = (there.fingerprint, needs.clone());
                    self.copied.growing.insert(root.fingerprint, copied);
                    self.files += below.files;
                    entry.body = Body::Directory { root: there, needs, below };
                    self.put(frame, Some(entry));
                    return Ok(None);
                }
                let base = before.and_then(|before| match before.body {
                    Body::Directory { root, .. } => Some(root),
                    _ => None,
                });
                self.put(frame, None);
                let above = Some((frame, number));
                Ok(Some((root, self.open(above, Some((entry, root.fingerprint)), base))))
            }
            Body::File { size, recipe } => {
                self.files += 1;
                if let Some(recipe) = self.taken_over(&entry, before)? {
                    entry.body = Body::File { size, recipe };
                    self.put(frame, Some(entry));
                    return Ok(None);
                }
                self.put(frame, None);
                self.waiting += 1;
                self.writer.begin_file(Slot { frame, number, entry });
                self.content(&recipe)?;
                self.writer.end_file()?;
                self.hand_over()?;
                Ok(None)
            }
            Body::Link(_) | Body::Pipe | Body::Device { .. } => {
                self.files += 1;
                self.put(frame, Some(entry));
                Ok(None)
            }
        }
    }

    fn put(&mut self, frame: usize, entry: Option<Entry>) {
        if let Some(frame) = self.frames.get_mut(&frame) {
            match entry {
                Some(entry) => frame.assembly.put(entry),
                None => _ = frame.assembly.reserve(),
            }
        }
    }

    /// A directory that the snapshot before has just as it is.
    fn copied_before(&self, fingerprint: &Fingerprint) -> Result<Option<(PageRef, Needs)>> {
        let comparison = self.session.comparison();
        let base = comparison.base().map(|base| base.run);
        let known = self.copied.directories.get(fingerprint);
        let Some((there, needs)) = known.filter(|_| base.is_some() && self.copied.base == base)
        else {
            return Ok(None);
        };
        let Some(needs) = comparison.take_over_tree(PageRef::unplaced(*there), needs)? else {
            return Ok(None);
        };
        Ok(comparison.page(*there)?.map(|page| (page, needs)))
    }

    /// The recipe of a file that the snapshot before has just as it is.
    fn taken_over(&self, entry: &Entry, before: Option<Entry>) -> Result<Option<Recipe>> {
        let Some(before) = before else { return Ok(None) };
        let sameness = Stamps::of_entry(entry).compare(&before);
        match before.body {
            Body::File { mut recipe, .. } if sameness == Sameness::Same => {
                let whole = self.session.comparison().take_over(&mut recipe)?;
                Ok(whole.then_some(recipe))
            }
            _ => Ok(None),
        }
    }

    /// Reads a file from the one store and cuts it for the other.
    fn content(&mut self, recipe: &Recipe) -> Result<()> {
        let mut items = self.from.items(recipe);
        let mut ahead = VecDeque::new();
        self.buffer.clear();
        loop {
            if self.cancel.is_cancelled() {
                return Err(StoreError::Cancelled.into());
            }
            if ahead.is_empty() {
                while ahead.len() < AHEAD
                    && let Some(item) = items.next_item()?
                {
                    ahead.push_back(item);
                }
                let chunks = ahead.iter().filter_map(|item| match item {
                    Item::Chunk(chunk) => Some(*chunk),
                    Item::Hole(_) => None,
                });
                self.from.fetch_ahead(&chunks.collect::<Vec<_>>());
            }
            match ahead.pop_front() {
                None => return self.cut(true),
                Some(Item::Hole(length)) => {
                    self.cut(true)?;
                    self.writer.hole(length);
                }
                Some(Item::Chunk(chunk)) => {
                    let buffer = &mut self.buffer;
                    self.from.chunk(&chunk, |bytes| buffer.extend_from_slice(bytes))?;
                    self.read += u64::from(chunk.length);
                    if self.buffer.len() >= PIECE {
                        self.cut(false)?;
                    }
                }
            }
            if self.last_told.elapsed() >= TICK {
                self.last_told = Instant::now();
                (self.told)(self.files, self.read);
            }
        }
    }

    fn cut(&mut self, last: bool) -> Result<()> {
        let chunker = self.session.store().chunker();
        let mut start = 0;
        while let Some(length) = chunker.cut(&self.buffer[start..], last) {
            self.writer.chunk(&self.buffer[start..start + length])?;
            start += length;
        }
        self.buffer.drain(..start);
        Ok(())
    }

    /// Hands finished files to their directories.
    fn hand_over(&mut self) -> Result<()> {
        for (Slot { frame, number, mut entry }, content) in self.writer.take_done() {
            self.waiting -= 1;
            entry.body = Body::File { size: content.size, recipe: content.recipe };
            self.fill(frame, number, entry);
            self.settle(frame)?;
        }
        Ok(())
    }

    fn fill(&mut self, frame: usize, number: usize, entry: Entry) {
        if let Some(frame) = self.frames.get_mut(&frame) {
            frame.assembly.fill(number, Some(entry));
        }
    }

    /// Finishes a directory if nothing of it is missing any more, and those above it.
    fn settle(&mut self, mut number: usize) -> Result<()> {
        while self
            .frames
            .get(&number)
            .is_some_and(|frame| frame.ended && frame.assembly.is_settled())
        {
            let Some(frame) = self.frames.remove(&number) else { break };
            let Assembled { root, needs, below } = frame.assembly.finish(Some(self.session))?;
            let (Some((entry, fingerprint)), Some((parent, slot))) = (frame.entry, frame.parent)
            else {
                self.root = Some(root);
                break;
            };
            self.copied.growing.insert(fingerprint, (root.fingerprint, needs.clone()));
            let body = Body::Directory { root, needs, below };
            self.fill(parent, slot, Entry { body, ..entry });
            number = parent;
        }
        Ok(())
    }
}
