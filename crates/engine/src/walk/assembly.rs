//! A directory of a tree put together: entries in the order of their names, of which some come
//! later than others, in windows of so many at a time.

use std::sync::Arc;

use skellin_store::{Below, Entry, Fingerprint, Needs, PageRef, Session, TreeBuilder};

use crate::error::Result;

/// Names that are in work at a time in one directory.
pub(crate) const WINDOW: usize = 1024;

/// A directory that is being put together.
#[derive(Default)]
pub(crate) struct Assembly {
    builder: TreeBuilder,
    below: Below,
    window: Vec<Option<Entry>>,
    /// Entries of the window that are still in work.
    pending: usize,
    holds_any: bool,
}

/// A directory that has been put together.
pub(crate) struct Assembled {
    pub root: PageRef,
    pub needs: Needs,
    pub below: Below,
}

impl Assembly {
    /// The next entry is known.
    pub fn put(&mut self, entry: Entry) {
        self.window.push(Some(entry));
    }

    /// The next entry comes later; the number of its place in the window.
    pub fn reserve(&mut self) -> usize {
        self.window.push(None);
        self.pending += 1;
        self.window.len() - 1
    }

    /// The number that [`reserve`](Self::reserve) would give now.
    pub fn next_place(&self) -> usize {
        self.window.len()
    }

    /// What comes to a place that was reserved; nothing, if it turned out to be none. Whether
    /// nothing is in work any more.
    pub fn fill(&mut self, place: usize, entry: Option<Entry>) -> bool {
        if let Some(reserved) = self.window.get_mut(place) {
            *reserved = entry;
        }
        self.release()
    }

    /// Keeps the window from being complete while it is filled.
    pub fn hold(&mut self) {
        self.pending += 1;
    }

    /// Ends a [`hold`](Self::hold); whether nothing is in work any more.
    pub fn release(&mut self) -> bool {
        self.pending -= 1;
        self.pending == 0
    }

    /// Whether nothing is in work.
    pub fn is_settled(&self) -> bool {
        self.pending == 0
    }

    /// Whether the window holds as many entries as it may.
    pub fn is_full(&self) -> bool {
        self.window.len() >= WINDOW
    }

    /// Whether there is anything in the directory.
    pub fn holds_any(&self) -> bool {
        self.holds_any
    }

    /// Takes a window that nothing is in work of any more into the directory's pages; without a
    /// session it is counted only.
    ///
    /// # Errors
    /// If the store fails.
    pub fn take_window(&mut self, session: Option<&Arc<Session>>) -> Result<()> {
        for entry in std::mem::take(&mut self.window).into_iter().flatten() {
            let counted = entry.counted();
            self.below.files += counted.files;
            self.below.bytes += counted.bytes;
            self.holds_any = true;
            if let Some(session) = session {
                self.builder.push(&**session, &entry)?;
            }
        }
        Ok(())
    }

    /// The whole directory, with its last window; without a session it has no pages.
    ///
    /// # Errors
    /// If the store fails.
    pub fn finish(mut self, session: Option<&Arc<Session>>) -> Result<Assembled> {
        self.take_window(session)?;
        let (root, needs) = match session {
            Some(session) => self.builder.finish(&**session)?,
            None => (PageRef::unplaced(Fingerprint([0; 32])), Needs::default()),
        };
        Ok(Assembled { root, needs, below: self.below })
    }
}
