//! Stand-ins for the real world: the data of the made-up station on Fennick Ridge.

mod noise;
mod ridge;

pub use noise::noise;
pub use ridge::{Happening, NIGHTS, Ridge};
