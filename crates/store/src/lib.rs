//! What lies at a place: a store of deduplicated, compressed, encrypted snapshots.
//!
//! The crate knows places and nothing of plans. Its format is described to the byte in
//! `docs/FORMAT.md`. A [`Session`] is a run's side of it; [`Store`] reads and proves.

mod appraisal;
mod block;
mod blocks;
mod bounds;
mod bundles;
mod chunker;
mod comparison;
mod compress;
mod container;
mod containers;
mod content;
mod control;
mod creation;
mod damage;
mod error;
mod fetching;
mod header;
mod ids;
mod index;
mod keys;
mod nearby;
mod needed;
mod opening;
mod passphrases;
mod rereading;
mod session;
mod settling;
mod signed;
mod slot;
mod snapshot;
mod store;
mod suspects;
mod tree;
mod tree_writer;
mod uploads;
mod usage;
mod verify;
mod writing;

pub use appraisal::{Appraised, Appraiser};
pub use chunker::Chunker;
pub use comparison::Comparison;
pub use compress::Compression;
pub use containers::Location;
pub use content::{Content, ContentWriter};
pub use creation::Creation;
pub use error::{Result, StoreError};
pub use header::{Header, Layout};
pub use ids::{Class, ContainerId, Fingerprint, Lineage, RunId, StoreId, hex};
pub use index::Cache;
pub use passphrases::{NewPassphrase, PassphraseSlot};
pub use session::{Session, SessionStart, SnapshotDraft};
pub use slot::PassphraseCost;
pub use snapshot::{ExceptionRecord, ListedSnapshot, Order, Snapshot, SnapshotSource};
pub use store::{FOLDERS, Store};
pub use suspects::Suspect;
pub use tree::{
    Below, Body, ChunkRef, DeviceKind, Entries, Entry, Item, Items, Kind, Moment, Needs, Owner,
    PageRef, PageSink, Recipe, RecipeBuilder, Refs, Spot, TreeBuilder,
};
pub use usage::{Holding, Usage};
pub use verify::{Damage, DataShare, TouchedFile, VerifyProgress, VerifyReport, VerifyWatch};

#[cfg(test)]
mod forgery_tests;
#[cfg(test)]
mod golden_tests;
#[cfg(test)]
mod needs_tests;
#[cfg(test)]
mod protocol_tests;
#[cfg(test)]
mod records_tests;
#[cfg(test)]
mod tree_writer_tests;
