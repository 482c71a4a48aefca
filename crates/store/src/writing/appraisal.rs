//! What some content would cost the store: how much of it is new, and what that would take.

use std::sync::Arc;

use crate::{
    error::Result,
    format::{
        compress::{Compression, Compressor},
        ids::Class,
    },
    store::Store,
};

/// Data is compressed in blocks of up to so many bytes.
const BLOCK: usize = 512 << 10;
/// What a chunk takes beside its content: its entry in the directory and in the index.
const CHUNK_OVERHEAD: u64 = 64;

/// What a piece of content would cost.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Appraised {
    /// Bytes that were compared.
    pub looked_at: u64,
    /// Bytes the store does not have.
    pub new: u64,
    /// Bytes it would take to store them.
    pub stored: u64,
}

/// Compares content with a store, and writes nothing.
pub struct Appraiser {
    store: Arc<Store>,
    compressor: Compressor,
}

impl Appraiser {
    /// # Errors
    /// If the index cannot be loaded, or the compressor not be made.
    pub fn new(store: &Arc<Store>, compression: Compression) -> Result<Self> {
        store.need_index()?;
        Ok(Self { store: Arc::clone(store), compressor: Compressor::new(compression)? })
    }

    /// Looks at a piece of a file. Where it does not begin at the file's beginning (`first`), the
    /// first two chunks are passed over, since only by then the cuts are those of the whole file;
    /// where it does not end at the file's end (`last`), what lies behind the last cut.
    ///
    /// # Errors
    /// If compressing fails.
    pub fn look(&mut self, piece: &[u8], first: bool, last: bool) -> Result<Appraised> {
        let mut appraised = Appraised::default();
        let (mut rest, mut number, mut block) = (piece, 0, Vec::new());
        while let Some(length) = self.store.chunker().cut(rest, last) {
            let (chunk, after) = rest.split_at(length);
            rest = after;
            number += 1;
            if !first && number <= 2 {
                continue;
            }
            appraised.looked_at += chunk.len() as u64;
            let fingerprint = self.store.keys.fingerprint(Class::Data, chunk);
            if self.store.index.find(&fingerprint.prefix(), &self.store.containers).is_some() {
                continue;
            }
            appraised.new += chunk.len() as u64;
            appraised.stored += CHUNK_OVERHEAD;
            if block.len() + chunk.len() > BLOCK {
                appraised.stored += self.size(&block)?;
                block.clear();
            }
            block.extend_from_slice(chunk);
        }
        appraised.stored += self.size(&block)?;
        Ok(appraised)
    }

    fn size(&mut self, block: &[u8]) -> Result<u64> {
        if block.is_empty() {
            return Ok(0);
        }
        let compressed = self.compressor.compress(block)?;
        Ok(compressed.map_or(block.len(), <[u8]>::len) as u64)
    }
}
