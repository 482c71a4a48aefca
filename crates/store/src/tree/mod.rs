//! Trees: what a snapshot knows of directories and files.
//!
//! A directory is a sequence of entries, sorted by the bytes of their names, in pages cut by a
//! hash of the name; inner pages hold the fingerprints of the pages below. Lists of chunks that
//! are too long for an entry are paged alike. Pages are stored like content.

mod annex;
mod builder;
mod entry;
mod needs;
mod page;
mod reader;
mod scan;
mod spot;
mod stretches;
mod walk;

pub use builder::{PageSink, RecipeBuilder, TreeBuilder};
pub use entry::{
    Below, Body, ChunkRef, DeviceKind, Entry, Item, Kind, Moment, Owner, PageRef, Recipe,
};
pub use reader::{Entries, EntriesOf, Items, ItemsOf, Takes};
pub use spot::Spot;
pub use stretches::Stretches;
pub use walk::{Met, OpenNode, TreeWalk, join};

pub use needs::Needs;

pub use annex::Refs;
pub(crate) use annex::{attach, split as split_page};
pub(crate) use needs::{Gathered, Within};

/// A page from its stored form, whatever becomes of it.
#[cfg(any(test, fuzzing))]
pub(crate) fn read_page(
    stored: &[u8],
    own: crate::containers::Location,
    containers: &crate::containers::Containers,
    object: &str,
) {
    if let Some((body, hints)) = split_page(stored) {
        let hints = annex::Hints::of(hints, own, containers);
        drop(page::Page::decode(body, &hints, object));
        let mut each = |row: &scan::Row<'_>| row.entry(object).map(drop);
        drop(scan::scan(body, &hints, object, &mut each));
    }
}
