//! What all who go through sources and trees share: what a name is and whether it goes along, what it
//! was in an earlier tree, and whether it was changed since.

mod beside;
mod judging;
mod sameness;
mod through;

pub(crate) use beside::Beside;
pub(crate) use judging::{Judging, Looked};
pub(crate) use sameness::{Sameness, Stamps};
pub(crate) use through::through;
