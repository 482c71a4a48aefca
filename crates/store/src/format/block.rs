//! Blocks: neighbouring chunks, compressed and sealed together.
//!
//! Plain form: one byte for the codec, three zero bytes, the number of chunks, the length of each
//! (all numbers 32 bits, little-endian), then the chunks, compressed together or as they are.

use crate::{
    error::Result,
    format::{
        compress::{Compressor, expand},
        spare,
    },
};

/// No block holds more content than this, whatever a damaged one says.
const LONGEST: usize = 8 << 20;
/// No block holds more chunks than this.
pub(crate) const MOST_CHUNKS: usize = 4096;

/// Chunks gathered for a block.
#[derive(Default)]
pub(crate) struct OpenBlock {
    lengths: Vec<u32>,
    content: Vec<u8>,
}

impl OpenBlock {
    pub fn push(&mut self, chunk: &[u8]) -> u16 {
        self.lengths.push(chunk.len() as u32);
        self.content.extend_from_slice(chunk);
        (self.lengths.len() - 1) as u16
    }

    pub fn is_empty(&self) -> bool {
        self.lengths.is_empty()
    }

    pub fn is_full(&self, target: u32) -> bool {
        self.content.len() >= target as usize || self.lengths.len() >= MOST_CHUNKS
    }

    /// The lengths of its chunks.
    pub fn lengths(&self) -> &[u32] {
        &self.lengths
    }

    /// Appends the plain form to `out` and empties the block.
    pub fn finish(&mut self, compressor: &mut Compressor, out: &mut Vec<u8>) -> Result<()> {
        let compressed = compressor.compress(&self.content)?;
        out.extend_from_slice(&[u8::from(compressed.is_some()), 0, 0, 0]);
        out.extend_from_slice(&(self.lengths.len() as u32).to_le_bytes());
        self.lengths.iter().for_each(|length| out.extend_from_slice(&length.to_le_bytes()));
        out.extend_from_slice(compressed.unwrap_or(&self.content));
        self.lengths.clear();
        self.content.clear();
        Ok(())
    }
}

/// A block that was opened.
#[derive(Debug)]
pub(crate) struct Block {
    /// Where each chunk begins, and the end.
    bounds: Vec<u32>,
    content: Vec<u8>,
    /// Where the content begins.
    start: usize,
}

impl Drop for Block {
    fn drop(&mut self) {
        spare::give(std::mem::take(&mut self.content));
    }
}

impl Block {
    /// Parses the plain form; `None` if it is damaged.
    pub fn parse(plain: Vec<u8>) -> Option<Self> {
        let word = |at: usize| Some(u32::from_le_bytes(plain.get(at..at + 4)?.try_into().ok()?));
        let codec = word(0)?;
        let count = word(4)? as usize;
        if codec > 1 || count > MOST_CHUNKS {
            return None;
        }
        let mut bounds = Vec::with_capacity(count + 1);
        let mut end = 0u32;
        bounds.push(0);
        for index in 0..count {
            end = end.checked_add(word(8 + 4 * index)?)?;
            bounds.push(end);
        }
        let (start, length) = (8 + 4 * count, end as usize);
        if length > LONGEST {
            return None;
        }
        if codec == 0 {
            return (plain.len() == start + length).then_some(Self {
                bounds,
                content: plain,
                start,
            });
        }
        let mut content = spare::take();
        if !expand(plain.get(start..)?, length, &mut content) {
            return None;
        }
        spare::give(plain);
        Some(Self { bounds, content, start: 0 })
    }

    /// How many chunks it holds.
    pub fn len(&self) -> usize {
        self.bounds.len() - 1
    }

    /// A chunk by its number.
    pub fn chunk(&self, number: usize) -> Option<&[u8]> {
        let from = *self.bounds.get(number)? as usize;
        let to = *self.bounds.get(number + 1)? as usize;
        self.content.get(self.start + from..self.start + to)
    }

    /// The content of neighbouring chunks from one number up to another.
    pub fn chunks(&self, from: usize, to: usize) -> Option<&[u8]> {
        let from = *self.bounds.get(from)? as usize;
        let to = *self.bounds.get(to)? as usize;
        self.content.get(self.start + from..self.start + to)
    }

    /// Bytes it occupies in memory.
    pub fn weight(&self) -> usize {
        self.content.len() + 4 * self.bounds.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::format::compress::Compression;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn blocks_come_back_as_they_were(chunks in prop::collection::vec(prop::collection::vec(0u8..4, 0..600), 0..40), off: bool) {
            let compression = if off { Compression::Off } else { Compression::Default };
            let mut compressor = Compressor::new(compression).expect("zstd");
            let (mut open, mut plain) = (OpenBlock::default(), Vec::new());
            for chunk in &chunks { open.push(chunk); }
            open.finish(&mut compressor, &mut plain).expect("finishes");
            let block = Block::parse(plain).expect("parses");
            prop_assert_eq!(block.len(), chunks.len());
            for (number, chunk) in chunks.iter().enumerate() {
                prop_assert_eq!(block.chunk(number), Some(chunk.as_slice()));
            }
            prop_assert_eq!(block.chunk(chunks.len()), None);
        }

        #[test]
        fn noise_is_refused_or_parsed_but_never_panics(plain in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = Block::parse(plain);
        }

        #[test]
        fn damaged_blocks_do_not_panic(at in 0usize..40, value: u8) {
            let mut compressor = Compressor::new(Compression::Default).expect("zstd");
            let (mut open, mut plain) = (OpenBlock::default(), Vec::new());
            open.push(&[1; 500]);
            open.push(&[2; 500]);
            open.finish(&mut compressor, &mut plain).expect("finishes");
            let at = at % plain.len();
            plain[at] = value;
            let _ = Block::parse(plain);
        }
    }
}
