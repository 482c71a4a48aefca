//! Whether a file holds, byte by byte, what a snapshot has of it: read here, nothing is fetched.

use std::{
    fs::File,
    io::{self, BufReader, Read},
};

use skellin_store::{Item, Recipe, Store, StoreError};

use crate::clock::Cancel;

/// Bytes that are read at a time.
const BUFFER: usize = 1 << 20;

/// Why that cannot be told.
#[derive(Debug)]
pub(crate) enum Untold {
    /// The file cannot be read.
    Here(io::Error),
    /// The store cannot say what was in it.
    Store(StoreError),
    /// It was interrupted.
    Cancelled,
}

impl From<io::Error> for Untold {
    fn from(error: io::Error) -> Self {
        Self::Here(error)
    }
}

impl From<StoreError> for Untold {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

/// Whether a file, read from where it stands, holds what a recipe says.
pub(crate) fn holds(
    store: &Store,
    recipe: &Recipe,
    file: File,
    cancel: &Cancel,
) -> Result<bool, Untold> {
    let mut file = BufReader::with_capacity(BUFFER, file);
    let (mut ours, mut block) = (Vec::new(), [0u8; 8192]);
    let mut items = store.items(recipe);
    loop {
        if cancel.is_cancelled() {
            return Err(Untold::Cancelled);
        }
        match items.next_item()? {
            None => return Ok(file.read(&mut block)? == 0),
            Some(Item::Chunk(chunk)) => {
                ours.clear();
                let most = u64::from(chunk.length);
                file.by_ref().take(most).read_to_end(&mut ours)?;
                if !store.is_content(&chunk, &ours) {
                    return Ok(false);
                }
            }
            Some(Item::Hole(length)) => {
                let mut left = length;
                while left > 0 {
                    let most = block.len().min(usize::try_from(left).unwrap_or(usize::MAX));
                    let count = file.read(&mut block[..most])?;
                    if count == 0 || block[..count].iter().any(|byte| *byte != 0) {
                        return Ok(false);
                    }
                    left -= count as u64;
                }
            }
        }
    }
}
