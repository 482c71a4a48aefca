//! How many bytes come back when snapshots go, the oldest first.

use std::collections::{HashMap, HashSet};

use skellin_store::{RunId, Snapshot, Store};

use crate::error::Result;

/// For each snapshot that may go about how many bytes nothing younger needs, nor what stays anyway.
#[derive(Default)]
pub(super) struct Freed(HashMap<RunId, u64>);

impl Freed {
    /// `all` in the order of their runs; `may_go`: those that goals may let go.
    pub fn of(store: &Store, all: &[Snapshot], may_go: &HashSet<RunId>) -> Result<Self> {
        let mut marks = store.marks()?;
        let stays = |one: &&Snapshot| !may_go.contains(&one.run);
        for snapshot in all.iter().filter(stays) {
            marks.add(store, snapshot, &|| false)?;
        }
        let mut freed = HashMap::new();
        for snapshot in all.iter().rev().filter(|one| !stays(one)) {
            freed.insert(snapshot.run, marks.add(store, snapshot, &|| false)?);
        }
        Ok(Self(freed))
    }

    /// The bytes that come back by a snapshot's going, after all older ones have gone.
    pub fn going(&self, snapshot: &Snapshot) -> u64 {
        self.0.get(&snapshot.run).copied().unwrap_or(0)
    }
}
