//! A file that several workers store at the same time: what each of them has to know of it.

use std::{
    collections::BTreeMap,
    os::fd::OwnedFd,
    sync::{Arc, Mutex},
};

use skellin_store::{Item, RecipeBuilder};

use crate::metadata::Facts;

/// A piece of a long file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Piece {
    Hole(u64),
    Data {
        from: u64,
        to: u64,
        /// Whether a hole, or the file, ends before it.
        begins: bool,
        /// Where the data it lies in ends.
        end: u64,
    },
}

/// What became of a piece.
pub(super) struct Done {
    pub start: u64,
    pub end: u64,
    pub items: Vec<Item>,
    /// Whether the file ended before it should.
    pub is_short: bool,
}

/// A long file in work.
pub(super) struct LongFile<T> {
    pub file: OwnedFd,
    pub facts: Facts,
    pub path: Vec<u8>,
    pub pieces: Vec<Piece>,
    pub progress: Mutex<Progress<T>>,
}

pub(super) struct Progress<T> {
    /// None once it is finished, or cannot be.
    pub task: Option<Box<T>>,
    /// The next piece to be taken.
    pub next: usize,
    /// The next piece to be joined, and where it has to begin.
    pub joined: usize,
    pub at: u64,
    pub waiting: BTreeMap<usize, Done>,
    /// Whether the piece to be joined next is to be cut again.
    pub again: bool,
    /// Workers that were sent away because too much waits.
    pub parked: usize,
    pub recipe: RecipeBuilder,
    pub size: u64,
}

/// A part that is being stored.
pub(super) struct PartTag<T> {
    pub long: Arc<LongFile<T>>,
    pub number: usize,
    pub start: u64,
    pub end: u64,
    pub is_short: bool,
}
