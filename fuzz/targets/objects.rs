//! Every decoder that meets bytes of a place, chosen by the first byte.
#![no_main]

use libfuzzer_sys::fuzz_target;
use skellin_store::DECODERS;

fuzz_target!(|bytes: &[u8]| {
    let Some((chosen, bytes)) = bytes.split_first() else { return };
    let (_, decode) = DECODERS[usize::from(*chosen) % DECODERS.len()];
    decode(bytes);
});
