//! What is in a directory of a snapshot, beside what was in it in the snapshot before.

use skellin_store::{Body, Entries, Entry, PageRef, Store};

use crate::{error::Result, run::Change, walk::Beside};

/// What a directory is compared with.
#[derive(Clone, Copy, Debug)]
pub enum Against {
    /// There is no snapshot before, so nothing is called new.
    Nothing,
    /// The directory was not there before.
    Missing,
    /// The directory as it was.
    Directory(PageRef),
}

/// How an entry differs from the one before.
#[must_use]
pub fn difference(before: &Entry, now: &Entry) -> Change {
    let same = match (&before.body, &now.body) {
        (Body::Directory { root: a, .. }, Body::Directory { root: b, .. }) => {
            a.fingerprint == b.fingerprint
        }
        (a, b) => {
            a.same_content(b)
                && before.modified == now.modified
                && before.mode == now.mode
                && before.owner == now.owner
        }
    };
    if same { Change::Same } else { Change::Changed }
}

/// Visits the entries of a directory by name, those that are gone among them, until the visitor
/// has had enough and says `false`. `now` is missing if the directory itself is gone.
///
/// # Errors
/// If a page cannot be read.
pub fn list(
    store: &Store,
    now: Option<PageRef>,
    against: Against,
    visit: &mut dyn FnMut(Entry, Change) -> bool,
) -> Result<()> {
    let mut before = Beside::new(
        store,
        match against {
            Against::Directory(root) => Some(root),
            Against::Nothing | Against::Missing => None,
        },
    );
    let unmatched = match against {
        Against::Nothing => Change::Same,
        Against::Missing | Against::Directory(_) => Change::New,
    };
    let mut now = now.map(|root| store.entries(root));
    while let Some(entry) = now.as_mut().map_or(Ok(None), Entries::next_entry)? {
        while let Some(gone) = before.next_before(Some(&entry.name))? {
            if !visit(gone, Change::Gone) {
                return Ok(());
            }
        }
        let change = match before.meet(&entry.name, |_| {})? {
            Some(old) => difference(&old, &entry),
            None => unmatched,
        };
        if !visit(entry, change) {
            return Ok(());
        }
    }
    while let Some(gone) = before.next()? {
        if !visit(gone, Change::Gone) {
            return Ok(());
        }
    }
    Ok(())
}
