//! What is in a directory of a snapshot, beside what was in it in the snapshot before.

use skellin_store::{Body, Entry, PageRef, Store};

use crate::{error::Result, run::Change};

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
    let mut now = now.map(|root| store.entries(root));
    let mut before = match against {
        Against::Directory(root) => Some(store.entries(root)),
        _ => None,
    };
    let unmatched = match against {
        Against::Nothing => Change::Same,
        _ => Change::New,
    };
    let next = |stream: &mut Option<skellin_store::Entries<'_>>| match stream {
        Some(entries) => entries.next_entry(),
        None => Ok(None),
    };
    let (mut here, mut there) = (next(&mut now)?, next(&mut before)?);
    loop {
        let go_on = match (here.take(), there.take()) {
            (None, None) => return Ok(()),
            (Some(entry), None) => {
                here = next(&mut now)?;
                visit(entry, unmatched)
            }
            (None, Some(old)) => {
                there = next(&mut before)?;
                visit(old, Change::Gone)
            }
            (Some(entry), Some(old)) => match entry.name.cmp(&old.name) {
                std::cmp::Ordering::Less => {
                    here = next(&mut now)?;
                    there = Some(old);
                    visit(entry, unmatched)
                }
                std::cmp::Ordering::Greater => {
                    here = Some(entry);
                    there = next(&mut before)?;
                    visit(old, Change::Gone)
                }
                std::cmp::Ordering::Equal => {
                    let change = difference(&old, &entry);
                    here = next(&mut now)?;
                    there = next(&mut before)?;
                    visit(entry, change)
                }
            },
        };
        if !go_on {
            return Ok(());
        }
    }
}
