//! What is no text, byte by byte.

use super::{Contrast, folded};

/// Bytes of a row.
const WIDTH: usize = 8;
/// So many rows that differ are told.
const MOST_ROWS: usize = 20_000;

/// Some bytes of both sides at one offset.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ByteRow {
    /// Where they begin.
    pub offset: u64,
    /// At most eight; fewer where the file ends.
    pub before: Vec<u8>,
    /// As `before`.
    pub now: Vec<u8>,
}

impl ByteRow {
    /// Whether a byte is another one on the other side, or is missing there.
    #[must_use]
    pub fn differs_at(&self, number: usize) -> bool {
        self.before.get(number) != self.now.get(number)
    }
}

pub(super) fn compare(before: &[u8], now: &[u8]) -> Contrast {
    let longest = before.len().max(now.len());
    let part = |bytes: &[u8], from: usize| {
        bytes.get(from.min(bytes.len())..bytes.len().min(from + WIDTH)).unwrap_or_default().to_vec()
    };
    let rows = (0..longest).step_by(WIDTH).map(|from| ByteRow {
        offset: from as u64,
        before: part(before, from),
        now: part(now, from),
    });
    let both = before.len().min(now.len());
    let differing = (0..both).filter(|at| before[*at] != now[*at]).count();
    let count = (differing + longest - both) as u64;
    let mut rows = folded(
        rows.collect(),
        |row: &ByteRow| row.before != row.now,
        |row| row.before.len().max(row.now.len()) as u64,
    );
    rows.truncate(MOST_ROWS);
    Contrast::Bytes { rows, count }
}
