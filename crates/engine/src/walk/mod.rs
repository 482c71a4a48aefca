//! What all who go through sources and trees share: what a name is and whether it is included, what it
//! was in an earlier tree, whether it was changed since, and how directories are put together.

mod assembly;
mod beside;
mod filtering;
mod sameness;
mod through;

pub(crate) use assembly::{Assembled, Assembly, WINDOW};
pub(crate) use beside::Beside;
pub(crate) use filtering::{Filtering, Looked};
pub(crate) use sameness::{Sameness, Stamps};
pub(crate) use through::through;
