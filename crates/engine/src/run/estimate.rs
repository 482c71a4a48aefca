//! How much a run would store, told from samples: places are drawn so that each byte that would
//! be read is drawn equally likely, what lies there is compared with the store, and the mean is
//! carried over to all.

use std::{
    collections::HashMap,
    ffi::OsStr,
    fs::File,
    os::unix::{ffi::OsStrExt, fs::FileExt},
    path::Path,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use skellin_store::{Appraised, Appraiser, Compression, Store};

use crate::{clock::Cancel, error::Result};

/// So many places are drawn.
const PLACES: usize = 128;
/// So many bytes are looked at around each.
const PIECE: u64 = 384 << 10;

/// How many bytes a run would store.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Estimate {
    /// The most likely number.
    pub stored: u64,
    /// In nineteen of twenty cases it is at least this,
    pub low: u64,
    /// and at most this.
    pub high: u64,
}

/// What was found by drawing.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Sampled {
    pub estimate: Estimate,
    /// Bytes that were read for it, and in what time.
    pub read: u64,
    pub took: Duration,
}

/// Reads a piece of a file: its full path, from where, and how much.
pub(super) type ReadPiece<'r> = dyn Fn(&[u8], u64, u64) -> Option<Vec<u8>> + 'r;

/// Places drawn from all bytes that pass by, whose number is not known before the end: each place
/// moves to a newcomer with the newcomer's share of all so far (reservoir sampling with
/// replacement: Vitter, 1985; by jumps: Li, 1994).
pub(super) struct Draw(Mutex<Drawn>);

struct Drawn {
    total: u64,
    places: Vec<(Arc<[u8]>, u64, u64)>,
    state: u64,
}

impl Drawn {
    /// A number between 0 and 1, neither of them (SplitMix64: Steele, Lea and Flood, 2014).
    fn random(&mut self) -> f64 {
        self.state = self.state.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.state;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^= z >> 31;
        ((z >> 11) as f64 + 0.5) / (1u64 << 53) as f64
    }
}

impl Draw {
    pub fn new() -> Self {
        Self(Mutex::new(Drawn { total: 0, places: Vec::new(), state: 1 }))
    }

    /// A file passes by that would be read.
    pub fn pass(&self, path: &[u8], size: u64) {
        if size == 0 {
            return;
        }
        let mut drawn = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        drawn.total += size;
        if drawn.places.is_empty() {
            let path: Arc<[u8]> = path.into();
            for _ in 0..PLACES {
                let at = (drawn.random() * size as f64) as u64;
                drawn.places.push((Arc::clone(&path), at.min(size - 1), size));
            }
            return;
        }
        let share = size as f64 / drawn.total as f64;
        let mut shared: Option<Arc<[u8]>> = None;
        let mut next = 0.0;
        loop {
            next += (drawn.random().ln() / (-share).ln_1p()).floor();
            if next >= PLACES as f64 {
                return;
            }
            let at = (drawn.random() * size as f64) as u64;
            let path = shared.get_or_insert_with(|| path.into());
            drawn.places[next as usize] = (Arc::clone(path), at.min(size - 1), size);
            next += 1.0;
        }
    }

    /// Looks at the places that were drawn: `read` gives so many bytes of a file from an offset on,
    /// or fewer at its end. What cannot be read any more is passed over.
    pub fn look(
        &self,
        read: &ReadPiece<'_>,
        store: &Arc<Store>,
        compression: Compression,
        cancel: &Cancel,
    ) -> Result<Sampled> {
        let drawn = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let begun = Instant::now();
        let mut appraiser = Appraiser::new(store, compression)?;
        let mut known: HashMap<(Arc<[u8]>, u64), Option<Appraised>> = HashMap::new();
        let (mut shares, mut seen) = (Vec::new(), 0);
        for (path, at, size) in &drawn.places {
            if cancel.is_cancelled() {
                break;
            }
            // Pieces of a file begin at few places, so that none is looked at twice.
            let start = (at / PIECE * PIECE).min(size.saturating_sub(PIECE));
            let appraised = match known.get(&(Arc::clone(path), start)) {
                Some(appraised) => *appraised,
                None => {
                    let piece = read(path, start, PIECE.min(*size));
                    seen += piece.as_ref().map_or(0, |piece| piece.len() as u64);
                    let last = start + PIECE >= *size;
                    let appraised = match piece {
                        Some(piece) => Some(appraiser.look(&piece, start == 0, last)?),
                        None => None,
                    };
                    known.insert((Arc::clone(path), start), appraised);
                    appraised
                }
            };
            let appraised = appraised.filter(|appraised| appraised.looked_at > 0);
            shares.extend(appraised.map(|one| one.stored as f64 / one.looked_at as f64));
        }
        let estimate = carry_over(&shares, drawn.total);
        Ok(Sampled { estimate, read: seen, took: begun.elapsed() })
    }
}

/// Reads a piece of a file of this machine.
pub(super) fn read_piece(path: &[u8], start: u64, length: u64) -> Option<Vec<u8>> {
    let file = File::open(Path::new(OsStr::from_bytes(path))).ok()?;
    let mut piece = vec![0; usize::try_from(length).ok()?];
    let mut filled = 0;
    while filled < piece.len() {
        match file.read_at(&mut piece[filled..], start + filled as u64).ok()? {
            0 => break,
            count => filled += count,
        }
    }
    piece.truncate(filled);
    Some(piece)
}

/// The mean share of samples carried over to all bytes, with twice its standard error.
fn carry_over(shares: &[f64], total: u64) -> Estimate {
    if shares.is_empty() {
        return Estimate { stored: total, low: 0, high: total };
    }
    let count = shares.len() as f64;
    let mean = shares.iter().sum::<f64>() / count;
    let variance =
        shares.iter().map(|share| (share - mean).powi(2)).sum::<f64>() / (count - 1.0).max(1.0);
    let error = 2.0 * (variance / count).sqrt();
    let of_all = |share: f64| (share.max(0.0) * total as f64).round() as u64;
    Estimate { stored: of_all(mean), low: of_all(mean - error), high: of_all(mean + error) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_byte_is_drawn_equally_likely() {
        // A huge file among many small ones, drawn again and again.
        let mut of_huge = 0;
        for seed in 0..200 {
            let draw = Draw::new();
            draw.0.lock().expect("not poisoned").state = seed;
            for number in 0..300u64 {
                let (path, size) = if number == 150 { ("huge", 30_000) } else { ("small", 100) };
                draw.pass(path.as_bytes(), size);
            }
            let drawn = draw.0.into_inner().expect("not poisoned");
            assert_eq!((drawn.total, drawn.places.len()), (59_900, PLACES));
            assert!(drawn.places.iter().all(|(_, at, size)| at < size));
            of_huge += drawn.places.iter().filter(|(path, ..)| &**path == b"huge").count();
        }
        let share = of_huge as f64 / (200 * PLACES) as f64;
        assert!((share - 30_000.0 / 59_900.0).abs() < 0.02, "{share}");
    }

    #[test]
    fn the_range_narrows_with_agreement() {
        let certain = carry_over(&[0.5; 100], 1000);
        assert_eq!((certain.low, certain.stored, certain.high), (500, 500, 500));
        let mixed: Vec<f64> = (0..100).map(|number| f64::from(number % 2)).collect();
        let mixed = carry_over(&mixed, 1000);
        assert_eq!(mixed.stored, 500);
        assert!((395..405).contains(&mixed.low) && (595..605).contains(&mixed.high));
        assert_eq!(carry_over(&[], 70), Estimate { stored: 70, low: 0, high: 70 });
    }
}
