//! An earlier tree beside what is gone through now: its entries met in the order of their names.

use skellin_store::{Entries, Entry, PageRef, Store};

use crate::error::Result;

/// The entries of one directory of an earlier tree.
pub(crate) struct Beside<'s> {
    entries: Option<Entries<'s>>,
    ahead: Option<Entry>,
}

impl<'s> Beside<'s> {
    /// There is no such directory.
    pub const NOTHING: Self = Self { entries: None, ahead: None };

    /// From the first page of a directory, if there is one.
    pub fn new(store: &'s Store, root: Option<PageRef>) -> Self {
        Self { entries: root.map(|root| store.entries(root)), ahead: None }
    }

    /// The next entry, whatever its name.
    ///
    /// # Errors
    /// If a page cannot be read; there is nothing to be met any more then.
    pub fn next(&mut self) -> Result<Option<Entry>> {
        if let Some(entry) = self.ahead.take() {
            return Ok(Some(entry));
        }
        let Some(entries) = &mut self.entries else { return Ok(None) };
        let next = entries.next_entry();
        if !matches!(next, Ok(Some(_))) {
            self.entries = None;
        }
        Ok(next?)
    }

    /// The next entry, if its name comes before another; without a name, any.
    ///
    /// # Errors
    /// As [`next`](Self::next).
    pub fn next_before(&mut self, name: Option<&[u8]>) -> Result<Option<Entry>> {
        let next = self.next()?;
        let comes = |entry: &Entry| name.is_none_or(|name| entry.name.as_slice() < name);
        match next {
            Some(entry) if !comes(&entry) => {
                self.ahead = Some(entry);
                Ok(None)
            }
            next => Ok(next),
        }
    }

    /// The name of the next entry.
    ///
    /// # Errors
    /// As [`next`](Self::next).
    pub fn peek(&mut self) -> Result<Option<&[u8]>> {
        self.ahead = self.next()?;
        Ok(self.ahead.as_ref().map(|entry| entry.name.as_slice()))
    }

    /// The next entry, if [`peek`](Self::peek) told that name.
    pub fn take_named(&mut self, name: &[u8]) -> Option<Entry> {
        self.ahead.take_if(|entry| entry.name == name)
    }

    /// The entry of a name; what comes before it is handed to `passed`.
    ///
    /// # Errors
    /// As [`next`](Self::next).
    pub fn meet(&mut self, name: &[u8], mut passed: impl FnMut(&Entry)) -> Result<Option<Entry>> {
        while let Some(entry) = self.next_before(Some(name))? {
            passed(&entry);
        }
        Ok(self.ahead.take_if(|entry| entry.name == name))
    }
}
