//! Segments on this machine, opened and proven once. A file is proven page by page as it is read: opening
//! it costs its table, not its bytes.
//!
//! ```text
//! proof (32) | length (8) | a proof of each page (16 each) | the bytes
//! ```
//!
//! It is read and never mapped: a mapping of a file that somebody cuts, or on a failing disk, ends
//! the process.

use std::{
    fs,
    io::{self, Read as _},
    os::unix::fs::FileExt as _,
    path::Path,
    sync::atomic::{AtomicU64, Ordering},
};

use super::bytes::SegmentBytes;
use crate::{format::keys::Secret, reading::nearby::write_private};

const HEAD: usize = 40;
const PAGE: u64 = 4096;
const PROOF: usize = 16;

/// Proves the pages of one file: by the key, and by what it is.
struct Prover<'a> {
    key: &'a Secret,
    name: &'a str,
}

impl Prover<'_> {
    fn hasher(&self, purpose: &[u8]) -> blake3::Hasher {
        let mut hasher = blake3::Hasher::new_keyed(&self.key.0);
        hasher.update(purpose).update(&(self.name.len() as u64).to_le_bytes());
        hasher.update(self.name.as_bytes());
        hasher
    }

    fn page(&self, number: u64, bytes: &[u8]) -> [u8; PROOF] {
        let mut hasher = self.hasher(b"page");
        let hash = hasher.update(&number.to_le_bytes()).update(bytes).finalize();
        let mut proof = [0; PROOF];
        proof.copy_from_slice(&hash.as_bytes()[..PROOF]);
        proof
    }

    fn table(&self, length: u64, table: &[u8]) -> blake3::Hash {
        self.hasher(b"file").update(&length.to_le_bytes()).update(table).finalize()
    }
}

/// A file of the cache.
pub(super) struct CachedBytes {
    file: fs::File,
    key: Secret,
    name: String,
    length: u64,
    table: Vec<u8>,
    /// A bit for each page that was proven.
    proven: Vec<AtomicU64>,
}

/// Keeps what a name stands for.
pub(super) fn keep(path: &Path, key: &Secret, name: &str, bytes: &[u8]) -> io::Result<()> {
    let prover = Prover { key, name };
    let pages = bytes.chunks(PAGE as usize).enumerate();
    let table: Vec<u8> =
        pages.flat_map(|(number, page)| prover.page(number as u64, page)).collect();
    let length = bytes.len() as u64;
    let proof = prover.table(length, &table);
    let head = [proof.as_bytes().as_slice(), &length.to_le_bytes(), &table].concat();
    write_private(path, &[head.as_slice(), bytes].concat())
}

impl CachedBytes {
    /// Opens what is kept of a name, if it is there and its table proves to be what was written.
    pub fn open(path: &Path, key: &Secret, name: &str) -> Option<Self> {
        let mut file = fs::File::open(path).ok()?;
        let mut head = [0; HEAD];
        file.read_exact(&mut head).ok()?;
        let (proof, length) = head.split_first_chunk::<32>()?;
        let length = u64::from_le_bytes(length.try_into().ok()?);
        let pages = length.div_ceil(PAGE);
        let table_bytes = pages.checked_mul(PROOF as u64)?;
        let all = length.checked_add(table_bytes)?.checked_add(HEAD as u64)?;
        if file.metadata().ok()?.len() != all {
            return None;
        }
        let mut table = vec![0; usize::try_from(table_bytes).ok()?];
        file.read_exact(&mut table).ok()?;
        let prover = Prover { key, name };
        if prover.table(length, &table) != *proof {
            return None;
        }
        let proven = (0..pages.div_ceil(64)).map(|_| AtomicU64::new(0)).collect();
        Some(Self { file, key: key.clone(), name: name.to_owned(), length, table, proven })
    }

    /// All of it, proven.
    pub fn whole(&self) -> Option<Vec<u8>> {
        let mut bytes = vec![0; usize::try_from(self.length).ok()?];
        self.read(0, &mut bytes).then_some(bytes)
    }

    fn offset(&self, at: u64) -> u64 {
        (HEAD + self.table.len()) as u64 + at
    }

    /// Reads a page and proves it.
    fn prove(&self, number: u64) -> bool {
        let (word, bit) = (&self.proven[(number / 64) as usize], 1 << (number % 64));
        if word.load(Ordering::Relaxed) & bit != 0 {
            return true;
        }
        let from = number * PAGE;
        let mut page = [0; PAGE as usize];
        let page = &mut page[..(self.length - from).min(PAGE) as usize];
        let at = number as usize * PROOF;
        let good = self.file.read_exact_at(page, self.offset(from)).is_ok()
            && Prover { key: &self.key, name: &self.name }.page(number, page)
                == self.table[at..at + PROOF];
        if good {
            word.fetch_or(bit, Ordering::Relaxed);
        }
        good
    }
}

impl SegmentBytes for CachedBytes {
    fn len(&self) -> u64 {
        self.length
    }

    fn read(&self, at: u64, into: &mut [u8]) -> bool {
        let end = at.checked_add(into.len() as u64).filter(|end| *end <= self.length);
        let Some(end) = end else { return false };
        into.is_empty()
            || ((at / PAGE..end.div_ceil(PAGE)).all(|page| self.prove(page))
                && self.file.read_exact_at(into, self.offset(at)).is_ok())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_is_what_was_written_or_nothing() {
        let folder = tempfile::tempdir().expect("a directory");
        let path = folder.path().join("segment");
        let (key, other) = (Secret([1; 32]), Secret([2; 32]));
        let bytes: Vec<u8> = (0..3 * PAGE + 77).map(|at| (at * 7 % 251) as u8).collect();
        keep(&path, &key, "index/a", &bytes).expect("keeps");
        let cached = CachedBytes::open(&path, &key, "index/a").expect("opens");
        assert_eq!(cached.whole().as_deref(), Some(&bytes[..]));
        let mut part = [0; 100];
        assert!(cached.read(PAGE - 50, &mut part));
        assert_eq!(part, bytes[PAGE as usize - 50..][..100]);
        assert!(!cached.read(3 * PAGE, &mut part), "beyond its end");
        assert!(CachedBytes::open(&path, &other, "index/a").is_none());
        assert!(CachedBytes::open(&path, &key, "index/b").is_none());
        // One changed byte anywhere costs the page it is in, or the whole file.
        let file = fs::read(&path).expect("reads");
        for at in (0..file.len()).step_by(61) {
            let mut torn = file.clone();
            torn[at] ^= 0x20;
            fs::write(&path, &torn).expect("writes");
            let Some(cached) = CachedBytes::open(&path, &key, "index/a") else { continue };
            assert_eq!(cached.whole(), None, "byte {at}");
            let mut read = [0; 1];
            let good = (0..bytes.len() as u64).filter(|at| cached.read(*at, &mut read)).count();
            assert!(good >= 2 * PAGE as usize, "the other pages are good");
        }
        for length in [0, 39, 40, 41, file.len() - 1] {
            fs::write(&path, &file[..length]).expect("writes");
            assert!(CachedBytes::open(&path, &key, "index/a").is_none(), "{length} bytes");
        }
    }
}
