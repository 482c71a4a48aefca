//! The stores behind Will: how they fill, what brings the bytes, how fast the line to them is. Asked of
//! the worker as soon as the cursor stands on a day to come, and again when something has changed.

use std::collections::HashSet;

use skellin_engine::{Outcome, Work as Recorded};
use skellin_plan::FillChange;
use skellin_store::RunId;

use super::{
    filling::Of,
    lanes::{Known, Lane},
    model::{Cursor, Model, Screen},
    worker::{FillAsked, Request},
};

/// So many of the newest snapshots tell what brings new bytes.
const TELLING: usize = 15;
/// Runs that stored less than this tell nothing of a line.
const LEAST: u64 = 4 << 20;
/// So many runs tell how fast a line is.
const TIMED: usize = 10;

impl Lane {
    /// Its own store, and those it is copied to.
    pub fn stores(&self) -> Vec<&str> {
        let copies = self.plan.iter().flat_map(|plan| plan.replicas());
        std::iter::once(self.store.as_str()).chain(copies).collect()
    }
}

impl Model {
    /// What somebody tries of sentences ends with the panel in which it is tried.
    pub(super) fn end_trying(&mut self) {
        for lane in self.lanes.iter_mut().filter(|lane| lane.tried.is_some()) {
            lane.try_sentences(None);
        }
    }

    /// Has stores looked at once more that were not open yet when that was done: how full they are could
    /// not be told.
    pub(super) fn look_into_opened(&mut self) {
        let is_open = |name: &String| {
            let mut lanes = self.lanes.iter();
            lanes.any(|lane| match lane.store == *name {
                true => matches!(lane.known, Known::Here),
                false => lane.copies.contains_key(name),
            })
        };
        let rows = self.stores.iter().flatten();
        let dark = rows.filter(|row| row.state.is_ok() && row.usage.is_none());
        let dark = dark.map(|row| row.name.clone()).filter(is_open);
        let dark: Vec<String> =
            dark.filter(|name| !self.filling.looked_into.contains(name)).collect();
        if !dark.is_empty() {
            self.filling.looked_into.extend(dark);
            self.ask(Request::Stores);
        }
    }

    /// Asks for what Will says of the current plan's stores, unless that is known.
    pub(super) fn ask_fills(&mut self) {
        if self.screen != Screen::Ribbon || !matches!(self.cursor, Cursor::Will(_)) {
            return;
        }
        let Some(lane) = self.current_lane().filter(|lane| matches!(lane.known, Known::Here))
        else {
            return;
        };
        let stores: Vec<String> = lane.stores().into_iter().map(str::to_owned).collect();
        for store in stores {
            if let Some(of) = self.fill_of(&store)
                && self.filling.fills.get(&store).is_none_or(|(known, _)| *known != of)
                && let Some(asked) = self.fill_asked(&store, of)
            {
                let known = self.filling.fills.remove(&store).and_then(|(_, fill)| fill);
                self.filling.fills.insert(store, (of, known));
                self.ask(Request::Foretell(Box::new(asked)));
            }
        }
        self.ask_bringers();
        self.count_first();
    }

    /// What a store's fill is told of, once all of it is known.
    fn fill_of(&self, store: &str) -> Option<Of> {
        let row = self.stores.as_ref()?.iter().find(|row| row.name == store)?;
        let (held, free) = (row.usage?.1, row.room.map(|(free, _)| free));
        let papers = self.journal.as_ref()?.as_ref().ok()?;
        let own = self.lanes.iter().filter(|lane| lane.store == store);
        let snapshots = own.map(|lane| lane.marks.len()).sum();
        (snapshots == 0 || self.filling.read.contains(store)).then_some((
            snapshots,
            papers.len(),
            held,
            free,
        ))
    }

    /// What changed what a store holds.
    fn fill_asked(&self, store: &str, (_, _, held, free): Of) -> Option<FillAsked> {
        let papers = self.journal.as_ref()?.as_ref().ok()?;
        let (mut changes, mut in_journal) = (Vec::new(), HashSet::new());
        let mut begun: HashSet<(&str, Option<&str>)> = HashSet::new();
        // The oldest first: what came first of a plan, or of copies, does not come again.
        for (entry, _) in papers.iter().rev().filter(|(entry, _)| entry.store == store) {
            let stored = i64::try_from(entry.bytes.stored).unwrap_or(i64::MAX);
            let bytes = match entry.work {
                Recorded::Run | Recorded::Replicate => stored,
                Recorded::Reclaim => stored - i64::try_from(entry.bytes.read).unwrap_or(i64::MAX),
                _ => continue,
            };
            in_journal.extend(entry.snapshot);
            let is_first = entry.work != Recorded::Reclaim
                && bytes > 0
                && begun.insert((entry.work.word(), entry.plan.as_deref()));
            changes.push(FillChange {
                time: entry.ended.unwrap_or(entry.started),
                bytes,
                is_first,
            });
        }
        // Other machines keep journals of their own.
        for lane in self.lanes.iter().filter(|lane| lane.store == store) {
            let others = lane.marks.iter().enumerate();
            for (number, mark) in others.filter(|(_, mark)| !in_journal.contains(&mark.id)) {
                let stored = mark.facts.map_or(0, |facts| facts.stored_bytes);
                changes.push(FillChange {
                    time: mark.time,
                    bytes: i64::try_from(stored).unwrap_or(i64::MAX),
                    is_first: number == 0,
                });
            }
        }
        let store = store.to_owned();
        Some(FillAsked { store, changes, held, free, now: self.now })
    }

    fn ask_bringers(&mut self) {
        let Some(lane) = self.current_lane() else { return };
        let (plan, store) = (lane.label(), lane.store.clone());
        let telling = &lane.marks[lane.marks.len().saturating_sub(TELLING)..];
        let snapshots: Vec<RunId> = telling.iter().map(|mark| mark.id).collect();
        let Some(newest) = snapshots.last().copied().filter(|_| snapshots.len() > 1) else {
            return;
        };
        if self.filling.brought.get(&plan).is_some_and(|(of, _)| *of == newest) {
            return;
        }
        self.filling.brought.insert(plan.clone(), (newest, None));
        self.ask(Request::Bring { plan, store, snapshots });
    }

    /// Counts the sources of a plan that has no snapshot yet: that is what its first upload has to carry.
    fn count_first(&mut self) {
        let is_first =
            self.current_lane().is_some_and(|lane| lane.plan.is_some() && lane.marks.is_empty());
        if is_first {
            self.count_sources(None);
        }
    }

    /// Bytes a second at which runs have stored in a place, and how many tell it.
    pub(super) fn line_speed(&self, store: &str) -> Option<(f64, usize)> {
        let papers = self.journal.as_ref()?.as_ref().ok()?;
        let telling = papers.iter().map(|(entry, _)| entry).filter(|entry| {
            entry.store == store
                && matches!(entry.work, Recorded::Run | Recorded::Replicate)
                && matches!(entry.outcome, Outcome::Done | Outcome::Exceptions)
                && entry.bytes.stored >= LEAST
        });
        let (mut bytes, mut time, mut count) = (0.0, 0.0, 0);
        for entry in telling.take(TIMED) {
            let Some(ended) = entry.ended.filter(|ended| *ended > entry.started) else { continue };
            bytes += entry.bytes.stored as f64;
            time += (ended - entry.started) as f64 / 1000.0;
            count += 1;
        }
        (count > 0).then(|| (bytes / time, count))
    }
}
