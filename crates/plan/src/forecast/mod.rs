//! What is to come, told from what has been: how long a run takes, how a store fills, how many nights
//! a first upload needs.

mod effort;
mod filling;
mod growth;
mod nights;

pub use effort::{Effort, Expected, expect};
pub use filling::{FillChange, Filled, filled};
pub use growth::{FullIn, Growth, Spread};
pub use nights::{Nights, nights};
