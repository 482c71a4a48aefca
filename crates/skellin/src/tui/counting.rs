//! What is counted of the sources behind Is.

use std::sync::Arc;

use skellin_engine::{Cancel, Census};
use skellin_store::RunId;

use super::worker::{Tile, Trouble};

/// How far a count is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum State {
    Going,
    Done,
    Failed(Trouble),
}

/// A census of a plan's sources.
pub(super) struct Counting {
    pub number: u64,
    /// What it was made of: the plan's text and the snapshot it is compared with.
    pub of: (String, Option<RunId>),
    pub census: Arc<Census>,
    pub cancel: Cancel,
    pub state: State,
}

/// Where the space of a directory goes.
pub(super) struct Map {
    pub number: u64,
    pub path: Vec<u8>,
    /// As far as they have come.
    pub tiles: Option<Result<Vec<Tile>, Trouble>>,
}
