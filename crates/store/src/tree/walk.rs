//! A tree gone through depth first: the one stream of entries for all who read whole trees.

use super::{
    entry::{Entry, PageRef},
    reader::Entries,
};
use crate::{
    error::{Result, StoreError},
    format::ids::Fingerprint,
    store::Store,
};

/// A directory on the way down.
#[derive(Debug)]
pub struct OpenNode<D> {
    /// Its full path.
    pub path: Vec<u8>,
    /// Its first page.
    pub root: Fingerprint,
    /// What whoever walks keeps with it.
    pub with: D,
}

/// What comes next of a tree.
#[derive(Debug)]
pub enum Met<D> {
    /// An entry of the directory that was entered last. Nobody enters it unasked.
    Entry(Entry),
    /// The directory that was entered last is at its end.
    Left(OpenNode<D>),
    /// A page of it cannot be read: what follows in it is lost, the rest of the tree is not.
    Lost(OpenNode<D>, StoreError),
}

/// A walk through a tree, in memory as deep as the tree. Whoever walks says which directories are
/// entered.
pub struct TreeWalk<'s, D> {
    store: &'s Store,
    open: Vec<(Entries<'s>, OpenNode<D>)>,
}

impl<'s, D> TreeWalk<'s, D> {
    /// A walk that has entered nothing yet.
    #[must_use]
    pub fn new(store: &'s Store) -> Self {
        Self { store, open: Vec::new() }
    }

    /// Enters a directory: what is in it comes next.
    pub fn enter(&mut self, root: PageRef, path: Vec<u8>, with: D) {
        let node = OpenNode { path, root: root.fingerprint, with };
        self.open.push((self.store.entries(root), node));
    }

    /// The directory that was entered last, whose entries come.
    pub fn top(&mut self) -> Option<&mut OpenNode<D>> {
        self.open.last_mut().map(|(_, node)| node)
    }

    /// All directories on the way down, the topmost first.
    pub fn on_the_way(&mut self) -> impl Iterator<Item = &mut OpenNode<D>> {
        self.open.iter_mut().map(|(_, node)| node)
    }

    /// The full path of a name in the directory that was entered last.
    #[must_use]
    pub fn path_of(&self, name: &[u8]) -> Vec<u8> {
        self.open.last().map_or_else(|| name.to_vec(), |(_, node)| join(&node.path, name))
    }

    /// What comes next; `None` at the end.
    ///
    /// # Errors
    /// If the place fails.
    pub fn advance(&mut self) -> Result<Option<Met<D>>> {
        let Some((entries, _)) = self.open.last_mut() else { return Ok(None) };
        let next = entries.next_entry();
        if let Ok(Some(entry)) = next {
            return Ok(Some(Met::Entry(entry)));
        }
        let Some((_, node)) = self.open.pop() else { return Ok(None) };
        match next {
            Err(error) if error.is_unreadable() => Ok(Some(Met::Lost(node, error))),
            Err(error) => Err(error),
            Ok(_) => Ok(Some(Met::Left(node))),
        }
    }
}

/// A name below a path.
#[must_use]
pub fn join(path: &[u8], name: &[u8]) -> Vec<u8> {
    let slash: &[u8] = if path.ends_with(b"/") { b"" } else { b"/" };
    [path, slash, name].concat()
}
