//! What is damaged: the regions of each kind of object, and the ways to damage them.

use std::{fs, ops::Range, path::Path};

use anyhow::{Context as _, Result};

/// One way to damage one object.
#[derive(Clone, Debug)]
pub(super) struct Injury {
    /// The object, relative to the store.
    pub object: String,
    /// Its kind, in words.
    pub kind: &'static str,
    pub region: &'static str,
    pub range: Range<usize>,
    /// Bytes of the object.
    pub length: usize,
    pub way: Way,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Way {
    Flip,
    Zero,
    Cut,
    Empty,
    Remove,
}

impl Way {
    pub fn word(self) -> &'static str {
        match self {
            Self::Flip => "flipped",
            Self::Zero => "zeroed",
            Self::Cut => "cut",
            Self::Empty => "emptied",
            Self::Remove => "removed",
        }
    }
}

impl Injury {
    /// Whether a store with so many percent of parity promises to mend it. What is no container of data
    /// is kept twice, can be made anew, or counts for nothing.
    pub fn is_within(&self, percent: usize) -> bool {
        match (self.kind, self.way) {
            ("data container", Way::Empty | Way::Remove) => false,
            ("data container", Way::Flip) => true,
            ("data container", Way::Zero | Way::Cut) => {
                self.range.len() * 100 <= percent * self.length
            }
            _ => true,
        }
    }

    /// Does it; `false` if it changes nothing.
    pub fn inflict(&self, store: &Path) -> Result<bool> {
        let path = store.join(&self.object);
        let mut bytes = fs::read(&path).with_context(|| format!("reading {}", path.display()))?;
        let before = bytes.clone();
        match self.way {
            Way::Flip => bytes[self.range.start + self.range.len() / 2] ^= 0x10,
            Way::Zero => bytes[self.range.clone()].fill(0),
            Way::Cut => bytes.truncate(self.range.start),
            Way::Empty => bytes.clear(),
            Way::Remove => {
                fs::remove_file(&path)?;
                return Ok(true);
            }
        }
        fs::write(&path, &bytes)?;
        Ok(bytes != before)
    }
}

fn kind_of(object: &str) -> &'static str {
    match object.split_once('/') {
        None => "header",
        Some(("keys", _)) => "slot",
        Some(("data", _)) => "data container",
        Some(("trees", _)) => "tree container",
        Some(("spares", leaf)) if leaf.contains('-') => "tree container",
        Some(("snapshots" | "spares", _)) => "snapshot",
        Some(("index", _)) => "index segment",
        Some(_) => "record",
    }
}

/// The regions of an object, by its kind.
fn regions(kind: &str, bytes: &[u8]) -> Vec<(&'static str, Range<usize>)> {
    let length = bytes.len();
    match kind {
        "data container" | "tree container" => {
            let word = |at: usize| {
                bytes[at..at + 8].iter().rev().fold(0, |sum, byte| sum << 8 | usize::from(*byte))
            };
            let (directory, words_end) = (word(length - 56), word(length - 48));
            // As much as parity promises to mend, around the middle.
            let share = length / 2..length / 2 + length * super::PARITY / 100;
            vec![
                ("magic", 0..8),
                ("version", 8..10),
                ("class", 10..11),
                ("suite", 11..12),
                ("flags", 12..16),
                ("epoch", 16..20),
                ("sequence", 20..24),
                ("run", 24..40),
                ("salt", 40..56),
                ("run key", 56..136),
                ("padding", 136..160),
                ("first block", 160..400.min(directory)),
                ("middle block", directory / 2..directory / 2 + 64),
                ("last block", directory - 64..directory),
                ("directory", directory..words_end),
                ("table", words_end..(words_end + 8).min(length - 64)),
                ("parity", words_end..length - 64),
                ("share", share.start..share.end),
                ("trailer magic", length - 64..length - 56),
                ("trailer range", length - 56..length - 40),
                ("trailer parity", length - 40..length - 24),
                ("trailer length", length - 24..length - 16),
                ("trailer sum", length - 16..length),
            ]
        }
        _ => {
            const NAMES: [&str; 8] =
                ["part 1", "part 2", "part 3", "part 4", "part 5", "part 6", "part 7", "part 8"];
            let part = |number: usize| number * length / 8..(number + 1) * length / 8;
            NAMES.iter().enumerate().map(|(number, name)| (*name, part(number))).collect()
        }
    }
}

/// Every injury of a store, in the order of its objects.
pub(super) fn injuries(store: &Path) -> Result<Vec<Injury>> {
    let mut objects = Vec::new();
    for entry in fs::read_dir(store)? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        if entry.file_type()?.is_file() {
            objects.push(name);
            continue;
        }
        for below in fs::read_dir(entry.path())? {
            objects.push(format!("{name}/{}", below?.file_name().to_string_lossy()));
        }
    }
    objects.sort();
    let mut found = Vec::new();
    for object in objects {
        let bytes = fs::read(store.join(&object))?;
        let kind = kind_of(&object);
        let length = bytes.len();
        let injury = |region, range, way| Injury {
            object: object.clone(),
            kind,
            region,
            range,
            length,
            way,
        };
        for (region, range) in regions(kind, &bytes) {
            if !range.is_empty() {
                found.push(injury(region, range.clone(), Way::Flip));
                found.push(injury(region, range, Way::Zero));
            }
        }
        for (region, at) in [
            ("last byte", length - 1),
            ("second half", length / 2),
            ("all but 100 bytes", 100.min(length / 3)),
        ] {
            found.push(injury(region, at..length, Way::Cut));
        }
        found.push(injury("all", 0..length, Way::Empty));
        found.push(injury("all", 0..length, Way::Remove));
    }
    Ok(found)
}
