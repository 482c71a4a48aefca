//! What can be clicked: rectangles of the last frame, and what they stand for.

use ratatui::layout::{Position, Rect};

use super::keys::Action;

/// What a click means.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Target {
    /// A plan's name.
    Lane(usize),
    /// A column of a lane: a span of time.
    Moment { lane: usize, from: i64, to: i64 },
    /// A visible row of the tree.
    Row(usize),
    /// An entry of a list.
    Entry(usize),
    /// Something that has a key.
    Do(Action),
}

/// The rectangles of a frame; later ones lie over earlier ones.
#[derive(Default)]
pub(super) struct Hits(Vec<(Rect, Target)>);

impl Hits {
    pub fn add(&mut self, area: Rect, target: Target) {
        self.0.push((area, target));
    }

    pub fn at(&self, column: u16, row: u16) -> Option<Target> {
        let position = Position { x: column, y: row };
        self.0.iter().rev().find(|(area, _)| area.contains(position)).map(|(_, target)| *target)
    }
}
