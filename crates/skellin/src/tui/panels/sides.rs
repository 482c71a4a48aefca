//! The two moments between which is compared, and how the other one is chosen.

use skellin_store::RunId;

use crate::{
    tui::{
        model::Model,
        worker::{CompareOrder, Opposite},
    },
    words,
};

/// The two sides of a comparison.
#[derive(Clone, Debug)]
pub(super) struct Sides {
    pub store: String,
    pub plan: String,
    /// The earlier snapshot, and its moment.
    pub before: (RunId, i64),
    pub now: Opposite,
    /// The moment of the other snapshot.
    pub now_time: Option<i64>,
}

impl Sides {
    /// The other side moved along the ribbon; none if it is at the end.
    pub fn moved(&self, app: &Model, later: bool) -> Option<Self> {
        let lane = app.current_lane()?;
        let of_itself = lane.marks.iter().position(|mark| mark.id == self.before.0)?;
        let at = match self.now {
            Opposite::Now => lane.marks.len(),
            Opposite::Snapshot(id) => lane.marks.iter().position(|mark| mark.id == id)?,
        };
        let step = |at: usize| if later { Some(at + 1) } else { at.checked_sub(1) };
        let mut next = step(at)?;
        if next == of_itself {
            next = step(next)?;
        }
        let is_live = lane.plan.is_some() && lane.machine.is_none();
        match lane.marks.get(next) {
            Some(mark) => {
                let now = Opposite::Snapshot(mark.id);
                Some(Self { now, now_time: Some(mark.time), ..self.clone() })
            }
            None if next == lane.marks.len() && is_live => {
                Some(Self { now: Opposite::Now, now_time: None, ..self.clone() })
            }
            None => None,
        }
    }

    /// The two moments in words.
    pub fn words(&self) -> String {
        let now = self.now_time.map_or("now".to_owned(), words::moment);
        format!("{} → {now}", words::moment(self.before.1))
    }

    pub fn order(&self, number: u64, path: Option<Vec<u8>>) -> Box<CompareOrder> {
        Box::new(CompareOrder {
            number,
            store: self.store.clone(),
            plan: self.plan.clone(),
            before: self.before.0,
            now: self.now,
            path,
        })
    }
}
