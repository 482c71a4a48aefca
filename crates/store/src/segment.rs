//! Index segments: sorted tables from fingerprint prefixes to where the content lies.
//!
//! The body is laid out so that it can be searched where it lies. FORMAT.md has the bytes.

use std::sync::atomic::{AtomicBool, Ordering};

use crate::{
    container::Salt,
    containers::ContainerLength,
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
const LENGTH: usize = 8;
/// In the head: lengths of the containers follow the records.
const HAS_LENGTHS: u64 = 1;
/// Records that are read at a time when all are.
const WINDOW: usize = 4096;
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
    /// Bytes of the whole object; 0 if the segment does not say.
    pub length: u64,
}

impl SegmentContainer {
    /// How long it must be at the place.
    pub fn required(&self) -> ContainerLength {
        match self.length {
            0 => ContainerLength::AtLeast(
                self.blocks
                    .last()
                    .map_or(0, |(offset, length)| u64::from(*offset) + u64::from(*length)),
            ),
            length => ContainerLength::Exactly(length),
        }
    }
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
#[derive(Clone, Default)]
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

impl Record {
    fn decode(row: &[u8; RECORD]) -> Self {
        let mut prefix = [0; 16];
        prefix.copy_from_slice(&row[..16]);
        Self {
            prefix,
            container: u32::from_le_bytes([row[16], row[17], row[18], row[19]]),
            block: u16::from_le_bytes([row[20], row[21]]),
            chunk: u16::from_le_bytes([row[22], row[23]]),
        }
    }
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
        for long in [self.records.len() as u64, filters as u64, HAS_LENGTHS] {
            out.extend_from_slice(&long.to_le_bytes());
        }
        for input in &self.inputs {
            out.extend_from_slice(&input.run.0);
            out.extend_from_slice(&input.number.to_le_bytes());
            out.extend_from_slice(&[0; 4]);
        }
        let mut first = 0u32;
        for SegmentContainer { id, salt, blocks, .. } in &self.containers {
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
        for container in &self.containers {
            out.extend_from_slice(&container.length.to_le_bytes());
        }
        out
    }
}

/// The bytes of a segment, wherever they are.
pub(crate) trait SegmentBytes: Send + Sync {
    /// How many there are.
    fn len(&self) -> u64;
    /// Reads some of them; `false` if they cannot be read any more.
    fn read(&self, at: u64, into: &mut [u8]) -> bool;
}

impl SegmentBytes for Vec<u8> {
    fn len(&self) -> u64 {
        self.as_slice().len() as u64
    }

    fn read(&self, at: u64, into: &mut [u8]) -> bool {
        let part =
            usize::try_from(at).ok().and_then(|at| self.get(at..at.checked_add(into.len())?));
        part.map(|part| into.copy_from_slice(part)).is_some()
    }
}

/// A segment that can be searched. Its tables are in memory; its records stay where they are.
pub(crate) struct Segment {
    source: Box<dyn SegmentBytes>,
    pub level: u32,
    pub inputs: Vec<SegmentId>,
    pub containers: Vec<SegmentContainer>,
    filter: Vec<[u64; 8]>,
    records: usize,
    records_at: u64,
    failed: AtomicBool,
}

/// A part of a segment that was read into memory, or the error of a damaged one.
struct Tables<'a> {
    bytes: &'a [u8],
    object: &'a str,
}

impl Tables<'_> {
    fn part<const N: usize>(&self, at: usize) -> Result<[u8; N]> {
        let part = self.bytes.get(at..).and_then(|rest| rest.first_chunk().copied());
        part.ok_or_else(|| misfit(self.object))
    }

    fn word(&self, at: usize) -> Result<u32> {
        self.part(at).map(u32::from_le_bytes)
    }

    fn long(&self, at: usize) -> Result<u64> {
        self.part(at).map(u64::from_le_bytes)
    }
}

fn misfit(object: &str) -> StoreError {
    StoreError::damaged(object, "its tables do not fit together")
}

impl Segment {
    /// Reads the tables of a body; the records stay where they are.
    pub fn parse(source: Box<dyn SegmentBytes>, object: &str) -> Result<Self> {
        let damaged = || misfit(object);
        let read = |at: u64, length: u64| {
            // Lengths are compared with what is there before anything is made room for.
            let end = at.checked_add(length).filter(|end| *end <= source.len());
            let mut bytes = vec![0; end.map_or(0, |_| length as usize)];
            (end.is_some() && source.read(at, &mut bytes)).then_some(bytes).ok_or_else(damaged)
        };
        let head = read(0, HEAD as u64)?;
        let head = Tables { bytes: &head, object };
        if head.bytes[..8] != *MAGIC {
            return Err(StoreError::damaged(object, "it is not an index segment"));
        }
        let flags = head.long(40)?;
        if flags & !HAS_LENGTHS != 0 {
            return Err(damaged());
        }
        let container_count = u64::from(head.word(16)?);
        let counts = [
            u64::from(head.word(12)?) * INPUT as u64,
            container_count * CONTAINER as u64,
            u64::from(head.word(20)?) * BLOCK as u64,
            head.long(32)?.checked_mul(FILTER as u64).ok_or_else(damaged)?,
            head.long(24)?.checked_mul(RECORD as u64).ok_or_else(damaged)?,
            (flags & HAS_LENGTHS) * container_count * LENGTH as u64,
        ];
        let total = counts.iter().try_fold(HEAD as u64, |sum, part| sum.checked_add(*part));
        if total != Some(source.len()) {
            return Err(damaged());
        }
        let [input_bytes, container_bytes, block_bytes, filter_bytes, record_bytes, length_bytes] =
            counts;
        let tables_bytes = HEAD as u64 + input_bytes + container_bytes + block_bytes;
        let records_at = tables_bytes + filter_bytes;
        let tables = read(0, tables_bytes)?;
        let tables = Tables { bytes: &tables, object };
        let lengths = read(records_at + record_bytes, length_bytes)?;
        let lengths = Tables { bytes: &lengths, object };
        let containers_at = HEAD + input_bytes as usize;
        let blocks_at = containers_at + container_bytes as usize;
        let inputs = (HEAD..containers_at)
            .step_by(INPUT)
            .map(|at| Ok(SegmentId { run: RunId(tables.part(at)?), number: tables.word(at + 16)? }))
            .collect::<Result<_>>()?;
        let mut containers = Vec::with_capacity(container_count as usize);
        for (number, at) in (containers_at..blocks_at).step_by(CONTAINER).enumerate() {
            let class = u8::try_from(tables.word(at + 36)?).ok().and_then(Class::from_code);
            let id = ContainerId {
                class: class.ok_or_else(damaged)?,
                run: RunId(tables.part(at)?),
                sequence: tables.word(at + 32)?,
            };
            let from = blocks_at + tables.word(at + 40)? as usize * BLOCK;
            let to = from + tables.word(at + 44)? as usize * BLOCK;
            if to > tables.bytes.len() {
                return Err(damaged());
            }
            let blocks = (from..to)
                .step_by(BLOCK)
                .map(|at| Ok((tables.word(at)?, tables.word(at + 4)?)))
                .collect::<Result<_>>()?;
            let length =
                if flags & HAS_LENGTHS == 0 { 0 } else { lengths.long(number * LENGTH)? };
            containers.push(SegmentContainer { id, salt: tables.part(at + 16)?, blocks, length });
        }
        let (level, records) = (head.word(8)?, head.long(24)? as usize);
        let filter: Vec<[u64; 8]> = read(tables_bytes, filter_bytes)?
            .as_chunks::<FILTER>()
            .0
            .iter()
            .map(|block| {
                std::array::from_fn(|word| {
                    u64::from_le_bytes(std::array::from_fn(|byte| block[word * 8 + byte]))
                })
            })
            .collect();
        if records > 0 && filter.is_empty() {
            return Err(damaged());
        }
        let failed = AtomicBool::new(false);
        Ok(Self { source, level, inputs, containers, filter, records, records_at, failed })
    }

    /// How many records it has.
    pub fn len(&self) -> usize {
        self.records
    }

    /// Whether its records could not be read at some time: what it knows is then not found.
    pub fn has_failed(&self) -> bool {
        self.failed.load(Ordering::Relaxed)
    }

    /// All records, in order.
    ///
    /// # Errors
    /// If they cannot be read any more.
    pub fn for_each(&self, object: &str, mut each: impl FnMut(Record) -> Result<()>) -> Result<()> {
        let mut bytes = Vec::new();
        for from in (0..self.records).step_by(WINDOW) {
            let count = WINDOW.min(self.records - from);
            bytes.resize(count * RECORD, 0);
            if !self.source.read(self.records_at + (from * RECORD) as u64, &mut bytes) {
                return Err(StoreError::damaged(object, "its records cannot be read"));
            }
            for row in bytes.as_chunks::<RECORD>().0 {
                each(Record::decode(row))?;
            }
        }
        Ok(())
    }

    /// A record; none at the end, or if it cannot be read any more.
    fn record(&self, number: usize) -> Option<Record> {
        if number >= self.records {
            return None;
        }
        let mut row = [0; RECORD];
        if !self.source.read(self.records_at + (number * RECORD) as u64, &mut row) {
            self.failed.store(true, Ordering::Relaxed);
            return None;
        }
        Some(Record::decode(&row))
    }

    /// All records of a prefix.
    pub fn find<'a>(&'a self, prefix: &'a Prefix) -> impl Iterator<Item = Record> + 'a {
        let from = if self.may_hold(prefix) { self.lower_bound(prefix) } else { None };
        let from = from.unwrap_or(self.records);
        (from..self.records)
            .map_while(|number| self.record(number))
            .take_while(move |record| record.prefix == *prefix)
    }

    fn may_hold(&self, prefix: &Prefix) -> bool {
        if self.records == 0 {
            return false;
        }
        let words = &self.filter[filter_block(prefix, self.filter.len())];
        words.iter().zip(filter_bits(prefix)).all(|(word, bit)| word & bit != 0)
    }

    /// The first record not below a prefix. Fingerprints are evenly spread, so the place is
    /// guessed, and the search gallops out from there. `None` if the records cannot be read.
    fn lower_bound(&self, prefix: &Prefix) -> Option<usize> {
        let is_below = |number: usize| Some(self.record(number)?.prefix < *prefix);
        let guess = ((u128::from(halves(prefix).0) * self.records as u128) >> 64) as usize;
        let (mut low, mut high, mut step) = (guess, guess, 8);
        while low > 0 && !is_below(low)? {
            low = low.saturating_sub(step);
            step *= 2;
        }
        step = 8;
        while high < self.records && is_below(high)? {
            high = (high + step).min(self.records);
            step *= 2;
        }
        while low < high {
            let middle = low.midpoint(high);
            if is_below(middle)? {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        Some(low)
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
            length: u64::from(sequence) * 1000,
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
