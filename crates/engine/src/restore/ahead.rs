//! The pieces of a file in their order, some of them known before they are needed.

use std::collections::VecDeque;

use skellin_store::{ChunkRef, Item, Items, Recipe, Store, StoreError};

/// So many pieces of a file are looked at ahead, about 3 MiB.
const AHEAD: usize = 64;

pub(super) struct Ahead<'a> {
    store: &'a Store,
    items: Items<'a>,
    known: VecDeque<Item>,
}

impl<'a> Ahead<'a> {
    pub fn new(store: &'a Store, recipe: &Recipe) -> Self {
        Self { store, items: store.items(recipe), known: VecDeque::new() }
    }

    /// The next piece; what it and those after it need of a far store is fetched together.
    pub fn next(&mut self) -> Result<Option<Item>, StoreError> {
        self.look()?;
        Ok(self.known.pop_front())
    }

    /// Adds to a run of chunks those that follow it in the file and in the store.
    pub fn neighbours(&mut self, run: &mut Vec<ChunkRef>) -> Result<(), StoreError> {
        loop {
            self.look()?;
            match (run.last(), self.known.front()) {
                (Some(last), Some(Item::Chunk(next))) if next.follows(last) => run.push(*next),
                _ => return Ok(()),
            }
            self.known.pop_front();
        }
    }

    fn look(&mut self) -> Result<(), StoreError> {
        if !self.known.is_empty() {
            return Ok(());
        }
        while self.known.len() < AHEAD
            && let Some(item) = self.items.next().transpose()?
        {
            self.known.push_back(item);
        }
        let chunks = self.known.iter().filter_map(|item| match item {
            Item::Chunk(chunk) => Some(*chunk),
            Item::Hole(_) => None,
        });
        self.store.fetch_ahead(&chunks.collect::<Vec<_>>());
        Ok(())
    }
}
