//! Records that lie side by side, sorted by their fingerprint prefixes, and how one is found among
//! them with few reads.

use super::{
    bytes::{SegmentBytes, misfit, stretch},
    record::{FILTER, Filter, RECORD, Record, halves},
};
use crate::{error::Result, format::ids::Prefix};

/// Records that are read at a time while one is looked for.
const NEAR: usize = 128;
/// So often the place is guessed; if the prefixes are not spread evenly, the range is halved from
/// there on.
const GUESSES: usize = 4;

/// Records of a segment that lie side by side: all of a short one, a part of a long one.
pub(super) struct Part {
    pub source: Box<dyn SegmentBytes>,
    filter: Filter,
    pub records: usize,
    pub records_at: u64,
    /// No record of it has a lesser prefix than the first, or one as large as the end; the first
    /// halves of both.
    pub first: Prefix,
    spread: (u64, u128),
}

/// Records could not be read any more.
pub(super) struct Unread;

/// Some records, read together.
struct Window {
    from: usize,
    count: usize,
    bytes: [u8; NEAR * RECORD],
}

impl Window {
    fn rows(&self) -> &[[u8; RECORD]] {
        self.bytes[..self.count * RECORD].as_chunks().0
    }

    fn prefix(&self, at: usize) -> Prefix {
        Record::decode(&self.rows()[at]).prefix
    }
}

impl Part {
    /// Filter and records at an offset; the range of their first halves is what the search guesses by.
    pub fn open(
        source: Box<dyn SegmentBytes>,
        (filter_at, filters, records): (u64, u64, u64),
        (first, end): (Prefix, u128),
        object: &str,
    ) -> Result<Self> {
        let filter_bytes = filters.checked_mul(FILTER as u64).ok_or_else(|| misfit(object))?;
        let filter = Filter::decode(&stretch(&*source, filter_at, filter_bytes, object)?);
        if records > 0 && filter.is_empty() {
            return Err(misfit(object));
        }
        let spread = (halves(&first).0, end.saturating_sub(u128::from(halves(&first).0)).max(1));
        let records_at = filter_at + filter_bytes;
        Ok(Self { source, filter, records: records as usize, records_at, first, spread })
    }

    fn read(
        &self,
        from: usize,
        count: usize,
        window: &mut Window,
    ) -> std::result::Result<(), Unread> {
        let offset = self.records_at + (from * RECORD) as u64;
        (window.from, window.count) = (from, count);
        let read = self.source.read(offset, &mut window.bytes[..count * RECORD]);
        read.then_some(()).ok_or(Unread)
    }

    /// Calls with each record of a prefix and its number in this part, until that says `false`.
    pub fn each_of(
        &self,
        prefix: &Prefix,
        each: &mut dyn FnMut(usize, Record) -> bool,
    ) -> std::result::Result<(), Unread> {
        if self.records == 0 || !self.filter.may_hold(prefix) {
            return Ok(());
        }
        let mut window = Window { from: 0, count: 0, bytes: [0; NEAR * RECORD] };
        let mut number = self.lower_bound(prefix, &mut window)?;
        while number < self.records {
            if number >= window.from + window.count {
                self.read(number, NEAR.min(self.records - number), &mut window)?;
            }
            let record = Record::decode(&window.rows()[number - window.from]);
            if record.prefix != *prefix || !each(number, record) {
                break;
            }
            number += 1;
        }
        Ok(())
    }

    /// The first record not below a prefix, which is in the window unless it is the first after it.
    /// Fingerprints are evenly spread, so the place is guessed, and guessed again from there: of a
    /// million the first guess is some hundred off, and the second hardly ever more than a window.
    fn lower_bound(
        &self,
        prefix: &Prefix,
        window: &mut Window,
    ) -> std::result::Result<usize, Unread> {
        let (first, range) = self.spread;
        let wanted = halves(prefix).0;
        let apart = |from: u64, to: u64| {
            let records = u128::from(to.saturating_sub(from)) * self.records as u128 / range;
            usize::try_from(records).unwrap_or(usize::MAX)
        };
        let (mut low, mut high) = (0usize, self.records);
        let (mut guess, mut tried) = (apart(first, wanted), 0);
        loop {
            if tried == GUESSES {
                guess = low.midpoint(high);
            } else {
                tried += 1;
            }
            let count = NEAR.min(high - low);
            let from = guess.saturating_sub(NEAR / 2).clamp(low, high - count);
            self.read(from, count, window)?;
            let below = window.rows().partition_point(|row| row[..16] < prefix[..]);
            if below == 0 && from > low {
                guess = from.saturating_sub(apart(wanted, halves(&window.prefix(0)).0));
                high = from;
            } else if below == count && from + count < high {
                let edge = halves(&window.prefix(count - 1)).0;
                low = from + count;
                guess = low.saturating_add(apart(edge, wanted));
            } else {
                return Ok(from + below);
            }
        }
    }
}
