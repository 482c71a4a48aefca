//! What the viewers make of the contents of files, whatever they hold: a picture, and two contents beside
//! each other, split at the first byte that is 255.
#![no_main]

use libfuzzer_sys::fuzz_target;
use skellin_engine::{
    contrast::{Content, contrast},
    picture::picture,
};

fuzz_target!(|bytes: &[u8]| {
    let Some((flags, bytes)) = bytes.split_first() else { return };
    let at = bytes.iter().position(|byte| *byte == 255).unwrap_or(bytes.len());
    let (before, now) = (&bytes[..at], bytes.get(at + 1..).unwrap_or_default());
    let content = |bytes, bit: u8| Content { bytes, is_whole: flags & bit == 0 };
    let _ = picture(bytes);
    let _ = contrast(content(before, 1), content(now, 2));
});
