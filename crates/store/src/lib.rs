//! What lies at a place: a store of deduplicated, compressed, encrypted snapshots.
//!
//! The crate knows places and nothing of plans. Its format is described to the byte in
//! `docs/FORMAT.md`. A [`Session`] is a run's side of it; [`Store`] reads and proves.

mod containers;
#[cfg(any(test, fuzzing))]
mod decoders;
mod error;
mod format;
mod index;
mod mending;
mod mistakes;
mod opening;
mod reading;
mod reclaim;
mod records;
mod store;
mod tree;
mod verify;
mod writing;

pub use containers::Location;
#[cfg(fuzzing)]
pub use decoders::{DECODERS, Decode};
pub use error::{Result, StoreError, Unfit};
pub use format::chunker::Chunker;
pub use format::compress::Compression;
pub use format::header::{Header, Layout};
pub use format::ids::{Class, ContainerId, Fingerprint, Lineage, RunId, StoreId, hex};
pub use format::recovery::{RecoveryCode, Typed};
pub use format::slot::PassphraseCost;
pub use index::Cache;
pub use mending::{LostContents, MendStart, Mender};
pub use opening::creation::Creation;
pub use opening::passphrases::{NewPassphrase, PassphraseSlot};
pub use reading::suspects::Suspect;
pub use reading::usage::{Holding, Usage};
pub use reclaim::{Marks, Reclaim, ReclaimProgress, ReclaimReport, ReclaimWatch};
pub use records::snapshot::{
    ExceptionRecord, KeptFile, ListedSnapshot, Order, Snapshot, SnapshotSource,
};
pub use store::{FOLDERS, Store};
pub use tree::{
    Below, Body, ChunkRef, DeviceKind, Entries, EntriesOf, Entry, Item, Items, ItemsOf, Kind, Met,
    Moment, Needs, OpenNode, Owner, PageRef, PageSink, Recipe, RecipeBuilder, Refs, Spot,
    Stretches, Takes, TreeBuilder, TreeWalk, join,
};
pub use verify::{Damage, DataShare, TouchedFile, VerifyProgress, VerifyReport, VerifyWatch};
pub use writing::appraisal::{Appraised, Appraiser};
pub use writing::comparison::Comparison;
pub use writing::content::{Content, ContentWriter};
pub use writing::session::{Session, SessionStart, SnapshotDraft};

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
mod roles_tests;
#[cfg(test)]
mod simulation;
