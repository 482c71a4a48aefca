//! What a frame has shown: where things stand that can be clicked, and how much of lists and trees is
//! to be seen. Drawing hands it back; what comes next goes by it.

use super::{
    hits::{Hits, Target},
    model::{List, Model},
};
use ratatui::layout::Rect;

/// What a frame has shown.
#[derive(Default)]
pub(super) struct Drawn {
    hits: Hits,
    /// The length of the list, where it begins, and how many of its rows fit.
    list: Option<(usize, usize, usize)>,
    /// Where the tree begins, and how many of its rows fit.
    tree: Option<(usize, usize)>,
    /// Whether there is room beside the tree.
    is_wide: Option<bool>,
}

impl Drawn {
    /// Something that can be clicked.
    pub fn hit(&mut self, area: Rect, target: Target) {
        self.hits.add(area, target);
    }

    /// The rows of the list to draw.
    pub fn list(&mut self, app: &Model, height: usize, length: usize) -> std::ops::Range<usize> {
        let rows = app.list.rows(height, length);
        self.list = Some((length, rows.start, height.max(1)));
        rows
    }

    /// The rows of the tree to draw.
    pub fn tree(&mut self, app: &Model, height: usize) -> std::ops::Range<usize> {
        let position = app.tree.position();
        let first = app.tree.offset.clamp((position + 1).saturating_sub(height), position);
        self.tree = Some((first, height));
        first..app.tree.length().min(first + height)
    }

    /// Whether there is room beside the tree.
    pub fn is_wide(&mut self, is_wide: bool) {
        self.is_wide = Some(is_wide);
    }
}

impl Model {
    /// Takes what a frame has shown.
    pub fn was_drawn(&mut self, drawn: Drawn) {
        self.hits = drawn.hits;
        if let Some((length, offset, height)) = drawn.list {
            let selected = self.list.selected.min(length.saturating_sub(1));
            self.list = List { selected, offset, height };
        }
        if let Some((offset, height)) = drawn.tree {
            (self.tree.offset, self.tree_height) = (offset, height);
        }
        self.is_wide = drawn.is_wide.unwrap_or(self.is_wide);
    }
}
