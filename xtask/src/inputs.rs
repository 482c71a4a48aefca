//! Inputs for measurements, made from a seed.

use std::{
    fs::{self, File},
    io::Write,
    path::Path,
};

use anyhow::Result;

/// Files of the large inputs, each of this size.
pub(crate) const LARGE_FILES: u64 = 8;
/// Bytes of each.
pub(crate) const LARGE_BYTES: u64 = 128 << 20;
/// Number of small files.
pub(crate) const SMALL_FILES: u64 = 100_000;

const SEED: &[u8; 32] = b"measurements of skellin, seed on";

fn stream(name: &str) -> blake3::OutputReader {
    blake3::Hasher::new_keyed(SEED).update(name.as_bytes()).finalize_xof()
}

/// Large files of noise.
pub(crate) fn incompressible(folder: &Path) -> Result<()> {
    large(folder, |stream, out| stream.fill(out))
}

/// Large files of text: lines of a gauge's log, with words and numbers that vary.
pub(crate) fn text(folder: &Path) -> Result<()> {
    large(folder, fill_with_text)
}

/// Words as they stand in field notes.
const WORDS: [&str; 64] = [
    "gull", "tern", "eider", "plover", "wind", "north", "south", "rain", "gust", "ring", "sheet",
    "mast", "pier", "hut", "ridge", "tide", "gauge", "nest", "chick", "adult", "female", "male",
    "moult", "wing", "weight", "seen", "caught", "released", "again", "first", "second", "third",
    "morning", "evening", "night", "noon", "cloud", "clear", "fog", "snow", "ice", "swell", "calm",
    "strong", "weak", "left", "right", "leg", "colour", "white", "black", "grey", "young", "old",
    "pair", "flock", "single", "count", "about", "near", "far", "low", "high", "ebb",
];

pub(crate) fn fill_with_text(stream: &mut blake3::OutputReader, out: &mut [u8]) {
    let mut at = 0;
    let mut random = [0; 64];
    while at < out.len() {
        stream.fill(&mut random);
        let mut line = format!(
            "2026-{:02}-{:02} {:02}:{:02}",
            1 + random[0] % 12,
            1 + random[1] % 28,
            random[2] % 24,
            random[3] % 60
        );
        for pair in random[4..40].chunks(2) {
            line.push(' ');
            if pair[1] < 64 {
                line.push_str(&format!("{}.{}", pair[0], pair[1]));
            } else {
                // Some words are far more frequent than others.
                let rank = usize::from(pair[0]) * usize::from(pair[1]) / 1024;
                line.push_str(WORDS[rank % WORDS.len()]);
            }
        }
        line.push('\n');
        let length = line.len().min(out.len() - at);
        out[at..at + length].copy_from_slice(&line.as_bytes()[..length]);
        at += length;
    }
}

/// A file of noise, of so many bytes.
pub(crate) fn noise(path: &Path, bytes: u64) -> Result<()> {
    let (mut stream, mut file) = (stream(&path.display().to_string()), File::create(path)?);
    let mut buffer = vec![0; 1 << 20];
    for _ in 0..bytes >> 20 {
        stream.fill(&mut buffer);
        file.write_all(&buffer)?;
    }
    Ok(())
}

fn large(folder: &Path, fill: impl Fn(&mut blake3::OutputReader, &mut [u8])) -> Result<()> {
    fs::create_dir_all(folder)?;
    for number in 0..LARGE_FILES {
        let mut stream = stream(&format!("{} {number}", folder.display()));
        let mut file = File::create(folder.join(format!("large-{number}")))?;
        let mut buffer = vec![0; 1 << 20];
        for _ in 0..LARGE_BYTES >> 20 {
            fill(&mut stream, &mut buffer);
            file.write_all(&buffer)?;
        }
    }
    Ok(())
}

/// Small files of text in a tree of directories.
pub(crate) fn small(folder: &Path) -> Result<()> {
    let mut stream = stream("small");
    let mut buffer = vec![0; 16 << 10];
    for number in 0..SMALL_FILES {
        let below = folder
            .join(format!("{:02}", number / 10_000))
            .join(format!("{:02}", number / 100 % 100));
        if number % 100 == 0 {
            fs::create_dir_all(&below)?;
        }
        let length = 200 + (number * 7919 % 8000) as usize;
        fill_with_text(&mut stream, &mut buffer[..length]);
        fs::write(below.join(format!("note-{number:06}.txt")), &buffer[..length])?;
    }
    Ok(())
}
