//! The names in a directory.

use std::os::fd::BorrowedFd;

use rustix::{fs::Dir, io::Errno};

/// Names one behind the other, sorted by their bytes, so that a million of them cost little more
/// than their bytes.
#[derive(Default)]
pub(crate) struct Names {
    bytes: Vec<u8>,
    /// Where each begins, and where the last ends; empty if there are none.
    starts: Vec<u32>,
}

impl Names {
    /// Of names that are sorted.
    pub fn sorted<'n>(names: impl Iterator<Item = &'n [u8]>) -> Self {
        let (mut bytes, mut starts) = (Vec::new(), Vec::with_capacity(names.size_hint().0 + 1));
        for name in names {
            starts.push(bytes.len() as u32);
            bytes.extend_from_slice(name);
        }
        starts.push(bytes.len() as u32);
        Self { bytes, starts }
    }

    /// The number of a name.
    pub fn find(&self, name: &[u8]) -> Option<usize> {
        let (mut from, mut to) = (0, self.len());
        while from < to {
            let middle = from.midpoint(to);
            match self.get(middle).cmp(name) {
                std::cmp::Ordering::Less => from = middle + 1,
                std::cmp::Ordering::Equal => return Some(middle),
                std::cmp::Ordering::Greater => to = middle,
            }
        }
        None
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.starts.len().saturating_sub(1)
    }

    /// One by its number.
    pub fn get(&self, number: usize) -> &[u8] {
        &self.bytes[self.starts[number] as usize..self.starts[number + 1] as usize]
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = &[u8]> {
        (0..self.len()).map(|number| self.get(number))
    }
}

/// Names of an open directory: all, or as many as are read first, and why there may be more.
pub(crate) fn read_names(handle: BorrowedFd<'_>, most: usize) -> (Names, Option<Errno>) {
    let (mut names, mut ranges) = (Vec::new(), Vec::<(u32, u32)>::new());
    let read = (|| {
        for entry in Dir::read_from(handle)? {
            let entry = entry?;
            let name = entry.file_name().to_bytes();
            if matches!(name, b"." | b"..") {
                continue;
            }
            let start = names.len() as u32;
            names.extend_from_slice(name);
            ranges.push((start, names.len() as u32));
            if ranges.len() == most {
                break;
            }
        }
        Ok::<(), Errno>(())
    })();
    let part = |range: &(u32, u32)| &names[range.0 as usize..range.1 as usize];
    ranges.sort_unstable_by(|a, b| part(a).cmp(part(b)));
    ranges.dedup_by(|a, b| part(a) == part(b));
    (Names::sorted(ranges.iter().map(part)), read.err())
}
