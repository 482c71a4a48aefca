//! A worker's way into the store: chunks of files go in, recipes come out.

use std::{collections::VecDeque, sync::Arc};

use crate::{
    containers::{ContainerIx, Location},
    error::Result,
    format::{
        block::OpenBlock,
        compress::Compressor,
        container::OpenContainer,
        ids::{Class, Fingerprint},
    },
    tree::{ChunkRef, Item, Recipe, RecipeBuilder, Spot},
    writing::{session::Session, work::Fresh},
};

/// The content of a file, stored.
#[derive(Debug)]
pub struct Content {
    /// Its pieces.
    pub recipe: Recipe,
    /// Its length in bytes, holes included.
    pub size: u64,
    /// Bytes of chunks the store did not have.
    pub new_bytes: u64,
}

struct FileDraft<T> {
    tag: T,
    /// Pieces whose place is not known yet, and what follows them.
    waiting: VecDeque<Item>,
    laid: Laid,
    size: u64,
    new_bytes: u64,
    ended: bool,
}

/// What becomes of the pieces.
enum Laid {
    /// They make up a file.
    File(Box<RecipeBuilder>),
    /// They are handed back: a part of a file that others store parts of.
    Part(Vec<Item>),
}

impl Laid {
    fn push(&mut self, session: &Session, item: Item) -> Result<()> {
        match self {
            Self::File(recipe) => recipe.push(session, item),
            Self::Part(items) => {
                items.push(item);
                Ok(())
            }
        }
    }

    fn finish(self, session: &Session) -> Result<Recipe> {
        match self {
            Self::File(recipe) => recipe.finish(session),
            Self::Part(items) => Ok(Recipe::Inline(items)),
        }
    }
}

/// Takes the chunks of one file after the other. A file is given back, with its tag, when all its
/// chunks have a place in a container; [`flush`](ContentWriter::flush) sees to that.
pub struct ContentWriter<T> {
    session: Arc<Session>,
    compressor: Compressor,
    block: OpenBlock,
    fingerprints: Vec<Fingerprint>,
    token: u64,
    container: Option<(ContainerIx, OpenContainer)>,
    files: VecDeque<FileDraft<T>>,
    done: Vec<(T, Content)>,
}

impl<T> ContentWriter<T> {
    /// A writer for one worker of a run.
    ///
    /// # Errors
    /// If the compressor cannot be set up.
    pub fn new(session: &Arc<Session>) -> Result<Self> {
        Ok(Self {
            session: Arc::clone(session),
            compressor: Compressor::new(session.writing.compression)?,
            block: OpenBlock::default(),
            fingerprints: Vec::new(),
            token: session.writing.next_token(),
            container: None,
            files: VecDeque::new(),
            done: Vec::new(),
        })
    }

    /// Begins a file.
    pub fn begin_file(&mut self, tag: T) {
        self.begin(tag, Laid::File(Box::default()));
    }

    /// Begins a part of a file. It is treated as a file is, but that its recipe has all its pieces
    /// inline, however many: they are for a [`RecipeBuilder`].
    pub fn begin_part(&mut self, tag: T) {
        self.begin(tag, Laid::Part(Vec::new()));
    }

    fn begin(&mut self, tag: T, laid: Laid) {
        self.files.push_back(FileDraft {
            tag,
            waiting: VecDeque::new(),
            laid,
            size: 0,
            new_bytes: 0,
            ended: false,
        });
    }

    /// Adds a chunk to the file that was begun last.
    ///
    /// # Errors
    /// If an earlier container could not be stored.
    pub fn chunk(&mut self, content: &[u8]) -> Result<()> {
        let fingerprint = self.session.writing.store.keys.fingerprint(Class::Data, content);
        let (spot, new) = match self.session.writing.store.known(&fingerprint) {
            Some(location) => (Spot::At(location), false),
            None => self.store(&fingerprint, content),
        };
        let length = content.len() as u32;
        if let Some(file) = self.files.back_mut() {
            file.size += u64::from(length);
            if new {
                file.new_bytes += u64::from(length);
            }
            file.waiting.push_back(Item::Chunk(ChunkRef { fingerprint, length, spot }));
        }
        if self.block.is_full(self.session.writing.store.header.layout.data_block) {
            self.seal()?;
        }
        Ok(())
    }

    fn store(&mut self, fingerprint: &Fingerprint, content: &[u8]) -> (Spot, bool) {
        let chunk = self.fingerprints.len() as u16;
        match self.session.writing.claim(fingerprint, Fresh::Open { token: self.token, chunk }) {
            Some(Fresh::At(location)) => (Spot::At(location), false),
            Some(Fresh::Open { token, chunk }) if token == self.token => {
                (Spot::Open { token, chunk }, false)
            }
            // Another worker is about to store it; the index will know where.
            Some(Fresh::Open { .. }) => (Spot::Unknown, false),
            None => {
                self.block.push(content);
                self.fingerprints.push(*fingerprint);
                self.session.writing.add_new_bytes(content.len() as u64);
                (Spot::Open { token: self.token, chunk }, true)
            }
        }
    }

    /// Adds a hole to the file that was begun last.
    pub fn hole(&mut self, length: u64) {
        if let Some(file) = self.files.back_mut() {
            file.size += length;
            file.waiting.push_back(Item::Hole(length));
        }
    }

    /// Ends the file that was begun last.
    ///
    /// # Errors
    /// If a page of its recipe cannot be stored.
    pub fn end_file(&mut self) -> Result<()> {
        let Some(file) = self.files.back_mut() else { return Ok(()) };
        file.ended = true;
        let is_placed =
            |item: &Item| !matches!(item, Item::Chunk(ChunkRef { spot: Spot::Open { .. }, .. }));
        if file.waiting.iter().all(is_placed)
            && let Some(file) = self.files.pop_back()
        {
            self.complete(file)?;
        }
        Ok(())
    }

    /// The tag of the file that was begun last.
    pub fn last_file(&mut self) -> Option<&mut T> {
        self.files.back_mut().map(|file| &mut file.tag)
    }

    /// Drops the file that was begun last, as if it had never been; what was stored of it stays
    /// behind unused.
    pub fn drop_file(&mut self) -> Option<T> {
        self.files.pop_back().map(|file| file.tag)
    }

    fn complete(&mut self, mut file: FileDraft<T>) -> Result<()> {
        for item in file.waiting.drain(..) {
            file.laid.push(&self.session, item)?;
        }
        let recipe = file.laid.finish(&self.session)?;
        self.done.push((file.tag, Content { recipe, size: file.size, new_bytes: file.new_bytes }));
        Ok(())
    }

    fn seal(&mut self) -> Result<()> {
        if self.block.is_empty() {
            return Ok(());
        }
        let (number, mut container) = match self.container.take() {
            Some(open) => open,
            None => self.session.writing.begin_container(Class::Data)?,
        };
        let (block, offset, length) =
            container.add(&mut self.block, &self.fingerprints, &mut self.compressor)?;
        let at = Location { container: number, block, chunk: 0, offset, length };
        self.session.writing.place_block(&self.fingerprints, at);
        self.fingerprints.clear();
        let sealed = std::mem::replace(&mut self.token, self.session.writing.next_token());
        for mut file in std::mem::take(&mut self.files) {
            for mut item in file.waiting.drain(..) {
                if let Item::Chunk(chunk) = &mut item
                    && let Spot::Open { token, chunk: number } = chunk.spot
                {
                    debug_assert_eq!(token, sealed, "only the open block is waited for");
                    chunk.spot = Spot::At(Location { chunk: number, ..at });
                }
                file.laid.push(&self.session, item)?;
            }
            if file.ended {
                self.complete(file)?;
            } else {
                self.files.push_back(file);
            }
        }
        if container.is_full(self.session.writing.store.full_container()) {
            self.session.writing.finish_container(container)?;
        } else {
            self.container = Some((number, container));
        }
        Ok(())
    }

    /// Seals the open block, so that every file that was ended is given back.
    ///
    /// # Errors
    /// If it cannot be stored.
    pub fn flush(&mut self) -> Result<()> {
        self.seal()
    }

    /// Whether files wait for their block to be sealed.
    #[must_use]
    pub fn is_waiting(&self) -> bool {
        !self.files.is_empty()
    }

    /// The files that are complete since the last call.
    pub fn take_done(&mut self) -> Vec<(T, Content)> {
        std::mem::take(&mut self.done)
    }

    /// Hands the open container over, however full.
    ///
    /// # Errors
    /// If it cannot be stored.
    pub fn close(&mut self) -> Result<()> {
        self.seal()?;
        match self.container.take() {
            Some((_, container)) => self.session.writing.finish_container(container),
            None => Ok(()),
        }
    }
}
