//! The content of a file as an archive has it: all of it, or what is between its holes.

use std::io::{self, Read};

use skellin_store::{Item, Items, Recipe, Store, StoreError};

use crate::{clock::Cancel, error::Result};

/// Bytes of a block of an archive.
const BLOCK: usize = 512;

/// Where the content of a file with holes lies.
pub(super) struct Map {
    /// The map as it stands before the content, in whole blocks.
    text: Vec<u8>,
    /// Bytes between the holes.
    held: u64,
}

impl Map {
    /// How many bytes a file really has, unless that is more than can be; and its map, if it has holes.
    pub fn of(store: &Store, recipe: &Recipe, size: u64) -> Result<(Option<u64>, Option<Self>)> {
        let mut parts: Vec<(u64, u64)> = Vec::new();
        let (mut at, mut held, mut has_holes) = (0u64, 0u64, false);
        let mut is_possible = true;
        let mut items = store.items(recipe);
        while let Some(item) = items.next_item()? {
            match item {
                Item::Hole(length) => {
                    has_holes = true;
                    is_possible &= at.checked_add(length).is_some();
                    at = at.saturating_add(length);
                }
                Item::Chunk(chunk) => {
                    let length = u64::from(chunk.length);
                    match parts.last_mut() {
                        Some((from, part)) if from.checked_add(*part) == Some(at) => {
                            *part = part.saturating_add(length);
                        }
                        _ => parts.push((at, length)),
                    }
                    is_possible &= at.checked_add(length).is_some();
                    at = at.saturating_add(length);
                    held = held.saturating_add(length);
                }
            }
        }
        let total = is_possible.then_some(at);
        if !has_holes || total != Some(size) {
            return Ok((total, None));
        }
        // An end without content says how long the file is.
        if parts.last().is_none_or(|(from, part)| from + part != size) {
            parts.push((size, 0));
        }
        let mut text = format!("{}\n", parts.len()).into_bytes();
        for (from, length) in parts {
            text.extend_from_slice(format!("{from}\n{length}\n").as_bytes());
        }
        text.resize(text.len().next_multiple_of(BLOCK), 0);
        Ok((total, Some(Self { text, held })))
    }

    /// Bytes that stand in the archive.
    pub fn stored(&self) -> u64 {
        self.text.len() as u64 + self.held
    }
}

/// The bytes of a member: exactly as many as were promised, zeros where the store has them no more.
pub(super) struct Content<'a> {
    store: &'a Store,
    items: Items<'a>,
    /// What is ready, and how far it was handed out.
    ready: Vec<u8>,
    at: usize,
    /// Zeros that come next.
    zeros: u64,
    left: u64,
    skips_holes: bool,
    /// Raised, it ends early, with zeros.
    cancel: &'a Cancel,
    failure: Option<StoreError>,
}

impl<'a> Content<'a> {
    pub fn new(
        (store, cancel): (&'a Store, &'a Cancel),
        recipe: &Recipe,
        size: u64,
        map: Option<&Map>,
    ) -> Self {
        Self {
            store,
            items: store.items(recipe),
            ready: map.map_or_else(Vec::new, |map| map.text.clone()),
            at: 0,
            zeros: 0,
            left: map.map_or(size, Map::stored),
            skips_holes: map.is_some(),
            cancel,
            failure: None,
        }
    }

    /// Why some of it could not be read.
    pub fn take_failure(&mut self) -> Option<StoreError> {
        self.failure.take()
    }

    /// Makes the next item ready.
    fn advance(&mut self) {
        self.ready.clear();
        self.at = 0;
        if self.cancel.is_cancelled() {
            self.zeros = self.left;
            return;
        }
        match self.items.next_item() {
            Ok(Some(Item::Hole(length))) => self.zeros = if self.skips_holes { 0 } else { length },
            Ok(Some(Item::Chunk(chunk))) => {
                let ready = &mut self.ready;
                let read = self.store.chunk(&chunk, |bytes| ready.extend_from_slice(bytes));
                if let Err(error) = read {
                    self.failure.get_or_insert(error);
                    self.zeros = u64::from(chunk.length);
                }
            }
            other => {
                if let Err(error) = other {
                    self.failure.get_or_insert(error);
                }
                self.zeros = self.left;
            }
        }
    }
}

impl Read for Content<'_> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let most = into.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        if most == 0 {
            return Ok(0);
        }
        while self.at == self.ready.len() && self.zeros == 0 {
            self.advance();
        }
        let count = match self.at < self.ready.len() {
            true => {
                let count = most.min(self.ready.len() - self.at);
                into[..count].copy_from_slice(&self.ready[self.at..][..count]);
                self.at += count;
                count
            }
            false => {
                let count = most.min(usize::try_from(self.zeros).unwrap_or(usize::MAX));
                into[..count].fill(0);
                self.zeros -= count as u64;
                count
            }
        };
        self.left -= count as u64;
        Ok(count)
    }
}
