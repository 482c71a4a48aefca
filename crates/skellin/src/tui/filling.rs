//! What is known of stores to come: how they fill, what brings the bytes, what they cost.

use std::collections::{BTreeMap, BTreeSet};

use skellin_engine::history::Bringer;
use skellin_plan::Price;
use skellin_store::RunId;

use super::worker::{Fill, Trouble};

/// What a fill was told of: snapshots, entries of the journal, bytes.
pub(super) type Of = (usize, usize, u64, Option<u64>);

/// What brings new bytes, or why that is not known.
pub(super) type Found = Result<Vec<Bringer>, Trouble>;

/// What is known of stores to come.
#[derive(Default)]
pub(super) struct Filling {
    pub fills: BTreeMap<String, (Of, Option<Fill>)>,
    /// What brings new bytes to a plan, up to its newest snapshot.
    pub brought: BTreeMap<String, (RunId, Option<Found>)>,
    /// What places cost, by the stores.
    pub prices: BTreeMap<String, Vec<Price>>,
    /// Stores of whose snapshots all has been read.
    pub read: BTreeSet<String>,
    /// Stores that were looked at once more after they were opened.
    pub looked_into: BTreeSet<String>,
    /// Where there is no room beside a plan: whether its stores stand in its place.
    pub is_alone: bool,
    /// Where there is: whether they stand there.
    pub is_hidden: bool,
}

impl Filling {
    /// How a store fills, once that is known.
    pub fn fill(&self, store: &str) -> Option<&Fill> {
        self.fills.get(store)?.1.as_ref()
    }

    /// What brings new bytes to a plan, once that is known.
    pub fn brought(&self, plan: &str) -> Option<&Found> {
        self.brought.get(plan)?.1.as_ref()
    }

    pub fn take_fill(&mut self, fill: Fill) {
        if let Some((_, known)) = self.fills.get_mut(&fill.store) {
            *known = Some(fill);
        }
    }

    pub fn take_brought(&mut self, plan: &str, newest: RunId, bringers: Found) {
        if let Some((of, known)) = self.brought.get_mut(plan)
            && *of == newest
        {
            *known = Some(bringers);
        }
    }

    /// All has been read of a store's snapshots.
    pub fn all_read(&mut self, store: String) {
        self.read.insert(store);
    }

    /// A store was listed anew: what is new has yet to be read.
    pub fn not_read(&mut self, store: &str) {
        self.read.remove(store);
    }

    /// Forgets what was told, so that it is asked for anew.
    pub fn forget(&mut self) {
        self.fills.clear();
        self.brought.clear();
        self.looked_into.clear();
    }
}
