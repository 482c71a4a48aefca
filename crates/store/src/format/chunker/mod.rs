//! Where content is cut into chunks.
//!
//! A rolling sum over the last 64 bytes, `h = 2h + T[byte]` modulo 2^64, is tested against a mask;
//! bytes older than 64 positions have been shifted out, so a cut depends on nothing before them.
//! The low 16 bits of `T[b]` are the xor of two 16-entry tables for the byte's low and high
//! nibble: they can be summed for many positions at once with in-register look-ups, and 12 mask
//! bits lie there. The rare candidates are confirmed with the full sum.

mod scalar;
#[cfg(target_arch = "x86_64")]
mod wide;

use crate::format::{header::Layout, keys::Secret};

/// Bytes the boundary sum covers.
const WINDOW: usize = 64;
/// The bits of a mask that are tested for many positions at once.
const LOW_BITS: u16 = 0xFFF0;

/// Tables of the boundary sum, keyed by the store.
struct Tables {
    full: [u64; 256],
    low_nibble: [u16; 16],
    high_nibble: [u16; 16],
}

impl Tables {
    fn new(key: &Secret) -> Self {
        let mut stream = blake3::Hasher::new_keyed(&key.0).update(b"tables v1").finalize_xof();
        let mut next = || {
            let mut bytes = [0; 8];
            stream.fill(&mut bytes);
            u64::from_le_bytes(bytes)
        };
        let low_nibble: [u16; 16] = std::array::from_fn(|_| next() as u16);
        let high_nibble: [u16; 16] = std::array::from_fn(|_| next() as u16);
        let full = std::array::from_fn(|byte| {
            let low = low_nibble[byte & 15] ^ high_nibble[byte >> 4];
            next() << 16 | u64::from(low)
        });
        Self { full, low_nibble, high_nibble }
    }

    /// The sum over the 64 bytes before `end`.
    fn sum(&self, buffer: &[u8], end: usize) -> u64 {
        let window = &buffer[end.saturating_sub(WINDOW)..end];
        window.iter().fold(0, |sum, byte| (sum << 1).wrapping_add(self.full[usize::from(*byte)]))
    }
}

/// Cuts content into chunks; the same for all content of a store.
pub struct Chunker {
    tables: Tables,
    layout: Layout,
    /// Whether the processor has the instructions for the wide search.
    wide: bool,
}

impl Chunker {
    pub(crate) fn new(key: &Secret, layout: Layout) -> Self {
        #[cfg(target_arch = "x86_64")]
        let wide = is_x86_feature_detected!("avx2");
        #[cfg(not(target_arch = "x86_64"))]
        let wide = false;
        Self { tables: Tables::new(key), layout, wide }
    }

    /// The largest chunk in bytes: with so many in the buffer the next cut is certain.
    #[must_use]
    pub fn longest(&self) -> usize {
        self.layout.chunk_max as usize
    }

    /// Length of the chunk at the front of the buffer, or `None` if more bytes could still change
    /// it. At the end of the content (`last`) whatever is left is a chunk.
    #[must_use]
    pub fn cut(&self, buffer: &[u8], last: bool) -> Option<usize> {
        self.cut_by(buffer, last, |buffer, from, to, mask| self.find(buffer, from, to, mask))
    }

    fn cut_by(
        &self,
        buffer: &[u8],
        last: bool,
        find: impl Fn(&[u8], usize, usize, u64) -> Option<usize>,
    ) -> Option<usize> {
        let Layout { chunk_min, chunk_turn, chunk_max, strict_mask, loose_mask, .. } = self.layout;
        let (min, turn, max) = (chunk_min as usize, chunk_turn as usize, chunk_max as usize);
        let end = buffer.len().min(max);
        let found = find(buffer, min, turn.min(end), strict_mask)
            .or_else(|| find(buffer, turn, end, loose_mask));
        match found {
            Some(length) => Some(length),
            None if buffer.len() >= max => Some(max),
            None if last && !buffer.is_empty() => Some(buffer.len()),
            None => None,
        }
    }

    /// The first length in `from..to` at which the sum of the bytes before it fits the mask.
    fn find(&self, buffer: &[u8], from: usize, to: usize, mask: u64) -> Option<usize> {
        #[cfg(target_arch = "x86_64")]
        if self.wide {
            return wide::find(&self.tables, buffer, from, to, mask);
        }
        scalar::find(&self.tables, buffer, from, to, mask)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn chunker(layout: Layout) -> Chunker {
        Chunker::new(&Secret([42; 32]), layout)
    }

    fn small() -> Layout {
        Layout {
            chunk_min: 256,
            chunk_turn: 1024,
            chunk_max: 4096,
            strict_mask: 0x8000_0000_0000_FFF0,
            loose_mask: 0xFFF0,
            ..Layout::default()
        }
    }

    /// Content with runs, repetitions and noise, by a seed.
    fn content(seed: u64, length: usize) -> Vec<u8> {
        let mut stream = blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof();
        let mut bytes = vec![0; length];
        stream.fill(&mut bytes);
        if seed % 3 == 1 {
            bytes.iter_mut().for_each(|byte| *byte = b'a' + *byte % 20);
        }
        if seed % 5 == 1 {
            let half = length / 2;
            bytes[half..].fill(0);
        }
        bytes
    }

    fn cuts(chunker: &Chunker, bytes: &[u8]) -> Vec<usize> {
        let (mut rest, mut lengths) = (bytes, Vec::new());
        while let Some(length) = chunker.cut(rest, true) {
            lengths.push(length);
            rest = &rest[length..];
        }
        lengths
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn the_wide_search_finds_what_the_plain_one_finds(
            seed in 0u64..1000, length in 0usize..40_000, from in 64usize..3000,
        ) {
            let (chunker, bytes) = (chunker(small()), content(seed, length));
            for mask in [0xFFF0, 0x8000_0000_0000_FFF0] {
                let from = from.min(length);
                let plain = scalar::find(&chunker.tables, &bytes, from, length, mask);
                prop_assert_eq!(chunker.find(&bytes, from, length, mask), plain);
            }
        }

        #[test]
        fn lengths_hold_and_add_up(seed in 0u64..1000, length in 0usize..60_000) {
            let (chunker, bytes) = (chunker(small()), content(seed, length));
            let lengths = cuts(&chunker, &bytes);
            prop_assert_eq!(lengths.iter().sum::<usize>(), length);
            let whole = lengths.len().saturating_sub(1);
            prop_assert!(lengths[..whole].iter().all(|length| (256..=4096).contains(length)));
        }

        #[test]
        fn streaming_cuts_like_the_whole(
            seed in 0u64..1000, length in 1usize..60_000, pieces in prop::collection::vec(1usize..9000, 1..20),
        ) {
            let (chunker, bytes) = (chunker(small()), content(seed, length));
            let (mut buffer, mut fed, mut lengths) = (Vec::new(), 0, Vec::new());
            for piece in pieces.iter().cycle() {
                let upto = (fed + piece).min(length);
                buffer.extend_from_slice(&bytes[fed..upto]);
                fed = upto;
                while let Some(cut) = chunker.cut(&buffer, fed == length) {
                    lengths.push(cut);
                    buffer.drain(..cut);
                }
                if fed == length { break; }
            }
            prop_assert_eq!(lengths, cuts(&chunker, &bytes));
        }

        #[test]
        fn cuts_after_an_insertion_fall_back_into_step(seed in 0u64..1000, at in 0usize..20_000) {
            let (chunker, bytes) = (chunker(small()), content(seed * 15, 100_000));
            let mut edited = bytes.clone();
            edited.insert(at, 7);
            let ends = |bytes: &[u8]| {
                let mut end = 0;
                cuts(&chunker, bytes).into_iter().map(|length| { end += length; end }).collect::<Vec<_>>()
            };
            let shifted: Vec<_> = ends(&bytes).iter().map(|end| end + 1).collect();
            let common = ends(&edited).iter().rev().zip(shifted.iter().rev()).take_while(|(a, b)| a == b).count();
            prop_assert!(common * 2 > shifted.len(), "{} of {}", common, shifted.len());
        }
    }

    #[test]
    fn the_key_decides_the_cuts() {
        let bytes = content(0, 100_000);
        let other = Chunker::new(&Secret([43; 32]), small());
        assert_ne!(cuts(&chunker(small()), &bytes), cuts(&other, &bytes));
    }

    #[test]
    fn the_default_mean_is_near_52_kib() {
        let bytes = content(0, 64 << 20);
        let lengths = cuts(&chunker(Layout::default()), &bytes);
        let mean = bytes.len() / lengths.len() / 1024;
        assert!((48..=57).contains(&mean), "{mean} KiB");
    }
}
