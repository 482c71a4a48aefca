//! The boundary search a byte at a time, for every processor.

use super::Tables;

/// The first length in `from..to` at which the sum of the bytes before it fits the mask.
pub(super) fn find(
    tables: &Tables,
    buffer: &[u8],
    from: usize,
    to: usize,
    mask: u64,
) -> Option<usize> {
    if from >= to {
        return None;
    }
    let mut sum = tables.sum(buffer, from);
    if sum & mask == 0 {
        return Some(from);
    }
    for (offset, byte) in buffer[from..to - 1].iter().enumerate() {
        sum = (sum << 1).wrapping_add(tables.full[usize::from(*byte)]);
        if sum & mask == 0 {
            return Some(from + offset + 1);
        }
    }
    None
}
