//! The boundary search for 32 positions at a time (AVX2).
//!
//! The low 16 bits of a sum cover the last 16 bytes only. They are built by doubling: the sum over
//! two bytes from single ones, over four from two, eight, sixteen.
#![allow(unsafe_code, reason = "loads from memory have no safe form among the intrinsics")]

use std::arch::x86_64::{
    __m256i, _mm_loadu_si128, _mm256_add_epi16, _mm256_alignr_epi8, _mm256_and_si256,
    _mm256_broadcastsi128_si256, _mm256_cmpeq_epi16, _mm256_loadu_si256, _mm256_movemask_epi8,
    _mm256_or_si256, _mm256_permute2x128_si256, _mm256_set1_epi8, _mm256_set1_epi16,
    _mm256_setzero_si256, _mm256_shuffle_epi8, _mm256_slli_epi16, _mm256_srli_epi16,
    _mm256_unpackhi_epi8, _mm256_unpacklo_epi8, _mm256_xor_si256,
};

use super::{LOW_BITS, Tables, scalar};

/// Positions a step looks at.
const STEP: usize = 32;
/// Bytes before the first position that its low sum needs.
const REACH: usize = 16;

/// As [`scalar::find`], for processors with AVX2.
pub(super) fn find(
    tables: &Tables,
    buffer: &[u8],
    from: usize,
    to: usize,
    mask: u64,
) -> Option<usize> {
    let to = to.min(buffer.len() + 1);
    if from < REACH + super::WINDOW || from + 2 * STEP > to {
        return scalar::find(tables, buffer, from, to, mask);
    }
    // SAFETY: the caller has checked that the processor has AVX2.
    unsafe { find_avx2(tables, buffer, from, to, mask) }
}

/// Nibble tables, split into the low and the high byte of their entries.
struct Lookups {
    low_of_low: __m256i,
    low_of_high: __m256i,
    high_of_low: __m256i,
    high_of_high: __m256i,
}

#[target_feature(enable = "avx2")]
fn spread(entries: [u8; 16]) -> __m256i {
    // SAFETY: the array has the 16 bytes that are loaded.
    _mm256_broadcastsi128_si256(unsafe { _mm_loadu_si128(entries.as_ptr().cast()) })
}

#[target_feature(enable = "avx2")]
fn lookups(tables: &Tables) -> Lookups {
    Lookups {
        low_of_low: spread(tables.low_nibble.map(|entry| entry as u8)),
        low_of_high: spread(tables.low_nibble.map(|entry| (entry >> 8) as u8)),
        high_of_low: spread(tables.high_nibble.map(|entry| entry as u8)),
        high_of_high: spread(tables.high_nibble.map(|entry| (entry >> 8) as u8)),
    }
}

/// The table entries of 32 bytes, as two vectors of 16-bit lanes in order.
#[target_feature(enable = "avx2")]
fn entries(lookups: &Lookups, bytes: __m256i) -> (__m256i, __m256i) {
    let nibble = _mm256_set1_epi8(15);
    let low = _mm256_and_si256(bytes, nibble);
    let high = _mm256_and_si256(_mm256_srli_epi16(bytes, 4), nibble);
    let first = _mm256_xor_si256(
        _mm256_shuffle_epi8(lookups.low_of_low, low),
        _mm256_shuffle_epi8(lookups.high_of_low, high),
    );
    let second = _mm256_xor_si256(
        _mm256_shuffle_epi8(lookups.low_of_high, low),
        _mm256_shuffle_epi8(lookups.high_of_high, high),
    );
    let front = _mm256_unpacklo_epi8(first, second);
    let back = _mm256_unpackhi_epi8(first, second);
    (_mm256_permute2x128_si256(front, back, 0x20), _mm256_permute2x128_si256(front, back, 0x31))
}

/// Partial sums of the 16 positions before, which the next ones build on.
struct Before {
    one: __m256i,
    two: __m256i,
    four: __m256i,
    eight: __m256i,
}

/// Low sums over the last 16 bytes for 16 positions, from their table entries.
#[target_feature(enable = "avx2")]
fn low_sums(before: &mut Before, one: __m256i) -> __m256i {
    // Each line: the lanes of `x` moved back by 1, 2, 4, 8 positions, filled up from before.
    let middle = _mm256_permute2x128_si256(before.one, one, 0x21);
    let moved = _mm256_alignr_epi8(one, middle, 14);
    let two = _mm256_add_epi16(one, _mm256_slli_epi16(moved, 1));
    let middle = _mm256_permute2x128_si256(before.two, two, 0x21);
    let moved = _mm256_alignr_epi8(two, middle, 12);
    let four = _mm256_add_epi16(two, _mm256_slli_epi16(moved, 2));
    let middle = _mm256_permute2x128_si256(before.four, four, 0x21);
    let moved = _mm256_alignr_epi8(four, middle, 8);
    let eight = _mm256_add_epi16(four, _mm256_slli_epi16(moved, 4));
    let moved = _mm256_permute2x128_si256(before.eight, eight, 0x21);
    let sixteen = _mm256_add_epi16(eight, _mm256_slli_epi16(moved, 8));
    *before = Before { one, two, four, eight };
    sixteen
}

#[target_feature(enable = "avx2")]
fn find_avx2(tables: &Tables, buffer: &[u8], from: usize, to: usize, mask: u64) -> Option<usize> {
    let lookups = lookups(tables);
    let zero = _mm256_setzero_si256();
    let mask_low = _mm256_set1_epi16(LOW_BITS as i16);
    let mut before = Before { one: zero, two: zero, four: zero, eight: zero };
    // A length L is decided by the bytes before it, the last of them at L - 1.
    let mut at = from - 1 - REACH;
    // The first 16 positions only fill the partial sums.
    let mut fresh = true;
    while at + STEP < to {
        // SAFETY: at + STEP < to <= buffer.len() + 1, so that 32 bytes are there.
        let bytes = unsafe { _mm256_loadu_si256(buffer.as_ptr().add(at).cast()) };
        let (front, back) = entries(&lookups, bytes);
        let front = _mm256_and_si256(low_sums(&mut before, front), mask_low);
        let back = _mm256_and_si256(low_sums(&mut before, back), mask_low);
        let (front, back) = (_mm256_cmpeq_epi16(front, zero), _mm256_cmpeq_epi16(back, zero));
        if fresh || _mm256_movemask_epi8(_mm256_or_si256(front, back)) != 0 {
            let front = if fresh { 0 } else { _mm256_movemask_epi8(front) as u32 };
            let mut hits = u64::from(_mm256_movemask_epi8(back) as u32) << 32 | u64::from(front);
            while hits != 0 {
                let lane = hits.trailing_zeros() as usize / 2;
                let length = at + lane + 1;
                if length >= from && length < to && tables.sum(buffer, length) & mask == 0 {
                    return Some(length);
                }
                hits &= !(3 << (2 * lane));
            }
            fresh = false;
        }
        at += STEP;
    }
    scalar::find(tables, buffer, (at + 1).max(from), to, mask)
}
