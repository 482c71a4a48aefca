//! The tree of the snapshot under the cursor. What is open and what is selected are paths, so
//! that both stay when the cursor moves in time. Rows come in batches and stay in them: a visible
//! row is found by counting, never by going through all of them.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use skellin_store::Kind;

use super::worker::{Batch, RowFacts, Trouble};

/// What has come of one directory.
#[derive(Default)]
struct Listing {
    batches: Vec<Batch>,
    /// Number of the first row of each batch.
    starts: Vec<usize>,
    length: usize,
    complete: bool,
    trouble: Option<Trouble>,
    /// Rows that are open directories, with their paths.
    open: BTreeMap<usize, Vec<u8>>,
    /// Rows that are visible here and below.
    visible: usize,
}

impl Listing {
    fn take(&mut self, batch: Batch) {
        self.starts.push(self.length);
        self.length += batch.len();
        self.batches.push(batch);
    }

    fn at(&self, row: usize) -> Option<(&Batch, usize)> {
        if row >= self.length {
            return None;
        }
        let number = self.starts.partition_point(|start| *start <= row) - 1;
        // Batches may be empty, and an empty one has no rows.
        Some((&self.batches[number], row - self.starts[number]))
    }

    fn find(&self, name: &[u8]) -> Option<usize> {
        let first = self
            .batches
            .partition_point(|batch| batch.len() > 0 && batch.name(batch.len() - 1) < name);
        let found = self.batches.get(first)?.find(name)?;
        Some(self.starts[first] + found)
    }
}

/// A visible row.
pub(super) struct Shown<'a> {
    pub depth: usize,
    pub path: Vec<u8>,
    pub name: &'a [u8],
    pub facts: &'a RowFacts,
    pub target: Option<&'a [u8]>,
    pub is_open: bool,
    /// Open, and not all of it has come yet.
    pub is_loading: bool,
    pub trouble: Option<&'a Trouble>,
}

/// The tree as it is shown. The sources lie below the empty path.
#[derive(Default)]
pub(super) struct Tree {
    listings: HashMap<Vec<u8>, Listing>,
    open: BTreeSet<Vec<u8>>,
    pub selected: Option<Vec<u8>>,
    /// Where the selected path stands, or the nearest directory above it that is there.
    position: usize,
    /// Whether the selected path itself is there.
    present: bool,
    /// First row on the screen.
    pub offset: usize,
}

impl Tree {
    /// Forgets what is listed, since it belongs to another snapshot; the paths to list.
    pub fn turn(&mut self) -> Vec<Option<Vec<u8>>> {
        self.listings.clear();
        self.present = false;
        std::iter::once(None).chain(self.open.iter().cloned().map(Some)).collect()
    }

    /// Takes some of what is in a directory.
    pub fn take(&mut self, path: Option<Vec<u8>>, batch: Batch, complete: bool) {
        let key = path.unwrap_or_default();
        let listing = self.listings.entry(key.clone()).or_default();
        let first = listing.length;
        listing.complete = complete;
        if batch.len() > 0 {
            listing.take(batch);
        }
        let listing = &self.listings[&key];
        let opened: Vec<(usize, Vec<u8>)> = self
            .open
            .iter()
            .filter_map(|path| {
                let name = if key.is_empty() { path.as_slice() } else { name_below(&key, path)? };
                listing.find(name).filter(|row| *row >= first).map(|row| (row, path.clone()))
            })
            .collect();
        if let Some(listing) = self.listings.get_mut(&key) {
            listing.open.extend(opened);
        }
        if self.selected.is_none() {
            self.selected = self
                .listings
                .get(b"".as_slice())
                .and_then(|roots| roots.at(0).map(|(batch, row)| batch.name(row).to_vec()));
        }
        self.settle();
    }

    /// Takes why a directory cannot be listed.
    pub fn take_trouble(&mut self, path: Option<Vec<u8>>, trouble: Trouble) {
        let listing = self.listings.entry(path.unwrap_or_default()).or_default();
        (listing.complete, listing.trouble) = (true, Some(trouble));
        self.settle();
    }

    /// Why there is no tree at all.
    pub fn trouble(&self) -> Option<&Trouble> {
        self.listings.get(b"".as_slice())?.trouble.as_ref()
    }

    /// Whether anything has been listed yet.
    pub fn is_loaded(&self) -> bool {
        self.listings.contains_key(b"".as_slice())
    }

    pub fn length(&self) -> usize {
        self.listings.get(b"".as_slice()).map_or(0, |roots| roots.visible)
    }

    pub fn position(&self) -> usize {
        self.position
    }

    /// Whether the selected path is in this snapshot, as far as it has been listed.
    pub fn is_present(&self) -> bool {
        self.present
    }

    /// Counts the visible rows again, and finds the selected one.
    fn settle(&mut self) {
        self.count(&[]);
        let (mut position, mut present) = (0, false);
        if let Some(selected) = self.selected.clone() {
            let (mut key, mut base) = (Vec::new(), 0);
            while let Some(listing) = self.listings.get(&key) {
                let Some((row, path)) = self.toward(&key, listing, &selected) else { break };
                let above: usize = listing
                    .open
                    .range(..row)
                    .filter_map(|(_, child)| self.listings.get(child))
                    .map(|child| child.visible)
                    .sum();
                position = base + row + above;
                present = path == selected;
                if present || !listing.open.contains_key(&row) {
                    break;
                }
                (key, base) = (path, position + 1);
            }
        }
        (self.position, self.present) = (position, present);
    }

    /// The row of a listing that is a path or lies above it.
    fn toward(&self, key: &[u8], listing: &Listing, path: &[u8]) -> Option<(usize, Vec<u8>)> {
        if key.is_empty() {
            // Sources are few, and stand with their full paths.
            let above = (0..listing.length).filter_map(|row| {
                let (batch, at) = listing.at(row)?;
                let source = batch.name(at);
                is_at_or_below(source, path).then(|| (row, source.to_vec()))
            });
            return above.max_by_key(|(_, source)| source.len());
        }
        let rest = below(key, path)?;
        let name = rest.split(|b| *b == b'/').next()?;
        listing.find(name).map(|row| (row, join(key, name)))
    }

    fn count(&mut self, key: &[u8]) -> usize {
        let Some(listing) = self.listings.get(key) else { return 0 };
        let (length, open) = (listing.length, listing.open.values().cloned().collect::<Vec<_>>());
        let below: usize = open.iter().map(|child| self.count(child)).sum();
        if let Some(listing) = self.listings.get_mut(key) {
            listing.visible = length + below;
        }
        length + below
    }

    /// A visible row by its number.
    pub fn row(&self, number: usize) -> Option<Shown<'_>> {
        let (key, row, depth) = self.find(b"", number, 0)?;
        let (batch, at) = self.listings.get(key)?.at(row)?;
        let name = batch.name(at);
        let path = if key.is_empty() { name.to_vec() } else { join(key, name) };
        let is_open = self.open.contains(&path);
        let listing = self.listings.get(&path);
        Some(Shown {
            depth,
            name,
            facts: batch.facts(at),
            target: batch.target(at),
            is_loading: is_open && listing.is_none_or(|listing| !listing.complete),
            trouble: listing.and_then(|listing| listing.trouble.as_ref()),
            is_open,
            path,
        })
    }

    fn find<'a>(
        &'a self,
        key: &'a [u8],
        mut number: usize,
        depth: usize,
    ) -> Option<(&'a [u8], usize, usize)> {
        let listing = self.listings.get(key)?;
        let mut row = 0;
        for (at, child) in &listing.open {
            let rows = at - row + 1;
            if number < rows {
                return Some((key, row + number, depth));
            }
            number -= rows;
            let visible = self.listings.get(child).map_or(0, |child| child.visible);
            if number < visible {
                return self.find(child, number, depth + 1);
            }
            number -= visible;
            row = at + 1;
        }
        (row + number < listing.length).then_some((key, row + number, depth))
    }

    pub fn selected_row(&self) -> Option<Shown<'_>> {
        self.row(self.position).filter(|_| self.present)
    }

    /// Selects a visible row.
    pub fn select(&mut self, number: usize) {
        let last = self.length().saturating_sub(1);
        if let Some(path) = self.row(number.min(last)).map(|row| row.path) {
            (self.selected, self.position, self.present) = (Some(path), number.min(last), true);
        }
    }

    /// Moves the selection by rows.
    pub fn step(&mut self, by: isize) {
        self.select(self.position.saturating_add_signed(by));
    }

    /// Opens or closes the selected directory; a path that has to be listed.
    pub fn toggle(&mut self) -> Option<Vec<u8>> {
        let row = self.selected_row().filter(|row| row.facts.kind == Kind::Directory)?;
        let path = row.path;
        let (key, at, _) = self.find(b"", self.position, 0)?;
        let key = key.to_vec();
        let listing = self.listings.get_mut(&key)?;
        if self.open.remove(&path) {
            listing.open.remove(&at);
            self.settle();
            return None;
        }
        listing.open.insert(at, path.clone());
        self.open.insert(path.clone());
        self.settle();
        (!self.listings.contains_key(&path)).then_some(path)
    }

    /// Selects the directory above.
    pub fn up(&mut self) {
        let Some((key, _, _)) = self.find(b"", self.position, 0) else { return };
        if !key.is_empty() {
            self.selected = Some(key.to_vec());
            self.settle();
        }
    }
}

fn join(above: &[u8], name: &[u8]) -> Vec<u8> {
    let separator: &[u8] = if above.ends_with(b"/") { b"" } else { b"/" };
    [above, separator, name].concat()
}

/// What is left of a path below another; `None` if it is not below.
fn below<'p>(above: &[u8], path: &'p [u8]) -> Option<&'p [u8]> {
    let rest = path.strip_prefix(above)?;
    if above.ends_with(b"/") { Some(rest) } else { rest.strip_prefix(b"/") }
        .filter(|rest| !rest.is_empty())
}

/// The name of a path that lies right below another.
fn name_below<'p>(above: &[u8], path: &'p [u8]) -> Option<&'p [u8]> {
    below(above, path).filter(|rest| !rest.contains(&b'/'))
}

fn is_at_or_below(above: &[u8], path: &[u8]) -> bool {
    above == path || below(above, path).is_some()
}

#[cfg(test)]
#[path = "tree_tests.rs"]
mod tests;
