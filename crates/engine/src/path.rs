//! Paths as bytes.

/// The path of a name in a directory.
pub(crate) fn join(directory: &[u8], name: &[u8]) -> Vec<u8> {
    let separator: &[u8] = if directory.ends_with(b"/") { b"" } else { b"/" };
    [directory, separator, name].concat()
}
