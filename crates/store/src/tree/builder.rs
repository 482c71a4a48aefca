//! Building pages, a row at a time, holding no more than one page of each level.

use super::{
    annex::Refs,
    entry::{Body, Entry, Item, Owner, PageRef, Recipe},
    needs::{Gathered, Needs},
    page::{self, ChildLabel, RECIPE_LEVEL},
};
use crate::{error::Result, format::ids::Fingerprint};

/// A page is not cut before it has so many bytes.
const SHORT: usize = 4 << 10;
/// A page is cut at so many bytes, whatever the hash says.
const LONG: usize = 96 << 10;
/// A recipe is kept in its entry up to so many items.
const INLINE: usize = 8;

/// Takes finished pages.
pub trait PageSink {
    /// Stores a page, unless the store has it, and says where it lies.
    ///
    /// # Errors
    /// If it cannot be stored.
    fn put_page(&self, body: &[u8], refs: &Refs) -> Result<PageRef>;
}

/// Whether a page of a level ends after a name: once in 256 names, by a hash that depends on
/// nothing else, so that an inserted name moves no other cut. Each level has its own byte of it.
fn ends_after(name: &[u8], level: u8) -> bool {
    blake3::hash(name).as_bytes()[usize::from(level % 32)] == 0
}

/// Whether a page of a list of fingerprints ends after this one: once in 512.
fn ends_after_fingerprint(fingerprint: &Fingerprint) -> bool {
    fingerprint.0[30] == 0 && fingerprint.0[31] & 1 == 0
}

/// The inner pages above a sequence of leaves.
struct Inner {
    /// Level of its lowest pages.
    level: u8,
    rows: Vec<u8>,
    count: u64,
    refs: Refs,
    gathered: Gathered,
    /// Label of the whole page: the last name, or the sum of bytes.
    label: Option<ChildLabel>,
    only: Option<(PageRef, Needs)>,
    above: Option<Box<Inner>>,
}

impl Inner {
    fn new(level: u8) -> Self {
        let (rows, refs, gathered) = (Vec::new(), Refs::default(), Gathered::default());
        Self { level, rows, count: 0, refs, gathered, label: None, only: None, above: None }
    }

    /// Adds a page; `needs` is what it and all below it needs.
    fn push(
        &mut self,
        sink: &dyn PageSink,
        label: ChildLabel,
        child: PageRef,
        needs: Needs,
    ) -> Result<()> {
        self.rows = page::encode_child(&label, &child.fingerprint, std::mem::take(&mut self.rows));
        self.refs.push_child(&child, &needs);
        self.gathered.add(&needs);
        self.count += 1;
        self.only = (self.count == 1).then_some((child, needs));
        let ends = match &label {
            ChildLabel::Name(name) => ends_after(name, self.level),
            ChildLabel::Bytes(_) => ends_after_fingerprint(&child.fingerprint),
        };
        self.label = Some(match (self.label.take(), label) {
            (Some(ChildLabel::Bytes(sum)), ChildLabel::Bytes(more)) => {
                ChildLabel::Bytes(sum + more)
            }
            (_, label) => label,
        });
        if (self.rows.len() >= SHORT && ends) || self.rows.len() >= LONG {
            self.flush(sink)?;
        }
        Ok(())
    }

    fn flush(&mut self, sink: &dyn PageSink) -> Result<()> {
        let Some(label) = self.label.take() else { return Ok(()) };
        let body = page::assemble(self.level, None, self.count, &self.rows);
        let page = sink.put_page(&body, &self.refs)?;
        let mut gathered = std::mem::take(&mut self.gathered);
        gathered.add_spot(page.spot);
        self.rows.clear();
        self.refs.clear();
        self.count = 0;
        self.only = None;
        let level = self.level + 1;
        let above = self.above.get_or_insert_with(|| Box::new(Self::new(level)));
        above.push(sink, label, page, gathered.needs())
    }

    /// The one page at the top, and what all of it needs.
    fn finish(mut self, sink: &dyn PageSink) -> Result<Option<(PageRef, Needs)>> {
        if self.above.is_none() && self.count <= 1 {
            return Ok(self.only);
        }
        self.flush(sink)?;
        match self.above {
            Some(above) => above.finish(sink),
            None => Ok(None),
        }
    }
}

/// Builds the tree of one directory from its entries, which come sorted.
pub struct TreeBuilder {
    owners: Vec<Owner>,
    rows: Vec<u8>,
    count: u64,
    refs: Refs,
    gathered: Gathered,
    last: Vec<u8>,
    inner: Inner,
}

impl Default for TreeBuilder {
    fn default() -> Self {
        Self {
            owners: Vec::new(),
            rows: Vec::new(),
            count: 0,
            refs: Refs::default(),
            gathered: Gathered::default(),
            last: Vec::new(),
            inner: Inner::new(1),
        }
    }
}

impl TreeBuilder {
    /// Adds the next entry.
    ///
    /// # Errors
    /// If a page cannot be stored.
    pub fn push(&mut self, sink: &dyn PageSink, entry: &Entry) -> Result<()> {
        debug_assert!(self.last < entry.name || self.last.is_empty(), "entries come sorted");
        let owner =
            self.owners.iter().position(|owner| *owner == entry.owner).unwrap_or_else(|| {
                self.owners.push(entry.owner.clone());
                self.owners.len() - 1
            });
        let rows = std::mem::take(&mut self.rows);
        self.rows = page::encode_entry(entry, owner as u32, rows, &mut self.refs);
        gather(&entry.body, &mut self.gathered);
        self.count += 1;
        self.last.clone_from(&entry.name);
        let length = self.rows.len();
        if (length >= SHORT && ends_after(&entry.name, 0)) || length >= LONG {
            self.flush(sink)?;
        }
        Ok(())
    }

    fn flush(&mut self, sink: &dyn PageSink) -> Result<()> {
        let body = page::assemble(0, Some(&self.owners), self.count, &self.rows);
        let page = sink.put_page(&body, &self.refs)?;
        let mut gathered = std::mem::take(&mut self.gathered);
        gathered.add_spot(page.spot);
        self.owners.clear();
        self.rows.clear();
        self.refs.clear();
        self.count = 0;
        self.inner.push(sink, ChildLabel::Name(self.last.clone()), page, gathered.needs())
    }

    /// The root of the directory's tree, and what all of it needs.
    ///
    /// # Errors
    /// If a page cannot be stored.
    pub fn finish(mut self, sink: &dyn PageSink) -> Result<(PageRef, Needs)> {
        let nothing_yet = self.inner.count == 0 && self.inner.above.is_none();
        if self.count > 0 || nothing_yet {
            self.flush(sink)?;
        }
        match self.inner.finish(sink)? {
            Some(root) => Ok(root),
            None => unreachable!("at least one page was put"),
        }
    }
}

/// Adds what an entry needs.
pub(crate) fn gather(body: &Body, gathered: &mut Gathered) {
    match body {
        Body::File { recipe: Recipe::Inline(items), .. } => {
            for item in items {
                if let Item::Chunk(chunk) = item {
                    gathered.add_spot(chunk.spot);
                }
            }
        }
        Body::File { recipe: Recipe::Paged(_, needs), .. } | Body::Directory { needs, .. } => {
            gathered.add(needs);
        }
        Body::Link(_) | Body::Pipe | Body::Device { .. } => {}
    }
}

/// Builds the recipe of one file from its items.
pub struct RecipeBuilder {
    few: Vec<Item>,
    rows: Vec<u8>,
    count: u64,
    bytes: u64,
    refs: Refs,
    gathered: Gathered,
    inner: Inner,
    paged: bool,
}

impl Default for RecipeBuilder {
    fn default() -> Self {
        Self {
            few: Vec::new(),
            rows: Vec::new(),
            count: 0,
            bytes: 0,
            refs: Refs::default(),
            gathered: Gathered::default(),
            inner: Inner::new(RECIPE_LEVEL + 1),
            paged: false,
        }
    }
}

impl RecipeBuilder {
    /// Adds the next piece.
    ///
    /// # Errors
    /// If a page cannot be stored.
    pub fn push(&mut self, sink: &dyn PageSink, item: Item) -> Result<()> {
        if self.paged {
            return self.add_row(sink, &item);
        }
        self.few.push(item);
        if self.few.len() > INLINE {
            self.paged = true;
            for item in std::mem::take(&mut self.few) {
                self.add_row(sink, &item)?;
            }
        }
        Ok(())
    }

    fn add_row(&mut self, sink: &dyn PageSink, item: &Item) -> Result<()> {
        self.rows = page::encode_item(item, std::mem::take(&mut self.rows), &mut self.refs);
        self.count += 1;
        let ends = match item {
            Item::Chunk(chunk) => {
                self.gathered.add_spot(chunk.spot);
                self.bytes += u64::from(chunk.length);
                ends_after_fingerprint(&chunk.fingerprint)
            }
            Item::Hole(length) => {
                self.bytes += length;
                false
            }
        };
        if (self.rows.len() >= SHORT && ends) || self.rows.len() >= LONG {
            self.flush(sink)?;
        }
        Ok(())
    }

    fn flush(&mut self, sink: &dyn PageSink) -> Result<()> {
        let body = page::assemble(RECIPE_LEVEL, None, self.count, &self.rows);
        let page = sink.put_page(&body, &self.refs)?;
        let mut gathered = std::mem::take(&mut self.gathered);
        gathered.add_spot(page.spot);
        self.rows.clear();
        self.refs.clear();
        self.count = 0;
        let label = ChildLabel::Bytes(std::mem::take(&mut self.bytes));
        self.inner.push(sink, label, page, gathered.needs())
    }

    /// The recipe.
    ///
    /// # Errors
    /// If a page cannot be stored.
    pub fn finish(mut self, sink: &dyn PageSink) -> Result<Recipe> {
        if !self.paged {
            return Ok(Recipe::Inline(self.few));
        }
        if self.count > 0 {
            self.flush(sink)?;
        }
        match self.inner.finish(sink)? {
            Some((root, needs)) => Ok(Recipe::Paged(root, needs)),
            None => unreachable!("at least one page was put"),
        }
    }
}

#[cfg(test)]
#[path = "builder_tests.rs"]
mod tests;
