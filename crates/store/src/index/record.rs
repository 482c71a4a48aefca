//! The rows of an index: where the content of a fingerprint lies; and the filter that tells of most
//! fingerprints that there is no row.

use crate::format::ids::Prefix;

/// Bytes of a record.
pub(super) const RECORD: usize = 24;
/// Bytes of a filter block.
pub(super) const FILTER: usize = 64;
/// Records for each block of the filter: ten bits a record.
const RECORDS_A_FILTER_BLOCK: usize = 51;

/// One record: where the content of a fingerprint lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Record {
    pub prefix: Prefix,
    /// Number of the container in the segment.
    pub container: u32,
    pub block: u16,
    pub chunk: u16,
}

impl Record {
    pub(super) fn decode(row: &[u8; RECORD]) -> Self {
        let mut prefix = [0; 16];
        prefix.copy_from_slice(&row[..16]);
        Self {
            prefix,
            container: u32::from_le_bytes([row[16], row[17], row[18], row[19]]),
            block: u16::from_le_bytes([row[20], row[21]]),
            chunk: u16::from_le_bytes([row[22], row[23]]),
        }
    }

    fn encode(&self, out: &mut Vec<u8>) {
        out.extend_from_slice(&self.prefix);
        out.extend_from_slice(&self.container.to_le_bytes());
        out.extend_from_slice(&self.block.to_le_bytes());
        out.extend_from_slice(&self.chunk.to_le_bytes());
    }
}

/// First half as a sorted number, second half for the filter's bits.
pub(super) fn halves(prefix: &Prefix) -> (u64, u64) {
    let number = u128::from_be_bytes(*prefix);
    ((number >> 64) as u64, number as u64)
}

/// How many filter blocks so many records have.
pub(super) fn filter_blocks(records: usize) -> usize {
    records.div_ceil(RECORDS_A_FILTER_BLOCK)
}

/// Filter and records as a segment has them, of sorted records.
pub(super) fn encode_rows(records: &[Record], out: &mut Vec<u8>) {
    let mut filter = Filter(vec![[0u64; 8]; filter_blocks(records.len())]);
    records.iter().for_each(|record| filter.insert(&record.prefix));
    filter.0.iter().flatten().for_each(|word| out.extend_from_slice(&word.to_le_bytes()));
    records.iter().for_each(|record| record.encode(out));
}

/// A blocked Bloom filter (Putze, Sanders, Singler, "Cache-, Hash- and Space-Efficient Bloom Filters",
/// 2007): a block of eight words for each prefix, and a bit in each of them.
pub(super) struct Filter(Vec<[u64; 8]>);

impl Filter {
    pub fn decode(bytes: &[u8]) -> Self {
        let word = |block: &[u8; FILTER], word: usize| {
            u64::from_le_bytes(std::array::from_fn(|byte| block[word * 8 + byte]))
        };
        let blocks = bytes.as_chunks::<FILTER>().0.iter();
        Self(blocks.map(|block| std::array::from_fn(|number| word(block, number))).collect())
    }

    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    fn block(&self, prefix: &Prefix) -> usize {
        ((u128::from(halves(prefix).0) * self.0.len() as u128) >> 64) as usize
    }

    fn insert(&mut self, prefix: &Prefix) {
        let block = self.block(prefix);
        self.0[block].iter_mut().zip(bits(prefix)).for_each(|(word, bit)| *word |= bit);
    }

    /// Whether there may be a record of a prefix.
    pub fn may_hold(&self, prefix: &Prefix) -> bool {
        let words = self.0.get(self.block(prefix));
        words.is_some_and(|words| words.iter().zip(bits(prefix)).all(|(word, bit)| word & bit != 0))
    }
}

/// The bit each of the eight words of a filter block must have.
fn bits(prefix: &Prefix) -> [u64; 8] {
    let (_, low) = halves(prefix);
    std::array::from_fn(|word| 1 << (low >> (8 * word) & 63))
}
