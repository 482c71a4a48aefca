//! Stand-ins for the real world: the data of the made-up station on Fennick Ridge, servers in this
//! process, and lines that are slow or break.

mod noise;
mod ridge;
pub mod s3;
pub mod sftp;
mod wire;

pub use noise::noise;
pub use ridge::{Happening, NIGHTS, Ridge};
pub use wire::{Pace, Wire};
