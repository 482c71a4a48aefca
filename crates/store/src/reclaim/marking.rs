//! What the listed snapshots need, a bit for each record of the index.

use std::{collections::HashSet, sync::Arc};

use crate::{
    error::{Result, StoreError, Unfit},
    format::ids::{Fingerprint, Prefix},
    index::Loaded,
    records::snapshot::Snapshot,
    store::Store,
    tree::{Body, Item, PageRef, Recipe},
};

/// The contents that are needed. Memory: a bit for each record, and what no segment has.
pub struct Marks {
    segments: Vec<Marked>,
    /// Needed, and in none of the segments.
    elsewhere: HashSet<Prefix>,
}

struct Marked {
    loaded: Arc<Loaded>,
    bits: Vec<u64>,
    /// About how many bytes a record of each of its containers takes.
    weights: Vec<f64>,
}

impl Marks {
    fn new(loaded: Vec<Arc<Loaded>>) -> Result<Self> {
        let marked = |loaded: Arc<Loaded>| -> Result<Marked> {
            let mut counts = vec![0u64; loaded.numbers.len()];
            let mut records = loaded.segment.records("the index");
            while let Some(record) = records.next()? {
                if let Some(count) = counts.get_mut(record.container as usize) {
                    *count += 1;
                }
            }
            drop(records);
            let weight = |(container, count): (&crate::index::SegmentContainer, &u64)| {
                container.bytes() as f64 / (*count).max(1) as f64
            };
            let weights = loaded.segment.containers.iter().zip(&counts).map(weight).collect();
            let bits = vec![0; loaded.segment.len().div_ceil(64)];
            Ok(Marked { loaded, bits, weights })
        };
        let segments = loaded.into_iter().map(marked).collect::<Result<_>>()?;
        Ok(Self { segments, elsewhere: HashSet::new() })
    }

    /// Marks a content: about how many bytes it takes if it was not marked before.
    fn mark(&mut self, prefix: &Prefix) -> Option<f64> {
        let mut new = None;
        let mut is_known = false;
        for Marked { loaded, bits, weights } in &mut self.segments {
            loaded.segment.each_of(prefix, |number, record| {
                is_known = true;
                let (word, bit) = (&mut bits[number / 64], 1 << (number % 64));
                if *word & bit == 0 {
                    *word |= bit;
                    new = new.or(weights.get(record.container as usize).copied());
                }
                true
            });
        }
        match is_known {
            true => new,
            false => self.elsewhere.insert(*prefix).then_some(0.0),
        }
    }

    /// Whether a content is needed.
    pub(super) fn is_needed(&self, prefix: &Prefix) -> bool {
        let is_set = |Marked { loaded, bits, .. }: &Marked| {
            let mut is_set = false;
            loaded.segment.each_of(prefix, |number, _| {
                is_set = bits[number / 64] & 1 << (number % 64) != 0;
                false
            });
            is_set
        };
        self.segments.iter().any(is_set) || self.elsewhere.contains(prefix)
    }

    /// The segments, and for each whether a record is needed, by its number.
    pub(super) fn segments(&self) -> impl Iterator<Item = (&Arc<Loaded>, impl Fn(usize) -> bool)> {
        self.segments.iter().map(|Marked { loaded, bits, .. }| {
            (loaded, |number: usize| bits[number / 64] & 1 << (number % 64) != 0)
        })
    }

    /// Marks what a snapshot needs: about how many bytes of it were not needed by those before.
    ///
    /// # Errors
    /// If a page of its tree cannot be read: what is below it is not known then.
    pub fn add(
        &mut self,
        store: &Store,
        snapshot: &Snapshot,
        is_cancelled: &dyn Fn() -> bool,
    ) -> Result<u64> {
        let mut bytes = 0.0;
        for page in Store::pages_of_needed(&snapshot.needed) {
            bytes += self.mark(&page.prefix()).unwrap_or(0.0);
        }
        let mut stack = vec![snapshot.root_page(store)];
        while let Some(page) = stack.pop() {
            // What lies below a page that was marked is marked too.
            let Some(own) = self.mark(&page.fingerprint.prefix()) else { continue };
            if is_cancelled() {
                return Err(StoreError::Cancelled);
            }
            bytes += own;
            bytes += self.add_page(store, &page, &mut stack)?;
        }
        Ok(bytes as u64)
    }

    fn add_page(&mut self, store: &Store, page: &PageRef, below: &mut Vec<PageRef>) -> Result<f64> {
        let content = store.page_children(page)?;
        below.extend(content.pages.into_iter().map(|(page, _)| page));
        let mut bytes = 0.0;
        let mut chunk = |item: &Item, marks: &mut Self| {
            if let Item::Chunk(chunk) = item {
                bytes += marks.mark(&chunk.fingerprint.prefix()).unwrap_or(0.0);
            }
        };
        content.items.iter().for_each(|item| chunk(item, self));
        for entry in content.entries {
            match entry.body {
                Body::File { recipe: Recipe::Inline(few), .. } => {
                    few.iter().for_each(|item| chunk(item, self));
                }
                Body::File { recipe: Recipe::Paged(page, _), .. } => below.push(page),
                Body::Directory { root, .. } => below.push(root),
                Body::Link(_) | Body::Pipe | Body::Device { .. } => {}
            }
        }
        Ok(bytes)
    }
}

impl Store {
    /// Marks of nothing yet, over the index as it is now.
    ///
    /// # Errors
    /// If the index cannot be loaded.
    pub fn marks(&self) -> Result<Marks> {
        self.need_index()?;
        self.compare_trees();
        Marks::new(self.index.loaded())
    }

    /// Marks what all listed snapshots need.
    pub(super) fn mark_all(
        &self,
        marks: &mut Marks,
        is_cancelled: &dyn Fn() -> bool,
    ) -> Result<u64> {
        let listed = self.snapshots()?;
        self.fetch_snapshots(&listed);
        for one in &listed {
            let unknown = |error: StoreError| match error.is_unreadable() {
                true => StoreError::NoReclaim(Unfit::Unreadable {
                    why: error.to_string(),
                    snapshot: one.run,
                }),
                false => error,
            };
            let snapshot = self.read_snapshot(one).map_err(unknown)?;
            marks.add(self, &snapshot, is_cancelled).map_err(unknown)?;
        }
        Ok(listed.len() as u64)
    }

    /// Whether a content lies where new snapshots may refer to it.
    pub(super) fn has_copy(&self, prefix: &Prefix) -> bool {
        self.index.find(prefix, &self.containers).is_some()
    }

    /// Where a content lies that may be used, as this process knows; it is not counted as used.
    pub(super) fn location_of(&self, fingerprint: &Fingerprint) -> Option<crate::Location> {
        self.index.find(&fingerprint.prefix(), &self.containers)
    }
}
