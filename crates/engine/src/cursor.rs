//! Files of snapshots read at any offset: best from front to back.

use std::borrow::Borrow;

use skellin_store::{Item, ItemsOf, Recipe, Store};

use crate::error::Result;

/// A file of a snapshot that is read in pieces.
pub struct FileCursor<S> {
    store: S,
    recipe: Recipe,
    items: ItemsOf<S>,
    /// The piece in which the last read ended: where it begins, how long it is, and what it is.
    piece: Option<(u64, u64, Item)>,
    /// Where the piece after it begins.
    next: u64,
}

impl<S: Borrow<Store> + Clone> FileCursor<S> {
    /// Before the first byte.
    pub fn new(store: S, recipe: &Recipe) -> Self {
        let items = ItemsOf::new(store.clone(), recipe);
        Self { store, recipe: recipe.clone(), items, piece: None, next: 0 }
    }

    /// Fills a buffer with what lies at an offset; how many bytes there are, fewer only at the end.
    /// An offset before that of the last read costs a new beginning.
    ///
    /// # Errors
    /// If the content cannot be read.
    pub fn read_at(&mut self, offset: u64, into: &mut [u8]) -> Result<usize> {
        if self.piece.is_some_and(|(from, ..)| offset < from) {
            self.items = ItemsOf::new(self.store.clone(), &self.recipe);
            (self.piece, self.next) = (None, 0);
        }
        let mut filled = 0;
        while filled < into.len() {
            let at = offset + filled as u64;
            let (from, length, item) = match self.piece {
                Some(piece) if at < piece.0 + piece.1 => piece,
                _ => match self.items.next_item()? {
                    None => break,
                    Some(item) => {
                        let length = match item {
                            Item::Chunk(chunk) => u64::from(chunk.length),
                            Item::Hole(length) => length,
                        };
                        self.piece = Some((self.next, length, item));
                        self.next = self.next.saturating_add(length);
                        continue;
                    }
                },
            };
            let within = at - from;
            let count = usize::try_from(length - within).unwrap_or(usize::MAX);
            let count = count.min(into.len() - filled);
            let part = &mut into[filled..filled + count];
            match item {
                Item::Hole(_) => part.fill(0),
                Item::Chunk(chunk) => {
                    let within = within as usize;
                    self.store.borrow().chunk(&chunk, |bytes| {
                        match bytes.get(within..within + count) {
                            Some(bytes) => part.copy_from_slice(bytes),
                            // What a fingerprint proves has the length its list says, or the list lies.
                            None => part.fill(0),
                        }
                    })?;
                }
            }
            filled += count;
        }
        Ok(filled)
    }
}
