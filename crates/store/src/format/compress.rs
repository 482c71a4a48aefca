//! Whether and how a block is compressed.

use std::cell::RefCell;

use crate::error::{Result, StoreError};

/// How hard blocks are compressed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Compression {
    /// Not at all.
    Off,
    /// zstd -1.
    Fast,
    /// zstd 1.
    #[default]
    Default,
    /// zstd 9.
    High,
}

impl Compression {
    fn level(self) -> Option<i32> {
        match self {
            Self::Off => None,
            Self::Fast => Some(-1),
            Self::Default => Some(1),
            Self::High => Some(9),
        }
    }
}

/// A compressor with its working memory.
pub(crate) struct Compressor {
    level: Option<zstd::bulk::Compressor<'static>>,
    probe: zstd::bulk::Compressor<'static>,
    scratch: Vec<u8>,
}

impl Compressor {
    pub fn new(compression: Compression) -> Result<Self> {
        let make = |level| {
            zstd::bulk::Compressor::new(level)
                .map_err(|error| StoreError::local("compressor", error))
        };
        let level = compression.level().map(make).transpose()?;
        Ok(Self { level, probe: make(-1)?, scratch: Vec::new() })
    }

    /// The compressed form, if it saves at least a thirty-second.
    pub fn compress(&mut self, content: &[u8]) -> Result<Option<&[u8]>> {
        let Some(level) = &mut self.level else { return Ok(None) };
        if looks_random(content) && !pays_on_sample(&mut self.probe, content) {
            return Ok(None);
        }
        self.scratch.clear();
        self.scratch.reserve(zstd::zstd_safe::compress_bound(content.len()));
        let length = level
            .compress_to_buffer(content, &mut self.scratch)
            .map_err(|error| StoreError::local("compressing", error))?;
        Ok((length < content.len() - content.len() / 32).then_some(&self.scratch[..length]))
    }
}

/// Four samples of 4 KiB, spread over the content.
fn samples(content: &[u8]) -> impl Iterator<Item = &[u8]> {
    const SAMPLE: usize = 4096;
    let stride = (content.len() / 4).max(SAMPLE);
    content.chunks(stride).take(4).map(|part| &part[..part.len().min(SAMPLE)])
}

/// Whether the bytes of the samples occur about equally often: a chi-squared statistic against
/// the uniform distribution, which stays near 255 for random bytes whatever their number.
fn looks_random(content: &[u8]) -> bool {
    let (mut counts, mut total) = ([0u32; 256], 0u32);
    for sample in samples(content) {
        sample.iter().for_each(|byte| counts[usize::from(*byte)] += 1);
        total += sample.len() as u32;
    }
    if total < 2048 {
        return false;
    }
    let expected = f64::from(total) / 256.0;
    let chi: f64 =
        counts.iter().map(|count| (f64::from(*count) - expected).powi(2) / expected).sum();
    chi < 600.0
}

/// Whether the quickest level makes the samples smaller (repetitions show in no histogram).
fn pays_on_sample(probe: &mut zstd::bulk::Compressor<'static>, content: &[u8]) -> bool {
    let sample = samples(content).collect::<Vec<_>>().concat();
    probe.compress(&sample).is_ok_and(|small| small.len() < sample.len() - sample.len() / 32)
}

thread_local! {
    /// Making one costs more than a small block.
    static DECOMPRESSOR: RefCell<Option<zstd::bulk::Decompressor<'static>>> =
        const { RefCell::new(None) };
}

/// Expands a compressed block to exactly `length` bytes, in `buffer`; whether it has so many.
pub(crate) fn expand(compressed: &[u8], length: usize, buffer: &mut Vec<u8>) -> bool {
    buffer.clear();
    buffer.reserve(length);
    DECOMPRESSOR.with_borrow_mut(|kept| {
        if kept.is_none() {
            *kept = zstd::bulk::Decompressor::new().ok();
        }
        let Some(decompressor) = kept else { return false };
        decompressor.decompress_to_buffer(compressed, buffer).is_ok_and(|got| got == length)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_shrinks_and_noise_is_left_alone() {
        let mut compressor = Compressor::new(Compression::Default).expect("zstd");
        let text = b"tide gauge 04, 21:40, 1.82 m\n".repeat(2000);
        let small = compressor.compress(&text).expect("works").expect("pays").to_vec();
        assert!(small.len() * 10 < text.len());
        let mut expanded = b"what was there".to_vec();
        assert!(expand(&small, text.len(), &mut expanded));
        assert_eq!(expanded, text);
        assert!(!expand(&small, text.len() + 1, &mut expanded));
        assert!(!expand(&small, text.len() - 1, &mut Vec::new()));

        let mut noise = vec![0; 400_000];
        blake3::Hasher::new().finalize_xof().fill(&mut noise);
        assert!(looks_random(&noise));
        assert!(compressor.compress(&noise).expect("works").is_none());
        let mut off = Compressor::new(Compression::Off).expect("zstd");
        assert!(off.compress(&text).expect("works").is_none());
    }
}
