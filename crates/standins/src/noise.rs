//! Bytes that look random and are the same every time.

/// So many bytes that nothing can compress, by a seed (xorshift64, Marsaglia 2003).
#[must_use]
pub fn noise(seed: &str, length: usize) -> Vec<u8> {
    let mut state = seed.bytes().fold(0x9E37_79B9_7F4A_7C15u64, |sum, byte| {
        (sum ^ u64::from(byte)).wrapping_mul(0x0100_0000_01B3)
    }) | 1;
    let mut bytes = vec![0; length];
    for part in bytes.chunks_mut(8) {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        part.copy_from_slice(&state.to_le_bytes()[..part.len()]);
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seeds_differ_and_repeat() {
        assert_eq!(noise("terns", 1001), noise("terns", 1001));
        assert_ne!(noise("terns", 64), noise("gulls", 64));
        assert_eq!(noise("terns", 1001).len(), 1001);
    }
}
