//! In what the contents of two files differ: lines of text beside each other, cells of tables, or bytes.
//! Bounded in time and memory, whatever they hold.

mod bytes;
mod lines;
mod table;

use std::{
    ffi::CString,
    fs::File,
    os::unix::ffi::OsStrExt,
    path::Path,
    time::{Duration, Instant},
};

pub use bytes::ByteRow;
pub use lines::{LinePair, Part, Side};

use crate::{
    error::{EngineError, Result},
    refusal::Refusal,
    sources::open_file,
};

/// So much of each file is compared, in bytes.
pub const COMPARED: usize = 1 << 20;
/// So many lines of each are compared.
const MOST_LINES: usize = 20_000;
/// After this time the rest of a text is told as replaced, which is true if coarse.
const PATIENCE: Duration = Duration::from_secs(2);
/// Unchanged lines or rows that are shown around what differs.
const AROUND: usize = 3;

/// A row of a comparison: something, or a stretch that is the same on both sides and is not shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Row<T> {
    /// One that is shown.
    Shown(T),
    /// So many lines, or bytes, that are the same.
    Same(u64),
}

/// What two contents are to each other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Contrast {
    /// They are the same, as far as they were compared.
    Same,
    /// Text, line by line; where it is a table its cells are aligned.
    Text {
        /// The lines.
        rows: Vec<Row<LinePair>>,
        /// Lines that only the second has, and lines that only the first has.
        counts: (u64, u64),
        /// Whether it is a table.
        is_table: bool,
    },
    /// Something else, byte by byte at the same offsets.
    Bytes {
        /// The rows that differ, with those around them.
        rows: Vec<Row<ByteRow>>,
        /// How many bytes differ, those that only one of the two has included.
        count: u64,
    },
}

/// A content, or its first [`COMPARED`] bytes.
#[derive(Clone, Copy, Debug)]
pub struct Content<'a> {
    /// The bytes.
    pub bytes: &'a [u8],
    /// Whether these are all.
    pub is_whole: bool,
}

impl<'a> Content<'a> {
    /// As text, if it is.
    fn text(&self) -> Option<&'a str> {
        let readable = match std::str::from_utf8(self.bytes) {
            Ok(_) => self.bytes.len(),
            // The last character may have been cut in two.
            Err(error) if !self.is_whole && error.error_len().is_none() => error.valid_up_to(),
            Err(_) => return None,
        };
        let text = std::str::from_utf8(&self.bytes[..readable]).ok()?;
        (!text.contains('\0')).then_some(text)
    }
}

/// Compares two contents.
#[must_use]
pub fn contrast(before: Content<'_>, now: Content<'_>) -> Contrast {
    if before.bytes == now.bytes {
        return Contrast::Same;
    }
    match (before.text(), now.text()) {
        (Some(before), Some(now)) => lines::compare(before, now, Instant::now() + PATIENCE),
        _ => bytes::compare(before.bytes, now.bytes),
    }
}

/// The lines of a text with the cells of its columns aligned; none if it is no table.
#[must_use]
pub fn aligned(lines: &[&str]) -> Option<Vec<String>> {
    let shape = table::Shape::of(lines, &[])?;
    Some(lines.iter().map(|line| shape.aligned(line)).collect())
}

/// The first so many bytes of a file as it is now, and its size.
///
/// # Errors
/// If it is no file, or cannot be read.
pub fn beginning(path: &Path, most: usize) -> Result<(Vec<u8>, u64)> {
    let failed = |error: std::io::Error| EngineError::local("read", path, error);
    let name = CString::new(path.as_os_str().as_bytes())
        .map_err(|error| failed(std::io::Error::other(error)))?;
    let file = open_file(rustix::fs::CWD, &name).map_err(|error| failed(error.into()))?;
    let file = File::from(file);
    let facts = file.metadata().map_err(failed)?;
    if !facts.is_file() {
        return Err(Refusal::NotAFile(path.display().to_string()).into());
    }
    let mut bytes = Vec::new();
    std::io::Read::read_to_end(&mut std::io::Read::take(file, most as u64), &mut bytes)
        .map_err(failed)?;
    // It may have grown since it was asked for its size.
    let size = facts.len().max(bytes.len() as u64);
    Ok((bytes, size))
}

/// Leaves out what is the same and not near anything that differs. `weight`: what a row counts for.
fn folded<T>(
    rows: Vec<T>,
    differs: impl Fn(&T) -> bool,
    weight: impl Fn(&T) -> u64,
) -> Vec<Row<T>> {
    let mut is_near = vec![false; rows.len()];
    for number in (0..rows.len()).filter(|number| differs(&rows[*number])) {
        let to = (number + AROUND + 1).min(rows.len());
        is_near[number.saturating_sub(AROUND)..to].fill(true);
    }
    let mut folded: Vec<Row<T>> = Vec::new();
    for (row, is_near) in rows.into_iter().zip(is_near) {
        match (is_near, folded.last_mut()) {
            (true, _) => folded.push(Row::Shown(row)),
            (false, Some(Row::Same(count))) => *count += weight(&row),
            (false, _) => folded.push(Row::Same(weight(&row))),
        }
    }
    folded
}

#[cfg(test)]
mod tests;
