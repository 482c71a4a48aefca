//! Which directories bring the bytes that runs store.

use std::{
    borrow::Borrow,
    collections::{BTreeMap, HashSet},
};

use skellin_store::{Body, Entry, Fingerprint, Item, PageRef, Recipe, Snapshot, Store, join};

use crate::{
    error::{EngineError, Result},
    walk::Beside,
};

/// A directory whose part in its parent's bytes is larger than this stands for the parent.
const MOST: f64 = 0.8;
/// A directory whose part in its parent's bytes is smaller than this is not told of by itself.
const LEAST: f64 = 0.1;

/// Bytes that came new below each directory, by its full path.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Brought(BTreeMap<Vec<u8>, u64>);

/// A directory and what it brought.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bringer {
    /// Its full path.
    pub path: Vec<u8>,
    /// Bytes that its files did not have in the snapshot before, before compression. What another file
    /// had counts as well.
    pub bytes: u64,
    /// Whether directories below it are told of by themselves, so that this is what else is in it.
    pub is_rest: bool,
}

/// What each of these snapshots, oldest first, brought beside the one before it.
///
/// # Errors
/// [`EngineError::Cancelled`] if `is_cancelled` says so; or if the place fails. Directories that cannot
/// be read do not count.
pub fn brought<S: Borrow<Snapshot>>(
    store: &Store,
    snapshots: &[S],
    is_cancelled: &dyn Fn() -> bool,
) -> Result<Brought> {
    let mut looking = Looking { store, is_cancelled, brought: Brought::default() };
    for two in snapshots.windows(2) {
        let (before, now): (&Snapshot, &Snapshot) = (two[0].borrow(), two[1].borrow());
        let path = |entry: &Entry| {
            let source = now.sources.iter().find(|source| source.name.as_slice() == entry.name);
            source.map_or_else(|| entry.name.clone(), |source| source.path.to_vec())
        };
        let roots = (now.root_page(store), Some(before.root_page(store)));
        looking.directory(roots, &path)?;
    }
    Ok(looking.brought)
}

struct Looking<'a> {
    store: &'a Store,
    is_cancelled: &'a dyn Fn() -> bool,
    brought: Brought,
}

impl Looking<'_> {
    /// The bytes below a directory that are new beside another.
    fn directory(
        &mut self,
        (now, before): (PageRef, Option<PageRef>),
        path: &dyn Fn(&Entry) -> Vec<u8>,
    ) -> Result<u64> {
        let mut before = Beside::new(self.store, before);
        let mut entries = self.store.entries(now);
        let mut sum = 0u64;
        loop {
            if (self.is_cancelled)() {
                return Err(EngineError::Cancelled);
            }
            let next = match entries.next_entry() {
                Err(error) if error.is_unreadable() => return Ok(sum),
                next => next?,
            };
            let Some(entry) = next else { return Ok(sum) };
            let old = before.meet(&entry.name, |_| {})?;
            if old.as_ref().is_some_and(|old| old.body.same_content(&entry.body)) {
                continue;
            }
            let old = old.map(|old| old.body);
            let here = path(&entry);
            let new = match (&entry.body, old) {
                (Body::Directory { root, .. }, old) => {
                    let before = match old {
                        Some(Body::Directory { root, .. }) => Some(root),
                        _ => None,
                    };
                    let within = |entry: &Entry| join(&here, &entry.name);
                    self.directory((*root, before), &within)?
                }
                (Body::File { recipe, .. }, old) => self.file(recipe, old.as_ref())?,
                _ => 0,
            };
            if new > 0 {
                *self.brought.0.entry(here).or_default() += new;
            }
            sum += new;
        }
    }

    /// The bytes of a file that it did not have before.
    fn file(&self, recipe: &Recipe, old: Option<&Body>) -> Result<u64> {
        let mut known: HashSet<Fingerprint> = HashSet::new();
        if let Some(Body::File { recipe, .. }) = old {
            self.chunks(recipe, &mut |print, _| {
                known.insert(print);
            })?;
        }
        let mut new = 0u64;
        self.chunks(recipe, &mut |print, length| {
            if known.insert(print) {
                new += length;
            }
        })?;
        Ok(new)
    }

    fn chunks(&self, recipe: &Recipe, each: &mut dyn FnMut(Fingerprint, u64)) -> Result<()> {
        let mut items = self.store.items(recipe);
        loop {
            match items.next_item() {
                Ok(Some(Item::Chunk(chunk))) => each(chunk.fingerprint, u64::from(chunk.length)),
                Ok(Some(Item::Hole(_))) => {}
                Ok(None) => return Ok(()),
                Err(error) if error.is_unreadable() => return Ok(()),
                Err(error) => return Err(error.into()),
            }
        }
    }
}

impl Brought {
    /// Adds what else was found.
    pub fn extend(&mut self, other: Self) {
        for (path, bytes) in other.0 {
            *self.0.entry(path).or_default() += bytes;
        }
    }

    /// The few directories or files that say most of it, the largest first. Where one below another has
    /// nearly all of it, that one stands for both.
    #[must_use]
    pub fn told(&self, most: usize) -> Vec<Bringer> {
        let is_top = |path: &&Vec<u8>| {
            let mut above = path.as_slice();
            while let Some(at) = above.iter().rposition(|byte| *byte == b'/').filter(|at| *at > 0) {
                above = &above[..at];
                if self.0.contains_key(above) {
                    return false;
                }
            }
            true
        };
        let mut told = Vec::new();
        for top in self.0.keys().filter(is_top) {
            self.tell(top, &mut told);
        }
        told.sort_by(|a, b| b.bytes.cmp(&a.bytes).then_with(|| a.path.cmp(&b.path)));
        told.truncate(most);
        told
    }

    /// What is directly in a directory, with its bytes.
    fn within<'a>(&'a self, path: &[u8]) -> Vec<(&'a Vec<u8>, u64)> {
        let prefix = join(path, b"");
        let from = self.0.range(prefix.clone()..);
        let below = from.take_while(|(path, _)| path.starts_with(&prefix));
        let direct = below.filter(|(path, _)| !path[prefix.len()..].contains(&b'/'));
        direct.map(|(path, bytes)| (path, *bytes)).collect()
    }

    fn tell(&self, path: &[u8], told: &mut Vec<Bringer>) {
        let bytes = self.0.get(path).copied().unwrap_or(0);
        let within = self.within(path);
        let share = |part: u64| part as f64 / bytes.max(1) as f64;
        if let Some((only, _)) = within.iter().find(|(_, part)| share(*part) >= MOST) {
            return self.tell(only, told);
        }
        let large = within
            .iter()
            .filter(|(path, part)| share(*part) >= LEAST && !self.within(path).is_empty());
        let mut rest = bytes;
        let mut is_rest = false;
        for (path, part) in large {
            (rest, is_rest) = (rest.saturating_sub(*part), true);
            self.tell(path, told);
        }
        if rest > 0 && (!is_rest || share(rest) >= LEAST) {
            told.push(Bringer { path: path.to_vec(), bytes: rest, is_rest });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_directories_that_say_most_are_told() {
        let brought: BTreeMap<Vec<u8>, u64> = [
            ("/srv", 1000u64),
            ("/srv/gauges", 990),
            ("/srv/gauges/2026", 990),
            ("/srv/gauges/2026/10", 500),
            ("/srv/gauges/2026/10/a.csv", 250),
            ("/srv/gauges/2026/10/b.csv", 250),
            ("/srv/gauges/2026/11", 400),
            ("/srv/gauges/2026/11/a.csv", 390),
            ("/srv/gauges/2026/11/b.csv", 10),
            ("/srv/gauges/2026/notes.md", 90),
            ("/srv-2", 7),
        ]
        .into_iter()
        .map(|(path, bytes)| (path.as_bytes().to_vec(), bytes))
        .collect();
        let told = |most| {
            let told = Brought(brought.clone()).told(most).into_iter();
            let line =
                |one: Bringer| (String::from_utf8(one.path).expect("text"), one.bytes, one.is_rest);
            told.map(line).collect::<Vec<_>>()
        };
        let all = [
            ("/srv/gauges/2026/10".to_owned(), 500, false),
            ("/srv/gauges/2026/11/a.csv".to_owned(), 390, false),
            ("/srv-2".to_owned(), 7, false),
        ];
        assert_eq!(told(9), all);
        assert_eq!(told(1), all[..1]);
        assert_eq!(Brought::default().told(3), []);
    }
}
