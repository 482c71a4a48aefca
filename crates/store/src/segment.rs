//! Index segments: sorted tables from fingerprint prefixes to where the content lies.
//!
//! The body is laid out so that it can be mapped and searched as it is. FORMAT.md has the bytes.

use crate::{
    container::Salt,
    error::{Result, StoreError},
    ids::{Class, ContainerId, Prefix, RunId},
};

const MAGIC: &[u8; 8] = b"SKINDEX1";
const HEAD: usize = 48;
const INPUT: usize = 24;
const CONTAINER: usize = 48;
const BLOCK: usize = 8;
const FILTER: usize = 64;
const RECORD: usize = 24;
/// Records for each 64 bytes of filter: ten bits a record.
const RECORDS_A_FILTER_BLOCK: usize = 51;

/// The name of a segment: the run that wrote it, and its number there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct SegmentId {
    pub run: RunId,
    pub number: u32,
}

impl std::fmt::Display for SegmentId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "index/{}-{:08x}", self.run, self.number)
    }
}

/// A container as a segment lists it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SegmentContainer {
    pub id: ContainerId,
    pub salt: Salt,
    /// Offset and sealed length of each block.
    pub blocks: Vec<(u32, u32)>,
}

/// One record: where the content of a fingerprint lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Record {
    pub prefix: Prefix,
    /// Number of the container in the segment.
    pub container: u32,
    pub block: u16,
    pub chunk: u16,
}

/// A segment being put together.
#[derive(Default)]
pub(crate) struct SegmentDraft {
    pub level: u32,
    /// The segments whose facts it repeats.
    pub inputs: Vec<SegmentId>,
    pub containers: Vec<SegmentContainer>,
    pub records: Vec<Record>,
}

fn filter_block(prefix: &Prefix, blocks: usize) -> usize {
    let (high, _) = halves(prefix);
    ((u128::from(high) * blocks as u128) >> 64) as usize
}

/// First half as a sorted number, second half for the filter's bits.
fn halves(prefix: &Prefix) -> (u64, u64) {
    let number = u128::from_be_bytes(*prefix);
    ((number >> 64) as u64, number as u64)
}

/// The bit each of the eight words of a filter block must have.
fn filter_bits(prefix: &Prefix) -> [u64; 8] {
    let (_, low) = halves(prefix);
    std::array::from_fn(|word| 1 << (low >> (8 * word) & 63))
}

impl SegmentDraft {
    /// The body's bytes.
    pub fn encode(mut self) -> Vec<u8> {
        self.records.sort_unstable();
        self.records.dedup();
        let filters = self.records.len().div_ceil(RECORDS_A_FILTER_BLOCK);
        let blocks: usize = self.containers.iter().map(|container| container.blocks.len()).sum();
        let mut out = Vec::with_capacity(HEAD + self.records.len() * (RECORD + 2) + blocks * BLOCK);
        out.extend_from_slice(MAGIC);
        for word in
            [self.level, self.inputs.len() as u32, self.containers.len() as u32, blocks as u32]
        {
            out.extend_from_slice(&word.to_le_bytes());
        }
        for long in [self.records.len() as u64, filters as u64, 0] {
            out.extend_from_slice(&long.to_le_bytes());
        }
        for input in &self.inputs {
            out.extend_from_slice(&input.run.0);
            out.extend_from_slice(&input.number.to_le_bytes());
            out.extend_from_slice(&[0; 4]);
        }
        let mut first = 0u32;
        for SegmentContainer { id, salt, blocks } in &self.containers {
            out.extend_from_slice(&id.run.0);
            out.extend_from_slice(salt);
            out.extend_from_slice(&id.sequence.to_le_bytes());
            out.extend_from_slice(&u32::from(id.class.code()).to_le_bytes());
            out.extend_from_slice(&first.to_le_bytes());
            out.extend_from_slice(&(blocks.len() as u32).to_le_bytes());
            first += blocks.len() as u32;
        }
        for (offset, length) in self.containers.iter().flat_map(|container| &container.blocks) {
            out.extend_from_slice(&offset.to_le_bytes());
            out.extend_from_slice(&length.to_le_bytes());
        }
        let mut filter = vec![[0u64; 8]; filters];
        for record in &self.records {
            let words = &mut filter[filter_block(&record.prefix, filters)];
            words.iter_mut().zip(filter_bits(&record.prefix)).for_each(|(word, bit)| *word |= bit);
        }
        filter.iter().flatten().for_each(|word| out.extend_from_slice(&word.to_le_bytes()));
        for record in &self.records {
            out.extend_from_slice(&record.prefix);
            out.extend_from_slice(&record.container.to_le_bytes());
            out.extend_from_slice(&record.block.to_le_bytes());
            out.extend_from_slice(&record.chunk.to_le_bytes());
        }
        out
    }
}

/// The bytes of a segment, wherever they are.
pub(crate) trait SegmentBytes: Send + Sync {
    fn bytes(&self) -> &[u8];
}

impl SegmentBytes for Vec<u8> {
    fn bytes(&self) -> &[u8] {
        self
    }
}

/// A segment that can be searched.
pub(crate) struct Segment {
    source: Box<dyn SegmentBytes>,
    pub level: u32,
    pub inputs: Vec<SegmentId>,
    pub containers: Vec<SegmentContainer>,
    filters: usize,
    filter_at: usize,
    records: usize,
    records_at: usize,
}

impl Segment {
    /// Reads the tables of a body; the records stay where they are.
    pub fn parse(source: Box<dyn SegmentBytes>, object: &str) -> Result<Self> {
        let damaged = || StoreError::damaged(object, "its tables do not fit together");
        let bytes = source.bytes();
        let word = |at: usize| {
            let word = bytes.get(at..at + 4).and_then(|word| word.try_into().ok());
            word.map(u32::from_le_bytes).ok_or_else(damaged)
        };
        let long = |at: usize| {
            let long = bytes.get(at..at + 8).and_then(|long| long.try_into().ok());
            long.map(u64::from_le_bytes).ok_or_else(damaged)
        };
        let sixteen = |at: usize| -> Result<[u8; 16]> {
            bytes.get(at..at + 16).and_then(|id| id.try_into().ok()).ok_or_else(damaged)
        };
        if bytes.get(..8) != Some(MAGIC.as_slice()) {
            return Err(StoreError::damaged(object, "it is no index segment"));
        }
        let counts = [
            u64::from(word(12)?) * INPUT as u64,
            u64::from(word(16)?) * CONTAINER as u64,
            u64::from(word(20)?) * BLOCK as u64,
            long(32)?.checked_mul(FILTER as u64).ok_or_else(damaged)?,
            long(24)?.checked_mul(RECORD as u64).ok_or_else(damaged)?,
        ];
        let total = counts.iter().try_fold(HEAD as u64, |sum, part| sum.checked_add(*part));
        if total != Some(bytes.len() as u64) {
            return Err(damaged());
        }
        let [input_bytes, container_bytes, block_bytes, filter_bytes, _] =
            counts.map(|count| count as usize);
        let containers_at = HEAD + input_bytes;
        let blocks_at = containers_at + container_bytes;
        let filter_at = blocks_at + block_bytes;
        let inputs = (HEAD..containers_at)
            .step_by(INPUT)
            .map(|at| Ok(SegmentId { run: RunId(sixteen(at)?), number: word(at + 16)? }))
            .collect::<Result<_>>()?;
        let mut containers = Vec::with_capacity(container_bytes / CONTAINER);
        for at in (containers_at..blocks_at).step_by(CONTAINER) {
            let class = u8::try_from(word(at + 36)?).ok().and_then(Class::from_code);
            let id = ContainerId {
                class: class.ok_or_else(damaged)?,
                run: RunId(sixteen(at)?),
                sequence: word(at + 32)?,
            };
            let from = blocks_at + word(at + 40)? as usize * BLOCK;
            let to = from + word(at + 44)? as usize * BLOCK;
            if to > filter_at {
                return Err(damaged());
            }
            let blocks = (from..to)
                .step_by(BLOCK)
                .map(|at| Ok((word(at)?, word(at + 4)?)))
                .collect::<Result<_>>()?;
            containers.push(SegmentContainer { id, salt: sixteen(at + 16)?, blocks });
        }
        let (level, records) = (word(8)?, long(24)? as usize);
        let filters = filter_bytes / FILTER;
        if records > 0 && filters == 0 {
            return Err(damaged());
        }
        let records_at = filter_at + filter_bytes;
        Ok(Self { source, level, inputs, containers, filters, filter_at, records, records_at })
    }

    /// How many records it has.
    pub fn len(&self) -> usize {
        self.records
    }

    /// All records, in order.
    pub fn records(&self) -> impl Iterator<Item = Record> + '_ {
        (0..self.records).map(|number| self.record(number))
    }

    fn record(&self, number: usize) -> Record {
        let at = self.records_at + number * RECORD;
        let row = &self.source.bytes()[at..at + RECORD];
        let mut prefix = [0; 16];
        prefix.copy_from_slice(&row[..16]);
        Record {
            prefix,
            container: u32::from_le_bytes([row[16], row[17], row[18], row[19]]),
            block: u16::from_le_bytes([row[20], row[21]]),
            chunk: u16::from_le_bytes([row[22], row[23]]),
        }
    }

    fn prefix(&self, number: usize) -> &[u8] {
        let at = self.records_at + number * RECORD;
        &self.source.bytes()[at..at + 16]
    }

    /// All records of a prefix.
    pub fn find<'a>(&'a self, prefix: &'a Prefix) -> impl Iterator<Item = Record> + 'a {
        let from = if self.may_hold(prefix) { self.lower_bound(prefix) } else { self.records };
        let fits = move |number: &usize| self.prefix(*number) == prefix;
        (from..self.records).take_while(fits).map(|number| self.record(number))
    }

    fn may_hold(&self, prefix: &Prefix) -> bool {
        if self.records == 0 {
            return false;
        }
        let at = self.filter_at + filter_block(prefix, self.filters) * FILTER;
        let words = self.source.bytes()[at..at + FILTER].chunks_exact(8);
        words.zip(filter_bits(prefix)).all(|(word, bit)| {
            let mut bytes = [0; 8];
            bytes.copy_from_slice(word);
            u64::from_le_bytes(bytes) & bit != 0
        })
    }

    /// The first record not below a prefix. Fingerprints are evenly spread, so the place is
    /// guessed, and the search gallops out from there.
    fn lower_bound(&self, prefix: &Prefix) -> usize {
        let guess = ((u128::from(halves(prefix).0) * self.records as u128) >> 64) as usize;
        let (mut low, mut high, mut step) = (guess, guess, 8);
        while low > 0 && self.prefix(low) >= prefix.as_slice() {
            low = low.saturating_sub(step);
            step *= 2;
        }
        step = 8;
        while high < self.records && self.prefix(high) < prefix.as_slice() {
            high = (high + step).min(self.records);
            step *= 2;
        }
        while low < high {
            let middle = low.midpoint(high);
            if self.prefix(middle) < prefix.as_slice() {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        low
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn prefix(seed: u64) -> Prefix {
        let mut prefix = [0; 16];
        prefix.copy_from_slice(&blake3::hash(&seed.to_le_bytes()).as_bytes()[..16]);
        prefix
    }

    fn draft(seeds: &[u64]) -> SegmentDraft {
        let container = |sequence| SegmentContainer {
            id: ContainerId { class: Class::Data, run: RunId([1; 16]), sequence },
            salt: [sequence as u8; 16],
            blocks: (0..sequence).map(|block| (block * 100, 100)).collect(),
        };
        let record = |seed: &u64| Record {
            prefix: prefix(*seed),
            container: (*seed % 3) as u32,
            block: *seed as u16,
            chunk: 7,
        };
        SegmentDraft {
            level: 2,
            inputs: vec![SegmentId { run: RunId([9; 16]), number: 4 }],
            containers: vec![container(0), container(3), container(1)],
            records: seeds.iter().map(record).collect(),
        }
    }

    proptest! {
        #[test]
        fn a_segment_finds_what_was_put_in_and_nothing_else(
            mut seeds in prop::collection::vec(0u64..5000, 0..600),
        ) {
            let given = draft(&seeds);
            let (containers, inputs) = (given.containers.clone(), given.inputs.clone());
            let segment = Segment::parse(Box::new(given.encode()), "s").expect("parses");
            prop_assert_eq!(&segment.containers, &containers);
            prop_assert_eq!(&segment.inputs, &inputs);
            seeds.sort_unstable();
            seeds.dedup();
            prop_assert_eq!(segment.len(), seeds.len());
            for seed in 0..5000 {
                let found: Vec<_> = segment.find(&prefix(seed)).collect();
                prop_assert_eq!(found.len(), usize::from(seeds.binary_search(&seed).is_ok()));
                prop_assert!(found.iter().all(|record| record.block == seed as u16));
            }
        }

        #[test]
        fn damaged_tables_give_errors_and_no_panic(at in 0usize..400, value: u8, cut in 0usize..2000) {
            let mut body = draft(&[1, 2, 3, 4, 5]).encode();
            let at = at % body.len();
            body[at] = value;
            body.truncate(body.len().min(cut.max(1)));
            if let Ok(segment) = Segment::parse(Box::new(body), "s") {
                for seed in 0..10 { let _ = segment.find(&prefix(seed)).count(); }
            }
        }
    }
}
