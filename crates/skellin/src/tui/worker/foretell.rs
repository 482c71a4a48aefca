//! What is to come: how stores fill, and what brings new bytes.

use skellin_engine::{
    Cancel, EngineError,
    history::{self, Bringer},
};
use skellin_plan::{FillChange, FullIn, Growth, Spread, filled};
use skellin_store::RunId;

use super::{Report, Shared, catalogue::Open};

/// So far a store's fill is foretold, in days: three years.
const AHEAD: usize = 3 * 365;
/// So many directories are told of.
const BRINGERS: usize = 5;

/// What is asked of a store's fill.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct FillAsked {
    pub store: String,
    /// What changed what it holds.
    pub changes: Vec<FillChange>,
    /// Bytes it holds now, and bytes that are free.
    pub held: u64,
    pub free: Option<u64>,
    /// In milliseconds since 1970.
    pub now: i64,
}

/// How a store has filled, and will.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Fill {
    pub store: String,
    /// In milliseconds since 1970.
    pub now: i64,
    /// Bytes it holds now, and bytes that are free.
    pub held: u64,
    pub free: Option<u64>,
    /// The ends of days, and the bytes it held then.
    pub past: Vec<(i64, f64)>,
    /// Whole days by which the future is told.
    pub days_known: usize,
    /// Bytes more than now at the end of each day to come; empty if too little is known.
    pub ahead: Vec<Spread>,
    /// When what is free is used up.
    pub full: Option<FullIn>,
}

/// Tells how a store will fill.
pub(super) fn fill(shared: &Shared, asked: &FillAsked) {
    shared.tell(Report::Foretold(Box::new(foretold(asked))));
}

pub(crate) fn foretold(asked: &FillAsked) -> Fill {
    let told = filled(&asked.changes, asked.held, asked.now, &crate::words::zone());
    let growth = Growth::expect(&told.added, AHEAD);
    let after = |growth: &Growth| (1..=growth.days()).map(|day| growth.after(day)).collect();
    Fill {
        store: asked.store.clone(),
        now: asked.now,
        held: asked.held,
        free: asked.free,
        past: told.held,
        days_known: told.added.len(),
        ahead: growth.as_ref().map(after).unwrap_or_default(),
        full: growth.zip(asked.free).map(|(growth, free)| growth.full_in(free)),
    }
}

/// Tells what brought new bytes in some snapshots, oldest first, unless more is asked for meanwhile.
pub(super) fn brought(shared: &Shared, plan: String, store: &str, ids: &[RunId], over: &Cancel) {
    let Some(newest) = ids.last().copied() else { return };
    let found = shared.open_store(store).and_then(|open| bringers(&open, ids, over));
    if !over.is_cancelled() {
        let bringers = found.map_err(Into::into);
        shared.tell(Report::Brought { plan, newest, bringers });
    }
}

fn bringers(open: &Open, ids: &[RunId], over: &Cancel) -> Result<Vec<Bringer>, EngineError> {
    open.fetch(ids);
    let mut read = Vec::with_capacity(ids.len());
    for id in ids {
        match open.snapshot(*id) {
            Ok(snapshot) => read.push(snapshot),
            // What is damaged tells nothing; verify names it.
            Err(EngineError::Store(error)) if error.is_damage() => {}
            Err(error) => return Err(error),
        }
    }
    let brought = history::brought(&open.store, &read, &|| over.is_cancelled())?;
    Ok(brought.told(BRINGERS))
}
