//! Numbers of bytes as people read them.

/// Bytes in the unit that leaves a short number.
pub(crate) fn size(bytes: u64) -> String {
    match bytes {
        0..0x2800 => format!("{bytes} B"),
        0x2800..0xA0_0000 => format!("{} KiB", bytes >> 10),
        0xA0_0000..0x2_8000_0000 => format!("{} MiB", bytes >> 20),
        _ => format!("{} GiB", bytes >> 30),
    }
}
