//! What parity mends and what it does not, and that it is the code FORMAT.md describes.

use proptest::prelude::*;

use crate::format::{
    ids::{Class, ContainerId, RunId},
    keys::Secret,
    parity::{ParityKey, append, mend},
};

fn key() -> ParityKey {
    let id = ContainerId { class: Class::Data, run: RunId([3; 16]), sequence: 7 };
    ParityKey::new(&Secret([9; 32]), id)
}

fn content(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

fn with_parity(seed: u64, length: usize, percent: u8) -> Vec<u8> {
    let mut bytes = content(seed, length);
    append(&mut bytes, length - length.min(100), percent, &key()).expect("parity");
    bytes
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// One region of the promised share, wherever it lies, is mended, and so is an end that is
    /// missing.
    #[test]
    fn a_region_of_the_share_is_mended(
        seed in any::<u64>(),
        length in prop_oneof![1usize..9000, 100_000usize..160_000, 4_000_000usize..9_000_000],
        percent in prop_oneof![Just(1u8), Just(3), Just(10), Just(50)],
        at in 0.0f64..1.0, way in 0u8..3,
    ) {
        let whole = with_parity(seed, length, percent);
        let region = (length * usize::from(percent) / 100).max(1);
        let mut damaged = whole.clone();
        let from = (at * (whole.len() - region) as f64) as usize;
        match way {
            0 => damaged[from..from + region].fill(0),
            1 => damaged[from..from + region].iter_mut().for_each(|byte| *byte ^= 0x41),
            _ => damaged.truncate(whole.len() - region),
        }
        let mended = mend(&damaged, &key()).expect("mended");
        prop_assert!(mended.bytes == whole);
        prop_assert_eq!(mended.directory, (length - length.min(100), length));
    }

    /// Whatever is damaged: what comes of it is what was written, or nothing.
    #[test]
    fn nothing_is_mended_wrongly(
        seed in any::<u64>(), length in 1usize..40_000,
        hits in prop::collection::vec((any::<prop::sample::Index>(), 1usize..3000, any::<u8>()), 0..40),
        cut in prop::option::of(any::<prop::sample::Index>()),
    ) {
        let whole = with_parity(seed, length, 5);
        let mut damaged = whole.clone();
        for (at, size, with) in hits {
            let from = at.index(damaged.len());
            let to = (from + size).min(damaged.len());
            damaged[from..to].iter_mut().for_each(|byte| *byte = byte.wrapping_mul(3) ^ with);
        }
        if let Some(cut) = cut {
            damaged.truncate(cut.index(damaged.len()));
        }
        if let Some(mended) = mend(&damaged, &key()) {
            prop_assert!(mended.bytes == whole);
        }
    }

    /// Nor what somebody writes who has the key: it is refused, or does no harm.
    #[test]
    fn proven_tables_that_nobody_would_write_do_no_harm(
        content in prop_oneof![0u64..5000, any::<u64>()],
        directory in 0u64..6000,
        shard in prop_oneof![Just(512u32), Just(4096), any::<u32>()],
        groups in prop_oneof![0u32..20, any::<u32>()],
        more in prop_oneof![0u32..20, any::<u32>()],
        sums in 0usize..100, rest in 0usize..20_000,
    ) {
        let mut table = [
            b"SKPARIT1".as_slice(), &content.to_le_bytes(), &directory.to_le_bytes(),
            &shard.to_le_bytes(), &groups.to_le_bytes(), &more.to_le_bytes(), &[0; 4],
        ].concat();
        table.resize(40 + sums * 8, 7);
        let proof = key().proof(&table);
        table.extend_from_slice(&proof);
        table.resize(table.len() + rest, 3);
        if let Some(mended) = mend(&table, &key()) {
            prop_assert!(mended.bytes.len() <= 50 * table.len());
        }
    }

    /// A table of somebody else's, whatever it says, is not believed and costs nothing.
    #[test]
    fn what_others_write_is_not_believed(head in prop::array::uniform32(any::<u8>()), rest in prop::collection::vec(any::<u8>(), 0..4000)) {
        let bytes = [b"SKPARIT1".as_slice(), &head, &rest].concat();
        prop_assert!(mend(&bytes, &key()).is_none());
    }
}

#[test]
fn it_costs_about_the_share() {
    for (length, most) in [(32 << 20, 4.0), (8 << 20, 4.0), (1 << 20, 4.6)] {
        let more = with_parity(1, length, 3).len() - length;
        let percent = more as f64 * 100.0 / length as f64;
        assert!(percent < most && percent > 3.0, "{percent} of {length}");
    }
}

/// The basis by whose elements FORMAT.md numbers the field's.
const BASIS: [u16; 16] = [
    0x0001, 0xACCA, 0x3C0E, 0x163E, 0xC582, 0xED2E, 0x914C, 0x4012, 0x6C98, 0x10D8, 0x6A72, 0xB900,
    0xFDB8, 0xFB34, 0xFF38, 0x991E,
];

fn element(number: u16) -> u16 {
    (0..16).filter(|bit| number >> bit & 1 == 1).fold(0, |sum, bit| sum ^ BASIS[bit])
}

fn number(element_: u16) -> u16 {
    // A handful of shards: there is time to look.
    (0..=u16::MAX).find(|number| element(*number) == element_).expect("the basis spans the field")
}

fn times(mut a: u16, b: u16) -> u16 {
    let mut product = 0;
    for bit in 0..16 {
        if b >> bit & 1 == 1 {
            product ^= a;
        }
        let carries = a & 0x8000 != 0;
        a <<= 1;
        if carries {
            a ^= 0x002D;
        }
    }
    product
}

fn inverse(a: u16) -> u16 {
    // a^(2^16 - 2)
    (1..16)
        .fold((1, a), |(product, power), _| {
            let power = times(power, power);
            (times(product, power), power)
        })
        .0
}

/// The value at a point of the polynomial of the least degree through some others (Lagrange).
fn through(points: &[(u16, u16)], at: u16) -> u16 {
    let mut sum = 0;
    for (x, y) in points {
        let others = points.iter().filter(|(other, _)| other != x);
        let factor = others
            .fold(*y, |product, (other, _)| times(product, times(at ^ other, inverse(x ^ other))));
        sum ^= factor;
    }
    sum
}

/// The first 16-bit word of a shard: its low byte is the first byte, its high one the 33rd.
fn word(shard: &[u8]) -> u16 {
    u16::from_le_bytes([shard[0], shard[32]])
}

#[test]
fn it_is_the_code_that_the_format_describes() {
    // Shards of 512 bytes: 11 with 2 more, 4 with 3 more, 2 with 3 more.
    for (count, percent) in [(11usize, 0u8), (4, 20), (2, 20)] {
        let length = count * 512;
        let whole = with_parity(7, length, percent);
        let more = count * usize::from(percent);
        let more = more.div_ceil(100) + 2;
        let table = 40 + (count + more) * 8 + 16;
        let shards: Vec<u16> = (0..count).map(|at| word(&whole[at * 512..])).collect();
        let parity: Vec<u16> =
            (0..more).map(|at| word(&whole[length + table + at * 512..])).collect();
        let (k, r) = (count.next_power_of_two(), more.next_power_of_two());
        let by_chunks = k > r || (k == r && count <= more);
        for (j, found) in parity.iter().enumerate() {
            let expected = if by_chunks {
                shards.chunks(r).enumerate().fold(0, |sum, (chunk, some)| {
                    let points: Vec<(u16, u16)> = (0..r)
                        .map(|at| {
                            let point = element(((chunk + 1) * r + at) as u16);
                            (point, element(some.get(at).copied().unwrap_or(0)))
                        })
                        .collect();
                    sum ^ through(&points, element(j as u16))
                })
            } else {
                let points: Vec<(u16, u16)> = (0..k)
                    .map(|at| (element(at as u16), element(shards.get(at).copied().unwrap_or(0))))
                    .collect();
                through(&points, element((k + j) as u16))
            };
            assert_eq!(number(expected), *found, "{count} shards, parity {j}");
        }
    }
}
