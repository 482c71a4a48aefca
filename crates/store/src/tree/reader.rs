//! Walking trees: a page at a time, in the order of names.

use std::borrow::Borrow;
use std::collections::{HashMap, VecDeque, hash_map};

use super::{
    annex::{Hints, split},
    entry::{Entry, Item, Owner, PageRef, Recipe},
    needs::Needs,
    page::Page,
    scan::{Row, scan},
    spot::Spot,
    stretches::Stretches,
};
use crate::{
    containers::Location,
    error::{Result, StoreError},
    format::ids::{Class, Fingerprint},
    store::Store,
};

impl Store {
    fn page(&self, page: &PageRef) -> Result<Page> {
        let object = format!("the tree page {}", page.fingerprint);
        self.with_page(page, &object, |body, annex, own| {
            Page::decode(body, &Hints::of(annex, own, &self.containers), &object)
        })
    }

    /// The body of a page, whatever it says.
    pub(crate) fn page_body(&self, fingerprint: &Fingerprint) -> Result<Vec<u8>> {
        let object = format!("the tree page {fingerprint}");
        let page = PageRef::unplaced(*fingerprint);
        self.with_page(&page, &object, |body, _, _| Ok(body.to_vec()))
    }

    /// Hands over body and annex of a page, and where it lies.
    fn with_page<T>(
        &self,
        page: &PageRef,
        object: &str,
        take: impl FnOnce(&[u8], &[u8], Location) -> Result<T>,
    ) -> Result<T> {
        let damaged = |why: &str| StoreError::damaged(object, why);
        let (block, own) = self.locate(Class::Tree, &page.fingerprint, page.spot)?;
        let stored =
            block.chunk(own.chunk.into()).ok_or_else(|| damaged("it is not in its block"))?;
        let (body, annex) = split(stored).ok_or_else(|| damaged("it is cut short"))?;
        if self.keys.fingerprint(Class::Tree, body) != page.fingerprint {
            return Err(damaged("its content does not match"));
        }
        take(body, annex, own)
    }
}

/// So many lists of owners are told apart.
const MOST_OWNERS: usize = 64;

/// Inner pages never nest deeper, whatever a damaged store says.
const DEEPEST: usize = 16;

/// The pages below a root, depth first.
struct Pages {
    /// Pages still to visit, with their depth; the next one at the end.
    stack: Vec<(PageRef, usize)>,
}

impl Pages {
    fn next_leaf(&mut self, store: &Store) -> Result<Option<Page>> {
        while let Some((page, depth)) = self.stack.pop() {
            match store.page(&page)? {
                Page::Inner(children) if depth < DEEPEST => {
                    let children = children.into_iter().rev();
                    self.stack.extend(children.map(|(_, child, _)| (child, depth + 1)));
                }
                Page::Inner(_) => return Err(StoreError::damaged("a tree", "it is too deep")),
                leaf => return Ok(Some(leaf)),
            }
        }
        Ok(None)
    }
}

/// The entries of a directory, in the order of their names.
pub type Entries<'s> = EntriesOf<&'s Store>;

/// The entries of a directory, in the order of their names, from a store that is held in any way.
pub struct EntriesOf<S> {
    store: S,
    pages: Pages,
    ready: VecDeque<Entry>,
}

impl<S: Borrow<Store>> EntriesOf<S> {
    /// The entries of a directory.
    pub fn new(store: S, root: PageRef) -> Self {
        Self { store, pages: Pages { stack: vec![(root, 0)] }, ready: VecDeque::new() }
    }

    /// The next entry, or `None` at the end.
    ///
    /// # Errors
    /// If a page cannot be read; what follows it is lost.
    pub fn next_entry(&mut self) -> Result<Option<Entry>> {
        while self.ready.is_empty() {
            match self.pages.next_leaf(self.store.borrow())? {
                Some(Page::Entries(entries)) => self.ready.extend(entries),
                Some(_) => {
                    return Err(StoreError::damaged("a tree", "a list of chunks among names"));
                }
                None => return Ok(None),
            }
        }
        Ok(self.ready.pop_front())
    }
}

impl<S: Borrow<Store>> Iterator for EntriesOf<S> {
    type Item = Result<Entry>;

    fn next(&mut self) -> Option<<Self as Iterator>::Item> {
        self.next_entry().transpose()
    }
}

/// The pieces of a file, in order.
pub type Items<'s> = ItemsOf<&'s Store>;

/// The pieces of a file, in order, from a store that is held in any way.
pub struct ItemsOf<S> {
    store: S,
    pages: Pages,
    ready: VecDeque<Item>,
}

impl<S: Borrow<Store>> ItemsOf<S> {
    /// The pieces of a file.
    pub fn new(store: S, recipe: &Recipe) -> Self {
        let (stack, ready) = match recipe {
            Recipe::Inline(items) => (Vec::new(), items.iter().copied().collect()),
            Recipe::Paged(page, _) => (vec![(*page, 0)], VecDeque::new()),
        };
        Self { store, pages: Pages { stack }, ready }
    }

    /// The next piece, or `None` at the end.
    ///
    /// # Errors
    /// If a page cannot be read; what follows it is lost.
    pub fn next_item(&mut self) -> Result<Option<Item>> {
        while self.ready.is_empty() {
            match self.pages.next_leaf(self.store.borrow())? {
                Some(Page::Items(items)) => self.ready.extend(items),
                Some(_) => return Err(StoreError::damaged("a tree", "names in a list of chunks")),
                None => return Ok(None),
            }
        }
        Ok(self.ready.pop_front())
    }
}

impl<S: Borrow<Store>> Iterator for ItemsOf<S> {
    type Item = Result<Item>;

    fn next(&mut self) -> Option<<Self as Iterator>::Item> {
        self.next_item().transpose()
    }
}

impl Store {
    /// The entries of a directory.
    #[must_use]
    pub fn entries(&self, root: PageRef) -> Entries<'_> {
        Entries::new(self, root)
    }

    /// The pieces of a file.
    #[must_use]
    pub fn items(&self, recipe: &Recipe) -> Items<'_> {
        Items::new(self, recipe)
    }

    /// One entry of a directory, by its name.
    ///
    /// # Errors
    /// If a page on the way cannot be read.
    pub fn entry(&self, root: PageRef, name: &[u8]) -> Result<Option<Entry>> {
        let mut page = root;
        for _ in 0..DEEPEST {
            match self.page(&page)? {
                Page::Entries(entries) => {
                    return Ok(entries.into_iter().find(|entry| entry.name == name));
                }
                Page::Inner(children) => {
                    let next = children.into_iter().find(|(label, _, _)| {
                        matches!(label, super::page::ChildLabel::Name(last) if name <= last.as_slice())
                    });
                    match next {
                        Some((_, child, _)) => page = child,
                        None => return Ok(None),
                    }
                }
                Page::Items(_) => {
                    return Err(StoreError::damaged("a tree", "a list of chunks among names"));
                }
            }
        }
        Err(StoreError::damaged("a tree", "it is too deep"))
    }

    /// Hands over the entries of a directory as it is in many snapshots, each with those that have it; the
    /// same one may come several times, for others. Every page is read once, however many have it, and an
    /// entry that stands in many is decoded once. What cannot be read is handed to `lost`.
    ///
    /// # Errors
    /// If the place fails.
    pub fn entries_of_many(
        &self,
        roots: &[(PageRef, Stretches)],
        takes: &mut dyn Takes,
        lost: &mut dyn FnMut(StoreError),
    ) -> Result<()> {
        let mut level = Level::default();
        roots.iter().for_each(|(page, when)| level.add(*page, when));
        let mut known = Known::default();
        for _ in 0..DEEPEST {
            let mut below = Level::default();
            for (page, when) in level.pages {
                let object = format!("the tree page {}", page.fingerprint);
                let scanned = self.with_page(&page, &object, |body, annex, own| {
                    let hints = Hints::of(annex, own, &self.containers);
                    scan(body, &hints, &object, &mut |row| known.meet(row, &when, takes, &object))
                });
                match scanned {
                    Ok(Some(Page::Inner(children))) => {
                        children.iter().for_each(|(_, child, _)| below.add(*child, &when));
                    }
                    Ok(None) => {}
                    Ok(Some(Page::Items(_) | Page::Entries(_))) => {
                        lost(StoreError::damaged("a tree", "a list of chunks among names"));
                    }
                    Err(error) if error.is_unreadable() => lost(error),
                    Err(error) => return Err(error),
                }
            }
            if below.pages.is_empty() {
                return Ok(());
            }
            level = below;
        }
        lost(StoreError::damaged("a tree", "it is too deep"));
        Ok(())
    }

    /// The page references in a page, for walks that visit every page once.
    pub(crate) fn page_children(&self, page: &PageRef) -> Result<PageContent> {
        Ok(match self.page(page)? {
            Page::Inner(children) => PageContent {
                pages: children.into_iter().map(|(_, page, needs)| (page, needs)).collect(),
                ..PageContent::default()
            },
            Page::Items(items) => PageContent { items, ..PageContent::default() },
            Page::Entries(entries) => PageContent { entries, ..PageContent::default() },
        })
    }
}

/// Whoever takes the entries of a directory as it is in many snapshots.
pub trait Takes {
    /// Whether an entry of this name is of interest; asked before it is decoded.
    fn wants(&mut self, name: &[u8], is_directory: bool) -> bool;

    /// An entry, and the snapshots that have it. What the pages it refers to need is not told.
    fn takes(&mut self, entry: Entry, when: &Stretches);

    /// The entry of this name that was handed over last is in other snapshots too.
    fn again(&mut self, name: &[u8], when: &Stretches);
}

/// An entry that was decoded: its bytes, and by which list of owners.
type Decoded = (Box<[u8]>, usize);

/// The entries that were decoded last, by their names, as bytes.
#[derive(Default)]
struct Known {
    last: HashMap<Box<[u8]>, Decoded>,
    /// Lists of owners, by which the bytes of an entry are read.
    owners: Vec<Vec<Owner>>,
}

impl Known {
    fn meet(
        &mut self,
        row: &Row<'_>,
        when: &Stretches,
        takes: &mut dyn Takes,
        object: &str,
    ) -> Result<()> {
        if !takes.wants(row.name, row.is_directory) {
            return Ok(());
        }
        let owners = match self.owners.iter().rposition(|known| known == row.owners) {
            Some(number) => number,
            None => {
                if self.owners.len() >= MOST_OWNERS {
                    (self.owners, self.last) = (Vec::new(), HashMap::new());
                }
                self.owners.push(row.owners.to_vec());
                self.owners.len() - 1
            }
        };
        match self.last.get_mut(row.name) {
            Some((raw, of)) if **raw == *row.raw && *of == owners => takes.again(row.name, when),
            last => {
                takes.takes(row.entry(object)?, when);
                match last {
                    Some(last) => *last = (row.raw.into(), owners),
                    None => drop(self.last.insert(row.name.into(), (row.raw.into(), owners))),
                }
            }
        }
        Ok(())
    }
}

/// Different pages of one depth, and the snapshots that have them.
#[derive(Default)]
struct Level {
    pages: Vec<(PageRef, Stretches)>,
    at: HashMap<Fingerprint, usize>,
}

impl Level {
    fn add(&mut self, page: PageRef, when: &Stretches) {
        match self.at.entry(page.fingerprint) {
            hash_map::Entry::Occupied(at) => self.pages[*at.get()].1.add(when),
            hash_map::Entry::Vacant(at) => {
                at.insert(self.pages.len());
                self.pages.push((page, when.clone()));
            }
        }
    }
}

/// What a page holds.
#[derive(Default)]
pub(crate) struct PageContent {
    pub pages: Vec<(PageRef, Needs)>,
    pub items: Vec<Item>,
    pub entries: Vec<Entry>,
}

impl PageRef {
    /// A page of which only the fingerprint is known.
    #[must_use]
    pub fn unplaced(fingerprint: Fingerprint) -> Self {
        Self { fingerprint, spot: Spot::Unknown }
    }
}
