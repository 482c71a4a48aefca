//! The machine's own limits, measured by small programs that share no code with the engine.
//! All rates are bytes a second of one thread, but for the walk.

use std::{
    ffi::CString,
    fs::{self, File},
    io::{Read, Write},
    os::{fd::OwnedFd, unix::ffi::OsStrExt},
    path::{Path, PathBuf},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Instant,
};

use anyhow::Result;
use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use rustix::fs::{AtFlags, CWD, Dir, Mode, OFlags, openat, statat};

/// What the machine can do.
pub(crate) struct Limits {
    pub read: f64,
    pub boundary: f64,
    pub blake3: f64,
    pub zstd: f64,
    /// Size of compressed text as a share of its size.
    pub shrink: f64,
    /// Of what comes out.
    pub unzstd: f64,
    pub aead: f64,
    pub write: f64,
}

fn rate(bytes: u64, begun: Instant) -> f64 {
    bytes as f64 / begun.elapsed().as_secs_f64()
}

/// The best of three, since anything but the best was disturbed.
fn best(mut measure: impl FnMut() -> Result<f64>) -> Result<f64> {
    let mut best = 0f64;
    for _ in 0..3 {
        best = best.max(measure()?);
    }
    Ok(best)
}

/// Measures everything that works on bytes; `noise` and `text` are large files.
pub(crate) fn measure(noise: &Path, text: &Path, scratch: &Path) -> Result<Limits> {
    let content = fs::read(noise)?;
    let words = fs::read(text)?;
    let read = best(|| {
        let (begun, mut file, mut buffer, mut total) =
            (Instant::now(), File::open(noise)?, vec![0; 64 << 10], 0);
        loop {
            match file.read(&mut buffer)? {
                0 => return Ok(rate(total, begun)),
                some => total += some as u64,
            }
        }
    })?;
    let boundary = best(|| {
        let begun = Instant::now();
        std::hint::black_box(boundary_hits(&content));
        Ok(rate(content.len() as u64, begun))
    })?;
    let blake3 = best(|| {
        let begun = Instant::now();
        for chunk in content.chunks(52 << 10) {
            std::hint::black_box(blake3::keyed_hash(&[7; 32], chunk));
        }
        Ok(rate(content.len() as u64, begun))
    })?;
    let mut shrink = 1.0;
    let zstd = best(|| {
        let begun = Instant::now();
        let mut compressor = zstd::bulk::Compressor::new(1)?;
        let mut small = 0;
        for block in words.chunks(512 << 10) {
            small += compressor.compress(block)?.len();
        }
        shrink = small as f64 / words.len() as f64;
        Ok(rate(words.len() as u64, begun))
    })?;
    let compressed = words.chunks(512 << 10).map(|block| zstd::bulk::compress(block, 1));
    let compressed: Vec<Vec<u8>> = compressed.collect::<Result<_, _>>()?;
    let unzstd = best(|| {
        let begun = Instant::now();
        let mut decompressor = zstd::bulk::Decompressor::new()?;
        for block in &compressed {
            std::hint::black_box(decompressor.decompress(block, 512 << 10)?);
        }
        Ok(rate(words.len() as u64, begun))
    })?;
    let aead = best(|| {
        let key = UnboundKey::new(&AES_256_GCM, &[9; 32]).map_err(|_| anyhow::anyhow!("key"))?;
        let key = LessSafeKey::new(key);
        let mut block = content[..512 << 10].to_vec();
        let begun = Instant::now();
        for number in 0..256u64 {
            let mut nonce = [0; 12];
            nonce[4..].copy_from_slice(&number.to_be_bytes());
            let nonce = Nonce::assume_unique_for_key(nonce);
            let sealed = key.seal_in_place_separate_tag(nonce, Aad::empty(), &mut block);
            std::hint::black_box(sealed.map_err(|_| anyhow::anyhow!("seal"))?.as_ref());
        }
        Ok(rate(256 * (512 << 10), begun))
    })?;
    let write = best(|| write_files(&content, scratch, "written", false))?;
    Ok(Limits { read, boundary, blake3, zstd, shrink, unzstd, aead, write })
}

/// Bytes a second that several threads together write to disk, each file synced.
pub(crate) fn synced_write(folder: &Path, scratch: &Path, threads: usize) -> Result<f64> {
    let content = fs::read(folder.join("large-0"))?;
    best(|| {
        let begun = Instant::now();
        std::thread::scope(|scope| {
            let threads = (0..threads).map(|number| {
                let content = &content;
                scope
                    .spawn(move || write_files(content, scratch, &format!("synced-{number}"), true))
            });
            let threads: Vec<_> = threads.collect();
            for thread in threads {
                thread.join().map_err(|_| anyhow::anyhow!("a writer panicked"))??;
            }
            anyhow::Ok(())
        })?;
        Ok(rate((threads * content.len()) as u64, begun))
    })
}

fn write_files(content: &[u8], scratch: &Path, name: &str, sync: bool) -> Result<f64> {
    let begun = Instant::now();
    for (number, part) in content.chunks(32 << 20).enumerate() {
        let mut file = File::create(scratch.join(format!("{name}-{number}")))?;
        file.write_all(part)?;
        if sync {
            file.sync_data()?;
        }
    }
    let reached = rate(content.len() as u64, begun);
    for number in 0..content.len().div_ceil(32 << 20) {
        fs::remove_file(scratch.join(format!("{name}-{number}")))?;
    }
    Ok(reached)
}

/// Positions at which 12 bits of a sum over the last 16 bytes are zero, as many at a time as the
/// processor can: the boundary function's bulk.
fn boundary_hits(content: &[u8]) -> u64 {
    #[cfg(target_arch = "x86_64")]
    if is_x86_feature_detected!("avx2") {
        #[expect(unsafe_code, reason = "intrinsics")]
        // SAFETY: the processor has AVX2.
        return unsafe { boundary_hits_avx2(content) };
    }
    let mut sum = 0u16;
    content
        .iter()
        .map(|byte| {
            sum = (sum << 1).wrapping_add(u16::from(*byte).wrapping_mul(0x9E37));
            u64::from(sum & 0xFFF0 == 0)
        })
        .sum()
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
#[expect(unsafe_code, reason = "loads from memory have no safe form among the intrinsics")]
fn boundary_hits_avx2(content: &[u8]) -> u64 {
    use std::arch::x86_64::*;
    let table = |seed: u8| {
        let bytes: [u8; 32] =
            std::array::from_fn(|at| (at as u8 % 16).wrapping_mul(seed).rotate_left(3) ^ seed);
        // SAFETY: the array has 32 bytes.
        unsafe { _mm256_loadu_si256(bytes.as_ptr().cast()) }
    };
    let (a, b, c, d) = (table(0x9D), table(0x35), table(0xC7), table(0x6B));
    let (nibble, mask, zero) =
        (_mm256_set1_epi8(15), _mm256_set1_epi16(0xFFF0u16 as i16), _mm256_setzero_si256());
    let mut hits = 0;
    let mut last = [zero; 4];
    for bytes in content.chunks_exact(32) {
        // SAFETY: the chunk has 32 bytes.
        let bytes = unsafe { _mm256_loadu_si256(bytes.as_ptr().cast()) };
        let low = _mm256_and_si256(bytes, nibble);
        let high = _mm256_and_si256(_mm256_srli_epi16(bytes, 4), nibble);
        let first = _mm256_xor_si256(_mm256_shuffle_epi8(a, low), _mm256_shuffle_epi8(b, high));
        let second = _mm256_xor_si256(_mm256_shuffle_epi8(c, low), _mm256_shuffle_epi8(d, high));
        let (front, back) =
            (_mm256_unpacklo_epi8(first, second), _mm256_unpackhi_epi8(first, second));
        for one in [
            _mm256_permute2x128_si256(front, back, 0x20),
            _mm256_permute2x128_si256(front, back, 0x31),
        ] {
            let two = _mm256_add_epi16(
                one,
                _mm256_slli_epi16(
                    _mm256_alignr_epi8(one, _mm256_permute2x128_si256(last[0], one, 0x21), 14),
                    1,
                ),
            );
            let four = _mm256_add_epi16(
                two,
                _mm256_slli_epi16(
                    _mm256_alignr_epi8(two, _mm256_permute2x128_si256(last[1], two, 0x21), 12),
                    2,
                ),
            );
            let eight = _mm256_add_epi16(
                four,
                _mm256_slli_epi16(
                    _mm256_alignr_epi8(four, _mm256_permute2x128_si256(last[2], four, 0x21), 8),
                    4,
                ),
            );
            let sixteen = _mm256_add_epi16(
                eight,
                _mm256_slli_epi16(_mm256_permute2x128_si256(last[3], eight, 0x21), 8),
            );
            last = [one, two, four, eight];
            let hit =
                _mm256_movemask_epi8(_mm256_cmpeq_epi16(_mm256_and_si256(sixteen, mask), zero));
            if hit != 0 {
                hits += u64::from(hit.count_ones() / 2);
            }
        }
    }
    hits
}

/// Entries a second of a walk with stat of every entry, on as many threads as there are cores.
pub(crate) fn walk(folder: &Path, cores: usize) -> Result<f64> {
    best(|| {
        let begun = Instant::now();
        let entries = walk_once(folder, cores)?;
        Ok(entries as f64 / begun.elapsed().as_secs_f64())
    })
}

fn open(path: &Path) -> Option<OwnedFd> {
    openat(CWD, path, OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty()).ok()
}

fn walk_once(folder: &Path, cores: usize) -> Result<u64> {
    let (stack, busy, entries) =
        (Mutex::new(vec![folder.to_path_buf()]), AtomicU64::new(0), AtomicU64::new(0));
    std::thread::scope(|scope| {
        for _ in 0..cores {
            scope.spawn(|| {
                loop {
                    let next: Option<PathBuf> = {
                        let mut stack = stack.lock().unwrap_or_else(PoisonError::into_inner);
                        let next = stack.pop();
                        if next.is_some() {
                            busy.fetch_add(1, Ordering::SeqCst);
                        }
                        next
                    };
                    let Some(path) = next else {
                        if busy.load(Ordering::SeqCst) == 0 {
                            return;
                        }
                        std::thread::yield_now();
                        continue;
                    };
                    let mut below = Vec::new();
                    if let Some(handle) = open(&path)
                        && let Ok(names) = Dir::read_from(&handle)
                    {
                        for name in names.flatten() {
                            if matches!(name.file_name().to_bytes(), b"." | b"..") {
                                continue;
                            }
                            let leaf = CString::from(name.file_name());
                            let Ok(stat) = statat(&handle, &*leaf, AtFlags::SYMLINK_NOFOLLOW)
                            else {
                                continue;
                            };
                            entries.fetch_add(1, Ordering::Relaxed);
                            if rustix::fs::FileType::from_raw_mode(stat.st_mode).is_dir() {
                                below.push(path.join(std::ffi::OsStr::from_bytes(leaf.as_bytes())));
                            }
                        }
                    }
                    stack.lock().unwrap_or_else(PoisonError::into_inner).extend(below);
                    busy.fetch_sub(1, Ordering::SeqCst);
                }
            });
        }
    });
    Ok(entries.into_inner())
}
