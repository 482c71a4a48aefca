//! Index segments: sorted tables from fingerprint prefixes to where the content lies.
//!
//! The body is laid out so that it can be searched where it lies; of a long one the records lie in
//! parts of their own. FORMAT.md has the bytes.

use std::sync::atomic::{AtomicBool, Ordering};

use super::{
    bytes::{SegmentBytes, misfit, stretch},
    layout::{
        BLOCK, CONTAINER, HAS_LENGTHS, HAS_PARTS, HEAD, INPUT, KEY, LENGTH, MAGIC, PART, PartRow,
        SegmentContainer, SegmentId,
    },
    part::Part,
    record::{FILTER, RECORD, Record, filter_blocks, halves},
};
use crate::{
    error::{Result, StoreError},
    format::{
        ids::{Class, ContainerId, Prefix, RunId},
        keys::WRAPPED,
    },
};

/// Records that are read at a time when all are.
const WINDOW: usize = 4096;

/// Opens a part of a segment by its number.
pub(super) type OpenPart<'a> = dyn FnMut(u32, &PartRow) -> Result<Box<dyn SegmentBytes>> + 'a;

/// A segment that can be searched. Its tables are in memory; its records stay where they are.
pub(crate) struct Segment {
    pub level: u32,
    pub inputs: Vec<SegmentId>,
    pub containers: Vec<SegmentContainer>,
    /// The wrapped content keys of runs whose containers it lists.
    pub keys: Vec<(RunId, Class, [u8; WRAPPED])>,
    parts: Vec<Part>,
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

impl Segment {
    /// Reads the tables of a body; the records stay where they are. Parts are asked for by their
    /// number.
    pub fn parse(
        source: Box<dyn SegmentBytes>,
        object: &str,
        part: &mut OpenPart<'_>,
    ) -> Result<Self> {
        let damaged = || misfit(object);
        let head = stretch(&*source, 0, HEAD as u64, object)?;
        let head = Tables { bytes: &head, object };
        if head.bytes[..8] != *MAGIC {
            return Err(StoreError::damaged(object, "it is not an index segment"));
        }
        let (flags, key_count) = (head.word(40)?, u64::from(head.word(44)?));
        if flags & !(HAS_LENGTHS | HAS_PARTS) != 0 {
            return Err(damaged());
        }
        let (records, filters_or_parts) = (head.long(24)?, head.long(32)?);
        let (filters, part_count, records_here) = match flags & HAS_PARTS {
            0 => (filters_or_parts, 0, records),
            _ => (0, filters_or_parts, 0),
        };
        let container_count = u64::from(head.word(16)?);
        let product = |count: u64, size: usize| count.checked_mul(size as u64).ok_or_else(damaged);
        let tables = [
            product(head.word(12)?.into(), INPUT)?,
            product(container_count, CONTAINER)?,
            product(head.word(20)?.into(), BLOCK)?,
        ];
        let rows = [product(filters, FILTER)?, product(records_here, RECORD)?];
        let ends = [
            product(u64::from(flags & HAS_LENGTHS) * container_count, LENGTH)?,
            product(key_count, KEY)?,
            product(part_count, PART)?,
        ];
        let sum = |from: u64, parts: &[u64]| {
            parts.iter().try_fold(from, |sum, part| sum.checked_add(*part)).ok_or_else(damaged)
        };
        let rows_at = sum(HEAD as u64, &tables)?;
        let ends_at = sum(rows_at, &rows)?;
        if sum(ends_at, &ends)? != source.len() {
            return Err(damaged());
        }
        let bytes = stretch(&*source, 0, rows_at, object)?;
        let read = Tables { bytes: &bytes, object };
        let containers_at = HEAD + tables[0] as usize;
        let blocks_at = containers_at + tables[1] as usize;
        let inputs = (HEAD..containers_at)
            .step_by(INPUT)
            .map(|at| Ok(SegmentId { run: RunId(read.part(at)?), number: read.word(at + 16)? }))
            .collect::<Result<_>>()?;
        let bytes = stretch(&*source, ends_at, ends[0] + ends[1] + ends[2], object)?;
        let end = Tables { bytes: &bytes, object };
        let mut containers = Vec::with_capacity(container_count as usize);
        for (number, at) in (containers_at..blocks_at).step_by(CONTAINER).enumerate() {
            let from = blocks_at + read.word(at + 40)? as usize * BLOCK;
            let to = from + read.word(at + 44)? as usize * BLOCK;
            if to > read.bytes.len() {
                return Err(damaged());
            }
            let id = ContainerId {
                class: class(read.word(at + 36)?).ok_or_else(damaged)?,
                run: RunId(read.part(at)?),
                sequence: read.word(at + 32)?,
            };
            let blocks = (from..to)
                .step_by(BLOCK)
                .map(|at| Ok((read.word(at)?, read.word(at + 4)?)))
                .collect::<Result<_>>()?;
            let length = if flags & HAS_LENGTHS == 0 { 0 } else { end.long(number * LENGTH)? };
            containers.push(SegmentContainer { id, salt: read.part(at + 16)?, blocks, length });
        }
        let keys_at = ends[0] as usize;
        let keys = (keys_at..keys_at + ends[1] as usize)
            .step_by(KEY)
            .map(|at| {
                let class = class(end.word(at + 16)?).ok_or_else(damaged)?;
                Ok((RunId(end.part(at)?), class, end.part(at + 20)?))
            })
            .collect::<Result<_>>()?;
        let parts = match flags & HAS_PARTS {
            0 => {
                let rows = (rows_at, filters, records);
                vec![Part::open(source, rows, ([0; 16], 1 << 64), object)?]
            }
            _ => {
                let at = (ends[0] + ends[1]) as usize;
                let table = Tables { bytes: &end.bytes[at..], object };
                open_parts(&table, records, part)?
            }
        };
        let failed = AtomicBool::new(false);
        Ok(Self { level: head.word(8)?, inputs, containers, keys, parts, failed })
    }

    /// How many records it has.
    pub fn len(&self) -> usize {
        self.parts.iter().map(|part| part.records).sum()
    }

    /// Whether its records could not be read at some time: what it knows is then not found.
    pub fn has_failed(&self) -> bool {
        self.failed.load(Ordering::Relaxed)
    }

    /// All records, in order.
    pub fn records<'a>(&'a self, object: &'a str) -> Records<'a> {
        Records { segment: self, object, part: 0, next: 0, window: Vec::new(), at: 0 }
    }

    /// Calls with each record of a prefix, and its number in the order of all, until that says `false`.
    pub fn each_of(&self, prefix: &Prefix, mut each: impl FnMut(usize, Record) -> bool) {
        let after = self.parts.partition_point(|part| part.first <= *prefix);
        let Some(which) = after.checked_sub(1) else { return };
        let before = || self.parts[..which].iter().map(|part| part.records).sum::<usize>();
        let mut ahead = None;
        let read = self.parts[which].each_of(prefix, &mut |number, record| {
            each(*ahead.get_or_insert_with(before) + number, record)
        });
        if read.is_err() {
            self.failed.store(true, Ordering::Relaxed);
        }
    }
}

fn class(word: u32) -> Option<Class> {
    u8::try_from(word).ok().and_then(Class::from_code)
}

/// The parts of a long segment, which together have so many records.
fn open_parts(table: &Tables<'_>, records: u64, open: &mut OpenPart<'_>) -> Result<Vec<Part>> {
    let rows: Vec<PartRow> = (0..table.bytes.len())
        .step_by(PART)
        .map(|at| {
            let (records, first) = (table.long(at)?, table.part(at + 8)?);
            Ok(PartRow { records, first, hash: table.part(at + 32)? })
        })
        .collect::<Result<_>>()?;
    let told = rows.iter().try_fold(0u64, |sum, row| sum.checked_add(row.records));
    if told != Some(records) || !rows.is_sorted_by(|a, b| a.first < b.first) {
        return Err(misfit(table.object));
    }
    let mut parts = Vec::with_capacity(rows.len());
    for (number, row) in rows.iter().enumerate() {
        let source = open(number as u32, row)?;
        let filters = filter_blocks(row.records as usize) as u64;
        let length = filters * FILTER as u64 + row.records.saturating_mul(RECORD as u64);
        if source.len() != length {
            return Err(misfit(table.object));
        }
        let end = rows.get(number + 1).map_or(1 << 64, |next| u128::from(halves(&next.first).0));
        let rows = (0, filters, row.records);
        parts.push(Part::open(source, rows, (row.first, end), table.object)?);
    }
    Ok(parts)
}

/// All records of a segment, in order, a window of them in memory.
pub(crate) struct Records<'a> {
    segment: &'a Segment,
    object: &'a str,
    part: usize,
    next: usize,
    window: Vec<u8>,
    at: usize,
}

impl Records<'_> {
    /// The next one.
    ///
    /// # Errors
    /// If it cannot be read any more.
    pub fn next(&mut self) -> Result<Option<Record>> {
        while self.at == self.window.len() {
            let Some(part) = self.segment.parts.get(self.part) else { return Ok(None) };
            if self.next == part.records {
                (self.part, self.next) = (self.part + 1, 0);
                continue;
            }
            let count = WINDOW.min(part.records - self.next);
            self.window.resize(count * RECORD, 0);
            self.at = 0;
            let offset = part.records_at + (self.next * RECORD) as u64;
            if !part.source.read(offset, &mut self.window) {
                return Err(StoreError::damaged(self.object, "its records cannot be read"));
            }
            self.next += count;
        }
        let row = self.window[self.at..].first_chunk().map(Record::decode);
        self.at += RECORD;
        Ok(row)
    }
}

#[cfg(test)]
#[path = "segment_tests.rs"]
mod tests;
