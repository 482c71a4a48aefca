//! The tree of the snapshot under the cursor. What is open and what is selected are paths, so
//! that both stay when the cursor moves in time. Rows come in batches and stay in them: a visible
//! row is found by counting, never by going through all of them.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::Arc,
};

use skellin_engine::Census;
use skellin_store::Kind;

use super::{
    arrange::{Arrangement, arrange},
    rows::{Batch, RowFacts, Rows, join},
    worker::Trouble,
};

/// Directories with more rows than this are arranged by the worker.
const MOST_AT_ONCE: usize = 20_000;

/// What has come of one directory.
#[derive(Default)]
struct Listing {
    rows: Rows,
    /// The rows to show in their order, unless they stand as they came.
    view: Option<Vec<u32>>,
    complete: bool,
    /// Whether these are only some names, to be shown until the rows come.
    provisional: bool,
    trouble: Option<Trouble>,
    /// Rows that are open directories, by where they stand, with their paths.
    open: BTreeMap<usize, Vec<u8>>,
    /// Rows that are visible here and below.
    visible: usize,
}

impl Listing {
    /// How many rows are shown.
    fn length(&self) -> usize {
        self.view.as_ref().map_or(self.rows.len(), Vec::len)
    }

    /// A shown row: its batch, and where it stands in it.
    fn at(&self, position: usize) -> Option<(&Batch, usize)> {
        match &self.view {
            None => self.rows.at(position),
            Some(view) => self.rows.at(*view.get(position)? as usize),
        }
    }

    /// Where a name is shown. Sources stand as the plan has them, all else by name.
    fn find(&self, name: &[u8]) -> Option<usize> {
        let row = match name.contains(&b'/') {
            true => self.rows.search(name)?,
            false => self.rows.find(name)?,
        };
        match &self.view {
            None => Some(row),
            Some(view) => view.iter().position(|shown| *shown as usize == row),
        }
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
    how: Arrangement,
    census: Arc<Census>,
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
        if std::mem::take(&mut listing.provisional) {
            (listing.rows, listing.view) = (Rows::default(), None);
        }
        listing.complete = complete;
        if batch.len() > 0 {
            listing.rows.take(batch);
        }
        if !self.how.is_plain() && listing.rows.len() <= MOST_AT_ONCE {
            listing.view = Some(arrange(&listing.rows, &key, self.how, &self.census));
        }
        self.place_open(&key);
        if self.selected.is_none() {
            self.selected = self
                .listings
                .get(b"".as_slice())
                .and_then(|roots| roots.at(0).map(|(batch, row)| batch.name(row).to_vec()));
        }
        self.settle();
    }

    /// Takes some names of a directory, to be shown until its rows come.
    pub fn take_first(&mut self, path: &[u8], batch: Batch) {
        if batch.len() == 0 || self.listings.contains_key(path) {
            return;
        }
        self.take(Some(path.to_vec()), batch, false);
        if let Some(listing) = self.listings.get_mut(path) {
            listing.provisional = true;
        }
    }

    /// Finds where open directories stand in a listing.
    fn place_open(&mut self, key: &[u8]) {
        let Some(listing) = self.listings.get(key) else { return };
        let opened = self.open.iter().filter_map(|path| {
            let name = if key.is_empty() { path.as_slice() } else { name_below(key, path)? };
            listing.find(name).map(|row| (row, path.clone()))
        });
        let opened = opened.collect();
        if let Some(listing) = self.listings.get_mut(key) {
            listing.open = opened;
        }
    }

    /// The order of the rows, and which are shown.
    pub fn arrangement(&self) -> Arrangement {
        self.how
    }

    /// Arranges the rows by what a census knows by now; directories too large to be arranged here
    /// and now are returned.
    pub fn arrange(&mut self, how: Arrangement, census: &Arc<Census>) -> Vec<(Vec<u8>, Rows)> {
        if how.is_plain() && self.how.is_plain() {
            return Vec::new();
        }
        self.how = how;
        self.census = Arc::clone(census);
        let mut large = Vec::new();
        for (key, listing) in &mut self.listings {
            if how.is_plain() {
                listing.view = None;
            } else if listing.rows.len() <= MOST_AT_ONCE {
                listing.view = Some(arrange(&listing.rows, key, how, census));
            } else {
                large.push((key.clone(), listing.rows.clone()));
            }
        }
        let keys: Vec<_> = self.listings.keys().cloned().collect();
        keys.iter().for_each(|key| self.place_open(key));
        self.settle();
        large
    }

    /// Takes the order of a large directory's rows.
    pub fn take_view(&mut self, path: &[u8], how: Arrangement, rows: usize, view: Vec<u32>) {
        let fits = |listing: &&mut Listing| listing.rows.len() == rows && how == self.how;
        if let Some(listing) = self.listings.get_mut(path).filter(fits) {
            listing.view = Some(view);
            self.place_open(path);
            self.settle();
        }
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
            let above = (0..listing.length()).filter_map(|row| {
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
        let (length, open) = (listing.length(), listing.open.values().cloned().collect::<Vec<_>>());
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
        (row + number < listing.length()).then_some((key, row + number, depth))
    }

    pub fn selected_row(&self) -> Option<Shown<'_>> {
        self.row(self.position).filter(|_| self.present)
    }

    /// Whether the selected row is still to come.
    pub fn is_coming(&self) -> bool {
        if self.present {
            return false;
        }
        let mut key = Vec::new();
        loop {
            let Some(listing) = self.listings.get(&key) else { return true };
            let found = self.selected.as_ref().map(|path| (path, self.toward(&key, listing, path)));
            key = match found {
                Some((selected, Some((row, path)))) => {
                    if path == *selected || !listing.open.contains_key(&row) {
                        return false;
                    }
                    path
                }
                _ => return !listing.complete,
            };
        }
    }

    /// Whether the selected directory was opened and nothing of it has come yet.
    pub fn is_opening(&self) -> bool {
        self.selected_row().is_some_and(|row| row.is_open && !self.listings.contains_key(&row.path))
    }

    /// Selects a path, with the directories above it open, for when they are listed next.
    pub fn reveal(&mut self, path: Vec<u8>, above: Vec<Vec<u8>>) {
        self.open.extend(above);
        self.selected = Some(path);
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

    /// Opens the sources that are directories, for when they are listed next.
    pub fn open_sources(&mut self) {
        let Some(listing) = self.listings.get(b"".as_slice()) else { return };
        let rows = (0..listing.rows.len()).filter_map(|row| listing.rows.at(row));
        let directories = rows.filter(|(batch, at)| batch.facts(*at).kind == Kind::Directory);
        let paths: Vec<_> = directories.map(|(batch, at)| batch.name(at).to_vec()).collect();
        self.open.extend(paths);
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
