//! The sources behind Is: one census a plan, begun when its Is is looked at, and again when the
//! plan or its newest snapshot has changed; the tree arranged by it, and the map.

use std::sync::Arc;

use skellin_engine::{Cancel, Census};
use skellin_store::{Kind, RunId};

use super::{
    arrange::{Arrangement, Only},
    counting::{Counting, Map, State},
    lanes::Lane,
    model::{Cursor, Model},
    rows::Rows,
    worker::{Request, Tile, Trouble},
};

impl Model {
    /// The census of the current plan.
    pub fn counting(&self) -> Option<&Counting> {
        self.counts.get(&self.current_lane()?.label())
    }

    /// Begins to count, unless that has been done.
    pub(super) fn count_sources(&mut self, newest: Option<RunId>) {
        let Some(lane) = self.current_lane() else { return };
        let (Some(plan), label) = (&lane.plan, lane.label()) else { return };
        let of = (plan.text.clone(), newest);
        let (name, store) = (lane.name.clone(), lane.store.clone());
        if self.counts.get(&label).is_some_and(|counting| counting.of == of) {
            return self.arrange_tree();
        }
        let number = self.next_job();
        let (census, cancel) = (Arc::new(Census::default()), Cancel::new());
        let request = Request::Count {
            number,
            plan: name,
            store,
            newest,
            census: Arc::clone(&census),
            cancel: cancel.clone(),
        };
        let counting = Counting { number, of, census, cancel, state: State::Going };
        if let Some(before) = self.counts.insert(label, counting) {
            before.cancel.cancel();
        }
        self.ask(request);
        self.map = None;
        self.arrange_tree();
    }

    /// Stops counting what nobody looks at any more.
    pub(super) fn stop_counting(&mut self) {
        if let Some(label) = self.current_lane().map(Lane::label)
            && let Some(counting) =
                self.counts.get(&label).filter(|counting| counting.state == State::Going)
        {
            counting.cancel.cancel();
            self.counts.remove(&label);
        }
    }

    /// Forgets what was counted for the current plan, so that it is counted again.
    pub(super) fn forget_count(&mut self) {
        if let Some(label) = self.current_lane().map(Lane::label)
            && let Some(counting) = self.counts.remove(&label)
        {
            counting.cancel.cancel();
        }
    }

    /// A census goes on, or has ended.
    pub(super) fn take_count(&mut self, number: u64, end: Option<Result<(), Trouble>>) {
        let Some(counting) = self.counts.values_mut().find(|counting| counting.number == number)
        else {
            return;
        };
        let is_ended = end.is_some();
        match end {
            None => {}
            Some(Ok(())) => counting.state = State::Done,
            Some(Err(trouble)) => counting.state = State::Failed(trouble),
        }
        if self.counting().is_some_and(|counting| counting.number == number) {
            if is_ended {
                self.arrange_tree();
                self.map = None;
                self.ask_map();
            } else {
                // Large directories wait for the end: arranging them takes a while each time.
                self.arrange_small();
            }
        }
    }

    /// Changes how the tree of Is is arranged.
    pub(super) fn set_arrangement(&mut self, how: Arrangement) {
        self.how = how;
        self.arrange_tree();
    }

    /// A dry run of the current plan has ended: what it found is shown at once.
    pub(super) fn begin_review(&mut self) {
        if self.how.only == Only::All {
            self.how.only = Only::Moving;
        }
        self.tree.open_sources();
        // The sources may have changed since they were counted.
        self.forget_tree();
        self.refresh();
    }

    /// Back from a review to all there is.
    pub(super) fn end_review(&mut self) {
        if self.how.only == Only::Moving {
            self.how.only = Only::All;
        }
        self.arrange_tree();
    }

    /// Arranges the tree by what is known by now; a snapshot's tree stands as it comes.
    pub(super) fn arrange_tree(&mut self) {
        let large = self.arrange_small();
        let number = self.next_job();
        let (how, ticket) = (self.tree.arrangement(), self.ticket);
        for (path, rows, census) in large {
            self.ask(Request::Arrange { number, ticket, path, rows, how, census });
        }
    }

    /// As [`arrange_tree`](Self::arrange_tree), but for large directories, which are returned.
    fn arrange_small(&mut self) -> Vec<(Vec<u8>, Rows, Arc<Census>)> {
        let how = if self.cursor == Cursor::Is { self.how } else { Arrangement::default() };
        let census = self.counting().map(|counting| Arc::clone(&counting.census));
        let census = census.unwrap_or_default();
        let large = self.tree.arrange(how, &census).into_iter();
        large.map(|(path, rows)| (path, rows, Arc::clone(&census))).collect()
    }

    /// Takes a census as if it had been counted.
    #[cfg(test)]
    pub fn give_census(&mut self, census: Census) {
        if let Some(label) = self.current_lane().map(Lane::label)
            && let Some(counting) = self.counts.get_mut(&label)
        {
            (counting.census, counting.state) = (Arc::new(census), State::Done);
        }
        self.arrange_tree();
    }

    /// The directory the map shows: the selected one, or the one the selected path lies in.
    fn mapped(&self) -> Option<Vec<u8>> {
        let row = self.tree.selected_row()?;
        if row.facts.kind == Kind::Directory {
            return Some(row.path);
        }
        let slash = row.path.iter().rposition(|byte| *byte == b'/')?;
        (row.depth > 0).then(|| row.path[..slash].to_vec())
    }

    /// Has the selected directory's space mapped, if the map is to be seen.
    pub(super) fn ask_map(&mut self) {
        let is_seen = if self.is_wide { self.shows_map } else { self.map_alone };
        if self.cursor != Cursor::Is || !is_seen || !self.has_tree() {
            return;
        }
        let Some(path) = self.mapped() else { return };
        if self.map.as_ref().is_some_and(|map| map.path == path) {
            return;
        }
        let (Some(lane), Some(counting)) = (self.current_lane(), self.counting()) else { return };
        let (plan, census) = (lane.name.clone(), Arc::clone(&counting.census));
        let number = self.next_job();
        self.ask(Request::Map { number, plan, path: path.clone(), census });
        self.map = Some(Map { number, path, tiles: None });
    }

    pub(super) fn take_map(&mut self, number: u64, tiles: Result<Vec<Tile>, Trouble>) {
        if let Some(map) = self.map.as_mut().filter(|map| map.number == number) {
            map.tiles = Some(tiles);
        }
    }
}
