//! Mending a store: contents of which no good copy is left are stored anew from wherever their bytes
//! still are, and what is kept twice is made two again.
//!
//! A container is never changed. What can be read of a damaged one, by its parity if need be, is moved by
//! the reclaim that follows, which then deletes it.

mod copies;
#[cfg(test)]
mod tests;

use std::{collections::HashSet, sync::Arc};

use crate::{
    error::Result,
    format::{
        compress::Compression,
        ids::{Class, Prefix},
    },
    index::SegmentDraft,
    store::Store,
    tree::{ChunkRef, Item, Recipe},
    writing::{
        content::ContentWriter,
        session::{Session, SessionStart},
    },
};

/// Contents of which no copy can be read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct LostContents(pub(crate) HashSet<Prefix>);

impl LostContents {
    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// How many.
    #[must_use]
    pub fn len(&self) -> usize {
        self.0.len()
    }
}

/// Who mends.
#[derive(Clone, Copy, Debug)]
pub struct MendStart<'a> {
    /// The machine's name.
    pub machine: &'a str,
    /// Whose work in this store is done one after the other, as in [`SessionStart`].
    pub origin: Option<&'a str>,
    /// Now, in milliseconds since 1970.
    pub now: i64,
}

/// Stores lost contents anew, in a run that never has a snapshot.
pub struct Mender {
    store: Arc<Store>,
    session: Arc<Session>,
    writer: ContentWriter<()>,
    lost: LostContents,
    found: u64,
}

impl Mender {
    /// Begins.
    ///
    /// # Errors
    /// If the store cannot be written to.
    pub fn begin(store: &Arc<Store>, start: MendStart<'_>, lost: LostContents) -> Result<Self> {
        let session = Session::begin(
            store,
            &SessionStart {
                plan: "",
                machine: start.machine,
                started: start.now,
                order: None,
                origin: start.origin,
                compression: Compression::Default,
            },
        )?;
        let writer = ContentWriter::new(&session)?;
        Ok(Self { store: Arc::clone(store), session, writer, lost, found: 0 })
    }

    /// Contents that are lost still.
    #[must_use]
    pub fn left(&self) -> usize {
        self.lost.len()
    }

    /// Whether a content is lost still.
    #[must_use]
    pub fn is_lost(&self, chunk: &ChunkRef) -> bool {
        self.lost.0.contains(&chunk.fingerprint.prefix())
    }

    /// The lost contents of a file, with their offsets in it.
    ///
    /// # Errors
    /// If the place fails. A list of which a page is lost ends there.
    pub fn lost_in(&self, recipe: &Recipe) -> Result<Vec<(u64, ChunkRef)>> {
        let (mut offset, mut found) = (0u64, Vec::new());
        for item in self.store.items(recipe) {
            let length = match item {
                Ok(Item::Chunk(chunk)) => {
                    if self.is_lost(&chunk) {
                        found.push((offset, chunk));
                    }
                    u64::from(chunk.length)
                }
                Ok(Item::Hole(length)) => length,
                Err(error) if error.is_unreadable() => break,
                Err(error) => return Err(error),
            };
            offset = offset.saturating_add(length);
        }
        Ok(found)
    }

    /// Stores bytes if they are a lost content; whether they are.
    ///
    /// # Errors
    /// If the place fails.
    pub fn offer(&mut self, bytes: &[u8]) -> Result<bool> {
        let fingerprint = self.store.keys.fingerprint(Class::Data, bytes);
        if !self.lost.0.remove(&fingerprint.prefix()) {
            return Ok(false);
        }
        self.writer.begin_file(());
        self.writer.chunk(bytes)?;
        self.writer.end_file()?;
        self.writer.take_done();
        self.found += 1;
        self.session.poll_now_and_then()?;
        Ok(true)
    }

    /// Brings everything to the place and makes it findable; how many contents were stored.
    ///
    /// # Errors
    /// If the place fails, or it is cancelled. What was stored is found by the next run all the same.
    pub fn finish(mut self, is_cancelled: &dyn Fn() -> bool) -> Result<u64> {
        let done = self.writer.close().and_then(|()| {
            let finished = self.session.writing.uploads.drain(is_cancelled)?;
            self.session.writing.write_segment(&finished, SegmentDraft::default())
        });
        match done {
            // Nothing of it is under way, and no snapshot will ever come of it.
            Ok(()) => self.store.place.delete(&self.session.record_name()?)?,
            Err(error) => {
                self.session.abandon();
                return Err(error);
            }
        }
        Ok(self.found)
    }

    /// Gives up; what has been stored stays.
    pub fn abandon(self) {
        self.session.abandon();
    }
}
